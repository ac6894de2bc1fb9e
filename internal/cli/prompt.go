package cli

import (
	"context"
	"errors"
	"os"
	"strings"

	"cozyshelf/internal/problem"

	"golang.org/x/term"
)

// exitInterrupted is the exit code of whoever was interrupted, as shells have it: 128 and the
// signal's number.
const exitInterrupted = 130

// exitUnread is the exit code where nobody reads what is printed any more.
const exitUnread = 141

// errInterrupted is that somebody pressed Ctrl-C at a question.
var errInterrupted = errors.New("interrupted")

// terminal reports whether a person sits at our standard input.
func terminal() bool { return term.IsTerminal(int(os.Stdin.Fd())) }

// await asks for something on the terminal, and waits for it or for the end of the context.
// The terminal is left as it was found, however that ends.
func await[T any](ctx context.Context, ask func() (T, error)) (T, error) {
	fd := int(os.Stdin.Fd())
	state, serr := term.GetState(fd)
	type got struct {
		v   T
		err error
	}
	done := make(chan got, 1)
	go func() {
		v, err := ask()
		done <- got{v: v, err: err}
	}()
	select {
	case g := <-done:
		if ctx.Err() != nil { // the terminal gives an end of file as well
			g.err = errInterrupted
		}
		return g.v, g.err
	case <-ctx.Done():
		if serr == nil {
			_ = term.Restore(fd, state) // it is as it was, or cannot be
		}
		var none T
		return none, errInterrupted
	}
}

// line asks for a line.
func (a *app) line(question string) (string, error) {
	a.err.Printf("%s ", question)
	return await(a.ctx, func() (string, error) {
		text, err := a.lines.ReadString('\n')
		if err != nil && text == "" {
			return "", err
		}
		return strings.TrimSpace(text), nil
	})
}

// unseen asks for something that is not shown while it is typed.
func (a *app) unseen(question string) (string, error) {
	a.err.Printf("%s: ", question)
	b, err := await(a.ctx, func() ([]byte, error) { return term.ReadPassword(int(os.Stdin.Fd())) })
	a.err.Printf("\n")
	return string(b), err
}

// agree asks whether to carry on. Without a terminal it takes --yes.
func (a *app) agree(yes bool, question string) error {
	if yes {
		return nil
	}
	refused := &problem.Problem{What: "nothing was done", Why: "it was not agreed to", Fix: "answer y, or give --yes",
		Exit: problem.ExitRefused}
	if !terminal() {
		refused.Why = "there is nobody here to ask"
		return refused
	}
	text, err := a.line(question + " [y/N]")
	switch {
	case errors.Is(err, errInterrupted):
		return err
	case err != nil:
		return refused
	}
	if s := strings.ToLower(text); s != "y" && s != "yes" {
		return refused
	}
	return nil
}

// interrupted says that a command was ended by Ctrl-C, and what came of it: what says what was
// done by then; nothing where it is empty.
func (a *app) interrupted(err error) {
	done := a.did
	if done == "" {
		done = "nothing was done"
	}
	switch {
	case errors.Is(err, errInterrupted):
		a.err.Printf("\n") // after the question
	case a.did != "":
		a.complain(err) // it says where it stopped
	}
	a.err.Printf("Interrupted; %s.\n", done)
}

// begun notes that something is being done, so that an interruption says what came of it.
func (a *app) begun() {
	a.did = "what was begun is noted in the ledger, and the same command continues it"
}
