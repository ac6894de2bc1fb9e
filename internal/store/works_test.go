package store

import (
	"reflect"
	"slices"
	"testing"
	"time"

	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/usage"
)

func TestWhatIsKnownOfWorksThatWereWatched(t *testing.T) {
	s, _ := fresh(t)
	stock(t, s, "films", household.Films, Found{Title: "Low Water"}, Found{Title: "Ash"}, Found{Title: "Paper"})
	stock(t, s, "series", household.Series, Found{Title: "Ash", Season: 1, Episode: 1})
	id := func(shelf, name string) (id int64) {
		t.Helper()
		if err := s.r.QueryRow("SELECT id FROM titles WHERE shelf = ? AND name = ?", shelf, name).Scan(&id); err != nil {
			t.Fatal(err)
		}
		return id
	}
	film := Described{}
	film.Genres = []string{"drama", "comedy"}
	film.People = []describe.Person{{Name: "Ada Fell", Role: "actor"}, {Name: "Ada Fell", Role: "director"}}
	renamed := Described{}
	renamed.Name, renamed.Genres = "Ashes", []string{"history"}
	if err := s.DescribeMany(ctx, map[int64]Described{id("films", "Low Water"): film, id("films", "Ash"): renamed,
		id("films", "Paper"): film}); err != nil {
		t.Fatal(err)
	}
	got, err := s.Works(ctx, map[usage.Work]bool{{Shelf: "films", Title: "Low Water"}: true,
		{Shelf: "films", Title: "Ashes"}: true, {Shelf: "series", Title: "Ash"}: true})
	want := map[usage.Work]usage.Known{
		{Shelf: "films", Title: "Low Water"}: {Genres: []string{"drama", "comedy"}, People: []string{"Ada Fell"}},
		{Shelf: "films", Title: "Ashes"}:     {Genres: []string{"history"}}}
	if err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%v %+v", err, got)
	}
}

func TestWhatArrivedSinceATime(t *testing.T) {
	s, _ := fresh(t)
	stock(t, s, "films", household.Films, Found{Title: "Low Water"}, Found{Title: "Ash"})
	time.Sleep(5 * time.Millisecond)
	since := time.Now()
	time.Sleep(5 * time.Millisecond)
	stock(t, s, "films", household.Films, Found{Title: "Paper"}, Found{Title: "Kite"}, Found{Title: "Rain"})
	stock(t, s, "series", household.Series, Found{Title: "Harbour", Season: 1, Episode: 1})
	for _, c := range []struct {
		shelf string
		since time.Time
		want  []string
		count int
	}{{"films", since, []string{"Kite", "Paper"}, 3}, {"films", time.Time{}, []string{"Ash", "Kite"}, 5},
		{"series", since, []string{"Harbour"}, 1}, {"films", time.Now().Add(time.Hour), []string{}, 0}} {
		names, n, err := s.Arrived(ctx, c.shelf, c.since, 2)
		if err != nil || n != c.count || !slices.Equal(names, c.want) {
			t.Errorf("%s since %s: %v %d %v", c.shelf, c.since, names, n, err)
		}
	}
}

// TestArrivalsAreSummedByTheHour holds the sums against the files one by one.
func TestArrivalsAreSummedByTheHour(t *testing.T) {
	s, _ := fresh(t)
	stock(t, s, "films", household.Films, Found{Title: "Low Water", Size: 100}, Found{Title: "Ash", Size: 50})
	stock(t, s, "series", household.Series, Found{Title: "Harbour", Season: 1, Episode: 1, Size: 7})
	hour := func(n int, title string) {
		t.Helper()
		if _, err := s.w.Exec("UPDATE files SET added = ? WHERE title = (SELECT id FROM titles WHERE name = ?)",
			int64(n)*3600000+5, title); err != nil {
			t.Fatal(err)
		}
	}
	hour(3, "Low Water")
	hour(3, "Ash")
	hour(9, "Harbour")
	got, err := s.ArrivedByHour(ctx)
	if err != nil || len(got) != 2 || got[0].Shelf != "films" || got[0].Size != 150 || got[1].Size != 7 ||
		!got[0].Added.Equal(fromMilli(3*3600000+5)) {
		t.Errorf("%v %+v", err, got)
	}
}
