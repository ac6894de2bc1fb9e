package cli

import (
	"bufio"
	"context"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/whole"

	"github.com/spf13/cobra"
)

func (a *app) newCommand() *cobra.Command {
	h := household.Household{Format: 1}
	var shelves []string
	var memory, limit string
	var mending, yes, schema bool
	c := &cobra.Command{
		Use: "new", Short: "Write a household file, with what was found on this machine",
		Long: `Writes a commented household.toml (or the file that --household names). What no
flag gives is asked on a terminal, with an answer proposed; elsewhere the
proposal is taken. A file that is there is never overwritten.`,
		Example: `  cozyshelf new
  cozyshelf new --name "Fernhollow Mill" --state /srv/cozyshelf/state \
    --shelf films=films:/srv/media/films --shelf series=series:/srv/media/series`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if schema {
				_, err := os.Stdout.Write(household.Schema())
				return err
			}
			if _, err := os.Lstat(a.household); err == nil {
				return &problem.Problem{What: "a household file is there already", Where: a.household, Why: "it is never overwritten", Fix: "edit it, move it away, or name another with --household", Exit: problem.ExitUsage}
			}
			for _, s := range []struct {
				text string
				to   *household.Size
			}{{memory, &h.Server.Memory}, {limit, &h.Storage.ScratchLimit}} {
				if s.text == "" {
					continue
				}
				if err := s.to.UnmarshalText([]byte(s.text)); err != nil {
					return wrongUse(c, err.Error())
				}
			}
			for _, s := range shelves {
				shelf, err := parseShelf(s)
				if err != nil {
					return wrongUse(c, err.Error())
				}
				h.Shelves = append(h.Shelves, shelf)
			}
			q := &questions{a: a, c: c, in: bufio.NewReader(a.in), ask: terminal()}
			if err := a.propose(q, &h); err != nil {
				return err
			}
			text := household.Compose(h)
			if _, err := household.Decode(a.household, text); err != nil {
				return err
			}
			if err := whole.Create(a.household, text, 0o644, nil); err != nil {
				return &problem.Problem{What: "the household file cannot be written", Where: a.household, Why: err.Error(), Fix: "choose a place where you may write, with --household", Err: err}
			}
			a.out.Printf("wrote %s\n", a.household)
			if err := a.offerAccount(text, mending, yes); err != nil {
				return err
			}
			a.out.Printf("\nnext:\n  edit it, then\n  cozyshelf check\n  cozyshelf deploy\n")
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&h.Household.Name, "name", "", "the household's name")
	f.StringVar(&h.Household.Timezone, "timezone", "", "IANA time zone (proposed: this machine's)")
	f.StringVar(&h.Household.Language, "language", "", "language, such as en")
	f.StringVar(&h.Server.Engine, "engine", "", "auto, docker, podman or process")
	f.StringVar(&h.Server.RunAs, "run-as", "", "account that the server runs as, or uid:gid")
	f.IntVar(&h.Server.Port, "port", 0, "port (proposed: the first free one from 26990)")
	f.StringVar(&h.Server.Bind, "bind", "", "lan, localhost, or an address")
	f.StringVar(&h.Server.Network, "network", "", "own, host, or a network of the engine")
	f.StringVar(&memory, "memory", "", "memory for the server, such as \"1 GiB\"")
	f.StringVar(&h.Storage.State, "state", "", "the server's own folder")
	f.StringVar(&h.Storage.Scratch, "scratch", "", "memory, or a folder")
	f.StringVar(&limit, "scratch-limit", "", "bound of scratch, such as \"256 MiB\"")
	f.BoolVar(&schema, "schema", false, "write the household file's JSON Schema, for editors, and nothing else")
	f.BoolVar(&mending, "mend", false, "make the run-as account, if there is none")
	f.BoolVar(&yes, "yes", false, "with --mend: do not ask")
	f.StringArrayVar(&shelves, "shelf", nil, "NAME=KIND:FOLDER[:change], may be given again")
	return c
}

// parseShelf reads "films=films:/srv/media/films", with ":change" at the end
// where the server may change what is in it.
func parseShelf(s string) (household.Shelf, error) {
	name, rest, ok := strings.Cut(s, "=")
	kind, folder, ok2 := strings.Cut(rest, ":")
	if !ok || !ok2 || folder == "" {
		return household.Shelf{}, fmt.Errorf("%q is no shelf; write NAME=KIND:FOLDER, such as films=films:/srv/media/films", s)
	}
	sh := household.Shelf{Name: name, Kind: household.Kind(kind), Access: household.Read}
	if f, change := strings.CutSuffix(folder, ":change"); change {
		folder, sh.Access = f, household.Change
	}
	sh.Folders = []string{folder}
	return sh, nil
}

