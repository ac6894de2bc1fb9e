package today

import (
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/usage"
)

func TestFiveLines(t *testing.T) {
	riga, err := time.LoadLocation("Europe/Riga")
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 11, 23, 20, 0, 0, 0, riga)
	play := func(who, title string, ago, lasted time.Duration, more ...string) usage.Play {
		p := usage.Play{Member: who, Sofa: more, Title: title, Started: now.Add(-ago), Seen: now.Add(lasted - ago),
			Watched: lasted.Seconds()}
		p.Ended = p.Seen
		return p
	}
	for name, c := range map[string]struct {
		facts Facts
		want  []string
		ill   []About
	}{
		"nothing yet": {Facts{}, []string{"Nobody is watching", "Nothing was watched today", "Nothing is on the shelves yet",
			"How full the disks are is not known", "Nothing needs you"}, nil},
		"an evening": {Facts{
			Open: []usage.Play{play("Wren", "Low Water", time.Hour, time.Hour, "Ozan"), {Member: "Pip", Title: "Tiny Harbour",
				Away: true}},
			// One that began yesterday before midnight, one of today, one of yesterday alone.
			Plays: []usage.Play{play("Wren", "Low Water", time.Hour, time.Hour, "Ozan"),
				play("Pip", "Tiny Harbour", 20*time.Hour+30*time.Minute, time.Hour), play("Pip", "Ash", 30*time.Hour, 2*time.Hour)},
			Arrived: []string{"A", "B", "C", "D"}, Count: 7,
			Disks:    []Disk{{"/srv/films", 500 << 30, 1 << 40}, {"/srv/series", 10 << 30, 1 << 40}},
			Concerns: []Concern{{"the backup is overdue", "cozyshelf backup list"}, {"2 files of films cannot be used", "x"}},
		}, []string{"Wren and Ozan watch Low Water and Pip watches Tiny Harbour (away)",
			"1 h 30 min watched today, in 2 plays by 3 members; yesterday 2 h 30 min", "Arrived today: A, B, C and 4 more",
			"A disk is nearly full: 10 GiB of 1.0 TiB free at /srv/series",
			"The backup is overdue and 2 files of films cannot be used (cozyshelf backup list)"}, []About{Room, SeeTo}},
		"a quiet day": {Facts{Last: "Low Water", LastAt: now.AddDate(0, 0, -9), Disks: []Disk{{"/srv/films", 1 << 39,
			1 << 40}}},
			[]string{"Nobody is watching", "Nothing was watched today",
				"Nothing arrived today; the last was Low Water, on 14 November", "512 GiB of 1.0 TiB free at /srv/films",
				"Nothing needs you"}, nil},
		"all full": {Facts{Disks: []Disk{{"/a", 0, 1 << 40}, {"/b", 1 << 30, 1 << 40}}}, []string{"Nobody is watching",
			"Nothing was watched today", "Nothing is on the shelves yet",
			"2 disks are nearly full; 0 B of 1.0 TiB free at /a", "Nothing needs you"}, []About{Room}},
	} {
		c.facts.Now = now
		lines := Lines(c.facts)
		if len(lines) != 5 {
			t.Fatalf("%s: %d lines", name, len(lines))
		}
		for i, l := range lines {
			if l.Text != c.want[i] || l.Well == slices.Contains(c.ill, l.About) || strings.Contains(l.Text, "\n") {
				t.Errorf("%s: got  %q, %v\nwant %q", name, l.Text, l.Well, c.want[i])
			}
		}
	}
}
