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
	"slices"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/seam"
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
	// Entry, unless nil, is the ledger's entry of all changes together: what, why,
	// and how they are undone. Continues is the number of one that is open already.
	Entry     *ledger.Entry
	Continues int
	// Backup writes a backup of the state folder to a path.
	Backup func(ctx context.Context, path string) error
	// Done, unless nil, notes down that all was carried out, before the ledger says so.
	Done         func() error
	Secret       string // the passphrase of the backup whose store is put in place
	KeepSettings bool   // settings files are left alone
	// Gap is how long the server was away, from the moment it was told to end until
	// its successor was healthy; zero where it was not stopped.
	Gap time.Duration
	gap time.Time

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
	if bp.Backups != "" {
		if h.BackupsExist, err = there(bp.Backups); err != nil {
			return h, err
		}
	}
	h.StoreExists, _ = there(filepath.Join(bp.State, backup.Store)) // where it cannot be seen, the backup tells
	if bp.Backup != "" {
		h.BackupExists, _ = there(bp.Backup)
	}
	h.Unit, h.UnitEnabled = Unit(bp.Container.Household, bp.Unit)
	h.SettingsExists, err = there(filepath.Join(bp.State, bp.SettingsFile()))
	if errors.Is(err, os.ErrPermission) {
		// The state folder is closed to us. If a container made from these
		// settings is there, so are they; the comparison shows the rest.
		h.SettingsExists, err = true, nil
	}
	return h, err
}

// Unit looks at a household's unit of systemd: its text, empty where there is none,
// and whether what is wanted is started with the machine.
func Unit(household string, want *blueprint.Unit) (text string, enabled bool) {
	dir := machine.Units()
	if dir == "" {
		return "", false
	}
	b, err := os.ReadFile(filepath.Join(dir, blueprint.UnitName(household)))
	if err != nil {
		return "", false
	}
	return string(b), want != nil && machine.UnitEnabled(dir, want.Name, want.Target)
}

