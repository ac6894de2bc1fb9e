package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/logline"
	"cozyshelf/internal/core/plain"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/intake"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

var errNotDeployed = errors.New("not deployed")

// deployed opens the household and finds what it has on its engine.
func (a *app) deployed(ctx context.Context) (*site, blueprint.Seen, error) {
	s, err := a.open(ctx)
	if err != nil {
		return nil, blueprint.Seen{}, err
	}
	o, err := s.observe(ctx)
	if err != nil {
		return nil, blueprint.Seen{}, err
	}
	seen, ok := o.Current()
	if !ok {
		return s, seen, &problem.Problem{What: s.h.Household.Name + " is not deployed", Where: s.facts.Kind, Why: "the engine has nothing of this household", Fix: "cozyshelf deploy", Err: errNotDeployed}
	}
	return s, seen, nil
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
			s, seen, err := a.deployed(c.Context())
			if err != nil {
				return err
			}
			chosen := &logFilter{want: want, all: level == "" && want.Grep == "" && !a.json, json: a.json, tail: o.Tail, follow: o.Follow}
			if !o.Follow && !chosen.all {
				o.Tail = 0 // of those that are chosen, not of all
			}
			err = s.engine.Logs(c.Context(), seen.ID, o, chosen)
			if errors.Is(err, boundary.ErrLink) || errors.Is(err, boundary.ErrForeign) {
				var pe *os.PathError
				errors.As(err, &pe)
				return &problem.Problem{What: "the log is not the server's", Where: pe.Path, Why: "the server's account has put something else in its place: " + pe.Err.Error(), Fix: "look what it is, and whether somebody has taken the server over (SECURITY.md); remove it, and cozyshelf restart writes a new one", Err: err}
			}
			if err != nil {
				return err
			}
			return chosen.flush()
		},
	}
	c.Flags().BoolVarP(&o.Follow, "follow", "f", false, "go on as lines come")
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

// grace is how long a server may take to end.
const grace = 10 * time.Second

// turn stops or starts what is deployed, as asked.
func (a *app) turn(ctx context.Context, command string, stop, start bool) error {
	if err := a.alone(ctx); err != nil {
		return err
	}
	s, seen, err := a.deployed(ctx)
	if err != nil {
		return err
	}
	if err := a.takeOver(s.h); err != nil {
		a.warn(err.Error()) // a full disk does not keep the server from being stopped or started
	}
	note := func(action string, err error) {
		e := ledger.Entry{At: time.Now(), Who: who(), Command: command, Action: action, What: action + " " + seen.Name, Why: "asked for", Outcome: "done"}
		if err != nil {
			e.Outcome = err.Error()
		}
		if _, lerr := ledger.Append(s.h.Storage.State, e); lerr != nil {
			a.err.Printf("the ledger could not be written: %s\n", lerr)
		}
	}
	if stop && seen.Running {
		err := s.engine.Stop(ctx, seen.ID, grace)
		note("stop", err)
		if err != nil {
			return err
		}
	}
	if !start {
		a.out.Printf("%s is stopped\n", s.h.Household.Name)
		return nil
	}
	if seen.Running && !stop {
		// An engine that waits before it tries a crashed server again does it now; one whose
		// server runs has nothing to do.
		if err := s.engine.Start(ctx, seen.ID); err != nil {
			return &problem.Problem{What: s.h.Household.Name + " could not be started", Where: s.facts.Kind, Why: err.Error(),
				Fix: "cozyshelf check shows what stands in the way", Err: err}
		}
	} else {
		err := s.engine.Start(ctx, seen.ID)
		note("start", err)
		if err != nil {
			return &problem.Problem{What: s.h.Household.Name + " could not be started", Where: s.facts.Kind, Why: err.Error(), Fix: "cozyshelf check shows what stands in the way", Err: err}
		}
	}
	d := &deploy.Carrier{Engine: s.engine, Health: s.client().Health, Command: command, Who: who()}
	d.Blueprint.Container = seen.Container
	d.Blueprint.State = s.h.Storage.State
	if err := d.Carry(ctx, []blueprint.Change{{Action: blueprint.AwaitHealthy, Target: seen.Name, What: "wait until it is healthy"}}); err != nil {
		var sick *control.Sick
		if !errors.As(err, &sick) || sick.Status != control.FullDisk {
			return err
		}
		a.out.Printf("%s is running: %s\n", s.h.Household.Name, s.address())
		a.warn("the disk with the state folder is full: what is there plays, and nothing new is remembered; " +
			"free some space there, and it goes on by itself")
		return &exit{problem.ExitFound}
	}
	a.out.Printf("%s is running: %s\n", s.h.Household.Name, s.address())
	return nil
}

