package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

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
		Problems        []permit.Problem  `json:"problems"`
		Remedies        []permit.Remedy   `json:"remedies"`
		Exposures       []permit.Exposure `json:"exposures"`
		Later           permit.Later      `json:"later"`
		Proof           *permit.Proof     `json:"proof,omitempty"`

		report permit.Report
		apart  bool // not of this machine, so not computed
	}
)

func (a *app) accessCommand() *cobra.Command {
	var as string
	var each, mending, yes, prove bool
	var sample int
	c := &cobra.Command{
		Use:   "access [SHELF...] [--mend [REMEDY...]]",
		Short: "Who can read what on the shelves, why not, and what mends it",
		Long: `Walks every folder of the shelves and says what the run-as account, as it will be
inside the container, can list, read and, where the shelf is to be changed, write:
as the kernel decides it, from mode bits and ACLs. One line covers all paths with
the same cause. Exit code 3 when something cannot be used.

With --mend the least remedies that help are shown, agreed to and carried out; or
those that are named. Every former owner, mode and ACL is kept in the ledger, and
cozyshelf undo puts them back.

With --prove a throw-away container with the server's account, mounts and limits
(without an engine: a child with those numbers) lists every folder, reads the first
byte of every file and, where a shelf is to be changed, makes and removes a file in
every folder; where that differs from what was computed, it is told.`,
		Args: cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			if mending {
				if err := a.alone(c.Context()); err != nil {
					return err
				}
			}
			house, err := a.find(c.Context())
			if err != nil {
				return err
			}
			h, ef := house.Household, house.Facts
			if mending {
				if err := a.takeOver(h); err != nil {
					return err
				}
			}
			account, err := accountFor(h, as)
			if err != nil {
				return err
			}
			switch {
			case mending && as != "", prove && as != "":
				return wrongUse(c, "--mend and --prove are for the run-as account; with --for it can only be asked")
			case sample < 0 || sample > 0 && !prove:
				return wrongUse(c, "--sample is a number of files, and goes with --prove")
			case mending && prove:
				return wrongUse(c, "mend first, then prove")
			}
			r := accessReport{Identity: accessIdentity{account.Name, account.UID, account.GID, account.Groups},
				Folders: []accessFolder{}}
			var remedies []string
			for i := 0; i < len(args); i++ {
				name := args[i]
				if !slices.ContainsFunc(h.Shelves, func(s household.Shelf) bool { return s.Name == name }) {
					if mending {
						remedies = append(remedies, name)
						args = slices.Delete(args, i, i+1)
						i--
						continue
					}
					return &problem.Problem{What: fmt.Sprintf("there is no shelf %q", name), Where: a.household,
						Fix: "name one of the household file", Exit: problem.ExitUsage}
				}
			}
			bad := false
			var needs []permit.Need
			for _, s := range h.Shelves {
				if len(args) > 0 && !slices.Contains(args, s.Name) {
					continue
				}
				for i, f := range s.Folders {
					id, need := ef.Asks(account, s.Access == household.Change)
					need.Each = each
					needs = append(needs, need)
					one, err := accessOf(s, i, f, ef.Elsewhere, id, machine.Who(account), need)
					if err != nil {
						return err
					}
					bad = bad || len(one.Problems) > 0
					r.Folders = append(r.Folders, one)
				}
			}
			var trials []operate.Proven
			if prove {
				if err := house.Answering(); err != nil {
					return err
				}
				if trials, err = house.Prove(c.Context(), sample, args); err != nil {
					return err
				}
				for i, p := range trials {
					r.Folders[i].Proof = &p.Proof
					bad = bad || p.Failing > 0 || len(p.Disagreements) > 0
				}
			}
			if mending {
				if !a.json {
					a.showAccess(r, true)
				}
				if err := a.mend(h, ef, account, r.Folders, needs, remedies, yes); err != nil || a.json {
					return err
				}
				// What it came to. The file may name further groups by now.
				if h, err = a.load(); err != nil {
					return err
				}
				if account, err = accountFor(h, ""); err != nil {
					return err
				}
				a.out.Printf("\nnow:\n")
				bad = false
				for i, f := range r.Folders {
					if f.apart {
						continue
					}
					after, err := machine.Audit(f.Host, ef.Identity(account), needs[i])
					if err != nil {
						return err
					}
					bad = bad || len(after.Problems) > 0
					a.out.Printf("  %s: %s\n", f.Shelf, after.Summary(f.Need == household.Change))
				}
				a.scanMended(c.Context(), house, r.Folders)
			} else if a.json {
				err = a.document(r)
			} else {
				a.showAccess(r, prove)
				if prove {
					a.showProven(trials, ef)
				}
			}
			if err == nil && bad {
				return &exit{problem.ExitFound}
			}
			return err
		},
	}
	c.Flags().StringVar(&as, "for", "", "ask for another account, or for uid:gid")
	c.Flags().BoolVar(&each, "each", false, "list every failing path instead of groups")
	c.Flags().BoolVar(&mending, "mend", false, "carry remedies out: the least, or those named")
	c.Flags().BoolVar(&prove, "prove", false, "really list, open and read everything, from inside the container")
	c.Flags().IntVar(&sample, "sample", 0, "with --prove: only so many files of every folder, chosen by chance")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return a.reads(c)
}

