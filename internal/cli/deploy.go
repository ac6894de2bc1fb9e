package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/core/verdict"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/operate"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

// deployFlags are those of deploy and upgrade.
type deployFlags struct {
	gentle
	dry, yes bool
}

func (f *deployFlags) add(c *cobra.Command) {
	c.Flags().BoolVar(&f.dry, "dry-run", false, "only show the changes")
	c.Flags().BoolVar(&f.yes, "yes", false, "do not ask")
	f.flags(c)
}

func (a *app) deployCommand() *cobra.Command {
	var f deployFlags
	c := &cobra.Command{
		Use: "deploy", Short: "Make the engine match the household file",
		Long: `Compares the household file with what the engine has, shows the changes, asks,
and carries them out. Cut off half-way, it continues from there the next time. It says
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
	return a.withJSON(c)
}

// deploy makes the engine match the household file.
func (a *app) deploy(ctx context.Context, command string, f deployFlags) error {
	open := a.openAlone
	if f.dry {
		open = a.open
	}
	h, err := open(ctx)
	if err != nil {
		return err
	}
	if !h.Account.Known {
		// With the account that is proposed.
		return a.blocked(operate.OnlyBlocked(verdict.Judge(h.Household, a.gather(ctx, h))))
	}
	p, err := h.Deploy(ctx, command)
	if err != nil {
		return err
	}
	if err := a.showDeployment(h, p, f); err != nil {
		return err
	}
	if f.dry {
		return nil
	}
	if len(p.Changes) == 0 {
		return p.Settle()
	}
	// What would certainly fail is not begun.
	found := a.gather(ctx, h)
	if err := a.blocked(operate.OnlyBlocked(verdict.Judge(h.Household, found))); err != nil {
		return err
	}
	if err := a.agree(f.yes, "Carry this out?"); err != nil {
		return err
	}
	if err := f.wait(ctx, a, h, p.Watching); err != nil {
		return err
	}
	began := time.Now()
	d, err := a.carry(ctx, p)
	if err != nil || a.json {
		return err
	}
	away := ""
	if d.Gap > 0 {
		away = "; the server was away for " + show.Took(d.Gap)
	}
	a.out.Printf("\nReady after %s%s\n", show.Took(time.Since(began)), away)
	a.whereNext(ctx, h)
	a.showUnreadable(found)
	return nil
}

// showUnreadable says in a line a shelf what the server cannot use.
func (a *app) showUnreadable(f facts.Facts) {
	for _, s := range f.Shelves {
		files, folders, closed := 0, 0, 0
		for _, d := range s.Folders {
			if r := d.Access; r != nil && r.Failing > 0 {
				closed++
				files += r.Files - r.ReadableFiles
				folders += r.Folders - r.ListableFolders
			}
		}
		var what []string
		if files > 0 {
			what = append(what, show.Count(files, "file", "files"))
		}
		if folders > 0 {
			what = append(what, show.Count(folders, "folder", "folders"))
		}
		switch {
		case closed == 0:
		case len(what) == 0:
			a.warn(fmt.Sprintf("%s: the server cannot put files there; cozyshelf access %s says why", s.Name, s.Name))
		default:
			a.warn(fmt.Sprintf("%s: the server cannot read %s; cozyshelf access %s says why", s.Name,
				strings.Join(what, " and "),
				s.Name))
		}
	}
}

// showDeployment shows what deploy would do.
func (a *app) showDeployment(h *operate.House, p operate.Plan, f deployFlags) error {
	if a.json {
		doc := deployReport{Engine: h.Facts, Changes: p.Changes, Interrupts: p.Watching,
			CarriedOut: !f.dry && len(p.Changes) > 0 && f.yes}
		if p.Open != nil {
			doc.CutOff = p.Open.ID
		}
		return a.document(doc)
	}
	a.out.Printf("%s on %s %s\n", show.Bold(h.Name()), h.Facts.Kind, show.Faint("("+h.Facts.Why+")"))
	if o := p.Open; o != nil {
		goes := "this continues from there"
		if !p.Same {
			goes = "this is about something else, and ends it"
		}
		a.out.Printf("  an earlier %s was cut off (entry %d, %s): %s; cozyshelf undo %d takes it back\n", o.Command,
			o.ID,
			show.When(o.At), goes, o.ID)
	}
	if len(p.Changes) == 0 {
		a.out.Printf("Nothing to do: all is as the household file says\n")
		return nil
	}
	a.showChanges(p.Changes)
	a.showInterrupted(p.Watching)
	return nil
}

// blocked says what would certainly fail, if anything.
func (a *app) blocked(lines []verdict.Line) error {
	if len(lines) == 0 {
		return nil
	}
	a.showBlocked(lines)
	return &problem.Problem{What: "nothing was deployed", Why: "something is blocked, as shown above",
		Fix: "mend it; cozyshelf check shows the whole picture", Exit: problem.ExitFound}
}

func (a *app) showInterrupted(watching []usage.Play) {
	to := a.out
	if a.json {
		to = a.err
	}
	for _, p := range watching {
		warning(to, 2, "%s is watching %s (%s of %s, %s): that is interrupted, and continues where it stopped",
			p.Member, playTitle(p), show.Length(p.Position), show.Length(p.Duration), p.Device)
	}
}

// waitForStreams waits until nothing would be interrupted.
func (a *app) waitForStreams(ctx context.Context, h *operate.House, patience time.Duration) error {
	err := h.Wait(ctx, patience, func(n int) {
		a.err.Printf("Waiting for %s to end\n", show.Count(n, "stream", "streams"))
	})
	var busy *operate.Busy
	if errors.As(err, &busy) {
		return &problem.Problem{What: "nothing was done", Where: h.Name(), Why: fmt.Sprintf("after %s %s",
			show.Since(patience), show.Count(busy.Streams, "stream is still playing", "streams are still playing")),
			Fix: "try again later, wait longer with --for, or do it without --gently; whoever watches continues " +
				"where they were", Err: err}
	}
	return err
}

func (a *app) showChanges(changes []blueprint.Change) { tellChanges(a.out, changes) }

// tellChanges writes changes a line each; a reason that does not fit has one of its own.
func tellChanges(out show.Out, changes []blueprint.Change) {
	for _, ch := range changes {
		why, behind := "", ""
		if ch.Why != "" {
			why = "(" + ch.Why + ")"
			behind = "  " + show.Faint(why)
		}
		if len(out.Lines(ch.What+"  "+why, 4)) == 1 {
			out.Printf("  • %s%s\n", ch.What, behind)
			continue
		}
		for i, l := range out.Lines(ch.What, 4) {
			out.Printf("  %s %s\n", []string{"•", " "}[min(i, 1)], l)
		}
		if why == "" {
			continue
		}
		for _, l := range out.Lines(why, 6) {
			out.Printf("      %s\n", show.Faint(l))
		}
	}
}

func (a *app) showBlocked(blocked []verdict.Line) {
	to := a.out
	a.out = a.err
	a.showVerdict(blocked, verdict.Blocked)
	a.out = to
}

// steps are short names of what is being done; the changes were shown at length
// before.
var steps = map[blueprint.Action]string{
	blueprint.MakeState: "state folder", blueprint.MakeScratch: "scratch folder",
	blueprint.MakeBackups: "folder of backups", blueprint.LoadImage: "packing and loading the image",
	blueprint.MakeNetwork: "network", blueprint.WriteSettings: "settings", blueprint.MakeVolume: "volume of a share",
	blueprint.RemoveVolume: "removing the volume", blueprint.Prove: "trying a sample of every shelf",
	blueprint.Create: "creating", blueprint.PutBack: "putting back what was changed by hand",
	blueprint.StopOld:    "stopping",
	blueprint.TakeBackup: "backing up the store", blueprint.PutStore: "putting the store in place",
	blueprint.WriteUnit: "unit of systemd", blueprint.RemoveUnit: "removing the unit of systemd",
	blueprint.Start: "starting", blueprint.AwaitHealthy: "waiting until healthy", blueprint.RemoveOld: "removing",
	blueprint.RemoveNetwork: "removing the network", blueprint.RemoveImage: "removing the image",
	blueprint.EraseScratch: "removing the scratch folder", blueprint.EraseState: "erasing the state folder",
}

// withoutContainers are the names of steps that are called otherwise where the engine runs no
// containers.
var withoutContainers = map[blueprint.Action]string{
	blueprint.LoadImage: "keeping a copy of the program", blueprint.Create: "preparing the server",
	blueprint.RemoveOld: "removing the old server", blueprint.RemoveImage: "removing the copy of the program",
}

// carry carries a plan out, showing how it goes.
func (a *app) carry(ctx context.Context, p operate.Plan) (operate.Done, error) {
	a.begun()
	tell, stop := a.telling(p)
	d, err := p.Carry(ctx, tell)
	stop()
	if err != nil {
		a.err.Printf("failed\n")
	}
	return d, err
}

// telling shows how the changes of a plan go. stop is to be called once they are done, or one failed.
func (a *app) telling(p operate.Plan) (tell operate.Telling, stop func()) {
	n, end := 0, func() {}
	return operate.Telling{
		Change: func(c blueprint.Change, done bool, took time.Duration) {
			if !done {
				n++
				name := steps[c.Action]
				if own := withoutContainers[c.Action]; own != "" && !p.Contained() {
					name = own
				}
				end = a.err.Step(fmt.Sprintf("  %d/%d %s … ", n, len(p.Changes), name))
				return
			}
			end()
			a.err.Printf("done %s\n", show.Faint("("+show.Took(took)+")"))
		},
		Doubts: func(d []operate.Proven) {
			end()
			a.showDoubts(d)
		},
	}, func() { end() }
}

// whereNext says where the page is and who can open it.
func (a *app) whereNext(ctx context.Context, h *operate.House) {
	a.out.Printf("page:   %s\n", h.Address())
	if list, err := h.Client().Members(ctx); err == nil && len(list) == 0 {
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
				return &problem.Problem{What: "the ledger cannot be read", Where: h.Storage.State, Why: err.Error(),
					Fix: "run as root or as the run-as account", Err: err}
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
				return a.document(reportEntries(list, steps))
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
			a.out.Table([]show.Column{{Head: "entry", Right: true}, {Head: "when", Whole: true},
				{Head: "who", Drop: 1}, {Head: "command", Drop: 2}, {Head: "what", Most: 200},
				{Head: "outcome", Most: 60}}, rows)
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
	return a.withJSON(c)
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
				return &problem.Problem{What: "the ledger cannot be read", Where: h.Storage.State, Why: err.Error(),
					Fix: "run as root or as the run-as account", Err: err}
			}
			if a.json {
				err = a.document(ledgerVerified{Lines: n, FirstWrong: wrong})
			} else if wrong == 0 {
				a.out.Printf("%s, each following from the one before\n", show.Count(n, "line", "lines"))
			} else {
				a.out.Printf("Line %d of %d does not follow from the one before: something before it was changed "+
					"or taken out\n", wrong, n)
			}
			if err == nil && wrong > 0 {
				return &exit{problem.ExitFound}
			}
			return err
		},
	}
	return a.withJSON(c)
}
