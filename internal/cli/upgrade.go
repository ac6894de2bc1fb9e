package cli

import (
	"context"
	"fmt"
	"strings"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/operate"
	"cozyshelf/internal/problem"

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
			h, err := a.loadLocked(ctx)
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
			house, err := a.open(ctx)
			if err != nil {
				return err
			}
			if err := house.KnowsStore(ctx); err != nil {
				return err
			}
			if err := a.agree(f.yes, "Change the pin?"); err != nil {
				return err
			}
			if err := replace(a.household, text); err != nil {
				return &problem.Problem{What: "the household file could not be written", Where: a.household,
					Why: err.Error(), Fix: "check that you may write there; the file is as it was", Err: err}
			}
			if err := a.deploy(ctx, "upgrade", f); err != nil {
				if rerr := replace(a.household, old); rerr != nil {
					a.err.Printf("The pin could not be put back: %s\n", rerr)
				}
				return err
			}
			return nil
		},
	}
	f.add(c)
	return a.withJSON(c)
}

func (a *app) rollbackCommand() *cobra.Command {
	var yes bool
	var g gentle
	c := &cobra.Command{
		Use: "rollback", Short: "Go back to the program before, with the store as it left it",
		Long: `Takes the last upgrade back: the program that ran before runs again, with its
settings, the household file as it was, and the store as that program left it. What
came into the store since is said first, and is kept in a backup.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := g.judge(c); err != nil {
				return err
			}
			h, err := a.openAlone(c.Context())
			if err != nil {
				return err
			}
			e, err := operate.LastUpgrade(c.Context(), h)
			if err != nil {
				return err
			}
			a.err.Printf("Entry %d, %s by %s: %s\n", e.ID, show.When(e.At), e.Who, show.Clean(e.What))
			return a.undoDeployment(c.Context(), h, "rollback", e, yes, g)
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	g.flags(c)
	return a.withJSON(c)
}

// undoDeployment deploys what a deployment replaced.
func (a *app) undoDeployment(ctx context.Context, h *operate.House, command string, e ledger.Entry, yes bool,
	g gentle) error {
	u, err := h.Undo(ctx, command, e)
	if err != nil {
		return err
	}
	a.showUndoing(h, u)
	if u.Nothing() {
		a.err.Printf("Nothing to do: it is as it was before\n")
		return u.Close()
	}
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	if err := g.wait(ctx, a, h, u.Watching); err != nil {
		return err
	}
	if u.File != nil {
		if err := replace(a.household, u.File); err != nil {
			return &problem.Problem{What: "the household file could not be written", Where: a.household,
				Why: err.Error(), Fix: "check that you may write there; nothing was done", Err: err}
		}
	}
	if err := a.lock(ctx); err != nil { // it is another file now
		return err
	}
	a.begun()
	tell, stop := a.telling(u.Plan)
	d, err := u.Carry(ctx, tell, func(text []byte) error { return replace(a.household, text) })
	stop()
	if err != nil {
		a.err.Printf("failed\n")
		return err
	}
	if d.Gap > 0 {
		a.err.Printf("The server was away for %s\n", show.Took(d.Gap))
	}
	a.err.Printf("%s runs again\n", u.Version)
	if a.json {
		return a.document(deploymentUndone{Undoes: e.ID, Changes: u.Changes, FormerVersion: u.Version,
			HouseholdFile: u.File != nil, Lost: u.Lost})
	}
	return nil
}

// showUndoing shows what the taking back of a deployment would do.
func (a *app) showUndoing(h *operate.House, u operate.Undoing) {
	a.err.Printf("%s on %s\n", show.Bold(h.Name()), h.Facts.Kind)
	tellChanges(a.err, u.Changes)
	a.showInterrupted(u.Watching)
	if u.File != nil {
		a.err.Printf("  • put the former text of %s back\n", a.household)
	}
	if u.Stays {
		a.warn(fmt.Sprintf("%s was changed since and stays as it is: the next deploy will make it so", a.household))
	}
	if u.Lost != nil {
		a.warn(fmt.Sprintf("the store goes back to %s; what came since is not in it, but is kept in the backup "+
			"that is taken first: %s", show.When(u.Lost.At), lostWords(*u.Lost)))
	}
}

// warn writes a warning that may take several lines.
func (a *app) warn(text string) { warning(a.err, 2, "%s", text) }

// warning writes a warning, folded to the terminal's width.
func warning(out show.Out, indent int, format string, args ...any) {
	first := show.Mark("warning")
	for _, l := range out.Lines(show.Clean(fmt.Sprintf(format, args...)), indent+8) {
		out.Printf("%*s%s %s\n", indent, "", first, l)
		first = "       "
	}
}

// lostWords says what would be lost.
func lostWords(l operate.Lost) string {
	out := []string{show.Count(l.Plays, "play", "plays"), show.Count(l.Positions, "position", "positions") + " moved"}
	if len(l.Members) > 0 {
		out = append(out, "members added: "+strings.Join(l.Members, ", "))
	}
	return strings.Join(out, ", ") + "; passwords and permissions are as they were then"
}