// scanMended has the server look at shelves again whose files were mended, so that they can be
// played now. One that does not run finds them when it starts.
func (a *app) scanMended(ctx context.Context, h *operate.House, folders []accessFolder) {
	var done []string
	for _, f := range folders {
		if len(f.Problems) == 0 || slices.Contains(done, f.Shelf) {
			continue
		}
		if _, err := h.Client().Scan(ctx, f.Shelf, "", false, false); err != nil {
			return
		}
		done = append(done, f.Shelf)
	}
	if len(done) > 0 {
		a.out.Printf("  the server has looked at %s again: what can be read now can be played\n",
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
func accessOf(s household.Shelf, i int, folder string, elsewhere bool, id permit.Identity, who permit.Who,
	need permit.Need) (accessFolder, error) {
	if household.IsShare(folder) || elsewhere {
		// Not of this machine: what may be done there can only be tried.
		return accessFolder{Shelf: s.Name, Host: folder,
			Inside: fmt.Sprintf("%s/%s/%d", blueprint.ShelvesInside, s.Name, i+1), Need: s.Access,
			Problems: []permit.Problem{}, Remedies: []permit.Remedy{}, Exposures: []permit.Exposure{}, apart: true}, nil
	}
	out := accessFolder{Shelf: s.Name, Host: folder,
		Inside: fmt.Sprintf("%s/%s/%d", blueprint.ShelvesInside, s.Name, i+1), Need: s.Access}
	var err error
	out.report, err = machine.Audit(folder, id, need)
	if errors.Is(err, machine.ErrSilent) {
		// The others are looked at all the same.
		out.report.Folder = folder
		out.Problems = []permit.Problem{{Path: folder, Kind: "folder", Need: "list", Cause: permit.CauseUnknown,
			Count: 1, Detail: err.Error()}}
		out.Remedies, out.Exposures = []permit.Remedy{}, []permit.Exposure{}
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
	r := out.report
	out.Files, out.Folders, out.ReadableFiles, out.ListableFolders, out.WritableFolders = r.Files, r.Folders,
		r.ReadableFiles, r.ListableFolders, r.WritableFolders
	out.Problems, out.Exposures, out.Later = r.Problems, r.Exposures, r.Later
	out.Remedies = machine.Remedies(r, id, who, need)
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
			if m.Least {
				least = "; the smallest change"
			}
			a.out.Printf("  → %s %s\n", show.Bold(m.ID),
				show.Faint(fmt.Sprintf("(fixes %s%s)", show.Count(m.Reaches, "path", "paths"), least)))
			say("    ", m.What)
			say("    ", "who gains: "+m.Widens)
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
