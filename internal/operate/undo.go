package operate

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

// Undoing is a plan that deploys what a deployment replaced.
type Undoing struct {
	Plan
	Entry   ledger.Entry // that is taken back
	Version string       // of the program that runs then
	// File is the household file's former text, where it is put back; nil where it stays.
	File []byte
	// Stays is that the household file was changed since, and stays as it is.
	Stays bool
	// Lost is what came into the store since the former one was backed up; nil where the store
	// stays.
	Lost *Lost

	newFile []byte // the household file's text as it is now, to be put back where this fails
}

// Lost is what is not in a backup and would be gone with the store of today.
type Lost struct {
	At time.Time `json:"since_at"`
	store.Since
}

// LastUpgrade finds what brought the program that runs: the last deployment in which the
// program changed to it, be it an upgrade or the undoing of a rollback. One that was cut off
// counts, too. What can be gone back to follows from what ran, not from which entry is the
// last.
func LastUpgrade(ctx context.Context, h *House) (ledger.Entry, error) {
	state := h.State()
	list, _, err := ledger.Read(state)
	if err != nil {
		return ledger.Entry{}, &problem.Problem{What: "the ledger cannot be read", Where: state, Why: err.Error(),
			Fix: "run as root or as the run-as account", Err: err}
	}
	have, err := h.Observe(ctx)
	if err != nil {
		return ledger.Entry{}, err
	}
	var kept error
	gone := ""
	now := deploy.ReadDeployed(state)
	for _, e := range slices.Backward(list) {
		// Going back is no way forward: what undid a deployment does not count, what undid
		// that does.
		if e.Undo == nil || e.Undo.Kind != ledger.Deployment || e.UndoneBy != 0 || Backwards(list, e) ||
			e.Outcome != "done" && e.Outcome != ledger.Open {
			continue
		}
		r, err := deploy.ReadRecord(state, e.Undo.Kept)
		if err != nil {
			kept = err
			continue
		}
		from, ferr := r.Former.Server()
		to, terr := r.New.Server()
		if ferr != nil || terr != nil || from.Image == to.Image {
			continue
		}
		if e.Outcome != ledger.Open && now != nil && !sameImage(to, now) {
			continue
		}
		if !slices.Contains(have.Images, from.Image.Key()) {
			gone = from.Version
			continue
		}
		return e, nil
	}
	p := &problem.Problem{What: "there is no upgrade to go back from", Where: state,
		Why: "the ledger has none that was not taken back",
		Fix: "cozyshelf ledger lists what was done; cozyshelf undo takes a deployment back"}
	switch {
	case kept != nil:
		p.Why, p.Fix = kept.Error(), "run as the account that upgraded"
	case gone != "":
		p.Why = fmt.Sprintf("the program before, %s, is no longer kept: the last two are", gone)
		p.Fix = fmt.Sprintf("run cozyshelf upgrade with the program %s itself", gone)
	}
	return ledger.Entry{}, p
}

// Backwards tells which way round an entry carried its plan out: one that undoes
// another goes the other way.
func Backwards(list []ledger.Entry, e ledger.Entry) bool {
	back := false
	for at := e; at.Undoes != 0; {
		back = !back
		next := at
		for _, o := range list {
			if o.ID == at.Undoes {
				next = o
			}
		}
		if next.ID == at.ID {
			break
		}
		at = next
	}
	return back
}

// Undo plans to deploy what a deployment replaced.
func (h *House) Undo(ctx context.Context, command string, e ledger.Entry) (Undoing, error) {
	u := Undoing{Entry: e, newFile: h.Text}
	drawn, err := h.Draw(ctx)
	if err != nil {
		return u, err
	}
	state := h.State()
	r, err := deploy.ReadRecord(state, e.Undo.Kept)
	if err != nil {
		return u, &problem.Problem{What: "what is needed to take it back cannot be read", Where: state,
			Why: err.Error(),
			Fix: "run as the account that did it", Err: err}
	}
	to, err := r.Former.Services()
	if err != nil {
		return u, err
	}
	have, err := h.Observe(ctx)
	if err != nil {
		return u, err
	}
	list, _, _ := ledger.Read(state) // read a moment ago
	if err := h.stillLast(command, e, r, have, list); err != nil {
		return u, err
	}
	if server := to[0]; !slices.Contains(have.Images, server.Image.Key()) {
		return u, &problem.Problem{What: "the program before is no longer there", Where: h.Facts.Kind,
			Why: fmt.Sprintf("the engine has no image of %s (%s)", r.Former.Version, server.Image),
			Fix: "run the deploy of the program " + r.Former.Version + " itself"}
	}
	u.Version = r.Former.Version
	u.Plan = Plan{Command: command, What: fmt.Sprintf("take back entry %d: %s", e.ID, e.What), house: h,
		image:  drawn.Image,
		action: "deploy", undoes: e.ID}
	// What is deployed is the former, whoever drew it.
	bp := drawn.Blueprint.Again(drawn.site, to, []byte(r.Former.Settings))
	u.target = u.follow(bp, have, r.Former.Household)
	if u.Open != nil && u.Open.ID == e.ID {
		u.Open = nil // it is what is taken back
	}
	if r.Backup != "" {
		if _, err := os.Stat(r.Backup); err == nil {
			u.target = u.target.Putting(r.Backup)
		} else if tookBackup(list, e) {
			return u, &problem.Problem{What: "the backup of the former store is not there", Where: r.Backup,
				Why: err.Error(), Fix: "put it back there, or restore another backup with that program", Err: err}
		}
	}
	if err := u.compare(ctx, have); err != nil {
		return u, err
	}
	u.file(r)
	if u.target.Store != "" {
		lost, err := h.lost(ctx, u.target.Store)
		if err != nil {
			return u, err
		}
		u.Lost = &lost
	}
	return u, nil
}

