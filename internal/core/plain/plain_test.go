package plain

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"
)

func TestWhatCannotBeSeenIsShown(t *testing.T) {
	for in, want := range map[string]string{
		"The Paper Lighthouse (2014)": "The Paper Lighthouse (2014)",
		"a\x1b[2Jb":                   `a\x1b[2Jb`,
		"a\u009b2Jb":                  `a\u009b2Jb`,
		"exe.\u202e4pm":               `exe.\u202e4pm`,
		"\u2066x\u2069":               `\u2066x\u2069`,
		"a\xed\xa0\x80b":              `a\xed\xa0\x80b`, // a lone surrogate
		"\xff":                        `\xff`,
		"a\nb\tc\rd":                  `a\nb\tc\x0dd`,
		"نیم\u200cفاصله":              "نیم\u200cفاصله",
		"👩\u200d🚀":                    "👩\u200d🚀",
		"\U000e0041":                  `\U000e0041`,
		"Ĩ\u200b":                     `Ĩ\u200b`,
		"a replacement \ufffd":        "a replacement \ufffd",
	} {
		if got := Line(in); got != want {
			t.Errorf("%q: got %q, want %q", in, got, want)
		}
	}
	if got := Text("one\n\ttwo\x07\n"); got != "one\n\ttwo\\x07\n" {
		t.Errorf("got %q", got)
	}
	long := Line(strings.Repeat("ä", MostLine+7))
	if utf8.RuneCountInString(long) > MostLine+20 || !strings.HasSuffix(long, "… (and 7 more)") {
		t.Errorf("got %d characters, ending in %q", utf8.RuneCountInString(long), long[len(long)-20:])
	}
}

func ExampleLine() {
	fmt.Println(Line("Copper Kite\x1b]0;owned\a\u202e.mp4"))
	// Output: Copper Kite\x1b]0;owned\x07\u202e.mp4
}

func FuzzText(f *testing.F) {
	for _, s := range []string{"", "a\x1bb", "\xff\xfe", "\u202e", "x\ny"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, out := range []string{Text(s), Line(s)} {
			if !utf8.ValidString(out) {
				t.Errorf("%q became %q", s, out)
			}
			for _, r := range out {
				if hidden(r, false) {
					t.Errorf("%q keeps %U", s, r)
				}
			}
		}
		if strings.Contains(Line(s), "\n") {
			t.Errorf("%q became two lines", s)
		}
		if Text(Text(s)) != Text(s) && len(s) < MostText/10 {
			t.Errorf("%q: done twice it changes", s)
		}
	})
}
