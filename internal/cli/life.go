package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/logline"
	"cozyshelf/internal/core/plain"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/intake"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/operate"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

// deployed opens the household and finds what it has on its engine.
func (a *app) deployed(ctx context.Context) (*operate.House, blueprint.Container, error) {
	h, err := a.open(ctx)
	if err != nil {
		return nil, blueprint.Container{}, err
	}
	seen, err := h.Deployed(ctx)
	return h, seen, err
}

func (a *app) logsCommand() *cobra.Command {
	var o engine.LogOptions
	var from, level string
	var want logline.Filter
	c := &cobra.Command{
		Use: "logs", Short: "What the server wrote", Args: cobra.NoArgs,
		Long: `Writes the server's log, each line with its time in front. --level and --grep choose
lines; lines that are no entries of the log, such as a crash's last words, have no
level and are always shown. With --json each line is a document of its own.`,
		RunE: func(c *cobra.Command, _ []string) error {
			var err error
			if o.Since, err = since(c, from); err != nil {
				return err
			}
			want.Level = logline.Debug
			if level != "" {
				if want.Level, err = logline.ParseLevel(level); err != nil {
					return wrongUse(c, fmt.Sprintf("%q is no level; write debug, info, warn or error", level))
				}
			}
			if o.Tail < 0 {
				return wrongUse(c, "--tail takes a number of lines")
			}
			h, seen, err := a.deployed(c.Context())
			if err != nil {
				return err
			}
			chosen := &logFilter{want: want, all: level == "" && want.Grep == "" && !a.json, json: a.json,
				tail: o.Tail, follow: o.Follow}
			if !o.Follow && !chosen.all {
				o.Tail = 0 // of those that are chosen, not of all
			}
			err = h.Engine.Logs(c.Context(), seen.ID, o, chosen)
			if errors.Is(err, boundary.ErrLink) || errors.Is(err, boundary.ErrForeign) {
				var pe *os.PathError
				errors.As(err, &pe)
				return &problem.Problem{What: "the log is not the server's", Where: pe.Path,
					Why: "the server's account has put something else in its place: " + pe.Err.Error(),
					Fix: "look what it is, and whether somebody has taken the server over (SECURITY.md); remove " +
						"it, and cozyshelf restart writes a new one", Err: err}
			}
			if err != nil {
				return err
			}
			return chosen.flush()
		},
	}
	c.Flags().BoolVarP(&o.Follow, "follow", "f", false, "print further lines as they come")
	c.Flags().StringVar(&from, "since", "", "only since then, such as 10m, 2h or 2026-11-23")
	c.Flags().IntVar(&o.Tail, "tail", 0, "only the last lines")
	c.Flags().StringVar(&level, "level", "", "only from a level on: debug, info, warn, error")
	c.Flags().StringVar(&want.Grep, "grep", "", "only lines that hold a text, letters large or small")
	c.Flags().BoolVar(&a.json, "json", false, "each line as a JSON document")
	return c
}

// logFilter passes on the lines that are wanted, once they are whole.
type logFilter struct {
	want   logline.Filter
	all    bool // every line, as it is
	json   bool
	tail   int // the last so many only; 0 for all. With follow, those that come are shown at once.
	follow bool
	rest   []byte
	last   []string
}

// Write takes a part of the log.
func (f *logFilter) Write(b []byte) (int, error) {
	f.rest = append(f.rest, b...)
	for {
		i := bytes.IndexByte(f.rest, '\n')
		if i < 0 && len(f.rest) < mostLogLine {
			return len(b), nil
		}
		next := i + 1
		if i < 0 {
			i, next = len(f.rest), len(f.rest)
		}
		line := string(f.rest[:i])
		f.rest = f.rest[next:]
		if err := f.line(line); err != nil {
			return 0, err
		}
	}
}

