package ledger

import (
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestEntriesStayReadableAfterACrashInTheMiddleOfALine(t *testing.T) {
	dir := t.TempDir()
	add := func(what string) {
		t.Helper()
		if err := Append(dir, Entry{At: time.Now(), What: what}); err != nil {
			t.Fatal(err)
		}
	}
	add("one")
	add("two")
	p := filepath.Join(dir, File)
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
