package naming

import (
	"slices"
	"strconv"
	"strings"
)

// quality are words that say how a copy was made, never what it is of: sizes of
// pictures, sources, codecs, sound. They are the trade's own.
var quality = set(`480p 576p 720p 1080p 1080i 1440p 2160p 4320p 4k 8k uhd fullhd fhd
	bluray blu-ray bdrip brrip bdremux remux web-dl webdl webrip web-rip hdtv pdtv
sdtv dvdrip dvdr dvd5 dvd9 hddvd vhsrip tvrip satrip hdrip
	x264 x265 h264 h265 h.264 h.265 hevc avc xvid divx av1 vp8 vp9 mpeg2 mpeg4 10bit 8bit 12bit hi10p
	aac aac2.0 ac3 eac3 dd2.0 dd5.1 ddp5.1 dts dts-hd dtshd truehd atmos flac opus 2ch 6ch 8ch
	hdr hdr10 hdr10+ dovi sdr`)

// afterwards are words of that sort that may also belong to a title; they count only
// after one of the others, or after the year.
var afterwards = set(`hd sd web dvd vhs cam dv ma 5.1 7.1 2.0 5 1 7 2 0 264 265 h x mp3 proper repack rerip internal
	limited multi dual dl ml dubbed subbed subs dub sub remastered restored complete english german
	french spanish italian russian latvian lv en de fr es it ru eng ger fre spa ita rus lav`)

func set(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[w] = true
	}
	return m
}

// editions are the forms in which a film comes, the longest first.
var editions = newPattern(`(?i)^(?:the )?(director'?s cut|final cut|theatrical(?: cut| version)?|extended(?: cut` +
	`| edition| version)?|unrated(?: cut)?|uncut|special edition|collector'?s edition|(?:[0-9]{1,3}(?:st|nd|rd|th) ` +
	`)?anniversary edition|remastered|restored|black and white|international cut|workprint)$`)

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
	"trailers": "trailer", "trailer": "trailer", "interviews": "interview", "interview": "interview",
	"deleted scenes":    "deleted scene",
	"behind the scenes": "behind the scenes", "making of": "making of", "shorts": "short", "scenes": "scene",
	"clips": "clip",
}

// extraWhole is a file's name that is nothing but such a word.
var extraWhole = newPattern(`(?i)^(trailer|teaser|featurette|interview|` +
	`deleted scene|behind the scenes|making of|bloopers)\s*[0-9]*$`)

// extraName finds such a word at the end of a file's name.
var extraName = newPattern(`(?i)^(.*\S)\s*[-–.]\s*(trailer|teaser|featurette|interview|` +
	`deleted scene|behind the scenes|making of|bloopers)\s*[0-9]*$`)

var (
	sampleName = newPattern(`(?i)(?:^|[\s._-])sample$`)
	sampleHead = newPattern(`(?i)^sample[\s._-]+`)
	outsideID  = newPattern(`(?i)\s*=\s*(?:(wikidata) (q[1-9][0-9]{0,11})|` +
		`(musicbrainz) ([0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}))\s*$`)
	bracketed = newPattern(`\[[^\[\]]*\]|\{[^{}]*\}`)
	initials  = newPattern(`(?:^|[._ ])((?:\p{L}\.){2,}\p{L}?)(?:$|[._ ]|\b)`)
	lastDot   = newPattern(`(?i)(?:(?:^|[\s.])(?:\p{L}\.){2,}|\.\.\.|` +
		`\b(?:co|jr|sr|dr|mr|mrs|ms|st|inc|ltd|bros|vol|no|pt|etc|vs)\.)$`)
	yearParens = newPattern(`^(.*?)\s*\(((?:18|19|20)[0-9]{2})(?:\s+(?:film|movie)` +
		`|\s*[-–]\s*(?:[0-9]{4})?|\s*,[^()]*)?\)\s*(.*)$`)
	yearSquare = newPattern(`\[((?:18|19|20)[0-9]{2})(?:\s*,[^\[\]]*)?\]`)
	yearFirst  = newPattern(`^(?:((?:18[89]|19[0-9]|20[0-3])[0-9])\s+-|` +
		`[\[(]((?:18[89]|19[0-9]|20[0-3])[0-9])[\])](?:\s+-)?)\s+(\S.*)$`)
	listNumber = newPattern(`^[0-9]{1,2}(?:\.|\s+-)\s+(\S.*)$`)
	yearDashes = newPattern(`^[^-]*\s-\s(?:18|19|20)[0-9]{2}\s-\s`)
	yearToken  = newPattern(`^(?:18[89][0-9]|19[0-9]{2}|20[0-3][0-9])$`)
	pieceName  = newPattern(`(?i)^(?:part|pt|cd|dvd|disc|disk)[\s._-]?([1-9]|` + numerals + `)(?: of (?:[1-9]|` +
		numerals + `))?$`)
	pieceEnd = newPattern(`(?i)^(.*\S)[\s._-]+(?:pt|cd|disc|disk)[\s._-]?([1-9])$`)
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
	keep, ends := map[int]bool{}, map[int]bool{}
	for _, m := range initials.FindAllStringSubmatchIndex(s, -1) {
		for i := m[2]; i < m[3]; i++ {
			keep[i] = s[i] == '.'
			if i+1 == m[3] && i+1 < len(s) {
				ends[i] = true // the dot is theirs, and stands for the space, too
			}
		}
	}
	b := []byte(s)
	out := make([]byte, 0, len(b)+len(ends))
	for i, c := range b {
		switch {
		case c == '_':
			c = ' '
		case c != '.' || keep[i]:
		case i > 0 && i+1 < len(b) && digit(b[i-1]) && digit(b[i+1]) && !longNumber(b, i):
			// 5.1 and h.264 stay whole
		default:
			c = ' '
		}
		if out = append(out, c); ends[i] {
			out = append(out, ' ')
		}
	}
	return clean(string(out))
}

