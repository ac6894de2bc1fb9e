// Package library looks at all that is on the shelves at once, and finds what somebody
// should see to: files that cannot be read or understood, what is there twice, what
// lacks subtitles, a description or a picture. It also counts: kinds, codecs, picture sizes.
//
// Files come as a sequence, title by title, and problems go out as one: a library of a million
// files is never in memory as a whole.
package library

import (
	"cmp"
	"fmt"
	"hash/maphash"
	"iter"
	"slices"
	"strings"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"

	"golang.org/x/text/language"
	"golang.org/x/text/language/display"
)

// Sort is what sort of thing is wrong.
type Sort string

// The sorts, the worst first.
const (
	Unreadable    Sort = "unreadable"
	Unclear       Sort = "unclear name"
	SameContent   Sort = "same content"
	SameTitle     Sort = "same title twice"
	Unmatched     Sort = "match unclear"
	NoDescription Sort = "no description"
	NoPicture     Sort = "no picture"
	NoSubtitles   Sort = "no subtitles"
)

// Sorts are all sorts, the worst first.
var Sorts = []Sort{Unreadable, Unclear, SameContent, SameTitle, Unmatched, NoDescription, NoPicture, NoSubtitles}

// File is a file as far as it matters here.
type File struct {
	Title       int64
	Name        string // of the title
	Year        int
	By          string
	Shelf       string
	Kind        household.Kind
	Path        string // on the host
	Content     naming.Content
	Size        int64
	Fingerprint string // fingerprint; empty where it was not read
	Problem     string
	Note        string // how its name was read, where that was unclear

	Season, Episode, Last, Disc, Piece int
	Part, Date, Edition, Extra         string

	Media     media.Info
	Beside    []naming.Beside
	Described bool // its title has a description
	Pictured  bool // its title has a picture, or one lies beside it
	Unmatched bool // the lookup found several that it could be
}

// Issue is one thing that somebody should see to.
type Issue struct {
	Sort  Sort   `json:"sort"`
	Shelf string `json:"shelf"`
	Title string `json:"title"`
	Path  string `json:"path"` // of the file, or of the first of the title's
	Says  string `json:"says"`
}

// Arrange puts problems in the order in which somebody sees to them: by sort, shelf and
// path.
func Arrange(list []Issue) {
	slices.SortStableFunc(list, func(a, b Issue) int {
		return cmp.Or(cmp.Compare(slices.Index(Sorts, a.Sort), slices.Index(Sorts, b.Sort)),
			cmp.Compare(a.Shelf, b.Shelf), cmp.Compare(a.Path, b.Path))
	})
}

// place is what a file is on its shelf: two that are the same are the same thing twice.
type place struct {
	shelf                        string
	title                        int64
	season, episode, disc, piece int
	part, date, edition          string
}

// placeOf gives the place of a file, if it is of a kind that has each thing once.
func placeOf(f File) (place, bool) {
	if f.Extra != "" || f.Kind != household.Films && f.Kind != household.Series && f.Kind != household.Music {
		return place{}, false
	}
	k := place{f.Shelf, f.Title, f.Season, f.Episode, f.Disc, f.Piece, "", f.Date, f.Edition}
	if f.Episode == 0 && f.Kind != household.Films {
		k.part = f.Part // without a number, the name tells them apart
	}
	return k, true
}

// content is what a file holds, as far as a scan tells.
type content struct {
	size  int64
	print string
}

// twice gives those of a list of sums that are in it more than once.
func twice(sums []uint64) map[uint64]bool {
	slices.Sort(sums)
	out := map[uint64]bool{}
	for i := 1; i < len(sums); i++ {
		if sums[i] == sums[i-1] {
			out[sums[i]] = true
		}
	}
	return out
}

// Problems finds what is wrong, in the order of the files, which it goes through twice: the
// first time it notes a sum for each, so that of a million files only those are kept in
// memory that are like another. language is the household's (BCP 47).
func Problems(files iter.Seq[File], language string) iter.Seq[Issue] {
	return func(yield func(Issue) bool) {
		seed := maphash.MakeSeed()
		var contents, places []uint64
		for f := range files {
			if f.Fingerprint != "" {
				contents = append(contents, maphash.Comparable(seed, content{f.Size, f.Fingerprint}))
			}
			if k, ok := placeOf(f); ok {
				places = append(places, maphash.Comparable(seed, k))
			}
		}
		l := looker{seed: seed, language: language, contents: twice(contents), places: twice(places),
			twins: map[content]string{}, same: map[place]string{}, titles: map[int64]bool{}, more: true}
		l.yield = func(p Issue) {
			l.more = l.more && yield(p)
		}
		for f := range files {
			if l.look(f); !l.more {
				return
			}
		}
	}
}

