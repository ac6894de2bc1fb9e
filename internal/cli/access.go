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
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/operate"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

// The document of cozyshelf access.
type (
	accessReport struct {
		Identity accessIdentity `json:"identity"`
		Folders  []accessFolder `json:"folders"`
	}
	accessIdentity struct {
		Account string   `json:"account"`
		UID     uint32   `json:"uid"`
		GID     uint32   `json:"gid"`
		Groups  []uint32 `json:"groups"`
	}
	accessFolder struct {
		Shelf           string            `json:"shelf"`
		Host            string            `json:"host"`
		Inside          string            `json:"inside"`
		Need            household.Access  `json:"need"`
		Files           int               `json:"files"`
		Folders         int               `json:"folders"`
		ReadableFiles   int               `json:"readable_files"`
		ListableFolders int               `json:"listable_folders"`
		WritableFolders int               `json:"writable_folders"`
		Problems        []permit.Obstacle `json:"problems"`
		Remedies        []permit.Remedy   `json:"remedies"`
		Exposures       []permit.Exposure `json:"exposures"`
		Later           permit.Later      `json:"later"`
		Proof           *permit.Proof     `json:"proof,omitempty"`

		report permit.Report
		apart  bool // not of this machine, so not computed
	}
)

func (a *app) accessCommand() *cobra.Command {
	r := &accessing{app: a}
	c := &cobra.Command{
		Use:   "access [SHELF...] [--mend [REMEDY...]]",
		Short: "Who can read what on the shelves, why not, and what mends it",
		Long: `Walks every folder of the shelves and says what the run-as account, as it will be
inside the container, can list, read and, where the shelf is to be changed, write:
as the kernel decides it, from mode bits and ACLs. One line covers all paths with
the same cause. Exit code 3 when something cannot be used.

With --mend the smallest remedies that help are shown, agreed to and carried out; or
those that are named. Every former owner, mode and ACL is kept in the ledger, and
cozyshelf undo puts them back. The server looks at what was mended at once.

With --prove a throw-away container with the server's account, mounts and limits
(without an engine: a child with those numbers) lists every folder, reads the first
byte of every file and, where a shelf is to be changed, makes and removes a file in
every folder; where that differs from what was computed, it is told.`,
		Args: cobra.ArbitraryArgs,
		RunE: r.run,
	}
	c.Flags().StringVar(&r.as, "for", "", "ask for another account, or for uid:gid")
	c.Flags().BoolVar(&r.each, "each", false, "list every path that cannot be used, instead of groups")
	c.Flags().BoolVar(&r.mending, "mend", false, "carry remedies out: the smallest that help, or those named")
	c.Flags().BoolVar(&r.prove, "prove", false, "really list, open and read everything, from inside the container")
	c.Flags().IntVar(&r.sample, "sample", 0, "with --prove: only so many files of every folder, chosen by chance")
	c.Flags().BoolVar(&r.yes, "yes", false, "do not ask")
	return a.withJSON(c)
}

// accessing is one run of cozyshelf access.
type accessing struct {
	*app
	as                        string
	each, mending, prove, yes bool
	sample                    int

	house    *operate.House
	account  facts.Account
	shelves  []string // that are asked about; none for all
	remedies []string // that are named
	report   accessReport
	needs    []permit.Need // of the folders of the report
	bad      bool          // something cannot be used
}

func (r *accessing) run(c *cobra.Command, args []string) error {
	switch {
	case r.mending && r.as != "", r.prove && r.as != "":
		return wrongUse(c, "--mend and --prove are for the run-as account; with --for it can only be asked")
	case r.sample < 0 || r.sample > 0 && !r.prove:
		return wrongUse(c, "--sample is a number of files, and goes with --prove")
	case r.mending && r.prove:
		return wrongUse(c, "mend first, then prove")
	}
	if err := r.begin(c.Context(), args); err != nil {
		return err
	}
	if err := r.look(); err != nil {
		return err
	}
	var trials []operate.Proven
	if r.prove {
		var err error
		if trials, err = r.tried(c.Context()); err != nil {
			return err
		}
	}
	var err error
	switch {
	case r.mending:
		err = r.mendThem(c.Context())
	case r.json:
		err = r.document(r.report)
	default:
		r.showAccess(r.report, r.prove)
		if r.prove {
			r.showProven(trials, r.house.Facts)
		}
	}
	if err == nil && r.bad {
		return &exit{problem.ExitFound}
	}
	return err
}

