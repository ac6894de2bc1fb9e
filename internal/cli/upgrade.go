package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"

	"github.com/spf13/cobra"
)

func (a *app) upgradeCommand() *cobra.Command {
	var f deployFlags
	c := &cobra.Command{
		Use: "upgrade", Short: "Deploy the program that this is run from, in place of the one that runs",
		Long: `Deploys this very program. Before it meets the store a backup is taken; if it does
not get healthy, the former program runs again with the former store. A version that
the household file pins is changed to this one. It refuses where the store is of a
newer format than this program knows. The program before it is kept:
cozyshelf rollback goes back to it.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := f.judge(c); err != nil {
				return err
			}
			ctx := c.Context()
			h, err := a.loadAlone(ctx)
			if err != nil {
				return err
			}
			pin := h.Server.Version
			if pin == "" || pin == a.version {
				return a.deploy(ctx, "upgrade", f)
			}
			old, err := a.householdText()
			if err != nil {
				return err
			}
			text, err := household.Set(a.household, old, "server", "version", household.Quote(a.version))
			if err != nil {
				return err
			}
			a.err.Printf("  • pin version %s in place of %s in %s\n", a.version, pin, a.household)
			if f.dry {
				return nil
			}
			// A store that this program does not know must not cost the pin.
			s, err := a.open(ctx)
			if err != nil {
				return err
			}
			s.h.Server.Version = ""
			if err := a.mayDeploy(ctx, s); err != nil {
				return err
			}
			if err := a.agree(f.yes, "Change the pin?"); err != nil {
				return err
			}
			if err := replace(a.household, text); err != nil {
				return &problem.Problem{What: "the household file could not be written", Where: a.household, Why: err.Error(), Fix: "check that you may write there; the file is as it was", Err: err}
			}
			if err := a.deploy(ctx, "upgrade", f); err != nil {
				if rerr := replace(a.household, old); rerr != nil {
					a.err.Printf("the pin could not be put back: %s\n", rerr)
				}
				return err
			}
			return nil
		},
	}
	f.add(c)
	return a.reads(c)
}

func (a *app) rollbackCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "rollback", Short: "Go back to the program before, with the store as it left it",
		Long: `Takes the last upgrade back: the program that ran before runs again, with its
settings, the household file as it was, and the store as that program left it. What
came into the store since is said first, and is kept in a backup.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			h, err := a.loadAlone(c.Context())
			if err != nil {
				return err
			}
			e, err := a.lastUpgrade(h)
			if err != nil {
				return err
			}
			a.err.Printf("entry %d, %s by %s: %s\n", e.ID, show.When(e.At), e.Who, show.Clean(e.What))
			return a.undoDeployment(c.Context(), "rollback", e, yes)
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return a.reads(c)
}

// lastUpgrade finds what brought the program that runs: the last deployment in which the
// program changed to it, be it an upgrade or the undoing of a rollback. One that was cut off
// counts, too. What can be gone back to follows from what ran, not from which entry is the
// last.
func (a *app) lastUpgrade(h *household.Household) (ledger.Entry, error) {
	state := h.Storage.State
	list, _, err := ledger.Read(state)
	if err != nil {
		return ledger.Entry{}, &problem.Problem{What: "the ledger cannot be read", Where: state, Why: err.Error(), Fix: "run as root or as the run-as account", Err: err}
	}
	var kept error
	now := deploy.ReadDeployed(state)
	for _, e := range slices.Backward(list) {
		// Going back is no way forward: what undid a deployment does not count, what undid
		// that does.
		if e.Undo == nil || e.Undo.Kind != ledger.Deployment || e.UndoneBy != 0 || backwards(h, e) || e.Outcome != "done" && e.Outcome != ledger.Open {
			continue
		}
		r, err := deploy.ReadRecord(state, e.Undo.Kept)
		if err != nil {
			kept = err
			continue
		}
		from, ferr := r.Former.Container()
		to, terr := r.New.Container()
		if ferr != nil || terr != nil || from.Image == to.Image {
			continue
		}
		if e.Outcome == ledger.Open || now == nil || sameImage(to, now) {
			return e, nil
		}
	}
	p := &problem.Problem{What: "there is no upgrade to go back from", Where: state, Why: "the ledger has none that was not taken back", Fix: "cozyshelf ledger lists what was done; cozyshelf undo takes a deployment back"}
	if kept != nil {
		p.Why, p.Fix = kept.Error(), "run as the account that upgraded"
	}
	return ledger.Entry{}, p
}

// undoDeployment deploys what a deployment replaced.
func (a *app) undoDeployment(ctx context.Context, command string, e ledger.Entry, yes bool) error {
	s, err := a.open(ctx)
	if err != nil {
		return err
	}
	s.sweep()
	s.account.Known = false
	if err := a.draw(ctx, s); err != nil {
		return err
	}
	state := s.h.Storage.State
	r, err := deploy.ReadRecord(state, e.Undo.Kept)
	if err != nil {
		return &problem.Problem{What: "what is needed to take it back cannot be read", Where: state, Why: err.Error(), Fix: "run as the account that did it", Err: err}
	}
	to, err := r.Former.Container()
	if err != nil {
		return err
	}
	have, err := s.observe(ctx)
	if err != nil {
		return err
	}
	now, deployed := have.Current()
	list, _, _ := ledger.Read(state) // read a moment ago
	_, undoing := ledger.Undoing(list, e.ID)
	was := deploy.ReadDeployed(state)
	if e.Outcome != ledger.Open && !undoing && was != nil &&
		was.Labels[blueprint.LabelDigest] != r.New.Labels[blueprint.LabelDigest] {
		// A rollback also passes over what the same program deployed since.
		if command != "rollback" || !deployed || !sameImage(now.Container, r.New) {
			return &problem.Problem{What: "something else was deployed since", Where: state, Why: "what runs now is not what entry " + fmt.Sprint(e.ID) + " deployed", Fix: "take back what came after it first; cozyshelf ledger lists it"}
		}
	}
	if !slices.Contains(have.Images, to.Image) {
		return &problem.Problem{What: "the program before is no longer there", Where: s.facts.Kind, Why: fmt.Sprintf("the engine has no image of %s (%s)", r.Former.Version, to.Image), Fix: "run the deploy of the program " + r.Former.Version + " itself"}
	}
	p := &plan{command: command, what: fmt.Sprintf("take back entry %d: %s", e.ID, e.What), why: "asked for", text: []byte(r.Former.Household), undoes: e.ID}
	// What is deployed is the former, whoever drew it.
	s.blueprint.Container, s.blueprint.SettingsText = to, []byte(r.Former.Settings)
	s.blueprint.Unit = nil
	s.unit()
	if err := a.prepare(s, p, have); err != nil {
		return err
	}
	if p.open != nil && p.open.ID == e.ID {
		p.open = nil // it is what is taken back
	}
	if r.Backup != "" {
		if _, err := os.Stat(r.Backup); err == nil {
			s.blueprint.Store = r.Backup
		} else if tookBackup(list, e) {
			return &problem.Problem{What: "the backup of the former store is not there", Where: r.Backup, Why: err.Error(), Fix: "put it back there, or restore another backup with that program", Err: err}
		}
	}
	host, err := deploy.Host(s.blueprint)
	if err != nil {
		return err
	}
	p.changes = blueprint.Compare(s.blueprint, have, host)
	edits, note, file, err := a.formerFile(r)
	if err != nil {
		return err
	}
	if file != p.now.Household {
		p.now.File = file
	}
	doc := map[string]any{"undoes": e.ID, "changes": p.changes, "former_version": r.Former.Version, "household_file": edits != nil}
	a.err.Printf("%s on %s\n", show.Bold(s.h.Household.Name), s.facts.Kind)
	tellChanges(a.err, p.changes)
	if edits != nil {
		a.err.Printf("  • put the former text of %s back\n", a.household)
	}
	if note != "" {
		a.warn(note)
	}
	if s.blueprint.Store != "" {
		lost, err := a.showLost(ctx, s, s.blueprint.Store)
		if err != nil {
			return err
		}
		doc["lost"] = lost
	}
	if len(p.changes) == 0 && edits == nil {
		a.err.Printf("nothing to do: it is as it was before\n")
		return s.tookBack(e, p)
	}
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	if edits != nil {
		if err := replace(a.household, edits); err != nil {
			return &problem.Problem{What: "the household file could not be written", Where: a.household, Why: err.Error(), Fix: "check that you may write there; nothing was done", Err: err}
		}
	}
	if err := a.alone(ctx); err != nil { // it is another file now
		return err
	}
	d, err := a.carryPlan(ctx, s, p)
	if err != nil {
		if edits != nil {
			if rerr := replace(a.household, []byte(r.New.FileText())); rerr != nil {
				a.err.Printf("the household file could not be put back: %s\n", rerr)
			}
		}
		return err
	}
	if e.Outcome == ledger.Open {
		if err := ledger.End(state, e.ID, ledger.TakenBack); err != nil {
			return err
		}
	}
	if d.Gap > 0 {
		a.err.Printf("the server was away for %s\n", show.Took(d.Gap))
	}
	a.err.Printf("%s runs again\n", r.Former.Version)
	if a.json {
		return a.document(doc)
	}
	return nil
}

// tookBack ends what is open of an entry that is taken back, where all is as it was before
// already: the entry itself was cut off before it had changed anything that lasts, or taking
// it back was, after all was done.
func (s *site) tookBack(e ledger.Entry, p *plan) error {
	state := s.h.Storage.State
	list, _, err := ledger.Read(state)
	if err != nil {
		return err
	}
	if o, ok := ledger.Undoing(list, e.ID); ok {
		err = errors.Join(deploy.WriteDeployed(state, p.now), ledger.End(state, o.ID, "done"))
	}
	if e.Outcome == ledger.Open {
		err = errors.Join(err, ledger.End(state, e.ID, ledger.TakenBack))
	}
	return err
}

// tookBackup reports whether a deployment came as far as to back the store up. Before that
// nobody has touched it.
func tookBackup(list []ledger.Entry, e ledger.Entry) bool {
	return slices.ContainsFunc(list, func(o ledger.Entry) bool {
		return o.Of == e.ID && o.Action == string(blueprint.TakeBackup) && o.Outcome == "done"
	})
}

// sameImage reports whether a container is made from the program of a deployment.
func sameImage(c blueprint.Container, d *deploy.Deployed) bool {
	made, err := d.Container()
	return err == nil && made.Image == c.Image
}

// formerFile gives the household file's former text, where it can be put back
// without losing anything, or else a word about why not; and what the file says then.
func (a *app) formerFile(r deploy.Record) (text []byte, note, file string, err error) {
	now, err := a.householdText()
	if err != nil {
		return nil, "", "", err
	}
	former := r.Former.FileText()
	stays := fmt.Sprintf("%s was changed since and stays as it is: the next deploy will make it so", a.household)
	switch string(now) {
	case former:
		if former == r.Former.Household {
			stays = ""
		}
		return nil, stays, former, nil
	case r.New.FileText():
		return []byte(former), "", former, nil
	}
	return nil, stays, string(now), nil
}

// lost is what is not in a backup and would be gone with the store of today.
type lost struct {
	At time.Time `json:"since"`
	store.Since
}

// showLost says what came into the store since a backup was taken.
func (a *app) showLost(ctx context.Context, s *site, file string) (lost, error) {
	m, err := deploy.ReadBackup(file, s.h.Storage.State)
	if err != nil {
		return lost{}, &problem.Problem{What: "the backup of the former store cannot be used", Where: file, Why: err.Error(), Fix: "cozyshelf backup verify " + file, Err: err}
	}
	l, err := s.lostSince(ctx, m.Made)
	if err != nil {
		return l, &problem.Problem{What: "the store of today cannot be read", Where: s.h.Storage.State, Why: err.Error(), Fix: "run as root or as the run-as account", Err: err}
	}
	a.warn(fmt.Sprintf("the store goes back to %s; what came since is not in it, but is kept in the backup that is taken first: %s", show.When(m.Made), l.says()))
	return l, nil
}

// warn writes a warning that may take several lines.
func (a *app) warn(text string) {
	first := show.Mark("warning")
	for _, l := range show.Lines(text, 10) {
		a.err.Printf("  %s %s\n", first, l)
		first = "       "
	}
}

func (l lost) says() string {
	out := []string{show.Count(l.Plays, "play", "plays"), show.Count(l.Positions, "position", "positions") + " moved"}
	if len(l.Members) > 0 {
		out = append(out, "members added: "+strings.Join(l.Members, ", "))
	}
	return strings.Join(out, ", ") + "; passwords and permissions are as they were then"
}
