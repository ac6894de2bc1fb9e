package tidy

import (
	"fmt"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"testing"

	"cozyshelf/internal/core/household"
)

func TestPlans(t *testing.T) {
	for name, c := range map[string]struct {
		kind   household.Kind
		scheme Scheme
		files  []string
		moves  []string // from → to, companions with a plus
		left   []string
		fine   int
	}{
		"a film in no folder": {household.Films, AsItIs,
			[]string{"the.understudy.moon.1996.1080p.mkv", "the.understudy.moon.1996.1080p.en.srt", "notes.txt"},
			[]string{"the.understudy.moon.1996.1080p.mkv → the understudy moon (1996) [1080p].mkv",
				"+ the.understudy.moon.1996.1080p.en.srt → the understudy moon (1996) [1080p].en.srt"}, nil, 0},
		"into folders": {household.Films, Folders, []string{"Copper Kite (2003).mkv", "Copper Kite (2003).jsonld"},
			[]string{"Copper Kite (2003).mkv → Copper Kite (2003)/Copper Kite (2003).mkv",
				"+ Copper Kite (2003).jsonld → Copper Kite (2003)/Copper Kite (2003).jsonld"}, nil, 0},
		"right already": {household.Films, AsItIs,
			[]string{"Copper Kite (2003).mkv", "Nine Kinds of Rain (2021)/Nine Kinds of Rain (2021).mp4",
				"Nine Kinds of Rain (2021)/cover.jpg"}, nil, nil, 2},
		"what else lies in its folder": {household.Films, AsItIs,
			[]string{"copper.kite.2003/copper.kite.2003.mkv", "copper.kite.2003/cover.jpg",
				"copper.kite.2003/Subs/en.srt", "other.txt"},
			[]string{"copper.kite.2003/copper.kite.2003.mkv → copper kite (2003)/copper kite (2003).mkv",
				"+ copper.kite.2003/Subs/en.srt → copper kite (2003)/Subs/en.srt",
				"+ copper.kite.2003/cover.jpg → copper kite (2003)/cover.jpg"}, nil, 0},
		"two of one name": {household.Films, AsItIs, []string{"Copper.Kite.2003.mkv", "Copper_Kite_2003.mkv"},
			[]string{"Copper.Kite.2003.mkv → Copper Kite (2003).mkv"}, []string{"Copper_Kite_2003.mkv"}, 0},
		"there already": {household.Films, AsItIs,
			[]string{"Copper.Kite.2003.mkv", "Copper Kite (2003).mkv"}, nil, []string{"Copper.Kite.2003.mkv"}, 1},
		"case only on another machine": {household.Films, Folders,
			[]string{"copper.kite.2003.mkv", "Copper Kite (2003)/Copper Kite (2003) - trailer.txt",
				"Copper Kite (2003)/Copper Kite (2003).mkv"}, nil, []string{"copper.kite.2003.mkv"}, 1},
		"episodes": {household.Series, AsItIs,
			[]string{"The Night Bakery (2019)/night.bakery.1x02.flour.mkv",
				"The Night Bakery (2019)/night.bakery.1x02.flour.lv.srt", "The Night Bakery (2019)/mystery.mkv",
				"The Night Bakery (2019)/cover.jpg"},
			[]string{"The Night Bakery (2019)/night.bakery.1x02.flour.mkv → The Night Bakery (2019)/Season 01/The " +
				"Night Bakery S01E02 flour.mkv",
				"+ The Night Bakery (2019)/night.bakery.1x02.flour.lv.srt → The Night Bakery (2019)/Season 01/The " +
					"Night Bakery S01E02 flour.lv.srt"},
			[]string{"The Night Bakery (2019)/mystery.mkv"}, 0},
		"a show's own files": {household.Series, AsItIs,
			[]string{"night.bakery.2019/Season 1/night.bakery.s01e01.mkv", "night.bakery.2019/cover.jpg"},
			[]string{"night.bakery.2019/Season 1/night.bakery.s01e01.mkv → night bakery (2019)/Season 01/night " +
				"bakery S01E01.mkv", "+ night.bakery.2019/cover.jpg → night bakery (2019)/cover.jpg"}, nil, 0},
		"films that are sorted": {household.Films, AsItIs,
			[]string{"for children/tiny.kite.2003.mkv", "for children/Rain (2021).mkv", "4K/Salt.2018/Salt.2018.mkv",
				"4K/Moon (1996)/Moon (1996).mkv", "4K/Moon (1996)/Trailers/first.mkv"},
			[]string{"4K/Salt.2018/Salt.2018.mkv → 4K/Salt (2018)/Salt (2018).mkv",
				"for children/tiny.kite.2003.mkv → for children/tiny kite (2003).mkv"}, nil, 3},
		"shows and albums that are sorted": {household.Series, AsItIs,
			[]string{"for children/tiny harbour/Season 1/tiny.harbour.s01e02.mkv"},
			[]string{"for children/tiny harbour/Season 1/tiny.harbour.s01e02.mkv → for children/tiny " +
				"harbour/Season 01/tiny harbour S01E02.mkv"}, nil, 0},
		"music that is sorted": {household.Music, AsItIs,
			[]string{"evening/The Gravel Choir/Songs for Slow Trains (1999)/1. Departure.mp3"},
			[]string{"evening/The Gravel Choir/Songs for Slow Trains (1999)/1. Departure.mp3 → evening/The Gravel " +
				"Choir/Songs for Slow Trains (1999)/01 Departure.mp3"}, nil, 0},
		"how words about the copy are written": {household.Films, AsItIs, []string{"Copper Kite (2003) [4K HDR].mkv"},
			nil, nil, 1},
		"a release of one episode": {household.Series, AsItIs,
			[]string{"Tiny.Harbour.S02E03.720p/tiny.harbour.s02e03.mkv"},
			[]string{"Tiny.Harbour.S02E03.720p/tiny.harbour.s02e03.mkv → Tiny Harbour/Season 02/Tiny Harbour S02E03.mkv"}, nil, 0},
		"recordings of one day": {household.Recordings, AsItIs,
			[]string{"VID_20230514_181233.mp4", "VID_20230514_191500.mp4"},
			[]string{"VID_20230514_181233.mp4 → 2023-05-14 18.12.33.mp4",
				"VID_20230514_191500.mp4 → 2023-05-14 19.15.00.mp4"}, nil, 0},
		"a sample": {household.Films, AsItIs, []string{"Copper Kite (2003)-sample.mkv"}, nil,
			[]string{"Copper Kite (2003)-sample.mkv"}, 0},
		"the longest name has the companion": {household.Films, AsItIs,
			[]string{"kite.2003.mkv", "kite.2003.b.mkv", "kite.2003.b.srt"},
			[]string{"kite.2003.b.mkv → kite (2003) - b.mkv"}, nil, 0},
	} {
		if name == "the longest name has the companion" {
			p := Draw(c.kind, c.scheme, c.files)
			for _, m := range p.Moves {
				if (len(m.With) > 0) != (m.From == "kite.2003.b.mkv") {
					t.Errorf("%s: %+v", name, m)
				}
			}
			continue
		}
		p := Draw(c.kind, c.scheme, c.files)
		var moves, left []string
		for _, m := range p.Moves {
			moves = append(moves, m.From+" → "+m.To)
			for _, w := range m.With {
				moves = append(moves, "+ "+w.From+" → "+w.To)
			}
		}
		for _, l := range p.Left {
			left = append(left, l.Path)
			if l.Why == "" {
				t.Errorf("%s: %s is left without a reason", name, l.Path)
			}
		}
		if !slices.Equal(moves, c.moves) || !slices.Equal(left, c.left) || p.Fine != c.fine {
			t.Errorf("%s:\n got %q\nwant %q\nleft %q, want %q; fine %d", name, moves, c.moves, p.Left, c.left, p.Fine)
		}
	}
}

