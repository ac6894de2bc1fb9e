package operate

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/backup"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/problem"
)

// Telling hears how a plan goes. Fields that are nil hear nothing.
type Telling struct {
	// Change hears of each change before and after it.
	Change func(c blueprint.Change, done bool, took time.Duration)
	// Doubts hears where what was tried differs from what was computed.
	Doubts func([]Proven)
}

// Done is what came of a plan.
type Done struct {
	Gap time.Duration // how long the server was away; zero where it was not stopped
}

// Carry carries the plan out.
func (p Plan) Carry(ctx context.Context, t Telling) (Done, error) {
	h := p.house
	open := p.Open
	undo := p.undo
	if p.now != nil {
		var err error
		if undo, open, err = p.keep(); err != nil {
			return Done{}, err
		}
	}
	c := p.carrier(t)
	c.Entry = &ledger.Entry{Action: p.action, What: p.What, Why: "asked for", Undo: undo, Undoes: p.undoes}
	if open != nil {
		c.Continues = open.ID
	}
	c.Done = func() error {
		switch {
		case p.forget:
			return deploy.ForgetDeployed(h.State())
		case p.now == nil:
			return nil
		}
		now := *p.now
		now.At = time.Now()
		if err := deploy.WriteDeployed(h.State(), &now); err != nil {
			return fmt.Errorf("noting down what is deployed: %w", err)
		}
		if err := h.giveSecrets(); err != nil {
			return err
		}
		// For the server's own backups.
		return atomicfile.Replace(filepath.Join(h.State(), backup.Household), []byte(now.Household), 0o600, h.Owner())
	}
	err := c.Carry(ctx, p.Changes)
	return Done{Gap: c.Gap}, err
}

// keep writes down what is needed to undo the plan, once there is something to go
// back to. It also gives the entry that the plan continues.
func (p Plan) keep() (*ledger.Undo, *ledger.Entry, error) {
	state := p.house.State()
	open := p.Open
	if open != nil && p.undo == nil {
		open = nil // something else is deployed now
	}
	was := deploy.ReadDeployed(state)
	if was == nil || p.undo != nil {
		return p.undo, open, nil
	}
	r := deploy.Record{Former: was, New: p.now}
	for _, c := range p.Changes {
		if c.Action == blueprint.TakeBackup {
			r.Backup = c.Target
		}
	}
	name, err := r.Keep(state)
	if err != nil {
		return nil, nil, &problem.Problem{What: "what is needed to undo it cannot be kept, so nothing was done",
			Where: state,
			Why:   err.Error(), Fix: "run as root or as the run-as account, and see that the disk has room", Err: err}
	}
	return &ledger.Undo{Kind: ledger.Deployment, Kept: name}, open, nil
}

// carrier is what carries the plan out.
func (p Plan) carrier(t Telling) *deploy.Carrier {
	h := p.house
	return &deploy.Carrier{
		Engine: h.Engine, Blueprint: p.target, Image: p.image, Health: h.health, Command: p.Command, Who: h.Who,
		Partial: p.part, Secret: p.secret,
		Prove: func(ctx context.Context) error { return h.proveSample(ctx, p.target, t.Doubts) },
		Backup: func(ctx context.Context, path string) error {
			_, err := h.takeBackup(ctx, path)
			return err
		},
		Progress: t.Change,
	}
}

// Settle ends a deployment that was cut off after its last change, and removes what that
// left. It is for a plan with no changes.
func (p Plan) Settle() error {
	state := p.house.State()
	deploy.SweepSettings(p.target)
	if err := p.house.giveSecrets(); err != nil {
		return err
	}
	list, _, err := ledger.Read(state)
	if err != nil || !slices.ContainsFunc(list, func(e ledger.Entry) bool { return e.Outcome == ledger.Open }) {
		return nil // nothing was cut off, as far as we may see
	}
	if err := deploy.WriteDeployed(state, p.now); err != nil {
		return err
	}
	if p.Open != nil {
		// What came of it follows from what is there: all of it, or what was there before.
		outcome := "done"
		if !p.Same {
			outcome = "cut off; what was there before is there still"
		}
		if err := ledger.End(state, p.Open.ID, outcome); err != nil {
			return err
		}
	}
	deploy.CloseLeft(state, p.Command)
	return nil
}

// texts are the household file and the settings as they were deployed.
func (h *House) texts() deploy.Texts {
	was := deploy.ReadDeployed(h.State())
	if was == nil {
		return deploy.Texts{}
	}
	return deploy.Texts{Household: was.Household, Settings: was.Settings}
}

// manifest is what a backup of the household says of itself.
func (h *House) manifest() backup.Manifest {
	m := backup.Manifest{Made: time.Now(), ID: h.ID, Name: h.Name()}
	if was := deploy.ReadDeployed(h.State()); was != nil {
		m.Version = was.Version
	}
	return m
}

// takeBackup writes a backup among the administrator's, while no server is at work.
func (h *House) takeBackup(ctx context.Context, path string) (backup.Manifest, error) {
	m, err := deploy.TakeBackup(ctx, path, h.manifest(), h.State(), h.texts(), h.Owner())
	var p *problem.Problem
	if err != nil && !errors.As(err, &p) {
		err = &problem.Problem{What: "the backup could not be made", Where: path, Why: err.Error(),
			Fix: "run as root or as the run-as account; see that the disk has room", Err: err}
	}
	return m, err
}
