package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/standin"

	"github.com/spf13/cobra"
)

func (a *app) demoCommand() *cobra.Command {
	var dir, engine string
	var keep bool
	c := &cobra.Command{
		Use: "demo", Short: "Make a household and walk the whole way: check, deploy, people, watching, " +
			"figures, removal",
		Long: `Makes Fernhollow Mill, a made-up household with small generated clips, in a
folder, and goes the whole way with this very program, showing each command and
what it says. In the end all that was made is removed, unless --keep is given.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			w := &walk{a: a, ctx: c.Context(), keep: keep}
			err := w.prepare(dir, engine)
			if err == nil {
				err = w.through()
			}
			if w.dir != "" && (!keep || err != nil) {
				err = errors.Join(err, w.remove())
			}
			if w.broker != nil {
				w.broker.Close()
			}
			return err
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "a new folder to make it in (default: a temporary one)")
	c.Flags().StringVar(&engine, "engine", "auto", "auto, docker, podman or process")
	c.Flags().BoolVar(&keep, "keep", false, "leave it running in the end")
	return c
}

// walk is one way through the demo.
type walk struct {
	a    *app
	ctx  context.Context
	dir  string
	exe  string
	port int
	keep bool
	made bool      // deployed, so there is something to retire
	also io.Writer // gets what commands write, too; nil for nobody

	broker *standin.Broker // of the house's automation, while it is there
	asks   string          // what the household file says of it
}

func (w *walk) say(format string, args ...any) {
	w.a.out.Printf("\n%s\n", show.Faint("# "+fmt.Sprintf(format, args...)))
}

// run runs this program with a command, showing both.
func (w *walk) run(stdin string, args ...string) error {
	return w.expect(problem.ExitDone, stdin, args...)
}

// expect runs a command that is to end with a certain exit code.
func (w *walk) expect(code int, stdin string, args ...string) error {
	shown := make([]string, len(args))
	for i, s := range args {
		if shown[i] = s; strings.ContainsAny(s, " ()") {
			shown[i] = fmt.Sprintf("%q", s)
		}
	}
	line := strings.Join(shown, " ")
	if len(line) > 100 {
		line = strings.ReplaceAll(line, " --", " \\\n      --")
	}
	for i, l := range strings.Split("$ cozyshelf "+line, "\n") {
		if i > 0 {
			w.a.out.Printf("\n")
		}
		w.a.out.Printf("%s", show.Bold(l)) // line by line: a block would be padded
	}
	w.a.out.Printf("\n")
	cmd := exec.CommandContext(w.ctx, w.exe, args...)
	cmd.Dir = w.dir
	cmd.Stdin = strings.NewReader(stdin)
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	if w.also != nil {
		cmd.Stdout = io.MultiWriter(os.Stdout, w.also)
	}
	err := cmd.Run()
	var ended *exec.ExitError
	if errors.As(err, &ended) && ended.ExitCode() == code {
		return nil
	}
	if errors.As(err, &ended) {
		return &problem.Problem{What: "a step of the demo failed", Where: "cozyshelf " + line,
			Why: fmt.Sprintf("it ended with code %d; its words are above", ended.ExitCode()),
			Fix: "mend what it names, and run the demo again"}
	}
	return err
}

func (w *walk) prepare(dir, engine string) error {
	var err error
	if w.exe, err = os.Executable(); err != nil {
		return err
	}
	if dir == "" {
		dir, err = os.MkdirTemp("", "fernhollow-mill-")
	} else if dir, err = filepath.Abs(dir); err == nil {
		err = os.Mkdir(dir, 0o755)
	}
	if err != nil {
		return &problem.Problem{What: "the demo needs a new folder of its own", Where: dir, Why: err.Error(),
			Fix: "name one that does not exist yet, with --dir", Err: err}
	}
	w.dir = dir
	// The run-as account must be able to pass through.
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	w.port = machine.NextPort(netip.IPv6Unspecified(), household.DefaultPort)
	w.a.out.Printf("%s in %s\n", show.Bold("Fernhollow Mill"), dir)
	w.a.out.Printf("An old watermill where three generations live. Everything in it is made up.\n")
	w.say("Some short clips, generated for this; one is broken, one unreadable, one badly named, on purpose.")
	if err := demo.Media(filepath.Join(dir, "media")); err != nil {
		return err
	}
	if err := count(w.a.out, filepath.Join(dir, "media")); err != nil {
		return err
	}
	runAs := fmt.Sprintf("%d:%d", os.Getuid(), os.Getgid())
	if os.Getuid() == 0 {
		runAs = "1500:1500"
	}
	w.say("One file describes the household.")
	args := append([]string{"new", "--name", "Fernhollow Mill", "--timezone", demoZone, "--engine", engine,
		"--run-as", runAs,
		"--port", fmt.Sprint(w.port), "--memory", "256 MiB", "--scratch-limit", "64 MiB", "--state",
		filepath.Join(dir, "state")}, demo.Shelves(filepath.Join(dir, "media"))...)
	if err := w.run("", args...); err != nil {
		return err
	}
	// This demo plays the part of the proxy on the way in from outside, too.
	f, err := os.OpenFile(filepath.Join(dir, "household.toml"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = io.WriteString(f, "\n[remote]\naddress         = \"https://shelf.example.net\"\ntrusted_proxies = "+
		"[\"127.0.0.1\", \"::1\", \"172.16.0.0/12\", \"192.168.0.0/16\", \"10.0.0.0/8\"]\n")
	return errors.Join(err, f.Close())
}

// mend mends the series, proves it, and takes the mend back.
func (w *walk) mend() error {
	w.say("The least remedy is taken. What was before is kept in the ledger.")
	if err := w.run("", "access", "series", "--mend", "--yes"); err != nil {
		return err
	}
	w.say("Proven from inside: every file is really opened, as the server will.")
	if err := w.run("", "access", "--prove"); err != nil {
		return err
	}
	list, err := w.entries()
	if err != nil {
		return err
	}
	entry := 0
	for _, e := range list {
		if e.Undo != nil && e.Undo.Kind == undoAccess {
			entry = e.ID
		}
	}
	w.say("Taken back: every owner, mode and ACL is as it was.")
	return w.run("", "undo", fmt.Sprint(entry), "--yes")
}

// count shows how many files of what size lie below a folder.
func count(out show.Out, dir string) error {
	list, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, d := range list {
		n, size := 0, int64(0)
		err := filepath.Walk(filepath.Join(dir, d.Name()), func(_ string, st os.FileInfo, err error) error {
			if err == nil && !st.IsDir() {
				n++
				size += st.Size()
			}
			return err
		})
		if err != nil {
			return err
		}
		out.Printf("  %-12s %9s  %s\n", d.Name(), show.Count(n, "file", "files"), show.Size(size))
	}
	return nil
}

// demoZone is the household's time zone.
const demoZone = "Europe/Riga"

// passwords of the demo: they are no secret.
func demoPassword(name string) string { return name + " by the millpond" }

func (w *walk) through() error {
	w.say("Will it work on this machine? What cannot be read is found now, with its cause.")
	if err := w.run("", "check"); err != nil {
		return err
	}
	w.say("Why can that one not be read, and what would mend it, opening as little as possible?")
	if err := w.expect(problem.ExitFound, "", "access", "series"); err != nil {
		return err
	}
	w.say("What a deployment would change, without changing it.")
	if err := w.run("", "deploy", "--dry-run"); err != nil {
		return err
	}
	w.say("The program packs itself as the image; no registry and no network are needed.")
	w.made = true
	if err := w.run("", "deploy", "--yes"); err != nil {
		return err
	}
	w.say("A second time there is nothing to do.")
	if err := w.run("", "deploy", "--yes"); err != nil {
		return err
	}
	w.say("Nobody can take the house from outside: people are let in here, on the host.")
	for _, p := range demo.People {
		if p.Name == invitedGuest {
			continue
		}
		if err := w.run(demoPassword(p.Name)+"\n", "member", "add", p.Name, "--role", string(p.Role)); err != nil {
			return err
		}
	}
	if err := w.invited(); err != nil {
		return err
	}
	if err := w.run("", "member", "list"); err != nil {
		return err
	}
	w.say("A child has hours and minutes.")
	if err := w.run("", "member", "edit", "bram", "--hours", "mon-fri 15:00-19:30, sat sun 08:00-21:00", "--minutes",
		"60"); err != nil {
		return err
	}
	if err := w.run("", "member", "show", "bram"); err != nil {
		return err
	}
	w.say("The shelves have been scanned at the start; again on request.")
	if err := w.run("", "shelf", "scan"); err != nil {
		return err
	}
	for _, s := range []string{"films", "series"} {
		if err := w.run("", "shelf", "show", s); err != nil {
			return err
		}
	}
	for _, part := range []func() error{w.mend, w.names, w.comesIn, w.described} {
		if err := part(); err != nil {
			return err
		}
	}
	if err := w.watch(); err != nil {
		return err
	}
	if err := w.run("", "usage", "history"); err != nil {
		return err
	}
	if err := w.month(fmt.Sprintf("http://127.0.0.1:%d", w.port)); err != nil {
		return err
	}
	for _, what := range [][]string{{"usage", "top", "--since", "14d"}, {"usage", "chart", "--by", "week",
		"--split", "member"}, {"usage", "chart", "--by", "heat"}, {"usage", "report", "--format", "markdown"}, {"status"},
		{"logs", "--tail", "6"}} {
		if err := w.run("", what...); err != nil {
			return err
		}
	}
	if err := w.life(); err != nil {
		return err
	}
	if w.keep {
		w.say("It is left running, as asked.")
		w.a.out.Printf("page      http://localhost:%d\nsign in   wren, with the password: %s\nremove    cozyshelf "+
			"--household %s retire --erase --yes && rm -r %s\n", w.port, demoPassword("wren"),
			filepath.Join(w.dir, "household.toml"), w.dir)
	}
	return nil
}

// watch lets two people watch at once, and a third try from away.
func (w *walk) watch() error {
	w.say("Two people watch at once, as real clients: wren leaves in the middle, ozan stays to the end.")
	address := fmt.Sprintf("http://127.0.0.1:%d", w.port)
	type seat struct {
		name, device, shelf, title, part string
		seconds                          float64
	}
	var wait sync.WaitGroup
	errs := make([]error, 2)
	began := make(chan struct{}, 2)
	for i, s := range []seat{
		{"wren", "kitchen tablet", "films", "The Paper Lighthouse", "", 3},
		{"ozan", "living room", "series", "Tiny Harbour", "The Buoy", 0},
	} {
		wait.Go(func() {
			v := &demo.Viewer{Address: address}
			errs[i] = v.SignIn(w.ctx, s.name, demoPassword(s.name), s.device)
			var f demo.File
			if errs[i] == nil {
				f, errs[i] = v.Find(w.ctx, s.shelf, s.title, s.part)
			}
			began <- struct{}{}
			if s.seconds == 0 { // not all of it, so that nobody has to wait
				f.ResumeAt = max(0, f.Duration-3)
			}
			if errs[i] == nil {
				errs[i] = v.Watch(w.ctx, f, s.seconds)
			}
		})
	}
	<-began
	<-began
	time.Sleep(time.Second)
	shown := w.run("", "usage", "now")
	if shown == nil {
		shown = w.automation(address)
	}
	wait.Wait()
	if err := errors.Join(shown, errors.Join(errs...)); err != nil {
		return err
	}
	w.say("ilse lives in another town and may watch from there; bram, 7, may not.")
	for _, name := range []string{"ilse", "bram"} {
		v := &demo.Viewer{Address: address, From: "203.0.113.7"}
		err := v.SignIn(w.ctx, name, demoPassword(name), name+"'s telephone")
		if err == nil {
			var f demo.File
			if f, err = v.Find(w.ctx, "films", "Nine Kinds of Rain", ""); err == nil {
				err = v.Watch(w.ctx, f, 1)
			}
		}
		switch {
		case name == "ilse" && err == nil:
			w.a.out.Printf("ilse, from 203.0.113.7: watched the beginning of Nine Kinds of Rain\n")
		case name == "bram" && err != nil:
			w.a.out.Printf("bram, from 203.0.113.7: %s\n", err)
		default:
			return fmt.Errorf("%s from away: %v", name, err)
		}
	}
	if err := w.sofa(address); err != nil {
		return err
	}
	w.say("Who watched what.")
	return nil
}

// invitedGuest is who chooses a password by a link.
const invitedGuest = "piet"

// invited has a guest come in by a link.
func (w *walk) invited() error {
	w.say("A guest comes in by a link, once, and chooses a password.")
	var said bytes.Buffer
	w.also = &said
	err := w.run("", "member", "invite", invitedGuest, "--role", "guest")
	if w.also = nil; err != nil {
		return err
	}
	_, rest, _ := strings.Cut(said.String(), "/invite/")
	token, _, _ := strings.Cut(rest, "\n")
	v := &demo.Viewer{Address: fmt.Sprintf("http://127.0.0.1:%d", w.port)}
	if err := v.Accept(w.ctx, strings.TrimSpace(token), demoPassword(invitedGuest)); err != nil {
		return fmt.Errorf("%s did not come in: %w", invitedGuest, err)
	}
	w.a.out.Printf("%s opened the link, and chose a password\n", invitedGuest)
	return nil
}

// sofa has three watch together on one device.
func (w *walk) sofa(address string) error {
	w.say("An evening on the sofa: it counts for each of them, and once for the house.")
	v := &demo.Viewer{Address: address}
	if err := v.SignIn(w.ctx, "ozan", demoPassword("ozan"), "big screen"); err != nil {
		return err
	}
	f, err := v.Find(w.ctx, "films", "Salt and Semaphore", "")
	if err == nil {
		err = v.Watch(w.ctx, f, 2)
	}
	if err == nil {
		err = v.Sit(w.ctx, f, "wren", "linnea")
	}
	if err != nil {
		return err
	}
	w.a.out.Printf("ozan watched Salt and Semaphore with wren and linnea\n")
	return nil
}

// remove takes everything away again, also after a failure or an interruption.
func (w *walk) remove() error {
	var stop context.CancelFunc
	w.ctx, stop = context.WithTimeout(context.WithoutCancel(w.ctx), time.Minute)
	defer stop()
	var err error
	if w.made {
		w.say("Everything that was made is removed again; media are never touched by this.")
		err = w.run("", "retire", "--erase", "--yes")
	}
	if err != nil {
		return err // what is left can be looked at
	}
	if err := count(w.a.out, filepath.Join(w.dir, "media")); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err := os.RemoveAll(w.dir); err != nil {
		return err
	}
	w.a.out.Printf("Removed %s\n", w.dir)
	return nil
}
