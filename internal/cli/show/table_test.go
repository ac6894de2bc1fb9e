package show

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
)

// drawn draws a table on a terminal of so many columns.
func drawn(width int, columns []Column, rows [][]string) string {
	var b bytes.Buffer
	Out{w: &b, width: width}.Table(columns, rows)
	return b.String()
}

// ledgerOf is a table with long texts.
func ledgerOf() ([]Column, [][]string) {
	return []Column{{Head: "entry", Right: true}, {Head: "when"}, {Head: "who", Drop: 1}, {Head: "command", Drop: 2},
			{Head: "what"},
			{Head: "outcome"}}, [][]string{
			{"1", "today 10:00:00", "wren (for bram)", "deploy",
				"deploy Fernhollow Mill: port 26990 → 26991; memory limit 1.0 GiB → 2.0 GiB", "done, can be undone"},
			{"112", "2026-10-23 10:00", "root", "access --mend",
				"acl-user on /srv/media/own/recordings-of-the-mill: 12 files, 3 folders", "done, undone by 113"},
		}
}

// TestTablesFitAndBreakNoWord draws one at several widths.
func TestTablesFitAndBreakNoWord(t *testing.T) {
	columns, rows := ledgerOf()
	for _, width := range []int{40, 60, 80, 100, 158, 0} {
		got := drawn(width, columns, rows)
		for _, l := range strings.Split(strings.TrimRight(got, "\n"), "\n") {
			if width > 0 && lipgloss.Width(l) > max(width, longestWord(l)+8) {
				t.Errorf("at %d columns a line has %d:\n%s", width, lipgloss.Width(l), got)
			}
		}
		for _, word := range []string{"112", "/srv/media/own/recordings-of-the-mill:", "26991;", "10:00:00", "undone"} {
			if !strings.Contains(got, word) {
				t.Errorf("at %d columns %q is missing or broken:\n%s", width, word, got)
			}
		}
	}
	if got := drawn(0, columns, rows); strings.Count(got, "\n") != 3 {
		t.Errorf("without a terminal:\n%s", got)
	}
	if got := drawn(76, columns, rows); strings.Contains(got, "wren") || !strings.Contains(got, "today") {
		t.Errorf("at 76 columns who did it is still there, which matters least:\n%s", got)
	}
}

// TestNoWordIsLostWhateverTheTable draws random tables: every word of what is not left out is
// there, whole.
func TestNoWordIsLostWhateverTheTable(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 7))
		text := func() string {
			var words []string
			for range r.IntN(9) {
				words = append(words, strings.Repeat(string(rune('a'+r.IntN(26))), 1+r.IntN(18)))
			}
			return strings.Join(words, " ")
		}
		columns := make([]Column, 1+r.IntN(7))
		for i := range columns {
			columns[i] = Column{Head: fmt.Sprint("h", i), Right: r.IntN(4) == 0}
		}
		var rows [][]string
		for range 1 + r.IntN(4) {
			row := make([]string, len(columns))
			for i := range row {
				row[i] = text()
			}
			rows = append(rows, row)
		}
		width := 20 + r.IntN(140)
		got := drawn(width, columns, rows)
		seen := map[string]int{}
		for _, w := range strings.Fields(got) {
			seen[w]++
		}
		for _, row := range rows {
			for _, cell := range row {
				for _, w := range strings.Fields(cell) {
					if seen[w] == 0 {
						t.Fatalf("seed %d, %d columns: %q is not there\n%s", seed, width, w, got)
					}
				}
			}
		}
	}
}

// TestLinesHangBelowTheirFirst breaks a text behind a mark: the mark stands once.
func TestLinesHangBelowTheirFirst(t *testing.T) {
	var b bytes.Buffer
	o := Out{w: &b, width: 40}
	o.Hang("  ✗ ", "12 paths, such as /srv/media/films/The Long Way to Fernhollow Mill (2019)")
	o.Command("    $ ", "setfacl -R -m u:shelfkeeper:rX --no-mask /srv/media/films/of-the-whole-household")
	want := "  ✗ 12 paths, such as\n    /srv/media/films/The Long Way to\n    Fernhollow Mill (2019)\n" +
		"    $ setfacl -R -m u:shelfkeeper:rX --no-mask /srv/media/films/of-the-whole-household\n"
	if b.String() != want {
		t.Errorf("got\n%s\nwant\n%s", b.String(), want)
	}
}
