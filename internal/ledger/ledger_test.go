package ledger

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/boundary"
)

func TestEntriesStayReadableAfterACrashInTheMiddleOfALine(t *testing.T) {
	dir := t.TempDir()
	add := func(what string) {
		t.Helper()
		if _, err := Append(dir, Entry{At: time.Now(), What: what}); err != nil {
			t.Fatal(err)
		}
	}
	add("one")
	add("two")
	p := filepath.Join(boundary.Admin(dir), File)
	b, err := os.ReadFile(p)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(p, b[:len(b)-9], 0o600); err != nil {
		t.Fatal(err)
	}
	add("three")
	list, damaged, err := Read(dir)
	if err != nil || damaged != 1 || len(list) != 2 || list[0].What != "one" || list[1].What != "three" {
		t.Errorf("got %+v, %d damaged, %v", list, damaged, err)
	}
	if st, _ := os.Stat(p); st.Mode().Perm() != 0o600 {
		t.Errorf("mode %o", st.Mode().Perm())
	}
}

func TestWhatWasBegunStaysOpenUntilItIsEnded(t *testing.T) {
	dir := t.TempDir()
	one, err := Begin(dir, Entry{What: "one", Undo: &Undo{Kind: "access", Kept: "x"}})
	if err != nil {
		t.Fatal(err)
	}
	two, err := Append(dir, Entry{What: "two", Outcome: "done"})
	if err != nil || two != one+1 {
		t.Fatalf("entry %d after %d, %v", two, one, err)
	}
	list, _, _ := Read(dir)
	if len(list) != 2 || list[0].Outcome != Open || list[0].Undo == nil {
		t.Fatalf("got %+v", list)
	}
	if err := End(dir, one, "done"); err != nil {
		t.Fatal(err)
	}
	three, err := Begin(dir, Entry{What: "back", Undoes: one})
	if err != nil {
		t.Fatal(err)
	}
	if list, _, _ = Read(dir); list[0].Outcome != "done" || list[0].UndoneBy != 0 {
		t.Errorf("undoing is not done yet: got %+v", list[0])
	}
	if err := End(dir, three, "done"); err != nil {
		t.Fatal(err)
	}
	if list, _, _ = Read(dir); len(list) != 3 || list[0].UndoneBy != three {
		t.Errorf("got %+v", list)
	}
}

