package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
)

// TestWhatIsSeenIsWhatIsAllowed holds what the store lists, counts and finds for members against what
// allowance.Shows says of each title, for allowances and rules at random.
func TestWhatIsSeenIsWhatIsAllowed(t *testing.T) {
	ctx := context.Background()
	s, _ := fresh(t)
	rnd := rand.New(rand.NewPCG(16, 1))
	kinds := map[string]household.Kind{"films": household.Films, "series": household.Series, "music": household.Music}
	for shelf, kind := range kinds {
		var list []Found
		for i := range 40 {
			list = append(list, Found{Name: fmt.Sprintf("%s %d.mp4", shelf, i),
				Title: fmt.Sprintf("%c kite %s %d", 'a'+i%9, shelf, i),
				Size:  int64(1 + i)})
		}
		stock(t, s, shelf, kind, list...)
	}
	var titles []Title
	for shelf := range kinds {
		all, err := s.Titles(ctx, shelf)
		if err != nil || len(all) != 40 {
			t.Fatal(len(all), err)
		}
		titles = append(titles, all...)
	}
	for i, title := range titles {
		if rnd.IntN(3) == 0 {
			continue // of no known age
		}
		d := Described{Looked: time.Now(), Description: describe.Description{Age: new(rnd.IntN(19))}}
		if err := s.Describe(ctx, title.ID, d); err != nil {
			t.Fatal(err)
		}
		titles[i].Age = d.Age
	}
	add(t, s, "wren", allowance.Admin)
	for round := range 20 {
		m := add(t, s, fmt.Sprintf("bram%d", round), allowance.Child)
		v := Sight{Member: m.ID, Unknown: []int{0, 12, 18}[rnd.IntN(3)]}
		if rnd.IntN(4) > 0 {
			v.Allowed.Age = new(rnd.IntN(19))
		}
		if rnd.IntN(2) == 0 {
			v.Allowed.Shelves = []string{"films", "music"}[:1+rnd.IntN(2)]
		}
		rules := map[int64]*bool{}
		for range rnd.IntN(20) {
			rules[titles[rnd.IntN(len(titles))].ID] = new(rnd.IntN(2) == 0)
		}
		if err := s.RuleTitles(ctx, m.ID, rules); err != nil {
			t.Fatal(err)
		}
		if rnd.IntN(5) == 0 {
			v.Member, rules = 0, nil
		}
		want := map[string][]string{}
		for _, title := range titles {
			w := allowance.What{Shelf: title.Shelf, Kind: title.Kind, Age: title.Age, Rule: rules[title.ID]}
			if v.Allowed.Shows(w, v.Unknown) {
				want[title.Shelf] = append(want[title.Shelf], title.Name)
			}
			if got, err := s.Shows(ctx, v, title); err != nil || got != v.Allowed.Shows(w, v.Unknown) {
				t.Fatalf("%+v %s: %v, %v", v, title.Name, got, err)
			}
		}
		for shelf := range kinds {
			if !v.Allowed.Sees(shelf) {
				continue
			}
			var got []string
			at := Place{}
			for {
				p, err := s.TitlePage(ctx, Wanted{Shelf: shelf, At: at, Limit: 7, Sight: v})
				if err != nil {
					t.Fatal(err)
				}
				for _, title := range p.Titles {
					got = append(got, title.Name)
				}
				if p.Next == nil {
					break
				}
				at = *p.Next
			}
			slices.Sort(got)
			slices.Sort(want[shelf])
			if !slices.Equal(got, want[shelf]) {
				t.Fatalf("%+v on %s: pages show %q, want %q", v, shelf, got, want[shelf])
			}
			f, err := s.FiguresFor(ctx, shelf, v)
			if err != nil || f.Titles != len(want[shelf]) || f.Files != len(want[shelf]) {
				t.Fatalf("%+v on %s: %+v, %v; want %d", v, shelf, f, err, len(want[shelf]))
			}
			letters, err := s.Initials(ctx, shelf, v)
			var first []string
			for _, name := range want[shelf] {
				first = append(first, name[:1])
			}
			if first = slices.Compact(first); err != nil || !slices.Equal(letters, first) {
				t.Fatalf("%+v on %s: letters %q, %v; want %q", v, shelf, letters, err, first)
			}
		}
		hits, err := s.SearchAs(ctx, "kite", 1000, v)
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, names := range want {
			n += len(names)
		}
		for _, h := range hits {
			if !slices.Contains(want[h.Title.Shelf], h.Title.Name) {
				t.Fatalf("%+v: %s was found", v, h.Title.Name)
			}
		}
		if len(hits) != n {
			t.Fatalf("%+v: %d found, want %d", v, len(hits), n)
		}
	}
}

// TestRulesGoWithAFile has a film take another name on disk.
func TestRulesGoWithAFile(t *testing.T) {
	ctx := context.Background()
	s, _ := fresh(t)
	add(t, s, "wren", allowance.Admin)
	m := add(t, s, "bram", allowance.Child)
	stock(t, s, "films", household.Films, Found{Name: "a.mp4", Title: "Copper Kite", Year: 2003, Size: 1},
		Found{Name: "b.mp4", Title: "Salt and Semaphore", Year: 2018, Size: 2},
		Found{Name: "c.mp4", Title: "The Understudy Moon",
			Year: 1996, Size: 3})
	id := map[string]int64{}
	list := func() map[string]int64 {
		all, err := s.Titles(ctx, "films")
		if err != nil {
			t.Fatal(err)
		}
		for _, title := range all {
			id[title.Name] = title.ID
		}
		return id
	}
	list()
	if err := s.RuleTitles(ctx, m.ID, map[int64]*bool{id["Copper Kite"]: new(false),
		id["Salt and Semaphore"]: new(true)}); err != nil {
		t.Fatal(err)
	}
	file := func(title string) int64 {
		files, err := s.Files(ctx, id[title], 0)
		if err != nil || len(files) != 1 {
			t.Fatal(files, err)
		}
		return files[0].ID
	}
	// Both go to other titles: one to a new one, one to one that is there.
	c := s.BeginScan("films", household.Films, time.Now())
	if err := c.Folder(ctx, FolderFound{Root: "/films", Signature: "y", Files: []FileFound{
		{ID: file("Copper Kite"), Found: Found{Name: "a.mp4", Title: "Kite of Copper", Year: 2003, Size: 1}},
		{ID: file("Salt and Semaphore"), Found: Found{Name: "b.mp4", Title: "The Understudy Moon", Year: 1996, Size: 2}},
	}}); err != nil {
		t.Fatal(err)
	}
	if err := c.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	list()
	rules, err := s.TitleRules(ctx, m.ID)
	var got []string
	for _, r := range rules {
		got = append(got, fmt.Sprint(r.Name, " ", r.Shown))
	}
	slices.Sort(got)
	if want := "Copper Kite false, Kite of Copper false, Salt and Semaphore true"; err != nil ||
		strings.Join(got, ", ") != want {
		t.Errorf("got %s, %v; want %s", strings.Join(got, ", "), err, want)
	}
}