func (f *logFilter) line(text string) error {
	if f.all {
		return f.print(text)
	}
	l := logline.Parse(text)
	if !f.want.Wants(text, l) {
		return nil
	}
	if f.json {
		b, err := json.Marshal(l)
		if err != nil {
			return err
		}
		text = string(b)
	}
	if f.tail > 0 && !f.follow {
		f.last = append(f.last, text)
		f.last = f.last[max(0, len(f.last)-f.tail):]
		return nil
	}
	return f.print(text)
}

// mostLogLine is how long a line may be before it is shown in parts.
const mostLogLine = 1 << 20

// print shows a line: a document as it is, all else made safe.
func (f *logFilter) print(text string) error {
	if !f.json {
		text = plain.Line(text)
	}
	_, err := fmt.Println(text)
	return err
}

// flush shows what was held back.
func (f *logFilter) flush() error {
	if len(f.rest) > 0 {
		if err := f.line(string(f.rest)); err != nil {
			return err
		}
	}
	for _, s := range f.last {
		if err := f.print(s); err != nil {
			return err
		}
	}
	return nil
}

// gentle are the flags of commands that interrupt who is watching.
type gentle struct {
	gently   bool
	patience time.Duration
}

func (g *gentle) flags(c *cobra.Command) {
	c.Flags().BoolVar(&g.gently, "gently", false, "wait until nobody is watching who would be interrupted")
	spanVar(c, &g.patience, "for", 2*time.Hour, "with --gently: how long to wait, such as 90m or 1d")
}

func (g *gentle) judge(c *cobra.Command) error {
	if c.Flags().Changed("for") && !g.gently {
		return wrongUse(c, "--for is how long --gently waits, such as 10m")
	}
	return nil
}

// wait waits for who is watching, where that is wished.
func (g *gentle) wait(ctx context.Context, a *app, h *operate.House, watching []usage.Play) error {
	if !g.gently || len(watching) == 0 {
		return nil
	}
	return a.waitForStreams(ctx, h, g.patience)
}

// turn stops or starts what is deployed, as asked.
func (a *app) turn(ctx context.Context, command string, stop, start bool, g gentle) error {
	if err := a.lock(ctx); err != nil {
		return err
	}
	h, seen, err := a.deployed(ctx)
	if err != nil {
		return err
	}
	if stop && seen.Running {
		watching := h.Streams(ctx)
		a.showInterrupted(watching)
		if err := g.wait(ctx, a, h, watching); err != nil {
			return err
		}
	}
	if err := a.takeOver(h.Household); err != nil {
		a.warn(err.Error()) // a full disk does not keep the server from being stopped or started
	}
	doing := "waiting until the server has ended"
	if start {
		doing = "waiting until the server is ready"
	}
	done := a.err.Watch(doing, show.Time, nil)
	err = h.Turn(ctx, command, seen, stop, start, func(err error) {
		done()
		a.err.Printf("The ledger could not be written: %s\n", err)
	})
	done()
	var sick *control.Sick
	full := errors.As(err, &sick) && sick.Status == control.FullDisk
	switch {
	case err != nil && !full:
		return err
	case a.json:
		if err := a.document(turnReport{Household: h.Name(), Running: start, Address: h.Address(),
			FullDisk: full}); err != nil {
			return err
		}
	case !start:
		a.out.Printf("%s is stopped\n", h.Name())
	default:
		a.out.Printf("%s is running: %s\n", h.Name(), h.Address())
	}
	if !start {
		return nil
	}
	if full {
		a.warn("the disk with the state folder is full: what is there plays, and nothing new is remembered; " +
			"free some space there, and it continues by itself")
		return &exit{problem.ExitFound}
	}
	return nil
}

func (a *app) startCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{Use: "start", Short: "Start the server again", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return a.turn(c.Context(), "start", false, true, gentle{}) }})
}

func (a *app) stopCommand() *cobra.Command {
	return a.turning(&cobra.Command{Use: "stop", Short: "Stop the server; nothing is removed", Args: cobra.NoArgs},
		false)
}

