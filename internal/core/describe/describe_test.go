package describe

import (
	"math"
	"reflect"
	"slices"
	"strings"
	"testing"

	"cozyshelf/internal/core/household"
)

func TestWhichEntryIsTaken(t *testing.T) {
	film := Wanted{Name: "The Paper Lighthouse", Year: 2014, Kind: household.Films, Duration: 5400}
	right := Candidate{ID: "wikidata Q1", Name: "The Paper Lighthouse", Year: 2014, Kind: household.Films,
		Duration: 5460}
	with := func(c Candidate, do func(*Candidate)) Candidate { do(&c); return c }
	for name, c := range map[string]struct {
		w    Wanted
		list []Candidate
		want string
	}{
		"nothing": {film, nil, ""},
		"the one": {film, []Candidate{right}, "wikidata Q1"},
		"a book of the name": {film, []Candidate{with(right,
			func(c *Candidate) { c.Kind, c.Duration = household.Music, 0 })}, ""},
		"two alike": {film, []Candidate{right, with(right, func(c *Candidate) { c.ID = "wikidata Q2" })}, ""},
		"an older one too": {film, []Candidate{with(right,
			func(c *Candidate) { c.ID, c.Year = "wikidata Q2", 1968 }), right}, "wikidata Q1"},
		"another length too": {film, []Candidate{with(right,
			func(c *Candidate) { c.ID, c.Duration = "wikidata Q2", 600 }), right}, "wikidata Q1"},
		"another name": {film, []Candidate{with(right, func(c *Candidate) { c.Name = "The Iron Lighthouse" })},
			""},
		"under another name": {film, []Candidate{with(right,
			func(c *Candidate) { c.Name, c.Others = "Papīra bāka", []string{"Paper lighthouse"} })}, "wikidata Q1"},
		"a year apart": {film, []Candidate{with(right, func(c *Candidate) { c.Year = 2015 })}, "wikidata Q1"},
		"no year known": {Wanted{Name: film.Name, Kind: film.Kind},
			[]Candidate{with(right, func(c *Candidate) { c.Duration = 0 })}, ""},
		"an id in the name": {Wanted{Name: "something else", Kind: household.Films, Outside: "wikidata q1"},
			[]Candidate{with(right, func(c *Candidate) { c.ID = "wikidata Q3" }), right}, "wikidata Q1"},
		"an album": {Wanted{Name: "Tin Roof Nocturnes", By: "Mirela Vant", Year: 2012, Kind: household.Music},
			[]Candidate{{ID: "m 1", Name: "Tin Roof Nocturnes", By: "Mirela Vant", Year: 2012, Kind: household.Music},
				{ID: "m 2", Name: "Tin Roof Nocturnes", By: "Somebody Else", Year: 2012, Kind: household.Music}},
			"m 1"},
	} {
		list := Score(c.w, c.list)
		got, ok := Take(list)
		if ok != (c.want != "") || got.ID != c.want {
			t.Errorf("%s: took %q, want %q: %+v", name, got.ID, c.want, list)
		}
		for _, x := range list {
			if len(x.Reasons) == 0 {
				t.Errorf("%s: %s has no reasons", name, x.ID)
			}
		}
	}
}

func TestNamesAlike(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want float64
	}{{"The Paper Lighthouse", "paper lighthouse", 1}, {"Café Zvīņa", "Cafe Zvina", 1},
		{"Salt & Semaphore", "Salt and Semaphore", 1}, {"abc", "abd", 2. / 3}, {"", "x", 0}, {"!", "!", 0},
		{"Wren's Mill", "Wrens Mill", 1}} {
		if got := Alike(c.a, c.b); math.Abs(got-c.want) > 1e-9 {
			t.Errorf("%q, %q: got %g, want %g", c.a, c.b, got, c.want)
		}
	}
}

