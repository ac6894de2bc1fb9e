package usage

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// zones are some whose clocks are changed at midnight, by half an hour, or not at all.
var zones = []string{"Europe/Amsterdam", "America/St_Johns", "Asia/Kathmandu", "Australia/Lord_Howe", "UTC",
	"America/Havana", "Africa/Cairo", "America/Sao_Paulo", "Asia/Beirut"}

// house makes plays at random around changes of the clocks, in the order in which they began.
func house(r *rand.Rand, zone *time.Location, n int) []Play {
	people := []string{"wren", "ozan", "linnea", "Ödön"}
	at := []time.Time{time.Date(2018, 11, 1, 0, 0, 0, 0, zone), time.Date(2026, 3, 25, 0, 0, 0, 0, zone),
		time.Date(2026, 10, 20, 0, 0, 0, 0, zone), time.Date(2026, 12, 30, 0, 0, 0, 0, zone)}
	var out []Play
	for i := range n {
		start := at[r.IntN(len(at))].Add(time.Duration(r.Int64N(int64(14 * 24 * time.Hour)))).Truncate(time.Millisecond)
		on := r.Perm(len(people))
		p := Play{ID: int64(i), Member: people[on[0]], Shelf: []string{"films", "series"}[r.IntN(2)],
			Title: fmt.Sprint("title ", r.IntN(6)), Part: []string{"", "1", "2"}[r.IntN(3)], Started: start,
			Device:   []string{"", "big screen", "browser on Linux", "another linux", "tablet"}[r.IntN(5)],
			Delivery: append([]string{""}, Deliveries...)[r.IntN(4)], Away: r.IntN(3) == 0, Done: r.IntN(2) == 0,
			Watched: float64(r.IntN(9_000_000)) / 1000, Bytes: r.Int64N(1 << 40)}
		for _, j := range on[1 : 1+r.IntN(3)] {
			p.Sofa = append(p.Sofa, people[j])
		}
		if r.IntN(10) == 0 {
			p.Member, p.Device, p.Sofa = "", "", nil // it is forgotten
		}
		p.Seen = start.Add(time.Duration(r.IntN(4*3600*1000)) * time.Millisecond)
		p.Ended = p.Seen
		switch r.IntN(12) {
		case 0:
			p.Seen, p.Ended = start, start
		case 1:
			p.Ended = start.Add(-time.Hour)
		case 2:
			p.Ended = start.AddDate(0, 3, 0)
		}
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b Play) int { return a.Started.Compare(b.Started) })
	return out
}

func load(t *testing.T, name string) *time.Location {
	t.Helper()
	zone, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return zone
}

// TestDaysAddUp parts plays into days, kept as bytes, and holds their sum against the sums of the plays as a whole, of
// all and of a part of the time.
func TestDaysAddUp(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 4))
	for _, name := range zones {
		zone := load(t, name)
		plays := house(r, zone, 90)
		from := plays[0].Started.Add(-time.Duration(r.Int64N(int64(time.Hour))))
		until := plays[len(plays)-1].Started.Add(time.Duration(r.Int64N(int64(48 * time.Hour))))
		whole := NewRoller(zone, from, until, PartAll)
		for _, p := range plays {
			whole.Add(p)
		}
		sum := NewSums()
		for at := from; at.Before(until); {
			_, next := DayOf(at.In(zone))
			if next.After(until) {
				next = until
			}
			if !next.After(at) {
				t.Fatalf("%s: the day of %s ends at %s", name, at, next)
			}
			day := NewRoller(zone, at, next, PartAll)
			for _, p := range plays {
				day.Add(p)
			}
			for _, part := range EachPart {
				if err := sum.Decode(day.End().Encode(part)); err != nil {
					t.Fatal(err)
				}
			}
			at = next
		}
		if want := whole.End(); !sum.Equal(want) {
			for k, e := range want.Of {
				if sum.Of[k] == nil || sum.Of[k].Tally != e.Tally {
					t.Errorf("%s: %+v: %+v, want %+v", name, k, sum.Of[k], e.Tally)
				}
			}
			t.Fatalf("%s: peaks %v, want %v", name, sum.Peaks, want.Peaks)
		}
	}
}

