package rename

import (
	"bytes"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/tidy"
)

// tree gives what is below a folder: for files their inode, size, time and content, for
// folders their mode.
func tree(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || p == dir {
			return err
		}
		st, err := d.Info()
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(dir, p)
		if d.IsDir() {
			out[rel] = st.Mode().String()
			return nil
		}
		b, err := os.ReadFile(p)
		out[rel] = fmt.Sprint(st.Sys().(*syscall.Stat_t).Ino, st.Size(), st.ModTime().UnixNano(), string(b))
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func same(a, b map[string]string) string {
	for p, x := range a {
		if b[p] != x {
			return fmt.Sprintf("%s: %q, was %q", p, b[p], x)
		}
	}
	for p := range b {
		if _, ok := a[p]; !ok {
			return p + " is new"
		}
	}
	return ""
}

func put(t *testing.T, dir string, files ...string) {
	t.Helper()
	for i, f := range files {
		p := filepath.Join(dir, f)
		if err := os.MkdirAll(filepath.Dir(p), 0o750); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(strings.Repeat(f, i+1)), 0o640); err != nil {
			t.Fatal(err)
		}
		at := time.Unix(1_600_000_000+int64(i), int64(i))
		if err := os.Chtimes(p, at, at); err != nil {
			t.Fatal(err)
		}
	}
}

var messy = []string{"the.paper.lighthouse.2014.mkv", "the.paper.lighthouse.2014.en.srt", "Kite.2003/kite.2003.mkv",
	"Kite.2003/cover.jpg", "Kite.2003/Subs/en.srt",
	"rain (2021).MKV", "Deep/Deeper/salt.2018.mkv", "Deep/Deeper/salt.2018.txt", "notes.txt"}

func steps(t *testing.T, dir string, sums bool) []Step {
	t.Helper()
	var files []string
	for p, x := range tree(t, dir) {
		if !strings.HasPrefix(x, "d") {
			files = append(files, p)
		}
	}
	plan := tidy.Draw(household.Films, tidy.Folders, files)
	s, err := Prepare(dir, plan.Moves, sums, nil)
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := Write(&b, s); err != nil {
		t.Fatal(err)
	}
	again, err := Read(&b)
	if err != nil || len(again) != len(s) {
		t.Fatalf("read again: %d of %d, %v", len(again), len(s), err)
	}
	return again
}

func TestThereAndBack(t *testing.T) {
	for _, sums := range []bool{false, true} {
		dir := t.TempDir()
		put(t, dir, messy...)
		before := tree(t, dir)
		s := steps(t, dir, sums)
		if o, err := (Carrier{Folder: dir, Dry: true}).Carry(s); err != nil || o.Done != 8 || len(o.Odd) > 0 {
			t.Errorf("a look: %+v, %v", o, err)
		}
		if d := same(before, tree(t, dir)); d != "" {
			t.Fatalf("looking changed %s", d)
		}
		o, err := Carrier{Folder: dir}.Carry(s)
		if err != nil || o.Done != 8 || len(o.Odd) > 0 {
			t.Fatalf("%+v, %v", o, err)
		}
		after := tree(t, dir)
		for _, p := range []string{"the paper lighthouse (2014)/the paper lighthouse (2014).mkv",
			"the paper lighthouse (2014)/the paper lighthouse (2014).en.srt", "kite (2003)/cover.jpg",
			"kite (2003)/Subs/en.srt", "Deep/Deeper/salt (2018)/salt (2018).txt", "notes.txt"} {
			if after[p] == "" {
				t.Errorf("%s is missing: %v", p, after)
			}
		}
		if after["Kite.2003"] != "" || after["Kite.2003/Subs"] != "" {
			t.Error("an empty folder stays")
		}
		if o, err := (Carrier{Folder: dir}).Carry(s); err != nil || o.Already != 8 || o.Done != 0 {
			t.Errorf("again: %+v, %v", o, err)
		}
		if o, err := (Carrier{Folder: dir, Back: true}).Carry(s); err != nil || o.Done != 8 {
			t.Fatalf("back: %+v, %v", o, err)
		}
		if d := same(before, tree(t, dir)); d != "" {
			t.Errorf("not as before: %s", d)
		}
	}
}