func FuzzAlike(f *testing.F) {
	f.Add("a", "b")
	f.Fuzz(func(t *testing.T, a, b string) {
		x, y := Alike(a, b), Alike(b, a)
		if x != y || x < 0 || x > 1 {
			t.Errorf("%q, %q: %g and %g", a, b, x, y)
		}
	})
}

func TestSidecarsAreReadBack(t *testing.T) {
	d := Description{Name: "The Paper Lighthouse", Year: 2014, Summary: "A keeper folds ships.",
		People: []Person{{"Ada Reed", "director"}, {"Ödön Quill", "actor"}}, Genres: []string{"drama"},
		Outside: "wikidata Q1"}
	for kind, d := range map[household.Kind]Description{household.Films: d, household.Series: d,
		household.Music: {Name: "Tin Roof Nocturnes", Year: 2012, People: []Person{{"Mirela Vant", "artist"}},
			Outside: "musicbrainz 0a0b"}} {
		b, err := WriteSidecar(kind, d)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := ReadSidecar(b); err != nil || !reflect.DeepEqual(got, d) {
			t.Errorf("%s: got %+v, %v\n%s", kind, got, err, b)
		}
	}
	if _, err := WriteSidecar(household.Photos, d); err == nil {
		t.Error("photos have sidecars")
	}
}

func TestSidecarsOfOthers(t *testing.T) {
	for text, want := range map[string]Description{
		`{"@context":"http://schema.org","@type":["Thing","Movie"],"name":{"@value":"A"},"actor":"B","datePublished":"1987-05-04","genre":["x",{"name":"y"}]}`:        {Name: "A", Year: 1987, People: []Person{{"B", "actor"}}, Genres: []string{"x", "y"}},
		`{"@graph":[{"@type":"WebPage","name":"page"},{"@type":"schema:TVSeries","name":"S","sameAs":["https://example.net/1","https://www.wikidata.org/wiki/Q7"]}]}`: {Name: "S", Outside: "wikidata Q7"},
		"\ufeff" + `[{"@type":"https://schema.org/MusicAlbum","name":"M","byArtist":[{"@type":"Person","name":"P"}]}]`:                                                {Name: "M", People: []Person{{"P", "artist"}}},
	} {
		if got, err := ReadSidecar([]byte(text)); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: got %+v, %v", text, got, err)
		}
	}
	for _, text := range []string{"", "{}", "[]", "null", `{"@type":"Book"}`, `{"@type":`,
		strings.Repeat(" ", MaxSidecar+1)} {
		if d, err := ReadSidecar([]byte(text)); err == nil {
			t.Errorf("%.40q: read as %+v", text, d)
		}
	}
}

func FuzzReadSidecar(f *testing.F) {
	f.Add([]byte(`{"@type":"Movie","name":"A"}`))
	f.Add([]byte(`{"@graph":[{"@graph":[{"@graph":[]}]}]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		d, err := ReadSidecar(b)
		if err != nil {
			return
		}
		if d.Year != 0 && (d.Year < 1800 || d.Year > 2200) {
			t.Errorf("the year %d", d.Year)
		}
	})
}

func TestWhatAPersonSetStays(t *testing.T) {
	known := Description{Name: "mine", Summary: "mine", Year: 1}
	found := Description{Name: "theirs", Summary: "theirs", Year: 2, Genres: []string{"x"}}
	got := Merge(known, found, []string{"name", "year"})
	if got.Name != "mine" || got.Year != 1 || got.Summary != "theirs" || !slices.Equal(got.Genres, found.Genres) {
		t.Errorf("got %+v", got)
	}
}

func TestLanguagesFromTheClosest(t *testing.T) {
	for tag, want := range map[string]string{"en": "en", "lv": "lv en", "pt-BR": "pt-br pt en", "en-GB": "en-gb en",
		"zh-Hans-CN": "zh-hans-cn zh-hans zh en", "": "en"} {
		if got := strings.Join(Languages(tag), " "); got != want {
			t.Errorf("%s: got %q, want %q", tag, got, want)
		}
	}
}