// carry does steps on a set of names, as a file system does that tells no case apart.
func carry(t *testing.T, files []string, steps []Pair) []string {
	t.Helper()
	at := map[string]string{}
	for _, f := range files {
		at[strings.ToLower(f)] = f
	}
	for _, s := range steps {
		if at[strings.ToLower(s.From)] != s.From {
			t.Fatalf("%q is not there to be moved", s.From)
		}
		if at[strings.ToLower(s.To)] != "" {
			t.Fatalf("%q → %q: %q is in the way", s.From, s.To, at[strings.ToLower(s.To)])
		}
		delete(at, strings.ToLower(s.From))
		at[strings.ToLower(s.To)] = s.To
	}
	var out []string
	for _, f := range at {
		out = append(out, f)
	}
	slices.Sort(out)
	return out
}

// TestNothingEverStandsInTheWay draws plans for random shelves, carries them out on a
// file system that tells no case apart, and draws again: then there is nothing to do.
func TestNothingEverStandsInTheWay(t *testing.T) {
	words := []string{"copper", "Kite", "kite", "2003", "(2003)", "rain", "S01E02", "1x03", "sample", "part 1", "en",
		"cd2", "-", "1080p", "Season 01", "con", "b"}
	exts := []string{".mkv", ".mkv", ".mp4", ".srt", ".jpg", ".txt", ""}
	for seed := range uint64(3000) {
		rnd := rand.New(rand.NewPCG(seed, 3))
		kind := []household.Kind{household.Films, household.Series, household.Music}[rnd.IntN(3)]
		scheme := Schemes[rnd.IntN(3)]
		have := map[string]bool{}
		var files []string
		for range 1 + rnd.IntN(8) {
			var parts []string
			for range 1 + rnd.IntN(3) {
				var w []string
				for range 1 + rnd.IntN(3) {
					w = append(w, words[rnd.IntN(len(words))])
				}
				parts = append(parts, strings.Join(w, []string{" ", "."}[rnd.IntN(2)]))
			}
			f := path.Join(parts...) + exts[rnd.IntN(len(exts))]
			clash := have[strings.ToLower(f)]
			for d := path.Dir(f); d != "."; d = path.Dir(d) {
				clash = clash || have[strings.ToLower(d)]
			}
			for o := range have {
				clash = clash || strings.HasPrefix(o, strings.ToLower(f)+"/")
			}
			if !clash {
				have[strings.ToLower(f)] = true
				files = append(files, f)
			}
		}
		p := Draw(kind, scheme, files)
		after := carry(t, files, Steps(p.Moves))
		if len(after) != len(files) {
			t.Fatalf("seed %d: %d files became %d", seed, len(files), len(after))
		}
		want := slices.Clone(files)
		for _, m := range p.Moves {
			for _, x := range m.pairs() {
				want[slices.Index(want, x.From)] = x.To
			}
		}
		if slices.Sort(want); !slices.Equal(after, want) {
			t.Fatalf("seed %d: got %q, want %q", seed, after, want)
		}
		if again := Draw(kind, scheme, after); len(again.Moves) > 0 && len(p.Left) == 0 {
			t.Fatalf("seed %d (%s, %s): %q\nbecame %q\nand then %+v", seed, kind, scheme, files, after, again.Moves)
		}
	}
}

