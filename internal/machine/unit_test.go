package machine

import (
	"os"
	"path/filepath"
	"testing"
)

func TestUnitsAreWantedAndNoLonger(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("COZYSHELF_UNITS", dir)
	if Units() != dir {
		t.Fatal(Units())
	}
	const name, target = "cozyshelf-x.service", "multi-user.target"
	if err := os.WriteFile(filepath.Join(dir, name), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := EnableUnit(dir, name, target, true); err != nil || !UnitEnabled(dir, name, target) {
			t.Fatalf("wanted: %v", err)
		}
	}
	other := filepath.Join(dir, target+".wants", "other.service")
	if err := os.Symlink("/x", other); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := EnableUnit(dir, name, target, false); err != nil || UnitEnabled(dir, name, target) {
			t.Fatalf("no longer wanted: %v", err)
		}
	}
	if _, err := os.Lstat(other); err != nil {
		t.Error("another's link went too")
	}
}
