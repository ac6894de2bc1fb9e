package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
	"cozyshelf/internal/whole"
)

// plan is a deployment that is to be carried out, and what is noted of it.
type plan struct {
	command string
	what    string // for the ledger
	why     string
	changes []blueprint.Change
	text    []byte        // the household file that it is made from
	undoes  int           // the entry that it takes back
	undo    *ledger.Undo  // what is kept to undo it, where that is kept already
	open    *ledger.Entry // of a deployment that was cut off and is gone on with
	same    bool          // that one was to bring about what this one is
	now     *deploy.Deployed
}

// prepare looks at what was deployed before, and adds to the blueprint what follows
// from it: where a backup goes, and which programs are no longer kept.
func (a *app) prepare(s *site, p *plan, have blueprint.Observed) error {
	c := s.blueprint.Container
	was := deploy.ReadDeployed(s.h.Storage.State)
	p.now = &deploy.Deployed{At: time.Now(), Version: c.Version, Labels: c.Labels(), Settings: string(s.blueprint.SettingsJSON()), Household: string(p.text)}
	var images []string
	if was != nil {
		images = was.Images
	}
	p.now.Images = deploy.Remember(images, c.Image)
	if _, _, err := ledger.Read(s.h.Storage.State); was != nil || !errors.Is(err, os.ErrPermission) {
		s.blueprint.KeptImages = p.now.Images
	}
	s.blueprint.Backup = beforeName(s.h.Storage.State)
	e, r, ok := s.unfinished()
	if !ok {
		return nil
	}
	if e.Outcome == ledger.Open {
		p.open = &e // gone on with under its number
	}
	same := r.New.Labels[blueprint.LabelDigest] == c.Digest()
	p.same = same
	ours, old := false, false
	for _, seen := range have.Containers {
		if seen.Running && seen.Digest == c.Digest() {
			ours = true
		} else if seen.Running {
			old = true
		}
	}
	// The store as the former left it is in the backup that was taken then, unless
	// the former has run since.
	if same && (ours || e.Outcome == ledger.Open && !old) {
		p.undo = e.Undo
		if r.Backup != "" {
			s.blueprint.Backup = r.Backup
		}
	}
	return nil
}

// unfinished gives the last deployment, with its record, where it was not carried
// out to its end: it was cut off, or failed.
func (s *site) unfinished() (ledger.Entry, deploy.Record, bool) {
	list, _, err := ledger.Read(s.h.Storage.State)
	if err != nil {
		return ledger.Entry{}, deploy.Record{}, false
	}
	for _, e := range slices.Backward(list) {
		if e.Undo == nil || e.Undo.Kind != ledger.Deployment {
			continue
		}
		if e.Outcome == "done" {
			break
		}
		if r, err := deploy.ReadRecord(s.h.Storage.State, e.Undo.Kept); err == nil {
			return e, r, true
		}
	}
	return ledger.Entry{}, deploy.Record{}, false
}

// keep writes down what is needed to undo the plan, once there is something to go
// back to.
func (a *app) keep(s *site, p *plan) error {
	state := s.h.Storage.State
	if p.open != nil && p.undo == nil {
		p.open = nil // something else is deployed now
	}
	was := deploy.ReadDeployed(state)
	if was == nil || p.undo != nil {
		return nil
	}
	r := deploy.Record{Former: was, New: p.now}
	for _, c := range p.changes {
		if c.Action == blueprint.TakeBackup {
			r.Backup = c.Target
		}
	}
	name, err := r.Keep(state)
	if err != nil {
		return &problem.Problem{What: "what is needed to undo it cannot be kept, so nothing was done", Where: state, Why: err.Error(), Fix: "run as root or as the run-as account, and see that the disk has room", Err: err}
	}
	p.undo = &ledger.Undo{Kind: ledger.Deployment, Kept: name}
	return nil
}

// carryPlan carries a plan out, showing how it goes.
func (a *app) carryPlan(ctx context.Context, s *site, p *plan) (*deploy.Carrier, error) {
	if err := a.keep(s, p); err != nil {
		return nil, err
	}
	d := a.carrier(s, p.command, len(p.changes))
	d.Entry = &ledger.Entry{Action: "deploy", What: p.what, Why: p.why, Undo: p.undo, Undoes: p.undoes}
	if p.open != nil {
		d.Continues = p.open.ID
	}
	d.Done = func() error {
		if p.now == nil {
			return nil
		}
		p.now.At = time.Now()
		if err := deploy.WriteDeployed(s.h.Storage.State, p.now); err != nil {
			return fmt.Errorf("noting down what is deployed: %w", err)
		}
		// For the server's own backups.
		return whole.Replace(filepath.Join(s.h.Storage.State, backup.Household), p.text, 0o600, s.owner())
	}
	if err := d.Carry(ctx, p.changes); err != nil {
		a.err.Printf("failed\n")
		return d, err
	}
	return d, nil
}

