package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

func (a *app) usageCommand() *cobra.Command {
	c := &cobra.Command{Use: "usage", Short: "Who watches what"}
	c.AddCommand(a.usageNowCommand(), a.usageHistoryCommand(), a.usageTopCommand(), a.usageLatelyCommand(),
		a.usageStopCommand(), a.usageChartCommand(), a.usageExportCommand(), a.usageReportCommand(),
		a.usageForecastCommand(), a.usageVerifyCommand())
	return c
}

func (a *app) usageLatelyCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "lately", Short: "What arrived on the shelves lately", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			l, err := cl.Library(c.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.document(l.Lately)
			}
			if len(l.Lately) == 0 {
				a.out.Printf("Nothing is on the shelves yet\n")
				return nil
			}
			a.showLately(l.Lately)
			return nil
		},
	})
}

// place says where a play was watched.
func place(p usage.Play) string {
	if p.Away {
		return "away"
	}
	return "home"
}

// watchers are all who watched a play.
func watchers(p usage.Play) string {
	if len(p.Viewers()) == 0 {
		return "forgotten"
	}
	return strings.Join(p.Viewers(), ", ")
}

func playTitle(p usage.Play) string {
	if p.Part == "" {
		return p.Title
	}
	return p.Title + " · " + p.Part
}

func (a *app) usageNowCommand() *cobra.Command {
	var watch bool
	var pause time.Duration
	c := &cobra.Command{
		Use: "now", Short: "Who is watching what now", Args: cobra.NoArgs,
		Long: `Shows who watches what, how it is delivered, why not as it is, and what converting costs the machine. --watch
shows it again and again, until you press Ctrl-C, with how much each stream is sent.`,
		RunE: func(c *cobra.Command, _ []string) error {
			if c.Flags().Changed("pause") && !watch || pause < 200*time.Millisecond {
				return wrongUse(c, "--pause goes with --watch, and is 200ms or more")
			}
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			list, err := cl.History(c.Context(), usage.Filter{Open: true})
			if err != nil {
				return err
			}
			var rates map[int64]float64
			draw := func(bool) error {
				if a.json {
					return a.document(list)
				}
				a.showStreams(list, rates)
				return a.showCosts(c.Context(), cl, list)
			}
			if !watch {
				return draw(false)
			}
			at := time.Now()
			return a.again(c.Context(), pause, draw, func(ctx context.Context) error {
				next, err := cl.History(ctx, usage.Filter{Open: true})
				if err != nil {
					return err
				}
				now := time.Now()
				rates = usage.Rates(list, next, now.Sub(at))
				list, at = next, now
				return nil
			})
		},
	}
	c.Flags().BoolVar(&watch, "watch", false, "show it again and again")
	spanVar(c, &pause, "pause", 2*time.Second, "with --watch: how long to wait in between")
	return a.withJSON(c)
}

func (a *app) usageStopCommand() *cobra.Command {
	var in control.Stopping
	c := &cobra.Command{
		Use: "stop STREAM", Short: "End a stream, with a word to who watches it",
		Long: `Ends what is being sent within 5 s. The page says that an administrator has ended it, and what is given with
--say; on that device the film can be played again after ten minutes. The number of a stream stands in usage now.`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || id < 1 {
				return wrongUse(c, fmt.Sprintf("%q is no number of a stream; usage now shows them", args[0]))
			}
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			list, err := cl.History(c.Context(), usage.Filter{Open: true})
			if err != nil {
				return err
			}
			i := slices.IndexFunc(list, func(p usage.Play) bool { return p.ID == id })
			if i < 0 {
				return &problem.Problem{What: fmt.Sprintf("there is no stream %d", id), Why: "it is over, or never was",
					Fix: "see cozyshelf usage now", Exit: problem.ExitUsage}
			}
			done, err := cl.Stop(c.Context(), id, in)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(done)
			}
			a.out.Printf("%s of %s has ended\n", show.Clean(playTitle(list[i])), show.Clean(watchers(list[i])))
			return nil
		},
	}
	c.Flags().StringVar(&in.Say, "say", "", "a word to who watches it, up to 200 bytes")
	return a.withJSON(c)
}

