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
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/whole"
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
	Told func(c blueprint.Change, done bool, took time.Duration)
	// Before, unless nil, may refuse a change: it is where tests let steps fail.
	Before func(n int, c blueprint.Change) error
}

// Host looks at what Compare needs to know of the host.
func Host(bp blueprint.Blueprint) (blueprint.Host, error) {
	var h blueprint.Host
	there := func(p string) (bool, error) {
		_, err := os.Stat(p)
		if errors.Is(err, os.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
			return false, nil
		}
		return err == nil, err
	}
	var err error
	if h.StateExists, err = there(bp.State); err != nil {
		return h, err
	}
	if bp.Scratch != "" {
		if h.ScratchExists, err = there(bp.Scratch); err != nil {
			return h, err
		}
	}
	h.SettingsExists, err = there(filepath.Join(bp.State, bp.Settings.File()))
	if errors.Is(err, os.ErrPermission) {
		// The state folder is closed to us. If a container made from these
		// settings is there, so are they; the comparison shows the rest.
		h.SettingsExists, err = true, nil
	}
	return h, err
}

// Carry carries the changes out in order. On failure what can be put back is
// put back.
func (d *Carrier) Carry(ctx context.Context, changes []blueprint.Change) error {
	var stopped []string
	for i, c := range changes {
		began := time.Now()
		if d.Told != nil {
			d.Told(c, false, 0)
		}
		var err error
		if d.Before != nil {
			err = d.Before(i, c)
		}
		if err == nil {
			err = d.one(ctx, c)
		}
		if rerr := d.record(c, err); rerr != nil && err == nil {
			err = fmt.Errorf("the ledger could not be written: %w", rerr)
		}
		if err != nil {
			return d.putBack(ctx, c, err, stopped)
		}
		if c.Action == blueprint.StopOld {
			stopped = append(stopped, c.Target)
		}
		if d.Told != nil {
			d.Told(c, true, time.Since(began))
		}
	}
	if d.Blueprint.Settings.Format != 0 && len(changes) > 0 {
		d.sweepSettings()
	}
	return nil
}

// record notes a change in the ledger, once there is a state folder.
func (d *Carrier) record(c blueprint.Change, err error) error {
	if _, serr := os.Stat(d.Blueprint.State); serr != nil || c.Action == blueprint.EraseState || (c.Action == blueprint.AwaitHealthy || c.Action == blueprint.Prove) && err == nil {
		return nil
	}
	e := ledger.Entry{At: time.Now(), Who: d.Who, Command: d.Command, Action: string(c.Action), What: c.What, Why: c.Why, Outcome: "done"}
	if err != nil {
		e.Outcome = err.Error()
	}
	_, err = ledger.Append(d.Blueprint.State, e)
	return err
}

func (d *Carrier) one(ctx context.Context, c blueprint.Change) error {
	w := d.Blueprint.Container
	switch c.Action {
	case blueprint.MakeState, blueprint.MakeScratch:
		return d.folder(c.Target)
	case blueprint.LoadImage:
		return d.Engine.LoadImage(ctx, d.Image)
	case blueprint.MakeNetwork:
		return d.Engine.MakeNetwork(ctx, c.Target, w.Household)
	case blueprint.MakeVolume:
		return d.volume(ctx, c.Target)
	case blueprint.RemoveVolume:
		return d.Engine.RemoveVolume(ctx, c.Target)
	case blueprint.WriteSettings:
		return d.settings()
	case blueprint.Prove:
		if d.Prove == nil {
			return nil
		}
		return d.Prove(ctx)
	case blueprint.Create:
		_, err := d.Engine.Create(ctx, w)
		return err
	case blueprint.PutBack:
		return d.Engine.PutBack(ctx, c.Target, w)
	case blueprint.StopOld:
		return ignore(d.Engine.Stop(ctx, c.Target, 10*time.Second), engine.ErrNotFound)
	case blueprint.Start:
		s, err := d.made(ctx)
		if err != nil {
			return err
		}
		return d.Engine.Start(ctx, s.ID)
	case blueprint.AwaitHealthy:
		return d.await(ctx)
	case blueprint.RemoveOld:
		return d.Engine.Remove(ctx, c.Target)
	case blueprint.RemoveNetwork:
		return d.Engine.RemoveNetwork(ctx, c.Target)
	case blueprint.RemoveImage:
		return ignore(d.Engine.RemoveImage(ctx, c.Target), engine.ErrInUse)
	case blueprint.EraseScratch:
		// What others put there stays, and the folder with it.
		return ignore(ignore(os.Remove(c.Target), os.ErrNotExist), syscall.ENOTEMPTY)
	case blueprint.EraseState:
		return EraseState(c.Target)
	}
	return fmt.Errorf("there is no way to carry out %q", c.Action)
}

