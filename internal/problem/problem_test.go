package problem

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"
	"testing"
)

// TestAFaultOfADiskIsAnsweredAsOne looks what is advised for errors of the system, however
// deep they lie and whatever was advised by who met them.
func TestAFaultOfADiskIsAnsweredAsOne(t *testing.T) {
	at := func(n syscall.Errno) error { return &fs.PathError{Op: "write", Path: "/mill/state/x", Err: n} }
	wrong := "run it as root"
	for _, c := range []struct {
		err  error
		want string
	}{
		{at(syscall.ENOSPC), "free some space on the disk of /mill/state,"},
		{&Problem{What: "nothing was renamed", Fix: wrong, Err: at(syscall.ENOSPC)},
			"free some space on the disk of /mill/state,"},
		{fmt.Errorf("entering it: %w", &Problem{What: "x", Where: "/mill/media", Fix: wrong, Err: syscall.ENOSPC}),
			"on the disk of /mill/media"},
		{&Problem{What: "x", Fix: wrong, Err: fmt.Errorf("deep: %w", at(syscall.EDQUOT))}, "quota"},
		{&Problem{What: "x", Fix: wrong, Err: at(syscall.EROFS)}, "read only"},
		{&Problem{What: "x", Fix: wrong, Err: at(syscall.EIO)}, "kernel's log"},
		{&Problem{What: "x", Fix: wrong, Err: at(syscall.EACCES)}, wrong},
		{at(syscall.EACCES), "run it as root"},
		{at(syscall.ENOENT), "see what is there"},
	} {
		p := ForHost(c.err)
		if !strings.Contains(p.Fix, c.want) {
			t.Errorf("%v: got %q, want %q", c.err, p.Fix, c.want)
		}
		var is syscall.Errno
		if !errors.As(p, &is) {
			t.Errorf("%v: what the system said is lost", c.err)
		}
	}
	// A member's page tells of no path of the machine.
	if p := Of(&Problem{What: "x", Fix: "wait", Err: at(syscall.ENOSPC)}); p.Fix != "wait" {
		t.Errorf("for a member: %q", p.Fix)
	}
	if ForHost(nil) != nil || Of(nil) != nil {
		t.Error("no error is a problem")
	}
}
