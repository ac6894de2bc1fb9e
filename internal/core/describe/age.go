package describe

import (
	"regexp"
	"strconv"
	"strings"

	"cozyshelf/internal/core/household"
)

// ageWords are the marks of rating boards that hold no number, in small letters without spaces,
// hyphens and dots. Where a board leaves it to parents, it is the age from which it says most
// children are not disturbed.
var ageWords = map[string]int{
	"g": 0, "u": 0, "tvg": 0, "tvy": 0, "al": 0, "a": 0, "l": 0, "t": 0, "tp": 0, "touspublics": 0, "btl": 0, "e": 0,
	"general": 0, "generalaudiences": 0, "universal": 0, "everyone": 0, "all": 0, "allages": 0, "tous": 0, "livre": 0,
	"uc": 0, "apta": 0, "sa": 0,
	"pg": 8, "tvpg": 8, "parentalguidance": 8, "parentalguidancesuggested": 8,
	"m": 15, "ma": 15, "r": 17, "restricted": 17, "tvma": 17, "x": 18, "adultsonly": 18, "adult": 18,
}

var (
	ageNumber = regexp.MustCompile(`(?:^|[^0-9.,])([0-9]{1,2})(?:$|[^0-9.,])`)
	boardName = regexp.MustCompile(`(?i)\b(rated|rating|certificate|classification|age|fsk|usk|bbfc|mpaa?|cnc|kijkwijzer|` +
		`eirin|jmk|icaa|pegi|ab|ages|film|[a-z]{2}/|[a-z]{2}:)`)
)

// AgeOf reads a mark of a rating board, such as "FSK 12", "PG-13", "TV-Y7" or "U": from which age on
// a title is. ok is false where it cannot be told.
func AgeOf(mark string) (age int, ok bool) {
	if len(mark) > 100 {
		return 0, false
	}
	if m := ageNumber.FindStringSubmatch(mark); m != nil {
		n, err := strconv.Atoi(m[1])
		return n, err == nil && n <= household.OldestAge
	}
	mark = boardName.ReplaceAllString(strings.ToLower(strings.TrimSpace(mark)), " ")
	mark = strings.NewReplacer(" ", "", "-", "", ".", "", "/", "", ":", "", "_", "").Replace(mark)
	age, ok = ageWords[mark]
	return age, ok
}

// Strictest gives the highest age of several marks; nil where none tells one.
func Strictest(marks ...string) *int {
	var out *int
	for _, m := range marks {
		if n, ok := AgeOf(m); ok && (out == nil || n > *out) {
			out = &n
		}
	}
	return out
}