// TestSumsAreWhatCountingGives counts every second by itself.
func TestSumsAreWhatCountingGives(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 5))
	for _, name := range zones {
		zone := load(t, name)
		var plays []Play
		for _, p := range house(r, zone, 24) {
			p.Started = p.Started.Truncate(time.Second)
			p.Seen = p.Seen.Truncate(time.Second)
			if p.Ended = p.Seen; p.Seen.After(p.Started) { // a second is watched in a second, and brings a byte
				p.Watched, p.Bytes = p.Seen.Sub(p.Started).Seconds(), int64(p.Seen.Sub(p.Started).Seconds())
				plays = append(plays, p)
			}
		}
		want, peaks := map[Key]Tally{}, map[int]int64{}
		running := map[int64]int64{}
		for _, p := range plays {
			for at := p.Started; at.Before(p.Ended); at = at.Add(time.Second) {
				running[at.Unix()]++
				n := running[at.Unix()]
				for _, h := range []int{0, hourOf(at.In(zone))} {
					peaks[h] = max(peaks[h], n)
					add := func(dim Dim, name string) {
						v := want[Key{h, dim, name}]
						v.Watched, v.Bytes = v.Watched+1000, v.Bytes+1
						if at.Equal(p.Started) {
							if v.Plays++; p.Done {
								v.Done++
							}
						}
						want[Key{h, dim, name}] = v
					}
					add(DimAll, "")
					add(DimOwner, p.Member)
					add(DimShelf, p.Shelf)
					add(DimDevice, p.Device)
					add(DimDelivery, p.Delivery)
					add(DimWhere, map[bool]string{true: "away", false: "home"}[p.Away])
					add(DimSofa, map[bool]string{true: "together", false: "alone"}[len(p.Sofa) > 0])
					if h == 0 {
						add(DimTitle, TitleKey(p.Shelf, p.Title, p.Part))
						for _, v := range p.Viewers() {
							add(DimMember, v)
						}
					}
				}
			}
		}
		whole := NewRoller(zone, time.Time{}, time.Time{}, PartAll)
		for _, p := range plays {
			whole.Add(p)
		}
		got := whole.End()
		if len(got.Of) != len(want) || len(got.Peaks) != len(peaks) {
			t.Errorf("%s: %d sums and %d peaks, want %d and %d", name, len(got.Of), len(got.Peaks), len(want),
				len(peaks))
		}
		for k, v := range want {
			if got.Get(k.Hour, k.Dim, k.Name) != v {
				t.Errorf("%s: %+v: %+v, want %+v", name, k, got.Get(k.Hour, k.Dim, k.Name), v)
			}
		}
		for h, n := range peaks {
			if got.Peaks[h] != n {
				t.Errorf("%s: %d at once in hour %d, want %d", name, got.Peaks[h], h, n)
			}
		}
	}
}

// TestSpansCoverATimeOnce holds the parts of random times against each other and the bounds of periods.
func TestSpansCoverATimeOnce(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 6))
	for _, name := range zones {
		zone := load(t, name)
		first := time.Date(2017, 5, 20, 13, 0, 0, 0, zone)
		for range 200 {
			from := first.Add(time.Duration(r.Int64N(int64(4*365*24*time.Hour))) - 365*24*time.Hour)
			until := from.Add(time.Duration(r.Int64N(int64(5 * 365 * 24 * time.Hour))))
			most := Level(r.IntN(5))
			kept := func(s Span) bool { return (s.At/7+int(s.Level))%9 != 0 }
			at := from
			if from.Before(first) {
				at = first
			}
			for i, s := range Spans(from, until, first, zone, most, kept) {
				if i == 0 && !s.From.After(at) { // nothing was before the first play
					at = s.From
				}
				if !s.From.Equal(at) || !s.Until.After(s.From) || s.Until.After(until) || s.Level > most {
					t.Fatalf("%s: %s to %s: span %d is %+v, and should begin at %s", name, from, until, i, s, at)
				}
				if s.Level != LevelPlays {
					if begin, end := s.Bounds(zone); !begin.Equal(s.From) || !end.Equal(s.Until) || !kept(s) {
						t.Fatalf("%s: %+v", name, s)
					}
				}
				at = s.Until
			}
			if at.Before(until) {
				t.Fatalf("%s: %s to %s ends at %s", name, from, until, at)
			}
		}
	}
}

func TestMidnightIsWhereTheDayBegins(t *testing.T) {
	for _, name := range zones {
		zone := load(t, name)
		for day := range 4000 {
			from, to := DayOf(time.Date(2016, 1, 1+day, 12, 0, 0, 0, zone))
			if from.Day() == from.Add(-time.Minute).Day() || to.Add(-time.Minute).Day() != from.Day() ||
				to.Day() == from.Day() {
				t.Fatalf("%s: a day from %s to %s", name, from, to)
			}
		}
	}
}

func TestBytesThatAreNoSums(t *testing.T) {
	plays := house(rand.New(rand.NewPCG(1, 1)), time.UTC, 20)
	b := rolled(plays).Encode(PartTitles)
	for _, bad := range [][]byte{{2}, {1}, b[:len(b)-1], append(slices.Clone(b), 0), {1, 0, 255, 255, 255, 255, 15}} {
		if s := NewSums(); s.Decode(bad) == nil || len(s.Of) > 0 || len(s.Peaks) > 0 {
			t.Errorf("%x is taken", bad)
		}
	}
}

func FuzzDecode(f *testing.F) {
	sums := rolled(house(rand.New(rand.NewPCG(1, 1)), time.UTC, 6))
	for _, part := range EachPart {
		f.Add(sums.Encode(part))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		s := NewSums()
		if s.Decode(b) != nil {
			return
		}
		again := NewSums()
		for _, part := range EachPart {
			if err := again.Decode(s.Encode(part)); err != nil {
				t.Fatalf("%x: what was read cannot be written: %v", b, err)
			}
		}
		if len(again.Of) != len(s.Of) {
			t.Fatalf("%x: %d are %d", b, len(s.Of), len(again.Of))
		}
	})
}
