package machine

import (
	"runtime"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"
)

// TellsChanges reports whether this kernel sees what changes in a folder: not where
// another machine, or a program, may change it unseen.
func TellsChanges(folder string) bool {
	list, err := mountinfo.GetMounts(mountinfo.ParentsFilter(folder))
	if err != nil {
		return true
	}
	longest, tells := -1, true
	for _, m := range list {
		if n := len(m.Mountpoint); n >= longest && (m.Mountpoint == folder || household.Within(folder, m.Mountpoint)) {
			g := permit.MountOf(m.Mountpoint, m.FSType, m.Source, m.Options, m.VFSOptions)
			longest, tells = n, !g.Server && !g.Daemon && m.FSType != "autofs"
		}
	}
	return tells
}

// Gently makes the calling goroutine give way to everybody else: for the processors and
// for the disks (ioprio_set(2): best effort, the last of it; what is idle could wait for
// ever with the store in its hands). It keeps its thread, which ends with it.
func Gently() {
	runtime.LockOSThread()
	tid := unix.Gettid()
	_ = unix.Setpriority(unix.PRIO_PROCESS, tid, 15) // as well as it can be had
	const whoProcess, lastOfBestEffort = 1, 2<<13 | 7
	_, _, _ = unix.Syscall(unix.SYS_IOPRIO_SET, whoProcess, uintptr(tid), lastOfBestEffort)
}
