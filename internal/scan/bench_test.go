package scan

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
)

// BenchmarkFirstScan scans 20,000 films of 200 folders, each its own title.
func BenchmarkFirstScan(b *testing.B) {
	dir := b.TempDir()
	copyClip(b, "Copper Kite (2003).mkv", filepath.Join(dir, "a.mkv"))
	for i := range 20000 {
		d := filepath.Join(dir, fmt.Sprint(i/100))
		if i%100 == 0 {
			if err := os.Mkdir(d, 0o755); err != nil {
				b.Fatal(err)
			}
		}
		if err := os.Link(filepath.Join(dir, "a.mkv"), filepath.Join(d, fmt.Sprintf("Film %d of the mill (%d).mkv", i, 1950+i%70))); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		s := open(b)
		if _, err := Shelf(ctx, s, shelf(dir), Options{Log: slog.New(slog.DiscardHandler)}); err != nil {
			b.Fatal(err)
		}
	}
}
