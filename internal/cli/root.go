// Package cli is the command tree. A command reads its flags, calls what does
// the work, and shows the outcome; it computes nothing itself. A file holds one
// group of commands.
package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"os/user"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// app is what the commands share.
type app struct {
	version   string
	household string // path of the household file
	json      bool
	out, err  show.Out
	in        io.Reader
	lines     *bufio.Reader   // of in, for questions
	ctx       context.Context // of this run: it ends with Ctrl-C
	did       string          // what is said to be done where the command is interrupted
	files     atomic.Int64    // that were looked at, for whoever waits
	saidOwner bool            // it was said whose the household file is
	own       *pack.Image     // this program, once it was read
	ownIs     os.FileInfo     // the file that it was read from
	locked    *os.File        // the household file, while this command alone may change things
}

// Run runs the program with its arguments and gives its exit code.
func Run(ctx context.Context, version string, args []string) int {
	code, parent, done := apart(args)
	if done {
		return code
	}
	return tell(parent, run(ctx, version, args))
}

func run(ctx context.Context, version string, args []string) int {
	a := &app{version: version, out: show.To(os.Stdout), err: show.To(os.Stderr), in: os.Stdin, ctx: ctx}
	a.lines = bufio.NewReader(a.in)
	// Whoever reads what we print may go; what is being done is done to its end all the same, and
	// nothing is left behind.
	gone := make(chan os.Signal, 1)
	signal.Notify(gone, syscall.SIGPIPE)
	root := a.root()
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if a.locked != nil {
		a.locked.Close() // also where this process cannot end at once
	}
	if err == nil {
		return problem.ExitDone
	}
	if ctx.Err() != nil || errors.Is(err, errInterrupted) {
		a.interrupted(err)
		return exitInterrupted
	}
	var quiet *exit
	switch {
	case errors.As(err, &quiet):
		return quiet.code
	case errors.Is(err, syscall.EPIPE):
		return exitUnread
	}
	a.complain(err)
	return problem.Code(err)
}

// exit ends with a code when all has been said.
type exit struct{ code int }

func (e *exit) Error() string { return fmt.Sprintf("exit code %d", e.code) }

// complain shows an error; several faults of a household file one by one.
func (a *app) complain(err error) {
	list := []*problem.Problem{problem.ForHost(err)}
	var faults household.Faults
	if errors.As(err, &faults) {
		list = faults
	}
	for i, p := range list {
		if a.json {
			_ = json.NewEncoder(os.Stderr).Encode(p) // there is nobody left to tell
			continue
		}
		if i > 0 {
			a.err.Printf("\n")
		}
		text := p.Text()
		if rest, ok := strings.CutPrefix(text, "problem:"); ok {
			text = show.Bold("problem:") + rest
		}
		a.err.Printf("%s\n", text)
	}
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "cozyshelf",
		Short: "A household's own media server: deployed, proven, looked after",
		Long: `Cozy Shelf turns one file that describes a household into a running, private
media server in a container, and keeps it right.

The first evening:
  cozyshelf new                           write household.toml
  cozyshelf check                         will it work on this machine?
  cozyshelf deploy                        make it so
  cozyshelf member add NAME --role admin  let the first person in`,
		Version: a.version, SilenceErrors: true, SilenceUsage: true,
	}
	root.SetVersionTemplate("cozyshelf {{.Version}}\n")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return flagFault(c, err)
	})
	file := os.Getenv("COZYSHELF_HOUSEHOLD")
	if _, err := os.Stat("household.toml"); err == nil || file == "" {
		file = "household.toml"
	}
	root.PersistentFlags().StringVar(&a.household, "household", file, "the household file")
	root.AddGroup(
		&cobra.Group{ID: "begin", Title: "Begin:"}, &cobra.Group{ID: "life", Title: "The deployment:"},
		&cobra.Group{ID: "home", Title: "The household:"}, &cobra.Group{ID: "inside", Title: "Inside:"},
	)
	add := func(group string, list ...*cobra.Command) {
		for _, c := range list {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("begin", a.demoCommand(), a.newCommand(), a.checkCommand(), a.accessCommand(), a.deployCommand())
	add("life", a.statusCommand(), a.logsCommand(), a.startCommand(), a.stopCommand(), a.restartCommand(),
		a.retireCommand(), a.upgradeCommand(), a.rollbackCommand(), a.backupCommand(), a.restoreCommand(),
		a.ledgerCommand(), a.undoCommand())
	add("home", a.shelfCommand(), a.tidyCommand(), a.intakeCommand(), a.memberCommand(), a.keyCommand(),
		a.noticeCommand(), a.usageCommand(),
		a.prepareCommand(), a.capacityCommand(), a.remoteCommand())
	add("inside", a.serveCommand(), a.schemaCommand())
	root.AddCommand(a.superviseCommand(), a.healthcheckCommand(), a.relayCommand(), a.probeCommand(), a.lookCommand(),
		a.storeWorkCommand(), a.manCommand())
	root.SetHelpCommandGroupID("inside")
	root.SetCompletionCommandGroupID("inside")
	root.InitDefaultCompletionCmd()
	if err := a.completions(root); err != nil {
		panic(err) // a name in its table is wrong; a test finds it
	}
	strict(root)
	return root
}

// strict makes wrong use of a command, and of those below it, an error of ours.
func strict(c *cobra.Command) {
	if args := c.Args; args != nil {
		c.Args = func(c *cobra.Command, list []string) error {
			if err := args(c, list); err != nil {
				return wrongUse(c, wanted(c, list))
			}
			return nil
		}
	}
	if before := c.PreRunE; c.RunE != nil {
		c.PreRunE = func(c *cobra.Command, list []string) error {
			var missing []string
			c.Flags().VisitAll(func(f *pflag.Flag) {
				if must := f.Annotations[cobra.BashCompOneRequiredFlag]; len(must) > 0 && must[0] == "true" &&
					!f.Changed {
					what, _ := pflag.UnquoteUsage(f)
					if what == "string" {
						what = strings.ToUpper(f.Name)
					}
					missing = append(missing, "--"+f.Name+" "+what)
				}
			})
			if len(missing) > 0 {
				return wrongUse(c, "give "+strings.Join(missing, " and "))
			}
			if err := c.ValidateFlagGroups(); err != nil {
				return wrongUse(c, err.Error())
			}
			if before != nil {
				return before(c, list)
			}
			return nil
		}
	}
	if c.HasSubCommands() && c.RunE == nil {
		c.RunE = func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				why := fmt.Sprintf("there is no command %q", c.CommandPath()+" "+args[0])
				c.SuggestionsMinimumDistance = 2
				if near := c.SuggestionsFor(args[0]); len(near) > 0 {
					why += "; did you mean " + strings.Join(near, " or ") + "?"
				}
				return wrongUse(c, why)
			}
			return c.Help()
		}
		c.Args = cobra.ArbitraryArgs
	}
	for _, s := range c.Commands() {
		strict(s)
	}
}

