// Package naming reads file names: which title a file belongs to, and which
// part of it the file is. It looks at the path below a shelf's folder and at
// nothing else.
//
// Films are read as "Title (Year).ext", alone or in a folder of that name;
// series as "Show (Year)/Season 01/Show S01E02 Name.ext". The other kinds are
// plain files: the folder is the title, the file a part of it.
package naming

import (
	"path"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"cozyshelf/internal/core/household"
)

// Reading is what a path says.
type Reading struct {
	Title   string // never empty
	Year    int    // 0 where the name has none
	By      string // music: the folder above the album
	Season  int    // series: 0 are specials
	Episode int    // series: 0 where the name has none
	Part    string // name of the episode, track or picture; empty for a film
	Why     string // how it was read, in a few words
	Clear   bool   // it had the form expected of this kind of shelf
}

var (
	yearAtEnd  = regexp.MustCompile(`^(.*\S)\s*\(((?:18|19|20)[0-9]{2})\)$`)
	episodeIn  = regexp.MustCompile(`(?i)(?:^|[\s._-])s([0-9]{1,3})[\s._-]?e([0-9]{1,4})(?:$|[\s._-])`)
	seasonName = regexp.MustCompile(`(?i)^(?:season|series)\s*([0-9]{1,3})$`)
	trackStart = regexp.MustCompile(`^([0-9]{1,3})(?:\s*[-.]\s*|\s+)(\S.*)$`)
)

// Read reads the path of a file, relative to the shelf's folder, with slashes.
func Read(kind household.Kind, rel string) Reading {
	dir, file := path.Split(path.Clean("/" + rel))
	stem := tidy(strings.TrimSuffix(file, path.Ext(file)))
	if stem == "" {
		stem = tidy(file)
	}
	if stem == "" {
		stem = "Untitled"
	}
	var up []string // the folders, outermost first
	for _, d := range strings.Split(strings.Trim(dir, "/"), "/") {
		if d = tidy(d); d != "" {
			up = append(up, d)
		}
	}
	switch kind {
	case household.Films:
		return film(stem, up)
	case household.Series:
		return episode(stem, up)
	}
	return plain(stem, up, kind)
}

func film(stem string, up []string) Reading {
	if title, year, ok := withYear(stem); ok {
		return Reading{Title: title, Year: year, Why: "title and year from the file's name", Clear: true}
	}
	if len(up) > 0 {
		if title, year, ok := withYear(up[len(up)-1]); ok {
			return Reading{Title: title, Year: year, Why: "title and year from the folder's name", Clear: true}
		}
	}
	return Reading{Title: stem, Why: "the name has no year in brackets, so all of it is taken as the title"}
}

func episode(stem string, up []string) Reading {
	r := Reading{Season: -1}
	if len(up) > 0 {
		if m := seasonName.FindStringSubmatch(up[len(up)-1]); m != nil {
			r.Season, _ = strconv.Atoi(m[1])
			up = up[:len(up)-1]
		} else if strings.EqualFold(up[len(up)-1], "specials") {
			r.Season = 0
			up = up[:len(up)-1]
		}
	}
	before, after := stem, ""
	if m := episodeIn.FindStringSubmatchIndex(stem); m != nil {
		r.Season, _ = strconv.Atoi(stem[m[2]:m[3]])
		r.Episode, _ = strconv.Atoi(stem[m[4]:m[5]])
		before, after = tidy(stem[:m[0]]), tidy(stem[m[5]:])
		r.Clear = true
	}
	show := before
	if len(up) > 0 {
		show = up[len(up)-1]
	}
	if title, year, ok := withYear(show); ok {
		r.Title, r.Year = title, year
	} else {
		r.Title = show
	}
	if r.Title == "" {
		r.Title = stem
	}
	r.Part = after
	if !r.Clear {
		r.Part = stem
		r.Why = "no season and episode such as S01E02 in the name"
	} else {
		r.Why = "season and episode from the file's name"
		if len(up) == 0 {
			r.Why += ", show from the same name"
		}
	}
	r.Season = max(r.Season, 0)
	return r
}

