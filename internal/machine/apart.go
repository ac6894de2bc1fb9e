package machine

import (
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"cozyshelf/internal/core/permit"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"
)

// itself is the path of this program where it has the hidden command "look", and empty in
// others, such as that of a test: then folders are looked at by this process.
//
// A network file system that does not answer holds whoever asked it until it does; no signal
// ends such a process. So where there may be one in the way, a child asks first, and only the
// child is held.
var itself = sync.OnceValue(func() string {
	built, ok := debug.ReadBuildInfo()
	if !ok || built.Path != "cozyshelf/cmd/cozyshelf" {
		return ""
	}
	exe, err := os.Executable()
	if err != nil {
		return ""
	}
	return exe
})

// Remote reports whether anything is mounted here that could be held by another
// machine or program.
func Remote() bool {
	list, err := mountinfo.GetMounts(nil)
	if err != nil {
		return true
	}
	return slices.ContainsFunc(list, held)
}

// held reports whether a mount could be held by another machine or program.
func held(m *mountinfo.Info) bool {
	g := permit.MountOf(m.Mountpoint, m.FSType, m.Source, m.Options, m.VFSOptions)
	return g.Server || g.Daemon || g.Only != nil || m.FSType == "autofs"
}

// Far reports whether a folder, or what leads to it, lies on something that could be held
// by another machine or program; or may, since a symbolic link leads there. It touches
// nothing of that sort.
func Far(folder string) bool {
	list, err := mountinfo.GetMounts(nil)
	if err != nil || !filepath.IsAbs(folder) {
		return true
	}
	at := "/"
	for name := range strings.SplitSeq(strings.Trim(filepath.Clean(folder), "/"), "/") {
		at = filepath.Join(at, name)
		if m := over(list, at); m == nil || held(m) {
			return true
		}
		st, err := os.Lstat(at) // on what is this machine's own
		if err != nil {
			return !errors.Is(err, os.ErrNotExist)
		}
		if st.Mode()&os.ModeSymlink != 0 {
			return true
		}
	}
	return false
}

// Presence says why a folder is not there to be used, or nothing where it is. It
// answers within the time given, also where the folder does not: then with
// ErrSilent's text.
func Presence(folder string, within time.Duration) string {
	done := make(chan string, 1)
	if itself() != "" && Far(folder) {
		go func() { done <- apart(folder) }()
	} else {
		go func() { done <- LookHere(folder) }()
	}
	select {
	case why := <-done:
		return why
	case <-time.After(within):
		return ErrSilent.Error()
	}
}

// apart lets a child look.
func apart(folder string) string {
	c := exec.Command(itself(), "look", "--", folder)
	r, w, err := os.Pipe()
	if err != nil {
		return ""
	}
	defer r.Close()
	c.Stdout = w
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	err = c.Start()
	w.Close()
	if err != nil {
		return "" // what follows tells
	}
	go func() { _ = c.Wait() }() // one that is held is left behind
	said, err := io.ReadAll(r)
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(said))
}

// LookHere looks at a folder, by this process: it says why it is not there to be
// used, or nothing.
func LookHere(folder string) string {
	d, err := os.Open(folder)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return "it is not there"
	case errors.Is(err, os.ErrPermission):
		return "" // it is there; others say what may not be done
	case err != nil:
		return plain(err)
	}
	defer d.Close()
	if _, err := d.Readdirnames(1); err != nil && !errors.Is(err, io.EOF) {
		if errors.Is(err, unix.ENOTDIR) {
			return "it is a file, not a folder"
		}
		return plain(err)
	}
	return ""
}

// Silent reports whether a folder does not answer.
func Silent(folder string) bool { return Presence(folder, patience) == ErrSilent.Error() }
