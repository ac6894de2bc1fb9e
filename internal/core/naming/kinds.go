package naming

import (
	"cmp"
	"fmt"
	"regexp"
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
			return Reading{Title: orElse(p.title, tidy(up[i-1])), Year: p.year, ID: p.id, Extra: sort, Part: orElse(tidy(spaced(stem)), sort),
				Why: "it lies in the folder " + up[i] + " of a film", Confidence: good}
		}
		if name == "sample" || name == "samples" {
			r.Sample = true
			up = up[:i]
		}
	}
	stem, r.Sample = takeSample(stem, r.Sample)
	if m := extraOf(stem); m != nil {
		r.Extra, stem = strings.ToLower(m[2]), tidy(m[1])
	}
	p := apart(stem)
	var above parts
	if len(up) > 0 && (!p.sureYear || strings.Contains(up[len(up)-1], "=")) {
		above = apart(up[len(up)-1])
	}
	r.Edition, r.Quality, r.Piece, r.ID = p.edition, p.quality, p.piece, cmp.Or(p.id, above.id)
	switch {
	case p.sureYear:
		r.Title, r.Year, r.Why, r.Confidence = p.title, p.year, "title and year from the file's name", certain
	case above.sureYear:
		r.Title, r.Year, r.Why, r.Confidence = above.title, above.year, "title and year from the folder's name", certain
		r.Edition = cmp.Or(r.Edition, above.edition)
	case p.year > 0 && p.title != "":
		r.Title, r.Year, r.Why, r.Confidence = p.title, p.year, "the year is taken from the end of the title, without brackets", sure
	case above.year > 0 && above.title != "":
		r.Title, r.Year, r.Why, r.Confidence = above.title, above.year, "title and year from the folder's name, without brackets", sure
	default:
		r.Title, r.Why, r.Confidence = p.title, "the name has no year in brackets, so all of it is taken as the title", guess
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

// takeSample takes the word that makes a file a sample from the end of its name.
func takeSample(stem string, is bool) (string, bool) {
	if len(stem) < len("sample") || !strings.EqualFold(stem[len(stem)-len("sample"):], "sample") || !sampleName.MatchString(stem) {
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
	seasonWords  = `season|series|staffel|saison|temporada|stagione|seizoen|säsong|sesong|sæson|kausi|sezona|сезон`
	episodeWords = `episode|ep|e|folge|épisode|episodio|episódio|capítulo|puntata|aflevering|avsnitt|afsnit|jakso|sērija|серия`
)

var (
	seasonName = regexp.MustCompile(`(?i)^(?:` + seasonWords + `)\s*([0-9]{1,3})$|^s([0-9]{1,2})$`)
	// Show S02, Show S02 1080p, Show - Season 2
	seasonEnd = regexp.MustCompile(`(?i)^(.*\S)\s+(?:-\s+)?(?:(?:` + seasonWords + `)\s*([0-9]{1,3})|s([0-9]{1,2}))(?:\s+(.*))?$`)
	specials  = regexp.MustCompile(`(?i)^(?:specials?|season\s*0+)$`)

	// S01E02, S01E02E03, S01E02-E03, S01E02-03, s1.e2
	episodeIn = regexp.MustCompile(`(?i)(?:^|[\s._\-\[(])s([0-9]{1,3})[\s._-]?e([0-9]{1,4})(?:(?:[\s._]?-[\s._]?e?|e)([0-9]{1,4}))?(?:$|[\s._\-\])])`)
	// 1x02, 1x02-03
	crossIn = regexp.MustCompile(`(?i)(?:^|[\s._\-\[(])([0-9]{1,2})x([0-9]{2,3})(?:-(?:[0-9]{1,2}x)?([0-9]{2,3}))?(?:$|[\s._\-\])])`)
	// Season 1 Episode 2
	wordsIn = regexp.MustCompile(`(?i)(?:^|[\s._-])(?:season|series)[\s._]([0-9]{1,3})[\s._,-]+(?:episode|ep)[\s._]?([0-9]{1,4})()(?:$|[\s._-])`)
	// 2019-05-04, 2019.05.04, 20190504
	dateIn = regexp.MustCompile(`(?:^|[\s._\-\[(])((?:19|20)[0-9]{2})([._ -]?)(0[1-9]|1[0-2])([._ -]?)(0[1-9]|[12][0-9]|3[01])(?:$|[\s._\-\])T])`)
	// Episode 5, Ep 5, E05, #5
	numberIn = regexp.MustCompile(`(?i)(?:^|[\s._-])(?:` + episodeWords + `|#)[\s._]?([0-9]{1,4})(?:$|[\s._-])`)
	// Show - 05 - Name, 05 - Name, 05
	bareIn = regexp.MustCompile(`^(?:(.*\S)\s+-\s+)?([0-9]{1,3}|0[0-9]{3})(?:\s*[-–.]\s*(\S.*)|\s+(\S.*))?$`)
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
	if n := len(up); n > 0 {
		name := tidy(spaced(up[n-1]))
		if m := seasonName.FindStringSubmatch(name); m != nil {
			r.Season = number(m[1] + m[2])
			up = up[:n-1]
		} else if specials.MatchString(name) {
			r.Season = 0
			up = up[:n-1]
		}
	}
	from := "the file's name"
	if own := stem; r.Season < 0 {
		if stem, up, r.Season = released(stem, up); stem != own {
			from = "the folder's name"
		}
	}
	inSeason := r.Season >= 0
	stem, r.ID = takeID(stem)
	before, after := stem, ""
	numbered := func(m []int) {
		r.Season, r.Episode = number(stem[m[2]:m[3]]), number(stem[m[4]:m[5]])
		if m[6] >= 0 && m[7] > m[6] {
			if last := number(stem[m[6]:m[7]]); last > r.Episode && last-r.Episode < 100 {
				r.Last = last
			}
		}
		before, after = stem[:m[0]], stem[max(m[5], m[7]):]
		r.Confidence, r.Why = certain, "season and episode from "+from
	}
	if !strings.ContainsAny(stem, "0123456789") {
		// there is nothing to find
	} else if m := episodeIn.FindStringSubmatchIndex(stem); m != nil {
		numbered(m)
	} else if m := crossIn.FindStringSubmatchIndex(stem); m != nil {
		numbered(m)
	} else if m := wordsIn.FindStringSubmatchIndex(stem); m != nil {
		numbered(m)
	} else if day, from, to := date(stem); day != "" {
		r.Date, before, after = day, stem[:from], stem[to:]
		r.Confidence, r.Why = good, "the date of the episode from the file's name"
	} else if m := numberIn.FindStringSubmatchIndex(stem); m != nil {
		r.Episode, before, after = number(stem[m[2]:m[3]]), stem[:m[0]], stem[m[3]:]
		r.unseasoned(inSeason)
	} else if m := bareIn.FindStringSubmatch(tidy(spaced(stem))); m != nil && (inSeason || len(up) > 0 || m[1] != "") {
		r.Episode, before, after = number(m[2]), m[1], m[3]+m[4]
		r.unseasoned(inSeason)
	}
	title := apart(tidy(strings.Trim(before, "[(")))
	show := title
	if len(up) > 0 {
		show = apart(up[len(up)-1])
	}
	r.Title, r.Year, r.ID = show.title, show.year, cmp.Or(r.ID, show.id)
	if r.Confidence == 0 {
		r.Part, r.Why, r.Confidence = orElse(tidy(spaced(stem)), tidy(stem)), "no season and episode such as S01E02 in the name", guess
	} else {
		name := apart(tidy(strings.Trim(after, "])")))
		r.Part, r.Quality = name.title, name.quality
		if name.year > 0 && !name.sureYear {
			r.Part = tidy(r.Part + " " + strconv.Itoa(name.year))
		} else if name.sureYear {
			r.Part = tidy(fmt.Sprintf("%s (%d)", r.Part, name.year))
		}
		if tail := tidy(spaced(tidy(after))); tail != "" && allQuality(tail) {
			r.Part, r.Quality = "", strings.ToLower(tail)
		}
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
	discFolder = regexp.MustCompile(`(?i)^(?:cd|disc|disk|lp)\s*([1-9][0-9]?)$`)
	discTrack  = regexp.MustCompile(`^([1-9])-([0-9]{2})(?:\s*[-–.]\s*|\s+)(\S.*)$`)
	trackStart = regexp.MustCompile(`^([0-9]{1,3})(?:\s*[-–.]\s*|\s+)(\S.*)$`)
)

func track(stem string, up []string) Reading {
	if len(up) == 0 {
		name, id := takeID(stem)
		r := Reading{Title: orElse(tidy(name), tidy(stem), stem), ID: id, Why: "a file by itself is its own title", Confidence: good}
		if m := trackStart.FindStringSubmatch(r.Title); m != nil && m[1][0] == '0' {
			r.Title, r.Why, r.Confidence = orElse(tidy(m[2])), "a track by itself; its number tells of an album, but it lies in no folder of one", likely
		}
		return r
	}
	r := Reading{Why: "the folder is the album, the one above it whose it is", Confidence: good}
	if m := discFolder.FindStringSubmatch(tidy(up[len(up)-1])); m != nil && len(up) > 1 {
		r.Disc = number(m[1])
		up = up[:len(up)-1]
	}
	album := apart(up[len(up)-1])
	r.Title, r.Year, r.ID, r.Quality = orElse(album.title, tidy(up[len(up)-1])), album.year, album.id, album.quality
	if !album.sureYear && album.year > 0 || album.rest != "" || album.edition != "" || album.piece > 0 {
		// Albums have no editions, and a number at the end of a name is rather part
		// of it.
		name, _ := takeID(up[len(up)-1])
		r.Title, r.Year, r.Quality = orElse(tidy(name), tidy(up[len(up)-1])), 0, ""
	}
	if len(up) > 1 {
		r.By = tidy(up[len(up)-2])
	} else if by, title, ok := strings.Cut(r.Title, " - "); ok && tidy(by) != "" && tidy(title) != "" {
		r.By, r.Title = tidy(by), tidy(title)
		r.Why = "album and whose it is from the folder's name"
	}
	r.Part = tidy(stem)
	if m := discTrack.FindStringSubmatch(stem); m != nil {
		r.Disc, r.Episode, r.Part = number(m[1]), number(m[2]), tidy(m[3])
	} else if m := trackStart.FindStringSubmatch(stem); m != nil {
		r.Episode, r.Part = number(m[1]), tidy(m[2])
	}
	r.Part = orElse(r.Part, tidy(stem), stem)
	return r
}

// camera finds the names that cameras and telephones give.
var camera = regexp.MustCompile(`(?i)^(?:img|vid|mov|dsc|pxl|video|movie|clip|rec)?[\s._-]*$`)

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
var clockTail = regexp.MustCompile(`^[T\s._-]*([0-2][0-9])[-._:]?([0-5][0-9])(?:[-._:]?([0-5][0-9])(?:[._]?[0-9]{3})?)?(?:$|[\s._-])`)
