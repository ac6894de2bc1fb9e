package naming

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"
)

func number(s string) int {
	n, err := strconv.Atoi(s)
	if err != nil {
		return 0
	}
	return n
}

func film(stem string, up []string) Reading {
	r := Reading{}
	// What lies in a folder of extras goes with the film above it.
	for i := len(up) - 1; i >= 0; i-- {
		name := strings.ToLower(tidy(spaced(up[i])))
		if sort, ok := extraFolders[name]; ok && i > 0 {
			p := apart(up[i-1])
			return Reading{Title: orElse(p.title, tidy(up[i-1])), Year: p.year, ID: p.id, Extra: sort,
				Part: orElse(tidy(spaced(stem)), sort),
				Why:  "it lies in the folder " + up[i] + " of a film", Confidence: good}
		}
		if name == "sample" || name == "samples" {
			r.Sample = true
			up = up[:i]
		}
	}
	stem, r.Sample = takeSample(stem, r.Sample)
	if m := extraWhole.FindStringSubmatch(tidy(spaced(stem))); m != nil && len(up) > 0 {
		if f := apart(unlisted(up[len(up)-1])); f.title != "" && !strings.EqualFold(f.title, tidy(spaced(stem))) {
			return Reading{Title: f.title, Year: f.year, ID: f.id, Extra: strings.ToLower(m[1]),
				Part:   tidy(spaced(stem)),
				Sample: r.Sample, Why: "it is called so, and lies in the folder of a film", Confidence: good}
		}
	}
	if m := extraOf(stem); m != nil {
		r.Extra, stem = strings.ToLower(m[2]), tidy(m[1])
	}
	p := apart(unlisted(stem))
	var above parts
	if len(up) > 0 && (!p.sureYear || strings.Contains(up[len(up)-1], "=")) {
		above = apart(unlisted(up[len(up)-1]))
	}
	r.Edition, r.Quality, r.Piece, r.ID = p.edition, p.quality, p.piece, cmp.Or(p.id, above.id)
	switch {
	case p.sureYear:
		r.Title, r.Year, r.Why, r.Confidence = p.title, p.year, "title and year from the file's name", certain
	case above.sureYear:
		r.Title, r.Year, r.Why, r.Confidence = above.title, above.year, "title and year from the folder's name", certain
		r.Edition = cmp.Or(r.Edition, above.edition)
	case p.year > 0 && p.title != "":
		r.Title, r.Year, r.Why, r.Confidence = p.title, p.year,
			"the year is taken from the end of the title, without brackets", sure
	case above.year > 0 && above.title != "":
		r.Title, r.Year, r.Why, r.Confidence = above.title, above.year,
			"title and year from the folder's name, without brackets", sure
	default:
		r.Title, r.Why, r.Confidence = p.title, "the name has no year in brackets, so all of it is taken as the title",
			guess
		if p.quality != "" {
			r.Why, r.Confidence = "the name has no year; the title ends where words about the copy begin", likely
		}
	}
	if r.ID != "" {
		r.Why, r.Confidence = r.Why+"; an outside id stands in the name", certain
	}
	r.Title = orElse(r.Title, tidy(spaced(stem)), tidy(stem), stem)
	return r
}

// unlisted takes a number of a list from the front of a name with a year in brackets:
// "03 - Copper Kite (2003)".
func unlisted(s string) string {
	if s == "" || !digit(s[0]) {
		return s
	}
	if m := listNumber.FindStringSubmatch(s); m != nil {
		if y := bracketedYear(m[1]); y != nil && tidy(y[1]) != "" {
			return m[1]
		}
	}
	return s
}

// takeSample takes the word that makes a file a sample from the end of its name.
func takeSample(stem string, is bool) (string, bool) {
	if len(stem) > len("sample") && strings.EqualFold(stem[:len("sample")], "sample") {
		if m := sampleHead.FindString(stem); m != "" && !strings.Contains(stem, " ") {
			return stem[len(m):], true
		}
	}
	if len(stem) < len("sample") || !strings.EqualFold(stem[len(stem)-len("sample"):], "sample") ||
		!sampleName.MatchString(stem) {
		return stem, is
	}
	if rest := tidy(sampleName.ReplaceAllString(stem, "")); rest != "" {
		stem = rest
	}
	return stem, true
}

