package cli

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/notice"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/notify"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

func (a *app) noticeCommand() *cobra.Command {
	c := &cobra.Command{Use: "notice", Short: "Who is told of what happens, and whether it works"}
	c.AddCommand(a.noticeListCommand(), a.noticeTestCommand(), a.noticeRunCommand())
	return c
}

// noticeTest is the document of notice test.
type noticeTest struct {
	Receiver string  `json:"receiver"`
	Seconds  float64 `json:"seconds"` // it took
}

func (a *app) noticeListCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "list", Short: "The receivers of notices, and how it goes with each", Args: cobra.NoArgs,
		Long: `Shows the receivers that [[notice]] in the household file names: what waits for each, what it took, and why it
takes nothing where that is so.`,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			list, err := cl.Receivers(c.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.document(list)
			}
			a.showReceivers(list)
			return nil
		},
	})
}

// showReceivers shows how it goes with receivers of notices.
func (a *app) showReceivers(list []control.Receiver) {
	if len(list) == 0 {
		a.out.Printf("Nobody is told of anything: the household file has no [[notice]], or it is not deployed yet\n")
		return
	}
	var rows [][]string
	for _, r := range list {
		last := "never"
		if !r.Sent.IsZero() {
			last = show.When(r.Sent)
		}
		of := "the usual"
		if len(r.Events) > 0 {
			of = strings.Join(r.Events, ", ")
		}
		rows = append(rows, []string{show.Clean(r.Name), r.To, of, fmt.Sprint(r.Waiting), fmt.Sprint(r.Took),
			fmt.Sprint(r.Lost), last, receiverState(r)})
	}
	a.out.Table([]show.Column{{Head: "receiver", Whole: true}, {Head: "by", Whole: true}, {Head: "told of", Most: 40,
		Drop: 1},
		{Head: "waiting", Right: true}, {Head: "taken", Right: true, Drop: 3}, {Head: "given up", Right: true, Drop: 2},
		{Head: "last", Whole: true}, {Head: "state", Whole: true}}, rows)
	for _, r := range list {
		if r.Problem != "" {
			a.out.Printf("%s: %s\n", show.Clean(r.Name), show.Clean(r.Problem))
		}
	}
}

// receiverState says in a word or two how it goes with a receiver.
func receiverState(r control.Receiver) string {
	switch {
	case r.Gone:
		return "wants no more"
	case r.Failures > 0 && !r.Next.IsZero():
		return "tried again " + show.When(r.Next)
	case r.Failures > 0:
		return "does not take them"
	case r.To == household.ToProgram && r.Waiting > 0:
		return "waits for notice run"
	}
	return "good"
}

func (a *app) noticeTestCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "test RECEIVER", Short: "Send a test notice now", Args: cobra.ExactArgs(1),
		Long: `Has the server send a test notice at once, past what waits for the receiver and whatever the hour, and says what
came of it. A receiver that did not work before, or that wanted no more, is tried again from then on. The program of a
receiver on the host is run by this command itself.`,
		RunE: func(c *cobra.Command, args []string) error {
			h, err := a.open(c.Context())
			if err != nil {
				return err
			}
			i := slices.IndexFunc(h.Household.Notices, func(n household.Notice) bool { return n.Name == args[0] })
			if i < 0 {
				return &problem.Problem{What: fmt.Sprintf("there is no receiver of notices %s", args[0]), Where: a.household,
					Why: "the household file has no [[notice]] of that name", Fix: "write one, or see cozyshelf notice list",
					Exit: problem.ExitUsage}
			}
			began := time.Now()
			if n := h.Household.Notices[i]; n.To == household.ToProgram {
				t := notice.Test(h.Household.Household.Name, began)
				t.ID = rand.Text()
				source := cmp.Or(strings.TrimSuffix(h.Household.Remote.Address, "/"), "urn:cozyshelf:"+h.ID)
				text, err := json.Marshal(notify.Event(source, t))
				if err == nil {
					err = tellProgram(c.Context(), n.Program, text)
				}
				if err != nil {
					return programFault(n, err)
				}
			} else if err := a.tryReceiver(c.Context(), args[0]); err != nil {
				return err
			}
			took := time.Since(began)
			if a.json {
				return a.document(noticeTest{Receiver: args[0], Seconds: took.Seconds()})
			}
			a.out.Printf("%s took the test notice, after %s\n", args[0], show.Took(took))
			return nil
		},
	})
}

// tryReceiver has the server send a test notice.
func (a *app) tryReceiver(ctx context.Context, name string) error {
	cl, err := a.server(ctx)
	if err != nil {
		return err
	}
	return cl.TryReceiver(ctx, name)
}

// programFault says that a program did not take notices.
func programFault(n household.Notice, err error) error {
	return &problem.Problem{What: "the program of the receiver " + n.Name + " did not take the notice", Where: n.Program,
		Why: err.Error(), Fix: "mend it, and try again", Err: err}
}

