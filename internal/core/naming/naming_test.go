package naming

import (
	"strings"
	"testing"
	"unicode/utf8"

	"cozyshelf/internal/core/household"
)

func TestNamesAreReadAsTheirKindExpects(t *testing.T) {
	f, s, m, p, r := household.Films, household.Series, household.Music, household.Photos, household.Recordings
	for _, c := range []struct {
		kind household.Kind
		path string
		want Reading
	}{
		{f, "The Paper Lighthouse (2014).mp4", Reading{Title: "The Paper Lighthouse", Year: 2014, Clear: true}},
		{f, "Copper Kite (2003)/Copper Kite (2003).mkv", Reading{Title: "Copper Kite", Year: 2003, Clear: true}},
		{f, "Copper Kite (2003)/film.mkv", Reading{Title: "Copper Kite", Year: 2003, Clear: true}},
		{f, "salt-and-semaphore.mp4", Reading{Title: "salt and semaphore"}},
		{f, "1987 (1987).mp4", Reading{Title: "1987", Year: 1987, Clear: true}},
		{f, "(1987).mp4", Reading{Title: "(1987)"}},
		{f, "Kite (3003).mp4", Reading{Title: "Kite (3003)"}},
		{f, "Девять дождей (2021).mkv", Reading{Title: "Девять дождей", Year: 2021, Clear: true}},
		{f, ".mp4", Reading{Title: "mp4"}},
		{f, "a\nb (2001).mp4", Reading{Title: "a b", Year: 2001, Clear: true}},
		{f, "../../Copper Kite (2003).mkv", Reading{Title: "Copper Kite", Year: 2003, Clear: true}},
		{s, "The Night Bakery (2019)/Season 01/The Night Bakery S01E02 Rye.mp4",
			Reading{Title: "The Night Bakery", Year: 2019, Season: 1, Episode: 2, Part: "Rye", Clear: true}},
		{s, "The Night Bakery (2019)/Specials/The Night Bakery S00E01.mp4",
			Reading{Title: "The Night Bakery", Year: 2019, Episode: 1, Clear: true}},
		{s, "Tiny Harbour s1e4 - The Buoy.mkv",
			Reading{Title: "Tiny Harbour", Season: 1, Episode: 4, Part: "The Buoy", Clear: true}},
		{s, "Tiny.Harbour.S02E10.mkv", Reading{Title: "Tiny Harbour", Season: 2, Episode: 10, Clear: true}},
		{s, "Tiny Harbour (2016)/Season 2/the storm.mp4",
			Reading{Title: "Tiny Harbour", Year: 2016, Season: 2, Part: "the storm"}},
		{s, "S01E01.mp4", Reading{Title: "S01E01", Season: 1, Episode: 1}},
		{m, "The Gravel Choir/Songs for Slow Trains (1999)/01 Platform Two.m4a",
			Reading{Title: "Songs for Slow Trains", Year: 1999, By: "The Gravel Choir", Episode: 1,
				Part: "Platform Two", Clear: true}},
		{m, "loose.m4a", Reading{Title: "loose", Clear: true}},
		{p, "Orchard Picnic 2019/0001.jpg", Reading{Title: "Orchard Picnic 2019", Part: "0001", Clear: true}},
		{r, "Mending the Wheel.mp4", Reading{Title: "Mending the Wheel", Clear: true}},
	} {
		got := Read(c.kind, c.path)
		if got.Why == "" {
			t.Errorf("%s: no reason given", c.path)
		}
		got.Why, got.Confidence = "", 0
		if got != c.want {
			t.Errorf("%s\n got  %+v\n want %+v", c.path, got, c.want)
		}
	}
}

func TestShelvesTakeTheirOwnSortOfFile(t *testing.T) {
	for name, want := range map[string]string{"a.MP4": "films series photos recordings", "a.m4a": "music recordings",
		"a.jpg": "photos recordings", "a.srt": "", "a": ""} {
		c, mime := ContentOf(name)
		var got []string
		for _, k := range household.Kinds {
			if Takes(k, c) {
				got = append(got, string(k))
			}
		}
		if strings.Join(got, " ") != want || (mime == "") != (want == "") {
			t.Errorf("%s: got %v (%s), want %s", name, got, mime, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add("The Night Bakery (2019)/Season 01/The Night Bakery S01E02 Rye.mp4")
	f.Add("..//\x00/\xff (2001).mkv")
	f.Fuzz(func(t *testing.T, rel string) {
		for _, k := range household.Kinds {
			r := Read(k, rel)
			if r.Title == "" || !utf8.ValidString(r.Title) || strings.ContainsAny(r.Title+r.Part+r.By, "\x00\n\r\x1b") {
				t.Fatalf("%s: %q gives title %q, part %q", k, rel, r.Title, r.Part)
			}
			if r.Year != 0 && (r.Year < 1800 || r.Year > 2099) || r.Season < 0 || r.Episode < 0 {
				t.Fatalf("%s: %q gives impossible numbers: %+v", k, rel, r)
			}
		}
	})
}