// extraOf finds what makes a file an extra by its name.
func extraOf(stem string) []string {
	low := strings.ToLower(stem)
	for _, w := range []string{"trailer", "teaser", "featurette", "interview", "scene", "making of", "bloopers"} {
		if strings.Contains(low, w) {
			return extraName.FindStringSubmatch(stem)
		}
	}
	return nil
}

// orElse gives the first text that says something.
func orElse(list ...string) string {
	for _, s := range list {
		if s != "" {
			return s
		}
	}
	return "Untitled"
}

// What seasons and episodes are called where numbers stand after the word.
const (
	numerals     = `one|two|three|four|five|six|seven|eight|nine|ten|i|ii|iii|iv|v|vi|vii|viii|ix|x`
	seasonWords  = `season|series|staffel|saison|temporada|stagione|seizoen|säsong|sesong|sæson|kausi|sezona|сезон`
	months       = `(jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)[a-z]*`
	episodeWords = `episode|chapter|ep|e|folge|épisode|episodio|episódio|capítulo|puntata|aflevering|` +
		`avsnitt|afsnit|jakso|sērija|серия`
)

var (
	seasonName = newPattern(`(?i)^(?:` + seasonWords + `)\s*([0-9]{1,3}|` + numerals +
		`)(?:\s*[-–(\[].*)?$|^s([0-9]{1,2})(?:\s*[-–(\[].*)?$`)
	// Show S02, Show S02 1080p, Show - Season 2
	seasonEnd = newPattern(`(?i)^(.*\S)\s+(?:-\s+)?\(?(?:(?:` + seasonWords +
		`)\s*([0-9]{1,3})|s([0-9]{1,2}))\)?(?:\s+(.*))?$`)
	specials = newPattern(`(?i)^(?:specials?|season\s*0+)$`)

	// S01E02, S01E02E03, S01E02-E03, S01E02-03, s1.e2
	episodeIn = newPattern(`(?i)(?:^|[\s._\-\[(])s([0-9]{1,3})[\s._-]?e([0-9]{1,4})` +
		`(?:(?:e[0-9]{1,4})*(?:[\s._]?[-+][\s._]?e?|[\s._]?&[\s._]?e|e)([0-9]{1,4}))?(?:$|[\s._\-\])])`)
	// 1x02, 1x02-03
	crossIn = newPattern(`(?i)(?:^|[\s._\-\[(])([0-9]{1,2})x([0-9]{2,3}|[1-9])(?:-(?:[0-9]{1,2}x)?([0-9]{2,3})` +
		`)?(?:$|[\s._\-\])])`)
	// Season 1 Episode 2
	wordsIn = newPattern(`(?i)(?:^|[\s._-])(?:season|series)[\s._]([0-9]{1,3})[\s._,-]+` +
		`(?:episode|ep)[\s._]?([0-9]{1,4})()(?:$|[\s._-])`)
	// Show - S2 - 05, Show Season 2 Episode 5: on a name whose dots are spaces
	seasonedIn = newPattern(`(?i)(?:^|\s)(?:-\s+)?(?:(?:` + seasonWords +
		`)\s*([0-9]{1,2})|s([0-9]{1,2}))[\s,]+(?:-\s+)?(?:(?:` + episodeWords +
		`|#)\.?\s*)?([0-9]{1,3})(?:\s?-\s?([0-9]{1,3}))?(?:$|\s)`)
	// Part 2 of 4, 2of4, Part 2: on a name whose dots are spaces
	partIn = newPattern(`(?i)(?:^|[\s(])(?:-\s+)?(?:(?:part|pt)\s*([0-9]{1,2}|` + numerals +
		`)(?:\s*of\s*(?:[0-9]{1,2}|` + numerals + `))?|([0-9]{1,2})\s?of\s?[0-9]{1,2})(?:$|[\s)])`)
	// Show 203, 203 The Buoy: the season's number before the episode's two digits
	hundredIn = newPattern(`^(?:(.*\S)\s+)?([1-9][0-9]?)([0-9]{2})(?:\s+(?:-\s+)?(\S.*))?$`)
	// 12v2 is a second try at 12
	versionIn = newPattern(`(?i)((?:^|[\s._ex-])[0-9]{1,4})v[0-9]($|[\s._\-\[(])`)
	// 04.05.2019, the day first
	dayFirst = newPattern(`(?:^|[\s_\-\[(])(0[1-9]|[12][0-9]|3[01])\.(0[1-9]|1[0-2])\.((?:19|20)[0-9]{2})` +
		`(?:$|[\s._\-\])])`)
	// 4 May 2019, May 4, 2019
	monthIn = newPattern(`(?i)(?:^|[\s._\-\[(])(?:([0-9]{1,2})[\s._]+` + months + `|` + months +
		`[\s._]+([0-9]{1,2}),?)[\s._]+((?:19|20)[0-9]{2})(?:$|[\s._\-\])])`)
	// Special 1, SP02: on a name whose dots are spaces
	specialIn = newPattern(`(?i)(?:^|\s)(?:-\s+)?(?:special|sp|ova)\s*([0-9]{1,2})(?:$|\s)`)
	// Show 01, Show 1-02: at the end, without a dash between
	zeroEnd    = newPattern(`^(.*\S)\s+(0[0-9])$`)
	seasonDash = newPattern(`^(.*\S)\s+([1-9])-([0-9]{2})$`)
	// [Team] Show - 1024
	longCount = newPattern(`^(.*\S)\s+-\s+([0-9]{4})(?:\s+(\S.*))?$`)
	// [Team] at the beginning says who made the copy
	madeBy = newPattern(`^\[[^\[\]]+\][\s._]*`)
	// 2019-05-04, 2019.05.04, 20190504
	dateIn = newPattern(`(?:^|[\s._\-\[(])((?:19|20)[0-9]{2})([._ -]?)(0[1-9]|1[0-2])([._ -]?)` +
		`(0[1-9]|[12][0-9]|3[01])(?:$|[\s._\-\])T])`)
	// Episode 5, Ep 5, E05, #5
	numberIn = newPattern(`(?i)(?:^|[\s._-])(?:` + episodeWords + `|#)[\s._]{0,2}([0-9]{1,4})(?:$|[\s._-])`)
	// Show - 05 - Name, 05 - Name, 05
	bareIn = newPattern(`^(?:(.*\S)\s+-\s+)?([0-9]{1,3}|0[0-9]{3})(?:\s?-\s?([0-9]{2,3}))?(?:\s*[-–.]\s*(\S.*)` +
		`|\s+(\S.*))?$`)
)

