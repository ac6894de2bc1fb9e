// Package page writes what is to be read outside of a terminal: the report of a month, as one page that asks nobody for
// anything, or as Markdown.
package page

import (
	"bytes"
	"fmt"
	"html/template"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/usage"
)

// reportPage is a report with its pictures.
type reportPage struct {
	usage.Report
	Household  string
	Style      template.CSS
	Days, Heat template.HTML
}

// Change says how what was watched compares with the month before.
func (p reportPage) Change() string {
	switch was, is := p.Before, p.Watched; {
	case was == 0 && is == 0:
		return "Nothing, as in the month before"
	case was == 0:
		return "Nothing in the month before"
	case p.Running:
		return "So far. In all of the month before it was " + show.Length(was)
	case is >= 3*was:
		return fmt.Sprintf("%.0f times as much as in the month before (%s)", is/was, show.Length(was))
	case is >= was:
		return fmt.Sprintf("%.0f %% more than in the month before (%s)", (is/was-1)*100, show.Length(was))
	default:
		return fmt.Sprintf("%.0f %% less than in the month before (%s)", (1-is/was)*100, show.Length(was))
	}
}

// Whose says whose report it is.
func (p reportPage) Whose() string {
	if p.Member == "" {
		return p.Household
	}
	return p.Member + ", " + p.Household
}

var reportWords = template.FuncMap{
	"length": show.Length, "size": show.Size, "month": func(t time.Time) string { return t.Format("January 2006") },
	"day":   func(t time.Time) string { return t.Format("2 January 2006") },
	"count": func(n int, one, many string) string { return show.Count(n, one, many) },
	"was": func(v *float64) string {
		if v == nil || *v == 0 {
			return "–"
		}
		return show.Length(*v)
	},
}