// showStreams shows the streams that are running, with how many bytes a second each is sent where that is known.
func (a *app) showStreams(list []usage.Play, rates map[int64]float64) {
	if len(list) == 0 {
		a.out.Printf("Nobody is watching\n")
		return
	}
	var rows [][]string
	for _, p := range list {
		rows = append(rows, []string{fmt.Sprint(p.ID), watchers(p), playTitle(p), show.Bar(p.Position, p.Duration),
			show.Length(p.Position) + " of " + show.Length(p.Duration), p.Device, place(p), p.Address,
			delivered(p), show.Size(p.Bytes), show.When(p.Started)})
		if rates != nil {
			text := ""
			if r, ok := rates[p.ID]; ok {
				text = fmt.Sprintf("%.1f Mbit/s", r*8/1e6)
			}
			rows[len(rows)-1] = append(rows[len(rows)-1], text)
		}
	}
	heads := []show.Column{{Head: "stream", Right: true, Drop: 8}, {Head: "member", Whole: true},
		{Head: "title", Most: 60},
		{Head: "", Drop: 5},
		{Head: "position", Right: true}, {Head: "device", Whole: true, Most: 24, Drop: 4},
		{Head: "where", Whole: true, Drop: 6}, {Head: "address", Drop: 2}, {Head: "delivered", Whole: true, Drop: 7},
		{Head: "sent", Right: true, Drop: 1}, {Head: "since", Whole: true, Drop: 3}}
	if rates != nil {
		heads = append(heads, show.Column{Head: "just now", Right: true, Whole: true})
	}
	a.out.Table(heads, rows)
	for _, p := range list {
		if p.Why != "" {
			a.out.Printf("%s's %s is %s: %s\n", p.Member, playTitle(p), delivered(p), p.Why)
		}
	}
}

// showCosts says what the streams that are converted cost the machine.
func (a *app) showCosts(ctx context.Context, cl *control.Client, list []usage.Play) error {
	if !slices.ContainsFunc(list, func(p usage.Play) bool { return p.Delivery == "converted" }) {
		return nil
	}
	st, err := cl.Status(ctx)
	if err != nil || st.Convert == nil {
		return err
	}
	for _, s := range st.Convert.Streams {
		a.out.Printf("%s\n", costOf(s))
	}
	return nil
}

// costOf says what a picture that is being made costs the machine: one that is made twice as fast as it is watched
// takes half of it.
func costOf(s control.Conversion) string {
	cost := "how much of the machine that takes is not known yet"
	if s.Speed > 0 {
		cost = fmt.Sprintf("about %.0f %% of the machine", 100*min(1, 1/s.Speed))
	}
	return fmt.Sprintf("Converting %s to %d lines for %s, by %s: %s", show.Clean(s.Title), s.Height,
		show.Count(s.Viewers, "device", "devices"), show.Clean(s.Way), cost)
}

// delivered says how a stream is sent.
func delivered(p usage.Play) string { return strings.ReplaceAll(p.Delivery, "-", " ") }

// choosing are the flags by which plays are chosen.
type choosing struct {
	usage.Filter
	from, to, where, finished string
}

func (f *choosing) flags(c *cobra.Command) {
	c.Flags().StringVar(&f.Member, "member", "", "only this member, also where they watched along")
	c.Flags().StringVar(&f.Title, "title", "", "only titles with this in their name")
	c.Flags().StringVar(&f.Shelf, "shelf", "", "only this shelf")
	c.Flags().StringVar(&f.Kind, "kind", "", "only shelves of this kind: films, series, music, photos or recordings")
	c.Flags().StringVar(&f.Device, "device", "", "only devices with this in their name")
	c.Flags().StringVar(&f.Delivery, "delivery", "", "only what was delivered so: as-it-is, repacked or converted")
	c.Flags().StringVar(&f.where, "where", "", "home or away")
	c.Flags().StringVar(&f.finished, "finished", "", "yes or no: seen to the end, or left before")
	c.Flags().StringVar(&f.from, "since", "", "only since then, such as 2h, 7d or 2026-11-23")
	c.Flags().StringVar(&f.to, "until", "", "only what began before then")
}

