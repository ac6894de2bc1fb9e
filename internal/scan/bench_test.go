package scan

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"cozyshelf/internal/store"
)

// twentyThousand makes 20,000 films of 200 folders, each its own title.
func twentyThousand(b *testing.B) string {
	dir := b.TempDir()
	clips, err := filepath.Glob("../demo/clips/films/*.m*")
	if err != nil || len(clips) < 4 {
		b.Fatal(clips, err)
	}
	for i, c := range clips {
		copyClip(b, filepath.Base(c), filepath.Join(dir, fmt.Sprintf(".%d%s", i, filepath.Ext(c))))
	}
	for i := range 20000 {
		d := filepath.Join(dir, fmt.Sprint(i/100))
		if i%100 == 0 {
			if err := os.Mkdir(d, 0o755); err != nil {
				b.Fatal(err)
			}
		}
		c := i % len(clips)
		ext := filepath.Ext(clips[c])
		if err := os.Link(filepath.Join(dir, fmt.Sprintf(".%d%s", c, ext)),
			filepath.Join(d, fmt.Sprintf("Film %d of the mill (%d)%s", i, 1950+i%70, ext))); err != nil {
			b.Fatal(err)
		}
	}
	return dir
}

// BenchmarkHeaders walks the same files and reads their headers, and does nothing else of
// what a first scan does.
func BenchmarkHeaders(b *testing.B) {
	sh := shelf(twentyThousand(b))
	for b.Loop() {
		s := &scanner{shelf: sh}
		found := make(chan listing, 64)
		w := walker{inside: sh.Folders[0], kind: sh.Kind, found: found,
			slots: make(chan struct{}, runtime.GOMAXPROCS(0))}
		go func() {
			defer close(found)
			w.walk(ctx, "", true)
			w.others.Wait()
		}()
		n := 0
		for l := range found {
			files, todo := make([]store.Found, len(l.files)), make([]int, len(l.files))
			for i := range todo {
				todo[i] = i
			}
			if err := s.open(ctx, sh.Folders[0], l.path, l.files, files, todo); err != nil {
				b.Fatal(err)
			}
			for _, f := range files {
				if f.Info != "" {
					n++
				}
			}
		}
		if n != 20000 {
			b.Fatalf("%d headers were read", n)
		}
	}
}

// BenchmarkFirstScan scans these files.
func BenchmarkFirstScan(b *testing.B) {
	dir := twentyThousand(b)
	for b.Loop() {
		s := open(b)
		if _, err := Shelf(ctx, s, shelf(dir), Options{Log: slog.New(slog.DiscardHandler)}); err != nil {
			b.Fatal(err)
		}
	}
}
