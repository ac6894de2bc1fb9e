package usage

import (
	"strconv"
	"strings"
	"time"
)

// Columns are those of a table of plays. They stay: new ones come at the end.
var Columns = []string{"started_at", "ended_at", "member", "sofa", "shelf", "title", "part", "watched_seconds",
	"position_seconds", "duration_seconds", "finished", "device", "address", "away", "delivery", "bytes", "why", "id"}

// Row is a play in such a table, with times by a zone's clocks.
func (p Play) Row(zone *time.Location) []string {
	number := func(f float64) string { return strconv.FormatFloat(f, 'f', 1, 64) }
	at := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.In(zone).Format(time.RFC3339)
	}
	return []string{at(p.Started), at(p.Ended), cell(p.Member), cell(strings.Join(p.Sofa, "; ")), cell(p.Shelf),
		cell(p.Title),
		cell(p.Part), number(p.Watched), number(p.Position), number(p.Duration), strconv.FormatBool(p.Done), cell(p.Device),
		cell(p.Address), strconv.FormatBool(p.Away), cell(p.Delivery), strconv.FormatInt(p.Bytes, 10), cell(p.Why),
		strconv.FormatInt(p.ID, 10)}
}

// cell keeps a text from being taken for a formula by a spreadsheet: files and devices may have any name.
func cell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}
