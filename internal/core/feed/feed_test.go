package feed

import (
	"encoding/xml"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

// unfolded reads the lines of an iCalendar text, and tells of those that are not as they should be.
func unfolded(t *testing.T, b []byte) (lines []string) {
	t.Helper()
	text := string(b)
	if !utf8.ValidString(text) || !strings.HasSuffix(text, "\r\n") {
		t.Fatalf("%q", text)
	}
	for l := range strings.SplitSeq(strings.TrimSuffix(text, "\r\n"), "\r\n") {
		if len(l) > 75 || strings.ContainsAny(l, "\r\n\x00") || !utf8.ValidString(l) {
			t.Errorf("%q", l)
		}
		if more, ok := strings.CutPrefix(l, " "); ok && len(lines) > 0 {
			lines[len(lines)-1] += more
		} else {
			lines = append(lines, l)
		}
	}
	return lines
}

// unescaped reads a text as RFC 5545, 3.3.11 has it.
func unescaped(s string) string {
	return strings.NewReplacer(`\\`, `\`, `\;`, ";", `\,`, ",", `\n`, "\n").Replace(s)
}

func FuzzFeeds(f *testing.F) {
	f.Add("The Paper Lighthouse", "a film, \"quiet\"; slow\nand <long>", int64(1_790_000_000))
	f.Add(strings.Repeat("Möwe und 雪 ", 40), "\\n\\,;", int64(0))
	f.Add("]]>&\x00\xff", "\r\nEND:VCALENDAR", int64(-62135596800))
	zone := time.FixedZone("mill", 3*3600)
	f.Fuzz(func(t *testing.T, title, says string, at int64) {
		when := time.Unix(at, 0)
		if y := when.UTC().Year(); y < 1900 || y > 9000 {
			return
		}
		e := Entry{ID: "urn:mill:1", Title: title, Says: says, Link: "https://mill.home.arpa/title/1", At: when}
		b, err := Feed{ID: "urn:mill", Title: title, Link: "https://mill.home.arpa/feed", Updated: when,
			Entries: []Entry{e, e}}.Atom()
		if err != nil {
			t.Fatal(err)
		}
		var got struct {
			XMLName xml.Name
			Title   string `xml:"title"`
			Entries []struct {
				ID      string `xml:"id"`
				Title   string `xml:"title"`
				Updated string `xml:"updated"`
				Summary string `xml:"summary"`
			} `xml:"entry"`
		}
		if err := xml.Unmarshal(b, &got); err != nil || got.XMLName.Space != "http://www.w3.org/2005/Atom" ||
			len(got.Entries) != 2 {
			t.Fatalf("%v\n%s", err, b)
		}
		if x := got.Entries[0]; x.Title != clean(title) || x.Summary != clean(says) || x.ID != e.ID {
			t.Errorf("%q, %q of %q, %q", x.Title, x.Summary, title, says)
		}
		if u, err := time.Parse(time.RFC3339, got.Entries[0].Updated); err != nil || !u.Equal(when) {
			t.Errorf("%s: %v", got.Entries[0].Updated, err)
		}
		lines := unfolded(t, Feed{Title: title, Entries: []Entry{e}}.Calendar(zone))
		find := func(name string) (value string, n int) {
			for _, l := range lines {
				if v, ok := strings.CutPrefix(l, name+":"); ok {
					value, n = v, n+1
				}
			}
			return value, n
		}
		summary, _ := find("SUMMARY")
		if unescaped(summary) != strings.ReplaceAll(clean(title), "\t", " ") {
			t.Errorf("%q of %q", summary, title)
		}
		if _, n := find("END"); n != 2 {
			t.Errorf("%d ends: %q", n, lines)
		}
		if day, _ := find("DTSTART;VALUE=DATE"); day != when.In(zone).Format("20060102") {
			t.Errorf("%s of %s", day, when)
		}
	})
}
