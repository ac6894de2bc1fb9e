package naming

import (
	"strings"
	"testing"
)

func TestFilesBeside(t *testing.T) {
	const stem = "Copper Kite (2003)"
	for name, want := range map[string]Beside{
		"Copper Kite (2003).srt":                 {Sort: Subtitles},
		"Copper Kite (2003).en.srt":              {Sort: Subtitles, Language: "en"},
		"Copper Kite (2003).eng.srt":             {Sort: Subtitles, Language: "en"},
		"copper kite (2003).LAV.forced.ass":      {Sort: Subtitles, Language: "lv", Forced: true},
		"Copper Kite (2003).en.sdh.vtt":          {Sort: Subtitles, Language: "en", Hearing: true},
		"Copper Kite (2003) [English].srt":       {Sort: Subtitles, Language: "en"},
		"Copper Kite (2003).pt-BR.srt":           {Sort: Subtitles, Language: "pt-BR"},
		"Copper Kite (2003).hi.srt":              {Sort: Subtitles, Language: "hi"},
		"Copper Kite (2003).en.hi.srt":           {Sort: Subtitles, Language: "en", Hearing: true},
		"Copper Kite (2003).forced.srt":          {Sort: Subtitles, Forced: true},
		"Copper Kite (2003).millpond.lv.srt":     {Sort: Subtitles, Language: "lv"},
		"Copper Kite (2003).jpg":                 {Sort: Image},
		"Copper Kite (2003).jsonld":              {Sort: Sidecar},
		"cover.png":                              {Sort: Image, Folder: true},
		"Copper Kite (2003) behind the mill.jpg": {},
		"Copper Kite (2003)b.srt":                {},
		"Copper.srt":                             {},
		"Copper Kite (2003).mp4":                 {},
		"Copper Kite (2003).txt":                 {},
	} {
		got, ok := BesideOf(stem, name)
		if ok != (want.Sort != "") {
			t.Errorf("%q: beside it: %v", name, ok)
			continue
		}
		if want.Sort != "" {
			want.Name = name
		}
		if got != want {
			t.Errorf("%q: got %+v, want %+v", name, got, want)
		}
	}
}

func TestLanguages(t *testing.T) {
	for in, want := range map[string]string{"eng": "en", "en": "en", "ENGLISH": "en", "ger": "de", "deu": "de",
		"lav": "lv", "und": "", "": "", "x": "", "the": "", "zzz": "", "zh-hant": "zh-Hant"} {
		if got := Language(in); got != want {
			t.Errorf("%q: got %q, want %q", in, got, want)
		}
	}
	if !SameLanguage("eng", "en-GB") || SameLanguage("en", "lv") || SameLanguage("", "") || SameLanguage("und", "und") {
		t.Error("which languages are the same")
	}
}

func FuzzBeside(f *testing.F) {
	f.Add("a", "a.en.srt")
	f.Add("", ".srt")
	f.Fuzz(func(t *testing.T, stem, name string) {
		b, ok := BesideOf(stem, name)
		if !ok {
			return
		}
		if b.Name != name || b.Sort != SortOf(name) || !b.Folder && !strings.EqualFold(name[:len(stem)], stem) {
			t.Errorf("%q beside %q: %+v", name, stem, b)
		}
	})
}
