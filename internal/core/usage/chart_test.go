package usage

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// made makes plays at random around a change of summer time, some of them running, some over midnight, some by a
// clock that was set.
func made(r *rand.Rand, zone *time.Location, n int) (out []Play) {
	for range n {
		start := time.Date(2026, 10, 20+r.IntN(12), r.IntN(24), r.IntN(60), r.IntN(60), r.IntN(1e9), zone)
		p := Play{Started: start, Watched: float64(r.IntN(9000)), Bytes: r.Int64N(1 << 32),
			Member: []string{"wren", "bram"}[r.IntN(2)]}
		p.Seen = start.Add(time.Duration(r.IntN(4*3600)) * time.Second)
		switch r.IntN(8) {
		case 0:
			p.Seen = start
		case 1:
			p.Ended = start.Add(-time.Hour)
		case 2:
			p.Ended = start.AddDate(0, 3, 0)
		case 3:
		default:
			p.Ended = p.Seen
		}
		out = append(out, p)
	}
	return out
}

// TestChartsLoseNothing holds every chart against sums that were made without columns.
func TestChartsLoseNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 1))
	for _, name := range []string{"Europe/Amsterdam", "America/St_Johns", "Asia/Kathmandu", "Australia/Lord_Howe", "UTC"} {
		zone, err := time.LoadLocation(name)
		if err != nil {
			t.Fatal(err)
		}
		plays := made(r, zone, 300)
		var watched, bytes float64
		for _, p := range plays {
			watched += p.Watched
			bytes += float64(p.Bytes)
		}
		for of, whole := range map[Of]float64{OfWatched: watched, OfBytes: bytes, OfPlays: float64(len(plays))} {
			for _, by := range []By{ByDay, ByWeek, ByMonth, ByHour, ByWeekday} {
				a := Asked{By: by, Of: of, To: time.Date(2026, 11, 10, 0, 0, 0, 0, zone), Zone: zone,
					Split: SplitMember}
				sum, split := 0.0, 0.0
				list := Chart(plays, a)
				for i, c := range list {
					sum += c.Value
					for _, v := range c.Split {
						split += v
					}
					if by == ByDay && i > 0 && list[i-1].Begins.AddDate(0, 0, 1) != c.Begins {
						t.Errorf("%s: %s follows %s", name, c.Begins, list[i-1].Begins)
					}
				}
				if math.Abs(sum-whole) > whole*1e-9 || math.Abs(split-whole) > whole*1e-9 {
					t.Errorf("%s, %s by %s: %f and %f, want %f", name, of, by, sum, split, whole)
				}
			}
			sum := 0.0
			for _, day := range heat(plays, of, zone) {
				for _, v := range day {
					sum += v
				}
			}
			if math.Abs(sum-whole) > whole*1e-9 {
				t.Errorf("%s, heat of %s: %f, want %f", name, of, sum, whole)
			}
		}
	}
}

// heat gives the heat map of plays.
func heat(plays []Play, of Of, zone *time.Location) [][]float64 {
	r := NewRoller(zone, time.Time{}, time.Time{}, PartHours)
	for _, p := range slices.SortedFunc(slices.Values(plays), func(a,
		b Play) int {
		return a.Started.Compare(b.Started)
	}) {
		r.Add(p)
	}
	return HeatOf(r.End(), of, Only{})
}

// TestStreamsAtOnce counts them naively, second by second.
func TestStreamsAtOnce(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 2))
	zone, err := time.LoadLocation("Europe/Amsterdam")
	if err != nil {
		t.Fatal(err)
	}
	for range 60 {
		day := time.Date(2026, 10, 24+r.IntN(3), 0, 0, 0, 0, zone)
		var plays []Play
		for range 1 + r.IntN(12) {
			from := day.Add(time.Duration(r.IntN(26*3600)) * time.Second)
			to := from.Add(time.Duration(1+r.IntN(3*3600)) * time.Second)
			plays = append(plays, Play{Started: from, Seen: to, Ended: to})
		}
		want := map[int]int{}
		for s := range 30 * 3600 {
			at := day.Add(time.Duration(s) * time.Second)
			n := 0
			for _, p := range plays {
				if !at.Before(p.Started) && at.Before(p.Ended) {
					n++
				}
			}
			want[at.In(zone).Hour()] = max(want[at.In(zone).Hour()], n)
		}
		for h, c := range Chart(plays, Asked{By: ByHour, Of: OfStreams, Zone: zone}) {
			if int(c.Value) != want[h] {
				t.Fatalf("at %d: %v, want %d", h, c.Value, want[h])
			}
		}
	}
}

func TestColumnsAreNamed(t *testing.T) {
	zone := time.UTC
	at := time.Date(2026, 12, 31, 23, 30, 0, 0, zone)
	p := Play{Started: at, Seen: at.Add(time.Hour), Ended: at.Add(time.Hour), Watched: 3600, Bytes: 10}
	for by, want := range map[By][]string{ByDay: {"2026-12-31", "2027-01-01"}, ByWeek: {"2026-W53"},
		ByMonth: {"2026-12", "2027-01"}} {
		got := Chart([]Play{p}, Asked{By: by, Of: OfWatched, From: at, To: at.Add(2 * time.Hour), Zone: zone})
		if len(got) != len(want) {
			t.Errorf("%s: %+v", by, got)
			continue
		}
		for i := range want {
			if got[i].Name != want[i] || got[i].Value != 3600/float64(len(want)) {
				t.Errorf("%s: %+v", by, got[i])
			}
		}
	}
	if got := Chart(nil, Asked{By: ByDay, To: at, Zone: zone}); len(got) != 1 || got[0].Value != 0 {
		t.Errorf("no plays: %+v", got)
	}
	// From the beginning of time on is from the first play on.
	if got := Chart([]Play{p}, Asked{By: ByDay, From: time.Unix(0, 0), To: at.Add(time.Hour),
		Zone: zone}); len(got) != 2 ||
		got[0].Value != 1800 {
		t.Errorf("since ever: %+v", got)
	}
	old := Play{Started: time.Unix(0, 0), Seen: time.Unix(0, 0)}
	if got := Chart([]Play{old}, Asked{By: ByDay, To: at.AddDate(200, 0, 0), Zone: zone}); len(got) != MostColumns {
		t.Errorf("%d columns", len(got))
	}
}
