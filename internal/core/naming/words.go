package naming

import (
	"regexp"
	"strings"
)

// quality are words that say how a copy was made, never what it is of: sizes of
// pictures, sources, codecs, sound. They are the trade's own.
var quality = set(`480p 576p 720p 1080p 1080i 1440p 2160p 4320p 4k 8k uhd fullhd fhd
	bluray blu-ray bdrip brrip bdremux remux web-dl webdl webrip web-rip hdtv pdtv sdtv dvdrip dvdr dvd5 dvd9 hddvd vhsrip tvrip satrip hdrip
	x264 x265 h264 h265 h.264 h.265 hevc avc xvid divx av1 vp8 vp9 mpeg2 mpeg4 10bit 8bit 12bit hi10p
	aac aac2.0 ac3 eac3 dd2.0 dd5.1 ddp5.1 dts dts-hd dtshd truehd atmos flac opus 2ch 6ch 8ch
	hdr hdr10 hdr10+ dovi sdr`)

// afterwards are words of that sort that may also belong to a title; they count only
// after one of the others, or after the year.
var afterwards = set(`hd sd web dvd vhs cam dv ma 5.1 7.1 2.0 5 1 7 2 0 264 265 h x mp3 proper repack rerip internal limited multi dual dubbed subbed subs dub sub
	remastered restored complete english german french spanish italian russian latvian lv en de fr es it ru eng ger fre spa ita rus lav`)

func set(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[w] = true
	}
	return m
}

// editions are the forms in which a film comes, the longest first.
var editions = regexp.MustCompile(`(?i)^(?:the )?(director'?s cut|final cut|theatrical(?: cut| version)?|extended(?: cut| edition| version)?|unrated(?: cut)?|uncut|special edition|collector'?s edition|(?:[0-9]{1,3}(?:st|nd|rd|th) )?anniversary edition|remastered|restored|black and white|international cut|workprint)$`)

// edition reads a segment of a name as an edition; empty where it is none.
func edition(s string) string {
	if editions.MatchString(s) {
		return strings.TrimPrefix(strings.ToLower(s), "the ")
	}
	return ""
}

// extraFolders are folders that hold what goes with a film, not the film.
var extraFolders = map[string]string{
	"extras": "extra", "extra": "extra", "bonus": "extra", "featurettes": "featurette", "featurette": "featurette",
	"trailers": "trailer", "trailer": "trailer", "interviews": "interview", "interview": "interview", "deleted scenes": "deleted scene",
	"behind the scenes": "behind the scenes", "making of": "making of", "shorts": "short", "scenes": "scene", "clips": "clip",
}

// extraName finds such a word at the end of a file's name.
var extraName = regexp.MustCompile(`(?i)^(.*\S)\s*[-–.]\s*(trailer|teaser|featurette|interview|deleted scene|behind the scenes|making of|bloopers)\s*[0-9]*$`)

var (
	sampleName = regexp.MustCompile(`(?i)(?:^|[\s._-])sample$`)
	outsideID  = regexp.MustCompile(`(?i)\s*=\s*(?:(wikidata) (q[1-9][0-9]{0,11})|(musicbrainz) ([0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}))\s*$`)
	bracketed  = regexp.MustCompile(`\[[^\[\]]*\]|\{[^{}]*\}`)
	initials   = regexp.MustCompile(`(?:^|[._ ])((?:\p{L}\.){2,}\p{L}?)(?:$|[._ ]|\b)`)
	yearParens = regexp.MustCompile(`^(.*?)\s*\(((?:18|19|20)[0-9]{2})\)\s*(.*)$`)
	yearToken  = regexp.MustCompile(`^(?:18[89][0-9]|19[0-9]{2}|20[0-3][0-9])$`)
	pieceName  = regexp.MustCompile(`(?i)^(?:part|pt|cd|dvd|disc|disk)[\s._-]?([1-9])(?: of [1-9])?$`)
	pieceEnd   = regexp.MustCompile(`(?i)^(.*\S)[\s._-]+(?:pt|cd|disc|disk)[\s._-]?([1-9])$`)
)

// takeID takes an outside id from the end of a name: "= wikidata Q42".
func takeID(s string) (rest, id string) {
	if !strings.Contains(s, "=") {
		return s, ""
	}
	m := outsideID.FindStringSubmatch(s)
	if m == nil {
		return s, ""
	}
	rest = strings.TrimSpace(s[:len(s)-len(m[0])])
	if m[1] != "" {
		return rest, "wikidata " + strings.ToUpper(m[2])
	}
	return rest, "musicbrainz " + strings.ToLower(m[4])
}

// bracketedYear finds the first year in brackets: what stands before it, the year, and
// what follows.
func bracketedYear(s string) []string {
	if !strings.Contains(s, "(") {
		return nil
	}
	return yearParens.FindStringSubmatch(s)
}