type looker struct {
	seed             maphash.Seed
	language         string
	contents, places map[uint64]bool // sums of those that are there twice
	twins            map[content]string
	same             map[place]string
	titles           map[int64]bool // seen
	yield            func(Issue)
	more             bool
}

func (l *looker) look(f File) {
	add := func(s Sort, f File, format string, args ...any) {
		l.yield(Issue{s, f.Shelf, shown(f), f.Path, fmt.Sprintf(format, args...)})
	}
	spoken := l.language
	if f.Problem != "" {
		add(Unreadable, f, "%s", f.Problem)
	}
	if f.Note != "" {
		add(Unclear, f, "%s", f.Note)
	}
	if k := (content{f.Size, f.Fingerprint}); f.Fingerprint != "" && l.contents[maphash.Comparable(l.seed, k)] {
		if first, ok := l.twins[k]; ok {
			add(SameContent, f, "it has the size and the beginning of %s", first)
		} else {
			l.twins[k] = f.Path
		}
	}
	if k, ok := placeOf(f); ok && l.places[maphash.Comparable(l.seed, k)] {
		if first, ok := l.same[k]; ok {
			add(SameTitle, f, "it is the same as %s", first)
		} else {
			l.same[k] = f.Path
		}
	}
	if f.Content == naming.Video && f.Extra == "" && f.Problem == "" && spoken != "" &&
		(f.Kind == household.Films || f.Kind == household.Series) && !subtitled(f, spoken) {
		remark := ""
		if slices.ContainsFunc(f.Media.Tracks, func(t media.Track) bool {
			return t.Kind == media.Audio && naming.SameLanguage(t.Language, spoken)
		}) {
			remark = "; the sound is " + languageName(spoken)
		}
		add(NoSubtitles, f, "no %s subtitles%s", languageName(spoken), remark)
	}
	if l.titles[f.Title] || f.Kind == household.Photos || f.Kind == household.Recordings {
		return
	}
	l.titles[f.Title] = true
	if f.Unmatched {
		add(Unmatched, f, "several entries fit, and none clearly: cozyshelf shelf match lists them")
	}
	if !f.Described {
		add(NoDescription, f, "nothing describes it")
	}
	if !f.Pictured {
		add(NoPicture, f, "no cover")
	}
}

// languageName is a language (BCP 47) in English, such as "Latvian"; one that has no name there
// is given as it is written.
func languageName(tag string) string {
	t, err := language.Parse(tag)
	if err != nil {
		return tag
	}
	if name := display.English.Tags().Name(t); name != "" {
		return name
	}
	return tag
}

// subtitled reports whether a film or an episode has subtitles in a language, in it or
// beside it. Those that tell no language count where they are the only ones.
func subtitled(f File, language string) bool {
	untold := false
	for _, t := range f.Media.Tracks {
		if t.Kind == media.Subtitle {
			if naming.SameLanguage(t.Language, language) {
				return true
			}
			untold = untold || naming.Language(t.Language) == ""
		}
	}
	for _, b := range f.Beside {
		if b.Sort == naming.Subtitles && !b.Forced {
			if naming.SameLanguage(b.Language, language) {
				return true
			}
			untold = untold || b.Language == ""
		}
	}
	return untold
}

// shown is a title as a person says it.
func shown(f File) string {
	s := f.Name
	if f.By != "" {
		s = f.By + ": " + s
	}
	if f.Year > 0 {
		s += fmt.Sprintf(" (%d)", f.Year)
	}
	if part := naming.Label(naming.Reading{Season: f.Season, Episode: f.Episode, Last: f.Last, Disc: f.Disc,
		Piece: f.Piece, Part: f.Part, Edition: f.Edition, Extra: f.Extra}, f.Content); part != "" {
		s += ", " + part
	}
	return strings.TrimSpace(s)
}
