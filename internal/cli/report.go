package cli

import (
	"context"
	"fmt"
	"time"

	"cozyshelf/internal/cli/page"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/usage"

	"github.com/spf13/cobra"
)

func (a *app) usageReportCommand() *cobra.Command {
	var month, member, format, to string
	c := &cobra.Command{
		Use: "report", Short: "What was watched in a month, as one page",
		Long: `Writes what was watched in a month, by the clocks of the household: how much, when, what most and by whom; what was
seen to the end, what arrived, what nobody has watched yet, and what took most work to convert, with the copy that would
save it. The page holds all that it shows, needs no script, and asks nobody.`,
		Example: "  cozyshelf usage report --month 2026-10 --to october.html\n  cozyshelf usage report --for wren --format markdown",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if format != "html" && format != "markdown" {
				return wrongUse(c, fmt.Sprintf("--format takes html or markdown, not %q", format))
			}
			h, err := a.open(c.Context())
			if err != nil {
				return err
			}
			zone, err := time.LoadLocation(h.Household.Household.Timezone)
			if err != nil {
				return err
			}
			at := time.Now().In(zone)
			if month != "" {
				if at, err = time.ParseInLocation("2006-01", month, zone); err != nil || at.After(time.Now()) {
					return wrongUse(c, fmt.Sprintf("--month takes a month that has begun, such as 2026-10, not %q", month))
				}
			}
			from, _ := usage.Month(at)
			cl := h.Client()
			got, err := cl.Report(c.Context(), from, member)
			if err != nil {
				return err
			}
			r, ever := got.Report, map[usage.Work]bool{}
			r.Month = from
			for _, w := range got.Ever {
				ever[w] = true
			}
			var titles []usage.TitleSeen
			shelves, err := contents(c.Context(), cl)
			if err != nil {
				return err
			}
			for _, sh := range shelves {
				for _, t := range sh.Contents {
					titles = append(titles, usage.TitleSeen{Name: t.Name, Shelf: sh.Name, Added: t.Added, Size: t.Size})
				}
			}
			r.AddShelves(ever, titles)
			if a.json {
				return a.document(r)
			}
			write := page.HTML
			if format == "markdown" {
				write = page.Markdown
			}
			text, err := write(r, h.Household.Household.Name)
			if err != nil {
				return err
			}
			if to == "" {
				w, _ := a.out.Raw()
				_, err := w.Write(text)
				return err
			}
			if err := a.newFile(to, "a report", text); err != nil {
				return err
			}
			a.say("%s: %s, %s\n", to, r.Month.Format("January 2006"), show.Count(r.Plays, "play", "plays"))
			return nil
		},
	}
	c.Flags().StringVar(&month, "month", "", "such as 2026-10; the one that runs where it is left out")
	c.Flags().StringVar(&member, "for", "", "of one member; the whole house where it is left out")
	c.Flags().StringVar(&format, "format", "html", "html or markdown")
	c.Flags().StringVar(&to, "to", "", "a file that is not there yet")
	return a.withJSON(c)
}

// contents gives all that is on the shelves that the server has: those of the household file may be others by now.
func contents(ctx context.Context, cl *control.Client) (out []control.ShelfFiles, err error) {
	st, err := cl.Status(ctx)
	if err != nil {
		return nil, err
	}
	for _, sh := range st.Shelves {
		whole, err := cl.Shelf(ctx, sh.Name)
		if err != nil {
			return nil, err
		}
		out = append(out, whole)
	}
	return out, nil
}
