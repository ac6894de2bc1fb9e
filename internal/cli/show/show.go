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
	"sync"
	"time"

	"cozyshelf/internal/core/plain"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/dustin/go-humanize"
	"golang.org/x/term"
)

// Out is where text goes, with colour only where the place bears it. What is written must
// be whole lines, or parts of a line that end with a whole character.
type Out struct {
	w     io.Writer
	width int // columns of the terminal; 0 where there is none, and lines end nowhere
}

// To makes an Out for a stream. NO_COLOR and streams that are no terminal get
// no colour, and lines that are as long as they are.
func To(w io.Writer) Out {
	return Out{w: colorprofile.NewWriter(w, os.Environ()), width: widthOf(w)}
}

// widthOf is how many columns a stream has, where it is a terminal.
func widthOf(w io.Writer) int {
	f, ok := w.(*os.File)
	if !ok {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return width
}

// Width gives the same, for a terminal of so many columns; 0 for none.
func (o Out) Width(columns int) Out {
	o.width = columns
	return o
}

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

// Raw gives what bytes are written to as they are, for files that other programs read, and whether that is a
// terminal: then it is not raw, since names may hold anything.
func (o Out) Raw() (w io.Writer, terminal bool) {
	if o.width > 0 {
		return o, true
	}
	if c, ok := o.w.(*colorprofile.Writer); ok {
		return c.Forward, false
	}
	return o.w, false
}

// Screen tells the terminal something, such as to clear the line.
func (o Out) Screen(s string) {
	_, _ = io.WriteString(o.w, s) // there is nobody to tell, if it fails
}

var (
	faint = lipgloss.NewStyle().Faint(true)
	bold  = lipgloss.NewStyle().Bold(true)
	marks = map[string]lipgloss.Style{
		"ok": lipgloss.NewStyle().Foreground(lipgloss.Green),
		// Yellow cannot be read on a light ground, and whether it is one nobody can be sure of.
		"warning": lipgloss.NewStyle().Foreground(lipgloss.Magenta).Bold(true),
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

// Hang prints a text behind what stands before its first line; further lines stand below the
// text.
func (o Out) Hang(before, text string) {
	wide := lipgloss.Width(before)
	for i, l := range o.Lines(Clean(text), wide) {
		if i > 0 {
			before = strings.Repeat(" ", wide)
		}
		o.Printf("%s%s\n", before, l)
	}
}

// Command prints a command to be copied: it stays on one line, however narrow the terminal is.
func (o Out) Command(before, command string) { o.Printf("%s%s\n", before, Clean(command)) }

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

// Unit is what Watch counts.
type Unit int

// The units.
const (
	Time  Unit = iota // nothing: only the time that passed is told
	Files             // files
	Bytes             // bytes
)

// Watch tells how far something is that takes longer than a second, until the function it gives is
// called: on a terminal by a line that is written anew, elsewhere by a line now and then. count
// gives what is done, and of how much; 0 where that is not known. It is nil for Time.
func (o Out) Watch(what string, unit Unit, count func() (n, total int64)) (stop func()) {
	p := o.Progress(what, 0)
	p.bytes = unit == Bytes
	if unit == Files {
		p.unit = " files"
	}
	return every(p.terminal, func() {
		n := int64(0)
		if count != nil {
			n, p.total = count()
		}
		if n == 0 {
			p.write(fmt.Sprintf("%s: %s", what, Since(time.Since(p.began))))
			return
		}
		p.AtByte(n)
	}, p.End)
}

// WatchText is Watch for what tells in words how far it is.
func (o Out) WatchText(text func() string) (stop func()) {
	p := o.Progress("", 0)
	return every(p.terminal, func() {
		p.write(fmt.Sprintf("%s (%s)", text(), Since(time.Since(p.began))))
	}, p.End)
}

// every calls draw again and again after a second, until the function it gives is called; then it
// calls end, once.
func every(terminal bool, draw, end func()) (stop func()) {
	pause := 10 * time.Second
	if terminal {
		pause = time.Second
	}
	ended, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		t := time.NewTicker(pause)
		defer t.Stop()
		for {
			select {
			case <-ended:
				return
			case <-t.C:
				draw()
			}
		}
	}()
	return sync.OnceFunc(func() {
		close(ended)
		<-gone
		end()
	})
}

// Step writes the beginning of a line that ends once a step is done. On a terminal the time it takes
// stands behind it meanwhile. The function it gives takes that away again.
func (o Out) Step(text string) (end func()) {
	o.Printf("%s", text)
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return func() {}
	}
	began, drawn := time.Now(), false
	return every(true, func() {
		drawn = true
		o.Screen("\r\x1b[K")
		o.Printf("%s%s", text, Faint(Since(time.Since(began))))
	}, func() {
		if drawn {
			o.Screen("\r\x1b[K")
			o.Printf("%s", text)
		}
	})
}

// Progress tells how far something is: on one line of a terminal, or now and
// then by a line of its own.
type Progress struct {
	out      Out
	what     string
	total    int64
	terminal bool
	began    time.Time
	shown    time.Time
	drawn    bool
	bytes    bool
	unit     string // behind the number
}

// Bytes begins to tell of bytes, with their rate. A total of 0 is not known.
func (o Out) Bytes(what string, total int64) *Progress {
	p := o.Progress(what, 0)
	p.total, p.bytes = total, true
	return p
}

// Progress begins to tell.
func (o Out) Progress(what string, total int) *Progress {
	return &Progress{out: o, what: what, total: int64(total), terminal: term.IsTerminal(int(os.Stderr.Fd())),
		began: time.Now(), shown: time.Now()}
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
	if time.Since(p.shown) < every {
		return
	}
	p.shown = time.Now()
	p.write(p.text(n, time.Since(p.began)))
}

// text says how far it is after some time: how much of how much, the rate, and the time left.
func (p *Progress) text(n int64, took time.Duration) string {
	number := func(n int64) string { return humanize.Comma(n) + p.unit }
	if p.bytes {
		number = Size
	}
	text := p.what + ": " + number(n)
	known := n > 0 && n <= p.total // there may be more than was known before
	if known {
		text = p.what + ": " + strings.TrimSuffix(number(n), p.unit) + " of " + number(p.total)
	}
	text += ", " + number(int64(float64(n)/took.Seconds())) + "/s"
	if known && n < p.total {
		text += ", about " + Since(time.Duration(float64(took)*float64(p.total-n)/float64(n))) + " left"
	}
	return text
}

// write writes the line anew, or another one.
func (p *Progress) write(text string) {
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

// Minutes writes a length in seconds as hours and minutes.
func Minutes(seconds float64) string {
	n := int(seconds / 60)
	if n < 60 {
		return fmt.Sprintf("%d min", n)
	}
	return fmt.Sprintf("%d h %02d min", n/60, n%60)
}
