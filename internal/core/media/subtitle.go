package media

import (
	"bytes"
	"errors"
	"fmt"
	"html"
	"regexp"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// ErrNoSubtitle says that a text is no subtitle in a form that is known here.
var ErrNoSubtitle = errors.New("it is no subtitle in the form of SubRip or WebVTT")

// WebVTT gives a subtitle as browsers take it (W3C WebVTT, in UTF-8), from SubRip or
// WebVTT. A text that is not Unicode is read in the code page that is usual for its
// language (BCP 47).
func WebVTT(text []byte, language string) ([]byte, error) {
	s, err := unicodeOf(text, language)
	if err != nil {
		return nil, err
	}
	s = strings.NewReplacer("\r\n", "\n", "\r", "\n", "\x00", "\ufffd").Replace(s)
	if first, _, _ := strings.Cut(s, "\n"); first == "WEBVTT" || strings.HasPrefix(first, "WEBVTT ") ||
		strings.HasPrefix(first, "WEBVTT\t") {
		return []byte(s), nil
	}
	return subRip(s)
}

// pages are the code pages that texts in a language were written in before Unicode.
var pages = map[string]*charmap.Charmap{}

func init() {
	for page, languages := range map[*charmap.Charmap]string{
		charmap.Windows1250: "bs cs hr hu pl ro sk sl sq", charmap.Windows1251: "be bg kk mk ru sr uk",
		charmap.Windows1253: "el", charmap.Windows1254: "az tr",
		charmap.Windows1255: "he", charmap.Windows1256: "ar fa ur", charmap.Windows1257: "et lt lv",
		charmap.Windows1258: "vi", charmap.Windows874: "th",
	} {
		for _, l := range strings.Fields(languages) {
			pages[l] = page
		}
	}
}

// unicodeOf reads a text: Unicode where it says so or can be, else of a code page.
func unicodeOf(text []byte, language string) (string, error) {
	for mark, from := range map[string]encoding.Encoding{
		"\xef\xbb\xbf": unicode.UTF8BOM,
		"\xff\xfe":     unicode.UTF16(unicode.LittleEndian, unicode.UseBOM),
		"\xfe\xff":     unicode.UTF16(unicode.BigEndian, unicode.UseBOM),
	} {
		if bytes.HasPrefix(text, []byte(mark)) {
			b, err := from.NewDecoder().Bytes(text)
			return string(b), err
		}
	}
	if utf8.Valid(text) {
		return string(text), nil
	}
	base, _, _ := strings.Cut(strings.ToLower(language), "-")
	page := pages[base]
	if page == nil {
		page = charmap.Windows1252
	}
	b, err := page.NewDecoder().Bytes(text)
	return string(b), err
}

// subRipTime is the line of a cue's times; what follows, such as a place, is left out.
var subRipTime = regexp.MustCompile(`^\s*(\d{1,3}):([0-5]?\d):([0-5]?\d)[,.](\d{1,3})\s*-->\s*(\d{1,3}):([0-5]?\` +
	`d):([0-5]?\d)[,.](\d{1,3})(?:\s.*)?$`)

// subRip reads SubRip, which has no standard: a number, a line of times, and lines of text
// up to an empty one.
func subRip(s string) ([]byte, error) {
	var out bytes.Buffer
	out.WriteString("WEBVTT\n")
	cues := 0
	lines := strings.Split(s, "\n")
	for i := 0; i < len(lines); {
		at := subRipTime.FindStringSubmatch(lines[i])
		i++
		if at == nil {
			continue
		}
		var text []string
		for ; i < len(lines) && strings.TrimSpace(lines[i]) != "" && !subRipTime.MatchString(lines[i]); i++ {
			text = append(text, lines[i])
		}
		// Where the empty line is missing, the next cue's number stands here.
		if n := len(text) - 1; i < len(lines) && n >= 0 && subRipTime.MatchString(lines[i]) &&
			isNumber(strings.TrimSpace(text[n])) {
			text = text[:n]
		}
		from, to := subRipMoment(at[1:5]), subRipMoment(at[5:9])
		if to <= from || len(text) == 0 {
			continue
		}
		cues++
		fmt.Fprintf(&out, "\n%s --> %s\n%s\n", moment(from), moment(to), styled(strings.Join(text, "\n")))
	}
	if cues == 0 {
		return nil, ErrNoSubtitle
	}
	return out.Bytes(), nil
}

func isNumber(s string) bool { return s != "" && strings.Trim(s, "0123456789") == "" }

// subRipMoment gives milliseconds: of "7" behind the point, seven.
func subRipMoment(part []string) (ms int) {
	var n [4]int
	for i, p := range part {
		for _, d := range p {
			n[i] = n[i]*10 + int(d-'0')
		}
	}
	return ((n[0]*60+n[1])*60+n[2])*1000 + n[3]
}

func moment(ms int) string {
	return fmt.Sprintf("%02d:%02d:%02d.%03d", ms/3600000, ms/60000%60, ms/1000%60, ms%1000)
}

// Marks in the text of SubRip: those that WebVTT has, too, and others.
var (
	plainMark = regexp.MustCompile(`(?i)&lt;(/?[biu])&gt;`)
	otherMark = regexp.MustCompile(`(?i)<(?:/?font\b[^>]*|/?[biu]\s[^>]*)>|\{\\[^}]*\}`)
)

// CueText gives the text of a line of subtitles as WebVTT writes it. It is in the form in which
// films hold it: SubRip, WebVTT, ASS or the text of MP4.
func CueText(codec string, text []byte) string {
	s := strings.ToValidUTF8(strings.NewReplacer("\r\n", "\n", "\r", "\n", "\x00", "").Replace(string(text)), "\ufffd")
	if codec == "webvtt" {
		return blankLines.ReplaceAllString(strings.ReplaceAll(strings.TrimSpace(s), "-->", "→"), "\n")
	}
	if codec == "ass" {
		// Order, layer, style, name, three margins, effect, and the text.
		fields := strings.SplitN(s, ",", 9)
		s = strings.NewReplacer(`\N`, "\n", `\n`, "\n", `\h`, " ").Replace(fields[len(fields)-1])
	}
	return blankLines.ReplaceAllString(strings.TrimSpace(styled(s)), "\n")
}

// blankLines would end a cue.
var blankLines = regexp.MustCompile(`\n\s*\n`)

// CueTimes writes the line of times of a cue, in milliseconds.
func CueTimes(from, to int) string { return moment(from) + " --> " + moment(to) }

// styled writes a cue's text: with bold, italics and underlines, without other marks, and
// with nothing that a browser would take for more.
func styled(text string) string {
	text = otherMark.ReplaceAllString(text, "")
	text = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(html.UnescapeString(text))
	return plainMark.ReplaceAllStringFunc(text, func(m string) string {
		return "<" + strings.ToLower(strings.TrimSuffix(strings.TrimPrefix(m, "&lt;"), "&gt;")) + ">"
	})
}
