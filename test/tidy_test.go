package test

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/testbuild"
)

// misname gives films of the household names as they come from elsewhere.
func (m *mill) misname() {
	m.t.Helper()
	films := m.path("media/films")
	for from, to := range map[string]string{
		"The Understudy Moon (1996).mp4": "the.understudy.moon.(1996).1080p.mp4",
		"Copper Kite (2003).mkv":         "new/Copper_Kite_(2003)_x264/Copper_Kite_(2003)_x264.mkv",
	} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(films, to)), 0o755); err != nil {
			m.t.Fatal(err)
		}
		if err := os.Rename(filepath.Join(films, from), filepath.Join(films, to)); err != nil {
			m.t.Fatal(err)
		}
	}
	for p, text := range map[string]string{
		"the.understudy.moon.(1996).1080p.lv.srt":          "1\n00:00:01,000 --> 00:00:02,000\nLabvakar\n",
		"new/Copper_Kite_(2003)_x264/made by somebody.txt": "x",
	} {
		if err := os.WriteFile(filepath.Join(films, p), []byte(text), 0o644); err != nil {
			m.t.Fatal(err)
		}
	}
}

// relative gives what is below a folder, by paths relative to it.
func relative(t testing.TB, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	for p, h := range hashes(t, dir) {
		if rel, err := filepath.Rel(dir, p); err == nil {
			out[rel] = h
		}
	}
	return out
}

// entry gives the number of the last entry of the ledger with an action that can be taken
// back.
func (m *mill) entry(action string) string {
	m.t.Helper()
	m.must("ledger") // enters what the server told
	list, _, err := ledger.Read(m.path("state"))
	if err != nil {
		m.t.Fatal(err)
	}
	for _, e := range slices.Backward(list) {
		if e.Action == action && e.UndoneBy == 0 {
			return fmt.Sprint(e.ID)
		}
	}
	m.t.Fatalf("no entry %q", action)
	return ""
}

func decode(t testing.TB, text string, v any) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), v); err != nil {
		t.Fatalf("%v: %s", err, text)
	}
}

func TestNamesAreTidiedWhilePeopleWatch(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.misname()
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	within(t, 20*time.Second, "the first scan", func() bool { return m.titles("films") == 6 })
	token := m.token("wren")
	var hits []control.Hit
	m.document(&hits, "shelf", "find", "understudy")
	var files struct{ Files []control.File }
	_, text := m.get("GET", fmt.Sprintf("/api/v1/titles/%d", hits[0].Title.ID), "", "Authorization", "Bearer "+token)
	decode(t, text, &files)
	file := files.Files[0].ID
	report := func(state string) {
		t.Helper()
		if res, text := m.get("PUT", fmt.Sprintf("/api/v1/files/%d/position", file),
			`{"position":5,"state":"`+state+`"}`, "Authorization", "Bearer "+token, "Content-Type",
			"application/json"); res.StatusCode != 200 {
			t.Fatalf("%s %s", res.Status, text)
		}
	}
	media := relative(t, m.path("media/films"))
	report("playing")
	if out, _, code := m.run("", "tidy", "films"); code != problem.ExitRefused ||
		!strings.Contains(out, "wren watches it now") {
		t.Errorf("while it is watched: code %d\n%s", code, out)
	}
	if now := relative(t, m.path("media/films")); len(now) != len(media) ||
		now["the.understudy.moon.(1996).1080p.mp4"] == "" {
		t.Error("showing renamed something")
	}
	report("stopped")
	out := m.must("tidy", "films", "--yes", "--hash")
	for _, want := range []string{"The understudy", "was the.understudy.moon.(1996).1080p.mp4", "with"} {
		if !strings.Contains(strings.ToLower(out), strings.ToLower(want)) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	now := relative(t, m.path("media/films"))
	for _, p := range []string{"the understudy moon (1996) [1080p].mp4", "the understudy moon (1996) [1080p].lv.srt",
		"new/Copper Kite (2003)/Copper Kite (2003) [x264].mkv", "new/Copper Kite (2003)/made by somebody.txt"} {
		if now[p] == "" {
			t.Errorf("%s is missing: %v", p, now)
		}
	}
	// The place in the film is where it was.
	var f struct {
		Path     string
		ResumeAt float64 `json:"resume_at"`
	}
	_, text = m.get("GET", fmt.Sprintf("/api/v1/files/%d", file), "", "Authorization", "Bearer "+token)
	if decode(t, text, &f); f.ResumeAt != 5 || f.Path != "the understudy moon (1996) [1080p].mp4" {
		t.Errorf("after: %+v", f)
	}
	if out := m.must("tidy", "films", "--yes"); strings.Contains(out, " was ") {
		t.Errorf("again:\n%s", out)
	}
	undo := m.entry("rename")
	m.must("undo", undo, "--yes")
	if now = relative(t, m.path("media/films")); !maps.Equal(media, now) {
		t.Errorf("after undo: %v, was %v", now, media)
	}
	for _, args := range [][]string{{"tidy", "nowhere"}, {"tidy", "--scheme", "odd"}, {"tidy", "--pick", "x"},
		{"tidy", "--pick", "99"}} {
		if _, _, code := m.run("", args...); code != problem.ExitUsage {
			t.Errorf("%v: code %d", args, code)
		}
	}
}

// TestTidyingIsCutOffAnywhere makes every step fail, and kills the program before and
// after it; then either the next run finishes, or undo puts every name back.
func TestTidyingIsCutOffAnywhere(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.misname()
	m.program = testbuild.Variant{Tags: "crashpoint"}.Program(t)
	before := relative(t, m.path("media/films"))
	m.must("tidy", "films", "--yes")
	after := relative(t, m.path("media/films"))
	m.must("undo", m.entry("rename"), "--yes")
	for n := 1; ; n++ {
		through := true
		for i, how := range []string{"fail", "before", "after"} {
			if n > 3 && i != n%3 {
				continue // by then one way a step is enough
			}
			m.env = append(m.env, fmt.Sprintf("COZYSHELF_CRASHPOINT=%s:%d", how, n))
			_, _, code := m.run("", "tidy", "films", "--yes")
			m.env = m.env[:len(m.env)-1]
			if code == 0 {
				break
			}
			through = false
			if (n+i)%2 == 0 {
				m.must("undo", m.entry("rename"), "--yes")
				if now := relative(t, m.path("media/films")); !maps.Equal(before, now) {
					t.Fatalf("%s:%d, undone: %v", how, n, now)
				}
				continue
			}
			m.must("tidy", "films", "--yes")
			if now := relative(t, m.path("media/films")); !maps.Equal(after, now) {
				t.Fatalf("%s:%d, finished: %v, want %v", how, n, now, after)
			}
			m.must("undo", m.entry("rename"), "--yes")
		}
		if through {
			if n < 5 {
				t.Errorf("only %d steps", n)
			}
			break
		}
	}
	m.must("ledger", "verify")
}