// date reads a date in a name, and where it stands; empty where there is none.
func date(s string) (day string, from, to int) {
	if !strings.ContainsAny(s, "12") {
		return "", 0, 0
	}
	m := dateIn.FindStringSubmatchIndex(s)
	if m == nil || s[m[4]:m[5]] != s[m[8]:m[9]] {
		return "", 0, 0
	}
	day = s[m[2]:m[3]] + "-" + s[m[6]:m[7]] + "-" + s[m[10]:m[11]]
	if _, err := time.Parse(time.DateOnly, day); err != nil {
		return "", 0, 0
	}
	return day, m[2], m[11]
}

func episode(stem string, up []string) Reading {
	r := Reading{Season: -1}
	stem, r.Sample = takeSample(stem, r.Sample)
	byTeam := false
	if strings.HasPrefix(stem, "[") {
		if rest := madeBy.ReplaceAllString(stem, ""); rest != stem && tidy(rest) != "" {
			stem, byTeam = rest, true
		}
	}
	if i := strings.IndexAny(stem, "vV"); i > 0 {
		stem = versionIn.ReplaceAllString(stem, "$1$2")
	}
	if n := len(up); n > 1 && discFolder.MatchString(tidy(up[n-1])) {
		up = up[:n-1] // a disc of the season
	}
	if n := len(up); n > 1 && strings.ContainsAny(up[n-1], "eE") {
		// A folder of one episode, which names no show.
		if m := episodeIn.FindStringSubmatchIndex(up[n-1]); m != nil && tidy(up[n-1][:m[0]]) == "" {
			if episodeIn.FindStringIndex(stem) == nil {
				stem = up[n-1]
			}
			up = up[:n-1]
		}
	} else if n == 1 && len(stem) > 0 {
		if m := episodeIn.FindStringSubmatchIndex(up[0]); m != nil && tidy(up[0][:m[0]]) == "" &&
			episodeIn.FindStringIndex(stem) == nil {
			stem, up = up[0], nil
		}
	}
	if n := len(up); n > 0 {
		name := tidy(spaced(up[n-1]))
		if m := seasonName.FindStringSubmatch(name); m != nil {
			r.Season = counted(m[1] + m[2])
			up = up[:n-1]
		} else if specials.MatchString(name) {
			r.Season = 0
			up = up[:n-1]
		} else if len(name) < 3 && number(name) > 0 && n > 1 && strings.ContainsAny(stem, "0123456789") {
			r.Season = number(name) // a folder that is only the season's number
			up = up[:n-1]
		}
	}
	from := "the file's name"
	if own := stem; r.Season < 0 {
		if stem, up, r.Season = released(stem, up); stem != own {
			from = "the folder's name"
		}
	}
	stem, r.ID = takeID(stem)
	e := found{Reading: r, before: stem}
	e.look(stem, up, from, byTeam)
	r = e.Reading
	if n := len(up); n > 1 && r.Date != "" && yearToken.MatchString(up[n-1]) {
		up = up[:n-1] // a folder of the episodes of one year
	}
	if len(up) == 0 && r.Date != "" && tidy(e.before) == "" && tidy(e.after) != "" {
		e.before, e.after = e.after, "" // the date stands in front
	}
	title := apart(name(strings.Trim(e.before, "[(")))
	show := title
	if len(up) > 0 {
		show = apart(up[len(up)-1])
	}
	r.Title, r.Year, r.ID = show.title, show.year, cmp.Or(r.ID, show.id)
	if r.Confidence == 0 {
		r.Part, r.Why, r.Confidence = orElse(tidy(spaced(stem)), tidy(stem)),
			"no season and episode such as S01E02 in the name", guess
	} else {
		e.part(&r)
		if len(up) == 0 {
			r.Why += ", show from the same name"
		}
	}
	if r.Title == "" && r.Confidence > likely {
		r.Confidence, r.Why = likely, r.Why+", but no show in it or above it"
	}
	r.Title = orElse(r.Title, tidy(spaced(stem)), tidy(stem), stem)
	r.Season = max(r.Season, 0)
	return r
}

