package library

import (
	"slices"
	"testing"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
)

func TestProblems(t *testing.T) {
	kite := File{Title: 1, Name: "Copper Kite", Year: 2003, Shelf: "films", Kind: household.Films, Path: "/f/kite.mkv",
		Content: naming.Video, Size: 10, Fingerprint: "k", Described: true, Pictured: true,
		Beside: []naming.Beside{{Sort: naming.Subtitles, Language: "lv"}}}
	with := func(f File, do func(*File)) File { f.Beside = slices.Clone(f.Beside); do(&f); return f }
	english := media.Info{Tracks: []media.Track{{Kind: media.Audio, Language: "eng"}}}
	episode := File{Title: 2, Name: "The Night Bakery", Shelf: "series", Kind: household.Series, Path: "/s/1",
		Content: naming.Video, Size: 11, Fingerprint: "e", Season: 1, Episode: 1, Described: true, Pictured: true,
		Media: media.Info{Tracks: []media.Track{{Kind: media.Subtitle, Language: "lav"}}}}
	for name, c := range map[string]struct {
		files []File
		want  []Sort
	}{
		"nothing": {[]File{kite, episode}, nil},
		"unreadable": {[]File{with(kite, func(f *File) { f.Problem, f.Fingerprint = "broken", "" })},
			[]Sort{Unreadable}},
		"unclear": {[]File{with(kite, func(f *File) { f.Note = "no year" })}, []Sort{Unclear}},
		"same content": {[]File{kite, with(kite, func(f *File) { f.Title, f.Path = 9, "/f/copy" })},
			[]Sort{SameContent}},
		"same title": {[]File{kite, with(kite, func(f *File) { f.Fingerprint, f.Path = "other", "/f/2" })},
			[]Sort{SameTitle}},
		"two editions": {[]File{kite,
			with(kite, func(f *File) { f.Fingerprint, f.Edition = "other", "final cut" })}, nil},
		"two pieces": {[]File{with(kite, func(f *File) { f.Piece = 1 }),
			with(kite, func(f *File) { f.Fingerprint, f.Piece = "other", 2 })}, nil},
		"a trailer": {[]File{kite,
			with(kite, func(f *File) { f.Fingerprint, f.Extra, f.Beside = "other", "trailer", nil })}, nil},
		"two episodes": {[]File{episode, with(episode, func(f *File) { f.Fingerprint, f.Episode = "e2", 2 })},
			nil},
		"the same episode": {[]File{episode, with(episode, func(f *File) { f.Fingerprint = "e2" })},
			[]Sort{SameTitle}},
		"no subtitles": {[]File{with(kite, func(f *File) { f.Beside = nil })}, []Sort{NoSubtitles}},
		"subtitles of another": {[]File{with(kite, func(f *File) { f.Beside[0].Language = "et" })},
			[]Sort{NoSubtitles}},
		"subtitles that tell none": {[]File{with(kite,
			func(f *File) { f.Beside = []naming.Beside{{Sort: naming.Subtitles}} })}, nil},
		"only forced ones": {[]File{with(kite,
			func(f *File) { f.Beside = []naming.Beside{{Sort: naming.Subtitles, Language: "lv", Forced: true}} })},
			[]Sort{NoSubtitles}},
		"no description or picture": {[]File{with(kite, func(f *File) { f.Described, f.Pictured = false, false })},
			[]Sort{NoDescription, NoPicture}},
		"once a title": {[]File{with(episode, func(f *File) { f.Described = false }),
			with(episode, func(f *File) { f.Described, f.Fingerprint, f.Episode = false, "e2", 2 })}, []Sort{NoDescription}},
		"several that it could be": {[]File{with(kite, func(f *File) { f.Unmatched = true })}, []Sort{Unmatched}},
		"photos want none of that": {[]File{{Title: 3, Kind: household.Photos, Content: naming.Picture, Fingerprint: "p"}},
			nil},
	} {
		var got []Sort
		list := slices.Collect(Problems(slices.Values(c.files), "lv"))
		Arrange(list)
		for _, p := range list {
			got = append(got, p.Sort)
			if p.Says == "" {
				t.Errorf("%s: a problem without a reason", name)
			}
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: got %v, want %v", name, got, c.want)
		}
	}
	got := slices.Collect(Problems(slices.Values([]File{with(kite,
		func(f *File) { f.Beside, f.Media = nil, english })}), "en-GB"))
	if len(got) != 1 || got[0].Says != "no British English subtitles; the sound is British English" ||
		got[0].Title != "Copper Kite (2003)" {
		t.Errorf("got %+v", got)
	}
}
