package process

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/core/blueprint"

	"golang.org/x/sys/unix"
)

// running is a process of ours that was found by what the kernel says of it.
type running struct {
	pid   int
	start uint64 // when it began, in ticks since the machine did (proc(5))
	fd    int    // that stands for this very process (pidfd_open(2)); -1 where the kernel has none
}

// supervisors finds the supervisors of a server's folder: processes of its account, of all
// its numbers, that run this very copy of the program with the words that Start gives
// them. No file of the account's is asked, since it could name any process. The caller
// closes what it is given.
func (e *Engine) supervisors(c blueprint.Service, dir string) []running {
	return e.find(c, func(pid int, words []string) bool {
		return len(words) >= 3 && words[1] == "supervise" && words[len(words)-1] == dir
	})
}

// runs reports whether a server's folder has a supervisor.
func (e *Engine) runs(c blueprint.Service, dir string) bool {
	list := e.supervisors(c, dir)
	for _, p := range list {
		p.close()
	}
	return len(list) > 0
}

// state reports whether a server's folder has a supervisor, and whether that waits before it
// starts the server again. Between two servers there is none for a moment, so one look
// proves nothing.
func (e *Engine) state(c blueprint.Service, dir string) (runs, waits bool) {
	for range 4 {
		list := e.supervisors(c, dir)
		servers := 0
		for _, p := range list {
			for _, s := range e.children(c, p) {
				servers++
				s.close()
			}
			p.close()
		}
		if runs = len(list) > 0; !runs || servers > 0 {
			return runs, false
		}
		time.Sleep(20 * time.Millisecond)
	}
	return true, true
}

// children finds the servers that a supervisor runs.
func (e *Engine) children(c blueprint.Service, of running) []running {
	return e.find(c, func(pid int, words []string) bool {
		parent, _, err := stat(pid)
		return err == nil && parent == of.pid && len(words) >= 2 && words[1] == "serve"
	})
}

func (e *Engine) find(c blueprint.Service, wanted func(pid int, words []string) bool) []running {
	all, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	program, err := os.Stat(e.program(c.Image.Program))
	if err != nil {
		return nil
	}
	var out []running
	for _, d := range all {
		pid, err := strconv.Atoi(d.Name())
		if err != nil {
			continue
		}
		line, err := os.ReadFile(filepath.Join("/proc", d.Name(), "cmdline"))
		if err != nil || len(line) == 0 {
			continue
		}
		words := strings.Split(strings.TrimSuffix(string(line), "\x00"), "\x00")
		if !wanted(pid, words) {
			continue
		}
		if p, ok := prove(pid, c.UID, program); ok {
			out = append(out, p)
		}
	}
	return out
}

// prove looks whether a process is of an account and runs a program. What it says is of
// the very process that the descriptor stands for: that one is still there afterwards, so
// nobody else can have had its number meanwhile.
func prove(pid int, uid uint32, program os.FileInfo) (running, bool) {
	p := running{pid: pid, fd: -1}
	fd, err := unix.PidfdOpen(pid, 0)
	if err == nil {
		p.fd = fd
	} else if !errors.Is(err, unix.ENOSYS) && !errors.Is(err, unix.EPERM) {
		return p, false
	}
	_, p.start, err = stat(pid)
	exe, serr := os.Stat(fmt.Sprintf("/proc/%d/exe", pid))
	if err != nil || serr != nil || !os.SameFile(exe, program) || !isOf(pid, uid) || !p.there() {
		p.close()
		return p, false
	}
	return p, true
}

// there reports whether it is still the same process.
func (p running) there() bool {
	if p.fd >= 0 && unix.PidfdSendSignal(p.fd, 0, nil, 0) != nil {
		return false
	}
	_, start, err := stat(p.pid)
	return err == nil && start == p.start
}

// signal sends it a signal, and nobody else.
func (p running) signal(s syscall.Signal) {
	if p.fd >= 0 {
		_ = unix.PidfdSendSignal(p.fd, s, nil, 0) // it may have ended by itself
		return
	}
	if p.there() {
		_ = syscall.Kill(p.pid, s)
	}
}

func (p running) close() {
	if p.fd >= 0 {
		unix.Close(p.fd)
	}
}

// stat reads a process's parent, and when it began (proc(5), fields 4 and 22).
func stat(pid int) (parent int, start uint64, err error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, 0, err
	}
	// The name in brackets may hold anything, so what follows the last one counts.
	_, rest, _ := bytes.Cut(b, []byte("("))
	f := strings.Fields(string(rest[bytes.LastIndexByte(rest, ')')+1:]))
	if len(f) < 20 {
		return 0, 0, fmt.Errorf("/proc/%d/stat has %d fields", pid, len(f))
	}
	parent, err = strconv.Atoi(f[1])
	if err != nil {
		return 0, 0, err
	}
	start, err = strconv.ParseUint(f[19], 10, 64)
	return parent, start, err
}

// isOf reports whether all user ids of a process are of one account: real, effective,
// saved, and that for files.
func isOf(pid int, uid uint32) bool {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(b)) {
		rest, ok := strings.CutPrefix(line, "Uid:")
		if !ok {
			continue
		}
		ids := strings.Fields(rest)
		for _, id := range ids {
			if id != strconv.Itoa(int(uid)) {
				return false
			}
		}
		return len(ids) == 4
	}
	return false
}