// stillLast refuses to take back what something else was deployed after.
func (h *House) stillLast(command string, e ledger.Entry, r deploy.Record, have blueprint.Observed,
	list []ledger.Entry) error {
	now, deployed := have.Current()
	_, undoing := ledger.Undoing(list, e.ID)
	was := deploy.ReadDeployed(h.State())
	if e.Outcome == ledger.Open || undoing || was == nil ||
		was.Labels[blueprint.LabelDigest] == r.New.Labels[blueprint.LabelDigest] {
		return nil
	}
	// A rollback also passes over what the same program deployed since.
	if command == "rollback" && deployed && sameImage(now.Service, r.New) {
		return nil
	}
	return &problem.Problem{What: "something else was deployed since", Where: h.State(),
		Why: "what runs now is not what entry " + fmt.Sprint(e.ID) + " deployed",
		Fix: "take back what came after it first; cozyshelf ledger lists it"}
}

// file looks whether the household file's former text can be put back without losing
// anything.
func (u *Undoing) file(r deploy.Record) {
	now, former := string(u.newFile), r.Former.FileText()
	file := now
	switch now {
	case former:
		u.Stays = former != r.Former.Household
	case r.New.FileText():
		u.File, file = []byte(former), former
	default:
		u.Stays = true
	}
	if file != u.now.Household {
		u.now.File = file
	}
}

// lost says what came into the store since a backup was taken.
func (h *House) lost(ctx context.Context, file string) (Lost, error) {
	m, err := deploy.ReadBackup(file, h.State())
	if err != nil {
		return Lost{}, &problem.Problem{What: "the backup of the former store cannot be used", Where: file,
			Why: err.Error(), Fix: "cozyshelf backup verify " + file, Err: err}
	}
	l, err := h.LostSince(ctx, m.Made)
	if err != nil {
		return l, &problem.Problem{What: "the store of today cannot be read", Where: h.State(), Why: err.Error(),
			Fix: "run as root or as the run-as account", Err: err}
	}
	return l, nil
}

// LostSince says what came into the store after a time.
func (h *House) LostSince(ctx context.Context, t time.Time) (Lost, error) {
	got, err := deploy.LookSince(ctx, h.State(), h.Owner(), t)
	return Lost{At: t, Since: got}, err
}

// Carry carries the undoing out. The household file was put back by then, where it is. replace
// writes it, and is asked again where this fails.
func (u Undoing) Carry(ctx context.Context, t Telling, replace func(text []byte) error) (Done, error) {
	d, err := u.Plan.Carry(ctx, t)
	if err != nil {
		if u.File != nil {
			if rerr := replace(u.newFile); rerr != nil {
				err = errors.Join(err, fmt.Errorf("the household file could not be put back: %w", rerr))
			}
		}
		return d, err
	}
	if u.Entry.Outcome == ledger.Open {
		return d, ledger.End(u.house.State(), u.Entry.ID, ledger.TakenBack)
	}
	return d, nil
}

// Nothing reports whether all is as it was before already.
func (u Undoing) Nothing() bool { return len(u.Changes) == 0 && u.File == nil }

// Close ends what is open of an entry that is taken back, where all is as it was before
// already: the entry itself was cut off before it had changed anything that lasts, or taking
// it back was, after all was done.
func (u Undoing) Close() error {
	state, e := u.house.State(), u.Entry
	list, _, err := ledger.Read(state)
	if err != nil {
		return err
	}
	if o, ok := ledger.Undoing(list, e.ID); ok {
		err = errors.Join(deploy.WriteDeployed(state, u.now), ledger.End(state, o.ID, "done"))
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

// sameImage reports whether a service is made from the program of a deployment.
func sameImage(s blueprint.Service, d *deploy.Deployed) bool {
	made, err := d.Server()
	return err == nil && made.Image == s.Image
}
