package cli

import (
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/line"
	"cozyshelf/internal/core/verdict"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

// lookedWithin is how long the server may take to look at its name.
const lookedWithin = 75 * time.Second

func (a *app) remoteNameCommand() *cobra.Command {
	var now bool
	c := &cobra.Command{
		Use: "name", Short: "The record of the name that people use from outside, and the line's address",
		Long: `Tells what the name under [remote] stands for and which address the line has, as the server learnt it
([remote.name]), when the record was written last, and when it is looked again. Exit code 3 where the name does not
lead to the line.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			h, err := a.open(c.Context())
			if err != nil {
				return err
			}
			cl := h.Client()
			st, err := cl.Status(c.Context())
			if err != nil {
				return err
			}
			if st.Name == nil {
				return &problem.Problem{What: "nothing looks after the name",
					Why: "there is no [remote.name] in the household file, or it was not deployed since",
					Fix: "write learn = \"stun\" under it, and deploy", Exit: problem.ExitUsage}
			}
			if now {
				before := st.Name.Looked
				if err := cl.LookAtName(c.Context()); err != nil {
					return err
				}
				stop := a.looking("looking at "+show.Clean(st.Name.Name), 0)
				for began := time.Now(); st.Name != nil &&
					st.Name.Looked.Equal(before); time.Sleep(200 * time.Millisecond) {
					if st, err = cl.Status(c.Context()); err != nil || time.Since(began) > lookedWithin {
						break
					}
				}
				stop()
				if err != nil {
					return err
				}
				if st.Name == nil || st.Name.Looked.Equal(before) {
					return &problem.Problem{What: "the server has not looked yet", Why: "it did not within " +
						lookedWithin.String(), Fix: "see its log: cozyshelf logs"}
				}
			}
			return a.showName(*st.Name)
		},
	}
	c.Flags().BoolVar(&now, "now", false, "look now, and wait for it")
	return a.withJSON(c)
}

func (a *app) showName(r line.Report) error {
	l := r.Judge(time.Now())
	if a.json {
		if err := a.document(r); err != nil {
			return err
		}
	} else {
		a.out.Printf("%s\n", show.Bold(show.Clean(r.Name)))
		a.showLines([]verdict.Line{l})
		text := func(list string) string {
			if list == "" {
				return "–"
			}
			return show.Clean(list)
		}
		a.out.Table([]show.Column{{Whole: true}, {}}, [][]string{{"stands for", text(strings.Join(r.Stands, ", "))},
			{"the line", text(strings.Join(r.Line, ", "))}, {"looked at", show.When(r.Looked)},
			{"written", show.When(r.Written)}, {"looked at again", show.When(r.Next)}})
	}
	if l.Status == verdict.Blocked {
		return &exit{problem.ExitFound}
	}
	return nil
}
