// Package deploy carries changes out, through an engine and on the host. All
// effects go through Carrier, one change after the other; a change that was
// carried out already does no harm when it is carried out again, so a
// deployment that was cut off is finished by the next one.
//
// The old container is stopped only when the new one is made, and removed only
// when the new one is healthy; if that does not come about, the old one runs
// again.
package deploy

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/crashpoint"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/problem"
)

// Carrier carries changes out.
type Carrier struct {
	Engine    engine.Engine
	Blueprint blueprint.Blueprint
	Image     pack.Image

	// Health asks the server whether it is ready.
	Health func(ctx context.Context) error
	// Prove, unless nil, tries the shelves as the server will.
	Prove func(ctx context.Context) error
	// Patience is how long the server may take to become healthy; a minute
	// where zero.
	Patience time.Duration

	Command string // for the ledger: which command this is
	Who     string // for the ledger: who runs it

	// Told, unless nil, hears of each change before and after it.
	Progress func(c blueprint.Change, done bool, took time.Duration)
	// Entry, unless nil, is the ledger's entry of all changes together: what, why,
	// and how they are undone. Continues is the number of one that is open already.
	Entry     *ledger.Entry
	Continues int
	// Backup writes a backup of the state folder to a path.
	Backup func(ctx context.Context, path string) error
	// Done, unless nil, notes down that all was carried out, before the ledger says so.
	Done   func() error
	Secret string // the passphrase of the backup whose store is put in place
	// Partial is that the blueprint says only what these changes need, such as which server is
	// started again: settings files are left alone.
	Partial bool
	// Turning is that what is there is only stopped and started: one that does not get well is
	// left as it is, to be looked at.
	Turning bool
	// Gap is how long the server was away, from the moment it was told to end until
	// its successor was healthy; zero where it was not stopped.
	Gap time.Duration
	gap time.Time

	// Before, unless nil, may refuse a change: it is where tests let steps fail.
	Before func(n int, c blueprint.Change) error
}

// Carry carries the changes out in order. On failure what can be put back is
// put back. Every change is an entry of the ledger, written before it is made and
// ended after it; all of them together are one more, which can be undone.
func (d *Carrier) Carry(ctx context.Context, changes []blueprint.Change) error {
	var stopped []blueprint.Change
	whole := 0
	if d.Entry != nil && len(changes) > 0 {
		SweepLeft(d.Blueprint.State)
		whole = d.Continues
		CloseLeft(d.Blueprint.State, d.Command, whole, d.Entry.Undoes)
	}
	for i, c := range changes {
		began := time.Now()
		if whole == 0 && d.Entry != nil && d.hasState() {
			var err error
			if whole, err = d.begin(*d.Entry); err != nil {
				return d.putBack(ctx, c, fmt.Errorf("the ledger could not be written: %w", err), stopped)
			}
		}
		if d.Progress != nil {
			d.Progress(c, false, 0)
		}
		var err error
		if d.Before != nil {
			err = d.Before(i, c)
		}
		if err == nil {
			err = d.noted(ctx, c, whole)
		}
		if c.Action == blueprint.StopOld {
			stopped = append(stopped, c)
			d.gap = began
		}
		if err != nil {
			err = d.putBack(ctx, c, err, stopped)
			if whole > 0 && d.hasState() {
				// The error is shown; its first words are enough for the ledger.
				text, _, _ := strings.Cut(Plain(err), "\n")
				_ = ledger.End(d.Blueprint.State, whole, "failed: "+text)
			}
			return err
		}
		if c.Action == blueprint.AwaitHealthy && !d.gap.IsZero() {
			d.Gap = time.Since(d.gap)
		}
		if d.Progress != nil {
			d.Progress(c, true, time.Since(began))
		}
	}
	if len(changes) > 0 && !d.Partial && !d.Turning {
		SweepSettings(d.Blueprint)
	}
	if d.Done != nil && len(changes) > 0 {
		if err := d.Done(); err != nil {
			return err
		}
	}
	if whole > 0 && d.hasState() {
		if err := ledger.End(d.Blueprint.State, whole, "done"); err != nil {
			return &problem.Problem{What: "all was done, but the ledger could not be written",
				Where: d.Blueprint.State, Why: err.Error(), Fix: "free some space, and run cozyshelf " + d.Command +
					" again", Err: err}
		}
	}
	return nil
}

func (d *Carrier) hasState() bool {
	_, err := os.Stat(d.Blueprint.State)
	return err == nil
}

func (d *Carrier) begin(e ledger.Entry) (int, error) {
	e.At, e.Who, e.Command = time.Now(), d.Who, d.Command
	return ledger.Begin(d.Blueprint.State, e)
}

// CloseLeft ends the entries that a command left open when it was cut off, but for some:
// what they were about is continued now, or was done. One that is being taken back stays
// open until it is, so that it can be taken back again where that is cut off, too.
func CloseLeft(state, command string, except ...int) {
	list, _, err := ledger.Read(state)
	if err != nil {
		return // there is no ledger yet, or its first new entry will tell
	}
	for _, e := range list {
		if e.Outcome != ledger.Open || slices.Contains(except, e.ID) || e.Undo != nil &&
			e.Undo.Kind != ledger.Deployment &&
			e.Undo.Kind != ledger.Stored {
			continue
		}
		// If it fails the entry stays open, and the next command tries again.
		_ = ledger.End(state, e.ID, "cut off; continued by "+command)
	}
}

// noted carries a change out and keeps the ledger of it.
func (d *Carrier) noted(ctx context.Context, c blueprint.Change, whole int) error {
	step := func() error { return crashpoint.Step(func() error { return d.one(ctx, c) }) }
	silent := c.Action == blueprint.AwaitHealthy || c.Action == blueprint.Prove || c.Action == blueprint.EraseState
	if silent || !d.hasState() {
		err := step()
		e := ledger.Entry{At: time.Now(), Who: d.Who, Command: d.Command, Action: string(c.Action), What: c.What,
			Why: c.Why, Outcome: "done", Of: whole}
		switch {
		case !d.hasState() || c.Action == blueprint.EraseState:
		case err != nil:
			e.Outcome = err.Error()
			_, _ = ledger.Append(d.Blueprint.State, e) // the error is what counts
		case !silent: // the state folder was just made
			_, err = ledger.Append(d.Blueprint.State, e)
		}
		return err
	}
	id, err := d.begin(ledger.Entry{Action: string(c.Action), What: c.What, Why: c.Why, Of: whole})
	if err != nil {
		return fmt.Errorf("the ledger could not be written: %w", err)
	}
	err = step()
	outcome := "done"
	if err != nil {
		outcome = err.Error()
	}
	if lerr := ledger.End(d.Blueprint.State, id, outcome); lerr != nil && err == nil {
		err = fmt.Errorf("the ledger could not be written: %w", lerr)
	}
	return err
}