// spaced turns dots, underscores and hyphens that stand for spaces into spaces.
// Initials such as "N.I.N." keep their dots.
func spaced(s string) string {
	if strings.Contains(s, " ") {
		return s
	}
	if !strings.ContainsAny(s, "._") {
		if strings.Count(s, "-") >= 2 && s == strings.ToLower(s) {
			return strings.ReplaceAll(s, "-", " ")
		}
		return s
	}
	keep := map[int]bool{}
	for _, m := range initials.FindAllStringSubmatchIndex(s, -1) {
		for i := m[2]; i < m[3]; i++ {
			keep[i] = s[i] == '.' && (i+1 < m[3] || i+1 == len(s))
		}
	}
	b := []byte(s)
	for i, c := range b {
		switch {
		case c == '_':
			b[i] = ' '
		case c != '.' || keep[i]:
		case i > 0 && i+1 < len(b) && digit(b[i-1]) && digit(b[i+1]) && !longNumber(b, i):
			// 5.1 and h.264 stay whole
		default:
			b[i] = ' '
		}
	}
	return clean(string(b))
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

// longNumber reports whether a number of more than one digit stands on either side
// of a dot: years and dates do.
func longNumber(b []byte, i int) bool {
	return i >= 2 && digit(b[i-2]) || i+2 < len(b) && digit(b[i+2])
}

// parts is a name taken apart.
type parts struct {
	title, edition, quality, id string
	year, piece                 int
	sureYear                    bool // it stood in brackets
	rest                        string
}

// apart takes a name apart: title, year, and what is said of the copy.
func apart(s string) parts {
	var p parts
	s, p.id = takeID(s)
	var aside []string
	// What stands in square or curly brackets is about the copy, unless it is all.
	if !strings.ContainsAny(s, "[{") {
		// there are none
	} else if out := bracketed.ReplaceAllString(s, " "); tidy(out) != "" {
		for _, m := range bracketed.FindAllString(s, -1) {
			inner := tidy(m[1 : len(m)-1])
			if e := edition(inner); e != "" {
				p.edition = e
			} else if inner != "" {
				aside = append(aside, inner)
			}
		}
		s = clean(out)
	}
	if p.id == "" {
		s, p.id = takeID(s)
	}
	if m := bracketedYear(s); m != nil {
		// The last year in brackets is that of the title.
		for {
			n := bracketedYear(m[3])
			if n == nil {
				break
			}
			m = []string{"", m[1] + " (" + m[2] + ")" + spaceBefore(n[1]), n[2], n[3]}
		}
		if before := tidy(spaced(strings.TrimSpace(m[1]))); before != "" {
			p.title, p.year, p.sureYear = before, number(m[2]), true
			p.segments(m[3], &aside)
			p.quality = strings.ToLower(strings.Join(aside, " "))
			return p
		}
	}
	p.tokens(spaced(s), &aside)
	p.quality = strings.ToLower(strings.Join(aside, " "))
	return p
}

func spaceBefore(s string) string {
	if s == "" {
		return ""
	}
	return " " + s
}

var bracketsAsDashes = strings.NewReplacer("(", " - ", ")", " - ")

// segments reads what follows the year.
func (p *parts) segments(s string, aside *[]string) {
	s = strings.TrimSpace(s)
	var rest []string
	for _, seg := range strings.Split(bracketsAsDashes.Replace(s), " - ") {
		seg = tidy(spaced(tidy(seg)))
		switch e := edition(seg); {
		case seg == "":
		case e != "":
			p.edition = e
		case pieceName.MatchString(seg):
			p.piece = number(pieceName.FindStringSubmatch(seg)[1])
		case allQuality(seg):
			*aside = append(*aside, seg)
		default:
			rest = append(rest, seg)
		}
	}
	p.rest = strings.Join(rest, " - ")
}

// allQuality reports whether every word of a text is about the copy.
func allQuality(s string) bool {
	words := strings.Fields(strings.ToLower(s))
	seen := false
	for i, w := range words {
		w = strings.Trim(w, ",;")
		switch {
		case quality[w]:
			seen = true
		case !afterwards[w] && !groupTail(words, i):
			return false
		}
	}
	return seen || len(words) > 0
}

// groupTail reports whether the last word hangs on one about the copy by a hyphen, as
// in "x264-millpond".
func groupTail(words []string, i int) bool {
	head, _, ok := strings.Cut(words[i], "-")
	return ok && i == len(words)-1 && (quality[head] || afterwards[head])
}

// tokens reads a name word by word, where no year stands in brackets: the title ends
// at the year, or at the first word about the copy.
func (p *parts) tokens(s string, aside *[]string) {
	words := strings.Fields(s)
	end := len(words)
	for i, w := range words {
		low := strings.ToLower(strings.Trim(w, ",;()"))
		if i > 0 && (quality[low] || i == len(words)-1 && groupTail([]string{low}, 0) && !afterwards[strings.SplitN(low, "-", 2)[0]]) {
			end = i
			break
		}
	}
	copyWords := end < len(words)
	// The last number that can be a year, if it is not the title itself.
	for i := end - 1; i > 0; i-- {
		w := strings.Trim(words[i], ",;")
		if !yearToken.MatchString(w) {
			continue
		}
		if after := strings.Join(words[i+1:end], " "); i+1 < end && !allQuality(after) && edition(after) == "" && !pieceName.MatchString(after) {
			break
		}
		p.year = number(w)
		p.segments(strings.Join(words[i+1:end], " "), aside)
		p.rest = ""
		if copyWords {
			*aside = append(*aside, strings.Join(words[end:], " "))
		}
		p.title = tidy(strings.Join(words[:i], " "))
		return
	}
	if copyWords {
		*aside = append(*aside, strings.Join(words[end:], " "))
	}
	p.title = tidy(strings.Join(words[:end], " "))
	// An edition at the end, such as "Copper Kite - Extended Cut".
	if i := strings.LastIndex(p.title, " - "); i > 0 {
		if e := edition(p.title[i+3:]); e != "" {
			p.title, p.edition = tidy(p.title[:i]), e
		}
	}
	if m := pieceEnd.FindStringSubmatch(p.title); m != nil {
		p.title, p.piece = tidy(m[1]), number(m[2])
	}
}
