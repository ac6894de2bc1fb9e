// Package plain makes texts from elsewhere safe to show: names of files, tags, what a
// catalogue, an engine, a log or the server says. Such a text may hold what moves a
// terminal's cursor, changes colours, turns the order of letters round, or cannot be seen;
// and it may be of any length. All that is shown as what it is, in the form of Go's string
// literals, such as \x1b or \u202e; nothing is dropped. Documents of JSON stay exact and do
// not go through here.
package plain

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Lengths, in characters, beyond which a text is cut.
const (
	MostLine = 4096  // of a text that stands for one thing
	MostText = 65536 // of one line of a longer one
)

// Line makes a text that stands on one line safe.
func Line(s string) string {
	if !odd(s, true) && len(s) <= MostLine {
		return s
	}
	var b strings.Builder
	write(&b, s, true, MostLine)
	return b.String()
}

// Text makes a text of several lines safe. Newlines and tabs stay.
func Text(s string) string {
	if !odd(s, false) && len(s) <= MostText {
		return s
	}
	var b strings.Builder
	for i, line := range strings.Split(s, "\n") {
		if i > 0 {
			b.WriteByte('\n')
		}
		write(&b, line, false, MostText)
	}
	return b.String()
}

func write(b *strings.Builder, s string, line bool, most int) {
	n := 0
	for at, r := range s {
		if n++; n > most {
			fmt.Fprintf(b, "… (and %d more)", utf8.RuneCountInString(s)-most)
			return
		}
		if r == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(s[at:]); size <= 1 {
				fmt.Fprintf(b, `\x%02x`, s[at])
				continue
			}
		}
		switch {
		case !hidden(r, line):
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < 0x80:
			fmt.Fprintf(b, `\x%02x`, r)
		case r < 0x10000:
			fmt.Fprintf(b, `\u%04x`, r)
		default:
			fmt.Fprintf(b, `\U%08x`, r)
		}
	}
}

func odd(s string, line bool) bool {
	if !utf8.ValidString(s) {
		return true
	}
	return strings.ContainsFunc(s, func(r rune) bool { return hidden(r, line) })
}

// hidden reports whether a character does something else than being seen. Joiners (U+200C,
// U+200D) belong to how some scripts are written, and stay.
func hidden(r rune, line bool) bool {
	switch {
	case r == '\n' || r == '\t':
		return line
	case r < 0x20, r >= 0x7f && r <= 0x9f: // C0, DEL, C1
		return true
	case r == 0x061c, r == 0x180e, r == 0x200b, r == 0x200e, r == 0x200f,
		r == 0xfeff: // marks of direction, of no width
		return true
	case r >= 0x2028 && r <= 0x202e, r >= 0x2060 && r <= 0x206f: // separators, embeddings, overrides, isolates
		return true
	case r >= 0xfff9 && r <= 0xfffb, r >= 0xe0000 && r <= 0xe007f: // annotations, tags
		return true
	case r&0xfffe == 0xfffe, r >= 0xfdd0 && r <= 0xfdef: // no characters
		return true
	}
	return false
}
