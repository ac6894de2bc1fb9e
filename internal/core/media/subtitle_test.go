package media

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"cozyshelf/internal/testbuild"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

const ferry = "1\n00:00:01,000 --> 00:00:02,500\nThe ferry is late.\n\n2\n00:00:03,000 --> 00:00:04,000\n- It always is.\n- Not on Mondays.\n"

func TestSubtitlesBecomeWebVTT(t *testing.T) {
	const want = "WEBVTT\n\n00:00:01.000 --> 00:00:02.500\nThe ferry is late.\n\n00:00:03.000 --> 00:00:04.000\n- " +
		"It always is.\n- Not on Mondays.\n"
	in16 := func(s string) string {
		b, err := unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewEncoder().String(s)
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	one := func(text string) string { return "1\n0:0:1,5 --> 0:0:2,000\n" + text }
	cue := func(text string) string { return "WEBVTT\n\n00:00:01.005 --> 00:00:02.000\n" + text + "\n" }
	for name, c := range map[string]struct{ in, language, want string }{
		"plain":         {ferry, "", want},
		"DOS":           {strings.ReplaceAll(ferry, "\n", "\r\n"), "", want},
		"marked UTF-8":  {"\ufeff" + ferry, "", want},
		"UTF-16":        {in16(ferry), "", want},
		"no numbers":    {regexp.MustCompile(`(?m)^\d\n`).ReplaceAllString(ferry, ""), "", want},
		"no empty line": {strings.ReplaceAll(ferry, "\n\n", "\n"), "", want},
		"points and places": {strings.NewReplacer(",", ".", "02.500", "02.500 X1:10 X2:20").Replace(ferry), "",
			strings.Replace(want, "ferry is late.", "ferry is late.", 1)},
		"WebVTT":          {want, "", want},
		"WebVTT, old Mac": {strings.ReplaceAll(want, "\n", "\r"), "", want},
		"marks": {one(`{\an8}<i>Salt</i> & <font color="#fff"><B>semaphore</B></font> <3`), "",
			cue("<i>Salt</i> &amp; <b>semaphore</b> &lt;3")},
		"what a page is not": {one(`<script>x</script> --> <i onclick="x">`), "",
			cue("&lt;script&gt;x&lt;/script&gt; --&gt; ")},
		"a number to say":   {one("42"), "", cue("42")},
		"Latvian of 1999":   {one("B\xe2kas sargs"), "lv", cue("Bākas sargs")},
		"French of 1999":    {one("Le phare \xe0 mar\xe9e"), "fr", cue("Le phare à marée")},
		"Ukrainian of 1999": {one("\xcc\xe0\xff\xea"), "uk-UA", cue("Маяк")},
		"backwards":         {one("x") + "\n\n2\n00:00:09,000 --> 00:00:08,000\nnever\n", "", cue("x")},
	} {
		got, err := WebVTT([]byte(c.in), c.language)
		if err != nil || string(got) != c.want {
			t.Errorf("%s: %v, got\n%s\nwant\n%s", name, err, got, c.want)
		}
	}
	for _, in := range []string{"", "\xff\xfe", "hello", "[Script Info]\nTitle: x\n",
		"00:00:02,000 --> 00:00:01,000\nx\n", "\x00\x00\x01\xba\x44"} {
		if got, err := WebVTT([]byte(in), ""); !errors.Is(err, ErrNoSubtitle) {
			t.Errorf("%q: got %q, %v", in, got, err)
		}
	}
}

var cueLine = regexp.MustCompile(`(?m)^((?:\d\d:)?\d\d:\d\d\.\d{3}) --> ((?:\d\d:)?\d\d:\d\d\.\d{3})$`)

// TestCuesAreThoseOfFFmpeg reads random subtitles as ffmpeg does.
func TestCuesAreThoseOfFFmpeg(t *testing.T) {
	if _, err := exec.LookPath("ffmpeg"); err != nil {
		testbuild.Missing(t, "ffmpeg")
	}
	r := rand.New(rand.NewPCG(5, 26990))
	var in strings.Builder
	at := 0
	for i := range 400 {
		from := at + r.IntN(9000)
		at = from + 1 + r.IntN(60000)
		time := func(ms int) string {
			return fmt.Sprintf("%02d:%02d:%02d,%03d", ms/3600000, ms/60000%60, ms/1000%60, ms%1000)
		}
		fmt.Fprintf(&in, "%d\n%s --> %s\nline %d\n", i+1, time(from), time(at), i)
		for range r.IntN(3) {
			in.WriteString([]string{"- more\n", "<i>slanted</i>\n", "17\n"}[r.IntN(3)])
		}
		in.WriteString("\n")
	}
	ours, err := WebVTT([]byte(in.String()), "")
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command("ffmpeg", "-v", "error", "-f", "srt", "-i", "-", "-f", "webvtt", "-")
	c.Stdin = strings.NewReader(in.String())
	theirs, err := c.Output()
	if err != nil {
		t.Fatal(err)
	}
	times := func(b []byte) (out []string) {
		for _, m := range cueLine.FindAllStringSubmatch(string(b), -1) {
			for _, at := range m[1:] {
				if len(at) == 9 {
					at = "00:" + at
				}
				out = append(out, at)
			}
		}
		return out
	}
	a, b := times(ours), times(theirs)
	if len(a) != 800 || strings.Join(a, " ") != strings.Join(b, " ") {
		t.Errorf("%d and %d times\n%.300s\n%.300s", len(a), len(b), ours, theirs)
	}
}

func FuzzWebVTT(f *testing.F) {
	f.Add([]byte(ferry), "lv")
	f.Add([]byte("\ufeffWEBVTT\n\n00:01.000 --> 00:02.000\nx"), "")
	latin, err := charmap.Windows1252.NewEncoder().String("1\n00:00:01,000 --> 00:00:02,500\n<b>à</b> --> <i\n")
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte(latin), "fr")
	f.Fuzz(func(t *testing.T, in []byte, language string) {
		out, err := WebVTT(in, language)
		if err != nil {
			return
		}
		if !utf8.Valid(out) || !strings.HasPrefix(string(out), "WEBVTT") || strings.ContainsAny(string(out), "\r\x00") {
			t.Fatalf("got %q", out)
		}
		// What was made is read again as it is.
		if again, err := WebVTT(out, language); err != nil || string(again) != string(out) {
			t.Errorf("%q became %q, %v", out, again, err)
		}
	})
}