// found is what a name of an episode says, with what stands before and after its number.
type found struct {
	Reading
	before, after string
}

// look finds the number of an episode, by the forms that say most first.
func (e *found) look(stem string, up []string, from string, byTeam bool) {
	if !strings.ContainsAny(stem, "0123456789") && (!strings.ContainsAny(stem, "pP") ||
		!partIn.MatchString(spaced(stem))) {
		return // there is nothing to find
	}
	for _, form := range []pattern{episodeIn, crossIn, wordsIn} {
		if m := form.FindStringSubmatchIndex(stem); m != nil {
			e.numbered(stem, m, from)
			return
		}
	}
	inSeason := e.Season >= 0
	flat := uncopied(stem)
	if m := seasonedIn.FindStringSubmatchIndex(flat); m != nil {
		e.Season, e.Episode = number(group(flat, m, 1)+group(flat, m, 2)), number(group(flat, m, 3))
		e.until(group(flat, m, 4))
		e.before, e.after = flat[:m[0]], flat[m[1]:]
		e.Confidence, e.Why = certain, "season and episode from "+from
		return
	}
	if day, from, to := date(stem); day != "" {
		e.Date, e.before, e.after = day, stem[:from], stem[to:]
		e.Confidence, e.Why = good, "the date of the episode from the file's name"
		return
	}
	if m := dayFirst.FindStringSubmatchIndex(stem); m != nil {
		day := stem[m[6]:m[7]] + "-" + stem[m[4]:m[5]] + "-" + stem[m[2]:m[3]]
		if _, err := time.Parse(time.DateOnly, day); err == nil {
			e.Date, e.before, e.after = day, stem[:m[2]], stem[m[7]:]
			e.Confidence, e.Why = good, "the date of the episode from the file's name, the day first"
			return
		}
	}
	if day, at, to := monthDate(stem); day != "" {
		e.Date, e.before, e.after = day, stem[:at], stem[to:]
		e.Confidence, e.Why = good, "the date of the episode from the file's name, with its month as a word"
		return
	}
	// Where a folder names the show, its name says nothing more in the file's.
	own, alone := flat, false
	if len(up) > 0 {
		if own = without(flat, apart(up[len(up)-1]).title); own != flat {
			alone = true
		}
	}
	switch m := numberIn.FindStringSubmatchIndex(own); {
	case m != nil:
		e.Episode, e.before, e.after = number(own[m[2]:m[3]]), own[:m[0]], own[m[3]:]
		e.unseasoned(inSeason)
	case e.special(own):
	case e.ofParts(own):
	case byTeam && e.counted(own):
	case e.bare(own, len(up) == 0):
	case e.hundreds(own, byTeam, alone || inSeason):
	default:
		m := bareIn.FindStringSubmatch(own)
		if m == nil || !inSeason && len(up) == 0 && m[1] == "" {
			break
		}
		e.Episode, e.before, e.after = number(m[2]), m[1], m[4]+m[5]
		e.until(m[3])
		e.unseasoned(inSeason)
	}
}

