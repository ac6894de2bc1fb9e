package store

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/household"
)

// stock puts files on a shelf as a scan does.
func stock(t testing.TB, s *Store, shelf string, kind household.Kind, files ...Found) {
	t.Helper()
	c := s.BeginScan(shelf, kind, time.Now())
	out := FolderFound{Root: "/" + shelf, Signature: "x"}
	for _, f := range files {
		if f.Name == "" {
			f.Name = fmt.Sprintf("%s %d %d %s", f.Title, f.Season, f.Episode, f.Part)
		}
		out.Files = append(out.Files, FileFound{Found: f})
	}
	if err := c.Folder(ctx, out); err != nil {
		t.Fatal(err)
	}
	if err := c.Flush(ctx); err != nil {
		t.Fatal(err)
	}
}

func TestSearchFindsTitlesAndParts(t *testing.T) {
	s, _ := fresh(t)
	stock(t, s, "films", household.Films, Found{Title: "The Paper Lighthouse", Year: 2014}, Found{Title: "Paper", Year: 1990}, Found{Title: "Café Zvīņa"}, Found{Title: "Salt and Semaphore"})
	stock(t, s, "series", household.Series, Found{Title: "The Night Bakery", Season: 1, Episode: 1, Part: "Flour and Salt"})
	stock(t, s, "music", household.Music, Found{Title: "Tin Roof Nocturnes", By: "Mirela Vant", Part: "Paper Moth"})
	if _, err := s.w.Exec(`INSERT INTO descriptions (title, summary, people) SELECT id, 'A keeper folds ships', '[{"name":"Ödön Quill","role":"actor"}]' FROM titles WHERE name = 'The Paper Lighthouse'`); err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{
		"pap":            "Paper, The Paper Lighthouse, Tin Roof Nocturnes/Paper Moth",
		"PAPER light":    "The Paper Lighthouse",
		"light pap":      "The Paper Lighthouse",
		"cafe":           "Café Zvīņa",
		"zvina":          "Café Zvīņa",
		"mirela":         "Tin Roof Nocturnes",
		"odon":           "The Paper Lighthouse",
		"folds":          "The Paper Lighthouse",
		"salt":           "Salt and Semaphore, The Night Bakery/Flour and Salt",
		"the n":          "The Night Bakery",
		"aper":           "",
		"":               "",
		`" OR * NEAR( -`: "",
		"paper OR salt":  "",
	} {
		hits, err := s.Search(ctx, text, 20)
		if err != nil {
			t.Fatalf("%q: %v", text, err)
		}
		var got []string
		for _, h := range hits {
			n := h.Title.Name
			if h.File != 0 {
				n += "/" + h.Part
			}
			got = append(got, n)
		}
		if strings.Join(got, ", ") != want {
			t.Errorf("%q: got %q, want %q", text, got, want)
		}
	}
	if _, err := s.w.Exec("UPDATE files SET gone = 1 WHERE part = 'Paper Moth'"); err != nil {
		t.Fatal(err)
	}
	if hits, _ := s.Search(ctx, "moth", 20); len(hits) != 0 {
		t.Errorf("what is gone is found: %+v", hits)
	}
}

func FuzzSearch(f *testing.F) {
	f.Add("paper light")
	f.Add(`"`)
	f.Add("naïve ☃ \x00")
	s, _ := fresh(f)
	stock(f, s, "films", household.Films, Found{Title: "The Paper Lighthouse"})
	f.Fuzz(func(t *testing.T, text string) {
		if _, err := s.Search(ctx, text, 5); err != nil {
			t.Errorf("%q: %v", text, err)
		}
	})
}

func TestTheLibraryInFigures(t *testing.T) {
	s, _ := fresh(t)
	info := `{"container":"mp4","duration":10,"tracks":[{"kind":"video","codec":"h264","width":640,"height":360},{"kind":"audio","codec":"aac"}]}`
	stock(t, s, "films", household.Films, Found{Title: "Copper Kite", Duration: 10, Size: 100, Info: info}, Found{Title: "Copper Kite", Name: "b", Duration: 20, Size: 50, Info: strings.Replace(info, "aac", "opus", 1)})
	stock(t, s, "series", household.Series, Found{Title: "Bakery", Season: 1, Episode: 1}, Found{Title: "Bakery", Season: 2, Episode: 1}, Found{Title: "Harbour", Season: 1, Episode: 1})
	l, err := s.Library(ctx, 2)
	if err != nil {
		t.Fatal(err)
	}
	if want := []KindFigures{{household.Films, 1, 0, 2, 30, 150}, {household.Series, 2, 3, 3, 0, 0}}; !slices.Equal(l.Kinds, want) {
		t.Errorf("kinds: got %+v, want %+v", l.Kinds, want)
	}
	if want := []CodecFigures{{"video", "h264", 2, 150}, {"audio", "aac", 1, 100}, {"audio", "opus", 1, 50}}; !slices.Equal(l.Codecs, want) {
		t.Errorf("codecs: got %+v, want %+v", l.Codecs, want)
	}
	if want := []SizeFigures{{360, 2, 150}}; !slices.Equal(l.Sizes, want) {
		t.Errorf("sizes: got %+v, want %+v", l.Sizes, want)
	}
	if len(l.Lately) != 2 {
		t.Errorf("lately: got %+v", l.Lately)
	}
}

