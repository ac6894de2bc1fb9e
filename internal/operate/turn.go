package operate

import (
	"context"
	"errors"
	"os"
	"slices"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/problem"
)

// grace is how long a server may take to end.
const grace = 10 * time.Second

// Turn stops or starts what is deployed, as asked. unwritten hears of a ledger that could not
// be written, which keeps nobody from it.
func (h *House) Turn(ctx context.Context, command string, seen blueprint.Container, stop, start bool,
	unwritten func(error)) error {
	note := func(action string, err error) {
		e := ledger.Entry{At: time.Now(), Who: h.Who, Command: command, Action: action, What: action + " " + seen.Name,
			Why: "asked for", Outcome: "done"}
		if err != nil {
			e.Outcome = err.Error()
		}
		if _, lerr := ledger.Append(h.State(), e); lerr != nil {
			unwritten(lerr)
		}
	}
	if stop && seen.Running {
		err := h.Engine.Stop(ctx, seen.ID, grace)
		note("stop", err)
		if err != nil {
			return err
		}
	}
	if !start {
		return nil
	}
	// An engine that waits before it tries a crashed server again does it now; one whose
	// server runs has nothing to do, and nothing to note.
	err := h.Engine.Start(ctx, seen.ID)
	if !seen.Running || stop {
		note("start", err)
	}
	if err != nil {
		return &problem.Problem{What: h.Name() + " could not be started", Where: h.Facts.Kind, Why: err.Error(),
			Fix: "cozyshelf check shows what stands in the way", Err: err}
	}
	return h.await(ctx, command, seen)
}

// await waits until a server that was there before is well.
func (h *House) await(ctx context.Context, command string, seen blueprint.Container) error {
	c := &deploy.Carrier{Engine: h.Engine, Health: h.health, Command: command, Who: h.Who, Turning: true,
		Blueprint: blueprint.Blueprint{Household: h.ID, State: h.State(), Services: []blueprint.Service{seen.Service}}}
	return c.Carry(ctx, []blueprint.Change{{Action: blueprint.AwaitHealthy, Service: seen.Service.Key,
		Target: seen.Name,
		What:   "wait until it is healthy"}})
}

// Retire plans to remove what was made on the engine; with erase also the state folder. Media
// are never touched.
func (h *House) Retire(ctx context.Context, erase bool) (Plan, error) {
	have, err := h.Observe(ctx)
	if err != nil {
		return Plan{}, err
	}
	l := blueprint.Leaving{Household: h.ID, Images: append(slices.Clone(have.Kept), have.Unkept...)}
	for _, seen := range have.Containers {
		if i := seen.Service.Image.Program; i != "" && !slices.Contains(l.Images, i) {
			l.Images = append(l.Images, i)
		}
	}
	// A deployment that was cut off may have left the image alone.
	if own, err := h.image(ctx); err == nil && slices.Contains(have.Images, own.Digest) &&
		!slices.Contains(l.Images, own.Digest) {
		l.Images = append(l.Images, own.Digest)
	}
	for _, p := range []string{h.State(), boundary.Admin(h.State())} {
		if _, err := os.Lstat(p); erase && !errors.Is(err, os.ErrNotExist) {
			l.State = h.State()
		}
	}
	if s := h.Household.Storage.Scratch; erase && s != "memory" {
		if _, err := os.Stat(s); err == nil {
			l.Scratch = s
		}
	}
	unit, _ := deploy.Unit(h.ID, nil)
	l.Unit = unit != ""
	p := Plan{Command: "retire", What: "retire " + h.Name(), house: h, action: "retire", forget: true, part: true,
		target:  blueprint.Blueprint{Household: h.ID, State: h.State()},
		Changes: append([]blueprint.Change{}, blueprint.Retire(l, have)...)}
	p.Watching = h.Watching(ctx, p.Changes)
	return p, nil
}
