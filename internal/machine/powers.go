package machine

import (
	"errors"
	"runtime"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// DropPowers gives up every capability of this process, on all its threads, and
// the way to new ones. Root is then judged by the file system like any other
// number, as it is in a container that was given none.
func DropPowers() error {
	if _, _, e := syscall.AllThreadsSyscall6(unix.SYS_PRCTL, unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0, 0); e != 0 {
		return e
	}
	head := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var none [2]unix.CapUserData
	_, _, e := syscall.AllThreadsSyscall(unix.SYS_CAPSET, uintptr(unsafe.Pointer(&head)),
		uintptr(unsafe.Pointer(&none[0])), 0)
	runtime.KeepAlive(&head)
	runtime.KeepAlive(&none)
	if e != 0 && !errors.Is(e, syscall.EPERM) {
		return e
	}
	return nil
}