// begin reads the household and tells shelves from remedies.
func (r *accessing) begin(ctx context.Context, args []string) error {
	if r.mending {
		if err := r.lock(ctx); err != nil {
			return err
		}
	}
	var err error
	if r.house, err = r.find(ctx); err != nil {
		return err
	}
	h := r.house.Household
	if r.mending {
		if err := r.takeOver(h); err != nil {
			return err
		}
	}
	if r.account, err = accountFor(h, r.as); err != nil {
		return err
	}
	var known []string
	for _, s := range h.Shelves {
		known = append(known, s.Name)
	}
	for _, name := range args {
		switch {
		case slices.Contains(known, name):
			r.shelves = append(r.shelves, name)
		case r.mending:
			r.remedies = append(r.remedies, name)
		default:
			return &problem.Problem{What: fmt.Sprintf("there is no shelf %q", name), Where: r.household,
				Why: "the household has: " + strings.Join(known, ", "), Fix: "name one of these",
				Exit: problem.ExitUsage}
		}
	}
	return nil
}

// look audits the folders that are asked about.
func (r *accessing) look() error {
	f := r.house.Facts
	defer r.looking("looking at the folders", 0)()
	r.report = accessReport{Identity: accessIdentity{Account: r.account.Name, UID: r.account.UID, GID: r.account.GID,
		Groups: r.account.Groups}, Folders: []accessFolder{}}
	for _, s := range r.house.Household.Shelves {
		if len(r.shelves) > 0 && !slices.Contains(r.shelves, s.Name) {
			continue
		}
		for i := range s.Folders {
			id, need := f.Asks(r.account, s.Access == household.Change)
			need.Each, need.Counted = r.each, &r.files
			one, err := r.accessOf(s, i, need, id)
			if err != nil {
				return err
			}
			r.needs = append(r.needs, need)
			r.bad = r.bad || len(one.Problems) > 0
			r.report.Folders = append(r.report.Folders, one)
		}
	}
	return nil
}

// tried tries the folders from inside.
func (r *accessing) tried(ctx context.Context) ([]operate.Proven, error) {
	if err := r.house.Answering(); err != nil {
		return nil, err
	}
	total := 0
	for _, f := range r.report.Folders {
		total += f.Files
	}
	stop := r.looking("opening files as the server will", total)
	list, err := r.house.Prove(ctx, r.sample, r.shelves)
	stop()
	for i, p := range list {
		r.report.Folders[i].Proof = &p.Proof
		r.bad = r.bad || p.Failing > 0 || len(p.Disagreements) > 0
	}
	return list, err
}

// mendThem mends the folders, has the server look at them again, and says what it came to.
func (r *accessing) mendThem(ctx context.Context) error {
	h, f := r.house.Household, r.house.Facts
	if !r.json {
		r.showAccess(r.report, true)
	}
	if err := r.mend(h, f); err != nil {
		return err
	}
	// The file may name further groups by now.
	h, err := r.load()
	if err != nil {
		return err
	}
	account, err := accountFor(h, "")
	if err != nil {
		return err
	}
	r.say("\nnow:\n")
	r.bad = false
	for i, folder := range r.report.Folders {
		if folder.apart {
			continue
		}
		after, err := machine.Audit(folder.Host, f.Identity(account), r.needs[i])
		if err != nil {
			return err
		}
		r.bad = r.bad || len(after.Problems) > 0
		r.say("  %s: %s\n", folder.Shelf, after.Summary(folder.Need == household.Change))
	}
	r.scanMended(ctx, r.house, r.report.Folders)
	return nil
}

// lookTime is how long a command waits for the server to look at what it changed; the server sees
// that by itself later, too.
const lookTime = 2 * time.Minute

// scanMended has the server look at shelves again whose files were mended, so that they can be
// played now. One that does not run finds them when it starts.
func (a *app) scanMended(ctx context.Context, h *operate.House, folders []accessFolder) {
	look, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	var done []string
	for _, f := range folders {
		if len(f.Problems) == 0 || slices.Contains(done, f.Shelf) {
			continue
		}
		if _, err := h.Client().Scan(look, f.Shelf, "", false, false); err != nil {
			return
		}
		done = append(done, f.Shelf)
	}
	if len(done) > 0 {
		a.say("  the server has looked at %s again: what can be read now can be played\n",
			strings.Join(done, ", "))
	}
}

// accountFor finds the account that is asked about.
func accountFor(h *household.Household, as string) (facts.Account, error) {
	server := h.Server
	if as != "" {
		server = household.Server{RunAs: as}
	}
	account := machine.Account(server)
	if !account.Known {
		return account, &problem.Problem{What: "the account is not known", Where: account.Asked, Why: account.Why,
			Fix: "name an account of this machine, or uid:gid", Exit: problem.ExitUsage}
	}
	return account, nil
}

