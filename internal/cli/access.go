package cli

import (
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

		report permit.Report
	}
)

func (a *app) accessCommand() *cobra.Command {
	var as string
	var each bool
	c := &cobra.Command{
		Use: "access [SHELF...]", Short: "Who can read what on the shelves, why not, and what mends it",
		Long: `Walks every folder of the shelves and says what the run-as account, as it will be
inside the container, can list, read and, where the shelf is to be changed, write:
as the kernel decides it, from mode bits and ACLs. One line covers all paths with
the same cause. Changes nothing. Exit code 3 when something cannot be used.`,
		Args: cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			h, err := a.load()
			if err != nil {
				return err
			}
			account, err := accountFor(h, as)
			if err != nil {
				return err
			}
			_, ef, err := choose(c.Context(), h)
			if err != nil {
				return err
			}
			r := accessReport{Identity: accessIdentity{account.Name, account.UID, account.GID, account.Groups}, Folders: []accessFolder{}}
			for _, name := range args {
				if !slices.ContainsFunc(h.Shelves, func(s household.Shelf) bool { return s.Name == name }) {
					return &problem.Problem{What: fmt.Sprintf("there is no shelf %q", name), Where: a.household, Fix: "name one of the household file", Exit: problem.ExitUsage}
				}
			}
			bad := false
			for _, s := range h.Shelves {
				if len(args) > 0 && !slices.Contains(args, s.Name) {
					continue
				}
				for i, f := range s.Folders {
					one, err := accessOf(s, i, f, account, permit.Need{Write: s.Access == household.Change, Ancestors: ef.Kind == "process", Each: each})
					if err != nil {
						return err
					}
					bad = bad || len(one.Problems) > 0
					r.Folders = append(r.Folders, one)
				}
			}
			if a.json {
				err = a.document(r)
			} else {
				a.showAccess(r)
			}
			if err == nil && bad {
				return &exit{problem.ExitFound}
			}
			return err
		},
	}
	c.Flags().StringVar(&as, "for", "", "ask for another account, or for uid:gid")
	c.Flags().BoolVar(&each, "each", false, "list every failing path instead of groups")
	return a.reads(c)
}

// accountFor finds the account that is asked about.
func accountFor(h *household.Household, as string) (facts.Account, error) {
	server := h.Server
	if as != "" {
		server = household.Server{RunAs: as}
	}
	account := machine.Account(server)
	if !account.Known {
		return account, &problem.Problem{What: "the account is not known", Where: account.Asked, Why: account.Why, Fix: "name an account of this machine, or uid:gid", Exit: problem.ExitUsage}
	}
	return account, nil
}

// accessOf audits one folder of a shelf.
func accessOf(s household.Shelf, i int, folder string, account facts.Account, need permit.Need) (accessFolder, error) {
	out := accessFolder{Shelf: s.Name, Host: folder, Inside: fmt.Sprintf("%s/%s/%d", blueprint.ShelvesInside, s.Name, i+1), Need: s.Access}
	var err error
	out.report, err = machine.Audit(folder, account.Identity(), need)
	if err != nil {
		p := &problem.Problem{What: "a folder of shelf " + s.Name + " cannot be looked at", Where: folder, Why: err.Error(), Fix: "run cozyshelf check; run as an account that may look there, such as root", Err: err}
		if errors.Is(err, os.ErrNotExist) {
			p.Why, p.Fix = "it does not exist", "make it, mount its disk, or correct the path"
		}
		return out, p
	}
	r := out.report
	out.Files, out.Folders, out.ReadableFiles, out.ListableFolders, out.WritableFolders = r.Files, r.Folders, r.ReadableFiles, r.ListableFolders, r.WritableFolders
	out.Problems, out.Exposures = r.Problems, r.Exposures
	out.Remedies = machine.Remedies(r, account.Identity(), machine.Who(account), need)
	return out, nil
}

func (a *app) showAccess(r accessReport) {
	who := fmt.Sprintf("%d:%d", r.Identity.UID, r.Identity.GID)
	if r.Identity.Account != "" {
		who = r.Identity.Account + ", " + who
	}
	a.out.Printf("access of %s, groups %s\n", show.Bold(who), strings.Trim(strings.ReplaceAll(fmt.Sprint(r.Identity.Groups), " ", ", "), "[]"))
	say := func(indent, text string) {
		for _, l := range show.Lines(show.Clean(text), len(indent)) {
			a.out.Printf("%s%s\n", indent, l)
		}
	}
	for _, f := range r.Folders {
		status := "ok"
		if len(f.Problems) > 0 {
			status = "warning"
			if f.ReadableFiles == 0 {
				status = "blocked"
			}
		}
		a.out.Printf("\n%s  %s %s\n", show.Mark(status), show.Bold(f.Shelf), show.Faint(fmt.Sprintf("%s → %s, to %s", show.Clean(f.Host), f.Inside, f.Need)))
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
			say("  ! ", fmt.Sprintf("%s, such as %s: %s", show.Count(e.Count, e.Kind, e.Kind+"s"), e.Path, e.What))
		}
		for _, m := range f.Remedies {
			least := ""
			if m.Least {
				least = ", the least"
			}
			a.out.Printf("  → %s %s\n", show.Bold(m.ID), show.Faint(fmt.Sprintf("(mends up to %s%s)", show.Count(m.Reaches, "path", "paths"), least)))
			say("    ", m.What)
			say("    ", "who gains: "+m.Widens)
			for _, cmd := range m.Commands {
				say("    $ ", cmd)
			}
		}
	}
}
