// Package show draws what people read: tables, marks, figures, the course of a
// deployment. Colour only helps; nothing depends on it.
//
// All that is printed goes through Out, which makes it safe (package plain): whatever a
// file's name, a catalogue or a log holds, it can neither move the cursor nor change
// colours. What this package itself wants a terminal to do is marked with a word that
// nobody outside this process knows.
package show

import (
	"crypto/rand"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"cozyshelf/internal/core/plain"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/dustin/go-humanize"
	"golang.org/x/term"
)

// Out is where text goes, with colour only where the place bears it. What is written must
// be whole lines, or parts of a line that end with a whole character.
type Out struct{ w io.Writer }

// To makes an Out for a stream. NO_COLOR and streams that are no terminal get
// no colour.
func To(w io.Writer) Out { return Out{colorprofile.NewWriter(w, os.Environ())} }

// escape stands for the character that begins what a terminal is told, until it is printed.
var escape = "\x02" + rand.Text() + "\x03"

// ours marks what a terminal is told by this program.
func ours(s string) string { return strings.ReplaceAll(s, "\x1b", escape) }

// Write prints a text, made safe.
func (o Out) Write(b []byte) (int, error) {
	text := strings.ReplaceAll(safe(string(b), plain.Text), escape, "\x1b")
	if _, err := io.WriteString(o.w, text); err != nil {
		return 0, err
	}
	return len(b), nil
}

// Screen tells the terminal something, such as to clear the line.
func (o Out) Screen(s string) {
	_, _ = io.WriteString(o.w, s) // there is nobody to tell, if it fails
}

var (
	faint = lipgloss.NewStyle().Faint(true)
	bold  = lipgloss.NewStyle().Bold(true)
	marks = map[string]lipgloss.Style{
		"ok":      lipgloss.NewStyle().Foreground(lipgloss.Green),
		"warning": lipgloss.NewStyle().Foreground(lipgloss.Yellow),
		"blocked": lipgloss.NewStyle().Foreground(lipgloss.Red).Bold(true),
	}
)

// Printf prints formatted text.
func (o Out) Printf(format string, args ...any) { fmt.Fprintf(o, format, args...) }

// Heading prints a heading.
func (o Out) Heading(s string) { fmt.Fprintln(o, Bold(s)) }

// Faint makes a text stand back.
func Faint(s string) string { return ours(faint.Render(Clean(s))) }

// Bold makes a text stand out.
func Bold(s string) string { return ours(bold.Render(Clean(s))) }

// Mark shows a status as a word in its colour.
func Mark(status string) string { return ours(marks[status].Render(status)) }

// Column is a column of a table.
type Column struct {
	Head  string
	Right bool // numbers stand to the right
	Most  int  // longer texts are cut; 0 for never
}

// Table prints rows under their heads, each column as wide as it must be.
func (o Out) Table(columns []Column, rows [][]string) {
	width := make([]int, len(columns))
	cut := func(s string, most int) string {
		s = Clean(s)
		if r := []rune(s); most > 0 && lipgloss.Width(s) > most && len(r) > most {
			return string(r[:most-1]) + "…"
		}
		return s
	}
	for i, c := range columns {
		width[i] = lipgloss.Width(c.Head)
		for _, r := range rows {
			width[i] = max(width[i], lipgloss.Width(cut(r[i], c.Most)))
		}
	}
	line := func(cells []string, style func(string) string) {
		var b strings.Builder
		for i, c := range columns {
			s := cut(cells[i], c.Most)
			pad := strings.Repeat(" ", width[i]-lipgloss.Width(s))
			if c.Right {
				s = pad + s
			} else if i < len(columns)-1 {
				s += pad
			}
			if i > 0 {
				b.WriteString("  ")
			}
			b.WriteString(s)
		}
		fmt.Fprintln(o, style(strings.TrimRight(b.String(), " ")))
	}
	heads := make([]string, len(columns))
	for i, c := range columns {
		heads[i] = c.Head
	}
	line(heads, Faint)
	for _, r := range rows {
		line(r, func(s string) string { return s })
	}
}

// Clean makes a text from elsewhere safe to stand on one line.
func Clean(s string) string { return safe(s, plain.Line) }

// safe makes a text safe, but for what this package itself put into it.
func safe(s string, with func(string) string) string {
	if !strings.Contains(s, escape) {
		return with(s)
	}
	parts := strings.Split(s, escape)
	for i := range parts {
		parts[i] = with(parts[i])
	}
	return strings.Join(parts, escape)
}