func (a *app) restartCommand() *cobra.Command {
	return a.turning(&cobra.Command{Use: "restart", Short: "Stop and start the server", Args: cobra.NoArgs}, true)
}

// turning makes a command that stops the server, and starts it again where that is wished.
func (a *app) turning(c *cobra.Command, start bool) *cobra.Command {
	var g gentle
	c.RunE = func(c *cobra.Command, _ []string) error {
		if err := g.judge(c); err != nil {
			return err
		}
		return a.turn(c.Context(), c.Name(), true, start, g)
	}
	g.flags(c)
	return a.withJSON(c)
}

func (a *app) retireCommand() *cobra.Command {
	var erase, yes bool
	var g gentle
	c := &cobra.Command{
		Use: "retire", Short: "Remove what was made on the engine; media stay, always",
		Long: `Removes the household's container, network and image from the engine. The state
folder (members, positions, plays) stays for a later deploy, unless --erase is
given. Media are never touched.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := g.judge(c); err != nil {
				return err
			}
			ctx := c.Context()
			h, err := a.openAlone(ctx)
			if err == nil {
				err = h.Here(ctx)
			}
			if err != nil {
				return err
			}
			p, err := h.Retire(ctx, erase)
			if err != nil {
				return err
			}
			if a.json {
				if err := a.document(retireReport{Household: h.Name(), Changes: p.Changes,
					Interrupts: p.Watching}); err != nil {
					return err
				}
			}
			if len(p.Changes) == 0 {
				a.say("Nothing to do: %s has nothing on %s\n", h.Name(), h.Facts.Kind)
				return nil
			}
			if !a.json {
				a.out.Printf("%s on %s\n", show.Bold(h.Name()), h.Facts.Kind)
				a.showChanges(p.Changes)
				a.showInterrupted(p.Watching)
			}
			if err := a.agree(yes, "Carry this out?"); err != nil {
				return err
			}
			if err := g.wait(ctx, a, h, p.Watching); err != nil {
				return err
			}
			if _, err := a.carry(ctx, p); err != nil {
				return err
			}
			if a.json {
				return nil
			}
			a.out.Printf("Retired; media were not touched\n")
			for _, l := range stays(h.Household) {
				a.out.Printf("  stays: %s\n", show.Clean(l))
			}
			a.out.Printf("  stays: the household file %s\n", show.Clean(a.household))
			return nil
		},
	}
	c.Flags().BoolVar(&erase, "erase", false, "also erase the state folder")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	g.flags(c)
	return a.withJSON(c)
}

// stays lists what a household that has retired leaves on this machine, beside its media and
// its household file.
func stays(h *household.Household) []string {
	var out []string
	for _, p := range []string{h.Storage.State, boundary.Admin(h.Storage.State)} {
		if _, err := os.Lstat(p); err == nil {
			out = append(out, map[bool]string{true: "the state folder ",
				false: "the ledger, and what is kept to undo changes, "}[p == h.Storage.State]+p)
		}
	}
	if dir := h.Storage.Scratch; dir != "" && dir != "memory" {
		if _, err := os.Lstat(dir); err == nil {
			out = append(out, "the scratch folder "+dir)
		}
	}
	if dir := h.Backup.Folder; dir != "" {
		if list, err := backup.List(dir, blueprint.ID(h.Storage.State)); err == nil && len(list) > 0 {
			out = append(out, fmt.Sprintf("%s in %s", show.Count(len(list), "backup", "backups"), dir))
		}
	}
	for _, s := range h.Shelves {
		for _, folder := range s.Folders {
			if household.IsShare(folder) || machine.Far(folder) {
				continue
			}
			n, more := intake.Count(folder)
			many := show.Count(n, "job", "jobs")
			if more {
				many = "more than " + many
			}
			if n > 0 {
				out = append(out, many+" in "+filepath.Join(folder, intake.Holding)+
					"; cozyshelf intake list shows what waits, intake clear removes it")
			}
		}
	}
	return out
}
