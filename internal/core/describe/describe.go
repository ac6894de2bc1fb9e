// Package describe knows what can be said of a title beside its name, and which of several
// entries of a catalogue is the one.
//
// Score gives each candidate a number from 0 to 1, by name, year, length and kind, with the reasons
// in words. Take takes the best one only where it is clear: good in itself (Clear), and better than
// the second by a margin (Apart). Otherwise a person chooses. Merge puts what was found over what
// was known, and leaves alone what a person has set.
//
// ReadSidecar and WriteSidecar read and write descriptions that lie beside files, as JSON-LD
// with the vocabulary of schema.org.
package describe

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode"

	"cozyshelf/internal/core/household"

	"golang.org/x/text/unicode/norm"
)

// Person is somebody who made a title or is seen or heard in it.
type Person struct {
	Name string `json:"name"`
	Role string `json:"role"` // director, actor, artist, author
}

// Description is what can be said of a title. Empty fields are not known.
type Description struct {
	Name    string   `json:"name,omitempty"`
	Year    int      `json:"year,omitempty"`
	Summary string   `json:"summary,omitempty"`
	People  []Person `json:"people,omitempty"`
	Genres  []string `json:"genres,omitempty"`
	Outside string   `json:"outside_id,omitempty"` // such as "wikidata Q42"
	Picture string   `json:"picture,omitempty"`    // an address, or a name in the state folder
	Age     *int     `json:"age,omitempty"`        // from which age on it is, in years; nil where that is not known
}

// Fields are the names of the fields that a person may set.
var Fields = []string{"name", "year", "summary", "people", "genres", "age"}

// Wanted is what is known of a title that is looked up.
type Wanted struct {
	Name     string
	Year     int    // 0 where not known
	By       string // of music: whose
	Kind     household.Kind
	Duration float64 // in seconds, of a film; 0 where not known
	Outside  string  // an id in the files' names: then nothing else counts
}

// Candidate is an entry of a catalogue that may be the one.
type Candidate struct {
	ID       string         `json:"id"` // such as "wikidata Q42"
	Name     string         `json:"name"`
	Others   []string       `json:"other_names,omitempty"`
	Year     int            `json:"year,omitempty"`
	By       string         `json:"by,omitempty"`
	Kind     household.Kind `json:"kind,omitempty"` // empty where the catalogue does not tell
	Duration float64        `json:"duration,omitempty"`
	Says     string         `json:"says,omitempty"` // in a few words

	Score   float64  `json:"score"` // from 0 to 1
	Reasons []string `json:"reasons"`
}

// Clear is from which score on an entry is taken, and Apart how far the next must be behind
// it.
const (
	Clear = 0.82
	Apart = 0.12
)

// Match is what came of looking a title up.
type Match string

// What may have come of it.
const (
	Unlooked Match = ""
	Taken    Match = "taken"
	Unclear  Match = "unclear" // several fit, and none clearly
	Unknown  Match = "unknown" // nothing was found
	None     Match = "none"    // a person said that there is none
	Chosen   Match = "chosen"  // by a person
	Failed   Match = "failed"  // no catalogue could be asked; it is tried again
)

// Score scores candidates for a title, the best first, with the reasons.
func Score(w Wanted, list []Candidate) []Candidate {
	list = slices.Clone(list)
	for i := range list {
		c := &list[i]
		c.Score, c.Reasons = score(w, *c)
	}
	slices.SortStableFunc(list, func(a, b Candidate) int {
		return cmp.Or(cmp.Compare(b.Score, a.Score), cmp.Compare(a.ID, b.ID))
	})
	return list
}

