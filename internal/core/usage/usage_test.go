package usage

import (
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
	"time"
)

func TestAdvanceCountsWhatCanHaveBeenSeen(t *testing.T) {
	for name, c := range map[string]struct {
		from, to float64
		passed   time.Duration
		want     float64
	}{
		"normal speed":  {10, 20, 10 * time.Second, 10},
		"double speed":  {10, 30, 10 * time.Second, 20},
		"paused":        {10, 10, time.Minute, 0},
		"jump forwards": {10, 4000, 10 * time.Second, 10},
		"jump back":     {100, 5, 10 * time.Second, 0},
	} {
		if got := Advance(c.from, c.to, c.passed); got != c.want {
			t.Errorf("%s: got %v, want %v", name, got, c.want)
		}
	}
}

func TestFinishedAndResume(t *testing.T) {
	for _, c := range []struct {
		pos, dur float64
		done     bool
		resume   float64
	}{{0, 100, false, 0}, {3, 100, false, 0}, {50, 100, false, 50}, {96, 100, true, 0}, {7090, 7200, true, 0},
		{6000, 7200, false, 6000}, {50, 0, false, 50}} {
		if got := Finished(c.pos, c.dur); got != c.done {
			t.Errorf("finished at %v of %v: got %v", c.pos, c.dur, got)
		}
		if got := ResumeAt(c.pos, c.dur); got != c.resume {
			t.Errorf("resume at %v of %v: got %v, want %v", c.pos, c.dur, got, c.resume)
		}
	}
}

func TestTopListsAreSortedAndCompared(t *testing.T) {
	list := []Rank{{Name: "a", Watched: 5, Plays: 1, Members: 3}, {Name: "b", Watched: 4, Plays: 9, Members: 1},
		{Name: "c", Watched: 9, Plays: 2, Titles: 2}}
	for by, want := range map[Order]string{ByTime: "cab", ByPlays: "bca", ByMembers: "acb"} {
		got := ""
		for _, r := range Sort(slices.Clone(list), by, 0) {
			got += r.Name
		}
		if got != want {
			t.Errorf("by %s: %s, want %s", by, got, want)
		}
	}
	if got := Sort(slices.Clone(list), ByTime, 2); len(got) != 2 {
		t.Errorf("two of them: %+v", got)
	}
	Compare(list, []Rank{{Name: "b", Watched: 7}, {Name: "a", Shelf: "another", Watched: 1}})
	for i, want := range []float64{0, 7, 0} {
		if b := list[i].Before; b == nil || *b != want {
			t.Errorf("%s before: %v, want %v", list[i].Name, b, want)
		}
	}
}

func TestTopListsAddUp(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var plays []Play
	var watched float64
	for range 500 {
		p := Play{Member: []string{"wren", "ozan", "ilse"}[r.IntN(3)],
			Title: []string{"Copper Kite", "Tiny Harbour"}[r.IntN(2)], Shelf: "s", Watched: float64(r.IntN(100)),
			Done: r.IntN(2) == 0, Device: []string{"kitchen tablet", "big screen"}[r.IntN(2)]}
		watched += p.Watched
		plays = append(plays, p)
	}
	for name, list := range map[string][]Rank{"titles": top("titles", plays, nil), "parts": top("parts", plays, nil),
		"members": top("members", plays, nil), "devices": top("devices", plays, nil)} {
		var w float64
		n := 0
		for i, row := range list {
			w += row.Watched
			n += row.Plays
			if i > 0 && list[i-1].Watched < row.Watched {
				t.Errorf("%s: row %d is out of order", name, i)
			}
		}
		if w != watched || n != len(plays) {
			t.Errorf("%s: got %v s in %d plays, want %v in %d", name, w, n, watched, len(plays))
		}
	}
	if got := Sort(top("titles", plays, nil), ByTime, 1); len(got) != 1 || got[0].Members != 3 {
		t.Errorf("limit 1: got %+v", got)
	}
	if got := top("titles", []Play{{Title: "Same", Shelf: "a"}, {Title: "Same", Shelf: "b"}}, nil); len(got) != 2 {
		t.Errorf("titles of one name on two shelves were thrown together: %+v", got)
	}
}

// However often somebody reports, no more counts than double speed could show.
func TestManyReportsCountNoMoreThanFewDo(t *testing.T) {
	start := time.Date(2026, 11, 27, 20, 0, 0, 0, time.UTC)
	var p Pace
	p.Begin(start)
	watched := 0.0
	for i := range 100 {
		now := start.Add(time.Duration(i) * 3900 * time.Microsecond)
		watched += p.Take(Advance(0.3*float64(i), 0.3*float64(i+1), 3900*time.Microsecond), now)
	}
	if watched > 2*0.39+1 {
		t.Errorf("30 s in 0.39 s count as %.2f", watched)
	}
	// Whoever watches at the usual speed loses nothing.
	p.Begin(start)
	watched = 0
	for i := 1; i <= 360; i++ {
		watched += p.Take(Advance(10*float64(i-1), 10*float64(i), 10*time.Second),
			start.Add(time.Duration(i)*10*time.Second))
	}
	if watched != 3600 {
		t.Errorf("an hour counts as %v", watched)
	}
}

