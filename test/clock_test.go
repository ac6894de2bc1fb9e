package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/testbuild"
)

// TestTheClockJumps sets the clock of a server that runs, ahead and back, as a machine
// does that finds the time after it was started. Only what counts time on stays as it is.
func TestTheClockJumps(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.program = testbuild.Variant{Jumps: true}.Program(t)
	set := func(by time.Duration) {
		t.Helper()
		clock := testbuild.Clock(m.program)
		if err := os.WriteFile(clock+".new", []byte(strconv.FormatInt(int64(by/time.Second), 10)), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(clock+".new", clock); err != nil {
			t.Fatal(err)
		}
		for range 100 {
			res, _ := m.get("GET", "/healthz", "")
			at, err := http.ParseTime(res.Header.Get("Date"))
			if err == nil && time.Since(at.Add(-by)).Abs() < 10*time.Second {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		t.Fatal("the server's clock was not set")
	}
	const year = 365 * 24 * time.Hour
	set0 := func() { // before there is a server to ask
		if err := os.WriteFile(testbuild.Clock(m.program), []byte(fmt.Sprint(-int64(20*year/time.Second))),
			0o644); err != nil {
			t.Fatal(err)
		}
	}
	set0()
	m.must("deploy", "--yes")
	m.add(demo.People...)
	early := m.token("wren")
	report := func(token string, file int, at float64, want int) {
		t.Helper()
		body := fmt.Sprintf(`{"position":%g,"state":"playing"}`, at)
		if res, text := m.get("PUT", fmt.Sprintf("/api/v1/files/%d/position", file), body, "Authorization", "Bearer "+
			token, "Content-Type", "application/json"); res.StatusCode != want {
			t.Fatalf("a report: %s, want %d: %s", res.Status, want, text)
		}
	}
	report(early, 1, 1, 200)
	at, told := 1.0, 1
	for _, by := range []time.Duration{0, 3 * time.Hour, -3 * time.Hour, 40 * 24 * time.Hour, 0, -5 * year, 0} {
		set(by)
		token := early
		if by == 0 && told == 1 {
			// Twenty years went by for the server: who signed in before does so again.
			report(token, 1, at, 401)
			early = m.token("wren")
			token = early
		}
		at += 0.25
		report(token, 1, at, 200)
		told++
		if m.health() != "ready" {
			t.Errorf("%s on: %s", by, m.health())
		}
	}
	// A clock that is far ahead ends sign-ins only while it is.
	set(10 * year)
	report(early, 1, at, 401)
	m.token("wren")
	set(0)
	report(early, 1, at+0.5, 200)

	out, err := exec.Command("sqlite3", "-json", filepath.Join(m.path("state"), backup.Store),
		"SELECT count(*) AS plays, sum(watched) AS watched, sum(seen < started) + sum(ended <> 0 AND ended < "+
			"started) AS wrong, max(position) AS position FROM plays").Output()
	if err != nil {
		t.Fatal(err)
	}
	var got []struct {
		Plays, Wrong      int
		Watched, Position float64
	}
	if err := json.Unmarshal(out, &got); err != nil || len(got) != 1 {
		t.Fatalf("%v: %s", err, out)
	}
	// It was one play for somebody who watched, in two devices; a busy machine adds some of the time between.
	if g := got[0]; g.Plays != 2 || g.Wrong != 0 || g.Position != at+0.5 || g.Watched < 0 || g.Watched > at+3 {
		t.Errorf("plays: %+v, and the last report was %g", g, at+0.5)
	}
	if out := m.must("usage", "now"); !strings.Contains(out, "wren") {
		t.Errorf("streams now:\n%s", out)
	}
	m.must("stop")
	set0()
	m.must("start")
	report(m.token("wren"), 1, 2, 200)
	m.must("ledger", "verify")
}