// TestCutOffAnywhere carries out only some of the steps, as a crash does, and then either
// finishes or takes back.
func TestCutOffAnywhere(t *testing.T) {
	for n := 0; ; n++ {
		dir := t.TempDir()
		put(t, dir, messy...)
		before := tree(t, dir)
		s := steps(t, dir, false)
		if n > len(s) {
			return
		}
		if _, err := (Carrier{Folder: dir}).Carry(s[:n]); err != nil {
			t.Fatal(err)
		}
		if o, err := (Carrier{Folder: dir}).Carry(s); err != nil || len(o.Odd) > 0 || o.Done+o.Already != 8 {
			t.Fatalf("finishing after %d: %+v, %v", n, o, err)
		}
		for k := len(s); k >= 0; k -= 3 { // taken back, and cut off in that too
			if _, err := (Carrier{Folder: dir, Back: true}).Carry(s[k:]); err != nil {
				t.Fatal(err)
			}
		}
		if o, err := (Carrier{Folder: dir, Back: true}).Carry(s); err != nil || len(o.Odd) > 0 {
			t.Fatalf("taking back: %+v, %v", o, err)
		}
		if d := same(before, tree(t, dir)); d != "" {
			t.Fatalf("cut off after %d: %s", n, d)
		}
	}
}

func TestNothingIsWrittenOver(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "a", "b", "c")
	s, err := Prepare(dir, []tidy.Move{{From: "a", To: "new/a"}, {From: "b", To: "new/b"}, {From: "c", To: "new/c"}},
		false, nil)
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, "new/a")
	if err := os.WriteFile(filepath.Join(dir, "b"), []byte("changed meanwhile"), 0o644); err != nil {
		t.Fatal(err)
	}
	o, err := Carrier{Folder: dir}.Carry(s)
	if err != nil || o.Done != 1 || len(o.Odd) != 2 {
		t.Errorf("%+v, %v", o, err)
	}
	after := tree(t, dir)
	if !strings.HasSuffix(after["new/a"], "new/a") || !strings.HasSuffix(after["b"], "changed meanwhile") ||
		after["a"] == "" {
		t.Errorf("got %v", after)
	}
}

func TestTheFolderIsNeverLeft(t *testing.T) {
	dir, other := t.TempDir(), t.TempDir()
	put(t, dir, "a")
	put(t, other, "secret")
	if err := os.Symlink(other, filepath.Join(dir, "way out")); err != nil {
		t.Fatal(err)
	}
	if _, err := Prepare(dir, []tidy.Move{{From: "way out/secret", To: "got"}}, false, nil); err == nil {
		t.Error("a link out of the folder is followed")
	}
	if o, err := (Carrier{Folder: dir}).Carry([]Step{{Op: Move, From: "a", To: "way out/a", Size: 1,
		MTime: 1_600_000_000_000_000_000}}); err == nil {
		t.Errorf("a link out of the folder is followed: %+v", o)
	}
	for _, text := range []string{`{"op":"move","from":"a","to":"../b"}`,
		`{"op":"move","from":"/etc/passwd","to":"b"}`, `{"op":"rmdir","from":"."}`, `{"op":"sh","from":"a"}`,
		`{"op":"move","from":"a","to":"b","x":1}`, `{"op"`} {
		if s, err := Read(strings.NewReader(text)); err == nil {
			t.Errorf("%s: taken as %+v", text, s)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"op":"move","from":"a","to":"b","size":1}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := Read(bytes.NewReader(b))
		if err != nil {
			return
		}
		for _, x := range s {
			if !filepath.IsLocal(x.From) || x.To != "" && !filepath.IsLocal(x.To) {
				t.Errorf("a path that leaves the folder: %+v", x)
			}
		}
	})
}

// TestRandomShelves goes there and back on random trees.
func TestRandomShelves(t *testing.T) {
	for seed := range uint64(60) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		dir := t.TempDir()
		words := []string{"kite", "Kite", "rain", "2003", "S01E02", "part 1", "en"}
		for range 10 {
			p := words[rnd.IntN(len(words))] + "." +
				words[rnd.IntN(len(words))] + []string{".mkv", ".srt", ".txt"}[rnd.IntN(3)]
			if rnd.IntN(2) == 0 {
				p = words[rnd.IntN(len(words))] + "/" + p
			}
			if st, err := os.Stat(filepath.Join(dir, p)); err == nil && !st.IsDir() {
				continue
			}
			put(t, dir, p)
		}
		before := tree(t, dir)
		s := steps(t, dir, true)
		if o, err := (Carrier{Folder: dir}).Carry(s); err != nil || len(o.Odd) > 0 {
			t.Fatalf("seed %d: %+v, %v", seed, o, err)
		}
		if o, err := (Carrier{Folder: dir, Back: true}).Carry(s); err != nil || len(o.Odd) > 0 {
			t.Fatalf("seed %d, back: %+v, %v", seed, o, err)
		}
		if d := same(before, tree(t, dir)); d != "" {
			t.Fatalf("seed %d: %s", seed, d)
		}
	}
}
