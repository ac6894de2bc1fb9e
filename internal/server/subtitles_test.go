package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// TestSubtitlesBesideAFilmAreOffered puts subtitles of all sorts beside a film.
func TestSubtitlesBesideAFilmAreOffered(t *testing.T) {
	h := open(t)
	folder := ""
	for _, sh := range h.Settings.Shelves {
		if sh.Kind == household.Films {
			folder = sh.Folders[0]
		}
	}
	const film, cue = "The Paper Lighthouse (2014)", "1\n00:00:01,000 --> 00:00:02,500\n"
	put := func(rest, text string) {
		if err := os.WriteFile(filepath.Join(folder, film+rest), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put(".lv.srt", cue+"B\xe2kas sargs\n")
	put(".en.forced.srt", cue+"Mind the lamp.\n")
	put(".de.sdh.vtt", "WEBVTT\n\n00:01.000 --> 00:02.000\n[Möwen]\n")
	put(".fr.srt", "no subtitle at all")
	put(".es.srt", strings.Repeat("x", live.MostSubtitle+1))
	put(".it.ass", "[Script Info]\n")
	if _, err := h.Scan(context.Background(), "films", scan.Options{}); err != nil {
		t.Fatal(err)
	}
	_, b := h.ask("GET", "/api/v1/shelves/films/titles", "")
	var list struct{ Titles []store.Title }
	if err := json.Unmarshal(b, &list); err != nil {
		t.Fatal(err)
	}
	var title struct{ Files []store.File }
	for _, v := range list.Titles {
		if film == fmt.Sprintf("%s (%d)", v.Name, v.Year) {
			_, b = h.ask("GET", fmt.Sprint("/api/v1/titles/", v.ID), "")
			if err := json.Unmarshal(b, &title); err != nil || len(title.Files) != 1 {
				t.Fatalf("%s: %v", b, err)
			}
		}
	}
	if len(title.Files) != 1 {
		t.Fatalf("the film is not among %+v", list)
	}
	at := func(rest string) string {
		return fmt.Sprintf("/api/v1/files/%d/subtitles/%s", title.Files[0].ID, url.PathEscape(film+rest))
	}
	for rest, want := range map[string]string{".lv.srt": "Bākas sargs", ".en.forced.srt": "Mind the lamp.",
		".de.sdh.vtt": "[Möwen]"} {
		res, b := h.ask("GET", at(rest), "")
		if res.StatusCode != http.StatusOK || res.Header.Get("Content-Type") != "text/vtt; charset=utf-8" ||
			!strings.HasPrefix(string(b), "WEBVTT\n\n00:") || !strings.Contains(string(b), want) {
			t.Errorf("%s: %s %s", rest, res.Status, b)
		}
	}
	for rest, want := range map[string]int{".fr.srt": 422, ".es.srt": 422, ".it.ass": 422, ".mp4": 404, ".pt.srt": 404,
		"/../../x": 404} {
		if res, b := h.ask("GET", at(rest), ""); res.StatusCode != want {
			t.Errorf("%s: %s, want %d: %.200s", rest, res.Status, want, b)
		}
	}
	_, b = h.ask("GET", fmt.Sprint("/play/", title.Files[0].ID), "", "Cookie", "shelf_session="+h.token)
	page := string(b)
	for _, want := range []string{
		`kind="subtitles" src="` + at(".en.forced.srt") +
			`" srclang="en" label="en, only what is in another language" default>`,
		`kind="captions" src="` + at(".de.sdh.vtt") + `" srclang="de" label="de, with sounds">`,
		`srclang="lv" label="lv">`,
	} {
		if !strings.Contains(page, want) {
			t.Errorf("the page has no %s", want)
		}
	}
	if strings.Contains(page, ".ass") || strings.Index(page, "en.forced") > strings.Index(page, "de.sdh") {
		t.Errorf("the page offers\n%s", page)
	}
	// What takes a subtitle's place afterwards is not followed out of the shelf.
	if err := os.Remove(filepath.Join(folder, film+".lv.srt")); err != nil {
		t.Fatal(err)
	}
	outside := filepath.Join(t.TempDir(), "x.srt")
	if err := os.WriteFile(outside, []byte(cue+"x\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(outside, filepath.Join(folder, film+".lv.srt")); err != nil {
		t.Fatal(err)
	}
	if res, b := h.ask("GET", at(".lv.srt"), ""); res.StatusCode != http.StatusNotFound {
		t.Errorf("a link out of the shelf: %s %s", res.Status, b)
	}
	h.token = ""
	if res, _ := h.ask("GET", at(".en.forced.srt"), ""); res.StatusCode != http.StatusUnauthorized {
		t.Errorf("a stranger: %s", res.Status)
	}
}