// filter reads the flags.
func (f *choosing) filter(c *cobra.Command) (usage.Filter, error) {
	out := f.Filter
	var err error
	if out.Since, err = since(c, f.from); err != nil {
		return out, err
	}
	if out.Until, err = since(c, f.to); err != nil {
		return out, err
	}
	if out.Finished, err = yesNo(c, "finished", f.finished); err != nil {
		return out, err
	}
	if out.Limit < 0 {
		return out, wrongUse(c, "--limit takes a number of plays")
	}
	out.Where = usage.Where(f.where)
	if _, err := usage.ReadFilter(out.Query()); err != nil {
		return out, wrongUse(c, err.Error())
	}
	return out, nil
}

func (a *app) usageHistoryCommand() *cobra.Command {
	var choose choosing
	c := &cobra.Command{
		Use: "history", Short: "The plays, the latest first", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			f, err := choose.filter(c)
			if err != nil {
				return err
			}
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			list, err := cl.History(c.Context(), f)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(list)
			}
			if len(list) == 0 {
				a.out.Printf("No plays\n")
				return nil
			}
			var rows [][]string
			if f.Limit > 0 && len(list) == f.Limit {
				defer a.out.Printf("The next ones: --after %d\n", list[len(list)-1].ID)
			}
			for _, p := range list {
				end := "playing"
				switch {
				case p.Done:
					end = "to the end"
				case !p.Ended.IsZero():
					end = "left at " + show.Length(p.Position)
				}
				rows = append(rows, []string{show.When(p.Started), watchers(p), p.Shelf, playTitle(p),
					show.Length(p.Watched), show.Length(p.Duration), end, place(p), p.Device, show.Size(p.Bytes)})
			}
			a.out.Table([]show.Column{{Head: "started", Whole: true}, {Head: "member", Whole: true},
				{Head: "shelf", Whole: true, Drop: 4}, {Head: "title", Most: 60}, {Head: "watched", Right: true},
				{Head: "of", Right: true, Drop: 6}, {Head: "end", Whole: true, Drop: 5},
				{Head: "where", Whole: true, Drop: 2}, {Head: "device", Whole: true, Most: 24, Drop: 3},
				{Head: "sent", Right: true, Drop: 1}}, rows)
			return nil
		},
	}
	choose.flags(c)
	c.Flags().IntVar(&choose.Limit, "limit", 50, "at most so many; 0 for all")
	c.Flags().Int64Var(&choose.After, "after", 0,
		"only those below this play in the list, by its number in --json: the next page")
	return a.withJSON(c)
}

func (a *app) usageTopCommand() *cobra.Command {
	var from, order, member string
	var limit int
	c := &cobra.Command{
		Use: "top [" + strings.Join(usage.Tops, "|") + "]", Short: "What is watched most, who watches most, and on what",
		Args: cobra.MaximumNArgs(1),
		Long: `Shows what is watched most, and who watches most; parts, such as single episodes; devices where they are
named, and platforms: what devices run on, as far as their names tell; people and genres of what was watched, as far as
they are known. With --since each row also tells what was watched in the period before, which is as long.`,
		ValidArgs: usage.Tops,
		RunE: func(c *cobra.Command, args []string) error {
			wanted := []string{"titles", "members"}
			if len(args) > 0 {
				if wanted = args; !slices.Contains(usage.Tops, args[0]) {
					return wrongUse(c, fmt.Sprintf("%q is none of %s", args[0], strings.Join(usage.Tops, ", ")))
				}
			}
			by := usage.Order(order)
			if !slices.Contains(usage.Orders, by) {
				return wrongUse(c, fmt.Sprintf("--by takes time, plays or members, not %q", order))
			}
			start, err := since(c, from)
			if err != nil {
				return err
			}
			if limit < 0 {
				return wrongUse(c, "--limit takes a number of rows")
			}
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			lists := map[string][]usage.Rank{}
			none := true
			for _, what := range wanted {
				list, err := cl.Top(c.Context(), what, by, limit, usage.Filter{Member: member, Since: start})
				if err != nil {
					return err
				}
				lists[what], none = list, none && len(list) == 0
			}
			if a.json {
				return a.document(topReport{SinceAt: start, Titles: lists["titles"], Parts: lists["parts"],
					Members: lists["members"],
					Devices: lists["devices"], Platforms: lists["platforms"], People: lists["people"],
					Genres: lists["genres"]})
			}
			if none {
				a.out.Printf("No plays\n")
				return nil
			}
			for i, what := range wanted {
				if i > 0 {
					a.out.Printf("\n")
				}
				a.showTop(what, lists[what])
			}
			return nil
		},
	}
	c.Flags().StringVar(&from, "since", "", "only since then, such as 7d")
	c.Flags().StringVar(&member, "member", "", "only what this member watched, also along")
	c.Flags().StringVar(&order, "by", "time", "time, plays or members: by what it is sorted")
	c.Flags().IntVar(&limit, "limit", 10, "at most so many rows; 0 for all")
	return a.withJSON(c)
}

