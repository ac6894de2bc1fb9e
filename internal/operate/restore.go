package operate

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/problem"
)

// Restoring is a plan that puts the store of a backup in place.
type Restoring struct {
	Plan
	Running bool   // the server runs then
	Before  string // the backup of what is there, where an earlier restore made it already
	Damaged string // why what is there cannot be backed up; it is put aside then
	Lost    *Lost  // what came into the store since the backup; nil where that is not known
}

// Backup is a backup that was read and is sound.
type Backup struct {
	File     string // its path
	Secret   string // its passphrase
	Unpacked deploy.Unpacked
}

// Restore plans to put the store of a backup in place; on the engine only what runs is
// stopped and started. undoes is the entry that is taken back by it; 0 for none.
func (h *House) Restore(ctx context.Context, command string, b Backup, undoes int) (Restoring, error) {
	r := Restoring{Plan: Plan{Command: command, What: putting(b.File), house: h, action: "restore", undoes: undoes,
		secret: b.Secret, part: true}}
	drawn, err := h.Draw(ctx)
	if err != nil {
		return r, err
	}
	have, err := h.Observe(ctx)
	if err != nil {
		return r, err
	}
	state := h.State()
	now, running := have.Running()
	// One that was cut off is continued, unless the server has run since: then what it
	// wrote is to be backed up, too.
	e, placed, ok := h.restoring()
	if ok && !running {
		now, running = have.Current() // which it had stopped
	}
	if ok && e.Undoes == undoes && e.What == r.What && (!now.Running || placed) {
		r.Open = &e
	}
	r.Running = running
	add := func(act blueprint.Action, target, what, why string) {
		r.Changes = append(r.Changes, blueprint.Change{Action: act, Service: blueprint.ServerKey, Target: target,
			What: what, Why: why})
	}
	if _, err := os.Stat(state); errors.Is(err, os.ErrNotExist) {
		add(blueprint.MakeState, state, "make the state folder "+state, "it does not exist")
	}
	// One that has put the store in place and started the server was only to see it get well.
	ran := r.Open != nil && now.Running
	if now.Running && !ran {
		add(blueprint.StopOld, now.ID, "stop "+now.Name, "its store is replaced")
	}
	before := beforeName(state)
	if r.Open != nil && r.Open.Undo != nil {
		r.undo, before = r.Open.Undo, r.Open.Undo.Path
	}
	if _, err := os.Lstat(before); err == nil {
		r.Before = before
	} else if _, err := os.Lstat(filepath.Join(state, backup.Store)); err == nil {
		if _, err := deploy.Inspect(ctx, state, h.Owner()); err != nil {
			r.Damaged = err.Error()
		} else {
			add(blueprint.TakeBackup, before, "back up what is there to "+before, "nothing of it is to be lost")
			r.undo = &ledger.Undo{Kind: ledger.Stored, Path: before}
		}
	}
	if !ran {
		add(blueprint.PutStore, b.File, "put the store of "+b.File+" in place", "asked for")
	}
	if running && !ran {
		add(blueprint.Start, now.Name, "start "+now.Name, "it was running")
	}
	if running {
		add(blueprint.AwaitHealthy, now.Name, "wait until it is healthy", "else what was there is put back")
	}
	if r.undo != nil {
		if l, err := h.LostSince(ctx, b.Unpacked.Manifest.Made); err == nil {
			r.Lost = &l
		}
	}
	r.Watching = h.Watching(ctx, r.Changes)
	r.target = drawn.Blueprint.Putting(b.File)
	if running {
		r.target = r.target.With(now.Service)
	}
	if r.undo != nil {
		r.target = r.target.Following(nil, before)
	}
	return r, nil
}

// putting says in the ledger what a restore does.
func putting(file string) string { return "put the store of " + file + " in place" }

// restoring gives the restore that was cut off, if one was and nobody has started the server
// since, and whether its store was in place by then.
func (h *House) restoring() (open ledger.Entry, placed, ok bool) {
	list, _, err := ledger.Read(h.State())
	if err != nil {
		return open, false, false // there is no ledger yet, or the first new entry tells
	}
	for _, e := range list {
		switch {
		case e.Outcome == ledger.Open && e.Action == "restore" && e.Of == 0:
			open, placed, ok = e, false, true
		case e.Action == string(blueprint.Start) && e.Of == 0:
			ok = false
		case e.Of == open.ID && e.Of != 0 && e.Action == string(blueprint.PutStore):
			placed = e.Outcome == "done"
		}
	}
	return open, placed, ok
}

// Unbegun is the taking back of a restore that was cut off before what was there had been
// backed up, and so before anything was replaced: at most the server had been stopped.
type Unbegun struct {
	Stopped string // the server that was stopped for it; empty where it runs
	house   *House
	seen    blueprint.Container
	entry   ledger.Entry
}

// Unbegun plans that.
func (h *House) Unbegun(ctx context.Context, e ledger.Entry) (Unbegun, error) {
	u := Unbegun{house: h, entry: e}
	have, err := h.Observe(ctx)
	if err != nil {
		return u, err
	}
	if now, there := have.Current(); there && !now.Running {
		u.Stopped, u.seen = now.Name, now
	}
	return u, nil
}

// Carry starts the server again, and ends the entry.
func (u Unbegun) Carry(ctx context.Context) error {
	h := u.house
	if u.Stopped != "" {
		if err := h.Engine.Start(ctx, u.seen.ID); err != nil {
			return &problem.Problem{What: "the server could not be started", Where: u.Stopped, Why: err.Error(),
				Fix: "cozyshelf start; cozyshelf logs shows more", Err: err}
		}
		if err := h.await(ctx, "undo", u.seen); err != nil {
			return err
		}
	}
	return ledger.End(h.State(), u.entry.ID, ledger.TakenBack)
}
