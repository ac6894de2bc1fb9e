package routine

import (
	"math/rand/v2"
	"testing"
	"time"
	_ "time/tzdata"
)

func TestNext(t *testing.T) {
	riga, err := time.LoadLocation("Europe/Riga")
	if err != nil {
		t.Fatal(err)
	}
	at := func(s string) time.Time {
		v, err := time.ParseInLocation("2006-01-02 15:04", s, riga)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	for _, c := range []struct{ last, now, every, want string }{
		{"2026-11-23 03:30", "2026-11-23 12:00", "day", "2026-11-24 03:30"},
		{"2026-11-23 02:00", "2026-11-23 03:00", "day", "2026-11-23 03:30"},
		{"2026-11-23 14:00", "2026-11-23 15:00", "day", "2026-11-24 03:30"},
		{"2026-11-01 03:30", "2026-11-23 12:00", "day", "2026-11-02 03:30"}, // missed: in the past, so at once
		{"2026-11-23 03:30", "2026-11-23 12:00", "week", "2026-11-30 03:30"},
		{"2026-11-23 12:00", "2026-11-23 13:00", "12h", "2026-11-24 00:00"},
		{"2027-05-01 03:30", "2026-11-23 12:00", "day", "2026-11-24 03:30"},   // the clock was wrong then
		{"2026-10-24 03:30", "2026-10-24 12:00", "day", "2026-10-25 03:30"},   // the night the clocks go back
		{"2026-03-28 03:30", "2026-03-28 12:00", "day", "2026-03-29 04:30"},   // 03:30 does not exist on that day
		{"2026-11-23 12:00", "2026-11-23 13:00", "fortnight", "0001-01-01 0"}, // no such routine
	} {
		var want time.Time
		if c.every != "fortnight" {
			want = at(c.want)
		}
		if got := Next(at(c.last), at(c.now), c.every, "03:30", riga); !got.Equal(want) {
			t.Errorf("every %s, last %s, now %s: got %s, want %s", c.every, c.last, c.now, got, want)
		}
	}
	now := at("2026-11-23 12:00")
	if got := Next(time.Time{}, now, "day", "03:30", riga); !got.Equal(now) {
		t.Errorf("never done: got %s, want now", got)
	}
}

// TestItIsNeverDueTwiceNorTooLate: whatever the clock does, work done when it is
// due is due again later, and never more than its pause and a day later.
func TestItIsNeverDueTwiceNorTooLate(t *testing.T) {
	zones := []string{"UTC", "Europe/Riga", "America/St_Johns", "Pacific/Apia"}
	r := rand.New(rand.NewPCG(4, 2))
	for range 5000 {
		zone, err := time.LoadLocation(zones[r.IntN(len(zones))])
		if err != nil {
			t.Fatal(err)
		}
		every := []string{"day", "week", "1h", "36h"}[r.IntN(4)]
		now := time.Unix(1_700_000_000+r.Int64N(200_000_000), 0)
		last := now.Add(time.Duration(r.Int64N(int64(60*24*time.Hour))) - 50*24*time.Hour)
		next := Next(last, now, every, "02:45", zone)
		from := last
		if from.After(now) {
			from = now
		}
		if !next.After(from) || next.Sub(from) > 8*24*time.Hour {
			t.Fatalf("%s in %s: last %s, now %s: due %s", every, zone, last, now, next)
		}
	}
}