// accessOf audits one folder of a shelf.
func (r *accessing) accessOf(s household.Shelf, i int, need permit.Need, id permit.Identity) (accessFolder, error) {
	folder := s.Folders[i]
	out := accessFolder{Shelf: s.Name, Host: folder,
		Inside: fmt.Sprintf("%s/%s/%d", blueprint.ShelvesInside, s.Name, i+1), Need: s.Access,
		Problems: []permit.Obstacle{}, Remedies: []permit.Remedy{}, Exposures: []permit.Exposure{}}
	if household.IsShare(folder) || r.house.Facts.Elsewhere {
		// Not of this machine: what may be done there can only be tried.
		out.apart = true
		return out, nil
	}
	var err error
	out.report, err = machine.Audit(folder, id, need)
	if errors.Is(err, machine.ErrSilent) {
		// The others are looked at all the same.
		out.report.Folder = folder
		out.Problems = []permit.Obstacle{{Path: folder, Kind: "folder", Need: "list", Cause: permit.CauseUnknown,
			Count: 1, Detail: err.Error()}}
		return out, nil
	}
	if err != nil {
		p := &problem.Problem{What: "a folder of shelf " + s.Name + " cannot be looked at", Where: folder,
			Why: err.Error(), Fix: "run cozyshelf check; run as an account that may look there, such as root", Err: err}
		if errors.Is(err, os.ErrNotExist) {
			p.Why, p.Fix = "it does not exist", "make it, mount its disk, or correct the path"
		}
		return out, p
	}
	found := out.report
	out.Files, out.Folders, out.ReadableFiles, out.ListableFolders, out.WritableFolders = found.Files, found.Folders,
		found.ReadableFiles, found.ListableFolders, found.WritableFolders
	out.Problems, out.Exposures, out.Later = found.Problems, found.Exposures, found.Later
	out.Remedies = machine.Remedies(found, id, machine.Who(r.account), need)
	return out, nil
}

// showAccess shows what may be done and what stands in the way; how to mend it,
// unless that follows in another form.
func (a *app) showAccess(r accessReport, brief bool) {
	who := fmt.Sprintf("%d:%d", r.Identity.UID, r.Identity.GID)
	if r.Identity.Account != "" {
		who = r.Identity.Account + ", " + who
	}
	a.out.Printf("access of %s, groups %s\n", show.Bold(who),
		strings.Trim(strings.ReplaceAll(fmt.Sprint(r.Identity.Groups), " ", ", "), "[]"))
	say := func(indent, text string) { a.out.Hang(indent, text) }
	for _, f := range r.Folders {
		if brief && len(f.Problems) == 0 {
			continue
		}
		status := "ok"
		if len(f.Problems) > 0 {
			status = "warning"
			if f.ReadableFiles == 0 {
				status = "blocked"
			}
		}
		a.out.Printf("\n%s  %s %s\n", show.Mark(status), show.Bold(f.Shelf),
			show.Faint(fmt.Sprintf("%s → %s, to %s", show.Clean(f.Host), f.Inside, f.Need)))
		if f.apart {
			say("  ", "not a folder of this machine, so it cannot be computed here: --prove tries it from inside")
			continue
		}
		say("  ", f.report.Summary(f.Need == household.Change))
		for _, p := range f.Problems {
			count := show.Count(p.Count, "path", "paths")
			if p.Cause == permit.CauseWay {
				count += ", with what lies behind"
			}
			say("  ✗ ", fmt.Sprintf("%s, such as %s", count, p.Path))
			say("    ", p.Detail)
		}
		for _, e := range f.Exposures {
			if e.What == permit.ExposedRead {
				say("  · ", fmt.Sprintf("every account of this machine may read %s of it",
					show.Count(e.Count, e.Kind, e.Kind+"s")))
				continue
			}
			say("  ! ", fmt.Sprintf("%s, such as %s: %s", show.Count(e.Count, e.Kind, e.Kind+"s"), e.Path, e.What))
		}
		if brief {
			continue
		}
		a.showLater(f)
		for _, m := range f.Remedies {
			least := ""
			if m.Smallest {
				least = "; the smallest change"
			}
			a.out.Printf("  → %s %s\n", show.Bold(m.ID),
				show.Faint(fmt.Sprintf("(fixes %s%s)", show.Count(m.Reaches, "path", "paths"), least)))
			say("    ", m.What)
			say("    ", "who gains: "+m.WhoGains)
			for _, cmd := range m.Commands {
				a.out.Command("    $ ", cmd)
			}
		}
	}
}

// showLater says what becomes of files that arrive later, where that is not well.
func (a *app) showLater(f accessFolder) {
	l := f.report.Later
	if short := l.Folders - l.Readable; short > 0 && f.ReadableFiles > 0 {
		a.out.Printf("  ! files that others put there later, made like most here (umask %s), will not be readable "+
			"in %s of %s, such as %s\n", l.Umask, show.Count(short, "folder", "folders"),
			show.Count(l.Folders, "folder", "folders"), show.Clean(l.Path))
	}
}