// name takes dashes and dots from around a title, but for dots that belong to it: those of
// initials, of an abbreviation at its end, and an ellipsis.
func name(s string) string {
	s = strings.Trim(clean(s), " -_,;")
	bare := strings.Trim(s, " -_.,;")
	if bare == "" || bare == s {
		return bare
	}
	i := strings.Index(s, bare)
	before, after := s[:i], s[i+len(bare):]
	if strings.HasPrefix(before, "...") {
		bare = "..." + bare
	}
	if strings.HasPrefix(after, "...") {
		return bare + "..."
	}
	if strings.HasPrefix(after, ".") && lastDot.MatchString(bare+".") {
		return bare + "."
	}
	return bare
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
	if strings.Contains(s, "[") && bracketedYear(s) == nil && yearInFront(s) == nil &&
		tidy(yearSquare.ReplaceAllString(s, "")) != "" {
		s = yearSquare.ReplaceAllString(s, "($1)")
	}
	if m := yearInFront(s); m != nil && p.after(m) {
		return p
	}
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
		if before := p.uncopied(name(apartDots(m[1])), &aside); before != "" {
			p.title, p.year, p.sureYear = before, number(m[2]), true
			p.once()
			p.takeEdition(strings.Contains(strings.TrimSpace(m[1]), " "))
			p.segments(strings.ReplaceAll(m[3], " "+m[2], ""), &aside)
			p.quality = strings.ToLower(strings.Join(aside, " "))
			return p
		}
	}
	p.tokens(spaced(s), &aside)
	if p.year > 0 {
		p.once()
		p.takeEdition(strings.Contains(s, " "))
	}
	p.quality = strings.ToLower(strings.Join(aside, " "))
	return p
}

// apartDots is spaced for what stands before a year in brackets: a dot right before the
// bracket is there for a space, unless the name has spaces.
func apartDots(s string) string {
	if t := strings.TrimSpace(s); strings.Contains(t, " ") {
		return t
	}
	if initials.MatchString(s) || strings.HasSuffix(strings.TrimSpace(s), "...") {
		return spaced(strings.TrimSpace(s))
	}
	return tidy(spaced(strings.TrimSpace(s)))
}

// yearInFront finds a year that a name begins with.
func yearInFront(s string) []string {
	if s == "" || !digit(s[0]) && s[0] != '(' && s[0] != '[' {
		return nil
	}
	return yearFirst.FindStringSubmatch(s)
}

// after reads a name whose year stands in front: "2003 - Copper Kite". What follows it must
// be a title with no year of its own.
func (p *parts) after(m []string) bool {
	q := apart(m[3])
	if q.title == "" || q.year > 0 {
		return false
	}
	id := p.id
	*p = q
	p.year, p.sureYear = number(m[1]+m[2]), m[2] != ""
	if p.id == "" {
		p.id = id
	}
	return true
}

