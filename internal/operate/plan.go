package operate

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/core/verdict"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"

	"golang.org/x/mod/semver"
)

// Plan is what a command would do. It is drawn once and does not change.
type Plan struct {
	Command  string             // for the ledger and for messages
	What     string             // it is about, for the ledger
	Changes  []blueprint.Change // in the order in which they are carried out
	Watching []usage.Play       // streams that would be interrupted
	Open     *ledger.Entry      // of one that was cut off and is continued, or ended
	Same     bool               // that one was to bring about what this one is

	house  *House
	target blueprint.Blueprint
	image  pack.Image
	action string           // for the ledger
	undo   *ledger.Undo     // what is kept to undo it, where that is kept already
	undoes int              // the entry that it takes back
	now    *deploy.Deployed // what is deployed afterwards; nil where that stays
	forget bool             // afterwards nothing is deployed
	secret string           // the passphrase of the backup whose store is put in place
	part   bool             // the blueprint says only what these changes need
}

// Contained reports whether the engine runs services in containers.
func (p Plan) Contained() bool { return p.house.Facts.Can.Isolates }

// Deploy plans to make the engine match the household file.
func (h *House) Deploy(ctx context.Context, command string) (Plan, error) {
	drawn, err := h.Draw(ctx)
	if err != nil {
		return Plan{}, err
	}
	if err := h.MayDeploy(ctx); err != nil {
		return Plan{}, err
	}
	have, err := h.Observe(ctx)
	if err != nil {
		return Plan{}, err
	}
	if now, ok := have.Current(); ok && command == "deploy" {
		if err := h.noDowngrade(now.Service); err != nil {
			return Plan{}, err
		}
	}
	p := Plan{Command: command, house: h, image: drawn.Image, action: "deploy"}
	p.target = p.follow(drawn.Blueprint, have, string(h.Text))
	if err := p.compare(ctx, have); err != nil {
		return Plan{}, err
	}
	p.What = summary(h.Name(), p.target, have)
	return p, nil
}

// follow looks at what was deployed before, and gives the blueprint with what follows from it:
// where a backup goes, and which programs are kept. text is the household file that it is
// drawn from.
func (p *Plan) follow(bp blueprint.Blueprint, have blueprint.Observed, text string) blueprint.Blueprint {
	h, server := p.house, bp.Server()
	was := deploy.ReadDeployed(h.State())
	p.now = deploy.Describe(bp)
	p.now.Household = text
	var images []string
	if was != nil {
		images = was.Images
	}
	p.now.Images = deploy.Remember(images, server.Image.Program)
	var keep []string
	if _, _, err := ledger.Read(h.State()); was != nil || !errors.Is(err, os.ErrPermission) {
		keep = p.now.Images
	}
	before := beforeName(h.State())
	e, r, ok := h.unfinished()
	if !ok {
		return bp.Following(keep, before)
	}
	if e.Outcome == ledger.Open {
		p.Open = &e // continued under its number
	}
	p.Same = r.New.Labels[blueprint.LabelDigest] == server.Digest()
	ours, old := false, false
	for _, seen := range have.Containers {
		switch {
		case !seen.Running || seen.Key != blueprint.ServerKey:
		case seen.Digest == server.Digest():
			ours = true
		default:
			old = true
		}
	}
	// The store as the former left it is in the backup that was taken then, unless
	// the former has run since.
	if p.Same && (ours || e.Outcome == ledger.Open && !old) {
		p.undo = e.Undo
		if r.Backup != "" {
			before = r.Backup
		}
	}
	return bp.Following(keep, before)
}

// compare works the changes out, and who would be interrupted by them.
func (p *Plan) compare(ctx context.Context, have blueprint.Observed) error {
	host, err := deploy.Host(p.target)
	if err != nil {
		return &problem.Problem{What: "the state folder cannot be looked at", Where: p.house.State(), Why: err.Error(),
			Fix: "run as an account that may, such as root", Err: err}
	}
	p.Changes = append([]blueprint.Change{}, blueprint.Compare(p.target, have, host)...)
	p.Watching = p.house.Watching(ctx, p.Changes)
	return nil
}

// unfinished gives the last deployment, with its record, where it was not carried
// out to its end: it was cut off, or failed.
func (h *House) unfinished() (ledger.Entry, deploy.Record, bool) {
	list, _, err := ledger.Read(h.State())
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
		if r, err := deploy.ReadRecord(h.State(), e.Undo.Kept); err == nil {
			return e, r, true
		}
	}
	return ledger.Entry{}, deploy.Record{}, false
}

