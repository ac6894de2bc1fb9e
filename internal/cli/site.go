package cli

import (
	"context"
	"fmt"
	"os"
	"os/user"
	"sync/atomic"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/operate"
	"cozyshelf/internal/pack"
)

// setting is what the commands of this run are run with.
func (a *app) setting() operate.Setting {
	return operate.Setting{Version: a.version, Who: who(), File: a.household, Program: a.program,
		Files: &a.files, Bytes: new(atomic.Int64)}
}

// looking shows how many files were looked at, until the function it gives is called.
// total is of how many; 0 where that is not known.
func (a *app) looking(what string, total int) (stop func()) {
	before := a.files.Load()
	return a.err.Watch(what, show.Files, func() (int64, int64) { return a.files.Load() - before, int64(total) })
}

// gather looks at this machine, and shows how far it is.
func (a *app) gather(ctx context.Context, h *operate.House) facts.Facts {
	defer a.looking("looking at the folders", 0)()
	return h.Gather(ctx)
}

// find loads the household file and finds its engine, which may be silent.
func (a *app) find(ctx context.Context) (*operate.House, error) {
	h, text, err := a.read()
	if err != nil {
		return nil, err
	}
	return operate.Find(ctx, a.setting(), h, text)
}

// open loads the household file and finds its engine, which must answer.
func (a *app) open(ctx context.Context) (*operate.House, error) {
	h, err := a.find(ctx)
	if err != nil {
		return nil, err
	}
	return h, h.Answering()
}

// openAlone does the same for a command that will change something: it waits until it is the
// only one, and finishes what others left.
func (a *app) openAlone(ctx context.Context) (*operate.House, error) {
	if err := a.lock(ctx); err != nil {
		return nil, err
	}
	h, err := a.open(ctx)
	if err != nil {
		return nil, err
	}
	if err := a.takeOver(h.Household); err != nil {
		return nil, err
	}
	h.Sweep()
	return h, nil
}

// choose finds the engine that a household asks for.
func choose(ctx context.Context, h *household.Household) (facts.Engine, error) {
	_, f, err := operate.Choose(ctx, nil, h)
	return f, err
}

// program gives this program as an image. It is read once, unless it was replaced meanwhile.
func (a *app) program() (pack.Image, error) {
	exe, err := os.Executable()
	if err != nil {
		return pack.Image{}, err
	}
	st, err := os.Stat(exe)
	if err == nil && (a.own == nil || !os.SameFile(st, a.ownIs) || !st.ModTime().Equal(a.ownIs.ModTime())) {
		var own pack.Image
		own, err = pack.Open(exe, a.version)
		a.own, a.ownIs = &own, st
	}
	if err != nil {
		a.own = nil
		return pack.Image{}, fmt.Errorf("%s: %w", exe, err)
	}
	return *a.own, nil
}

// server opens the household and gives a client for its server.
func (a *app) server(ctx context.Context) (*control.Client, error) {
	h, err := a.open(ctx)
	if err != nil {
		return nil, err
	}
	return h.Client(), nil
}

// who names the account that runs this command, for the ledger.
func who() string {
	name := fmt.Sprint("uid ", os.Getuid())
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	if sudo := os.Getenv("SUDO_USER"); sudo != "" && sudo != name {
		name += " (for " + sudo + ")"
	}
	return name
}
