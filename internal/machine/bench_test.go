package machine

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"cozyshelf/internal/core/permit"
)

// BenchmarkAudit audits a warm tree of 20,000 files. The yardstick beside find is
// in the test room.
func BenchmarkAudit(b *testing.B) {
	dir := b.TempDir()
	for i := range 20000 {
		p := filepath.Join(dir, fmt.Sprint("box ", i/200), fmt.Sprintf("film %05d (2001).mkv", i))
		if i%200 == 0 {
			if err := os.Mkdir(filepath.Dir(p), 0o755); err != nil {
				b.Fatal(err)
			}
		}
		if err := os.WriteFile(p, nil, 0o644); err != nil {
			b.Fatal(err)
		}
	}
	id := permit.Identity{UID: 41001, Groups: []uint32{41001}}
	b.ReportAllocs()
	for b.Loop() {
		if r, err := Audit(dir, id, permit.Need{}); err != nil || r.Files != 20000 {
			b.Fatalf("%d files, %v", r.Files, err)
		}
	}
}
