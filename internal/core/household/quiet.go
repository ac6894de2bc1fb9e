package household

import (
	"fmt"
	"strings"
	"time"
)

// Quiet is [quiet]: work that takes the machine long, off until it is named here, and the
// hours of the day at which it is done.
type Quiet struct {
	Work  []string `toml:"work"`  // of frames, chapters, loudness
	Hours string   `toml:"hours"` // such as 01:00-06:00, the default
}

// The work of quiet hours.
const (
	Frames   = "frames"   // a picture from the film, for titles that have none
	Chapters = "chapters" // a picture of each chapter
	Loudness = "loudness" // how loud a file is (EBU R 128)
)

// QuietWork is all work of quiet hours.
var QuietWork = []string{Frames, Chapters, Loudness}

// QuietHours are those where the household file does not say.
const QuietHours = "01:00-06:00"

// Hours is a part of the day, in minutes since midnight. It may go past midnight.
type Hours struct{ From, To int }

// ParseHours reads hours as 01:00-06:00. The same time twice is the whole day.
func ParseHours(s string) (Hours, error) {
	minutes := func(s string) (int, error) {
		t, err := time.Parse("15:04", strings.TrimSpace(s))
		if err != nil && strings.TrimSpace(s) == "24:00" {
			return 24 * 60, nil
		}
		return t.Hour()*60 + t.Minute(), err
	}
	from, to, ok := strings.Cut(s, "-")
	a, errA := minutes(from)
	b, errB := minutes(to)
	if !ok || errA != nil || errB != nil || a == 24*60 {
		return Hours{}, fmt.Errorf("%q is no part of a day", s)
	}
	return Hours{a, b}, nil
}

// Hold reports whether a moment lies in the hours, by its own zone.
func (h Hours) Hold(t time.Time) bool {
	now := t.Hour()*60 + t.Minute()
	if h.From < h.To {
		return now >= h.From && now < h.To
	}
	return now >= h.From || now < h.To
}

func (h *Household) judgeQuiet(c *complaints) {
	if h.Quiet.Hours == "" {
		return
	}
	if _, err := ParseHours(h.Quiet.Hours); err != nil {
		c.bad("quiet.hours", "write it as \"01:00-06:00\"", "%v", err)
	}
}