// numbered takes season and episode from where a form found them.
func (e *found) numbered(stem string, m []int, from string) {
	e.Season, e.Episode = number(stem[m[2]:m[3]]), number(stem[m[4]:m[5]])
	e.until(group(stem, m, 3))
	e.before, e.after = stem[:m[0]], stem[max(m[5], m[7]):]
	e.Confidence, e.Why = certain, "season and episode from "+from
}

// until takes the last of several episodes.
func (e *found) until(s string) {
	if last := number(s); last > e.Episode && last-e.Episode < 100 {
		e.Last = last
	}
}

// monthDate reads a date whose month is a word, and where it stands.
func monthDate(s string) (day string, from, to int) {
	if !strings.Contains(s, "19") && !strings.Contains(s, "20") {
		return "", 0, 0
	}
	m := monthIn.FindStringSubmatchIndex(s)
	if m == nil {
		return "", 0, 0
	}
	date := group(s, m, 1) + group(s, m, 4) + " " + strings.ToLower(group(s, m, 2)+group(s, m, 3)) + " " +
		group(s, m, 5)
	t, err := time.Parse("2 Jan 2006", date)
	if err != nil {
		return "", 0, 0
	}
	return t.Format(time.DateOnly), m[0], m[11]
}

// special reads what belongs to no season: "Special 1".
func (e *found) special(s string) bool {
	m := specialIn.FindStringSubmatchIndex(s)
	if m == nil || e.Season > 0 {
		return false
	}
	e.Season, e.Episode = 0, number(group(s, m, 1))
	e.before, e.after = s[:m[0]], s[m[1]:]
	e.Confidence, e.Why = sure, "it is called a special"
	return true
}

// counted reads the number of a long series that is counted on without seasons.
func (e *found) counted(s string) bool {
	m := longCount.FindStringSubmatch(s)
	if m == nil || yearToken.MatchString(m[2]) {
		return false
	}
	inSeason := e.Season >= 0
	e.Episode, e.before, e.after = number(m[2]), m[1], m[3]
	e.unseasoned(inSeason)
	return true
}

// bare reads "Show 01" and "Show 1-02", where no folder names the show.
func (e *found) bare(s string, alone bool) bool {
	if !alone || e.Season >= 0 {
		return false
	}
	if m := seasonDash.FindStringSubmatch(s); m != nil {
		e.Season, e.Episode, e.before = number(m[2]), number(m[3]), m[1]
		e.Confidence, e.Why = likely, "two numbers after the show's name, read as season and episode"
		return true
	}
	if m := zeroEnd.FindStringSubmatch(s); m != nil {
		e.Episode, e.before = number(m[2]), m[1]
		e.unseasoned(false)
		return true
	}
	return false
}

// ofParts reads the parts of a short series: "Part 2 of 4".
func (e *found) ofParts(s string) bool {
	m := partIn.FindStringSubmatchIndex(s)
	if m == nil {
		return false
	}
	n := group(s, m, 1) + group(s, m, 2)
	e.Episode = counted(n)
	inSeason := e.Season >= 0
	if e.before, e.after = s[:m[0]], s[m[1]:]; !inSeason {
		e.Season = 1
	}
	e.Confidence, e.Why = sure, "the part's number, taken as that of an episode"
	return true
}

