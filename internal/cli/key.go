package cli

import (
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/right"

	"github.com/spf13/cobra"
)

func (a *app) keyCommand() *cobra.Command {
	c := &cobra.Command{Use: "key", Short: "Keys of other systems, such as the house's automation"}
	c.AddCommand(a.keyAddCommand(), a.keyListCommand(), a.keyRemoveCommand())
	return c
}

func (a *app) keyAddCommand() *cobra.Command {
	var in control.NewKey
	var may []string
	var lasts string
	c := &cobra.Command{
		Use: "add NAME --may RIGHT", Short: "Make a key, and print it once",
		Long: `Makes a key by which another system asks the server: Authorization: Bearer KEY. It sees figures of the whole house
and nothing that is anybody's own. It is good at home, unless --away is given.

read-figures     who watches what, now and before: /api/v1/figures/now, history, top, chart
read-library     what is on the shelves: /api/v1/figures/library
control-streams  end a stream: /api/v1/streams/NUMBER/stop
metrics          the server's measurements, as OpenMetrics: /metrics`,
		Example: "  cozyshelf key add automation --may read-figures,control-streams\n" +
			"  cozyshelf key add measurements --may metrics --for 365d",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			in.Name = args[0]
			var err error
			if in.May, err = right.Read(may); err != nil {
				return wrongUse(c, err.Error())
			}
			if len(in.May) == 0 {
				return wrongUse(c, "say what the key may do with --may: "+right.Words(right.All))
			}
			if lasts != "" {
				d, err := lasting(c, lasts, 3650)
				if err != nil {
					return err
				}
				in.Lasts = d.Seconds()
			}
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			k, err := cl.AddKey(c.Context(), in)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(k)
			}
			a.out.Printf("%s may %s, %s\n", k.Name, right.Words(k.May), keyEnds(k.Key))
			a.out.Printf("Key, shown only now: %s\n", k.Token)
			return nil
		},
	}
	c.Flags().StringSliceVar(&may, "may", nil, "what it may do: "+right.Words(right.All))
	c.Flags().StringVar(&lasts, "for", "", "how long it is good, such as 90d; left out, it does not end")
	c.Flags().BoolVar(&in.Away, "away", false, "good from outside the home, too")
	return a.withJSON(c)
}

// keyEnds says until when a key is good, and from where.
func keyEnds(k control.Key) string {
	text := "without end"
	if !k.Ends.IsZero() {
		text = "until " + show.When(k.Ends)
		if time.Now().After(k.Ends) {
			text = "ended " + show.When(k.Ends)
		}
	}
	if k.Away {
		return text + ", from everywhere"
	}
	return text + ", at home"
}

func (a *app) keyListCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "list", Short: "The keys, and when they were used last", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			list, err := cl.Keys(c.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.document(list)
			}
			if len(list) == 0 {
				a.out.Printf("There are no keys\n")
				return nil
			}
			var rows [][]string
			for _, k := range list {
				used := "never"
				if !k.Used.IsZero() {
					used = strings.TrimSuffix(show.When(k.Used)+" from "+k.Address, " from ")
				}
				rows = append(rows, []string{show.Clean(k.Name), right.Words(k.May), keyEnds(k), used, show.When(k.Created)})
			}
			a.out.Table([]show.Column{{Head: "key", Whole: true}, {Head: "may", Whole: true}, {Head: "good"},
				{Head: "used last", Whole: true}, {Head: "made", Whole: true, Drop: 1}}, rows)
			return nil
		},
	})
}

func (a *app) keyRemoveCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "remove NAME", Short: "Take a key away at once", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			if err := cl.RemoveKey(c.Context(), args[0]); err != nil {
				return err
			}
			if a.json {
				return a.document(memberRemoved{Removed: args[0]})
			}
			a.out.Printf("Removed the key %s\n", args[0])
			return nil
		},
	})
}
