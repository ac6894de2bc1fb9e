package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/problem"

	"golang.org/x/sys/unix"
)

// lockWait is how long a command waits for another one.
const lockWait = 10 * time.Minute

// lock lets one command at a time change the household: it locks the household
// file, which every administrator can open, whoever they are. It waits for the
// command that holds the lock and says which that is. The lock goes with the
// process, however that ends.
func (a *app) lock(ctx context.Context) error {
	if a.locked != nil && current(a.locked, a.household) {
		return nil
	}
	said := false
	for began := time.Now(); ; {
		f, err := os.Open(a.household)
		if errors.Is(err, os.ErrNotExist) {
			return nil // reading it tells
		}
		if err != nil {
			return nil
		}
		err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		if err == nil && current(f, a.household) {
			a.locked = f
			return nil
		}
		var st unix.Stat_t
		serr := unix.Fstat(int(f.Fd()), &st)
		f.Close()
		switch {
		case err == nil:
			continue // it was replaced meanwhile
		case !errors.Is(err, unix.EWOULDBLOCK) || serr != nil:
			return nil // this file system has no locks; better without than not at all
		}
		who := holder(&st)
		if !said {
			a.err.Printf("Waiting for %s\n", who)
			said = true
		}
		if time.Since(began) > lockWait {
			return &problem.Problem{What: "another command changes this household", Where: a.household, Why: who +
				" has not ended within " + show.Since(lockWait), Fix: "see what it waits for, or end it, and try again"}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// loadLocked reads the household file for a command that will change something. What the
// server told meanwhile is entered into the ledger first.
func (a *app) loadLocked(ctx context.Context) (*household.Household, error) {
	if err := a.lock(ctx); err != nil {
		return nil, err
	}
	h, err := a.load()
	if err == nil {
		err = a.takeOver(h)
	}
	return h, err
}

// takeOver removes what a command that was cut off left half made, and enters into the
// ledger what the server told.
func (a *app) takeOver(h *household.Household) error {
	deploy.SweepLeft(h.Storage.State)
	ledger.Sweep(h.Storage.State)
	endEdits(h.Storage.State)
	if path, err := filepath.EvalSymlinks(a.household); err == nil { // it was read a moment ago
		atomicfile.Sweep(filepath.Dir(path), func(name string) bool { return name == filepath.Base(path) })
	}
	sweepHeld(h)
	_, odd, err := ledger.TakeOver(h.Storage.State)
	if odd > 0 {
		a.warn(fmt.Sprintf("the server's account wrote %s for the ledger that the server does not write; they were "+
			"passed over. If that continues, somebody may have taken the server over: see SECURITY.md",
			show.Count(odd, "line", "lines")))
	}
	if errors.Is(err, os.ErrPermission) {
		return nil // whoever may not read the state folder has nothing to enter
	}
	if err != nil {
		return &problem.Problem{What: "what the server told cannot be entered into the ledger", Where: h.Storage.State,
			Why: err.Error(), Fix: "run as root, and see that the folder above the state folder belongs to root " +
				"and nobody else may write to it", Err: err}
	}
	return nil
}

// takeOverNow does the same for a command that only reads, unless another one changes the
// household just now.
func (a *app) takeOverNow(h *household.Household) error {
	f, err := os.Open(a.household)
	if err != nil {
		return nil // it was read a moment ago
	}
	defer f.Close()
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		return nil
	}
	return a.takeOver(h)
}

// current reports whether an open file is still the one of that name.
func current(f *os.File, path string) bool {
	a, err := f.Stat()
	b, berr := os.Stat(path)
	return err == nil && berr == nil && os.SameFile(a, b)
}

// holder says which process holds the lock of a file, from /proc/locks (proc(5)).
func holder(st *unix.Stat_t) string {
	b, err := os.ReadFile("/proc/locks")
	if err != nil {
		return "another command"
	}
	want := fmt.Sprintf("%02x:%02x:%d", unix.Major(uint64(st.Dev)), unix.Minor(uint64(st.Dev)), st.Ino)
	for line := range strings.Lines(string(b)) {
		f := strings.Fields(line)
		if len(f) < 6 || f[1] != "FLOCK" || f[5] != want {
			continue
		}
		cmd, err := os.ReadFile("/proc/" + f[4] + "/cmdline")
		if err != nil || len(cmd) == 0 {
			return "the process " + f[4]
		}
		words := strings.Split(strings.TrimRight(string(cmd), "\x00"), "\x00")
		words[0] = "cozyshelf"
		return fmt.Sprintf("%s (process %s)", show.Clean(strings.Join(words, " ")), f[4])
	}
	return "another command"
}
