package test

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/testbuild"
)

func noise(n int) []byte {
	b := make([]byte, n)
	r := rand.NewChaCha8([32]byte{9})
	_, _ = r.Read(b)
	return b
}

// TestWhatComesInIsOnTheShelfAtOnce copies from a disk, is killed in the midst of it, goes
// on, and takes it back.
func TestWhatComesInIsOnTheShelfAtOnce(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	within(t, 20*time.Second, "the first scan", func() bool { return m.titles("films") == 6 })
	disk := m.path("disk")
	big := noise(100 << 20)
	for p, b := range map[string][]byte{"rain.over.the.mill.(2001).avi": big,
		"rain.over.the.mill.(2001).lv.srt": []byte("1"), "second (2002).avi": []byte("RIFF second"),
		"notes.txt": []byte("x")} {
		if err := os.MkdirAll(disk, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(disk, p), b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	before := relative(t, m.path("media/films"))
	if out, _, code := m.run("", "intake", "copy", disk, "--onto", "films"); code != problem.ExitRefused ||
		!strings.Contains(out, "rain over the mill (2001).avi") || !strings.Contains(out, "notes.txt") {
		t.Errorf("code %d\n%s", code, out)
	}
	c := m.command("intake", "copy", disk, "--onto", "films", "--move", "--yes")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	var list []struct {
		ID, State string
		Done      int64
	}
	for range 400 {
		if m.document(&list, "intake", "list"); len(list) == 1 && list[0].Done > 0 {
			break
		}
		held, _ := filepath.Glob(m.path("media/films/.cozyshelf-intake/*/1.avi"))
		if len(held) == 1 {
			break
		}
		time.Sleep(2 * time.Millisecond)
	}
	_ = c.Process.Kill() // it may have been faster
	cut := c.Wait() != nil
	if cut {
		for p := range relative(t, m.path("media/films")) {
			if before[p] == "" && !strings.HasPrefix(p, ".cozyshelf-intake") {
				t.Errorf("half of it is on the shelf: %s", p)
			}
		}
		if m.document(&list, "intake", "list"); len(list) != 1 || list[0].State != "cut off" {
			t.Errorf("jobs: %+v", list)
		}
	}
	m.must("intake", "copy", disk, "--onto", "films", "--move", "--yes")
	got, err := os.ReadFile(m.path("media/films/rain over the mill (2001).avi"))
	if err != nil || !bytes.Equal(got, big) {
		t.Errorf("%v, %d of %d bytes", err, len(got), len(big))
	}
	if left, err := os.ReadDir(disk); err != nil || len(left) != 1 || left[0].Name() != "notes.txt" {
		t.Errorf("left on the disk: %v, %v", left, err)
	}
	// The server was told.
	var hits []control.Hit
	if m.document(&hits, "shelf", "find", "rain over"); len(hits) != 1 {
		t.Errorf("found %+v", hits)
	}
	var l control.Library
	if m.document(&l.Lately, "usage", "lately"); len(l.Lately) < 2 ||
		!strings.Contains(l.Lately[0].Name+l.Lately[1].Name, "rain over the mill") {
		t.Errorf("lately: %+v", l.Lately)
	}
	m.must("undo", m.entry("intake"), "--yes")
	within(t, 10*time.Second, "the films gone again", func() bool { return m.titles("films") == 6 })
	if m.document(&list, "intake", "list"); len(list) != 1 || list[0].State != "taken back" {
		t.Errorf("jobs: %+v", list)
	}
	m.must("undo", m.entry("undo"), "--yes")
	m.must("undo", m.entry("undo"), "--yes")
	m.document(&list, "intake", "list")
	m.must("intake", "clear", list[0].ID, "--yes")
	m.entry("discard") // what is gone for good is in the ledger
	if now := relative(t, m.path("media/films")); len(now) != len(before) {
		t.Errorf("after all: %v", now)
	}
}

// TestPlacingIsCutOffAnywhere kills the tool around every rename that puts things on the
// shelf.
func TestPlacingIsCutOffAnywhere(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.program = testbuild.Variant{Tags: "crashpoint"}.Program(t)
	disk := m.path("disk")
	for n := 1; n < 20; n++ {
		if err := os.MkdirAll(filepath.Join(disk, "new"), 0o755); err != nil {
			t.Fatal(err)
		}
		for i := range 3 {
			if err := os.WriteFile(filepath.Join(disk, "new", fmt.Sprintf("film %d %d (2001).avi", n, i)),
				[]byte(fmt.Sprint("RIFF ", n, i)), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		how := []string{"fail", "before", "after"}[n%3]
		m.env = append(m.env, fmt.Sprintf("COZYSHELF_CRASHPOINT=%s:%d", how, (n+2)/3))
		_, _, code := m.run("", "intake", "copy", disk, "--onto", "films", "--move", "--yes")
		m.env = m.env[:len(m.env)-1]
		m.must("intake", "copy", disk, "--onto", "films", "--move", "--yes")
		now := relative(t, m.path("media/films"))
		for i := range 3 {
			if p := fmt.Sprintf("new/film %d %d (2001).avi", n, i); now[p] == "" {
				t.Fatalf("%s:%d (code %d): %s is missing: %v", how, (n+2)/3, code, p, now)
			}
		}
		for p := range now {
			if strings.HasPrefix(p, ".cozyshelf-intake") {
				t.Fatalf("%s:%d: %s is left", how, (n+2)/3, p)
			}
		}
		if code == 0 {
			if n < 6 {
				t.Errorf("only %d steps", n)
			}
			break
		}
	}
	m.must("ledger", "verify")
}

// TestFetchedFromTheWeb fetches from a server that cuts every answer off.
func TestFetchedFromTheWeb(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	film, err := os.ReadFile(m.path("media/films/The Understudy Moon (1996).mp4"))
	if err != nil {
		t.Fatal(err)
	}
	film = append(film, "\x00\x00\x00\x10freeanother"...)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/a.film.by.wren.(2020).mp4" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("ETag", `"1"`)
		half := &halting{w, len(film) / 2}
		http.ServeContent(half, r, "a.mp4", time.Time{}, bytes.NewReader(film))
	}))
	defer srv.Close()
	address := srv.URL + "/a.film.by.wren.(2020).mp4"
	if _, errs, code := m.run("", "intake", "fetch", address, "--onto", "films"); code != 1 ||
		!strings.Contains(errs, "--private") {
		t.Errorf("this machine: code %d, %s", code, errs)
	}
	for _, args := range [][]string{{"file:///etc/passwd"}, {address, "--sha256", "1"}, {address, "--limit", "x"}, {}} {
		if _, _, code := m.run("", append([]string{"intake", "fetch", "--onto", "films"},
			args...)...); code != problem.ExitUsage {
			t.Errorf("%v: code %d", args, code)
		}
	}
	if _, errs, code := m.run("", "intake", "fetch", address, srv.URL+"/none.mp4", "--onto", "films",
		"--private"); code != 1 || !strings.Contains(errs, "404") {
		t.Errorf("code %d, %s", code, errs)
	}
	got, err := os.ReadFile(m.path("media/films/a film by wren (2020)/a film by wren (2020).mp4"))
	if err != nil || !bytes.Equal(got, film) {
		t.Errorf("%v, %d of %d bytes", err, len(got), len(film))
	}
	// Once more, it is there, whatever it is to be called; and a sum is held against each.
	sum := fmt.Sprintf("%x", sha256.Sum256(film))
	before := relative(t, m.path("media/films"))
	if out := m.must("intake", "fetch", address, "--onto", "films", "--private", "--name", "Another (2021).mp4",
		"--sha256", sum); !strings.Contains(out, "there already") {
		t.Errorf("the same again:\n%s", out)
	}
	if _, errs, code := m.run("", "intake", "fetch", address, address+"?2", "--onto", "films", "--private", "--sha256",
		sum, "--sha256", strings.Repeat("0", 64)); code != 1 || !strings.Contains(errs, "SHA-256") {
		t.Errorf("two with sums: code %d, %s", code, errs)
	}
	if now := relative(t, m.path("media/films")); !maps.Equal(now, before) {
		for p := range now {
			if before[p] == "" && !strings.HasPrefix(p, ".cozyshelf-intake") {
				t.Errorf("there is %s now", p)
			}
		}
	}
}

// halting ends an answer after some bytes.
type halting struct {
	http.ResponseWriter
	left int
}

func (h *halting) Write(b []byte) (int, error) {
	if h.left <= 0 {
		panic(http.ErrAbortHandler)
	}
	n := min(len(b), h.left)
	h.left -= n
	m, err := h.ResponseWriter.Write(b[:n])
	if err == nil && n < len(b) {
		h.ResponseWriter.(http.Flusher).Flush()
		panic(http.ErrAbortHandler)
	}
	return m, err
}