// volume makes the volume of a share, with what its credentials file holds.
func (d *Carrier) volume(ctx context.Context, name string) error {
	for _, v := range d.Blueprint.Volumes {
		if v.Name == name {
			return MakeVolume(ctx, d.Engine, v, d.Blueprint.Container.Household)
		}
	}
	return fmt.Errorf("%w: volume %s", engine.ErrNotFound, name)
}

// MakeVolume makes the volume of a share on an engine. What the credentials file
// holds goes to the engine and nowhere else.
func MakeVolume(ctx context.Context, e engine.Engine, v blueprint.Volume, household string) error {
	var c blueprint.Credentials
	if v.Credentials != "" {
		var err error
		if c, err = machine.ReadCredentials(v.Credentials); err != nil {
			return &problem.Problem{What: "the credentials for " + v.Shown + " cannot be used", Where: v.Credentials, Why: err.Error(), Fix: "write username= and password= into it, a line each, and chmod 600 it", Err: err}
		}
	}
	return e.MakeVolume(ctx, v.Name, household, v.Options(c))
}

func ignore(err, kind error) error {
	if errors.Is(err, kind) {
		return nil
	}
	return err
}

// folder makes a folder for the run-as account.
func (d *Carrier) folder(path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	if err := os.Mkdir(path, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	return d.give(path)
}

// give makes the run-as account the owner.
func (d *Carrier) give(path string) error {
	if d.ours() {
		return nil
	}
	return os.Lchown(path, int(d.Blueprint.OwnerUID), int(d.Blueprint.OwnerGID))
}

// ours reports whether the run-as account is who runs this: then what we make is
// its own, and the group is as it is.
func (d *Carrier) ours() bool {
	return os.Getuid() != 0 && os.Getuid() == int(d.Blueprint.OwnerUID)
}

// settings writes the settings file.
func (d *Carrier) settings() error {
	owner := &whole.Owner{UID: int(d.Blueprint.OwnerUID), GID: int(d.Blueprint.OwnerGID)}
	if d.ours() {
		owner = nil
	}
	return whole.Replace(filepath.Join(d.Blueprint.State, d.Blueprint.Settings.File()), d.Blueprint.Settings.JSON(), 0o600, owner)
}

// sweepSettings removes settings files that no longer count.
func (d *Carrier) sweepSettings() {
	old, _ := filepath.Glob(filepath.Join(d.Blueprint.State, "settings-*.json"))
	for _, p := range old {
		if filepath.Base(p) != d.Blueprint.Settings.File() {
			_ = os.Remove(p) // it stays until the next time
		}
	}
}

// made finds the container of the blueprint.
func (d *Carrier) made(ctx context.Context) (blueprint.Seen, error) {
	o, err := d.Engine.Observe(ctx, d.Blueprint.Container.Household)
	if err != nil {
		return blueprint.Seen{}, err
	}
	for _, s := range o.Containers {
		if s.Digest == d.Blueprint.Container.Digest() {
			return s, nil
		}
	}
	return blueprint.Seen{}, fmt.Errorf("%w: %s", engine.ErrNotFound, d.Blueprint.Container.EngineName())
}

// await waits until the server is ready, or clearly will not be.
func (d *Carrier) await(ctx context.Context) error {
	patience := d.Patience
	if patience == 0 {
		patience = time.Minute
	}
	began := time.Now()
	var last error
	restarts := 0
	if s, err := d.made(ctx); err == nil {
		restarts = s.Restarts // those of earlier do not count
	}
	for n := 0; ; n++ {
		ask, cancel := context.WithTimeout(ctx, 2*time.Second)
		last = d.Health(ask)
		cancel()
		if last == nil {
			return nil
		}
		if n%10 == 9 {
			s, err := d.made(ctx)
			if err != nil {
				return err
			}
			if !s.Running || s.Restarts >= restarts+2 {
				return fmt.Errorf("the server ended by itself, with code %d", s.ExitCode)
			}
		}
		if time.Since(began) > patience {
			return fmt.Errorf("the server was not ready within %s: %w", patience, last)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// putBack lets the old container run again where it was stopped, and says what
// went wrong with the new one.
func (d *Carrier) putBack(ctx context.Context, c blueprint.Change, cause error, stopped []string) error {
	ctx = context.WithoutCancel(ctx) // also when we were told to end
	p := &problem.Problem{What: "it stopped at: " + c.What, Why: Plain(cause), Err: cause, Fix: "mend the cause and run cozyshelf " + d.Command + " again; it goes on from here"}
	var inner *problem.Problem
	if errors.As(cause, &inner) {
		p.Where, p.Why, p.Fix = inner.Where, inner.What+": "+inner.Why, inner.Fix
	}
	late := c.Action == blueprint.StopOld || c.Action == blueprint.Start || c.Action == blueprint.AwaitHealthy
	if !late {
		return p
	}
	// The new one does not go on failing by itself. It is kept, to be looked
	// at, only where there is no other.
	o, oerr := d.Engine.Observe(ctx, d.Blueprint.Container.Household)
	if s, err := d.made(ctx); err == nil && oerr == nil {
		var log bytes.Buffer
		if d.Engine.Logs(ctx, s.ID, engine.LogOptions{Tail: 8}, &log) == nil && log.Len() > 0 {
			p.Why += "\nlast lines of its log:\n" + strings.TrimSpace(log.String())
		}
		err = nil
		if d.Blueprint.Settings.Format != 0 { // not when it is only started again
			err = d.Engine.Stop(ctx, s.ID, 5*time.Second)
			if err == nil && len(o.Containers) > 1 {
				err = d.Engine.Remove(ctx, s.ID)
			}
		}
		if err != nil {
			p.Why += "\nthe new container could not be taken away: " + err.Error()
		}
	}
	if c.Action == blueprint.StopOld {
		stopped = append(stopped, c.Target)
	}
	for _, id := range stopped {
		if err := d.Engine.Start(ctx, id); err != nil {
			p.Why += "\nthe old container could not be started again: " + err.Error()
		} else {
			p.Why += "\nthe old container runs again as before"
		}
	}
	return p
}

// Plain gives an error's cause; what is known of is said in words.
func Plain(err error) string {
	switch {
	case strings.Contains(err.Error(), "failed to mount local volume"):
		_, why, _ := strings.Cut(err.Error(), "failed to mount local volume: ")
		if strings.HasSuffix(why, "no such device") {
			why += "; the kernel of the engine's machine has no client for it"
		}
		return "the engine could not mount the share: " + why
	case errors.Is(err, os.ErrPermission):
		return "you may not do that: " + err.Error()
	case strings.Contains(err.Error(), "port is already allocated"), strings.Contains(err.Error(), "address already in use"):
		return "the port has been taken by another program meanwhile (" + err.Error() + ")"
	}
	return err.Error()
}

// ours lists what we and the server make in a state folder.
var ours = []string{"store.db", "store.db-wal", "store.db-shm", "control.sock", ledger.File, ledger.Kept, "scratch", "settings-*.json", ".new-*"}

// EraseState removes a state folder: what we know to be ours, and the folder
// once it is empty. Anything else in it stays, and is named in the error.
func EraseState(dir string) error {
	for _, pattern := range ours {
		list, err := filepath.Glob(filepath.Join(globQuote(dir), pattern))
		if err != nil {
			return err
		}
		for _, p := range list {
			if err := os.RemoveAll(p); err != nil {
				return err
			}
		}
	}
	err := os.Remove(dir)
	if err == nil || errors.Is(err, os.ErrNotExist) {
		return nil
	}
	left, rerr := os.ReadDir(dir)
	if rerr != nil || len(left) == 0 {
		return err
	}
	return &problem.Problem{What: "the state folder holds things that are not ours", Where: filepath.Join(dir, left[0].Name()), Why: fmt.Sprintf("%d of them are left where they are; what was ours is gone", len(left)), Fix: "look at them, and remove the folder by hand"}
}

// globQuote takes the meaning from the special characters of a path.
func globQuote(s string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(s)
}
