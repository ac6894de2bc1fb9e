package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/testbuild"
)

// accessDoc is what others build on.
type accessDoc struct {
	Identity struct {
		UID, GID uint32
		Groups   []uint32
	}
	Folders []struct {
		Shelf, Host, Inside, Need string
		Files, Folders            int
		ReadableFiles             int `json:"readable_files"`
		ListableFolders           int `json:"listable_folders"`
		WritableFolders           int `json:"writable_folders"`
		Problems                  []struct {
			Path, Kind, Need, Cause, Detail string
			DecidedBy                       string `json:"decided_by"`
			Count                           int
		}
		Remedies []struct {
			ID, What, WhoGains string
			Smallest           bool
			Commands           []string
			Reaches            int
		}
		Exposures []struct{ Path, Kind, What string }
		Proof     *struct {
			Files, Tried, Read, Listed, Written, Failing int
			Disagreements                                []struct{ Path, Need string }
		}
	}
}

// access asks for the document; problems are no failure.
func (m *mill) access(args ...string) accessDoc {
	m.t.Helper()
	out, errs, code := m.run("", append([]string{"access", "--json"}, args...)...)
	var d accessDoc
	if err := json.Unmarshal([]byte(out), &d); err != nil || code != 0 && code != 3 {
		m.t.Fatalf("access %v: code %d, %v\n%s%s", args, code, err, out, errs)
	}
	return d
}

// attributes gives owners, modes and ACLs below a folder, as getfacl tells them.
func attributes(t *testing.T, dir string) string {
	t.Helper()
	c := exec.Command("getfacl", "-R", "-n", "--absolute-names", dir)
	out, err := c.Output()
	if err != nil {
		t.Fatal(err)
	}
	return string(out)
}

// TestTheUnreadableIsExplainedMendedProvenAndUndone goes the whole way on each
// engine.
func TestTheUnreadableIsExplainedMendedProvenAndUndone(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give files to others")
	}
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		series, films := m.path("media/series"), m.path("media/films")
		// Films belong to a group that may read them; series are shut altogether.
		for _, args := range [][]string{{"chown", "-R", "0:44017", films}, {"chmod", "-R", "u=rwX,g=rX,o=", films},
			{"chmod", "-R", "u=rwX,g=,o=", series}} {
			if out, err := exec.Command(args[0], args[1:]...).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", args, out)
			}
		}
		before := attributes(t, m.path("media"))
		file, err := os.ReadFile(m.path("household.toml"))
		if err != nil {
			t.Fatal(err)
		}
		d := m.access()
		if len(d.Folders) != 2 || d.Folders[0].ReadableFiles+d.Folders[1].ReadableFiles != 0 {
			t.Fatalf("before: %+v", d)
		}
		if r := d.Folders[0].Remedies; len(r) == 0 || r[0].ID != "join-group-44017" || !r[0].Smallest ||
			r[len(r)-1].ID != "open" || r[0].Reaches != d.Folders[0].Files+d.Folders[0].Folders {
			t.Errorf("remedies for films: %+v", r)
		}
		if r := d.Folders[1].Remedies; len(r) == 0 || r[0].ID != "acl-user" {
			t.Errorf("remedies for series: %+v", r)
		}
		if _, errs, code := m.run("", "access", "--mend"); code != 4 || !strings.Contains(errs, "--yes") {
			t.Errorf("without --yes: code %d, %s", code, errs)
		}
		if now := attributes(t, m.path("media")); now != before {
			t.Fatal("something was touched without being agreed to")
		}
		if _, errs, code := m.run("", "access", "--mend", "no-such-remedy", "--yes"); code != 2 ||
			!strings.Contains(errs, "no-such-remedy") {
			t.Errorf("a remedy that there is not: code %d, %s", code, errs)
		}
		out := m.must("access", "--mend", "--yes")
		if !strings.Contains(out, "now:") {
			t.Errorf("it said:\n%s", out)
		}
		d = m.access("--prove")
		for _, f := range d.Folders {
			if f.ReadableFiles != f.Files || f.Proof == nil || f.Proof.Read != f.Files || f.Proof.Tried != f.Files ||
				f.Proof.Listed != f.Folders || len(f.Proof.Disagreements) != 0 {
				t.Errorf("after mending: %+v", f)
			}
		}
		if d = m.access("--prove", "--sample", "2"); d.Folders[0].Proof.Tried != 2 ||
			d.Folders[0].Proof.Files != d.Folders[0].Files {
			t.Errorf("a sample: %+v", d.Folders[0].Proof)
		}
		m.must("deploy", "--yes")
		m.must("shelf", "scan")
		var undoable []int
		var entries []struct {
			ID       int
			Command  string
			Undo     *struct{ Kind string }
			UndoneBy int `json:"undone_by"`
			Outcome  string
		}
		m.document(&entries, "ledger")
		for _, e := range entries {
			if e.Undo != nil && e.Command == "access --mend" {
				undoable = append(undoable, e.ID)
			}
		}
		if len(undoable) != 2 {
			t.Fatalf("the ledger has %+v", entries)
		}
		// Somebody changes one of the files meanwhile.
		var changed string
		if err := filepath.WalkDir(series, func(p string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				changed = p
			}
			return err
		}); err != nil {
			t.Fatal(err)
		}
		if err := os.Chown(changed, 41777, 41777); err != nil {
			t.Fatal(err)
		}
		left := 0
		for _, id := range undoable {
			_, errs, code := m.run("", "undo", fmt.Sprint(id), "--yes")
			if code == 3 && strings.Contains(errs, changed) && strings.Contains(errs, "41777") {
				left++
			} else if code != 0 {
				t.Fatalf("undo %d: code %d, %s", id, code, errs)
			}
		}
		if left != 1 {
			t.Errorf("what changed since was told %d times", left)
		}
		if err := os.Chown(changed, 0, 0); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("setfacl", "-b", changed).CombinedOutput(); err != nil {
			t.Fatal(string(out))
		}
		if err := os.Chmod(changed, 0o600); err != nil {
			t.Fatal(err)
		}
		if now := attributes(t, m.path("media")); now != before {
			t.Errorf("after undoing:\n%s\nwas\n%s", now, before)
		}
		if now, err := os.ReadFile(m.path("household.toml")); err != nil || !bytes.Equal(now, file) {
			t.Errorf("the household file is\n%s\n%v", now, err)
		}
		if out := m.must("ledger", "verify"); !strings.Contains(out, "each following") {
			t.Errorf("ledger verify said %s", out)
		}
	})
}

