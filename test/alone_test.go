package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"cozyshelf/internal/demo"
	"cozyshelf/internal/testbuild"

	"golang.org/x/sys/unix"
)

// TestTwoDeploymentsAtOnceTakeTurns starts several at the same time: one does the
// work, the others wait, say for whom, and find nothing to do.
func TestTwoDeploymentsAtOnceTakeTurns(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	const n = 4
	outs := make([]string, n)
	var wg sync.WaitGroup
	for i := range n {
		wg.Go(func() {
			c := m.command("deploy", "--yes")
			out, err := c.CombinedOutput()
			if outs[i] = string(out); err != nil {
				t.Errorf("deployment %d: %v\n%s", i, err, out)
			}
		})
	}
	wg.Wait()
	idle := 0
	for _, o := range outs {
		if strings.Contains(o, "Nothing to do") {
			idle++
		}
	}
	if idle != n-1 {
		t.Errorf("%d of %d had nothing to do:\n%s", idle, n, strings.Join(outs, "\n---\n"))
	}
	// Somebody else holds the lock.
	f, err := os.Open(m.path("household.toml"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX); err != nil {
		t.Fatal(err)
	}
	c := m.command("stop")
	var said bytes.Buffer
	c.Stderr = &said
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- c.Wait() }()
	select {
	case err := <-done:
		t.Errorf("it did not wait: %v %s", err, said.String())
	case <-time.After(time.Second):
	}
	if out := m.must("deploy", "--dry-run"); !strings.Contains(out, "Nothing to do") {
		t.Errorf("looking waits for nobody: %s", out)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_UN); err != nil {
		t.Fatal(err)
	}
	if err := <-done; err != nil || !strings.Contains(said.String(), fmt.Sprint(os.Getpid())) {
		t.Errorf("after waiting: %v, said %q, want the process %d", err, said.String(), os.Getpid())
	}
}

// TestWhoWatchesIsNamedAndCanBeWaitedFor changes the port while somebody watches.
func TestWhoWatchesIsNamedAndCanBeWaitedFor(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	until(t, "the first scan", 20*time.Second, func() bool { return m.titles("films") > 0 })
	v := m.viewer(demo.People[0].Name)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	watching := make(chan error, 1)
	f, err := v.Find(ctx, "films", "The Paper Lighthouse", "")
	if err != nil {
		t.Fatal(err)
	}
	go func() { watching <- v.Watch(ctx, f, 15) }()
	m.edit(fmt.Sprintf("port    = %d", m.port), fmt.Sprintf("port    = %d", testbuild.Port(t)))
	until(t, "the stream", 20*time.Second,
		func() bool { return strings.Contains(m.must("usage", "now"), demo.People[0].Name) })
	if out := m.must("deploy", "--dry-run"); !strings.Contains(out, demo.People[0].Name+" is watching") {
		t.Errorf("deploy --dry-run says:\n%s", out)
	}
	if _, errs, code := m.run("", "deploy", "--yes", "--gently", "--for", "1s"); code != 1 ||
		!strings.Contains(errs, "1 stream is still playing") {
		t.Errorf("--gently --for 1s: code %d, %s", code, errs)
	}
	if _, _, code := m.run("", "deploy", "--for", "1s"); code != 2 {
		t.Errorf("--for without --gently: code %d", code)
	}
	c := m.command("deploy", "--yes", "--gently", "--for", "3m")
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	if err := <-watching; err != nil {
		t.Errorf("watching: %v", err)
	}
	if err := c.Wait(); err != nil || !strings.Contains(out.String(), "Waiting for 1 stream") {
		t.Errorf("--gently: %v\n%s", err, out.String())
	}
}

// TestLogsAreChosenByLevelAndWords asks for parts of a real server's log.
func TestLogsAreChosenByLevelAndWords(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	until(t, "the first scan", 20*time.Second,
		func() bool { return strings.Contains(m.must("logs", "--grep", "MSG=scanned"), "shelf=series") })
	for _, l := range strings.Split(strings.TrimSpace(m.must("logs", "--grep", "msg=scanned")), "\n") {
		if !strings.Contains(l, "msg=scanned") {
			t.Errorf("a line that was not asked for: %s", l)
		}
	}
	if out := m.must("logs", "--level", "error"); out != "" {
		t.Errorf("there are errors: %s", out)
	}
	line := m.must("logs", "--json", "--grep", "serving", "--tail", "1")
	var doc struct{ Time, Level, Msg, Household string }
	if err := json.Unmarshal([]byte(line), &doc); err != nil || doc.Level != "INFO" || doc.Msg != "serving" ||
		doc.Household != "Fernhollow Mill" || doc.Time == "" {
		t.Errorf("got %s, %v", line, err)
	}
	if _, _, code := m.run("", "logs", "--level", "loud"); code != 2 {
		t.Errorf("a level that there is not: code %d", code)
	}
}
