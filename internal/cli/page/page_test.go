package page

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/usage"
)

// TestReportsSayWhatTheyWereGivenAndNothingElse writes a report with names that would be more than names.
func TestReportsSayWhatTheyWereGivenAndNothingElse(t *testing.T) {
	hostile := `<script>alert(1)</script>|*x*_y_` + "`z`" + `[a](javascript:b)` + "\n# heading"
	at := time.Date(2026, 10, 5, 20, 0, 0, 0, time.UTC)
	plays := []usage.Play{{Member: hostile, Title: hostile, Shelf: "films", Started: at, Seen: at.Add(time.Hour),
		Ended: at.Add(time.Hour), Watched: 3600, Done: true, Delivery: "converted", Why: hostile}}
	sums := usage.NewRoller(time.UTC, time.Time{}, time.Time{}, usage.PartAll)
	sums.Add(plays[0])
	r := usage.MakeReport(usage.MonthSums{Now: sums.End(), Before: usage.NewSums(),
		Days: usage.Chart(plays, usage.Asked{By: usage.ByDay, To: at, Zone: time.UTC})}, plays, "", at)
	r.AddShelves(nil, []usage.TitleSeen{{Name: hostile, Shelf: "films", Added: at}})
	r.Before, r.Running = 7200, true
	b, err := HTML(r, hostile)
	if err != nil {
		t.Fatal(err)
	}
	html := string(b)
	for _, bad := range []string{"<script", "http:", "https:", "src=", "href=", "@import", "url("} {
		if strings.Contains(html, bad) {
			t.Errorf("the page holds %s", bad)
		}
	}
	for _, want := range []string{"October 2026", "&lt;script&gt;", "<svg", "1:00:00", "Most work to convert",
		"Not watched by anybody yet",
		"So far. In all of the month before it was 2:00:00."} {
		if !strings.Contains(html, want) {
			t.Errorf("the page lacks %s", want)
		}
	}
	b, err = Markdown(r, hostile)
	if err != nil {
		t.Fatal(err)
	}
	text := string(b)
	if strings.Contains(text, "<script") || strings.Contains(text, "\n# heading") || strings.Contains(text, "](java") &&
		!strings.Contains(text, `\[a](java`) {
		t.Errorf("%s", text)
	}
	// Every row of a table has as many cells as its head.
	cell := regexp.MustCompile(`(^|[^\\])\|`)
	cells := 0
	for l := range strings.Lines(text) {
		if !strings.HasPrefix(l, "|") {
			cells = 0
			continue
		}
		n := len(cell.FindAllString(l, -1))
		if cells != 0 && n != cells {
			t.Errorf("%d cells of %d: %s", n, cells, l)
		}
		cells = n
	}
}