// MayDeploy refuses a program that must not be deployed: another one than is pinned,
// or one that does not know the store as it is.
func (h *House) MayDeploy(ctx context.Context) error {
	if pin := h.Household.Server.Version; pin != "" && pin != h.Version {
		return &problem.Problem{What: "another program is pinned", Where: h.File,
			Why: fmt.Sprintf("[server] version is %q, and this is %s", pin, h.Version),
			Fix: "run the program " + pin + "; or cozyshelf upgrade, which changes the pin and deploys this one"}
	}
	return h.KnowsStore(ctx)
}

// KnowsStore refuses a store of a format that this program does not know.
func (h *House) KnowsStore(ctx context.Context) error {
	format := 0
	if f, err := deploy.Inspect(ctx, h.State(), h.Owner()); err == nil {
		format = f.Format
	} else if st, err := h.Client().Status(ctx); err == nil {
		format = st.Format
	}
	if format <= store.Newest() {
		return nil
	}
	return &problem.Problem{What: "this program is too old for the store", Where: h.State(),
		Why: fmt.Sprintf("the store has format %d, and %s knows %d", format, h.Version, store.Newest()),
		Fix: "use the program that made it, or a later one; cozyshelf rollback, run by that one, goes back with " +
			"the former store",
		Err: store.ErrNewer}
}

// noDowngrade refuses to put an older program in the place of a newer one in passing.
func (h *House) noDowngrade(now blueprint.Service) error {
	if !Older(h.Version, now.Version) {
		return nil
	}
	return &problem.Problem{What: "this program is older than the one that is deployed", Where: h.Name(),
		Why: fmt.Sprintf("%s is deployed, and this is %s: to deploy it would be a downgrade", now.Version, h.Version),
		Fix: fmt.Sprintf("cozyshelf rollback goes back to the program before, with its store; to continue with %s, "+
			"put it in "+
			"the place of this one; cozyshelf upgrade, run by this one, deploys it all the same", now.Version)}
}

// Older reports whether one version of the program is older than another, as semantic
// versioning has it; versions that are written otherwise are not.
func Older(one, than string) bool {
	a, b := "v"+one, "v"+than
	return semver.IsValid(a) && semver.IsValid(b) && semver.Compare(a, b) < 0
}

// OnlyBlocked gives those of the lines that would certainly make a deployment fail.
func OnlyBlocked(lines []verdict.Line) []verdict.Line {
	return slices.DeleteFunc(slices.Clone(lines), func(l verdict.Line) bool { return l.Status != verdict.Blocked })
}

// summary says in a line what a deployment is about.
func summary(name string, want blueprint.Blueprint, have blueprint.Observed) string {
	now, ok := have.Current()
	if !ok {
		return "deploy " + name
	}
	d := blueprint.Differences(now.Service, want.Server())
	if len(d) == 0 {
		return "deploy " + name + " again"
	}
	return "deploy " + name + ": " + strings.Join(d, "; ")
}

// beforeName is where the backup goes that is taken before a change.
func beforeName(state string) string {
	return filepath.Join(deploy.BackupsFolder(state),
		"before-"+time.Now().UTC().Format("20060102-150405.000")+".tar.zst")
}

// Watching gives the streams that changes would interrupt.
func (h *House) Watching(ctx context.Context, changes []blueprint.Change) []usage.Play {
	stops := func(c blueprint.Change) bool {
		return c.Action == blueprint.StopOld && (c.Service == blueprint.ServerKey || c.Service == "")
	}
	if !slices.ContainsFunc(changes, stops) {
		return []usage.Play{}
	}
	return h.Streams(ctx)
}

// Streams gives what is being watched.
func (h *House) Streams(ctx context.Context) []usage.Play {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	list, err := h.Client().History(ctx, usage.Filter{Open: true})
	if err != nil || list == nil {
		return []usage.Play{} // a server that does not answer sends nothing
	}
	return list
}

// Wait waits until nobody is watching, and tells how many still are, whenever that changes.
// It gives up with an error after a while.
func (h *House) Wait(ctx context.Context, patience time.Duration, report func(streams int)) error {
	began, last := time.Now(), 0
	for {
		list := h.Streams(ctx)
		if len(list) == 0 {
			return nil
		}
		if len(list) != last {
			last = len(list)
			report(last)
		}
		if time.Since(began) >= patience {
			return &Busy{House: h.Name(), Streams: len(list), After: patience}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(min(time.Second, patience)):
		}
	}
}

// Busy is that somebody was watching for as long as one was willing to wait.
type Busy struct {
	House   string
	Streams int
	After   time.Duration
}

// Error says so.
func (b *Busy) Error() string {
	return fmt.Sprintf("%s: %d streams after %s", b.House, b.Streams, b.After)
}