// hundreds reads "203" as the third episode of the second season: where the folder says
// that season, or where the number follows a show's name. Teams that name themselves count on
// from the first episode instead.
func (e *found) hundreds(s string, byTeam, known bool) bool {
	m := hundredIn.FindStringSubmatch(s)
	if m == nil || m[3] == "00" {
		return false
	}
	season, episode := number(m[2]), number(m[3])
	switch {
	case e.Season > 0 && e.Season == season:
		e.Confidence, e.Why = good, "the episode's number after that of the season, which the folder names"
	case e.Season >= 0 || byTeam || m[1] == "" && !known || len(m[2]) > 1 || episode > 40 ||
		strings.HasSuffix(m[1], " -"):
		return false
	default:
		e.Season = season
		e.Confidence, e.Why = likely, "three digits after the show's name, read as season and episode"
	}
	e.Episode, e.before, e.after = episode, m[1], m[4]
	return true
}

// part takes the episode's name, and what is said of the copy, from what follows the number.
func (e *found) part(r *Reading) {
	p := apart(tidy(closed(e.after)))
	r.Part, r.Quality = p.title, p.quality
	if p.year > 0 && !p.sureYear {
		r.Part = tidy(r.Part + " " + strconv.Itoa(p.year))
	} else if p.sureYear {
		r.Part = tidy(fmt.Sprintf("%s (%d)", r.Part, p.year))
	}
	if tail := tidy(spaced(tidy(e.after))); tail != "" && allQuality(tail) {
		r.Part, r.Quality = "", strings.ToLower(tail)
	}
}

// closed takes brackets that were opened before the number from the front of what follows
// it, and one that is never closed from the end.
func closed(s string) string {
	s = strings.TrimLeft(s, "])")
	if strings.Count(s, "(") < strings.Count(s, ")") || strings.Count(s, "[") < strings.Count(s, "]") {
		s = strings.TrimRight(s, "])")
	}
	return s
}

// group is what a group of an expression found; empty where it found nothing.
func group(s string, m []int, n int) string {
	if 2*n+1 >= len(m) || m[2*n] < 0 {
		return ""
	}
	return s[m[2*n]:m[2*n+1]]
}

// counted reads a number that is written in figures, as a word, or in Roman figures.
func counted(s string) int {
	for i, w := range strings.Split(numerals, "|") {
		if strings.EqualFold(s, w) {
			return i%10 + 1
		}
	}
	return number(s)
}

// uncopied gives a name with its dots as spaces, and without what stands in brackets about
// the copy.
func uncopied(stem string) string {
	if !strings.ContainsAny(stem, "[{(") {
		return tidy(spaced(stem))
	}
	s := bracketed.ReplaceAllString(stem, " ")
	s = aboutCopy.ReplaceAllStringFunc(s, func(in string) string {
		if allQuality(tidy(spaced(in[1 : len(in)-1]))) {
			return " "
		}
		return in
	})
	if s = tidy(spaced(strings.TrimSpace(s))); s == "" {
		return tidy(spaced(stem))
	}
	return s
}

var aboutCopy = newPattern(`\([^()]*\)`)

// without takes a show's name from the front of a file's; where that has none, all stays.
func without(s, show string) string {
	show = tidy(spaced(show))
	if show == "" || len(s) <= len(show) || !strings.EqualFold(s[:len(show)], show) {
		return s
	}
	rest := s[len(show):]
	if c := rest[0]; c != ' ' && c != '-' && c != '_' && c != '.' {
		return s
	}
	if rest = tidy(rest); rest == "" {
		return s
	}
	return rest
}

// released reads a folder of a season, or of one episode, that has the name of its show
// in its own, as releases have: "Show.S02.1080p", "Show.S02E03.720p". It gives the stem to
// read, the folders with the show last, and the season, or -1. A folder of several episodes,
// "Show.S02E01-E10", is one of a season: which one a file is, its own name tells.
func released(stem string, up []string) (string, []string, int) {
	n := len(up)
	if n == 0 {
		return stem, up, -1
	}
	folder, season, show := up[n-1], -1, ""
	if m := episodeIn.FindStringSubmatchIndex(folder); m != nil {
		show = tidy(spaced(tidy(folder[:m[0]])))
		switch {
		case m[6] >= 0:
			season = number(folder[m[2]:m[3]])
		case show != "" && episodeIn.FindStringIndex(stem) == nil && crossIn.FindStringIndex(stem) == nil:
			stem = folder // the file's own name says less
		}
	} else if m := seasonEnd.FindStringSubmatch(tidy(spaced(folder))); m != nil && (m[4] == "" || allQuality(m[4])) {
		show, season = tidy(m[1]), number(m[2]+m[3])
	}
	if show == "" {
		return stem, up, -1
	}
	if n > 1 && strings.EqualFold(apart(up[n-2]).title, apart(show).title) {
		return stem, up[:n-1], season
	}
	return stem, append(append([]string{}, up[:n-1]...), show), season
}

