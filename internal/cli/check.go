package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/verdict"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

func (a *app) checkCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "check", Short: "Will this household work on this machine?",
		Long: `Looks at the household file, the engine, the machine, the run-as account and the
folders, and says of each: ok, warning, or blocked, and what to do about it.
Changes nothing. Exit code 3 when something is blocked.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			h, err := a.load()
			if err != nil {
				return err
			}
			e, ef, err := choose(c.Context(), h)
			if err != nil {
				return err
			}
			s := &site{h: h, engine: e, facts: ef, id: blueprint.ID(h.Storage.State)}
			f := machine.Gather(h, ef, func(port int, holder string) bool { return s.holds(c.Context(), port, holder) })
			lines := verdict.Judge(h, f)
			worst := verdict.Worst(lines)
			if a.json {
				if err := a.document(map[string]any{"verdict": worst, "lines": lines, "facts": f}); err != nil {
					return err
				}
			} else {
				a.showVerdict(lines, worst)
			}
			if worst == verdict.Blocked {
				return &exit{problem.ExitFound}
			}
			return nil
		},
	}
	return a.reads(c)
}

// holders are programs that listen for a server of ours: itself, or an engine's
// way into a container.
var holders = []string{"cozyshelf", "docker-proxy", "rootlessport", "conmon"}

// holds reports whether the household's own server holds a port. A server that
// is meant to run but cannot does not hold what another program has.
func (s *site) holds(ctx context.Context, port int, holder string) bool {
	if !s.facts.Answers {
		return false
	}
	o, err := s.engine.Observe(ctx, s.id)
	if err != nil {
		return false
	}
	seen, ok := o.Running()
	if !ok || seen.Container.Port != port {
		return false
	}
	name, _, _ := strings.Cut(holder, " ")
	return name == "" || slices.Contains(holders, name)
}

func (a *app) showVerdict(lines []verdict.Line, worst verdict.Status) {
	wide := 0
	for _, l := range lines {
		wide = max(wide, len(l.What))
	}
	indent := strings.Repeat(" ", 9+wide+2)
	say := func(first, text string, style func(string) string) {
		for i, line := range show.Lines(show.Clean(text), len(indent)) {
			if i > 0 {
				first = indent
			}
			a.out.Printf("%s%s\n", first, style(line))
		}
	}
	plain := func(s string) string { return s }
	for _, l := range lines {
		pad := strings.Repeat(" ", 9-len(l.Status))
		say(fmt.Sprintf("%s%s%-*s  ", show.Mark(string(l.Status)), pad, wide, l.What), l.Says, plain)
		for _, d := range l.Details {
			say(indent, "· "+d, show.Faint)
		}
		if l.Do != "" {
			say(indent, "→ "+l.Do, plain)
		}
	}
	a.out.Printf("\n%s\n", map[verdict.Status]string{
		verdict.OK:      "This household will work here.",
		verdict.Warning: "This household will work here; see the warnings.",
		verdict.Blocked: "This household will not work here yet; see what is blocked.",
	}[worst])
}