func (a *app) startCommand() *cobra.Command {
	return &cobra.Command{Use: "start", Short: "Start the server again", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return a.turn(c.Context(), "start", false, true) }}
}

func (a *app) stopCommand() *cobra.Command {
	return &cobra.Command{Use: "stop", Short: "Stop the server; nothing is removed", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return a.turn(c.Context(), "stop", true, false) }}
}

func (a *app) restartCommand() *cobra.Command {
	return &cobra.Command{Use: "restart", Short: "Stop and start the server", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return a.turn(c.Context(), "restart", true, true) }}
}

func (a *app) retireCommand() *cobra.Command {
	var erase, yes bool
	c := &cobra.Command{
		Use: "retire", Short: "Remove what was made on the engine; media stay, always",
		Long: `Removes the household's container, network and image from the engine. The state
folder (members, positions, plays) stays for a later deploy, unless --erase is
given. Media are never touched.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx := c.Context()
			if err := a.alone(ctx); err != nil {
				return err
			}
			s, err := a.open(ctx)
			if err == nil {
				err = s.here(ctx)
			}
			if err == nil {
				err = a.takeOver(s.h)
			}
			if err != nil {
				return err
			}
			s.sweep()
			have, err := s.observe(ctx)
			if err != nil {
				return err
			}
			images := append(slices.Clone(have.Kept), have.Unkept...)
			for _, seen := range have.Containers {
				if i := seen.Container.Image; i != "" && !slices.Contains(images, i) {
					images = append(images, i)
				}
			}
			// A deployment that was cut off may have left the image alone.
			if own, err := a.pack(ctx, s); err == nil && slices.Contains(have.Images, own.Digest) && !slices.Contains(images, own.Digest) {
				images = append(images, own.Digest)
			}
			var state, scratch string
			for _, p := range []string{s.h.Storage.State, boundary.Admin(s.h.Storage.State)} {
				if _, err := os.Lstat(p); erase && !errors.Is(err, os.ErrNotExist) {
					state = s.h.Storage.State
				}
			}
			if _, err := os.Stat(s.h.Storage.Scratch); erase && err == nil && s.h.Storage.Scratch != "memory" {
				scratch = s.h.Storage.Scratch
			}
			unit, _ := deploy.Unit(s.id, nil)
			changes := blueprint.Retire(s.id, have, images, unit != "", state, scratch)
			if len(changes) == 0 {
				a.out.Printf("nothing to do: %s has nothing on %s\n", s.h.Household.Name, s.facts.Kind)
				return nil
			}
			a.out.Printf("%s on %s\n", show.Bold(s.h.Household.Name), s.facts.Kind)
			a.showChanges(changes)
			if err := a.agree(yes, "Carry this out?"); err != nil {
				return err
			}
			s.blueprint.State = s.h.Storage.State
			s.blueprint.Container.Household = s.id
			if err := a.carry(ctx, s, "retire", changes, func() error { return deploy.ForgetDeployed(s.h.Storage.State) }); err != nil {
				return err
			}
			a.out.Printf("retired; media were not touched\n")
			for _, l := range stays(s.h) {
				a.out.Printf("  stays: %s\n", show.Clean(l))
			}
			a.out.Printf("  stays: the household file %s\n", show.Clean(a.household))
			return nil
		},
	}
	c.Flags().BoolVar(&erase, "erase", false, "also erase the state folder")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
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