// wanted says which arguments a command takes, to somebody who gave others.
func wanted(c *cobra.Command, list []string) string {
	_, names, _ := strings.Cut(c.Use, " ")
	switch {
	case names == "":
		return fmt.Sprintf("it takes no arguments, and %q is one", list[0])
	case len(list) == 0:
		return "give " + names
	}
	return fmt.Sprintf("give %s, and nothing else; there is %q", names, strings.Join(list, " "))
}

func wrongUse(c *cobra.Command, why string) error {
	return &problem.Problem{What: "the command cannot be understood", Where: c.CommandPath(), Why: why, Fix: "see " +
		c.CommandPath() + " --help", Exit: problem.ExitUsage}
}

// withJSON gives a command the --json flag.
func (a *app) withJSON(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&a.json, "json", false, "write one JSON document")
	return c
}

// say prints a text, unless a document is written in its place.
func (a *app) say(format string, args ...any) {
	if !a.json {
		a.out.Printf(format, args...)
	}
}

// document writes a JSON document.
func (a *app) document(v any) error {
	e := json.NewEncoder(os.Stdout)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// load reads the household file. Commands obey it with the powers of whoever runs them,
// so it must be one that only its owner could have written, and not the server's account.
func (a *app) load() (*household.Household, error) {
	h, _, err := a.read()
	return h, err
}

// read also gives the file's text.
func (a *app) read() (*household.Household, []byte, error) {
	b, owner, err := a.readHousehold()
	if err != nil {
		return nil, nil, err
	}
	h, err := household.Decode(a.household, b)
	if err != nil {
		return nil, nil, err
	}
	account := machine.Account(h.Server)
	if account.Known && owner != 0 && owner == int(account.UID) && owner != os.Geteuid() {
		return nil, nil, &problem.Problem{What: "the household file belongs to the server's account",
			Where: a.household, Why: fmt.Sprintf("it belongs to uid %d, which the server runs as: whoever took the "+
				"server over could have %s do what it says", owner, who()), Fix: "chown root: " + a.household +
				", and look whether it says what you want"}
	}
	if owner != os.Geteuid() && !a.saidOwner {
		a.saidOwner = true
		a.err.Printf("%s belongs to %s; what it says is done as %s\n", show.Clean(a.household), accountName(owner),
			who())
	}
	return h, b, nil
}

// readHousehold reads the text of the household file, and tells whose it is.
func (a *app) readHousehold() ([]byte, int, error) {
	f, owner, err := boundary.Config(a.household)
	p := &problem.Problem{What: "the household file cannot be read", Where: a.household, Err: err}
	switch {
	case errors.Is(err, os.ErrNotExist):
		p.What, p.Why, p.Fix, p.Exit = "there is no household file",
			"every command needs to know which household it is about",
			"write one with cozyshelf new, or name another with --household", problem.ExitUsage
		return nil, owner, p
	case errors.Is(err, boundary.ErrOpen), errors.Is(err, boundary.ErrLink):
		at := a.household
		var pe *os.PathError
		if errors.As(err, &pe) {
			at = pe.Path
		}
		p.What, p.Where = "the household file is not yours alone", at
		p.Why = "others may write to it, or put another in its place: they could have " + who() + " do what they want"
		p.Fix = fmt.Sprintf("chown %s: %s; chmod go-w %s; or move the household file to a folder of your own",
			accountName(os.Geteuid()), at, at)
		return nil, owner, p
	case err != nil:
		p.Why, p.Fix = err.Error(), "check that it is a file and that you may read it"
		return nil, owner, p
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, mostHousehold))
	if err != nil {
		p.Why, p.Fix, p.Err = err.Error(), "check that it is a file and that you may read it", err
		return nil, owner, p
	}
	return b, owner, nil
}

// mostHousehold is how much of a household file is read, in bytes.
const mostHousehold = 4 << 20

// accountName is what an account is called here.
func accountName(uid int) string {
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		return u.Username
	}
	return fmt.Sprint("uid ", uid)
}

// householdText reads the text of the household file.
func (a *app) householdText() ([]byte, error) {
	b, _, err := a.readHousehold()
	return b, err
}