// Carry carries the changes out in order. On failure what can be put back is
// put back. Every change is an entry of the ledger, written before it is made and
// ended after it; all of them together are one more, which can be undone.
func (d *Carrier) Carry(ctx context.Context, changes []blueprint.Change) error {
	var stopped []string
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
		if d.Told != nil {
			d.Told(c, false, 0)
		}
		var err error
		if d.Before != nil {
			err = d.Before(i, c)
		}
		if err == nil {
			err = d.noted(ctx, c, whole)
		}
		if c.Action == blueprint.StopOld {
			stopped = append(stopped, c.Target)
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
		if d.Told != nil {
			d.Told(c, true, time.Since(began))
		}
	}
	if d.Blueprint.Settings.Format != 0 && len(changes) > 0 && !d.KeepSettings {
		SweepSettings(d.Blueprint)
	}
	if d.Done != nil && len(changes) > 0 {
		if err := d.Done(); err != nil {
			return err
		}
	}
	if whole > 0 && d.hasState() {
		if err := ledger.End(d.Blueprint.State, whole, "done"); err != nil {
			return &problem.Problem{What: "all was done, but the ledger could not be written", Where: d.Blueprint.State, Why: err.Error(), Fix: "free some space, and run cozyshelf " + d.Command + " again", Err: err}
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
// what they were about is gone on with now, or was done. One that is being taken back stays
// open until it is, so that it can be taken back again where that is cut off, too.
func CloseLeft(state, command string, except ...int) {
	list, _, err := ledger.Read(state)
	if err != nil {
		return // there is no ledger yet, or its first new entry will tell
	}
	for _, e := range list {
		if e.Outcome != ledger.Open || slices.Contains(except, e.ID) || e.Undo != nil && e.Undo.Kind != ledger.Deployment &&
			e.Undo.Kind != ledger.Stored {
			continue
		}
		// If it fails the entry stays open, and the next command tries again.
		_ = ledger.End(state, e.ID, "cut off; gone on with by "+command)
	}
}

// noted carries a change out and keeps the ledger of it.
func (d *Carrier) noted(ctx context.Context, c blueprint.Change, whole int) error {
	step := func() error { return seam.Step(func() error { return d.one(ctx, c) }) }
	silent := c.Action == blueprint.AwaitHealthy || c.Action == blueprint.Prove || c.Action == blueprint.EraseState
	if silent || !d.hasState() {
		err := step()
		e := ledger.Entry{At: time.Now(), Who: d.Who, Command: d.Command, Action: string(c.Action), What: c.What, Why: c.Why, Outcome: "done", Of: whole}
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

func (d *Carrier) one(ctx context.Context, c blueprint.Change) error {
	w := d.Blueprint.Container
	switch c.Action {
	case blueprint.MakeState, blueprint.MakeScratch, blueprint.MakeBackups:
		return d.folder(c.Target)
	case blueprint.LoadImage:
		img := d.Image
		if img.Digest != c.Target {
			img = pack.Image{Digest: c.Target} // a former program, which is there
		}
		return d.Engine.LoadImage(ctx, img, w.Household)
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
	case blueprint.TakeBackup:
		return d.Backup(ctx, c.Target)
	case blueprint.PutStore:
		_, err := PutStore(ctx, d.Blueprint.State, c.Target, d.Secret, d.owner())
		return err
	case blueprint.WriteUnit:
		return d.unit()
	case blueprint.RemoveUnit:
		return RemoveUnit(c.Target)
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
		return ignore(d.Engine.RemoveImage(ctx, c.Target, w.Household), engine.ErrInUse)
	case blueprint.EraseScratch:
		// What others put there stays, and the folder with it.
		return ignore(ignore(removeFolder(c.Target), os.ErrNotExist), syscall.ENOTEMPTY)
	case blueprint.EraseState:
		return EraseState(ctx, c.Target)
	}
	return fmt.Errorf("there is no way to carry out %q", c.Action)
}

// removeFolder removes an empty folder.
func removeFolder(path string) error {
	above, err := boundary.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer above.Close()
	return above.RemoveDir(filepath.Base(path))
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
	return MakeFolder(path, d.owner())
}

// MakeFolder makes a folder for an account, mode 0700, and those above it that are missing;
// nil is for the caller. One that is
// there already stays the account's, or is given to it where it is empty and the caller's:
// that is how a command that was cut off leaves it.
func MakeFolder(path string, owner *whole.Owner) error {
	above, err := boundary.MakeAll(filepath.Dir(path), 0o755)
	if err != nil {
		return err
	}
	defer above.Close()
	made, err := above.Mkdir(filepath.Base(path), 0o700, owner)
	if err == nil {
		return errors.Join(made.Close(), above.Sync())
	}
	if !errors.Is(err, os.ErrExist) || owner == nil {
		return ignore(err, os.ErrExist)
	}
	there, err := above.Sub(filepath.Base(path))
	if err != nil {
		return err
	}
	defer there.Close()
	now, err := there.Owner()
	if err != nil || now == *owner {
		return err
	}
	names, err := there.Names()
	if err != nil {
		return err
	}
	if now.UID != os.Geteuid() || len(names) > 0 {
		return &problem.Problem{What: "the folder belongs to somebody else", Where: path, Why: fmt.Sprintf("it belongs to uid %d, not to %d, and holds %d things", now.UID, owner.UID, len(names)), Fix: fmt.Sprintf("see what it is; chown %d:%d %s gives it to the run-as account", owner.UID, owner.GID, path)}
	}
	return there.Chown(*owner)
}

// ours reports whether the run-as account is who runs this: then what we make is
// its own, and the group is as it is.
func (d *Carrier) ours() bool {
	return os.Getuid() != 0 && os.Getuid() == int(d.Blueprint.OwnerUID)
}

// settings writes the settings file.
func (d *Carrier) settings() error {
	return whole.Replace(filepath.Join(d.Blueprint.State, d.Blueprint.SettingsFile()), d.Blueprint.SettingsJSON(), 0o600, d.owner())
}

// owner is who what we make is given to: nil where it is ours already.
func (d *Carrier) owner() *whole.Owner {
	if d.ours() {
		return nil
	}
	return &whole.Owner{UID: int(d.Blueprint.OwnerUID), GID: int(d.Blueprint.OwnerGID)}
}

// unit writes the unit of systemd and has it wanted.
func (d *Carrier) unit() error {
	u := d.Blueprint.Unit
	if err := os.MkdirAll(u.Dir, 0o755); err != nil {
		return err
	}
	if err := whole.Replace(u.Path(), []byte(u.Text), 0o644, nil); err != nil {
		return err
	}
	return machine.EnableUnit(u.Dir, u.Name, u.Target, true)
}

// RemoveUnit takes a unit of ours from systemd.
func RemoveUnit(name string) error {
	dir := machine.Units()
	if dir == "" {
		return nil
	}
	for _, target := range []string{"multi-user.target", "default.target"} {
		if err := machine.EnableUnit(dir, name, target, false); err != nil {
			return err
		}
	}
	return ignore(os.Remove(filepath.Join(dir, name)), os.ErrNotExist)
}

// SweepLeft removes what a command that was cut off left half-written. Whoever calls it
// holds the lock of the household. What the server itself writes in parts is its own to
// remove.
func SweepLeft(state string) {
	boundary.Sweep(state)
	if dir := machine.Units(); dir != "" {
		unit := blueprint.UnitName(blueprint.ID(state))
		whole.Sweep(dir, func(name string) bool { return name == unit })
	}
	sweep(state, func(name string) bool {
		rest, ok := strings.CutPrefix(name, boundary.Unfinished)
		return ok && !strings.HasPrefix(rest, "backup-")
	})
}

// SweepSettings removes settings files that no longer count: all but that of what is
// deployed.
func SweepSettings(bp blueprint.Blueprint) {
	sweep(bp.State, func(name string) bool {
		ok, _ := filepath.Match(layout.Settings, name) // the pattern is sound
		return ok && name != bp.SettingsFile()
	})
}

// mostSwept is how many names of the state folder are looked at; it is the server's.
const mostSwept = 100_000

// sweep removes names from the state folder.
func sweep(state string, goes func(name string) bool) {
	dir, err := boundary.Open(state)
	if err != nil {
		return
	}
	defer dir.Close()
	names, _ := dir.Some(mostSwept)
	for _, n := range names {
		if goes(n) {
			_ = dir.RemoveAll(n) // it stays until the next time
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
		var sick interface{ Hopeless() bool }
		if errors.As(last, &sick) && sick.Hopeless() {
			return last
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
	switch c.Action {
	case blueprint.StopOld, blueprint.TakeBackup, blueprint.PutStore, blueprint.Start, blueprint.AwaitHealthy:
	default:
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
	if b := d.Blueprint.Backup; len(stopped) > 0 && b != "" && (d.Blueprint.Store != "" || c.Action == blueprint.Start || c.Action == blueprint.AwaitHealthy) {
		if back, err := storeBack(ctx, d.Blueprint.State, b, d.Blueprint.Store != "", d.owner()); err != nil {
			p.Why += "\nthe store could not be put back, it is in " + b + ": " + err.Error()
		} else if back {
			p.Why += "\nthe store is again as it was"
		}
	}
	for _, id := range stopped {
		if err := d.Engine.Start(ctx, id); err != nil {
			p.Why += "\nthe old container could not be started again: " + err.Error()
		} else if err := d.again(ctx); err != nil {
			p.Why += "\nthe old container was started again, but is not healthy: " + err.Error()
		} else {
			p.Why += "\nthe old container runs again as before"
		}
	}
	return p
}

// again waits until a container that ran before is healthy once more.
func (d *Carrier) again(ctx context.Context) error {
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
	switch {
	case strings.Contains(err.Error(), "failed to mount local volume"):
		_, why, _ := strings.Cut(err.Error(), "failed to mount local volume: ")
		if strings.HasSuffix(why, "no such device") {
			why += "; the kernel of the engine's machine has no client for it"
		}
		return "the engine could not mount the share: " + why
	case errors.Is(err, engine.ErrNotFound) && strings.Contains(err.Error(), "Error response from daemon: "):
		_, says, _ := strings.Cut(err.Error(), "Error response from daemon: ")
		return "the engine says: " + says
	case errors.Is(err, os.ErrPermission):
		return "you may not do that: " + err.Error()
	case strings.Contains(err.Error(), "port is already allocated"), strings.Contains(err.Error(), "address already in use"):
		return "the port has been taken by another program meanwhile (" + err.Error() + ")"
	}
	return err.Error()
}

// EraseState removes a state folder: what we know to be ours, and the folder
// once it is empty; and the administrator's folder beside it. Anything else in it
// stays, and is named in the error.
func EraseState(ctx context.Context, dir string) error {
	let, err := idle(ctx, dir)
	if errors.Is(err, os.ErrNotExist) {
		return eraseAdmin(dir)
	}
	if err != nil {
		return err
	}
	defer let()
	above, err := boundary.Open(filepath.Dir(dir))
	if err != nil {
		return err
	}
	defer above.Close()
	state, err := above.Sub(filepath.Base(dir))
	if errors.Is(err, boundary.ErrLink) { // to a folder elsewhere, as the administrator made it
		state, err = boundary.Open(dir)
	}
	if err != nil {
		return err
	}
	defer state.Close()
	names, err := state.Names()
	if err != nil {
		return err
	}
	var left []string
	for _, n := range names {
		if _, ours := layout.Find(layout.State, n); !ours {
			left = append(left, n)
			continue
		}
		if err := state.RemoveAll(n); err != nil {
			return err
		}
	}
	if len(left) > 0 {
		slices.Sort(left)
		return &problem.Problem{What: "the state folder holds things that are not ours", Where: filepath.Join(dir, left[0]), Why: fmt.Sprintf("%d of them are left where they are; what was ours is gone", len(left)), Fix: "look at them, and remove the folder by hand"}
	}
	if err := above.RemoveDir(filepath.Base(dir)); err != nil && !errors.Is(err, syscall.ENOTDIR) {
		return err
	}
	return eraseAdmin(dir)
}

// eraseAdmin removes the administrator's folder of a household.
func eraseAdmin(state string) error {
	path := boundary.Admin(state)
	above, err := boundary.OpenOwn(filepath.Dir(path))
	if err != nil {
		return ignore(err, os.ErrNotExist)
	}
	defer above.Close()
	return above.RemoveAll(filepath.Base(path))
}
