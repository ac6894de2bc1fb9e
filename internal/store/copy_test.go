package store

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/testbuild"
)

// sqlite3cli asks the sqlite3 program.
func sqlite3cli(t *testing.T, db, question string) string {
	t.Helper()
	if _, err := exec.LookPath("sqlite3"); err != nil {
		testbuild.Missing(t, "sqlite3")
	}
	out, err := exec.Command("sqlite3", "-readonly", "file:"+
		strings.ReplaceAll(strings.ReplaceAll(db, "%", "%25"), "?", "%3f"), question).CombinedOutput()
	if err != nil {
		t.Fatalf("sqlite3: %v\n%s", err, out)
	}
	return strings.TrimSpace(string(out))
}

// TestASnapshotTakenWhileWritingIsWhole takes copies while plays are written, and
// asks sqlite3 of each: it is sound, and it holds all that was acknowledged before
// it began.
func TestASnapshotTakenWhileWritingIsWhole(t *testing.T) {
	s, path := fresh(t)
	add(t, s, "wren", allowance.Admin)
	stop, written := make(chan struct{}), make(chan int)
	go func() {
		n := 0
		for {
			select {
			case <-stop:
				written <- n
				return
			default:
			}
			if _, err := s.BeginPlay(ctx, usage.Play{Member: "wren", Title: strings.Repeat("x", n%5000)}, 1, int64(n),
				time.Now()); err != nil {
				t.Error(err)
			}
			n++
		}
	}()
	dir := t.TempDir()
	for i := range 12 {
		had, err := s.Plays(ctx, usage.Filter{})
		if err != nil {
			t.Fatal(err)
		}
		to := filepath.Join(dir, string(rune('a'+i))+" %.db")
		do := func() error { return s.Snapshot(ctx, to) }
		if i%2 == 1 {
			do = func() error { return Copy(ctx, path, to) }
		}
		if err := do(); err != nil {
			t.Fatal(err)
		}
		if got := sqlite3cli(t, to, "PRAGMA integrity_check"); got != "ok" {
			t.Errorf("copy %d: %s", i, got)
		}
		f, err := Inspect(ctx, to, true)
		if err != nil || f.Plays < len(had) || f.Members != 1 || f.Format != Newest() {
			t.Errorf("copy %d: got %+v, %v; want %d plays at least", i, f, err, len(had))
		}
		if err := do(); !errors.Is(err, os.ErrExist) {
			t.Errorf("copy %d over what is there: got %v", i, err)
		}
	}
	close(stop)
	if n := <-written; n < 20 {
		t.Errorf("only %d plays were written meanwhile", n)
	}
}

func TestDamageIsNamed(t *testing.T) {
	s, path := fresh(t)
	add(t, s, "wren", allowance.Admin)
	for i := range 400 {
		if _, err := s.BeginPlay(ctx, usage.Play{Member: "wren", Title: strings.Repeat("y", 900)}, 1, int64(i),
			time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Check(ctx); err != nil {
		t.Errorf("a sound store: %v", err)
	}
	s.Close()
	if err := Settle(ctx, path); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(path + "-wal"); err == nil {
		t.Error("the log is still there")
	}
	good, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	before := sqlite3cli(t, path, ".dump")
	for name, spoil := range map[string]func([]byte) []byte{
		"cut in half": func(b []byte) []byte { return b[:len(b)/2] },
		"header":      func(b []byte) []byte { copy(b, "no database at all"); return b },
		"a page":      func(b []byte) []byte { copy(b[4096*20:], bytes.Repeat([]byte{0xa5}, 4096)); return b },
		"empty":       func([]byte) []byte { return nil },
		"other file":  func([]byte) []byte { return []byte(strings.Repeat("orchard picnic ", 9000)) },
	} {
		t.Run(name, func(t *testing.T) {
			p := filepath.Join(t.TempDir(), "store.db")
			if err := os.WriteFile(p, spoil(bytes.Clone(good)), 0o600); err != nil {
				t.Fatal(err)
			}
			_, err := Inspect(ctx, p, true)
			if err == nil || name != "empty" && !errors.Is(err, ErrDamaged) {
				t.Errorf("got %v, want ErrDamaged", err)
			}
		})
	}
	if _, err := Inspect(ctx, path, true); err != nil {
		t.Error(err)
	}
	if after := sqlite3cli(t, path, ".dump"); after != before {
		t.Error("looking at the store changed it")
	}
}

func TestAStoreOfANewerProgramIsLeftAlone(t *testing.T) {
	s, path := fresh(t)
	if _, err := s.w.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (?, 1)",
		Newest()+1); err != nil {
		t.Fatal(err)
	}
	s.Close()
	if _, err := Open(ctx, path); !errors.Is(err, ErrNewer) {
		t.Errorf("got %v, want ErrNewer", err)
	}
	if f, err := Inspect(ctx, path, false); err != nil || f.Format != Newest()+1 {
		t.Errorf("got %+v, %v", f, err)
	}
}

func TestWhatCameSince(t *testing.T) {
	s, path := fresh(t)
	add(t, s, "wren", allowance.Admin)
	if _, err := s.BeginPlay(ctx, usage.Play{Member: "wren"}, 1, 1, time.Now()); err != nil {
		t.Fatal(err)
	}
	time.Sleep(5 * time.Millisecond)
	then := time.Now()
	time.Sleep(5 * time.Millisecond)
	add(t, s, "ozan", allowance.Adult)
	for i := range 3 {
		if _, err := s.BeginPlay(ctx, usage.Play{Member: "ozan"}, 2, int64(10+i), time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	got, err := LookSince(ctx, path, then)
	if err != nil || len(got.Members) != 1 || got.Members[0] != "ozan" || got.Plays != 3 {
		t.Errorf("got %+v, %v", got, err)
	}
}
