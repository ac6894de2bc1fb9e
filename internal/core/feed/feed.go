// Package feed writes what arrived on the shelves for other programs: as Atom (RFC 4287), which readers look at now
// and then, and as iCalendar (RFC 5545), a day for each arrival.
package feed

import (
	"encoding/xml"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"
)

// Entry is something that arrived.
type Entry struct {
	ID    string    // which stays, and is no other's: a URI
	Title string    // what it is
	Says  string    // more about it; may be empty
	Link  string    // where it is watched
	At    time.Time // when it arrived
}

// Feed is all of it.
type Feed struct {
	ID      string // a URI
	Title   string
	Link    string // of the feed itself
	Updated time.Time
	Entries []Entry
}

type (
	atomFeed struct {
		XMLName xml.Name    `xml:"http://www.w3.org/2005/Atom feed"`
		ID      string      `xml:"id"`
		Title   string      `xml:"title"`
		Updated string      `xml:"updated"`
		Link    atomLink    `xml:"link"`
		Author  atomAuthor  `xml:"author"`
		Entries []atomEntry `xml:"entry"`
	}
	atomLink struct {
		Rel  string `xml:"rel,attr,omitempty"`
		Href string `xml:"href,attr"`
	}
	atomAuthor struct {
		Name string `xml:"name"`
	}
	atomEntry struct {
		ID      string   `xml:"id"`
		Title   string   `xml:"title"`
		Updated string   `xml:"updated"`
		Link    atomLink `xml:"link"`
		Summary string   `xml:"summary,omitempty"`
	}
)

// Atom writes the feed as Atom.
func (f Feed) Atom() ([]byte, error) {
	out := atomFeed{ID: f.ID, Title: clean(f.Title), Updated: stamp(f.Updated), Link: atomLink{"self", f.Link},
		Author: atomAuthor{clean(f.Title)}}
	for _, e := range f.Entries {
		out.Entries = append(out.Entries, atomEntry{ID: e.ID, Title: clean(e.Title), Updated: stamp(e.At),
			Link: atomLink{"alternate", e.Link}, Summary: clean(e.Says)})
	}
	b, err := xml.MarshalIndent(out, "", " ")
	return append([]byte(xml.Header), append(b, '\n')...), err
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// clean takes away what neither form can hold: control characters, and bytes that are no text.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0x7f || r == 0xfffe || r == 0xffff {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "\ufffd"))
}

// Calendar writes the feed as iCalendar: each entry is the whole day on which it arrived, by the clocks of a zone.
func (f Feed) Calendar(zone *time.Location) []byte {
	var b strings.Builder
	line := func(name, value string) { b.WriteString(fold(name + ":" + value)) }
	line("BEGIN", "VCALENDAR")
	line("VERSION", "2.0")
	line("PRODID", "-//cozyshelf//arrived//EN")
	line("X-WR-CALNAME", escape(f.Title))
	for _, e := range f.Entries {
		day := e.At.In(zone)
		line("BEGIN", "VEVENT")
		line("UID", escape(e.ID))
		line("DTSTAMP", e.At.UTC().Format("20060102T150405Z"))
		line("DTSTART;VALUE=DATE", day.Format("20060102"))
		line("DTEND;VALUE=DATE", day.AddDate(0, 0, 1).Format("20060102"))
		line("SUMMARY", escape(e.Title))
		if e.Says != "" {
			line("DESCRIPTION", escape(e.Says))
		}
		line("URL", e.Link)
		line("TRANSP", "TRANSPARENT")
		line("END", "VEVENT")
	}
	line("END", "VCALENDAR")
	return []byte(b.String())
}

var escapes = strings.NewReplacer("\\", `\\`, ";", `\;`, ",", `\,`, "\n", `\n`, "\t", " ")

func escape(s string) string { return escapes.Replace(clean(s)) }

// mostLine is how long a line may be, in bytes, its end not counted (RFC 5545, 3.1).
const mostLine = 75

// fold ends a line, and goes on below where it is too long, never within a character.
func fold(s string) string {
	var b strings.Builder
	room := mostLine
	for _, r := range s {
		n := utf8.RuneLen(r)
		if n > room {
			b.WriteString("\r\n ")
			room = mostLine - 1
		}
		b.WriteRune(r)
		room -= n
	}
	return fmt.Sprint(b.String(), "\r\n")
}