// uncopied takes what is said of the copy from the end of a title.
func (p *parts) uncopied(s string, aside *[]string) string {
	for {
		m := aboutCopy.FindStringSubmatchIndex(s)
		if m == nil || !allQuality(tidy(spaced(s[m[0]+1:m[1]-1]))) {
			break
		}
		*aside = append(*aside, tidy(s[m[0]+1:m[1]-1]))
		s = name(s[:m[0]] + " " + s[m[1]:])
	}
	words := strings.Fields(s)
	for i, w := range words {
		if i > 0 && quality[strings.ToLower(w)] && allQuality(strings.Join(words[i:], " ")) {
			*aside = append(*aside, strings.Join(words[i:], " "))
			return name(strings.Join(words[:i], " "))
		}
	}
	return s
}

// once takes the year from the end of the title where it stands there again.
func (p *parts) once() {
	year := strconv.Itoa(p.year)
	for _, end := range []string{" (" + year + ")", " " + year} {
		if rest, ok := strings.CutSuffix(p.title, end); ok && name(rest) != "" {
			p.title = name(rest)
			return
		}
	}
}

// editionWord is what the last word of each of clearEditions is.
var editionWord = newPattern(`(?i)(?:cut|edition|version|unrated)$`)

// clearEditions are those that are hardly ever the last words of a title.
var clearEditions = newPattern(`(?i)^(.*\S)\s+(?:-\s+)?(` +
	`(?:director'?s|final|theatrical|extended|unrated|international) cut|` +
	`(?:extended|special|collector'?s) edition|theatrical version|extended version|unrated)$`)

// shortEditions are words of that sort that count only in names written with dots.
var shortEditions = newPattern(`(?i)^(.*\S)\s+(extended|theatrical|uncut|remastered|restored)$`)

// takeEdition takes an edition from the end of the title, where it stands before the year.
func (p *parts) takeEdition(spaces bool) {
	rest, e := "", ""
	if i := strings.LastIndexAny(p.title, "("); i > 0 && strings.HasSuffix(p.title, ")") {
		rest, e = p.title[:i], edition(p.title[i+1:len(p.title)-1])
	} else if i := strings.LastIndex(p.title, " - "); i > 0 {
		rest, e = p.title[:i], edition(p.title[i+3:])
	}
	if e == "" && (!spaces || editionWord.MatchString(p.title)) {
		m := clearEditions.FindStringSubmatch(p.title)
		if m == nil && !spaces {
			m = shortEditions.FindStringSubmatch(p.title)
		}
		if m != nil {
			rest, e = m[1], edition(m[2])
		}
	}
	if rest = name(rest); e != "" && rest != "" && p.edition == "" {
		p.title, p.edition = rest, e
	}
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
			p.piece = counted(pieceName.FindStringSubmatch(seg)[1])
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
	if !strings.Contains(s, " - ") || yearDashes.MatchString(s) {
		words = slices.DeleteFunc(words, func(w string) bool { return w == "-" })
		end = len(words)
	}
	for i, w := range words {
		low := strings.ToLower(strings.Trim(w, ",;()"))
		if i > 0 && (quality[low] || i == len(words)-1 && groupTail([]string{low}, 0) &&
			!afterwards[strings.SplitN(low, "-", 2)[0]]) {
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
		if after := strings.Join(words[i+1:end], " "); i+1 < end && !allQuality(after) && edition(after) == "" &&
			!pieceName.MatchString(after) {
			break
		}
		p.year = number(w)
		p.segments(strings.Join(words[i+1:end], " "), aside)
		p.rest = ""
		if copyWords {
			*aside = append(*aside, strings.Join(words[end:], " "))
		}
		p.title = name(strings.Join(words[:i], " "))
		return
	}
	// Where words about the copy stand before the year, it is among them.
	for i := end + 1; i < len(words); i++ {
		if w := strings.Trim(words[i], ",;()"); p.year == 0 && yearToken.MatchString(w) {
			p.year = number(w)
			words = append(words[:i:i], words[i+1:]...)
		}
	}
	if copyWords {
		*aside = append(*aside, strings.Join(words[end:], " "))
	}
	p.title = name(strings.Join(words[:end], " "))
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
