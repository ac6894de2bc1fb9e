// Package naming reads file names: which title a file belongs to, and which part of
// it the file is. It looks at the path below a shelf's folder and at nothing else, and
// says how sure it is and why. Canonical writes the name that a reading should have;
// reading that again gives the same.
//
// Films are expected as "Title (Year).ext", alone or in a folder of that name; series
// as "Show (Year)/Season 01/Show S01E02 Name.ext"; music as
// "Artist/Album (Year)/01 Track.ext". The other kinds are plain files: the folder is
// the title, the file a part of it. Much else is understood: see the table in
// testdata.
package naming

import (
	"path"
	"strings"
	"unicode"
	"unicode/utf8"

	"cozyshelf/internal/core/household"
)

// Edition is raised whenever a name is read otherwise than before: files that are known are
// then read anew with the next scan.
const Edition = 2

// Reading is what a path says.
type Reading struct {
	Title   string // never empty
	Year    int    // 0 where the name has none
	By      string // music: whose album
	Season  int    // series: 0 are specials
	Episode int    // series: 0 where the name has none; music: the track
	Last    int    // series: the last of several episodes in one file; else 0
	Disc    int    // music: of an album of several; else 0
	Piece   int    // films: of one that lies in several files; else 0
	Date    string // of an episode or a recording named by it: 2019-05-04, or 2019-05-04T18:12:33
	Part    string // name of the episode, track or picture; empty for a film
	Edition string // such as "director's cut"; in small letters
	Quality string // words about the copy, set aside, in small letters
	ID      string // an outside id, such as "wikidata Q42": it wins over guessing
	Extra   string // what sort of extra it is, such as "trailer"; empty for the title itself
	Sample  bool   // a piece of it, to be left out

	Why        string  // how it was read, in a few words
	Confidence float64 // from 0 to 1
	Clear      bool    // it had the form expected of this kind of shelf
}

// Read reads the path of a file, relative to the shelf's folder, with slashes.
func Read(kind household.Kind, rel string) Reading {
	dir, file := path.Split(path.Clean("/" + rel))
	stem := unsited(clean(strings.TrimSuffix(file, path.Ext(file))))
	if tidy(stem) == "" {
		stem = clean(file)
	}
	if tidy(stem) == "" {
		stem = "Untitled"
	}
	var up []string // the folders, outermost first
	for _, d := range strings.Split(strings.Trim(dir, "/"), "/") {
		if d = unsited(clean(d)); tidy(d) != "" {
			up = append(up, d)
		}
	}
	var r Reading
	switch kind {
	case household.Films:
		r = film(stem, up)
	case household.Series:
		r = episode(stem, up)
	case household.Music:
		r = track(stem, up)
	default:
		r = plain(stem, up)
	}
	r.Clear = r.Confidence >= sure
	return r
}

// siteFirst is an address of the web in front of a name.
var siteFirst = newPattern(`(?i)^(?:www\.[^\s\[\]]+\s+-\s+|[\[(]\s*www\.[^\[\]()]+[\])][\s._-]*)`)

// unsited takes the address of a site from the front of a name.
func unsited(s string) string {
	if len(s) < 4 || !strings.Contains(strings.ToLower(s[:min(len(s), 8)]), "www.") {
		return s
	}
	if rest := siteFirst.ReplaceAllString(s, ""); tidy(rest) != "" {
		return rest
	}
	return s
}

// How sure a reading is: from sure on it is taken without a remark.
const (
	certain = 1.0
	good    = 0.9
	sure    = 0.75
	likely  = 0.6
	guess   = 0.3
)

// clean makes a name fit to be shown: valid UTF-8, no control characters, single
// spaces.
func clean(s string) string {
	if simple(s) {
		return s
	}
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == utf8.RuneError || r == '\u2028' || r == '\u2029' ||
			unicode.Is(unicode.Bidi_Control, r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, " "))
	return strings.Join(strings.Fields(s), " ")
}

// simple reports whether a name is clean already: printable ASCII, single spaces.
func simple(s string) bool {
	space := true // one at the beginning is one too many
	for i := range len(s) {
		c := s[i]
		if c < ' ' || c >= 0x7f || c == ' ' && space {
			return false
		}
		space = c == ' '
	}
	return s == "" || !space
}

// tidy also takes dashes and dots from around it.
func tidy(s string) string { return strings.Trim(clean(s), " -_.,;") }

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
	".mpeg": {Video, "video/mpeg"}, ".wmv": {Video, "video/x-ms-wmv"}, ".flv": {Video, "video/x-flv"},
	".ogv": {Video, "video/ogg"}, ".asf": {Video, "video/x-ms-asf"}, ".vob": {Video, "video/mpeg"},
	".mts": {Video, "video/mp2t"}, ".m2t": {Video, "video/mp2t"}, ".3gp": {Video, "video/3gpp"},
	".3g2": {Video, "video/3gpp2"},
	".mp3": {Audio, "audio/mpeg"}, ".m4a": {Audio, "audio/mp4"}, ".flac": {Audio, "audio/flac"},
	".ogg": {Audio, "audio/ogg"},
	".oga": {Audio, "audio/ogg"}, ".opus": {Audio, "audio/ogg"}, ".wav": {Audio, "audio/wav"},
	".aac": {Audio, "audio/aac"}, ".mka": {Audio, "audio/matroska"},
	".jpg": {Picture, "image/jpeg"}, ".jpeg": {Picture, "image/jpeg"}, ".png": {Picture, "image/png"},
	".gif":  {Picture, "image/gif"},
	".webp": {Picture, "image/webp"}, ".avif": {Picture, "image/avif"}, ".heic": {Picture, "image/heic"},
	".tif": {Picture, "image/tiff"}, ".tiff": {Picture, "image/tiff"}, ".bmp": {Picture, "image/bmp"},
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