// questions asks for what no flag gave.
type questions struct {
	a   *app
	c   *cobra.Command
	in  *bufio.Reader
	ask bool
}

// want fills a value in: kept if a flag gave it, asked for on a terminal, else
// as proposed.
func (q *questions) want(to *string, flag, question, proposal string) error {
	if q.c.Flags().Changed(flag) {
		return nil
	}
	*to = proposal
	if !q.ask {
		return nil
	}
	if proposal != "" {
		question += " [" + proposal + "]"
	}
	q.a.err.Printf("%s: ", question)
	line, err := q.in.ReadString('\n')
	if err != nil {
		return &problem.Problem{What: "nothing was written", Why: "the questions were not answered to the end", Fix: "begin again, or give the answers as flags", Exit: problem.ExitRefused, Err: err}
	}
	if line = strings.TrimSpace(line); line != "" {
		*to = line
	}
	return nil
}

func (a *app) propose(q *questions, h *household.Household) error {
	base := "/srv"
	if os.Getuid() != 0 {
		if home, err := os.UserHomeDir(); err == nil {
			base = home
		}
	}
	if err := q.want(&h.Household.Name, "name", "What is the household called?", householdName()); err != nil {
		return err
	}
	zone := machine.Timezone()
	if zone == "" {
		zone = "UTC"
	}
	if err := q.want(&h.Household.Timezone, "timezone", "Time zone?", zone); err != nil {
		return err
	}
	if h.Server.Engine == "" {
		h.Server.Engine = "auto"
	}
	if f, err := choose(q.c.Context(), h); err == nil {
		a.err.Printf("%s\n", show1("engine", f.Kind+": "+f.Why))
	}
	if err := q.want(&h.Storage.State, "state", "Where may the server keep its own things?", filepath.Join(base, "cozyshelf", "state")); err != nil {
		return err
	}
	if q.ask && len(h.Shelves) == 0 {
		a.err.Printf("Shelves, one a line, as NAME=KIND:FOLDER, such as films=films:/srv/media/films; an empty line ends.\n")
		for {
			var s string
			if err := q.want(&s, "", "Shelf?", ""); err != nil {
				return err
			}
			if s == "" {
				break
			}
			shelf, err := parseShelf(s)
			if err != nil {
				a.err.Printf("%s\n", err)
				continue
			}
			h.Shelves = append(h.Shelves, shelf)
		}
	}
	if err := q.want(&h.Server.RunAs, "run-as", "Which account shall the server run as?", fitting()); err != nil {
		return err
	}
	if !q.c.Flags().Changed("port") {
		h.Server.Port = machine.NextPort(netip.IPv6Unspecified(), household.DefaultPort)
		if h.Server.Port != household.DefaultPort {
			a.err.Printf("%s\n", show1("port", fmt.Sprintf("%d is taken, so %d", household.DefaultPort, h.Server.Port)))
		}
	}
	return nil
}

func show1(what, says string) string { return fmt.Sprintf("%-8s %s", what, says) }

func householdName() string {
	if host, err := os.Hostname(); err == nil && host != "" && host != "localhost" {
		return host
	}
	return "Our Home"
}

// offerAccount says how to make the run-as account, where there is none yet, or
// makes it.
func (a *app) offerAccount(text []byte, mending, yes bool) error {
	h, err := household.Decode(a.household, text)
	if err != nil {
		return err
	}
	if machine.Account(h.Server).Known || os.Getuid() != 0 {
		return nil
	}
	p := machine.Propose(h)
	if mending {
		engine, err := choose(context.Background(), h)
		if err != nil {
			return err
		}
		return a.makeAccount(h, engine, *p, yes)
	}
	a.out.Printf("\n%s is not an account of this machine yet; make it, with no login and no home:\n", p.Name)
	for _, c := range p.Commands {
		a.out.Printf("  %s\n", c)
	}
	a.out.Printf("or let cozyshelf check --mend do that\n")
	return nil
}

// fitting proposes a run-as account: for root one for the purpose, which may have
// to be made first; for others their own numbers, since they cannot be anybody
// else.
func fitting() string {
	if os.Getuid() != 0 {
		return fmt.Sprintf("%d:%d", os.Getuid(), os.Getgid())
	}
	return household.DefaultAccount
}
