package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

// completeWithin is how long a shell may be kept waiting for what could come next.
const completeWithin = 2 * time.Second

// source gives what could stand at a place of a command line, each with a tab and a word about
// it where that helps. It says nothing where nothing is known.
type source func(ctx context.Context, typed string) []string

// complete makes a function for the shell of a source.
func (a *app) complete(s source) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		ctx, cancel := context.WithTimeout(c.Context(), completeWithin)
		defer cancel()
		var out []string
		for _, w := range s(ctx, typed) {
			word, _, _ := strings.Cut(w, "\t")
			if strings.HasPrefix(word, typed) && !slices.Contains(args, word) {
				out = append(out, w)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

// words are fixed words.
func words(list ...string) source { return func(context.Context, string) []string { return list } }

// both are two sources, one after the other.
func both(a, b source) source {
	return func(ctx context.Context, typed string) []string { return append(a(ctx, typed), b(ctx, typed)...) }
}

// quietly reads the household file, and says nothing where that cannot be done.
func (a *app) quietly() *household.Household {
	b, err := os.ReadFile(a.household)
	if err != nil {
		return nil
	}
	h, err := household.Decode(a.household, b)
	if err != nil {
		return nil
	}
	return h
}

func (a *app) shelfNames(context.Context, string) []string {
	var out []string
	if h := a.quietly(); h != nil {
		for _, s := range h.Shelves {
			out = append(out, s.Name+"\t"+string(s.Kind))
		}
	}
	return out
}

func (a *app) memberNames(ctx context.Context, _ string) []string {
	cl, err := a.server(ctx)
	if err != nil {
		return nil
	}
	list, err := cl.Members(ctx)
	if err != nil {
		return nil
	}
	var out []string
	for _, m := range list {
		out = append(out, m.Name+"\t"+string(m.Role))
	}
	return out
}

func (a *app) titleIDs(ctx context.Context, typed string) []string {
	cl, err := a.server(ctx)
	if err != nil || typed == "" {
		return nil
	}
	hits, err := cl.Search(ctx, typed, 20)
	if err != nil {
		return nil
	}
	var out []string
	for _, h := range hits {
		if name := strings.ReplaceAll(h.Title.Name, "\t", " "); !slices.ContainsFunc(out,
			func(o string) bool { return strings.HasPrefix(o, name+"\t") }) {
			out = append(out, name+"\t"+h.Title.Shelf)
		}
	}
	return out
}

// entryNumbers are the entries of the ledger that can be taken back, the latest first.
func (a *app) entryNumbers(context.Context, string) []string {
	h := a.quietly()
	if h == nil {
		return nil
	}
	list, _, err := ledger.Read(h.Storage.State)
	if err != nil {
		return nil
	}
	var out []string
	for _, e := range slices.Backward(list) {
		if e.Undo != nil && e.UndoneBy == 0 && len(out) < 50 {
			out = append(out, fmt.Sprintf("%d\t%s", e.ID, strings.ReplaceAll(e.What, "\t", " ")))
		}
	}
	return out
}

func (a *app) jobNames(context.Context, string) []string {
	h := a.quietly()
	if h == nil {
		return nil
	}
	list, err := a.jobs(h)
	if err != nil {
		return nil
	}
	var out []string
	for _, j := range list {
		out = append(out, j.ID+"\t"+j.Folder)
	}
	return out
}

// remedyNames are the kinds of remedies.
func remedyNames(context.Context, string) []string {
	var out []string
	for _, k := range permit.Kinds {
		out = append(out, string(k))
	}
	return out
}

// completions teaches the shell what stands where. A name of a command or a flag that is not
// there is a fault of the program, found by a test.
func (a *app) completions(root *cobra.Command) error {
	var roles, kinds []string
	for _, r := range allowance.Roles {
		roles = append(roles, string(r))
	}
	for _, k := range household.Kinds {
		kinds = append(kinds, string(k))
	}
	engines := words("auto", "docker", "podman", "process")
	arguments := map[string]source{
		"access": both(a.shelfNames, remedyNames), "undo": a.entryNumbers, "tidy": a.shelfNames,
		"shelf show": a.shelfNames, "shelf remove": a.shelfNames, "shelf scan": a.shelfNames, "shelf match": a.titleIDs,
		"member edit": a.memberNames, "member remove": a.memberNames, "member password": a.memberNames,
		"member show": a.memberNames, "member devices": a.memberNames,
		"intake clear": a.jobNames, "usage top": words(usage.Tops...),
		"remote proxy": words("nginx", "caddy", "haproxy", "apache"),
	}
	for path, s := range arguments {
		c, _, err := root.Find(strings.Fields(path))
		if err != nil {
			return err
		}
		c.ValidArgsFunction = a.complete(s)
	}
	chosen := map[string]source{"member": a.memberNames, "shelf": a.shelfNames, "delivery": words(usage.Deliveries...),
		"where": words("home", "away"), "finished": words("yes", "no")}
	charted := maps.Clone(chosen)
	charted["by"], charted["of"] = words("day", "week", "month", "hour", "weekday", "heat"),
		words("watched", "plays", "streams",
			"bytes")
	charted["split"] = words("member", "shelf", "device", "delivery")
	flags := map[string]map[string]source{
		"member add":    {"role": words(roles...), "away": words("yes", "no")},
		"member edit":   {"role": words(roles...), "away": words("yes", "no")},
		"member invite": {"role": words(roles...), "away": words("yes", "no")},
		"shelf add":     {"kind": words(kinds...), "access": words("read", "change")},
		"new": {"engine": engines, "bind": words("lan", "localhost"), "network": words("own", "host"),
			"scratch": words("memory")},
		"demo": {"engine": engines}, "logs": {"level": words("debug", "info", "warn", "error")},
		"usage history": chosen, "usage export": chosen, "usage chart": charted,
		"backup":      {"every": words("day", "week", "12h", "never")},
		"intake copy": {"onto": a.shelfNames}, "intake fetch": {"onto": a.shelfNames},
	}
	for path, list := range flags {
		c, _, err := root.Find(strings.Fields(path))
		if err != nil {
			return err
		}
		for flag, s := range list {
			if err := c.RegisterFlagCompletionFunc(flag, a.complete(s)); err != nil {
				return fmt.Errorf("%s --%s: %w", path, flag, err)
			}
		}
	}
	return nil
}

// manCommand writes the manual pages. It is for whoever packs the program.
func (a *app) manCommand() *cobra.Command {
	return &cobra.Command{
		Use: "man FOLDER", Short: "Write the manual pages into a folder", Args: cobra.ExactArgs(1), Hidden: true,
		RunE: func(c *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			// The date is the program's, not that of the day: the same program always gives the
			// same pages.
			date := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
			err := doc.GenManTree(c.Root(), &doc.GenManHeader{Section: "1", Source: "Cozy Shelf " + a.version,
				Manual: "Cozy Shelf", Date: &date}, args[0])
			if err != nil {
				return &problem.Problem{What: "the manual pages could not be written", Where: args[0], Why: err.Error(),
					Fix: "name a folder that you may write to", Err: err}
			}
			return nil
		},
	}
}
