package allowance

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/household"
)

// Span is a part of some days of the week. One that ends at or before the time at which it begins goes
// on into the next day, and belongs to the day on which it began.
type Span struct {
	Days  [7]bool         // from Sunday on, as time.Weekday counts
	Hours household.Hours // by the clocks of the household
}

// Spans are the hours in which a member may watch; none are all.
type Spans []Span

// MarshalText writes them as ParseHours reads them.
func (l Spans) MarshalText() ([]byte, error) { return []byte(FormatHours(l)), nil }

// UnmarshalText reads them.
func (l *Spans) UnmarshalText(b []byte) (err error) {
	*l, err = ParseHours(string(b))
	return err
}

// days are the names of the days as they are written.
var days = [7]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// holds reports whether a moment lies in the span, by its own zone.
func (s Span) holds(t time.Time) bool {
	now, today := t.Hour()*60+t.Minute(), t.Weekday()
	if s.Hours.From < s.Hours.To {
		return s.Days[today] && now >= s.Hours.From && now < s.Hours.To
	}
	return s.Days[today] && now >= s.Hours.From || s.Days[(today+6)%7] && now < s.Hours.To
}

// ParseHours reads hours such as "mon-fri 15:00-19:30, sat sun 08:00-21:00"; without days they are those
// of each day. Empty is any time.
func ParseHours(text string) (Spans, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	var out Spans
	for part := range strings.SplitSeq(text, ",") {
		words := strings.Fields(strings.ToLower(part))
		if len(words) == 0 {
			return nil, fmt.Errorf("%q has a comma too many", text)
		}
		hours, err := household.ParseHours(words[len(words)-1])
		if err != nil {
			return nil, fmt.Errorf("%q is no part of a day, such as 15:00-19:30", words[len(words)-1])
		}
		s := Span{Hours: hours}
		for _, word := range words[:len(words)-1] {
			if err := s.add(word); err != nil {
				return nil, err
			}
		}
		if len(words) == 1 {
			s.Days = [7]bool{true, true, true, true, true, true, true}
		}
		if out = append(out, s); len(out) > mostSpans {
			return nil, fmt.Errorf("there are more than %d parts", mostSpans)
		}
	}
	return out, nil
}

// mostSpans bounds how many parts the hours of a member have.
const mostSpans = 20

// add adds a day, or days from one to another.
func (s *Span) add(word string) error {
	from, to, several := strings.Cut(word, "-")
	a, b := slices.Index(days[:], from), slices.Index(days[:], to)
	if !several {
		b = a
	}
	if a < 0 || b < 0 {
		return fmt.Errorf("%q is no day; they are mon tue wed thu fri sat sun", word)
	}
	for d := a; ; d = (d + 1) % 7 {
		if s.Days[d] = true; d == b {
			return nil
		}
	}
}

// FormatHours writes hours as ParseHours reads them.
func FormatHours(list Spans) string {
	var parts []string
	for _, s := range list {
		clock := func(m int) string { return fmt.Sprintf("%02d:%02d", m/60, m%60) }
		at := clock(s.Hours.From) + "-" + clock(s.Hours.To)
		if s.Days != [7]bool{true, true, true, true, true, true, true} {
			at = strings.Join(runs(s.Days), " ") + " " + at
		}
		parts = append(parts, at)
	}
	return strings.Join(parts, ", ")
}

// runs names days from Monday on, three and more in a row by the first and the last.
func runs(on [7]bool) (out []string) {
	for i := 1; i <= 7; {
		n := 0
		for i+n <= 7 && on[(i+n)%7] {
			n++
		}
		switch {
		case n > 2:
			out = append(out, days[i%7]+"-"+days[(i+n-1)%7])
		default:
			for d := range n {
				out = append(out, days[(i+d)%7])
			}
		}
		i += n + 1
	}
	return out
}
