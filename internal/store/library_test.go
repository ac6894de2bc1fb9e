package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
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
	stock(t, s, "films", household.Films, Found{Title: "The Paper Lighthouse", Year: 2014},
		Found{Title: "Paper", Year: 1990}, Found{Title: "Café Zvīņa"}, Found{Title: "Salt and Semaphore"})
	stock(t, s, "series", household.Series,
		Found{Title: "The Night Bakery", Season: 1, Episode: 1, Part: "Flour and Salt"})
	stock(t, s, "music", household.Music, Found{Title: "Tin Roof Nocturnes", By: "Mirela Vant", Part: "Paper Moth"})
	if _, err := s.w.Exec(`INSERT INTO descriptions (title, summary, people) SELECT id, 'A keeper folds ships',
		'[{"name":"Ödön Quill","role":"actor"}]' FROM titles WHERE name = 'The Paper Lighthouse'`); err != nil {
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
	stock(t, s, "films", household.Films, Found{Title: "Copper Kite", Duration: 10, Size: 100, Info: info},
		Found{Title: "Copper Kite", Name: "b", Duration: 20, Size: 50, Info: strings.Replace(info, "aac", "opus", 1)})
	stock(t, s, "series", household.Series, Found{Title: "Bakery", Season: 1, Episode: 1},
		Found{Title: "Bakery", Season: 2, Episode: 1}, Found{Title: "Harbour", Season: 1, Episode: 1})
	l, err := s.Library(ctx, 2)
	if err != nil {
		t.Fatal(err)
	}
	got := fmt.Sprint(l.Kinds, l.Codecs, l.Sizes)
	if want := "[{films 1 0 2 30 150} {series 2 3 3 0 0}] [{video h264 2 150} {audio aac 1 100} {audio opus 1 50}] " +
		"[{360 2 150}]"; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
	if len(l.Lately) != 2 {
		t.Errorf("lately: got %+v", l.Lately)
	}
}