func TestTheChainShowsWhatWasChanged(t *testing.T) {
	dir := t.TempDir()
	for _, what := range []string{"one", "two", "three", "four"} {
		if _, err := Append(dir, Entry{What: what}); err != nil {
			t.Fatal(err)
		}
	}
	p := filepath.Join(boundary.Admin(dir), File)
	whole, err := os.ReadFile(p)
	if err != nil {
		t.Fatal(err)
	}
	if n, wrong, err := Verify(dir); n != 4 || wrong != 0 || err != nil {
		t.Fatalf("untouched: %d lines, %d wrong, %v", n, wrong, err)
	}
	rows := strings.SplitAfter(string(whole), "\n")
	for name, c := range map[string]struct {
		text  string
		wrong int
	}{
		"a word changed":  {strings.Replace(string(whole), "two", "owt", 1), 3},
		"a line less":     {rows[0] + rows[2] + rows[3], 2},
		"the first less":  {rows[1] + rows[2] + rows[3], 1},
		"lines exchanged": {rows[0] + rows[2] + rows[1] + rows[3], 2},
	} {
		if err := os.WriteFile(p, []byte(c.text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, wrong, err := Verify(dir); wrong != c.wrong || err != nil {
			t.Errorf("%s: line %d is wrong, want %d, %v", name, wrong, c.wrong, err)
		}
	}
	// A line that a crash cut off is no forgery.
	if err := os.WriteFile(p, whole[:len(whole)-7], 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Append(dir, Entry{What: "five"}); err != nil {
		t.Fatal(err)
	}
	if n, wrong, err := Verify(dir); n != 5 || wrong != 0 || err != nil {
		t.Errorf("after a crash: %d lines, %d wrong, %v", n, wrong, err)
	}
}

func TestWritersAtOnceTakeTurns(t *testing.T) {
	dir := t.TempDir()
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			for range 10 {
				if _, err := Append(dir, Entry{What: "x"}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	list, damaged, err := Read(dir)
	if err != nil || damaged != 0 || len(list) != 80 || list[79].ID != 80 {
		t.Fatalf("%d entries, %d damaged, %v", len(list), damaged, err)
	}
	if n, wrong, err := Verify(dir); n != 80 || wrong != 0 || err != nil {
		t.Errorf("%d lines, %d wrong, %v", n, wrong, err)
	}
}

func TestOnlyWhatIsOursAloneIsTakenBack(t *testing.T) {
	dir := t.TempDir()
	f, err := Keep(dir, "file")
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
	name := filepath.Base(f.Name())
	if g, err := OpenKept(dir, name); err != nil {
		t.Errorf("our own: %v", err)
	} else {
		g.Close()
	}
	if err := os.Chmod(f.Name(), 0o666); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenKept(dir, name); err == nil {
		t.Error("one that everybody may write was opened")
	}
	if err := os.Chmod(f.Name(), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Link(f.Name(), f.Name()+"2"); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenKept(dir, name); err == nil {
		t.Error("one with two names was opened")
	}
	if err := os.Symlink(f.Name(), filepath.Join(boundary.Admin(dir), Kept, "link")); err != nil {
		t.Fatal(err)
	}
	for _, n := range []string{"link", "../" + File, "", "none"} {
		if _, err := OpenKept(dir, n); err == nil {
			t.Errorf("%q was opened", n)
		}
	}
}

func TestWhatTheServerTellsIsEnteredOnce(t *testing.T) {
	state := t.TempDir()
	up := func(name string) Told {
		return Told{At: time.Now(), Who: "linnea", Shelf: "films", Folder: "/srv/media/films",
			File: Uploaded{Job: "a1", Held: "1.mp4", To: name, Size: 3}}
	}
	for _, name := range []string{"one.mp4", "two.mp4"} {
		if err := Tell(state, up(name)); err != nil {
			t.Fatal(err)
		}
	}
	saved, err := os.ReadFile(filepath.Join(state, Spool))
	if err != nil {
		t.Fatal(err)
	}
	if n, odd, err := TakeOver(state); n != 2 || odd != 0 || err != nil {
		t.Fatalf("entered %d, %d odd, %v", n, odd, err)
	}
	// Cut off before the spool went, and told of again.
	if err := os.WriteFile(filepath.Join(state, taken), saved, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Tell(state, up("three.mp4")); err != nil {
		t.Fatal(err)
	}
	for want := range 3 {
		n, _, err := TakeOver(state)
		if err != nil || n != []int{0, 1, 0}[want] {
			t.Errorf("try %d: entered %d, %v", want, n, err)
		}
	}
	list, _, _ := Read(state)
	if len(list) != 3 || list[2].Undo == nil || list[2].Undo.Kind != Upload ||
		!strings.Contains(list[2].What, "three.mp4") || list[2].Outcome != "done" {
		t.Errorf("got %+v", list)
	}
	if left, _ := os.ReadDir(state); len(left) != 0 && os.Getuid() == 0 {
		t.Errorf("left: %v", left)
	}
}

func TestASpoolIsNotBelieved(t *testing.T) {
	state := t.TempDir()
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte(`{"id":"x"}`), 0o600); err != nil {
		t.Fatal(err)
	}
	at := filepath.Join(state, Spool)
	for name, put := range map[string]func() error{
		"a link":    func() error { return os.Symlink(secret, at) },
		"hard link": func() error { return os.Link(secret, at) },
		"a pipe":    func() error { return syscall.Mkfifo(at, 0o600) },
		"a folder":  func() error { return os.MkdirAll(at+"/below", 0o700) },
		"rubbish":   func() error { return os.WriteFile(at, []byte("\x00{}\n[]\n{\"id\":\"a\"}\n"), 0o600) },
		"an undo": func() error {
			return os.WriteFile(at, []byte(`{"id":"a","at":"2026-11-27T10:00:00Z","who":"x","action":"x","undo":{"kind":"account","path":"root"},"shelf":"s","folder":"/","file":{"job":"..","held":"1","to":"../x"}}`+"\n"), 0o600)
		},
	} {
		if err := put(); err != nil {
			t.Fatal(err)
		}
		n, odd, err := TakeOver(state)
		if n != 0 || odd == 0 || err != nil {
			t.Errorf("%s: entered %d, %d odd, %v", name, n, odd, err)
		}
		if left, _ := os.ReadDir(state); len(left) > 1 {
			t.Errorf("%s: left %v", name, left)
		}
	}
	if b, err := os.ReadFile(secret); err != nil || string(b) != `{"id":"x"}` {
		t.Errorf("the file outside: %q, %v", b, err)
	}
	if list, _, _ := Read(state); len(list) != 0 {
		t.Errorf("entered: %+v", list)
	}
}

func TestASpoolIsBounded(t *testing.T) {
	state := t.TempDir()
	if err := os.WriteFile(filepath.Join(state, Spool), make([]byte, mostSpool), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Tell(state, Told{}); !errors.Is(err, ErrSpoolFull) {
		t.Errorf("got %v", err)
	}
}

func FuzzSpool(f *testing.F) {
	f.Add([]byte(`{"id":"a","at":"2026-11-27T10:00:00Z","who":"x","shelf":"s","folder":"/f","file":{"job":"a","held":"1","to":"x"}}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		list, _ := ParseSpool(b)
		for _, x := range list {
			e := x.entry()
			if e.Undo.Kind != Upload || e.Of != 0 || e.Undoes != 0 || e.ID != 0 || e.Undo.Kept != "" {
				t.Errorf("an entry of another kind: %+v", e)
			}
		}
	})
}

// TestALongLedgerIsReadFromItsEnd ends entries that were begun long before, among others with
// long lines, and looks whether every line follows from the one before.
func TestALongLedgerIsReadFromItsEnd(t *testing.T) {
	state := t.TempDir()
	long := strings.Repeat("x", 9000)
	var open []int
	for i := range 60 {
		e := Entry{Action: "step", What: fmt.Sprintf("%d", i)}
		if i%7 == 0 {
			e.What = long
		}
		id, err := Begin(state, e)
		if err != nil || id != i+1 {
			t.Fatalf("entry %d has the number %d: %v", i+1, id, err)
		}
		open = append(open, id)
	}
	for _, id := range open {
		if err := End(state, id, long); err != nil {
			t.Fatal(err)
		}
	}
	if id, err := Append(state, Entry{Action: "last"}); err != nil || id != 61 {
		t.Errorf("the next has the number %d: %v", id, err)
	}
	if n, wrong, err := Verify(state); err != nil || wrong != 0 || n != 121 {
		t.Errorf("%d lines, wrong is %d, %v", n, wrong, err)
	}
	list, damaged, err := Read(state)
	if err != nil || damaged != 0 || len(list) != 61 || list[0].Outcome != long {
		t.Errorf("%d entries, %d damaged, %v", len(list), damaged, err)
	}
}

// BenchmarkAppend adds to a ledger of 20,000 entries.
func BenchmarkAppend(b *testing.B) {
	state := b.TempDir()
	for range 10 {
		if _, err := Append(state, Entry{Action: "step", What: "make the state folder", Outcome: "done"}); err != nil {
			b.Fatal(err)
		}
	}
	path := filepath.Join(boundary.Admin(state), File)
	text, err := os.ReadFile(path)
	if err == nil {
		err = os.WriteFile(path, bytes.Repeat(text, 2000), 0o600)
	}
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if _, err := Append(state, Entry{Action: "step", Outcome: "done"}); err != nil {
			b.Fatal(err)
		}
	}
}
