package cli

import (
	"bufio"
	"cmp"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/parquet"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/raster"
	"cozyshelf/internal/store"

	"github.com/spf13/cobra"
)

// chartReport is the document of usage chart.
type chartReport struct {
	By      usage.By       `json:"by"`
	Of      usage.Of       `json:"of"`
	SinceAt time.Time      `json:"since_at,omitzero"`
	Columns []usage.Column `json:"columns,omitempty"`
	Heat    [][]float64    `json:"heat,omitempty"` // by weekday, from Monday on, and hour
}

func (a *app) usageChartCommand() *cobra.Command {
	var choose choosing
	var by, of, split, svg, picture string
	c := &cobra.Command{
		Use: "chart", Short: "How much is watched, by day, week, month, hour, weekday, or both as a heat map",
		Long: `Draws how much is watched, by the clocks of the household. What was watched is spread evenly over a play, from its
beginning to its end; plays count when they begin; of streams it is the most at once. Of the library it is how large it
is at the end of each day, week or month, of what is there now.`,
		Example: "  cozyshelf usage chart --by week --split member --since 90d\n  cozyshelf usage chart --by heat --of plays",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			asked := usage.Asked{By: usage.By(by), Of: usage.Of(of), Split: usage.Split(split)}
			if err := asked.Check(); err != nil {
				return wrongUse(c, err.Error())
			}
			f, err := choose.filter(c)
			if err != nil {
				return err
			}
			cl, err := a.server(c.Context())
			if err != nil {
				return err
			}
			got, err := cl.Chart(c.Context(), asked, f)
			if err != nil {
				return err
			}
			doc := chartReport{By: asked.By, Of: asked.Of, SinceAt: f.Since, Columns: got.Columns, Heat: got.Heat}
			if svg != "" || picture != "" {
				return a.drawTo(svg, picture, doc)
			}
			switch {
			case a.json:
				return a.document(doc)
			case empty(doc) && asked.Of == usage.OfLibrary:
				a.out.Printf("Nothing is on the shelves\n")
			case empty(doc):
				a.out.Printf("No plays\n")
			case doc.Heat != nil:
				a.showHeat(doc)
			default:
				a.showColumns(doc)
			}
			return nil
		},
	}
	c.Flags().StringVar(&by, "by", "day", "day, week, month, hour, weekday, or heat for hours of weekdays")
	c.Flags().StringVar(&of, "of", "watched",
		"watched, plays, streams (the most at once), bytes, or library: how large it is")
	c.Flags().StringVar(&split, "split", "", "member, shelf, kind, device, platform, delivery, where or sofa")
	c.Flags().StringVar(&svg, "svg", "", "draw it into a new file, as an SVG picture")
	c.Flags().StringVar(&picture, "png", "", "the same, as a PNG picture")
	choose.flags(c)
	return a.withJSON(c)
}

// empty reports whether a chart shows nothing.
func empty(r chartReport) bool {
	return !slices.ContainsFunc(r.Columns, func(c usage.Column) bool { return c.Value > 0 }) &&
		!slices.ContainsFunc(r.Heat, func(day []float64) bool { return slices.Max(day) > 0 })
}

// chartLabel says what a chart shows, and how much the most is.
func chartLabel(doc chartReport) string {
	most := 0.0
	for _, c := range doc.Columns {
		most = max(most, c.Value)
	}
	for _, day := range doc.Heat {
		most = max(most, slices.Max(day))
	}
	of := map[usage.Of]string{usage.OfWatched: "Watched", usage.OfPlays: "Plays", usage.OfStreams: "Streams at once",
		usage.OfBytes: "Sent", usage.OfLibrary: "The library"}[doc.Of]
	by := string(doc.By)
	if doc.By == usage.ByHeat {
		by = "hour and weekday"
	}
	text := fmt.Sprintf("%s by %s; the most: %s", of, by, measured(doc.Of, most))
	if !doc.SinceAt.IsZero() {
		text += ", since " + doc.SinceAt.Format(time.DateOnly)
	}
	return text
}

// drawTo draws a chart into files that are not there yet.
func (a *app) drawTo(svg, picture string, doc chartReport) error {
	say := func(v float64) string { return measured(doc.Of, v) }
	label := chartLabel(doc)
	var text string
	if doc.Heat != nil {
		text = usage.DrawHeat(doc.Heat, label, say)
	} else {
		text = usage.DrawBars(doc.Columns, label, say)
	}
	text = usage.Standalone(text)
	if svg != "" {
		if err := a.newFile(svg, "a drawing", []byte(text)); err != nil {
			return err
		}
		a.say("%s: %s\n", svg, label)
	}
	if picture != "" {
		b, err := raster.PNG(text)
		if err != nil {
			return err
		}
		if err := a.newFile(picture, "a picture", b); err != nil {
			return err
		}
		a.say("%s: %s\n", picture, label)
	}
	return nil
}

