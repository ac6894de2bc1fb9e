package show

import (
	"bytes"
	"strings"
	"testing"
	"time"
)

func TestTablesLineUpWhateverTheLetters(t *testing.T) {
	var b bytes.Buffer
	To(&b).Table([]Column{{Head: "name"}, {Head: "size", Right: true}, {Head: "note", Most: 6}}, [][]string{
		{"Copper Kite", "12", "short"}, {"水車", "3", "much too long"}, {"odd\nname\x1b[31m", "4567", ""},
	})
	want := "name           size  note\nCopper Kite      12  short\n水車              3  much …\nodd?name?[31m  4567\n"
	if got := b.String(); got != want {
		t.Errorf("got\n%q\nwant\n%q", got, want)
	}
}

func TestOtherThanTerminalsGetNoColour(t *testing.T) {
	var b bytes.Buffer
	o := To(&b)
	o.Heading("Heading")
	o.Printf("%s %s\n", Mark("blocked"), Faint("x"))
	if strings.Contains(b.String(), "\x1b") {
		t.Errorf("got %q", b.String())
	}
}

func TestFiguresReadAsPeopleSayThem(t *testing.T) {
	for got, want := range map[string]string{
		Length(0): "–", Length(14.6): "0:15", Length(3725): "1:02:05", Bar(1, 2): "█████░░░░░", Bar(5, 2): "██████████", Bar(1, 0): "",
		Size(1536): "1.5 KiB", Since(400 * time.Millisecond): "0 s", Since(90 * time.Second): "1 min 30 s", Since(50 * time.Hour): "2 d 2 h", Since(5400 * time.Second): "1 h 30 min", Count(1, "file", "files"): "1 file", Count(1234, "file", "files"): "1,234 files",
	} {
		if got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}
