package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/core/verdict"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"

	"github.com/spf13/cobra"
)

// deployFlags are those of deploy and upgrade.
type deployFlags struct {
	dry, yes, gently bool
	patience         time.Duration
}

func (f *deployFlags) add(c *cobra.Command) {
	c.Flags().BoolVar(&f.dry, "dry-run", false, "only show the changes")
	c.Flags().BoolVar(&f.yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&f.gently, "gently", false, "wait until nobody is watching who would be interrupted")
	c.Flags().DurationVar(&f.patience, "for", 2*time.Hour, "with --gently: how long to wait")
}

func (f *deployFlags) judge(c *cobra.Command) error {
	if c.Flags().Changed("for") && !f.gently || f.patience < 0 {
		return wrongUse(c, "--for is how long --gently waits, such as 10m")
	}
	return nil
}

func (a *app) deployCommand() *cobra.Command {
	var f deployFlags
	c := &cobra.Command{
		Use: "deploy", Short: "Make the engine match the household file",
		Long: `Compares the household file with what the engine has, shows the changes, asks,
and carries them out. Cut off half-way, it goes on from there the next time. It says
who is watching and would be interrupted; --gently waits for them, and gives up after
a while with everything as it was. cozyshelf undo takes a deployment back.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := f.judge(c); err != nil {
				return err
			}
			return a.deploy(c.Context(), "deploy", f)
		},
	}
	f.add(c)
	return a.reads(c)
}

// deploy makes the engine match the household file.
func (a *app) deploy(ctx context.Context, command string, f deployFlags) error {
	if !f.dry {
		if err := a.alone(ctx); err != nil {
			return err
		}
	}
	s, err := a.open(ctx)
	if err != nil {
		return err
	}
	if !f.dry {
		if err := a.takeOver(s.h); err != nil {
			return err
		}
		s.sweep()
	}
	if err := a.draw(ctx, s); err != nil {
		return err
	}
	if err := a.mayDeploy(ctx, s); err != nil {
		return err
	}
	p := &plan{command: command, why: "asked for"}
	if p.text, err = a.householdText(); err != nil {
		return err
	}
	have, err := s.observe(ctx)
	if err != nil {
		return err
	}
	if err := a.prepare(s, p, have); err != nil {
		return err
	}
	host, err := deploy.Host(s.blueprint)
	if err != nil {
		return &problem.Problem{What: "the state folder cannot be looked at", Where: s.h.Storage.State, Why: err.Error(), Fix: "run as an account that may, such as root", Err: err}
	}
	p.changes = blueprint.Compare(s.blueprint, have, host)
	p.what = summary(s, have)
	watching := s.interrupted(ctx, p.changes)
	if a.json {
		doc := map[string]any{"engine": s.facts, "changes": append([]blueprint.Change{}, p.changes...), "interrupts": watching, "carried_out": !f.dry && len(p.changes) > 0 && f.yes}
		if p.open != nil {
			doc["cut_off"] = p.open.ID
		}
		if err := a.document(doc); err != nil || f.dry {
			return err
		}
		if len(p.changes) == 0 {
			return a.settled(s, p)
		}
	} else {
		a.out.Printf("%s on %s %s\n", show.Bold(s.h.Household.Name), s.facts.Kind, show.Faint("("+s.facts.Why+")"))
		if p.open != nil {
			goes := "this goes on from there"
			if !p.same {
				goes = "this is about something else, and ends it"
			}
			a.out.Printf("  an earlier %s was cut off (entry %d, %s): %s; cozyshelf undo %d takes it back\n", p.open.Command, p.open.ID, show.When(p.open.At), goes, p.open.ID)
		}
		if len(p.changes) == 0 {
			a.out.Printf("nothing to do: all is as the household file says\n")
			if f.dry {
				return nil
			}
			return a.settled(s, p)
		}
		a.showChanges(p.changes)
		a.showInterrupted(watching)
	}
	if f.dry {
		return nil
	}
	// What would certainly fail is not begun.
	if err := a.mayBegin(ctx, s); err != nil {
		return err
	}
	if err := a.agree(f.yes, "Carry this out?"); err != nil {
		return err
	}
	if f.gently {
		if err := a.waitForStreams(ctx, s, p.changes, f.patience); err != nil {
			return err
		}
	}
	began := time.Now()
	d, err := a.carryPlan(ctx, s, p)
	if err != nil || a.json {
		return err
	}
	away := ""
	if d.Gap > 0 {
		away = "; the server was away for " + show.Took(d.Gap)
	}
	a.out.Printf("\nready after %s%s\n", show.Took(time.Since(began)), away)
	a.whereNext(ctx, s)
	return nil
}

// mayBegin says what would certainly fail, if anything.
func (a *app) mayBegin(ctx context.Context, s *site) error {
	f := a.gather(ctx, s)
	lines := verdict.Judge(s.h, f)
	if verdict.Worst(lines) == verdict.Blocked {
		a.showBlocked(lines)
		return &problem.Problem{What: "nothing was deployed", Why: "something is blocked, as shown above", Fix: "mend it; cozyshelf check shows the whole picture", Exit: problem.ExitFound}
	}
	return nil
}

// settled ends a deployment that was cut off after its last change, and removes what that
// left.
func (a *app) settled(s *site, p *plan) error {
	state := s.h.Storage.State
	deploy.SweepSettings(s.blueprint)
	list, _, err := ledger.Read(state)
	if err != nil || !slices.ContainsFunc(list, func(e ledger.Entry) bool { return e.Outcome == ledger.Open }) {
		return nil // nothing was cut off, as far as we may see
	}
	if err := deploy.WriteDeployed(state, p.now); err != nil {
		return err
	}
	if p.open != nil {
		// What came of it follows from what is there: all of it, or what was there before.
		outcome := "done"
		if !p.same {
			outcome = "cut off; what was there before is there still"
		}
		if err := ledger.End(state, p.open.ID, outcome); err != nil {
			return err
		}
	}
	deploy.CloseLeft(state, p.command)
	return nil
}

// summary says in a line what a deployment is about.
func summary(s *site, have blueprint.Observed) string {
	now, ok := have.Current()
	if !ok {
		return "deploy " + s.h.Household.Name
	}
	d := blueprint.Differences(now.Container, s.blueprint.Container)
	if len(d) == 0 {
		return "deploy " + s.h.Household.Name + " again"
	}
	return "deploy " + s.h.Household.Name + ": " + strings.Join(d, "; ")
}

func (a *app) showInterrupted(watching []usage.Play) {
	for _, p := range watching {
		a.out.Printf("  %s %s is watching %s (%s of %s, %s): that is interrupted, and goes on where it was\n", show.Mark("warning"), p.Member, playTitle(p), show.Length(p.Position), show.Length(p.Duration), p.Device)
	}
}

// interrupted gives the streams that the changes would interrupt.
func (s *site) interrupted(ctx context.Context, changes []blueprint.Change) []usage.Play {
	if !slices.ContainsFunc(changes, func(c blueprint.Change) bool { return c.Action == blueprint.StopOld }) {
		return []usage.Play{}
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	list, err := s.client().History(ctx, store.PlayFilter{Open: true})
	if err != nil || list == nil {
		return []usage.Play{} // a server that does not answer sends nothing
	}
	return list
}

// waitForStreams waits until nothing would be interrupted.
func (a *app) waitForStreams(ctx context.Context, s *site, changes []blueprint.Change, patience time.Duration) error {
	began, told := time.Now(), 0
	for {
		list := s.interrupted(ctx, changes)
		if len(list) == 0 {
			return nil
		}
		if len(list) != told {
			told = len(list)
			a.err.Printf("waiting for %s to end\n", show.Count(told, "stream", "streams"))
		}
		if time.Since(began) >= patience {
			return &problem.Problem{What: "nothing was deployed", Where: s.h.Household.Name, Why: fmt.Sprintf("after %s %s on", show.Since(patience), show.Count(len(list), "stream still goes", "streams still go")), Fix: "try again later, wait longer with --for, or deploy without --gently; who watches goes on where it was"}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(min(time.Second, patience)):
		}
	}
}

func (a *app) showChanges(changes []blueprint.Change) { tellChanges(a.out, changes) }

// tellChanges writes changes a line each; a reason that does not fit has one of its own.
func tellChanges(out show.Out, changes []blueprint.Change) {
	for _, ch := range changes {
		why := "(" + ch.Why + ")"
		if len(show.Lines(ch.What+"  "+why, 4)) == 1 {
			out.Printf("  • %s  %s\n", ch.What, show.Faint(why))
			continue
		}
		for i, l := range show.Lines(ch.What, 4) {
			out.Printf("  %s %s\n", []string{"•", " "}[min(i, 1)], l)
		}
		for _, l := range show.Lines(why, 6) {
			out.Printf("      %s\n", show.Faint(l))
		}
	}
}

func (a *app) showBlocked(lines []verdict.Line) {
	var blocked []verdict.Line
	for _, l := range lines {
		if l.Status == verdict.Blocked {
			blocked = append(blocked, l)
		}
	}
	to := a.out
	a.out = a.err
	a.showVerdict(blocked, verdict.Blocked)
	a.out = to
}

// steps are short names of what is being done; the changes were shown at length
// before.
var steps = map[blueprint.Action]string{
	blueprint.MakeState: "state folder", blueprint.MakeScratch: "scratch folder", blueprint.MakeBackups: "folder of backups", blueprint.LoadImage: "packing and loading the image",
	blueprint.MakeNetwork: "network", blueprint.WriteSettings: "settings", blueprint.MakeVolume: "volume of a share", blueprint.RemoveVolume: "removing the volume", blueprint.Prove: "trying a sample of every shelf", blueprint.Create: "creating", blueprint.PutBack: "putting back what was changed by hand", blueprint.StopOld: "stopping",
	blueprint.TakeBackup: "backing up the store", blueprint.PutStore: "putting the store in place", blueprint.WriteUnit: "unit of systemd", blueprint.RemoveUnit: "removing the unit of systemd",
	blueprint.Start: "starting", blueprint.AwaitHealthy: "waiting until healthy", blueprint.RemoveOld: "removing",
	blueprint.RemoveNetwork: "removing the network", blueprint.RemoveImage: "removing the image", blueprint.EraseScratch: "removing the scratch folder", blueprint.EraseState: "erasing the state folder",
}

// carry carries changes out that cannot be taken back.
func (a *app) carry(ctx context.Context, s *site, command string, changes []blueprint.Change, done func() error) error {
	d := a.carrier(s, command, len(changes))
	d.Done = done
	d.Entry = &ledger.Entry{Action: command, What: command + " " + s.h.Household.Name, Why: "asked for"}
	if err := d.Carry(ctx, changes); err != nil {
		a.err.Printf("failed\n")
		return err
	}
	return nil
}

// whereNext says where the page is and who can open it.
func (a *app) whereNext(ctx context.Context, s *site) {
	a.out.Printf("page:   %s\n", s.address())
	if list, err := s.client().Members(ctx); err == nil && len(list) == 0 {
		a.out.Printf("next:   cozyshelf member add NAME --role admin\n")
	}
}

func (a *app) ledgerCommand() *cobra.Command {
	var from string
	var steps bool
	c := &cobra.Command{
		Use: "ledger", Short: "What was changed on the host and the engine", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			h, err := a.load()
			if err != nil {
				return err
			}
			start, err := since(c, from)
			if err != nil {
				return err
			}
			if err := a.takeOverNow(h); err != nil {
				return err
			}
			all, damaged, err := ledger.Read(h.Storage.State)
			if err != nil {
				return &problem.Problem{What: "the ledger cannot be read", Where: h.Storage.State, Why: err.Error(), Fix: "run as root or as the run-as account", Err: err}
			}
			list, hidden := []ledger.Entry{}, 0
			for _, e := range all {
				switch {
				case e.At.Before(start):
				case e.Of != 0 && e.Outcome == "done" && !steps && !a.json:
					hidden++
				default:
					list = append(list, e)
				}
			}
			if a.json {
				return a.document(list)
			}
			rows := [][]string{}
			for _, e := range list {
				outcome := e.Outcome
				switch {
				case e.UndoneBy != 0:
					outcome += fmt.Sprintf(", undone by %d", e.UndoneBy)
				case e.Undo != nil:
					outcome += ", can be undone"
				}
				if e.Of != 0 {
					e.What = "· " + e.What
				}
				rows = append(rows, []string{fmt.Sprint(e.ID), show.When(e.At), e.Who, e.Command, e.What, outcome})
			}
			a.out.Table([]show.Column{{Head: "entry", Right: true}, {Head: "when"}, {Head: "who"}, {Head: "command"}, {Head: "what", Most: 80}, {Head: "outcome", Most: 30}}, rows)
			if hidden > 0 {
				a.out.Printf("%s of these left out; --steps shows them\n", show.Count(hidden, "step", "steps"))
			}
			if damaged > 0 {
				a.err.Printf("%s could not be read\n", show.Count(damaged, "line", "lines"))
			}
			return nil
		},
	}
	c.Flags().StringVar(&from, "since", "", "only since then, such as 2h or 3d")
	c.Flags().BoolVar(&steps, "steps", false, "also the single steps of deployments")
	c.AddCommand(a.ledgerVerifyCommand())
	return a.reads(c)
}

func (a *app) ledgerVerifyCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "verify", Short: "Check that no line of the ledger was changed or taken out", Args: cobra.NoArgs,
		Long: `Each line of the ledger carries the hash of the one before it. Lines taken off its
very end leave no trace in a chain.`,
		RunE: func(c *cobra.Command, _ []string) error {
			h, err := a.load()
			if err != nil {
				return err
			}
			n, wrong, err := ledger.Verify(h.Storage.State)
			if err != nil {
				return &problem.Problem{What: "the ledger cannot be read", Where: h.Storage.State, Why: err.Error(), Fix: "run as root or as the run-as account", Err: err}
			}
			if a.json {
				err = a.document(map[string]int{"lines": n, "first_wrong": wrong})
			} else if wrong == 0 {
				a.out.Printf("%s, each following from the one before\n", show.Count(n, "line", "lines"))
			} else {
				a.out.Printf("line %d of %d does not follow from the one before: something before it was changed or taken out\n", wrong, n)
			}
			if err == nil && wrong > 0 {
				return &exit{problem.ExitFound}
			}
			return err
		},
	}
	return a.reads(c)
}