func (a *app) usageVerifyCommand() *cobra.Command {
	var rebuild bool
	c := &cobra.Command{
		Use: "verify", Short: "Compare the figures that the server keeps with the plays", Args: cobra.NoArgs,
		Long: `The server keeps the figures of days, months and years, so that charts and lists need not go through all
plays. This makes each day anew from the plays, each longer time from its days, and compares. It changes nothing;
--rebuild throws all figures away before, and makes them anew. Plays are never changed.`,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			v, err := cl.VerifyFigures(c.Context(), rebuild)
			if err != nil {
				return err
			}
			if a.json {
				err = a.document(v)
			} else {
				if v.Rebuilt {
					a.out.Printf("The figures were made anew\n")
				}
				a.out.Printf("Compared with the plays: %s, and %s\n", show.Count(v.Days, "day", "days"),
					show.Count(v.Longer, "longer time", "longer times"))
				if v.Waiting > 0 {
					a.out.Printf("Figures of %s are not kept yet; they are made of the plays\n", show.Count(v.Waiting,
						"time",
						"times"))
				}
				for _, w := range v.Wrong {
					a.out.Printf("wrong: %s\n", show.Clean(w))
				}
			}
			if err == nil && len(v.Wrong) > 0 {
				return &problem.Problem{What: "the figures that are kept are not what the plays say",
					Why: "the store was changed by something else, or by a fault",
					Fix: "cozyshelf usage verify --rebuild"}
			}
			return err
		},
	}
	c.Flags().BoolVar(&rebuild, "rebuild", false, "make all figures anew before")
	return a.withJSON(c)
}

// showTop shows a top list.
func (a *app) showTop(what string, list []usage.Rank) {
	one := strings.TrimSuffix(what, "s")
	if what == "people" {
		one = "person"
	}
	heads := []show.Column{{Head: one, Most: 60, Whole: what != "titles" && what != "parts"}}
	if what == "titles" || what == "parts" {
		heads = append(heads, show.Column{Head: "shelf", Whole: true, Drop: 2})
	}
	heads = append(heads, show.Column{Head: "", Drop: 1}, show.Column{Head: "watched", Right: true})
	if len(list) > 0 && list[0].Before != nil {
		heads = append(heads, show.Column{Head: "before", Right: true, Drop: 5})
	}
	heads = append(heads, show.Column{Head: "plays", Right: true}, show.Column{Head: "to the end", Right: true, Drop: 3},
		show.Column{Head: map[bool]string{true: "titles", false: "members"}[what == "members"], Right: true, Drop: 4})
	most := 0.0
	for _, r := range list {
		most = max(most, r.Watched)
	}
	var rows [][]string
	for _, r := range list {
		name := r.Name
		if r.Part != "" {
			name += " · " + r.Part
		}
		row := []string{name}
		if what == "titles" || what == "parts" {
			row = append(row, r.Shelf)
		}
		row = append(row, show.Bar(r.Watched, most), show.Length(r.Watched))
		if r.Before != nil {
			row = append(row, show.Length(*r.Before))
		}
		rows = append(rows, append(row, fmt.Sprint(r.Plays), fmt.Sprint(r.Done), fmt.Sprint(r.Members+r.Titles)))
	}
	a.out.Table(heads, rows)
}
