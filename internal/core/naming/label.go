package naming

import (
	"fmt"
	"strings"
)

// Label is how the part of a title that a file holds is called: "S01E02-E03 Rye", "3.
// Platform Two", "2-03. Platform Two" on the second disc, "trailer: first look", "part 2,
// extended cut". It is empty for a film in one piece.
func Label(r Reading, c Content) string {
	switch {
	case r.Season > 0 || r.Episode > 0 && c == Video:
		s := fmt.Sprintf("Season %d", r.Season)
		if r.Episode > 0 {
			s = fmt.Sprintf("S%02dE%02d", r.Season, r.Episode)
		}
		if r.Last > r.Episode {
			s += fmt.Sprintf("-E%02d", r.Last)
		}
		return strings.TrimSpace(s + " " + r.Part)
	case r.Episode > 0 && r.Disc > 0:
		return fmt.Sprintf("%d-%02d. %s", r.Disc, r.Episode, r.Part)
	case r.Episode > 0:
		return fmt.Sprintf("%d. %s", r.Episode, r.Part)
	}
	var words []string
	switch {
	case r.Extra == "" || r.Extra == r.Part:
		words = append(words, r.Part)
	case r.Part == "":
		words = append(words, r.Extra)
	default:
		words = append(words, r.Extra+": "+r.Part)
	}
	if r.Piece > 0 {
		words = append(words, fmt.Sprintf("part %d", r.Piece))
	}
	words = append(words, r.Edition)
	return strings.Trim(strings.Join(words, ", "), ", ")
}

// Day writes the date of a part, "2026-05-17" or "2026-05-17T20:15:00", as people read it:
// with the time of day where that is known.
func Day(date string) string {
	date, at, _ := strings.Cut(date, "T")
	return strings.TrimSpace(date + " " + at[:min(len("15:04"), len(at))])
}