// newFile writes what there is into a file that is not there yet.
func (a *app) newFile(to, what string, text []byte) error {
	err := atomicfile.WriteNew(to, 0o600, nil, func(w io.Writer) error {
		_, err := w.Write(text)
		return err
	})
	if errors.Is(err, fs.ErrExist) {
		return &problem.Problem{What: "there is a file already", Where: to, Why: what + " never replaces anything",
			Fix: "name another file", Err: err}
	}
	if err != nil {
		return &problem.Problem{What: what + " could not be written", Where: to, Why: err.Error(),
			Fix: "name a file in a folder where you may write, with room for it", Err: err}
	}
	return nil
}

// measured writes a value of a chart.
func measured(of usage.Of, v float64) string {
	switch of {
	case usage.OfWatched:
		return show.Length(v)
	case usage.OfBytes, usage.OfLibrary:
		return show.Size(int64(v))
	}
	return fmt.Sprint(int(math.Ceil(v)))
}

// mostSplit is how many groups a chart shows by themselves.
const mostSplit = 5

func (a *app) showColumns(r chartReport) {
	var most float64
	sums := map[string]float64{}
	for _, c := range r.Columns {
		most = max(most, c.Value)
		for k, v := range c.Split {
			sums[k] += v
		}
	}
	groups := slices.SortedFunc(maps.Keys(sums), func(a, b string) int {
		if sums[a] != sums[b] {
			return map[bool]int{true: -1, false: 1}[sums[a] > sums[b]]
		}
		return strings.Compare(a, b)
	})
	rest := len(groups) - mostSplit
	groups = groups[:min(mostSplit, len(groups))]
	heads := []show.Column{{Head: string(r.By), Whole: true}, {Head: ""}, {Head: string(r.Of), Right: true}}
	for i, g := range groups {
		heads = append(heads, show.Column{Head: show.Clean(cmp.Or(g, "forgotten")), Right: true, Drop: len(groups) - i,
			Most: 24})
	}
	var rows [][]string
	for _, c := range r.Columns {
		bar := "" // nothing is no bar
		if c.Value > 0 {
			bar = show.Bar(c.Value, most)
		}
		row := []string{c.Name, bar, measured(r.Of, c.Value)}
		for _, g := range groups {
			row = append(row, measured(r.Of, c.Split[g]))
		}
		rows = append(rows, row)
	}
	a.out.Table(heads, rows)
	if rest > 0 {
		a.out.Printf("%s left out; --json has all\n", show.Count(rest, "more is", "more are"))
	}
}

// shades are the steps of a heat map, from nothing on.
var shades = []string{"  ", "··", "░░", "▒▒", "▓▓", "██"}

func (a *app) showHeat(r chartReport) {
	most := 0.0
	for _, day := range r.Heat {
		most = max(most, slices.Max(day))
	}
	head := "     "
	for h := range 24 {
		if h%3 == 0 {
			head += fmt.Sprintf("%-6s", fmt.Sprintf("%02d", h))
		}
	}
	a.out.Printf("%s\n", show.Faint(strings.TrimRight(head, " ")))
	for d, day := range r.Heat {
		line := ""
		for _, v := range day {
			step := 0
			if v > 0 {
				step = min(len(shades)-1, 1+int(v/most*float64(len(shades)-1)-1e-9))
			}
			line += shades[step]
		}
		a.out.Printf("%s  %s\n", usage.Weekdays[d], line)
	}
	steps := float64(len(shades) - 1)
	a.out.Printf("     %s up to %s, %s up to %s, %s up to %s\n", shades[1], measured(r.Of, most/steps), shades[3],
		measured(r.Of, 3*most/steps), shades[5], measured(r.Of, most))
}

func (a *app) usageExportCommand() *cobra.Command {
	var choose choosing
	var format, to string
	c := &cobra.Command{
		Use: "export", Short: "The plays as a file for other programs: CSV, JSON lines, Parquet or SQLite",
		Long: `Writes all plays that are chosen, the latest first: CSV (RFC 4180) with a row of names, a JSON object a
line, an Apache Parquet file, or an SQLite database with one table.
Columns are described in the reference, and stay: new ones come at the end. To standard output, or with --to into a file
that is not there yet.`,
		Example: "  cozyshelf usage export --since 30d\n  cozyshelf usage export --format jsonl --member wren",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if !slices.Contains([]string{"csv", "jsonl", "parquet", "sqlite"}, format) {
				return wrongUse(c, fmt.Sprintf("--format takes csv, jsonl, parquet or sqlite, not %q", format))
			}
			if format == "sqlite" && to == "" {
				return wrongUse(c, "a database is written into a file: name it with --to")
			}
			f, err := choose.filter(c)
			if err != nil {
				return err
			}
			h, err := a.open(c.Context())
			if err != nil {
				return err
			}
			zone, err := time.LoadLocation(h.Household.Household.Timezone)
			if err != nil {
				return err
			}
			// Page by page, so that many plays need little memory.
			f.Limit = exportedAtOnce
			each := func(do func(usage.Play) error) error {
				var last usage.Play
				for n := 0; ; {
					list, err := h.Client().History(c.Context(), f)
					if err != nil {
						return err
					}
					for _, p := range list {
						// What the server tells is not believed to come to an end.
						if n++; n > mostExported || n > 1 && !after(p, last) {
							return &problem.Problem{What: "the plays cannot be exported",
								Why: "the server does not tell them one after the other, each once",
								Fix: "see cozyshelf status, and the server's log"}
						}
						if err := do(p); err != nil {
							return err
						}
						last = p
					}
					if len(list) < f.Limit {
						return nil
					}
					f.After = list[len(list)-1].ID
				}
			}
			if to == "" {
				w, terminal := a.out.Raw()
				_, err := exported(w, format, !terminal, zone, each)
				return err
			}
			return a.exportTo(to, format, zone, each)
		},
	}
	choose.flags(c)
	c.Flags().StringVar(&format, "format", "csv", "csv, jsonl, parquet or sqlite")
	c.Flags().StringVar(&to, "to", "", "a file that is not there yet")
	return c
}