func score(w Wanted, c Candidate) (float64, []string) {
	if w.Outside != "" {
		if strings.EqualFold(w.Outside, c.ID) {
			return 1, []string{"its id stands in the file's name"}
		}
		return 0, []string{"another id stands in the file's name"}
	}
	var why []string
	say := func(format string, args ...any) { why = append(why, fmt.Sprintf(format, args...)) }
	name, best := Alike(w.Name, c.Name), c.Name
	for _, o := range c.Others {
		if a := Alike(w.Name, o); a > name {
			name, best = a, o
		}
	}
	switch {
	case name == 1:
		say("the same name")
	case name > 0.85:
		say("nearly the same name (%s)", best)
	default:
		say("another name (%s, %d %% alike)", best, int(math.Round(100*name)))
	}
	s := 0.6 * name
	switch d := w.Year - c.Year; {
	case w.Year == 0 && c.Year == 0:
		s += 0.13
		say("no year on either side")
	case w.Year == 0:
		s += 0.13
		say("it is of %d, and the file tells no year", c.Year)
	case c.Year == 0:
		s += 0.08
		say("the catalogue tells no year")
	case d == 0:
		s += 0.25
		say("the same year")
	case d == 1 || d == -1:
		s += 0.17
		say("a year apart (%d)", c.Year)
	default:
		s -= min(0.3, 0.05*math.Abs(float64(d)))
		say("of another year (%d)", c.Year)
	}
	switch {
	case w.Kind == household.Music && c.By != "" && w.By != "":
		by := Alike(w.By, c.By)
		s += 0.3*by - 0.15
		if by > 0.85 {
			say("by the same artist")
		} else {
			say("by another artist (%s)", c.By)
		}
	case w.Duration > 0 && c.Duration > 0:
		// Versions and credits make some minutes.
		switch off := math.Abs(w.Duration-c.Duration) / max(w.Duration, c.Duration); {
		case off < 0.06:
			s += 0.15
			say("as long")
		case off < 0.15:
			s += 0.08
			say("nearly as long (%d min)", int(c.Duration/60))
		default:
			s -= 0.1
			say("not as long (%d min)", int(c.Duration/60))
		}
	default:
		s += 0.07
	}
	switch {
	case c.Kind == "":
		say("the catalogue does not tell what it is")
		s -= 0.05
	case c.Kind == w.Kind:
		say("of this kind")
	default:
		s -= 0.4
		say("of another kind (%s)", c.Kind)
	}
	return math.Round(1000*min(1, max(0, s))) / 1000, why
}

// Take gives the one candidate of a scored list that is clear, if there is one.
func Take(list []Candidate) (Candidate, bool) {
	if len(list) == 0 || list[0].Score < Clear || len(list) > 1 && list[0].Score-list[1].Score < Apart {
		return Candidate{}, false
	}
	return list[0], true
}

// Alike compares names, from 0 to 1: in whatever case, with or without accents,
// punctuation and a leading article. It is 1 less the edits that lead from one to the
// other, as a part of the longer (Levenshtein).
func Alike(a, b string) float64 {
	x, y := plain(a), plain(b)
	if len(x) == 0 || len(y) == 0 {
		return 0
	}
	if len(x) > 200 || len(y) > 200 {
		x, y = x[:min(200, len(x))], y[:min(200, len(y))]
	}
	row := make([]int, len(y)+1)
	for j := range row {
		row[j] = j
	}
	for i, r := range x {
		last := row[0]
		row[0] = i + 1
		for j, q := range y {
			keep := last
			if r != q {
				keep++
			}
			last, row[j+1] = row[j+1], min(keep, row[j]+1, row[j+1]+1)
		}
	}
	return 1 - float64(row[len(y)])/float64(max(len(x), len(y)))
}

var articles = []string{"the ", "a ", "an ", "der ", "die ", "das ", "le ", "la ", "les ", "el ", "los ", "il "}

// plain takes what does not count from a name.
func plain(s string) []rune {
	var b strings.Builder
	space := true
	for _, r := range norm.NFD.String(strings.ToLower(s)) {
		switch {
		case unicode.Is(unicode.Mn, r):
		case unicode.IsLetter(r) || unicode.IsDigit(r):
			b.WriteRune(r)
			space = false
		case r == '&':
			b.WriteString("and")
			space = false
		case !space && r != '\'' && r != '’':
			b.WriteByte(' ')
			space = true
		}
	}
	out := strings.TrimSpace(b.String())
	for _, a := range articles {
		if rest, ok := strings.CutPrefix(out, a); ok && rest != "" {
			out = rest
			break
		}
	}
	return []rune(out)
}

// Languages gives the languages in which descriptions are wanted, as catalogues write them
// (lower case): that of a tag such as "pt-BR" with its country, then without, then English.
func Languages(tag string) []string {
	var out []string
	for tag = strings.ToLower(tag); tag != ""; {
		out = append(out, tag)
		tag = tag[:max(0, strings.LastIndexByte(tag, '-'))]
	}
	if !slices.Contains(out, "en") {
		out = append(out, "en")
	}
	return out
}

// Merge puts what is found into what is known: fields in edited, which a person set, stay.
func Merge(known, found Description, edited []string) Description {
	out := found
	for _, f := range edited {
		switch f {
		case "name":
			out.Name = known.Name
		case "year":
			out.Year = known.Year
		case "summary":
			out.Summary = known.Summary
		case "people":
			out.People = known.People
		case "genres":
			out.Genres = known.Genres
		case "age":
			out.Age = known.Age
		case "picture":
			out.Picture = known.Picture
		}
	}
	return out
}