var reportHTML = template.Must(template.New("report").Funcs(reportWords).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{.Whose}}, {{month .Month}}</title>
<style>
body{margin:2rem auto;max-width:60rem;padding:0 1rem;background:#f8f0e5;color:#32271f;font:16px/1.5 "Noto Sans","DejaVu Sans",sans-serif}
h1,h2{font-family:"Noto Serif","DejaVu Serif",serif;line-height:1.2}h2{margin:2.2rem 0 .6rem}
table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:.3rem .8rem .3rem 0;border-bottom:1px solid #e2d3c2;vertical-align:top}
td.n,th.n{text-align:right;font-variant-numeric:tabular-nums;white-space:nowrap}th{font-weight:600;color:#6d5f52;font-size:.86rem}
.sums{display:flex;flex-wrap:wrap;gap:1rem 2.5rem;margin:1.2rem 0}.sums b{display:block;font-size:1.6rem}
.fine{color:#6d5f52;font-size:.9rem}svg{width:100%;display:block}svg.bars{max-width:36rem}svg.heat{max-width:36rem}
{{.Style}}
</style></head><body>
<h1>{{.Whose}}, {{month .Month}}</h1>
<div class="sums"><span><b>{{length .Watched}}</b>watched</span><span><b>{{.Plays}}</b>plays</span><span><b>{{.Done}}</b>to the end</span>` +
	`<span><b>{{printf "%.0f" .Peak}}</b>at once, at most</span><span><b>{{size .Bytes}}</b>sent</span></div>
<p class="fine">{{.Change}}.</p>
{{if .Plays}}<h2>Day by day</h2>
{{.Days}}
<h2>Days and hours</h2>
{{.Heat}}
<h2>Watched most</h2>
<table><tr><th>title</th><th>shelf</th><th class="n">watched</th><th class="n">before</th><th class="n">plays</th></tr>
{{range .Titles}}<tr>
<td>{{.Name}}</td>
<td>{{.Shelf}}</td>
<td class="n">{{length .Watched}}</td>
<td class="n">{{was .Before}}</td>
<td class="n">{{.Plays}}</td></tr>
{{end}}</table>
{{if not .Member}}<h2>By whom</h2>
<table><tr>
<th>member</th>
<th class="n">watched</th>
<th class="n">before</th>
<th class="n">plays</th>
<th class="n">titles</th></tr>
{{range .Members}}<tr>
<td>{{.Name}}</td>
<td class="n">{{length .Watched}}</td>
<td class="n">{{was .Before}}</td>
<td class="n">{{.Plays}}</td>
<td class="n">{{.Titles}}</td></tr>
{{end}}</table>{{end}}
{{with .Ended}}<h2>Seen to the end</h2>
<p>{{range $i, $t := .}}{{if $i}}, {{end}}{{$t.Name}}{{if gt $t.Done 1}} ({{$t.Done}} parts){{end}}{{end}}</p>{{end}}
{{end}}{{with .Arrived}}<h2>Arrived</h2>
<table>{{range .}}<tr>
<td>{{.Name}}</td>
<td>{{.Shelf}}</td>
<td class="n">{{day .Added}}</td>
<td class="n">{{size .Size}}</td></tr>
{{end}}</table>{{end}}
{{with .Converted}}<h2>Most work to convert</h2>
<p class="fine">A copy that is prepared beforehand saves it: cozyshelf prepare add.</p>
<table><tr><th>title</th><th>shelf</th><th class="n">converted</th><th class="n">plays</th><th>why</th></tr>
{{range .}}<tr>
<td>{{.Name}}</td>
<td>{{.Shelf}}</td>
<td class="n">{{length .Watched}}</td>
<td class="n">{{.Plays}}</td>
<td>{{.Why}}</td></tr>
{{end}}</table>{{end}}
{{if .Unseen}}<h2>Not watched by anybody yet</h2>
<p class="fine">{{count .UnseenAll "title" "titles"}}; those that are here longest:</p>
<table>{{range .Unseen}}<tr>
<td>{{.Name}}</td>
<td>{{.Shelf}}</td>
<td class="n">since {{day .Added}}</td>
<td class="n">{{size .Size}}</td></tr>
{{end}}</table>{{end}}
</body></html>
`))

// HTML writes a report as a page that holds all that it shows.
func HTML(r usage.Report, household string) ([]byte, error) {
	p := reportPage{Report: r, Household: household, Style: template.CSS(usage.DrawingStyle)}
	p.Days = template.HTML(usage.DrawBars(r.Days, "Hours watched, by day", show.Length))
	p.Heat = template.HTML(usage.DrawHeat(r.Heat, "Hours watched, by weekday and hour", show.Length))
	var b bytes.Buffer
	err := reportHTML.Execute(&b, p)
	return b.Bytes(), err
}

// cells writes a row of a table in Markdown, in which what has a meaning there has none.
func cells(texts ...string) string {
	escape := strings.NewReplacer("\\", "\\\\", "|", "\\|", "<", "&lt;", "&", "&amp;", "*", "\\*", "_", "\\_", "`",
		"\\`", "[", "\\[",
		"\n", " ", "\r", " ")
	for i, t := range texts {
		texts[i] = escape.Replace(t)
	}
	return "| " + strings.Join(texts, " | ") + " |\n"
}

// Markdown writes the same as Markdown.
func Markdown(r usage.Report, household string) ([]byte, error) {
	p := reportPage{Report: r, Household: household}
	var b strings.Builder
	day := func(t time.Time) string { return t.Format("2006-01-02") }
	fmt.Fprintf(&b, "# %s, %s\n\n%s watched in %s, %d of them to the end; %.0f at once, at most; %s sent.\n%s.\n",
		strings.Trim(cells(p.Whose()), "| \n"), p.Month.Format("January 2006"), show.Length(p.Watched),
		show.Count(p.Plays, "play", "plays"), p.Done, p.Peak, show.Size(p.Bytes), p.Change())
	table := func(title string, heads []string, n int, row func(i int) []string) {
		if n == 0 {
			return
		}
		fmt.Fprintf(&b, "\n## %s\n\n", title)
		b.WriteString(cells(heads...) + strings.Repeat("| --- ", len(heads)) + "|\n")
		for i := range n {
			b.WriteString(cells(row(i)...))
		}
	}
	ranks := func(title, what string, list []usage.Rank) {
		table(title, []string{what, "watched", "before", "plays"}, len(list), func(i int) []string {
			r := list[i]
			was := 0.0
			if r.Before != nil {
				was = *r.Before
			}
			return []string{r.Name, show.Length(r.Watched), show.Length(was), fmt.Sprint(r.Plays)}
		})
	}
	ranks("Watched most", "title", p.Titles)
	if p.Member == "" {
		ranks("By whom", "member", p.Members)
	}
	table("Seen to the end", []string{"title", "shelf"}, len(p.Ended), func(i int) []string {
		return []string{p.Ended[i].Name, p.Ended[i].Shelf}
	})
	table("Arrived", []string{"title", "shelf", "on", "size"}, len(p.Arrived), func(i int) []string {
		t := p.Arrived[i]
		return []string{t.Name, t.Shelf, day(t.Added), show.Size(t.Size)}
	})
	table("Most work to convert", []string{"title", "converted", "plays", "why"}, len(p.Converted), func(i int) []string {
		c := p.Converted[i]
		return []string{c.Name, show.Length(c.Watched), fmt.Sprint(c.Plays), c.Why}
	})
	table(fmt.Sprintf("Not watched by anybody yet (%d)", p.UnseenAll), []string{"title", "shelf", "since", "size"},
		len(p.Unseen),
		func(i int) []string {
			t := p.Unseen[i]
			return []string{t.Name, t.Shelf, day(t.Added), show.Size(t.Size)}
		})
	return []byte(b.String()), nil
}