// million fills a store with 100,000 titles of ten files each.
func million(b *testing.B) *Store {
	b.Helper()
	s, _ := fresh(b)
	words := strings.Fields("paper copper lantern river orchard salt mill ferry moon kite night harbour slow roof " +
		"tin gravel choir rain nine kinds winter semaphore understudy wheel picnic snow bakery tide ash flour")
	c := s.BeginScan("series", household.Series, time.Now())
	for n := range 100_000 {
		f := FolderFound{Root: "/series", Path: fmt.Sprint(n), Signature: "x"}
		title := fmt.Sprintf("%s %s %s %d", words[n%30], words[n/30%30], words[n/900%30], n)
		for e := range 10 {
			f.Files = append(f.Files, FileFound{Found: Found{Name: fmt.Sprint(e), Title: title, Season: 1, Episode: e,
				Part: words[(n+e)%30] + " " + words[(n*7+e)%30], Size: 1, Inode: uint64(n*10 + e),
				Fingerprint: fmt.Sprintf("%016d", n*10+e)}})
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
				if _, err := s.TitlePage(ctx,
					Wanted{Shelf: "series", At: PlaceOf(text), Back: text == "zz", Limit: 120}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
	b.Run("initials", func(b *testing.B) {
		for b.Loop() {
			if list, err := s.Initials(ctx, "series", Sight{}); err != nil || len(list) < 10 {
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
	if err := c.Folder(ctx, FolderFound{Root: "/films", Signature: "x",
		Files: []FileFound{{Found: Found{Name: "a.mp4", Title: "A", Content: "video", Size: 9, MTime: 1}},
			{Found: Found{Name: "b.mp4", Title: "B", Content: "video", Size: 9, MTime: 1}}}}); err != nil {
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
	must(s.SetFinding(ctx, f, Finding{Work: household.Frames, Problem: "too short"}))
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

// TestTheFiguresAreWhatSQLCounts compares what is added up file by file with what the
// database counts, over random libraries.
func TestTheFiguresAreWhatSQLCounts(t *testing.T) {
	kinds := []household.Kind{household.Films, household.Series, household.Music}
	codecs := [][2]string{{"video", "h264"}, {"video", "vp9"}, {"audio", "aac"}, {"audio", "opus"},
		{"subtitle", "subrip"}, {"audio", ""}}
	heights := []int{0, 1, 240, 241, 576, 720, 1080, 1081, 2160, 4320, 9000}
	for seed := range uint64(6) {
		r := rand.New(rand.NewPCG(seed, 1))
		s, _ := fresh(t)
		for _, k := range kinds {
			var files []Found
			for i := range r.IntN(60) {
				f := Found{Name: fmt.Sprint(i), Title: fmt.Sprint("title ", r.IntN(9)), Season: r.IntN(4), Episode: i,
					Size: int64(r.IntN(1000)), Duration: float64(r.IntN(100))}
				if r.IntN(4) > 0 {
					info := media.Info{Container: "matroska", Tracks: []media.Track{}}
					for range r.IntN(5) {
						c := codecs[r.IntN(len(codecs))]
						track := media.Track{Kind: c[0], Codec: c[1]}
						if c[0] == "video" {
							track.Height = heights[r.IntN(len(heights))]
						}
						info.Tracks = append(info.Tracks, track)
					}
					b, err := json.Marshal(info)
					if err != nil {
						t.Fatal(err)
					}
					f.Info = string(b)
				}
				files = append(files, f)
			}
			stock(t, s, string(k), k, files...)
		}
		if _, err := s.w.Exec("UPDATE files SET gone = 5 WHERE id % 7 = 3"); err != nil {
			t.Fatal(err)
		}
		l, err := s.Library(ctx, 3)
		if err != nil {
			t.Fatal(err)
		}
		var got, want []string
		for _, k := range l.Kinds {
			got = append(got, fmt.Sprint(k.Kind, k.Titles, k.Seasons, k.Files, k.Duration, k.Size))
		}
		for _, c := range l.Codecs {
			got = append(got, fmt.Sprint(c.Content, c.Codec, c.Files, c.Size))
		}
		for _, h := range l.Sizes {
			got = append(got, fmt.Sprint(h.Height, h.Files, h.Size))
		}
		for _, q := range []string{
			`SELECT t.kind, count(DISTINCT f.title),
				count(DISTINCT f.title * 1000 + f.season) FILTER (WHERE t.kind = 'series'), count(*),
				total(f.duration), sum(f.size)
				FROM files f JOIN titles t ON t.id = f.title WHERE f.gone = 0 GROUP BY 1 ORDER BY 1`,
			`SELECT sort, codec, count(*), sum(size) FROM (SELECT DISTINCT f.id, f.size, x.value ->> 'kind' AS sort,
				x.value ->> 'codec' AS codec FROM files f, json_each(f.info, '$.tracks') x WHERE f.gone = 0
				AND f.info != '')
				WHERE codec != '' GROUP BY 1, 2 ORDER BY sort != 'video', sort != 'audio', 3 DESC, codec`,
			`SELECT (SELECT min(v.value) FROM json_each('[240,360,480,576,720,1080,1440,2160,4320]') v
				WHERE v.value >= min(h, 4320)) AS height, count(*), sum(size)
				FROM (SELECT f.id, f.size, max(x.value ->> 'height') AS h FROM files f, json_each(f.info,
					'$.tracks') x WHERE f.gone = 0 AND f.info != '' GROUP BY f.id) WHERE h > 0 GROUP BY 1
					ORDER BY 1 DESC`,
		} {
			rs, err := s.r.Query(q)
			if err != nil {
				t.Fatal(err)
			}
			names, err := rs.Columns()
			if err != nil {
				t.Fatal(err)
			}
			for rs.Next() {
				row := make([]any, len(names))
				for i := range row {
					row[i] = new(any)
				}
				if err := rs.Scan(row...); err != nil {
					t.Fatal(err)
				}
				for i := range row {
					row[i] = *row[i].(*any)
				}
				want = append(want, fmt.Sprint(row...))
			}
			if err := errors.Join(rs.Err(), rs.Close()); err != nil {
				t.Fatal(err)
			}
		}
		if len(want) < 6 || !slices.Equal(got, want) {
			t.Errorf("seed %d:\n got %q\nwant %q", seed, got, want)
		}
	}
}
