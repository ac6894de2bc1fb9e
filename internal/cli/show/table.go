package show

import (
	"fmt"
	"strings"

	"charm.land/lipgloss/v2"
)

// Column is a column of a table.
type Column struct {
	Head  string
	Right bool // numbers stand to the right
	Whole bool // a text is not broken: a time, a state
	Most  int  // longer texts are cut; 0 for never
	// Drop is the order in which columns are left out where the terminal is too narrow for all: 1
	// first. Those of 0 are never left out.
	Drop int
}

// gap is what stands between two columns.
const gap = "  "

// Table prints rows under their heads, each column as wide as it must be. Where the terminal is
// too narrow, texts are broken between words, then columns are left out by their importance,
// and at last each row becomes a few lines of its own. No word is ever broken.
func (o Out) Table(columns []Column, rows [][]string) {
	t := &table{out: o, columns: columns}
	for _, r := range rows {
		cells := make([]string, len(columns))
		for i, c := range columns {
			cells[i] = cut(Clean(r[i]), c.Most)
		}
		t.rows = append(t.rows, cells)
	}
	for i := range columns {
		t.shown = append(t.shown, i)
	}
	for !t.fits() {
		if !t.drop() {
			t.fold()
			return
		}
	}
	t.print()
}

// table is one that is being laid out.
type table struct {
	out     Out
	columns []Column
	rows    [][]string
	shown   []int // which columns are shown
	width   []int // of those
}

// cut cuts a text that is too long.
func cut(s string, most int) string {
	if r := []rune(s); most > 0 && lipgloss.Width(s) > most && len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// fits works the widths out, and reports whether they do.
func (t *table) fits() bool {
	room := t.out.width - len(gap)*(len(t.shown)-1)
	t.width = make([]int, len(t.shown))
	least := make([]int, len(t.shown))
	all, atLeast := 0, 0
	for i, at := range t.shown {
		t.width[i] = lipgloss.Width(t.columns[at].Head)
		least[i] = longestWord(t.columns[at].Head)
		for _, r := range t.rows {
			t.width[i] = max(t.width[i], lipgloss.Width(r[at]))
			least[i] = max(least[i], longestWord(r[at]))
		}
		if t.columns[at].Right || t.columns[at].Whole {
			least[i] = t.width[i] // numbers are not broken either
		}
		all, atLeast = all+t.width[i], atLeast+least[i]
	}
	if t.out.width == 0 || all <= room {
		return true
	}
	if atLeast > room || len(t.shown) == 0 {
		return false
	}
	// What is left is given to the columns that need least first, so that few are broken.
	left := room - atLeast
	given := make([]bool, len(t.shown))
	for range t.shown {
		next := -1
		for i := range t.shown {
			if !given[i] && (next < 0 || t.width[i]-least[i] < t.width[next]-least[next]) {
				next = i
			}
		}
		want := t.width[next] - least[next]
		got := min(want, left)
		t.width[next], left, given[next] = least[next]+got, left-got, true
	}
	// A column that is broken into very many lines is worse than one that is left out.
	for i, at := range t.shown {
		for _, r := range t.rows {
			if len(wrap(r[at], t.width[i])) > mostLines {
				return !t.droppable()
			}
		}
	}
	return true
}

// mostLines is into how many lines a cell is broken before columns are left out for it.
const mostLines = 4

func (t *table) droppable() bool {
	for _, at := range t.shown {
		if t.columns[at].Drop > 0 {
			return true
		}
	}
	return false
}

// drop leaves out the column that matters least, and reports whether there was one.
func (t *table) drop() bool {
	next := -1
	for i, at := range t.shown {
		if d := t.columns[at].Drop; d > 0 && (next < 0 || d < t.columns[t.shown[next]].Drop) {
			next = i
		}
	}
	if next < 0 {
		return false
	}
	t.shown = append(t.shown[:next:next], t.shown[next+1:]...)
	return true
}

func (t *table) print() {
	heads := make([]string, len(t.columns))
	for i, c := range t.columns {
		heads[i] = c.Head
	}
	if strings.Join(heads, "") != "" {
		t.row(heads, Faint)
	}
	for _, r := range t.rows {
		t.row(r, func(s string) string { return s })
	}
}

// row prints a row, on as many lines as it takes.
func (t *table) row(cells []string, style func(string) string) {
	var parts [][]string
	lines := 1
	for i, at := range t.shown {
		part := []string{cells[at]}
		if t.out.width > 0 {
			part = wrap(cells[at], t.width[i])
		}
		parts = append(parts, part)
		lines = max(lines, len(part))
	}
	for n := range lines {
		var b strings.Builder
		for i, at := range t.shown {
			s := ""
			if n < len(parts[i]) {
				s = parts[i][n]
			}
			pad := strings.Repeat(" ", max(0, t.width[i]-lipgloss.Width(s)))
			if t.columns[at].Right {
				s = pad + s
			} else if i < len(t.shown)-1 {
				s += pad
			}
			if i > 0 {
				b.WriteString(gap)
			}
			b.WriteString(s)
		}
		fmt.Fprintln(t.out, style(strings.TrimRight(b.String(), " ")))
	}
}

// fold prints each row as lines of its own: what it is about, and below it the rest.
func (t *table) fold() {
	for _, r := range t.rows {
		first := true
		for i, c := range t.columns {
			if r[i] == "" {
				continue
			}
			before := ""
			if !first {
				before = "  "
			}
			first = false
			head := c.Head
			if head != "" {
				head += ": "
			}
			t.out.Hang(before+head, r[i])
		}
	}
}

// longestWord is how wide the longest word of a text is.
func longestWord(s string) int {
	most := 0
	for _, w := range strings.Fields(s) {
		most = max(most, lipgloss.Width(w))
	}
	return most
}

// wrap breaks a text into lines of at most so many columns, between words. A word that is
// longer has a line of its own.
func wrap(s string, width int) []string {
	if lipgloss.Width(s) <= width {
		return []string{s}
	}
	var lines []string
	line := ""
	for _, w := range strings.Split(s, " ") {
		switch {
		case line == "" && len(lines) == 0 && w == "":
			line = " " // what it is indented by stays
		case line == "":
			line = w
		case lipgloss.Width(line)+1+lipgloss.Width(w) <= width:
			line += " " + w
		default:
			lines = append(lines, line)
			line = w
		}
	}
	return append(lines, line)
}

// Lines breaks a text into lines that fit beside an indent of so many columns, where this is a
// terminal; elsewhere it is one line. It breaks between words, so that a path or a flag in a
// command stays whole.
func (o Out) Lines(s string, indent int) []string {
	if o.width == 0 {
		return []string{s}
	}
	return wrap(s, max(20, o.width-indent))
}
