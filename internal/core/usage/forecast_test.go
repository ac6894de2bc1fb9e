package usage

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

var forecastNow = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

// arriving gives files of a shelf: what was there at first, and so many bytes on each day that a function gives.
func arriving(days int, at func(day int) int64) (out []Stored) {
	begin := forecastNow.Add(-time.Duration(days+1) * 24 * time.Hour)
	for i := range 50 {
		out = append(out, Stored{Title: int64(i), Name: fmt.Sprint("old ", i), Shelf: "films",
			Added: begin.Add(time.Duration(i) *
				time.Minute), Size: 40e9})
	}
	for d := range days {
		if n := at(d); n > 0 {
			out = append(out, Stored{Title: int64(1000 + d), Name: fmt.Sprint("new ", d), Shelf: "films",
				Added: begin.Add(time.Duration(d+1)*24*time.Hour + time.Hour), Size: n})
		}
	}
	return out
}

func TestADiskIsForetoldWhateverCameAtOnce(t *testing.T) {
	disk := Disk{Name: "/srv", Free: 1000e9, Total: 8000e9, Shelves: []string{"films"}}
	steady := func(int) int64 { return 10e9 }
	for what, c := range map[string]struct {
		files    []Stored
		daily    float64
		fullDays float64 // 0 for beyond
	}{
		"steady": {arriving(120, steady), 10e9, 100},
		"a great day": {arriving(120, func(d int) int64 {
			if d == 60 {
				return 900e9
			}
			return 10e9
		}), 10e9, 100},
		"every week": {arriving(120, func(d int) int64 {
			if d%7 == 0 {
				return 70e9
			}
			return 0
		}), 10e9, 100},
		"nothing":        {arriving(120, func(int) int64 { return 0 }), 0, 0},
		"hardly a thing": {arriving(120, func(int) int64 { return 1e6 }), 1e6, 0},
	} {
		got := Foretell(disk, c.files, forecastNow)
		if got.Days == 0 || math.Abs(got.Daily-c.daily) > 0.12*c.daily || got.Least > got.Daily || got.Most < got.Daily {
			t.Errorf("%s: %+v", what, got)
		}
		days := got.Full.Sub(forecastNow).Hours() / 24
		if c.fullDays == 0 && !got.Full.IsZero() || c.fullDays > 0 && math.Abs(days-c.fullDays) > 0.15*c.fullDays {
			t.Errorf("%s: full %s", what, got.Full)
		}
		if !got.Full.IsZero() && (got.Early.After(got.Full) || !got.Late.IsZero() && got.Late.Before(got.Full)) {
			t.Errorf("%s: %s, %s, %s", what, got.Early, got.Full, got.Late)
		}
	}
	for what, files := range map[string][]Stored{"none": nil, "too few days": arriving(10, steady),
		"another disk": func() []Stored {
			list := arriving(120, steady)
			for i := range list {
				list[i].Shelf = "music"
			}
			return list
		}()} {
		if got := Foretell(disk, files, forecastNow); got.Days != 0 || !got.Full.IsZero() {
			t.Errorf("%s: %+v", what, got)
		}
	}
}

// TestForecastsHoldForWhatComes draws arrivals at random from one habit, foretells from the first half, and sees
// whether the second half came as was said.
func TestForecastsHoldForWhatComes(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	within := 0
	const rounds = 200
	for range rounds {
		rate, size := 0.1+0.6*rng.Float64(), 2e9+20e9*rng.Float64()
		daily := func(int) int64 {
			if rng.Float64() < rate {
				return int64(size * (0.5 + rng.Float64()))
			}
			return 0
		}
		got := Foretell(Disk{Name: "/srv", Free: 1, Shelves: []string{"films"}}, arriving(150, daily), forecastNow)
		future := 0.0
		for range 150 {
			future += float64(daily(0))
		}
		if future/150 >= got.Least && future/150 <= got.Most {
			within++
		}
	}
	if within < rounds*80/100 {
		t.Errorf("%d of %d came as was said", within, rounds)
	}
}

func TestWhatWouldFreeMostIsSaidOnce(t *testing.T) {
	day := func(ago int) time.Time { return forecastNow.AddDate(0, 0, -ago) }
	file := func(title int64, name, same string, added time.Time, size int64) Stored {
		return Stored{Title: title, Name: name, Shelf: "films", Same: same, Added: added, Size: size, Length: 100,
			Lines: 1080}
	}
	files := []Stored{file(1, "seen", "", day(300), 100), file(2, "half seen", "", day(300), 100), file(3, "unwatched",
		"", day(900), 100),
		file(4, "new", "", day(10), 100), file(5, "twice", "", day(300), 100), file(5, "twice", "", day(300), 80), file(5,
			"twice", "2",
			day(300), 70), file(6, "large", "", day(300), 1000), file(7, "seen lately", "", day(300), 100)}
	plays := []Play{{Member: "wren", Title: "seen", Done: true, Seen: day(200)}, {Member: "piet", Title: "seen",
		Done: true, Seen: day(210)},
		{Member: "wren", Title: "half seen", Done: true, Seen: day(200)}, {Member: "piet", Sofa: []string{"bram"},
			Title: "half seen", Seen: day(250)},
		{Member: "wren", Title: "seen lately", Done: true, Seen: day(3)}, {Member: "wren", Title: "large", Seen: day(3)},
		{Member: "wren", Title: "twice", Seen: day(3)}}
	members := map[string][]Play{}
	var lately []Play
	for i := range plays {
		plays[i].Shelf = "films"
		plays[i].Started = plays[i].Seen
		if plays[i].Seen.After(LatelySince(forecastNow)) {
			lately = append(lately, plays[i])
		}
		for _, who := range plays[i].Viewers() {
			members[who] = append(members[who], plays[i])
		}
	}
	watched, err := WatchedOf(rolled(plays), rolled(lately), func(do func(*Sums)) error {
		for _, list := range members {
			do(rolled(list))
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]Frees{"large": {Bytes: 900, Why: TooLarge, Files: 1}, "seen": {Bytes: 100, Why: SeenLongAgo,
		Files: 1},
		"unwatched": {Bytes: 100, Why: NeverSeen, Files: 1}, "twice": {Bytes: 80, Why: Twice, Files: 1}}
	got := FreesMost(files, watched, forecastNow, 0)
	for i, f := range got {
		if w := want[f.Name]; w.Bytes != f.Bytes || w.Why != f.Why || w.Files != f.Files {
			t.Errorf("%+v", f)
		}
		if i > 0 && got[i-1].Bytes < f.Bytes {
			t.Errorf("%+v before %+v", got[i-1], f)
		}
	}
	if len(got) != len(want) {
		t.Errorf("%d of %d: %+v", len(got), len(want), got)
	}
	if some := FreesMost(files, watched, forecastNow, 2); len(some) != 2 || some[0].Name != "large" {
		t.Errorf("%+v", some)
	}
	// The order of the files changes nothing.
	for range 20 {
		rand.Shuffle(len(files), func(i, j int) { files[i], files[j] = files[j], files[i] })
		if again := FreesMost(files, watched, forecastNow, 0); fmt.Sprint(again) != fmt.Sprint(got) {
			t.Errorf("%+v\n%+v", again, got)
		}
	}
}

func TestADiskIsFullSoon(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for days, want := range map[int]bool{0: true, 29: true, 31: false, 3000: false} {
		if got := (Forecast{Full: now.AddDate(0, 0, days)}).Soon(now); got != want {
			t.Errorf("in %d days: %v", days, got)
		}
	}
	if (Forecast{}).Soon(now) {
		t.Error("one of which nothing can be said is full soon")
	}
}
