package deploy

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/problem"
)

// made finds the container of a service.
func (d *Carrier) made(ctx context.Context, w blueprint.Service) (blueprint.Container, error) {
	o, err := d.Engine.Observe(ctx, d.Blueprint.Household)
	if err != nil {
		return blueprint.Container{}, err
	}
	for _, s := range o.Containers {
		if s.Key == w.Key && s.Digest == w.Digest() {
			return s, nil
		}
	}
	return blueprint.Container{}, fmt.Errorf("%w: %s", engine.ErrNotFound, w.EngineName())
}

// well asks whether a service is well: the server itself, or the engine about another.
func (d *Carrier) well(ctx context.Context, w blueprint.Service) error {
	if w.Role == blueprint.RoleServer {
		return d.Health(ctx)
	}
	s, err := d.made(ctx, w)
	switch {
	case err != nil:
		return err
	case !s.Running || s.Waiting:
		return fmt.Errorf("it does not run; it ended with code %d", s.ExitCode)
	case s.Health != "" && s.Health != "healthy" && len(w.Health.Command) > 0:
		return fmt.Errorf("the engine says that it is %s", s.Health)
	}
	return nil
}

// await waits until a service is well, or clearly will not be.
func (d *Carrier) await(ctx context.Context, w blueprint.Service) error {
	patience := d.Patience
	if patience == 0 {
		patience = time.Minute
	}
	began := time.Now()
	restarts := 0
	if s, err := d.made(ctx, w); err == nil {
		restarts = s.Restarts // those of earlier do not count
	}
	for n := 0; ; n++ {
		ask, cancel := context.WithTimeout(ctx, 2*time.Second)
		last := d.well(ask, w)
		cancel()
		if last == nil {
			return nil
		}
		var sick interface{ Hopeless() bool }
		if errors.As(last, &sick) && sick.Hopeless() {
			return last
		}
		if n%10 == 9 {
			s, err := d.made(ctx, w)
			if err != nil {
				return err
			}
			if !s.Running || s.Restarts >= restarts+2 {
				return fmt.Errorf("%s ended by itself, with code %d", naming(w), s.ExitCode)
			}
		}
		if time.Since(began) > patience {
			return fmt.Errorf("%s was not ready within %s: %w", naming(w), patience, last)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// naming names a service in a sentence.
func naming(w blueprint.Service) string {
	if w.Role == blueprint.RoleServer || w.Role == "" {
		return "the server"
	}
	return string(w.Role) + " " + w.Key
}

// putBack lets the old containers run again where they were stopped, and says what
// went wrong with the new ones.
func (d *Carrier) putBack(ctx context.Context, c blueprint.Change, cause error, stopped []blueprint.Change) error {
	ctx = context.WithoutCancel(ctx) // also when we were told to end
	p := &problem.Problem{What: "it stopped at: " + c.What, Why: Plain(cause), Err: cause,
		Fix: "mend the cause and run cozyshelf " + d.Command + " again; it continues from here"}
	var inner *problem.Problem
	if errors.As(cause, &inner) {
		p.Where, p.Why, p.Fix = inner.Where, inner.What+": "+inner.Why, inner.Fix
	}
	switch c.Action {
	case blueprint.StopOld, blueprint.TakeBackup, blueprint.PutStore, blueprint.Start, blueprint.AwaitHealthy:
	default:
		return p
	}
	p.Why += d.lastLines(ctx, c.Service)
	if !d.Turning {
		for _, w := range slices.Backward(d.Blueprint.Services) {
			if err := d.takeAway(ctx, w, c, stopped); err != nil {
				p.Why += "\nthe new container could not be taken away: " + err.Error()
			}
		}
	}
	if b := d.Blueprint.Backup; len(stopped) > 0 && b != "" &&
		(d.Blueprint.Store != "" || c.Action == blueprint.Start || c.Action == blueprint.AwaitHealthy) {
		if back, err := storeBack(ctx, d.Blueprint.State, b, d.Blueprint.Store != "", d.owner()); err != nil {
			p.Why += "\nthe store could not be put back, it is in " + b + ": " + err.Error()
		} else if back {
			p.Why += "\nthe store is again as it was"
		}
	}
	for _, s := range slices.Backward(stopped) {
		if err := d.Engine.Start(ctx, s.Target); err != nil {
			p.Why += "\nthe old container could not be started again: " + err.Error()
		} else if err := d.again(ctx, s.Service); err != nil {
			p.Why += "\nthe old container was started again, but is not healthy: " + err.Error()
		} else {
			p.Why += "\nthe old container runs again as before"
		}
	}
	return p
}

// lastLines gives the last lines of a new service's log, for the message.
func (d *Carrier) lastLines(ctx context.Context, key string) string {
	w, ok := d.Blueprint.Service(key)
	if !ok {
		return ""
	}
	s, err := d.made(ctx, w)
	if err != nil {
		return ""
	}
	var log bytes.Buffer
	if d.Engine.Logs(ctx, s.ID, engine.LogOptions{Tail: 8}, &log) != nil || log.Len() == 0 {
		return ""
	}
	return "\nlast lines of its log:\n" + strings.TrimSpace(log.String())
}

// takeAway keeps a new service that failed, or whose deployment did, from running by itself. It is
// kept, to be looked at, only where there is no other of its kind. One that ran before all
// this, and was not stopped for it, is left alone.
func (d *Carrier) takeAway(ctx context.Context, w blueprint.Service, failed blueprint.Change,
	stopped []blueprint.Change) error {
	o, err := d.Engine.Observe(ctx, d.Blueprint.Household)
	if err != nil {
		return nil // what is there is not known
	}
	s, err := d.made(ctx, w)
	if err != nil {
		return nil // it was not made yet
	}
	replaces := slices.ContainsFunc(stopped, func(c blueprint.Change) bool { return c.Service == w.Key })
	if !replaces && failed.Service != w.Key {
		return nil
	}
	if err := d.Engine.Stop(ctx, s.ID, 5*time.Second); err != nil {
		return err
	}
	if !slices.ContainsFunc(o.Containers, func(x blueprint.Container) bool { return x.Key == w.Key && x.ID != s.ID }) {
		return nil
	}
	return d.Engine.Remove(ctx, s.ID)
}

// again waits until a service that ran before is healthy once more.
func (d *Carrier) again(ctx context.Context, key string) error {
	if key != blueprint.ServerKey {
		return nil // the engine sees to it, and status tells
	}
	ctx, cancel := context.WithTimeout(ctx, againWithin)
	defer cancel()
	for {
		err := d.Health(ctx)
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// againWithin is how long that may take.
const againWithin = 20 * time.Second

// Plain gives an error's cause; what is known of is said in words.
func Plain(err error) string {
	var refused *engine.Refusal
	switch {
	case errors.As(err, &refused) && refused.Kind == engine.ErrMount:
		return "the engine could not mount the share: " + refused.Says
	case errors.As(err, &refused) && refused.Kind == engine.ErrPort:
		return "the port has been taken by another program meanwhile (" + refused.Says + ")"
	case errors.As(err, &refused):
		return "the engine says: " + refused.Says
	case errors.Is(err, os.ErrPermission):
		return "you may not do that: " + err.Error()
	case errors.Is(err, syscall.EADDRINUSE):
		return "the port has been taken by another program meanwhile (" + err.Error() + ")"
	}
	return err.Error()
}
