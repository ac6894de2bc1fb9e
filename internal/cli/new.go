package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"

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
				return &problem.Problem{What: "a household file is there already", Where: a.household,
					Why: "it is never overwritten", Fix: "edit it, move it away, or name another with --household",
					Exit: problem.ExitUsage}
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
			q := &questions{a: a, c: c, h: &h, ask: terminal()}
			if err := q.all(); err != nil {
				return err
			}
			if err := faultyFlags(c, &h); err != nil {
				return err
			}
			text := household.Compose(h)
			if err := q.write(text); err != nil {
				return err
			}
			a.out.Printf("Wrote %s\n", a.household)
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
		return household.Shelf{}, fmt.Errorf("%q is no shelf; write NAME=KIND:FOLDER, such as "+
			"films=films:/srv/media/films", s)
	}
	sh := household.Shelf{Name: name, Kind: household.Kind(kind), Access: household.Read}
	if f, change := strings.CutSuffix(folder, ":change"); change {
		folder, sh.Access = f, household.Change
	}
	sh.Folders = []string{folder}
	return sh, nil
}

// faultyFlags refuses what flags gave and the household file cannot hold.
func faultyFlags(c *cobra.Command, h *household.Household) error {
	flags := map[string]string{"household.name": "name", "household.timezone": "timezone",
		"household.language": "language",
		"server.engine":      "engine", "server.run_as": "run-as", "server.port": "port", "server.bind": "bind",
		"server.network": "network", "server.memory": "memory", "storage.state": "state", "storage.scratch": "scratch",
		"storage.scratch_limit": "scratch-limit"}
	list := h.Complaints()
	if len(list) == 0 {
		return nil
	}
	f := list[0]
	flag := flags[f.Key]
	if strings.HasPrefix(f.Key, "shelf") {
		flag = "shelf"
	}
	return &problem.Problem{What: "the household cannot be written down", Where: "--" + flag, Why: f.Why, Fix: f.Fix,
		Exit: problem.ExitUsage}
}

// questions asks for what no flag gave.
type questions struct {
	a   *app
	c   *cobra.Command
	h   *household.Household
	ask bool
}

// want fills a value in: kept if a flag gave it, asked for on a terminal, else as proposed. An
// answer with which the key is at fault, or of which also says why it cannot be, is asked for
// again.
func (q *questions) want(to *string, flag, key, question, proposal string, also func(string) string) error {
	if q.c.Flags().Changed(flag) {
		return nil
	}
	*to = proposal
	for q.ask {
		asked := question
		if proposal != "" {
			asked += " [" + proposal + "]"
		}
		text, err := q.line(asked)
		if err != nil {
			return err
		}
		if *to = proposal; text != "" {
			*to = text
		}
		if f, bad := q.h.Fault(key); bad {
			q.a.err.Printf("  %s: %s\n", show.Clean(f.Why), show.Clean(f.Fix))
			continue
		}
		if also != nil {
			if why := also(*to); why != "" {
				q.a.err.Printf("  %s\n", show.Clean(why))
				continue
			}
		}
		return nil
	}
	return nil
}

// line asks for a line.
func (q *questions) line(question string) (string, error) {
	text, err := q.a.line(question + ":")
	if err != nil && !errors.Is(err, errInterrupted) {
		return "", &problem.Problem{What: "nothing was written", Why: "the questions were not answered to the end",
			Fix: "begin again, or give the answers as flags", Exit: problem.ExitRefused, Err: err}
	}
	return text, err
}