// How a program on the host is told.
const (
	programPatience = time.Minute
	runPause        = 3 * time.Second
	mostProgramSays = 4 << 10
	mostMessage     = 4 << 20 // bytes; the server is not believed
)

func (a *app) noticeRunCommand() *cobra.Command {
	var once bool
	c := &cobra.Command{
		Use: "run RECEIVER", Short: "Tell a program on this machine what waits for it", Args: cobra.ExactArgs(1),
		Long: `Runs the program of a receiver once for each notice, or for those that were gathered, in their order. The
notice comes on its standard input, as one event in the JSON of CloudEvents 1.0 or a list of them; nothing of it
is in the arguments or the environment. A program that ends with another status than 0, or takes longer than a
minute, is told again later. Goes on until you press Ctrl-C, such as from a service of systemd; --once ends when
nothing waits any more.`,
		RunE: func(c *cobra.Command, args []string) error {
			h, err := a.open(c.Context())
			if err != nil {
				return err
			}
			i := slices.IndexFunc(h.Household.Notices, func(n household.Notice) bool {
				return n.Name == args[0] && n.To == household.ToProgram
			})
			if i < 0 {
				return &problem.Problem{What: fmt.Sprintf("there is no program that is told as %s", args[0]), Where: a.household,
					Why: "the household file has no [[notice]] of that name with to = \"program\"",
					Fix: "write one, run cozyshelf deploy, and try again", Exit: problem.ExitUsage}
			}
			return a.runProgram(c.Context(), h.Household.Notices[i], once)
		},
	}
	c.Flags().BoolVar(&once, "once", false, "end when nothing waits any more")
	return c
}

// runProgram tells a program what waits for it.
func (a *app) runProgram(ctx context.Context, n household.Notice, once bool) error {
	for told := 0; ; told++ {
		if once && told > notice.MostWaiting { // more cannot have waited, whatever the server says
			return &problem.Problem{What: "the server has more notices than can wait", Where: n.Name,
				Why: fmt.Sprintf("%d were told", told), Fix: "see cozyshelf status, and run it again"}
		}
		more, err := a.tellWaiting(ctx, n)
		switch {
		case ctx.Err() != nil && !once:
			return nil // Ctrl-C
		case err != nil && once:
			return err
		case err != nil:
			a.out.Printf("%v\n", err) // the server may be restarting
		case !more && once:
			return nil
		}
		if more && err == nil {
			continue
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(runPause):
		}
	}
}

// tellWaiting tells a program what waits for it first, and whether anything did.
func (a *app) tellWaiting(ctx context.Context, n household.Notice) (told bool, err error) {
	cl, err := a.server(ctx)
	if err != nil {
		return false, err
	}
	p, err := cl.Pending(ctx, n.Name)
	if err != nil || len(p.IDs) == 0 {
		return false, err
	}
	if len(p.IDs) > notice.MostAtOnce || len(p.Message) > mostMessage {
		return false, &problem.Problem{What: "the server tells more at once than it may", Where: n.Name,
			Why: fmt.Sprintf("%d notices, %d bytes", len(p.IDs), len(p.Message)), Fix: "see cozyshelf status and logs"}
	}
	in := control.Told{IDs: p.IDs}
	failed := tellProgram(ctx, n.Program, p.Message)
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	if failed != nil {
		in.Problem = failed.Error()
	}
	if err := cl.Told(ctx, n.Name, in); err != nil {
		return false, err
	}
	if failed != nil {
		return false, programFault(n, failed)
	}
	return true, nil
}

// firstWords keeps the beginning of what a program says.
type firstWords struct{ b bytes.Buffer }

func (w *firstWords) Write(p []byte) (int, error) {
	w.b.Write(p[:min(len(p), mostProgramSays-w.b.Len())])
	return len(p), nil
}

// tellProgram runs a program with a message on its standard input. What the message says comes from the server,
// whose account is not believed: it is neither an argument nor in the environment, and the program must be one that
// nobody but root and the caller could have put there.
func tellProgram(ctx context.Context, program string, message []byte) error {
	if err := machine.Runnable(program); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, programPatience)
	defer cancel()
	c := exec.CommandContext(ctx, program)
	c.Dir, c.Env = "/", []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C.UTF-8"}
	c.Stdin = bytes.NewReader(append(message, '\n'))
	says := &firstWords{}
	c.Stdout, c.Stderr = says, says
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.Cancel = func() error { return syscall.Kill(-c.Process.Pid, syscall.SIGKILL) }
	c.WaitDelay = time.Second
	err := c.Run()
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return fmt.Errorf("it did not end within %s", programPatience)
	case err != nil && says.b.Len() > 0:
		return fmt.Errorf("%w: %s", err, show.Clean(strings.TrimSpace(says.b.String())))
	}
	return err
}
