package usage

import (
	"cmp"
	"fmt"
	"html"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Say writes a value of a chart in words.
type Say func(float64) string

// Colours of a drawing that stands by itself: of one group, or of several, which can be told apart also by who
// sees no red or green, and by their lightness.
var groupColours = []string{"#a0482c", "#2f6f8f", "#d9a441", "#5c7f4f", "#7a5a86", "#9a9184"}

// GroupColours are the colours of groups, as #rrggbb, the first also of what is not split.
func GroupColours() []string { return slices.Clone(groupColours) }

// mostGroups is how many groups a drawing shows by themselves; the last colour is for all others.
const mostGroups = 5

// others is what the rest is called.
const others = "others"

// Groups are those by which columns are split, the largest first; beyond a few all are one.
func Groups(list []Column) []string {
	sum := map[string]float64{}
	for _, c := range list {
		for g, v := range c.Split {
			sum[g] += v
		}
	}
	out := slices.Collect(maps.Keys(sum))
	slices.SortFunc(out, func(a, b string) int { return cmp.Or(cmp.Compare(sum[b], sum[a]), cmp.Compare(a, b)) })
	if len(out) > mostGroups {
		out = append(out[:mostGroups:mostGroups], others)
	}
	return out
}

// split gives the parts of a column, in the order of groups.
func (c Column) split(groups []string) []float64 {
	out := make([]float64, len(groups))
	for g, v := range c.Split {
		i := slices.Index(groups, g)
		if i < 0 {
			i = len(groups) - 1
		}
		out[i] += v
	}
	return out
}

// Measures of a drawing, in pixels.
const (
	barHigh  = 120
	barWide  = 14
	barGap   = 4
	nameHigh = 18
	rowHigh  = 20
	heatCell = 22
	heatLeft = 42
	heatTop  = 18
)

// DrawBars draws a chart as an SVG picture to stand in a page: a bar for each column, which tells its figure to
// whoever points at it.
func DrawBars(list []Column, label string, say Say) string {
	groups := Groups(list)
	most := 0.0
	for _, c := range list {
		most = max(most, c.Value)
	}
	if most == 0 {
		most = 1
	}
	var b strings.Builder
	high := barHigh + nameHigh + rowHigh*len(groups)
	named, month := -nameWide, ""
	days := len(list) > 1 && len(list) <= mostDays && list[1].Begins.Sub(list[0].Begins) < 36*time.Hour
	for i, c := range list {
		x := i * (barWide + barGap)
		said := c.Name + ": " + say(c.Value)
		var parts []string
		from := float64(barHigh)
		for g, v := range c.split(groups) {
			if v <= 0 {
				continue
			}
			tall := v / most * barHigh
			from -= tall
			parts = append(parts, fmt.Sprintf(`<rect class="g%d" x="%d" y="%.1f" width="%d" height="%.1f"/>`, g, x, from,
				barWide,
				tall))
			said += fmt.Sprintf("; %s %s", cmp.Or(groups[g], "nobody"), say(v))
		}
		if len(groups) == 0 {
			tall := max(c.Value/most*barHigh, 1)
			parts = []string{fmt.Sprintf(`<rect class="g0" x="%d" y="%.1f" width="%d" height="%.1f" rx="2"/>`, x,
				barHigh-tall,
				barWide, tall)}
		}
		fmt.Fprintf(&b, `<g><title>%s</title>%s</g>`, html.EscapeString(said), strings.Join(parts, ""))
		name := c.Name
		if days && !c.Begins.IsZero() {
			name = c.Begins.Format("2 Jan")
		} else if !c.Begins.IsZero() { // a month's name where it begins, since not every column has room for its own
			if name = c.Begins.Format("Jan"); name == month || month == "" && i == 0 && c.Begins.Day() > 7 {
				month = name
				continue
			}
			month = name
		}
		if x-named < nameWide {
			continue
		}
		fmt.Fprintf(&b, `<text x="%d" y="%d">%s</text>`, x, barHigh+14, html.EscapeString(name))
		named = x
	}
	for g, name := range groups {
		y := barHigh + nameHigh + g*rowHigh
		fmt.Fprintf(&b, `<rect class="g%d" x="0" y="%d" width="12" height="12"/><text x="18" y="%d">%s</text>`, g, y+3,
			y+14,
			html.EscapeString(cmp.Or(name, "nobody")))
	}
	// Wide enough for the last name, too.
	wide := max(len(list)*(barWide+barGap), named+nameWide)
	return fmt.Sprintf(`<svg class="bars" viewBox="0 0 %d %d" role="img" aria-label="%s">%s</svg>`, wide, high,
		html.EscapeString(label), b.String())
}

// nameWide is how much room a name below a bar needs; mostDays how many bars are named by their days.
const (
	nameWide = 52
	mostDays = 70
)

// DrawHeat draws hours of weekdays as an SVG picture to stand in a page, the darker the more.
func DrawHeat(heat [][]float64, label string, say Say) string {
	most := 0.0
	for _, day := range heat {
		for _, v := range day {
			most = max(most, v)
		}
	}
	if most == 0 {
		most = 1
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg class="heat" viewBox="0 0 %d %d" role="img" aria-label="%s">`, heatLeft+24*heatCell,
		heatTop+7*heatCell, html.EscapeString(label))
	for h := 0; h < 24; h += 3 {
		fmt.Fprintf(&b, `<text x="%d" y="12">%02d</text>`, heatLeft+h*heatCell, h)
	}
	for d, day := range heat {
		fmt.Fprintf(&b, `<text x="0" y="%d">%s</text>`, heatTop+d*heatCell+15, Weekdays[d])
		for h, v := range day {
			fmt.Fprintf(&b, `<rect x="%d" y="%d" width="%d" height="%d" rx="3" fill-opacity="%.2f"><title>%s %02d:00: %s</title></rect>`,
				heatLeft+h*heatCell, heatTop+d*heatCell, heatCell-3, heatCell-3, 0.06+0.94*v/most, Weekdays[d], h,
				html.EscapeString(say(v)))
		}
	}
	b.WriteString(`</svg>`)
	return b.String()
}

// DrawingStyle is how drawings look that stand outside of our pages.
var DrawingStyle = func() string {
	var b strings.Builder
	b.WriteString("svg text{font:12px 'Noto Sans','DejaVu Sans',sans-serif;fill:#6d5f52}svg.heat rect{fill:#a0482c}")
	for i, c := range groupColours {
		fmt.Fprintf(&b, "svg .g%d{fill:%s}", i, c)
	}
	return b.String()
}()

// Standalone makes a file of its own of a drawing.
func Standalone(svg string) string {
	var w, h int
	_, rest, _ := strings.Cut(svg, `viewBox="`)
	if _, err := fmt.Sscanf(rest, "0 0 %d %d", &w, &h); err != nil {
		return svg
	}
	open, body, _ := strings.Cut(svg, ">")
	const margin, top = 16, 42
	label := ""
	if _, rest, ok := strings.Cut(open, `aria-label="`); ok {
		label, _, _ = strings.Cut(rest, `"`) // it is escaped
	}
	was := fmt.Sprintf(`viewBox="0 0 %d %d"`, w, h)
	w = max(w, 7*utf8.RuneCountInString(html.UnescapeString(label))) // room for what is written above
	open = strings.Replace(open, was, fmt.Sprintf(`viewBox="%d %d %d %d"`, -margin,
		-top, w+2*margin, h+margin+top), 1)
	return fmt.Sprintf(`%s xmlns="http://www.w3.org/2000/svg" width="%d" height="%d"><style>%s</style>`+
		`<rect x="%d" y="%d" width="%d" height="%d" style="fill:#f8f0e5;fill-opacity:1"/><text x="0" y="-18">%s</text>%s`+
		"\n", open, w+2*margin, h+margin+top, DrawingStyle, -margin, -top, w+2*margin, h+margin+top, label, body)
}
