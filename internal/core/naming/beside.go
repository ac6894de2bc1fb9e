package naming

import (
	"path"
	"slices"
	"strings"

	"golang.org/x/text/language"
)

// Sort is what sort of file lies beside a media file.
type Sort string

// The sorts of files that go with a media file.
const (
	Subtitles Sort = "subtitles"
	Image     Sort = "picture"
	Sidecar   Sort = "sidecar"
)

var beside = map[string]Sort{
	".srt": Subtitles, ".vtt": Subtitles, ".ass": Subtitles, ".ssa": Subtitles, ".sub": Subtitles, ".idx": Subtitles,
	".sup": Subtitles, ".ttml": Subtitles,
	".jpg": Image, ".jpeg": Image, ".png": Image, ".webp": Image,
	".jsonld": Sidecar,
}

// Beside is a file that goes with a media file of the same folder.
type Beside struct {
	Name     string `json:"name"`
	Sort     Sort   `json:"sort"`
	Language string `json:"language,omitempty"` // BCP 47; empty where the name has none
	Forced   bool   `json:"forced,omitempty"`   // only what is spoken in another language
	Hearing  bool   `json:"hearing,omitempty"`  // for people who hear badly: sounds too
	Folder   bool   `json:"folder,omitempty"`   // of all in the folder, not of one file
	Size     int64  `json:"size,omitempty"`     // bytes, when it was last seen
	Modified int64  `json:"modified,omitempty"` // when it was last written to, in milliseconds since 1970
}

// SortOf says what a file could be beside a media file; empty for what goes with none.
func SortOf(name string) Sort { return beside[strings.ToLower(path.Ext(name))] }

// folderPictures are names of a picture that stands for a folder: several programs
// know them.
var folderPictures = []string{"cover", "folder", "front", "poster"}

// marks are words after a subtitle's language.
var marks = map[string]string{"forced": "forced", "foreign": "forced", "sdh": "hearing", "cc": "hearing",
	"hi": "hearing", "full": "", "default": ""}

// BesideOf reports whether a file goes with a media file of the same folder, and as
// what. stem is the media file's name without its extension: the other's name must be
// the same, followed by nothing but a language and marks such as forced or sdh.
func BesideOf(stem, name string) (Beside, bool) {
	sort := SortOf(name)
	if sort == "" {
		return Beside{}, false
	}
	b := Beside{Name: name, Sort: sort}
	own := strings.TrimSuffix(name, path.Ext(name))
	if sort != Subtitles && slices.Contains(folderPictures, strings.ToLower(own)) && sort == Image {
		b.Folder = true
		return b, true
	}
	rest, ok := cutFold(own, stem)
	if !ok || sort != Subtitles && rest != "" {
		return Beside{}, false
	}
	if rest == "" {
		return b, true
	}
	if !strings.ContainsAny(rest[:1], ".-_ [(") {
		return Beside{}, false
	}
	for i, w := range strings.FieldsFunc(rest, func(r rune) bool { return strings.ContainsRune(".-_ []()", r) }) {
		low := strings.ToLower(w)
		mark, is := marks[low]
		// "hi" is Hindi where a language is looked for, and else a mark.
		if is && (low != "hi" || b.Language != "") {
			b.Forced = b.Forced || mark == "forced"
			b.Hearing = b.Hearing || mark == "hearing"
			continue
		}
		lang := Language(low)
		if i > 0 && len(b.Language) == 2 && (lang == "" || w == strings.ToUpper(w)) {
			if with := Language(b.Language + "-" + w); with != "" {
				b.Language = with // a region or a script, as in pt-BR
			}
			continue
		}
		if lang == "" && b.Language == "" && i == 0 && len(w) > 3 {
			continue // a word of its own, such as who made it
		}
		if b.Language == "" {
			b.Language = lang
		}
	}
	return b, true
}

// cutFold cuts a prefix in whatever case of letters.
func cutFold(s, prefix string) (string, bool) {
	if len(s) < len(prefix) || !strings.EqualFold(s[:len(prefix)], prefix) {
		return "", false
	}
	return s[len(prefix):], true
}

// names of languages in words, as people write them into subtitles' names.
var languageWords = map[string]string{
	"english": "en", "german": "de", "deutsch": "de", "french": "fr", "francais": "fr", "français": "fr",
	"spanish": "es", "espanol": "es", "español": "es", "italian": "it", "italiano": "it",
	"russian": "ru", "latvian": "lv", "latviski": "lv", "lithuanian": "lt", "estonian": "et", "polish": "pl",
	"polski": "pl", "dutch": "nl", "nederlands": "nl", "portuguese": "pt",
	"swedish": "sv", "svenska": "sv", "norwegian": "no", "danish": "da", "dansk": "da", "finnish": "fi", "suomi": "fi",
	"czech": "cs", "greek": "el", "turkish": "tr", "ukrainian": "uk",
	"japanese": "ja", "chinese": "zh", "korean": "ko", "arabic": "ar", "hebrew": "he", "hindi": "hi",
	"hungarian": "hu", "romanian": "ro",
}

// Language gives the BCP 47 tag of a language as a name or a file says it: "eng", "en",
// "english". It is empty for what is no language that is known.
func Language(s string) string {
	s = strings.ToLower(strings.TrimSpace(s))
	if t := languageWords[s]; t != "" {
		return t
	}
	if base, _, _ := strings.Cut(s, "-"); len(base) < 2 || len(base) > 3 || s == "und" || s == "mul" || s == "zxx" ||
		s == "mis" {
		return ""
	}
	t, err := language.Parse(s)
	// Those without a code of two letters are rare, and look like words: "the", "mis".
	if base, _ := t.Base(); err != nil || len(base.String()) != 2 {
		return ""
	}
	return t.String()
}

// SameLanguage reports whether two languages are the same, whatever the region.
func SameLanguage(a, b string) bool {
	ta, err := language.Parse(Language(a))
	if err != nil {
		return false
	}
	tb, err := language.Parse(Language(b))
	if err != nil {
		return false
	}
	ba, _ := ta.Base()
	bb, _ := tb.Base()
	return ba == bb
}