func plain(stem string, up []string, kind household.Kind) Reading {
	if len(up) == 0 {
		r := Reading{Title: stem, Why: "a file by itself is its own title", Clear: true}
		if title, year, ok := withYear(stem); ok {
			r.Title, r.Year = title, year
		}
		return r
	}
	r := Reading{Title: up[len(up)-1], Part: stem, Why: "the folder is the title, the file a part of it", Clear: true}
	if title, year, ok := withYear(r.Title); ok {
		r.Title, r.Year = title, year
	}
	if kind == household.Music {
		if len(up) > 1 {
			r.By = up[len(up)-2]
		}
		if m := trackStart.FindStringSubmatch(stem); m != nil {
			r.Episode, _ = strconv.Atoi(m[1])
			r.Part = m[2]
		}
	}
	return r
}

func withYear(s string) (string, int, bool) {
	m := yearAtEnd.FindStringSubmatch(s)
	if m == nil {
		return "", 0, false
	}
	year, _ := strconv.Atoi(m[2])
	return m[1], year, true
}

// tidy makes a name fit to be shown: valid UTF-8, no control characters, no
// dashes or dots around it, single spaces.
func tidy(s string) string {
	s = strings.ToValidUTF8(s, "\uFFFD")
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == utf8.RuneError {
			return ' '
		}
		return r
	}, s)
	return strings.Trim(strings.Join(strings.Fields(s), " "), " -_.")
}

// Content is what sort of file a name promises.
type Content string

// The sorts of files a shelf takes.
const (
	Video   Content = "video"
	Audio   Content = "audio"
	Picture Content = "picture"
)

var extensions = map[string]struct {
	content Content
	mime    string
}{
	".mp4": {Video, "video/mp4"}, ".m4v": {Video, "video/mp4"}, ".mov": {Video, "video/quicktime"},
	".mkv": {Video, "video/matroska"}, ".webm": {Video, "video/webm"}, ".avi": {Video, "video/x-msvideo"},
	".ts": {Video, "video/mp2t"}, ".m2ts": {Video, "video/mp2t"}, ".mpg": {Video, "video/mpeg"},
	".mpeg": {Video, "video/mpeg"}, ".wmv": {Video, "video/x-ms-wmv"}, ".flv": {Video, "video/x-flv"}, ".ogv": {Video, "video/ogg"},
	".mp3": {Audio, "audio/mpeg"}, ".m4a": {Audio, "audio/mp4"}, ".flac": {Audio, "audio/flac"}, ".ogg": {Audio, "audio/ogg"},
	".oga": {Audio, "audio/ogg"}, ".opus": {Audio, "audio/ogg"}, ".wav": {Audio, "audio/wav"}, ".aac": {Audio, "audio/aac"}, ".mka": {Audio, "audio/matroska"},
	".jpg": {Picture, "image/jpeg"}, ".jpeg": {Picture, "image/jpeg"}, ".png": {Picture, "image/png"}, ".gif": {Picture, "image/gif"},
	".webp": {Picture, "image/webp"}, ".avif": {Picture, "image/avif"}, ".heic": {Picture, "image/heic"}, ".tif": {Picture, "image/tiff"}, ".tiff": {Picture, "image/tiff"}, ".bmp": {Picture, "image/bmp"},
}

// ContentOf says what sort of file a name promises, and its media type (RFC
// 6838). Both are empty for a file that is no media.
func ContentOf(name string) (Content, string) {
	e := extensions[strings.ToLower(path.Ext(name))]
	return e.content, e.mime
}

// Takes reports whether a shelf of this kind takes such a file.
func Takes(kind household.Kind, c Content) bool {
	switch kind {
	case household.Music:
		return c == Audio
	case household.Photos:
		return c == Picture || c == Video
	case household.Recordings:
		return c != ""
	}
	return c == Video
}