func FuzzDraw(f *testing.F) {
	f.Add("a.mkv\nb/c.mkv", 0, 0)
	f.Add("Copper Kite (2003).mkv\ncopper.kite.2003.mkv", 0, 1)
	kinds := []household.Kind{household.Films, household.Series, household.Music, household.Photos,
		household.Recordings}
	f.Fuzz(func(t *testing.T, list string, kind, scheme int) {
		if kind < 0 || kind >= len(kinds) || scheme < 0 || scheme >= len(Schemes) {
			return
		}
		have := map[string]bool{}
		var files []string
		for _, p := range strings.Split(list, "\n") {
			p = strings.TrimPrefix(path.Clean("/"+p), "/")
			if p == "" || strings.Contains(p, "/.") || strings.HasPrefix(p, ".") || have[strings.ToLower(p)] {
				continue
			}
			have[strings.ToLower(p)] = true
			files = append(files, p)
		}
		for o := range have {
			for d := path.Dir(o); d != "."; d = path.Dir(d) {
				if have[d] {
					return // a file and a folder of one name
				}
			}
		}
		p := Draw(kinds[kind], Schemes[scheme], files)
		carry(t, files, Steps(p.Moves))
	})
}

func ExampleSteps() {
	for _, s := range Steps([]Move{{From: "a", To: "b"}, {From: "b", To: "a"}, {From: "c", To: "C"}}) {
		fmt.Println(s.From, "→", s.To)
	}
	// Output:
	// c → .tidy-1-c
	// .tidy-1-c → C
	// a → .tidy-2-a
	// b → a
	// .tidy-2-a → b
}
