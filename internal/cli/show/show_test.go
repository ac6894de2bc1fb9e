package show

import (
	"bytes"
	"strings"
	"testing"
)

func TestNothingThatIsPrintedMovesTheCursor(t *testing.T) {
	var b bytes.Buffer
	o := Out{w: &b}
	evil := "a\x1b[2J\u009b31m\u202eb\nforged: line"
	o.Printf("%s %s %s\n", evil, Bold(evil), Faint("plain"))
	o.Table([]Column{{Head: "name"}, {Head: "size", Right: true}}, [][]string{{evil, "1"}, {"\x1b]0;title\a", "2"}})
	o.Heading(evil)
	got := b.String()
	ours := []string{Bold("x"), Faint("x")}
	for _, s := range ours {
		got = strings.ReplaceAll(got, strings.ReplaceAll(s[:strings.Index(s, "x")], escape, "\x1b"), "")
		got = strings.ReplaceAll(got, strings.ReplaceAll(s[strings.Index(s, "x")+1:], escape, "\x1b"), "")
	}
	for _, bad := range []string{"\x1b", "\u009b", "\u202e", "\a"} {
		if strings.Contains(got, bad) {
			t.Errorf("%q is in what was printed: %q", bad, got)
		}
	}
	if !strings.Contains(got, `a\x1b[2J\u009b31m\u202eb`) {
		t.Errorf("it is not shown: %q", got)
	}
	// In a table and a heading a newline cannot forge a line either.
	if n := strings.Count(got, "\nforged"); n != 1 {
		t.Errorf("%d forged lines: %q", n, got)
	}
	// Nobody can write what this package marks its own with.
	b.Reset()
	o.Printf("%s\n", strings.ReplaceAll(ours[0], escape, "\x02guess\x03"))
	if strings.Contains(b.String(), "\x1b") {
		t.Errorf("a guess was taken: %q", b.String())
	}
}

func TestStyledTextMayBeCleaned(t *testing.T) {
	var b bytes.Buffer
	Out{w: &b}.Printf("%s", Clean("a "+Bold("b")+" c"))
	if got := b.String(); !strings.Contains(got, "\x1b[1mb") {
		t.Errorf("got %q", got)
	}
}
