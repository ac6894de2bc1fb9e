package test

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/library"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/standin"
)

// asks lets the household ask a stand-in for the catalogues.
func (m *mill) asks(address string) {
	m.t.Helper()
	f, err := os.OpenFile(m.path("household.toml"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		m.t.Fatal(err)
	}
	defer f.Close()
	if _, err := fmt.Fprintf(f, "\n[lookup]\nsources = [\"wikidata\", \"musicbrainz\"]\nwikidata = "+
		"\"%[1]s/w/api.php\"\ncommons = \"%[1]s/file/\"\nmusicbrainz = \"%[1]s/ws/2\"\ncovers = \"%[1]s/covers\"\n",
		address); err != nil {
		m.t.Fatal(err)
	}
}

func (m *mill) match(args ...string) (got control.Matched) {
	m.t.Helper()
	m.document(&got, append([]string{"shelf", "match"}, args...)...)
	return got
}

// TestTitlesAreDescribed asks a stand-in for the catalogues, corrects what it says, and
// sees that corrections stay.
func TestTitlesAreDescribed(t *testing.T) {
	t.Parallel()
	world := standin.Household()
	srv := httptest.NewServer(world)
	defer srv.Close()
	m := newMill(t, "process")
	films := m.path("media/films")
	// One without a year: two films have that name.
	if err := os.Rename(filepath.Join(films, "The Paper Lighthouse (2014).mp4"),
		filepath.Join(films, "The Paper Lighthouse.mp4")); err != nil {
		t.Fatal(err)
	}
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	within(t, 20*time.Second, "the first scan", func() bool { return m.titles("films") == 6 })
	if got := m.match("Copper Kite"); got.Described.Summary != "" || len(got.Catalogues) != 0 ||
		world.Requests.Load() != 0 {
		t.Errorf("it was looked up although nobody allowed it: %+v", got)
	}
	m.asks(srv.URL)
	m.must("deploy", "--yes")
	within(t, 60*time.Second, "what the catalogue says",
		func() bool { return m.match("Copper Kite").Described.Summary != "" })
	kite := m.match("Copper Kite")
	if d := kite.Described; d.Outside != "wikidata Q900104" || d.Match != describe.Taken ||
		!strings.Contains(d.Summary, "roofer") || d.Picture == "" || len(d.People) != 2 {
		t.Errorf("got %+v", d)
	}
	token := m.token("wren")
	res, picture := m.get("GET", fmt.Sprintf("/cover/%d", kite.Title.ID), "", "Cookie", "shelf_session="+token)
	if res.Header.Get("Content-Type") != "image/jpeg" || len(picture) < 1000 {
		t.Errorf("its cover: %s, %d bytes", res.Header.Get("Content-Type"), len(picture))
	}
	if _, page := m.get("GET", fmt.Sprintf("/title/%d", kite.Title.ID), "", "Cookie", "shelf_session="+
		token); !strings.Contains(page, "A roofer builds") || !strings.Contains(page, "Pell Underhay") {
		t.Error("its page does not say so")
	}
	var hits []control.Hit
	if m.document(&hits, "shelf", "find", "quillfeather"); !slices.ContainsFunc(hits,
		func(h control.Hit) bool { return h.Title.Name == "Copper Kite" }) {
		t.Errorf("people are not found: %+v", hits)
	}

	house := m.match("The Paper Lighthouse", "--again")
	if d := house.Described; d.Match != describe.Unclear || len(d.Candidates) < 2 || d.Summary != "" {
		t.Errorf("one of several was taken: %+v", d)
	}
	var list []library.Issue
	m.document(&list, "shelf", "show", "films", "--problems")
	if !slices.ContainsFunc(list, func(p library.Issue) bool {
		return p.Sort == library.Unmatched && strings.Contains(p.Path, "Lighthouse")
	}) {
		t.Errorf("problems: %+v", list)
	}
	out := m.must("shelf", "match", "The Paper Lighthouse")
	for _, want := range []string{"wikidata Q900101", "wikidata Q900191", "the same name", "1968"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	m.match("The Paper Lighthouse", "--take", "wikidata Q900101", "--edit", "summary=Wren saw it being made.",
		"--edit", "genres=paper, sea")
	check := func(when string) {
		t.Helper()
		d := m.match("#" + fmt.Sprint(house.Title.ID)).Described
		if d.Match != describe.Chosen || d.Summary != "Wren saw it being made." ||
			!slices.Equal(d.Genres, []string{"paper", "sea"}) || d.Outside != "wikidata Q900101" || len(d.People) != 3 {
			t.Errorf("%s: %+v", when, d)
		}
	}
	check("taken")
	// It is renamed, scanned, and the server comes anew: what was set stays.
	if err := os.Rename(filepath.Join(films, "The Paper Lighthouse.mp4"),
		filepath.Join(films, "The Paper Lighthouse (2014).mp4")); err != nil {
		t.Fatal(err)
	}
	m.must("shelf", "scan", "films")
	m.must("restart")
	m.until("ready")
	m.document(&hits, "shelf", "find", "Paper Lighthouse")
	if len(hits) != 1 || hits[0].Title.Year != 2014 {
		t.Fatalf("found %+v", hits)
	}
	house.Title.ID = hits[0].Title.ID
	check("renamed")

	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, 30, 40))); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(m.path("mine.png"), b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	if d := m.match("Copper Kite", "--none", "--picture", m.path("mine.png")).Described; d.Match != describe.None ||
		d.Summary != "" || d.From != "a person" {
		t.Errorf("none: %+v", d)
	}
	// Written beside the film, and read back by a household that knows nothing of it.
	if _, errs, code := m.run("", "shelf", "match", "The Paper Lighthouse", "--sidecar"); code != 4 ||
		!strings.Contains(errs, "write "+filepath.Join(films, "The Paper Lighthouse (2014).jsonld")) {
		t.Errorf("a sidecar that nobody agreed to: code %d, %s", code, errs)
	}
	m.must("shelf", "match", "The Paper Lighthouse", "--sidecar", "--yes")
	side := filepath.Join(films, "The Paper Lighthouse (2014).jsonld")
	if text, err := os.ReadFile(side); err != nil || !strings.Contains(string(text), `"@type": "Movie"`) ||
		!strings.Contains(string(text), "Wren saw it") {
		t.Errorf("%v: %s", err, text)
	}
	m.must("retire", "--erase", "--yes")
	if err := os.WriteFile(m.path("household.toml"),
		[]byte(strings.Split(string(read(m.path("household.toml"))), "[lookup]")[0]), 0o644); err != nil {
		t.Fatal(err)
	}
	m.must("deploy", "--yes")
	within(t, 20*time.Second, "what the sidecar says", func() bool {
		var hits []control.Hit
		m.document(&hits, "shelf", "find", "being made")
		return len(hits) == 1
	})
	if d := m.match("The Paper Lighthouse").Described; d.Source != "sidecar" || d.Outside != "wikidata Q900101" ||
		!slices.Equal(d.Genres, []string{"paper", "sea"}) {
		t.Errorf("from the sidecar: %+v", d)
	}
	// Somebody writes it anew under the same name.
	if err := os.WriteFile(side, bytes.Replace(read(side), []byte("being made"), []byte("from the pier"), 1),
		0o644); err != nil {
		t.Fatal(err)
	}
	within(t, 20*time.Second, "what the sidecar says now", func() bool {
		var hits []control.Hit
		m.document(&hits, "shelf", "find", "from the pier")
		return len(hits) == 1
	})
	for _, args := range [][]string{{"nothing of the sort"}, {"the"}, {"Copper Kite", "--take", "x", "--none"},
		{"Copper Kite", "--edit", "x"}, {"Copper Kite", "--edit", "colour=red"}, {"Copper Kite", "--edit", "year=x"},
		{"Copper Kite", "--take", "wikidata Q1"}, {"Copper Kite", "--picture", "household.toml"}} {
		if _, errs, code := m.run("", append([]string{"shelf", "match"}, args...)...); code != problem.ExitUsage {
			t.Errorf("%v: code %d, %s", args, code, errs)
		}
	}
}