// unseasoned says how sure an episode is that has a number and perhaps no season.
func (r *Reading) unseasoned(inSeason bool) {
	if inSeason {
		r.Confidence, r.Why = good, "the episode's number from the file's name, the season from the folder's"
		return
	}
	r.Season = 1
	r.Confidence, r.Why = likely, "the episode's number without a season, which is taken to be the first"
}

var (
	discFolder  = newPattern(`(?i)^(?:cd|disc|disk|lp)\s*([1-9][0-9]?)(?:\s*[-–:(\[].*)?$`)
	discTrack   = newPattern(`^([1-9])-([0-9]{2})(?:\s*[-–.]\s*|\s+)(\S.*)$`)
	discHundred = newPattern(`^([1-9])([0-9]{2})(?:\s*[-–.]\s*|\s+)(\S.*)$`)
	discEnd     = newPattern(`(?i)^(.*\S)\s*[\[(]?\b(?:cd|disc|disk)\s*([1-9][0-9]?)[\])]?$`)
	trackOnly   = newPattern(`^([0-9]{1,2})$`)
	trackWord   = newPattern(`(?i)^track\s*([0-9]{1,3})(?:\s*[-–.]\s*|\s+|$)(.*)$`)
	trackStart  = newPattern(`^([0-9]{1,3})(?:\s*[-–.]\s*|\s+)(\S.*)$`)
)

func track(stem string, up []string) Reading {
	if len(up) == 0 {
		name, id := takeID(stem)
		r := Reading{Title: orElse(tidy(name), tidy(stem), stem), ID: id, Why: "a file by itself is its own title",
			Confidence: good}
		if m := trackStart.FindStringSubmatch(r.Title); m != nil && m[1][0] == '0' {
			r.Title, r.Why, r.Confidence = orElse(tidy(m[2])),
				"a track by itself; its number tells of an album, but it lies in no folder of one", likely
		}
		return r
	}
	r := Reading{Why: "the folder is the album, the one above it whose it is", Confidence: good}
	if m := discFolder.FindStringSubmatch(tidy(up[len(up)-1])); m != nil && len(up) > 1 {
		r.Disc = number(m[1])
		up = up[:len(up)-1]
	}
	folder := up[len(up)-1]
	if m := discEnd.FindStringSubmatch(folder); m != nil && tidy(m[1]) != "" && r.Disc == 0 {
		folder, r.Disc = strings.TrimRight(m[1], " ([-"), number(m[2])
	}
	by, folder := dated(folder, len(up) == 1)
	album := apart(folder)
	r.Title, r.Year, r.ID, r.Quality = orElse(album.title, tidy(folder)), album.year, album.id, album.quality
	if !album.sureYear && album.year > 0 || album.rest != "" || album.edition != "" || album.piece > 0 {
		// Albums have no editions, and a number at the end of a name is rather part
		// of it.
		name, _ := takeID(folder)
		r.Title, r.Year, r.Quality = orElse(tidy(name), tidy(folder)), 0, ""
	}
	if len(up) > 1 {
		r.By = tidy(up[len(up)-2])
	} else if by != "" {
		r.By, r.Why = by, "album and whose it is from the folder's name"
	} else if by, title, ok := strings.Cut(r.Title, " - "); ok && tidy(by) != "" && tidy(title) != "" {
		r.By, r.Title = tidy(by), tidy(title)
		r.Why = "album and whose it is from the folder's name"
	}
	r.track(stem)
	r.Part = orElse(r.Part, tidy(stem), stem)
	return r
}

