package cli

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/verdict"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

func (a *app) checkCommand() *cobra.Command {
	var mending, yes, only bool
	c := &cobra.Command{
		Use: "check", Short: "Will this household work on this machine?",
		Long: `Looks at the household file, the engine, the machine, the run-as account and the
folders, and says of each: ok, warning, or blocked, and what to do about it. Where the
household file wants conversions, half a second of film is made by each way that this
machine may have. Exit code 3 when something is blocked.

With --mend a run-as account that there is not yet is made, after it was agreed to:
with no login, no home, and only the groups that the shelves need. Nothing else is
changed. With --facts only what was found is written, as JSON.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			house, err := a.find(c.Context())
			if err != nil {
				return err
			}
			f := a.gather(c.Context(), house)
			if only {
				house.TryWays(c.Context(), &f)
				return a.document(f)
			}
			if p := f.Account.Proposal; mending && p != nil {
				if err := a.makeAccount(house.Household, house.Facts, *p, yes); err != nil {
					return err
				}
				if house, err = a.find(c.Context()); err != nil {
					return err
				}
				f = a.gather(c.Context(), house)
			}
			house.TryWays(c.Context(), &f)
			lines := verdict.Judge(house.Household, f)
			worst := verdict.Worst(lines)
			if a.json {
				if err := a.document(checkReport{Verdict: worst, Lines: lines, Facts: f}); err != nil {
					return err
				}
			} else {
				a.showVerdict(lines, worst)
			}
			if worst == verdict.Blocked {
				return &exit{problem.ExitFound}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&mending, "mend", false, "make the run-as account, if there is none")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&only, "facts", false, "only write what was found on this machine, as JSON")
	return a.withJSON(c)
}

// makeAccount makes a proposed account, and the state folder with the ledger for it.
func (a *app) makeAccount(h *household.Household, engine facts.Engine, p facts.Proposal, yes bool) error {
	if len(p.Commands) == 0 {
		return &problem.Problem{What: "the account cannot be made by this program", Where: p.Name,
			Why: "this machine has no program for it that is known here",
			Fix: "make it with the machine's own tools, with no login and no home; or write run_as = \"1500:1500\" " +
				"under [server]"}
	}
	a.err.Printf("Make the account %s, with no login and no home:\n", show.Bold(p.Name))
	for _, c := range p.Commands {
		a.err.Printf("  $ %s\n", c)
	}
	for _, g := range p.Nameless {
		a.err.Printf("  • write group %d into groups under [server] of %s: it has no name on this machine, so no "+
			"account "+
			"can be added to it here\n", g, show.Clean(a.household))
	}
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	if os.Getuid() != 0 {
		return &problem.Problem{What: "the account was not made", Where: p.Name, Why: "only root can make accounts",
			Fix: "run this as root, or the commands above"}
	}
	if err := machine.MakeAccount(p); err != nil {
		return &problem.Problem{What: "the account could not be made", Where: p.Name, Why: err.Error(),
			Fix: "make it with the machine's own tools, or write run_as = \"1500:1500\" under [server]", Err: err}
	}
	account := machine.Account(h.Server)
	if !account.Known {
		return &problem.Problem{What: "the account was made, but is not found", Where: p.Name, Why: account.Why,
			Fix: "see whether the machine's list of accounts is read from elsewhere"}
	}
	if err := a.ready(h, engine.Identity(account)); err != nil {
		return err
	}
	id := a.enter(h, ledger.Entry{At: time.Now(), Who: who(), Command: "check --mend", Action: "make-account",
		What: fmt.Sprintf("make the account %s, %d:%d", p.Name, account.UID, account.GID),
		Why:  "the server runs as it", Outcome: "done",
		Undo: &ledger.Undo{Kind: undoAccount, Path: p.Name, Data: accountData(account)}})
	a.err.Printf("Entry %d: made %s, %d:%d; cozyshelf undo %d removes it\n", id, p.Name, account.UID, account.GID, id)
	for _, g := range p.Nameless {
		if err := a.addGroup(h, g, "check --mend", "the shelves need it"); err != nil {
			return err
		}
	}
	a.err.Printf("\n")
	return nil
}

// accountData writes down the numbers of an account, to make it again by.
func accountData(a facts.Account) string {
	out := fmt.Sprintf("%d:%d", a.UID, a.GID)
	for _, g := range a.Groups {
		if g != a.GID {
			out += fmt.Sprintf(":%d", g)
		}
	}
	return out
}

// accountNumbers reads it.
func accountNumbers(data string) (uid, gid uint32, groups []uint32, err error) {
	var all []uint32
	for _, t := range strings.Split(data, ":") {
		n, err := strconv.ParseUint(t, 10, 32)
		if err != nil {
			return 0, 0, nil, fmt.Errorf("the account's numbers are not kept: %q", data)
		}
		all = append(all, uint32(n))
	}
	if len(all) < 2 {
		return 0, 0, nil, fmt.Errorf("the account's numbers are not kept: %q", data)
	}
	return all[0], all[1], all[2:], nil
}

// addGroup lets the server into a group by its number, in the household file.
func (a *app) addGroup(h *household.Household, gid uint32, command, why string) error {
	text, err := a.householdText()
	if err != nil {
		return err
	}
	after, err := household.AddGroup(a.household, text, fmt.Sprint(gid))
	if err != nil {
		return err
	}
	return a.rewrite(h, after, command, fmt.Sprintf("let the server into group %d: %s", gid, why))
}

func (a *app) showVerdict(lines []verdict.Line, worst verdict.Status) {
	a.showLines(lines)
	a.out.Printf("\n%s\n", map[verdict.Status]string{
		verdict.OK:      "This household will work here.",
		verdict.Warning: "This household will work here; see the warnings.",
		verdict.Blocked: "This household will not work here yet; see what is blocked.",
	}[worst])
}

// showLines writes judgements below each other.
func (a *app) showLines(lines []verdict.Line) {
	wide := 0
	for _, l := range lines {
		wide = max(wide, len(l.What))
	}
	indent := strings.Repeat(" ", 9+wide+2)
	say := func(first, text string, style func(string) string) {
		for i, line := range a.out.Lines(show.Clean(text), len(indent)) {
			if i > 0 {
				first = indent
			}
			a.out.Printf("%s%s\n", first, style(line))
		}
	}
	plain := func(s string) string { return s }
	for _, l := range lines {
		pad := strings.Repeat(" ", 9-len(l.Status))
		say(fmt.Sprintf("%s%s%-*s  ", show.Mark(string(l.Status)), pad, wide, l.What), l.Says, plain)
		for _, d := range l.Details {
			say(indent, "· "+d, show.Faint)
		}
		if l.Do != "" {
			say(indent, "→ "+l.Do, plain)
		}
		for _, c := range l.Commands { // whole, so that they can be copied
			a.out.Printf("%s$ %s\n", indent, show.Clean(c))
		}
	}
}
