package usage

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// TestTheLibraryGrowsByWhatArrives holds each column against the files that had arrived by its end.
func TestTheLibraryGrowsByWhatArrives(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 12))
	for _, name := range zones {
		zone := load(t, name)
		begin := time.Date(2025, 12, 20, 5, 0, 0, 0, zone)
		var files []Stored
		for range 80 {
			files = append(files, Stored{Shelf: []string{"films", "series"}[r.IntN(2)], Size: r.Int64N(1 << 40),
				Added: begin.Add(time.Duration(r.Int64N(int64(400 * 24 * time.Hour))))})
		}
		slices.SortFunc(files, func(a, b Stored) int { return a.Added.Compare(b.Added) })
		for _, by := range []By{ByDay, ByWeek, ByMonth} {
			for _, split := range []Split{SplitNone, SplitShelf, SplitKind} {
				a := Asked{By: by, Of: OfLibrary, Split: split, Zone: zone, To: begin.AddDate(0, 0, 300),
					Kinds: map[string]string{"films": "films", "series": "films"}}
				if r.IntN(2) == 0 {
					a.From = begin.AddDate(0, 0, r.IntN(200))
				}
				list := Growth(files, a, func(shelf string) bool { return shelf == "films" || split != SplitNone })
				if len(list) < 3 {
					t.Fatalf("%s by %s: %d columns", name, by, len(list))
				}
				for _, c := range list {
					want, parts := 0.0, 0.0
					for _, f := range files {
						if f.Added.Before(by.next(c.Begins)) && (f.Shelf == "films" || split != SplitNone) {
							want += float64(f.Size)
						}
					}
					for _, v := range c.Split {
						parts += v
					}
					if c.Value != want || split != SplitNone && parts != want {
						t.Errorf("%s, %s by %s: %f in parts of %f, want %f", name, c.Name, by, c.Value, parts, want)
					}
					if split == SplitKind && len(c.Split) > 1 {
						t.Errorf("%v", c.Split)
					}
				}
			}
		}
	}
	if list := Growth(nil, Asked{By: ByDay, Of: OfLibrary, Zone: time.UTC, To: time.Unix(0, 0)}, nil); len(list) != 1 ||
		list[0].Value != 0 {
		t.Errorf("%+v", list)
	}
}