// dated brings a year that stands in front of an album's name to its end: "2012 - Name",
// "(2012) Name", and, where the folder also says whose it is, "Somebody - 2012 - Name".
func dated(folder string, both bool) (by, album string) {
	if m := yearInFront(folder); m != nil && bracketedYear(m[3]) == nil {
		return "", m[3] + " (" + m[1] + m[2] + ")"
	}
	if before, after, ok := strings.Cut(folder, " - "); ok && both && tidy(before) != "" {
		if m := yearInFront(after); m != nil && bracketedYear(m[3]) == nil {
			return tidy(before), m[3] + " (" + m[1] + m[2] + ")"
		}
	}
	return "", folder
}

// track reads the number and the name of a track. Whose it is and the album's name may
// stand before the number.
func (r *Reading) track(stem string) {
	if !strings.Contains(stem, " ") {
		stem = tidy(spaced(stem))
	}
	for again := true; again; {
		again = false
		for _, n := range []string{r.By, r.Title} {
			if rest := without(stem, n); n != "" && rest != stem && strings.ContainsAny(rest, "0123456789") {
				stem, again = rest, true
			}
		}
	}
	r.Part = tidy(stem)
	if m := discTrack.FindStringSubmatch(stem); m != nil {
		r.Disc, r.Episode, r.Part = number(m[1]), number(m[2]), tidy(m[3])
	} else if m := discHundred.FindStringSubmatch(stem); m != nil && number(m[2]) > 0 && number(m[2]) <= mostTracks &&
		(r.Disc == 0 || r.Disc == number(m[1])) {
		r.Disc, r.Episode, r.Part = number(m[1]), number(m[2]), tidy(m[3])
	} else if m := trackStart.FindStringSubmatch(stem); m != nil {
		r.Episode, r.Part = number(m[1]), tidy(m[2])
		if rest, ok := strings.CutPrefix(r.Part, r.By+" - "); ok && r.By != "" && tidy(rest) != "" {
			r.Part = tidy(rest)
		}
	} else if m := trackOnly.FindStringSubmatch(stem); m != nil {
		r.Episode = number(m[1])
	} else if m := trackWord.FindStringSubmatch(stem); m != nil {
		r.Episode, r.Part = number(m[1]), orElse(tidy(m[2]), tidy(stem))
	}
}

// mostTracks is how many tracks a disc is taken to have at most, where a number of three
// digits is read as disc and track.
const mostTracks = 30

// camera finds the names that cameras and telephones give.
var camera = newPattern(`(?i)^(?:img|vid|mov|dsc|pxl|video|movie|clip|rec)?[\s._-]*$`)

// plain reads what has no form of its own: photos and recordings.
func plain(stem string, up []string) Reading {
	r := Reading{Why: "a file by itself is its own title", Confidence: good}
	name, id := takeID(stem)
	r.ID = id
	if day, from, to := date(name); day != "" {
		r.Date = day
		after := name[to:]
		if m := clockTail.FindStringSubmatch(after); m != nil {
			if after = after[len(m[0]):]; m[1] < "24" {
				r.Date += "T" + m[1] + ":" + m[2] + ":" + cmp.Or(m[3], "00")
			}
		}
		rest := tidy(tidy(name[:from]) + " " + tidy(after))
		if camera.MatchString(rest) {
			rest = ""
		}
		name = rest
	}
	if len(up) == 0 {
		r.Title = tidy(name)
		if m := bracketedYear(r.Title); m != nil && tidy(m[3]) == "" && tidy(m[1]) != "" {
			r.Title, r.Year = tidy(m[1]), number(m[2])
		}
		day, _, _ := strings.Cut(r.Date, "T")
		r.Title = orElse(r.Title, day, tidy(stem), stem)
		return r
	}
	r.Why = "the folder is the title, the file a part of it"
	r.Title, r.Part = tidy(up[len(up)-1]), orElse(tidy(stem), stem)
	if m := bracketedYear(r.Title); m != nil && tidy(m[3]) == "" && tidy(m[1]) != "" {
		r.Title, r.Year = tidy(m[1]), number(m[2])
	}
	return r
}

// clockTail is a time of day after a date, as cameras write it.
var clockTail = newPattern(`^[T\s._-]*([0-2][0-9])[-._:]?([0-5][0-9])` +
	`(?:[-._:]?([0-5][0-9])(?:[._]?[0-9]{3})?)?(?:$|[\s._-])`)