// million fills a store with 100,000 titles of ten files each.
func million(b *testing.B) *Store {
	b.Helper()
	s, _ := fresh(b)
	words := strings.Fields("paper copper lantern river orchard salt mill ferry moon kite night harbour slow roof tin gravel choir rain nine kinds winter semaphore understudy wheel picnic snow bakery tide ash flour")
	c := s.BeginScan("series", household.Series, time.Now())
	for n := range 100_000 {
		f := FolderFound{Root: "/series", Path: fmt.Sprint(n), Signature: "x"}
		title := fmt.Sprintf("%s %s %s %d", words[n%30], words[n/30%30], words[n/900%30], n)
		for e := range 10 {
			f.Files = append(f.Files, FileFound{Found: Found{Name: fmt.Sprint(e), Title: title, Season: 1, Episode: e, Part: words[(n+e)%30] + " " + words[(n*7+e)%30], Size: 1, Inode: uint64(n*10 + e), Print: fmt.Sprintf("%016d", n*10+e)}})
		}
		if err := c.Folder(ctx, f); err != nil {
			b.Fatal(err)
		}
	}
	if err := c.Flush(ctx); err != nil {
		b.Fatal(err)
	}
	return s
}

// BenchmarkMillionFiles searches as one types, and opens pages, among 1,000,000 files.
func BenchmarkMillionFiles(b *testing.B) {
	s := million(b)
	for _, text := range []string{"p", "pa", "pap", "paper", "paper la", "salt ferry", "semaphore 9999", "zzz"} {
		b.Run("search "+text, func(b *testing.B) {
			for b.Loop() {
				if _, err := s.Search(ctx, text, 20); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
	b.Run("a title", func(b *testing.B) {
		for b.Loop() {
			if _, err := s.Files(ctx, 5000, 1); err != nil {
				b.Fatal(err)
			}
		}
	})
	for name, text := range map[string]string{"first": "", "in the midst": "orchard", "the last": "zz"} {
		b.Run("page "+name, func(b *testing.B) {
			for b.Loop() {
				if _, err := s.TitlePage(ctx, "series", PlaceOf(text), text == "zz", 120); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
	b.Run("initials", func(b *testing.B) {
		for b.Loop() {
			if list, err := s.Initials(ctx, "series"); err != nil || len(list) < 10 {
				b.Fatal(list, err)
			}
		}
	})
	b.Run("figures", func(b *testing.B) {
		for b.Loop() {
			if _, err := s.Figures(ctx, "series"); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("lately", func(b *testing.B) {
		for b.Loop() {
			if _, err := s.Lately(ctx, 12); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// TestAPictureFromTheFilmStaysUntilThereIsAnother has a description written meanwhile by
// somebody who did not know of it.
func TestAPictureFromTheFilmStaysUntilThereIsAnother(t *testing.T) {
	s, _ := fresh(t)
	c := s.BeginScan("films", household.Films, time.Now())
	if err := c.Folder(ctx, FolderFound{Root: "/films", Signature: "x", Files: []FileFound{{Found: Found{Name: "a.mp4", Title: "A", Content: "video", Size: 9, MTime: 1}}, {Found: Found{Name: "b.mp4", Title: "B", Content: "video", Size: 9, MTime: 1}}}}); err != nil {
		t.Fatal(err)
	}
	if err := c.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	check := func(when, picture, from string) {
		t.Helper()
		if d, err := s.Described(ctx, 1); err != nil || d.Picture != picture || d.From != from {
			t.Errorf("%s: got %q from %q, %v", when, d.Picture, d.From, err)
		}
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	if n, err := s.Due(ctx, household.Frames); n != 2 || err != nil {
		t.Errorf("due: %d, %v", n, err)
	}
	must(s.PictureFromFilm(ctx, 1, "f1"))
	check("taken", "f1", "the film")
	must(s.Describe(ctx, 1, Described{Source: "wikidata"}))
	check("described without a picture", "f1", "the film")
	f, err := s.DueAfter(ctx, household.Frames, 0)
	if err != nil || f.ID != 2 {
		t.Errorf("due is %+v, %v", f, err)
	}
	must(s.Find(ctx, f, Finding{Work: household.Frames, Problem: "too short"}))
	if _, err := s.DueAfter(ctx, household.Frames, 0); !errors.Is(err, ErrNotFound) {
		t.Errorf("it is due again: %v", err)
	}
	if _, err := s.w.Exec("UPDATE files SET mtime = 2 WHERE id = 2"); err != nil {
		t.Fatal(err)
	}
	if again, err := s.DueAfter(ctx, household.Frames, 0); err != nil || again.ID != 2 {
		t.Errorf("a file that changed: %+v, %v", again, err)
	}
	d := Described{Source: "wikidata", From: "a catalogue"}
	d.Picture = "c"
	must(s.Describe(ctx, 1, d))
	check("another", "c", "a catalogue")
	must(s.PictureFromFilm(ctx, 1, "f2"))
	check("taken although there is one", "c", "a catalogue")
	must(s.Describe(ctx, 1, Described{}))
	check("taken away", "", "")
}
