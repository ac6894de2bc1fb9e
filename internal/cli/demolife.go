package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
)

// edit replaces a part of the household file.
func (w *walk) edit(old, new string) error {
	p := filepath.Join(w.dir, "household.toml")
	b, err := os.ReadFile(p)
	if err != nil {
		return err
	}
	if !strings.Contains(string(b), old) {
		return fmt.Errorf("the household file of the demo has no %q", old)
	}
	return os.WriteFile(p, []byte(strings.Replace(string(b), old, new, 1)), 0o644)
}

// read reads what a command says as JSON.
func (w *walk) read(v any, command ...string) error {
	c := exec.CommandContext(w.ctx, w.exe, append(command, "--json")...)
	c.Dir = w.dir
	out, err := c.Output()
	if err != nil {
		return err
	}
	return json.Unmarshal(out, v)
}

// entries reads the ledger.
func (w *walk) entries() (list []ledger.Entry, err error) {
	err = w.read(&list, "ledger")
	return list, err
}

// life shows a change, one that cannot work, an upgrade and the way back, and a
// backup.
func (w *walk) life() error {
	w.say("A change: what it is about, who would be interrupted, and how long the server was away.")
	if err := w.edit(`memory  = "256 MiB"`, `memory  = "320 MiB"`); err != nil {
		return err
	}
	port, err := w.https()
	if err == nil {
		err = w.deaf()
	}
	if err == nil {
		err = w.run("", "deploy", "--yes")
	}
	if err == nil {
		err = w.trusts(port)
	}
	if err != nil {
		return err
	}
	if err := w.wrong(); err != nil {
		return err
	}
	w.say("A newer program. (A copy of this one with a byte more stands in for it.) A backup is taken before it " +
		"meets the store.")
	own, err := os.ReadFile(w.exe)
	if err != nil {
		return err
	}
	newer := filepath.Join(w.dir, "cozyshelf-newer")
	if err := os.WriteFile(newer, append(own, '\n'), 0o755); err != nil {
		return err
	}
	usual := w.exe
	w.exe = newer
	err = w.run("", "upgrade", "--yes")
	if err == nil {
		if err = w.run(demoPassword("piet")+" too\n", "member", "password", "piet", "--password-file",
			"-"); err == nil {
			w.say("And back to the program before, with the store as it left it. What is lost in between is " +
				"said first.")
			err = w.run("", "rollback", "--yes")
		}
	}
	w.exe = usual
	if err != nil {
		return err
	}
	w.say("Everything but the media in one file, taken while the server runs; every byte of it is checked.")
	if err := w.run("", "backup", "--to", "mill.tar.zst"); err != nil {
		return err
	}
	if err := w.run("", "backup", "verify", "mill.tar.zst"); err != nil {
		return err
	}
	return w.run("", "ledger")
}

// wrong tries a change that fails when it is too late to see it coming: another
// program takes the new port while the container is being made.
func (w *walk) wrong() error {
	w.say("A change that fails: this demo takes the new port in the very moment. What ran before runs again.")
	next := machine.NextPort(netip.IPv6Unspecified(), w.port+1)
	from, to := fmt.Sprintf("port    = %d", w.port), fmt.Sprintf("port    = %d", next)
	if err := w.edit(from, to); err != nil {
		return err
	}
	w.a.out.Printf("%s\n", show.Bold("$ cozyshelf deploy --yes"))
	c := exec.CommandContext(w.ctx, w.exe, "deploy", "--yes")
	c.Dir = w.dir
	thief := &thief{port: next, words: []string{steps[blueprint.Create] + " …",
		withoutContainers[blueprint.Create] + " …"}}
	c.Stdout, c.Stderr = os.Stdout, io.MultiWriter(os.Stderr, thief)
	err := c.Run()
	thief.end()
	var ended *exec.ExitError
	if !errors.As(err, &ended) || ended.ExitCode() != problem.ExitFailed {
		return fmt.Errorf("a deployment to a port that was taken ended with %v", err)
	}
	return w.edit(to, from)
}

// thief takes a port once it reads one of some words.
type thief struct {
	words []string
	port  int
	l     net.Listener
}

func (t *thief) Write(b []byte) (int, error) {
	reads := func(w string) bool { return strings.Contains(string(b), w) }
	if t.l == nil && slices.ContainsFunc(t.words, reads) {
		t.l, _ = net.Listen("tcp", fmt.Sprintf(":%d", t.port)) // else somebody else has it
	}
	return len(b), nil
}

func (t *thief) end() {
	if t.l != nil {
		t.l.Close()
	}
}
