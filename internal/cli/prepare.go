package cli

import (
	"fmt"
	"strconv"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"

	"github.com/spf13/cobra"
)

func (a *app) prepareCommand() *cobra.Command {
	c := &cobra.Command{Use: "prepare",
		Short: "Copies of films that are made beforehand, to take along or to play anywhere"}
	c.AddCommand(a.prepareAddCommand(), a.prepareListCommand(), a.prepareCancelCommand())
	return c
}

func (a *app) prepareAddCommand() *cobra.Command {
	var in control.Preparing
	c := a.withJSON(&cobra.Command{
		Use: "add TITLE", Short: "Have a smaller copy made that nearly everything plays",
		Args: cobra.ExactArgs(1),
		Long: `Notes that a copy of a title is wanted, of each part of it: one MP4 file with H.264, AAC and
its subtitles. It is made at quiet hours (hours under [quiet]), and goes on the next night
where it stopped. A device that would need the film converted is sent the copy instead, and
members can download it. TITLE is its name, or the beginnings of words of it, or #NUMBER.`,
		Example: "  cozyshelf prepare add \"Copper Kite\" --height 480\n" +
			"  cozyshelf prepare add \"Copper Kite\" --height 240 --now",
		RunE: func(c *cobra.Command, args []string) error {
			if in.Height < 120 || in.Height > 4320 {
				return wrongUse(c, fmt.Sprintf("%d lines are no size of a film; write 120 to 4320", in.Height))
			}
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			if in.Title, err = a.titleOf(c.Context(), cl, args[0]); err != nil {
				return err
			}
			list, err := cl.Prepare(c.Context(), in)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(list)
			}
			var sum int64
			for _, p := range list {
				sum += p.Bytes
			}
			when := "at quiet hours"
			if in.Soon {
				when = "now"
			}
			a.out.Printf("%s of %d lines will be made %s, about %s in all. cozyshelf prepare list shows how far it is.\n",
				show.Count(len(list), "copy", "copies"), in.Height, when, show.Size(sum))
			return nil
		},
	})
	f := c.Flags()
	f.IntVar(&in.Height, "height", 720, "lines of the picture at most")
	f.StringVar(&in.For, "for", "", "the member who wants it")
	f.BoolVar(&in.Soon, "now", false, "make it now, not only at quiet hours")
	return c
}

func (a *app) prepareListCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "list", Short: "Copies that are wanted, being made, and ready",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			list, err := cl.Prepared(c.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.document(list)
			}
			a.showPrepared(list)
			return nil
		},
	})
}

func (a *app) showPrepared(list []control.Prepared) {
	if len(list) == 0 {
		a.out.Printf("No copies are there or wanted. cozyshelf prepare add TITLE asks for one.\n")
		return
	}
	var rows [][]string
	for _, p := range list {
		state := show.Clean(p.State)
		size := "about " + show.Size(p.Bytes)
		switch p.State {
		case "waiting":
			state = "waiting for quiet hours"
			if p.Soon {
				state = "waiting for its turn"
			}
			if p.Done > 0 {
				state += fmt.Sprintf(", %.0f %% done", 100*p.Done/max(p.Length, 1))
			}
		case "making":
			state = fmt.Sprintf("%s %.0f %%", show.Bar(p.Done, p.Length), 100*p.Done/max(p.Length, 1))
		case "ready":
			size = show.Size(p.Bytes)
		case "failed":
			size = "–"
		}
		who := show.Clean(p.For)
		if who == "" {
			who = "–"
		}
		rows = append(rows, []string{strconv.FormatInt(p.ID, 10), show.Clean(p.Title), show.Clean(p.Part),
			strconv.Itoa(p.Height), who, size, state, show.Clean(p.Problem)})
	}
	a.out.Table([]show.Column{{Head: "copy", Right: true, Whole: true}, {Head: "title"}, {Head: "file", Drop: 3},
		{Head: "lines", Right: true, Whole: true}, {Head: "for", Drop: 2}, {Head: "size", Right: true, Drop: 1},
		{Head: "state", Whole: true}, {Head: "", Drop: 4}}, rows)
}

func (a *app) prepareCancelCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "cancel COPY…", Short: "Remove copies, by their numbers: those that are ready, too",
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			var ids []int64
			for _, text := range args {
				id, err := strconv.ParseInt(text, 10, 64)
				if err != nil {
					return wrongUse(c, fmt.Sprintf("%q is no number of a copy; cozyshelf prepare list shows them", text))
				}
				ids = append(ids, id)
			}
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			gone := []control.Prepared{}
			for _, id := range ids {
				p, err := cl.CancelPrepared(c.Context(), id)
				if err != nil {
					return err
				}
				gone = append(gone, p)
				if !a.json {
					a.out.Printf("Copy %d of %s is removed.\n", p.ID, show.Clean(p.Title))
				}
			}
			if a.json {
				return a.document(gone)
			}
			return nil
		},
	})
}
