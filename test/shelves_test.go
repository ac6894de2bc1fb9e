package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/library"
	"cozyshelf/internal/demo"
)

// within waits until something holds.
func within(t *testing.T, most time.Duration, what string, holds func() bool) {
	t.Helper()
	for began := time.Now(); time.Since(began) < most; time.Sleep(50 * time.Millisecond) {
		if holds() {
			return
		}
	}
	t.Fatalf("not within %s: %s", most, what)
}

// TestWhatChangesIsSeenAtOnce puts a file on a shelf, renames it while somebody has begun
// it, and takes it away.
func TestWhatChangesIsSeenAtOnce(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		m.must("deploy", "--yes")
		m.add(demo.People[0])
		films := m.path("media/films")
		first, err := filepath.Glob(filepath.Join(films, "*Lighthouse*"))
		if err != nil || len(first) != 1 {
			t.Fatalf("%v, %v", first, err)
		}
		within(t, 20*time.Second, "the first scan", func() bool { return m.titles("films") == 6 })
		token := m.token("wren")
		if res, text := m.get("PUT", "/api/v1/files/1/position", `{"position":5,"state":"playing"}`, "Authorization",
			"Bearer "+token, "Content-Type", "application/json"); res.StatusCode != 200 {
			t.Fatalf("%s %s", res.Status, text)
		}
		at := func(p string) (f control.File) {
			var sh struct {
				Contents []struct{ Files []control.File }
			}
			m.document(&sh, "shelf", "show", "films")
			for _, c := range sh.Contents {
				for _, f := range c.Files {
					if f.Path == p {
						return f
					}
				}
			}
			return f
		}
		var begun string
		var sh struct {
			Contents []struct{ Files []control.File }
		}
		m.document(&sh, "shelf", "show", "films")
		for _, c := range sh.Contents {
			for _, f := range c.Files {
				if f.ID == 1 {
					begun = f.Path
				}
			}
		}
		to := "elsewhere/Renamed While Watched (2014)" + filepath.Ext(begun)
		if err := os.MkdirAll(filepath.Dir(filepath.Join(films, to)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(filepath.Join(films, begun), filepath.Join(films, to)); err != nil {
			t.Fatal(err)
		}
		within(t, 10*time.Second, "the renamed film", func() bool { return at(to).ID == 1 })
		if res, text := m.get("GET", "/api/v1/files/1", "", "Authorization", "Bearer "+token); res.StatusCode != 200 ||
			!strings.Contains(text, `"resume_at":`) {
			t.Errorf("%s %s", res.Status, text)
		}
		var hits []control.Hit
		if m.document(&hits, "shelf", "find", "RENAMED", "whi"); len(hits) != 1 ||
			hits[0].Title.Name != "Renamed While Watched" {
			t.Errorf("found %+v", hits)
		}
		if err := os.Remove(filepath.Join(films, to)); err != nil {
			t.Fatal(err)
		}
		within(t, 10*time.Second, "the removed film", func() bool { return m.titles("films") == 5 })

		var list []library.Issue
		m.document(&list, "shelf", "show", "--problems", "series")
		unreadable := 0
		for _, p := range list {
			if p.Sort == library.Unreadable {
				unreadable++
			}
		}
		if unreadable != 2 {
			t.Errorf("problems: %+v", list)
		}
		for _, args := range [][]string{{"shelf", "show"}, {"shelf", "show", "--problems"}} {
			if out := m.must(args...); len(out) < 100 {
				t.Errorf("%v: %q", args, out)
			}
		}
	})
}
