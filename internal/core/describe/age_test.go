package describe

import (
	"fmt"
	"testing"

	"cozyshelf/internal/core/household"
)

func TestAgesAreReadFromMarks(t *testing.T) {
	const none = -1
	for mark, want := range map[string]int{
		"12": 12, "FSK 12": 12, "FSK: 0": 0, "0": 0, "PG-13": 13, "Rated PG-13": 13, "R": 17, "Rated R": 17, "NC-17": 17,
		"TV-MA": 17, "TV-14": 14, "TV-Y7": 7, "TV-Y7-FV": 7, "TV-Y": 0, "TV-G": 0, "G": 0, "PG": 8, "U": 0, "12A": 12,
		"15":  15,
		"18+": 18, "16 certificate": 16, "BBFC U": 0, "-12": 12, "Tous publics": 0, "K-16": 16, "PEGI 7": 7, "AL": 0,
		"MA15+": 15, "de:16": 16, "de/6": 6, "R18+": 18, "ab 6": 6, "R21": 21,
		"": none, "Unrated": none, "NR": none, "Not Rated": none, "99": none, "2019": none,
		"unknown": none, "4.5": none, "six": none,
	} {
		got, ok := AgeOf(mark)
		if !ok {
			got = none
		}
		if got != want {
			t.Errorf("%q: %d, want %d", mark, got, want)
		}
	}
	for n := range household.OldestAge + 1 {
		if got, ok := AgeOf(fmt.Sprint(n)); !ok || got != n {
			t.Errorf("%d: %d %v", n, got, ok)
		}
	}
	if p := Strictest("FSK 6", "PG-13", "nothing"); p == nil || *p != 13 {
		t.Error("the strictest of several is not taken")
	}
	if Strictest("nothing", "") != nil {
		t.Error("an age out of nothing")
	}
}

func TestSidecarsTellTheAge(t *testing.T) {
	for rating, want := range map[string]string{`"FSK 12"`: "12", `16`: "16",
		`{"@type":"Rating","ratingValue":"PG-13","author":"x"}`: "13",
		`{"@type":"Rating","ratingValue":6}`:                    "6", `["G",{"@type":"Rating","name":"12"}]`: "12", `"Not Rated"`: "none",
		`null`:      "none",
		`{"a":[1]}`: "none"} {
		d, err := ReadSidecar([]byte(`{"@type":"Movie","name":"Copper Kite","contentRating":` + rating + `}`))
		if err != nil {
			t.Fatal(err)
		}
		got := "none"
		if d.Age != nil {
			got = fmt.Sprint(*d.Age)
		}
		if got != want {
			t.Errorf("%s: %s, want %s", rating, got, want)
		}
	}
	age := 0
	b, err := WriteSidecar("films", Description{Name: "Copper Kite", Age: &age})
	if err != nil {
		t.Fatal(err)
	}
	if d, err := ReadSidecar(b); err != nil || d.Age == nil || *d.Age != 0 {
		t.Errorf("%s: %v, %v", b, d.Age, err)
	}
}

func FuzzAgeOf(f *testing.F) {
	for _, s := range []string{"FSK 12", "TV-Y7", "\xff", "99999999999"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if n, ok := AgeOf(s); ok && (n < 0 || n > household.OldestAge) {
			t.Errorf("%q: %d", s, n)
		}
	})
}