// carrier carries changes out, showing how they go.
func (a *app) carrier(s *site, command string, total int) *deploy.Carrier {
	n := 0
	return &deploy.Carrier{
		Engine: s.engine, Blueprint: s.blueprint, Image: s.image, Health: s.client().Health, Command: command, Who: who(),
		Prove: func(ctx context.Context) error { return a.proveSample(ctx, s) },
		Backup: func(ctx context.Context, path string) error {
			_, err := s.takeBackup(ctx, path)
			return err
		},
		Told: func(c blueprint.Change, done bool, took time.Duration) {
			if !done {
				n++
				a.err.Printf("  %d/%d %s … ", n, total, steps[c.Action])
				return
			}
			a.err.Printf("done %s\n", show.Faint("("+show.Took(took)+")"))
		},
	}
}

// texts are the household file and the settings as they were deployed.
func (s *site) texts() deploy.Texts {
	was := deploy.ReadDeployed(s.h.Storage.State)
	if was == nil {
		return deploy.Texts{}
	}
	return deploy.Texts{Household: was.Household, Settings: was.Settings}
}

// manifest is what a backup of the household says of itself.
func (s *site) manifest() backup.Manifest {
	m := backup.Manifest{Made: time.Now(), ID: s.id, Name: s.h.Household.Name}
	if was := deploy.ReadDeployed(s.h.Storage.State); was != nil {
		m.Version = was.Version
	}
	return m
}

// writeBackup writes a backup while no server is at work.
func (s *site) writeBackup(ctx context.Context, w io.Writer) (backup.Manifest, error) {
	return deploy.WriteBackup(ctx, w, s.manifest(), s.h.Storage.State, s.texts(), s.owner())
}

// takeBackup writes a backup among the administrator's, while no server is at work.
func (s *site) takeBackup(ctx context.Context, path string) (backup.Manifest, error) {
	m, err := deploy.TakeBackup(ctx, path, s.manifest(), s.h.Storage.State, s.texts(), s.owner())
	var p *problem.Problem
	if err != nil && !errors.As(err, &p) {
		err = &problem.Problem{What: "the backup could not be made", Where: path, Why: err.Error(), Fix: "run as root or as the run-as account; see that the disk has room", Err: err}
	}
	return m, err
}

// owner is who files in the state folder belong to; nil where that is who runs this.
func (s *site) owner() *whole.Owner {
	if os.Getuid() != 0 {
		return nil
	}
	if s.account.Known {
		host := s.facts.Identity(s.account)
		return &whole.Owner{UID: int(host.UID), GID: int(host.Groups[0])}
	}
	return whole.OwnerOf(s.h.Storage.State)
}

// unit adds the unit of systemd to the blueprint, where the household file wants the
// server to start with the machine and the engine does not see to it.
func (s *site) unit() {
	dir := machine.Units()
	b, can := s.engine.(interface {
		Boot(c blueprint.Container) (blueprint.Boot, bool)
	})
	if !can || dir == "" || s.blueprint.Container.Start != household.StartBoot {
		return
	}
	if boot, ok := b.Boot(s.blueprint.Container); ok {
		s.blueprint.Unit = blueprint.DrawUnit(s.blueprint.Container, boot, dir, os.Getuid() != 0)
	}
}

// mayDeploy refuses a program that must not be deployed: another one than is pinned,
// or one that does not know the store as it is.
func (a *app) mayDeploy(ctx context.Context, s *site) error {
	if pin := s.h.Server.Version; pin != "" && pin != a.version {
		return &problem.Problem{What: "another program is pinned", Where: a.household, Why: fmt.Sprintf("[server] version is %q, and this is %s", pin, a.version), Fix: "run the program " + pin + "; or cozyshelf upgrade, which changes the pin and deploys this one"}
	}
	format := 0
	if f, err := deploy.Inspect(ctx, s.h.Storage.State, s.owner()); err == nil {
		format = f.Format
	} else if st, err := s.client().Status(ctx); err == nil {
		format = st.Format
	}
	if format > store.Newest() {
		return &problem.Problem{What: "this program is too old for the store", Where: s.h.Storage.State, Why: fmt.Sprintf("the store has format %d, and %s knows %d", format, a.version, store.Newest()), Fix: "use the program that made it, or a later one; cozyshelf rollback, run by that one, goes back with the former store", Err: store.ErrNewer}
	}
	return nil
}

// beforeName is where the backup goes that is taken before a change.
func beforeName(state string) string {
	return filepath.Join(deploy.BackupsFolder(state), "before-"+time.Now().UTC().Format("20060102-150405.000")+".tar.zst")
}