// Lines breaks a text into lines that fit beside an indent of so many columns,
// where standard output is a terminal; elsewhere it is one line. It breaks between
// words, so that a path in a command stays whole.
func Lines(s string, indent int) []string {
	width, _, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil || width < indent+30 {
		return []string{s}
	}
	return strings.Split(lipgloss.Wrap(s, width-indent, ""), "\n")
}

// Size writes a number of bytes.
func Size(n int64) string { return humanize.IBytes(uint64(max(0, n))) }

// Length writes a number of seconds as h:mm:ss or m:ss; a dash for none.
func Length(seconds float64) string {
	if seconds <= 0 {
		return "–"
	}
	d := time.Duration(seconds * float64(time.Second)).Round(time.Second)
	if d >= time.Hour {
		return fmt.Sprintf("%d:%02d:%02d", int(d.Hours()), int(d.Minutes())%60, int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d:%02d", int(d.Minutes()), int(d.Seconds())%60)
}

// Took writes a short duration.
func Took(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// Since writes how long something has lasted, in its two largest units.
func Since(d time.Duration) string {
	switch d = d.Round(time.Second); {
	case d >= 24*time.Hour:
		return fmt.Sprintf("%d d %d h", int(d.Hours())/24, int(d.Hours())%24)
	case d >= time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	case d >= time.Minute:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d s", int(d.Seconds()))
}

// When writes a time as people here say it.
func When(t time.Time) string {
	if t.IsZero() {
		return "–"
	}
	t = t.Local()
	if now := time.Now(); t.YearDay() == now.YearDay() && t.Year() == now.Year() {
		return "today " + t.Format("15:04:05")
	}
	return t.Format("2006-01-02 15:04")
}

// Count writes a number with its word.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(int64(n)) + " " + many
}

// Bar draws a part of a whole, ten characters wide.
func Bar(part, whole float64) string {
	if whole <= 0 {
		return ""
	}
	n := min(10, max(0, int(part/whole*10+0.5)))
	return strings.Repeat("█", n) + strings.Repeat("░", 10-n)
}

// Progress tells how far something is: on one line of a terminal, or now and
// then by a line of its own.
type Progress struct {
	out      Out
	what     string
	total    int64
	terminal bool
	began    time.Time
	told     time.Time
	drawn    bool
	bytes    bool
}

// Bytes begins to tell of bytes, with their rate. A total of 0 is not known.
func (o Out) Bytes(what string, total int64) *Progress {
	p := o.Progress(what, 0)
	p.total, p.bytes = total, true
	return p
}

// Progress begins to tell.
func (o Out) Progress(what string, total int) *Progress {
	return &Progress{out: o, what: what, total: int64(total), terminal: term.IsTerminal(int(os.Stderr.Fd())), began: time.Now(), told: time.Now()}
}

// Of says what the total is now, as far as it is known.
func (p *Progress) Of(total int) { p.total = int64(total) }

// At says that n of the total are done.
func (p *Progress) At(n int) { p.AtByte(int64(n)) }

// AtByte says that n of the bytes are done.
func (p *Progress) AtByte(n int64) {
	every := 10 * time.Second
	if p.terminal {
		every = 100 * time.Millisecond
	}
	if time.Since(p.told) < every {
		return
	}
	p.told = time.Now()
	left := ""
	if n > 0 {
		left = ", about " + Since(time.Duration(float64(time.Since(p.began))*float64(max(0, p.total-n))/float64(n))) + " left"
	}
	text := fmt.Sprintf("%s: %s of %s%s", p.what, humanize.Comma(n), humanize.Comma(p.total), left)
	if n > p.total { // more than was known before
		text = fmt.Sprintf("%s: %s", p.what, humanize.Comma(n))
	}
	if p.bytes {
		text = fmt.Sprintf("%s: %s", p.what, Size(n))
		if p.total > 0 {
			text += " of " + Size(p.total)
		} else {
			left = ""
		}
		text += fmt.Sprintf(", %s/s%s", Size(int64(float64(n)/time.Since(p.began).Seconds())), left)
	}
	if p.terminal {
		p.out.Screen("\r\x1b[K")
		p.out.Printf("  %s", text)
		p.drawn = true
		return
	}
	p.out.Printf("  %s\n", text)
}

// End takes the line away again.
func (p *Progress) End() {
	if p.drawn {
		p.out.Screen("\r\x1b[K")
	}
}