// How many plays are asked for at a time, and exported at most.
const (
	exportedAtOnce = 5000
	mostExported   = 100_000_000
)

// after reports whether a play stands below another in the list of all.
func after(p, other usage.Play) bool {
	return p.Started.Before(other.Started) || p.Started.Equal(other.Started) && p.ID < other.ID
}

// exportTo writes plays into a file that appears when it is whole.
func (a *app) exportTo(to, format string, zone *time.Location, each func(func(usage.Play) error) error) error {
	if _, err := os.Lstat(to); err == nil {
		return &problem.Problem{What: "there is a file already", Where: to, Why: "an export never replaces anything",
			Fix: "name another file"}
	}
	refused := func(err error) error {
		return &problem.Problem{What: "the plays could not be written", Where: to, Why: err.Error(),
			Fix: "name a file in a folder where you may write, with room for it", Err: err}
	}
	part := to + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return refused(err)
	}
	var n int
	if format == "sqlite" {
		n, err = a.exportDatabase(f, zone, each)
	} else {
		n, err = exported(f, format, true, zone, each)
	}
	if err == nil {
		if err = errors.Join(f.Sync(), f.Close(), os.Rename(part, to)); err != nil {
			err = refused(err)
		}
	}
	if err != nil {
		f.Close()
		return errors.Join(err, os.Remove(part))
	}
	a.say("%s: %s\n", to, show.Count(n, "play", "plays"))
	return nil
}

// exportDatabase writes plays as a database into an open file. It is made in a folder that nobody else can enter, since
// SQLite opens by name what somebody could have put another in place of.
func (a *app) exportDatabase(to io.Writer, zone *time.Location, each func(func(usage.Play) error) error) (n int,
	err error) {
	dir, err := os.MkdirTemp("", "cozyshelf-export-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "plays.db")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		return 0, err
	}
	if n, err = store.ExportPlays(a.ctx, file, zone, each); err != nil {
		return n, err
	}
	f, err := os.Open(file)
	if err != nil {
		return n, err
	}
	defer f.Close()
	_, err = io.Copy(to, f)
	return n, err
}

// exportedColumns writes plays as a Parquet file, and gives how many there were.
func exportedColumns(w io.Writer, each func(func(usage.Play) error) error) (n int, err error) {
	kinds := map[string]parquet.Kind{"started_at": parquet.Moment, "ended_at": parquet.Moment,
		"watched_seconds": parquet.Number, "position_seconds": parquet.Number, "duration_seconds": parquet.Number,
		"finished": parquet.Truth, "away": parquet.Truth, "bytes": parquet.Whole, "id": parquet.Whole}
	var columns []parquet.Column
	for _, name := range usage.Columns {
		columns = append(columns, parquet.Column{Name: name, Kind: kinds[name]})
	}
	out, err := parquet.NewWriter(w, columns)
	if err != nil {
		return 0, err
	}
	err = each(func(p usage.Play) error {
		n++
		return out.Row(p.Started, p.Ended, p.Member, strings.Join(p.Sofa, "; "), p.Shelf, p.Title, p.Part, p.Watched,
			p.Position, p.Duration, p.Done, p.Device, p.Address, p.Away, p.Delivery, p.Bytes, p.Why, p.ID)
	})
	if err == nil {
		err = out.Close()
	}
	return n, err
}

// exported writes plays, and gives how many there were.
func exported(w io.Writer, format string, crlf bool, zone *time.Location,
	each func(func(usage.Play) error) error) (n int, err error) {
	if format == "parquet" {
		return exportedColumns(w, each)
	}
	out := bufio.NewWriter(w)
	table := csv.NewWriter(out)
	table.UseCRLF = crlf
	lines := json.NewEncoder(out)
	if format == "csv" {
		if err := table.Write(usage.Columns); err != nil {
			return 0, err
		}
	}
	err = each(func(p usage.Play) error {
		n++
		if format == "csv" {
			return table.Write(p.Row(zone))
		}
		return lines.Encode(p)
	})
	table.Flush()
	if err == nil {
		err = table.Error()
	}
	if err == nil {
		err = out.Flush()
	}
	return n, err
}