// TestAMendThatIsKilledIsFinishedOrUndone kills the tool with -9 in the middle.
func TestAMendThatIsKilledIsFinishedOrUndone(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give files to others")
	}
	m := newMill(t, "process")
	films := m.path("media/films")
	for i := range 6000 {
		p := filepath.Join(films, fmt.Sprintf("box %d", i/500), fmt.Sprintf("film %d (2001).mp4", i))
		if i%500 == 0 {
			if err := os.Mkdir(filepath.Dir(p), 0o700); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.WriteFile(p, []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	before := attributes(t, films)
	r := rand.New(rand.NewPCG(20261123, 8))
	killed, entries := 0, 0
	for round := 0; killed < 4 && round < 40; round++ {
		c := m.command("access", "films", "--mend", "acl-user", "--yes")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		// As soon as the entry is begun, and a little later each time.
		deadline := time.Now().Add(20 * time.Second)
		for !bytes.Contains(read(filepath.Join(boundary.Admin(m.path("state")), "ledger.jsonl")),
			[]byte(fmt.Sprintf(`"id":%d,`, entries+1))) && time.Now().Before(deadline) {
			time.Sleep(time.Millisecond)
		}
		time.Sleep(time.Duration(r.IntN(40)) * time.Millisecond)
		_ = c.Process.Signal(syscall.SIGKILL) // it may have ended
		if c.Wait() == nil {
			// It was through before we came; back, and again.
			m.must("undo", fmt.Sprint(openOrLast(t, m)), "--yes")
			entries += 2
			continue
		}
		killed++
		entries += 2
		half := attributes(t, films)
		if killed%2 == 0 {
			m.must("access", "films", "--mend", "--yes")
			if d := m.access("films"); d.Folders[0].ReadableFiles != d.Folders[0].Files {
				t.Fatalf("finished: %d of %d readable", d.Folders[0].ReadableFiles, d.Folders[0].Files)
			}
		}
		id := openOrLast(t, m)
		m.must("undo", fmt.Sprint(id), "--yes")
		if now := attributes(t, films); now != before {
			t.Fatalf("round %d: undone, it is not as it was (half-way it was changed: %v)", round, half != before)
		}
	}
	if killed < 4 {
		t.Errorf("it was cut off %d times only", killed)
	}
	if out := m.must("ledger", "verify"); !strings.Contains(out, "each following") {
		t.Errorf("ledger verify said %s", out)
	}
}

func read(path string) []byte {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil
	}
	return b
}

// openOrLast gives the entry of the last mend.
func openOrLast(t *testing.T, m *mill) int {
	t.Helper()
	var entries []struct {
		ID      int
		Command string
	}
	m.document(&entries, "ledger")
	last := 0
	for _, e := range entries {
		if e.Command == "access --mend" {
			last = e.ID
		}
	}
	return last
}