// all asks everything.
func (q *questions) all() error {
	h, base := q.h, "/srv"
	if os.Getuid() != 0 {
		if home, err := os.UserHomeDir(); err == nil {
			base = home
		}
	}
	zone := machine.Timezone()
	if zone == "" {
		zone = "UTC"
	}
	if err := q.want(&h.Household.Name, "name", "household.name", "What is the household called?", householdName(),
		nil); err != nil {
		return err
	}
	if err := q.want(&h.Household.Timezone, "timezone", "household.timezone", "Time zone?", zone, nil); err != nil {
		return err
	}
	if h.Server.Engine == "" {
		h.Server.Engine = "auto"
	}
	if f, err := choose(q.c.Context(), h); err == nil {
		q.a.err.Printf("%s\n", show1("engine", f.Kind+": "+f.Why))
	}
	if err := q.want(&h.Storage.State, "state", "storage.state", "Where may the server keep its own things?",
		filepath.Join(base, "cozyshelf", "state"), notFolder); err != nil {
		return err
	}
	if err := q.shelves(); err != nil {
		return err
	}
	if err := q.want(&h.Server.RunAs, "run-as", "server.run_as", "Which account shall the server run as?", fitting(),
		nil); err != nil {
		return err
	}
	return q.port()
}

// shelves asks for shelves until there are no more.
func (q *questions) shelves() error {
	h := q.h
	if !q.ask || len(h.Shelves) > 0 {
		return nil
	}
	q.a.err.Printf("Shelves, one a line, as NAME=KIND:FOLDER, such as films=films:/srv/media/films; an empty line " +
		"ends.\n")
	for {
		text, err := q.line("Shelf?")
		if err != nil || text == "" {
			return err
		}
		shelf, err := parseShelf(text)
		if err != nil {
			q.a.err.Printf("  %s\n", err)
			continue
		}
		had := h.Shelves
		h.Shelves = append(slices.Clone(had), shelf)
		why := ""
		if f, bad := h.Fault(fmt.Sprintf("shelf[%d]", len(had))); bad {
			why = f.Why + ": " + f.Fix
		} else if !household.IsShare(shelf.Folders[0]) {
			why = notFolder(shelf.Folders[0])
		}
		if why != "" {
			q.a.err.Printf("  %s\n", show.Clean(why))
			h.Shelves = had
		}
	}
}

// port asks for the port, and proposes a free one.
func (q *questions) port() error {
	h := q.h
	if q.c.Flags().Changed("port") {
		return nil
	}
	h.Server.Port = machine.NextPort(netip.IPv6Unspecified(), household.DefaultPort)
	if h.Server.Port == 0 {
		h.Server.Port = household.DefaultPort
	}
	if h.Server.Port != household.DefaultPort {
		q.a.err.Printf("%s\n", show1("port",
			fmt.Sprintf("%d is taken, so %d is proposed", household.DefaultPort, h.Server.Port)))
	}
	var text string
	return q.want(&text, "port", "server.port", "On which port?", fmt.Sprint(h.Server.Port), func(s string) string {
		n, err := strconv.Atoi(s)
		if err != nil || n < 1 || n > 65535 {
			return fmt.Sprintf("%q is no port: choose a number from 1 to 65535; 26990 is ours", s)
		}
		if p := machine.Port(netip.IPv6Unspecified(), n); !p.Free {
			return fmt.Sprintf("port %d cannot be used now: %s", n, cmp.Or(p.Holder, p.Error, "another program has it"))
		}
		h.Server.Port = n
		return ""
	})
}

// notFolder says that something is there which is no folder, or nothing.
func notFolder(path string) string {
	if st, err := os.Stat(path); err == nil && !st.IsDir() {
		return path + " is a file, not a folder: name a folder"
	}
	return ""
}

// write writes the household file. Where that cannot be done another place is asked for: the
// answers are not lost.
func (q *questions) write(text []byte) error {
	for {
		err := atomicfile.Create(q.a.household, text, 0o644, nil)
		if err == nil {
			return nil
		}
		p := &problem.Problem{What: "the household file cannot be written", Where: q.a.household, Why: err.Error(),
			Fix: "choose a place where you may write, with --household", Err: err}
		if !q.ask {
			return p
		}
		q.a.complain(p)
		other, err := q.line("Another place for it (a file)?")
		if err != nil || other == "" {
			return errors.Join(err, p)
		}
		q.a.household = other
	}
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
	a.out.Printf("Or let cozyshelf check --mend do that\n")
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
