package allowance

import (
	"testing"
	"time"

	"cozyshelf/internal/core/household"
)

func TestWhoMaySitOnTheSofa(t *testing.T) {
	now := time.Date(2026, 11, 30, 20, 0, 0, 0, time.UTC)
	hours, err := ParseHours("15:00-19:30")
	if err != nil {
		t.Fatal(err)
	}
	film := What{Shelf: "films", Kind: household.Films, Age: new(12)}
	for name, c := range map[string]struct {
		seat Seat
		want Reason
	}{
		"an adult":                     {Seat{Role: Adult, Allowed: Allowance{Age: new(6), Hours: hours}, What: film}, ""},
		"an adult whose account ended": {Seat{Role: Adult, Allowed: Allowance{Until: now}, What: film}, Ended},
		"a child without bounds":       {Seat{Role: Child, What: film}, ""},
		"a child that is too young":    {Seat{Role: Child, Allowed: Allowance{Age: new(6)}, What: film}, Age},
		"a child that is old enough":   {Seat{Role: Child, Allowed: Allowance{Age: new(12)}, What: film}, ""},
		"a film of no known age": {Seat{Role: Child, Allowed: Allowance{Age: new(12)},
			What: What{Kind: household.Films}}, Age},
		"music of no known age": {Seat{Role: Child, Allowed: Allowance{Age: new(12)},
			What: What{Kind: household.Music}}, ""},
		"one that was shown by itself": {Seat{Role: Child, Allowed: Allowance{Age: new(6)},
			What: What{Age: new(12), Rule: new(true)}}, ""},
		"one that was hidden by itself": {Seat{Role: Child, What: What{Rule: new(false)}}, Age},
		"a shelf that is not there":     {Seat{Role: Child, Allowed: Allowance{Shelves: []string{"music"}}, What: film}, Age},
		"after the hours":               {Seat{Role: Child, Allowed: Allowance{Hours: hours}, What: film}, Hours},
		"more was granted": {Seat{Role: Child, Allowed: Allowance{Hours: hours}, What: film,
			Used: Used{Granted: now.Add(time.Minute)}}, ""},
		"the minutes are used up": {Seat{Role: Child, Allowed: Allowance{Day: 30}, Used: Used{Today: 30 * time.Minute},
			What: film}, Day},
		"the streams are another's": {Seat{Role: Child, Allowed: Allowance{Streams: 1}, Used: Used{Streams: 3},
			What: film}, ""},
		"a guest is bound by its end": {Seat{Role: Guest, Allowed: Allowance{Until: now.Add(-time.Hour)}, What: film}, Ended},
	} {
		if got := MaySit(c.seat, now, 18); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
	if MayOverrule(Child) || MayOverrule(Guest) || !MayOverrule(Adult) || !MayOverrule(Admin) {
		t.Error("who may say otherwise")
	}
}