// top gives a top list of plays.
func top(what string, plays []Play, works map[Work]Known) []Rank {
	return rolled(plays).Top(what, nil, works)
}

// rolled gives the sums of plays.
func rolled(plays []Play) *Sums {
	r := NewRoller(time.UTC, time.Time{}, time.Time{}, PartAll)
	for _, p := range plays {
		r.Add(p)
	}
	return r.End()
}

// TestASofaCountsOnceForTheHouse draws plays with sofas, and holds the rankings against sums.
func TestASofaCountsOnceForTheHouse(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 16))
	people := []string{"wren", "ozan", "linnea", "bram"}
	titles := []string{"Copper Kite", "Tiny Harbour"}
	for range 100 {
		var plays []Play
		house, each, seen := map[string]float64{}, map[string]float64{}, map[string]map[string]bool{}
		for range 1 + rnd.IntN(20) {
			on := rnd.Perm(len(people))[:1+rnd.IntN(len(people))]
			p := Play{Member: people[on[0]], Title: titles[rnd.IntN(2)], Shelf: "films", Watched: float64(rnd.IntN(1000))}
			for _, i := range on[1:] {
				p.Sofa = append(p.Sofa, people[i])
			}
			house[p.Title] += p.Watched
			if seen[p.Title] == nil {
				seen[p.Title] = map[string]bool{}
			}
			for _, i := range on {
				each[people[i]] += p.Watched
				seen[p.Title][people[i]] = true
			}
			plays = append(plays, p)
		}
		for _, r := range top("titles", plays, nil) {
			if r.Watched != house[r.Name] || r.Members != len(seen[r.Name]) {
				t.Fatalf("%+v: the house watched %v, %d members", r, house[r.Name], len(seen[r.Name]))
			}
		}
		for _, r := range top("members", plays, nil) {
			if r.Watched != each[r.Name] {
				t.Fatalf("%+v: they watched %v", r, each[r.Name])
			}
		}
	}
}

func TestRatesAreBetweenTwoLooks(t *testing.T) {
	before := []Play{{ID: 1, Bytes: 1000}, {ID: 2, Bytes: 500}, {ID: 3, Bytes: 9000}}
	now := []Play{{ID: 1, Bytes: 5000}, {ID: 3, Bytes: 10}, {ID: 4, Bytes: 100}, {ID: 2, Bytes: 500}}
	got := Rates(before, now, 2*time.Second)
	if len(got) != 2 || got[1] != 2000 || got[2] != 0 {
		t.Errorf("%v", got)
	}
	if got := Rates(before, now, 0); len(got) != 0 {
		t.Errorf("no time passed: %v", got)
	}
}

func TestPlatformsAreWhatNamesTell(t *testing.T) {
	for device, want := range map[string]string{"browser on Android": "Android", "browser on iPhone": "iPhone",
		"living room TV": "television",
		"big screen":     "television", "kitchen tablet": "tablet", "ilse's telephone": "telephone",
		"browser on Macintosh": "macOS",
		"browser on Linux":     "Linux", "mill": "other", "": "other"} {
		if got := Platform(device); got != want {
			t.Errorf("%q: %s, want %s", device, got, want)
		}
	}
	plays := []Play{{Member: "wren", Device: "browser on Linux", Watched: 5}, {Member: "ozan",
		Device: "my Linux box", Watched: 7},
		{Member: "wren", Device: "tablet", Watched: 20}, {Watched: 100}}
	got := top("platforms", plays, nil)
	if len(got) != 2 || got[0].Name != "tablet" || got[1].Watched != 12 || got[1].Members != 2 {
		t.Errorf("%+v", got)
	}
}

// TestPeopleAndGenresComeFromWhatIsKnown counts a play once for each genre and each person of its work.
func TestPeopleAndGenresComeFromWhatIsKnown(t *testing.T) {
	plays := []Play{{Member: "wren", Shelf: "films", Title: "Low Water", Watched: 100, Done: true},
		{Member: "ozan", Sofa: []string{"pip"}, Shelf: "films", Title: "Ash", Watched: 50},
		{Member: "pip", Shelf: "series", Title: "Ash", Watched: 7}}
	works := map[Work]Known{{"films", "Low Water"}: {Genres: []string{"drama", "comedy"}, People: []string{"Ada Fell"}},
		{"films", "Ash"}: {Genres: []string{"drama"}}}
	want := map[string][]Rank{
		"genres": {{Name: "drama", Plays: 2, Done: 1, Members: 3, Watched: 150},
			{Name: "comedy", Plays: 1, Done: 1, Members: 1, Watched: 100}},
		"people": {{Name: "Ada Fell", Plays: 1, Done: 1, Members: 1, Watched: 100}},
	}
	for what, ranks := range want {
		if got := top(what, plays, works); !reflect.DeepEqual(got, ranks) {
			t.Errorf("%s: got  %+v\nwant %+v", what, got, ranks)
		}
	}
	for _, what := range Tops {
		if NeedsWorks(what) != (want[what] != nil) {
			t.Errorf("%s: needs works: %v", what, NeedsWorks(what))
		}
		if !NeedsWorks(what) && what != "devices" && what != "platforms" && len(top(what, plays, nil)) == 0 {
			t.Errorf("%s: nothing without works", what)
		}
	}
}
