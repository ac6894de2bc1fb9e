package cli

import (
	"encoding/json"
	"fmt"
	"os"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/operate"
	"cozyshelf/internal/probe"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

func (a *app) probeCommand() *cobra.Command {
	var spec string
	c := &cobra.Command{
		Use: "probe --spec JSON", Short: "Try what the server would do on its shelves (the tool uses it)",
		Hidden: true, Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if err := machine.DropPowers(); err != nil {
				return &problem.Problem{What: "the probe could not give its powers up", Why: err.Error(),
					Fix: "run it as an account of its own"}
			}
			var s probe.Spec
			if err := json.Unmarshal([]byte(spec), &s); err != nil {
				return wrongUse(c, err.Error())
			}
			return probe.Run(s, os.Stdout)
		},
	}
	c.Flags().StringVar(&spec, "spec", "{}", "what to try, as JSON")
	return c
}

// showDoubts shows where what was tried differs from what was computed, amid a step.
func (a *app) showDoubts(list []operate.Proven) {
	for _, p := range list {
		for i, d := range p.Disagreements {
			if i == 5 {
				a.err.Printf("\n    and %s more", show.Count(len(p.Disagreements)-i, "path", "paths"))
				break
			}
			a.err.Printf("\n    %s: %s", p.Shelf, show.Clean(disagrees(d)))
		}
	}
	a.err.Printf("\n    ") // how the step went is to stand by itself
}

// disagrees writes a disagreement in a line.
func disagrees(d permit.Disagreement) string {
	may := map[bool]string{true: "may", false: "may not"}
	return fmt.Sprintf("%s: computed that it %s be %s, and it %s (%s)", d.Path, may[d.Computed],
		map[string]string{"read": "read", "list": "listed", "write": "written in"}[d.Need],
		map[bool]string{true: "can", false: "cannot"}[d.Kernel], d.Why)
}

// showProven says what came of the trial.
func (a *app) showProven(list []operate.Proven, f facts.Engine) {
	how := "in a throw-away container"
	if !f.Can.Isolates {
		how = "by a child with the account's numbers"
	}
	a.out.Printf("\nProven %s:\n", how)
	for _, p := range list {
		status := "ok"
		if p.Failing > 0 {
			status = "warning"
		}
		if len(p.Disagreements) > 0 || p.Tried > 0 && p.Read == 0 {
			status = "blocked"
		}
		of := ""
		if p.Tried < p.Files {
			of = fmt.Sprintf(", a sample of %s", show.Count(p.Files, "file", "files"))
		}
		text := fmt.Sprintf("%d of %d files opened and read%s; %d of %d folders listed", p.Read, p.Tried, of, p.Listed,
			p.Folders)
		if p.Write {
			text += fmt.Sprintf("; in %d a file was made and removed", p.Written)
		}
		a.out.Printf("  %s  %s  %s\n", show.Mark(status), show.Bold(p.Shelf), text)
		if !household.IsShare(p.Host) && !f.Elsewhere {
			if len(p.Disagreements) == 0 {
				a.out.Printf("    %s\n", show.Faint("as computed"))
			}
			for i, d := range p.Disagreements {
				if i == 20 {
					a.out.Printf("    and %s more\n", show.Count(len(p.Disagreements)-i, "path", "paths"))
					break
				}
				a.out.Printf("    ✗ %s\n", show.Clean(disagrees(d)))
			}
		}
	}
}
