package logline

import (
	"bytes"
	"encoding/json"
	"log/slog"
	"strings"
	"testing"
	"time"
)

// TestWhatSlogWritesIsReadBack lets slog write lines, and reads them.
func TestWhatSlogWritesIsReadBack(t *testing.T) {
	var b bytes.Buffer
	log := slog.New(slog.NewTextHandler(&b,
		&slog.HandlerOptions{Level: slog.LevelDebug, ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
			if a.Key == slog.TimeKey {
				return slog.Attr{}
			}
			return a
		}}))
	for _, value := range []string{"plain", "", "two words", `a "quote"`, "new\nline", "x=y", "ü", "\xff"} {
		b.Reset()
		log.Warn("a message", "key", value, "n", 7)
		at := time.Date(2026, 11, 23, 10, 0, 0, 5, time.UTC)
		l := Parse(at.Format(time.RFC3339Nano) + " " + b.String())
		want := value
		if value == "\xff" {
			want = "\xff"
		}
		if l.Plain || !l.At.Equal(at) || l.Level != Warn || l.Message != "a message" || len(l.Pairs) != 2 ||
			l.Pairs[0].Value != want {
			t.Errorf("%q: got %+v of %s", value, l, b.String())
		}
		out, err := json.Marshal(l)
		var back map[string]any
		if err != nil || json.Unmarshal(out, &back) != nil || back["level"] != "WARN" || back["n"] != 7.0 ||
			back["msg"] != "a message" {
			t.Errorf("%q: as JSON %s, %v", value, out, err)
		}
	}
}

func TestWhatIsNoSuchLineIsAMessage(t *testing.T) {
	for _, text := range []string{"panic: runtime error", "goroutine 1 [running]:", `key="open`, "level=LOUD msg=x",
		"=", `a="b"c=d`, ""} {
		if l := Parse("2026-11-23T10:00:00Z " + text); l.Message != text || !l.Plain && text != "" || l.At.IsZero() {
			t.Errorf("%q: got %+v", text, l)
		}
	}
}

func TestLinesAreChosenByLevelAndWords(t *testing.T) {
	info, warn, last := "level=INFO msg=scanned shelf=films", "level=WARN msg=away shelf=series", "panic: oh"
	for f, want := range map[Filter]string{
		{Level: Debug}:                 "scanned away panic",
		{Level: Warn}:                  "away panic",
		{Level: Info, Grep: "FILMS"}:   "scanned",
		{Level: Error, Grep: "series"}: "",
	} {
		var got []string
		for word, text := range map[string]string{"scanned": info, "away": warn, "panic": last} {
			if f.Wants(text, Parse(text)) {
				got = append(got, word)
			}
		}
		if len(got) != len(strings.Fields(want)) {
			t.Errorf("%+v: got %v, want %s", f, got, want)
		}
	}
}

func TestLevelsAreThoseOfSlog(t *testing.T) {
	for l := slog.Level(-9); l < 15; l++ {
		got, err := ParseLevel(l.String())
		if err != nil || int(got) != int(l) || got.String() != l.String() {
			t.Errorf("%s: got %s, %v", l, got, err)
		}
	}
	for _, s := range []string{"", "LOUD", "INFO+x", "+1"} {
		if _, err := ParseLevel(s); err == nil {
			t.Errorf("%q was taken", s)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("2026-11-23T10:00:00Z level=INFO msg=\"a b\" k=v")
	f.Fuzz(func(t *testing.T, s string) {
		l := Parse(s)
		if l.Plain && len(l.Pairs) > 0 {
			t.Errorf("%q: got %+v", s, l)
		}
		if _, err := json.Marshal(l); err != nil {
			t.Error(err)
		}
	})
}

// TestNumbersAreNumbers compares what is written with what a log in JSON would say.
func TestNumbersAreNumbers(t *testing.T) {
	for text, want := range map[string]string{
		"files=6 seconds=0.25 small=3.1e-05 below=-4": `{"below":-4,"files":6,"msg":"m","seconds":0.25,"small":3.1e-05}`,
		"member=1977 title=2001 version=2":            `{"member":"1977","msg":"m","title":"2001","version":"2"}`,
		"away=true finished=false member=true":        `{"away":true,"finished":false,"member":"true","msg":"m"}`,
		"code=007 at=1. big=1e999 hex=0x1f none=":     `{"at":"1.","big":"1e999","code":"007","hex":"0x1f","msg":"m","none":""}`,
		"NaN=NaN inf=+Inf plus=+1":                    `{"NaN":"NaN","inf":"+Inf","msg":"m","plus":"+1"}`,
	} {
		l := Parse("level=INFO msg=m " + text)
		out, err := json.Marshal(l)
		var got map[string]json.RawMessage
		if err != nil || json.Unmarshal(out, &got) != nil {
			t.Errorf("%s: %s, %v", text, out, err)
			continue
		}
		delete(got, "level")
		if back, err := json.Marshal(got); err != nil || string(back) != want {
			t.Errorf("%s:\n got %s\nwant %s", text, back, want)
		}
	}
}
