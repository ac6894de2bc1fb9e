package scan

import (
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"testing"
	"time"

	"cozyshelf/internal/store"
	"cozyshelf/internal/testbuild"

	"golang.org/x/sys/unix"
)

// filesOf gives the ids of the files that are there, by path below the shelf's folder.
func filesOf(t *testing.T, s *store.Store) map[string]int64 {
	t.Helper()
	known, err := s.ShelfFiles(ctx, "films")
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]int64{}
	for _, f := range known {
		out[f.Path] = f.ID
	}
	return out
}

// TestADiskThatGoesInMidScanTakesNothingWithIt takes the disk away at many moments of a
// scan that has something to do in every folder: all of the shelf or a part of it, by
// unmounting, or by renaming what leads to it. Nothing is taken for gone, nothing for
// unreadable, and once it is back, all is what it was.
func TestADiskThatGoesInMidScanTakesNothingWithIt(t *testing.T) {
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to mount")
	}
	const folders = 40
	disk := t.TempDir()
	for i := range folders {
		for _, name := range []string{"one.mkv", "two.mkv"} {
			copyClip(t, "Copper Kite (2003).mkv",
				filepath.Join(disk, fmt.Sprint(i), fmt.Sprintf("Film %d part %s", i, name)))
		}
	}
	for _, at := range []string{"", "usb"} {
		for _, way := range []string{"unmounted", "renamed"} {
			if at != "" && way == "renamed" {
				continue // a folder that is renamed is gone
			}
			t.Run(way+" "+at, func(t *testing.T) {
				root := filepath.Join(t.TempDir(), "shelf")
				point := filepath.Join(root, at)
				if err := os.MkdirAll(point, 0o755); err != nil {
					t.Fatal(err)
				}
				plug := func() {
					if err := unix.Mount(disk, point, "", unix.MS_BIND, ""); err != nil {
						t.Fatal(err)
					}
				}
				unplug := func() {
					if err := unix.Unmount(point, unix.MNT_DETACH); err != nil {
						t.Error(err)
					}
				}
				if way == "renamed" {
					plug = func() {
						if err := errors.Join(os.MkdirAll(root, 0o755), os.Remove(root),
							os.Rename(disk, root)); err != nil {
							t.Fatal(err)
						}
					}
					unplug = func() {
						if err := os.Rename(root, disk); err != nil {
							t.Error(err)
						}
					}
				}
				if at != "" {
					copyClip(t, "The Understudy Moon (1996).mp4", filepath.Join(root, "The Understudy Moon (1996).mp4"))
				}
				plug()
				s, sh := open(t), shelf(root)
				run(t, s, sh)
				before := filesOf(t, s)
				if len(before) < 2*folders {
					t.Fatalf("%d files are known", len(before))
				}
				for moment := 0; moment <= folders; moment += 3 {
					// Every folder has to be opened again.
					for i := range folders {
						p := filepath.Join(point, fmt.Sprint(i), fmt.Sprintf("Film %d part one.mkv", i))
						if err := os.Chtimes(p, time.Time{}, time.Unix(int64(1e9+moment), 0)); err != nil {
							t.Fatal(err)
						}
					}
					went := false
					r, err := Shelf(ctx, s, sh, Options{Log: slog.New(slog.DiscardHandler), Progress: func(n, _ int) {
						if !went && n > moment {
							went = true
							unplug()
						}
					}})
					if err != nil || !went {
						t.Fatalf("moment %d: %v, went %v", moment, err, went)
					}
					if now := filesOf(t, s); !maps.Equal(now, before) || r.Gone != 0 || r.Unreadable != 0 {
						t.Errorf("moment %d: %d files of %d are known, %+v", moment, len(now), len(before), r)
					}
					if left := problems(t, s); len(left) > 0 {
						t.Errorf("moment %d: %v", moment, left)
					}
					if r.Files+r.Gone < 2*folders && len(r.Unplugged) == 0 {
						t.Errorf("moment %d: %d files were met, and nothing is unplugged", moment, r.Files)
					}
					plug()
					r = run(t, s, sh)
					if now := filesOf(t, s); !maps.Equal(now, before) ||
						r.New+r.Moved+r.Gone+r.Unreadable+len(r.Unplugged) != 0 || r.Files != len(before) {
						t.Errorf("moment %d, back again: %+v", moment, r)
					}
				}
				unplug()
			})
		}
	}
}

// TestFilesThatGoOneByOneAreGone is the other side of it: what is deleted while it is
// looked at, is gone at the next look.
func TestFilesThatGoOneByOneAreGone(t *testing.T) {
	root := t.TempDir()
	for i := range 20 {
		copyClip(t, "Copper Kite (2003).mkv", filepath.Join(root, fmt.Sprint(i), "a.mkv"))
	}
	s, sh := open(t), shelf(root)
	n := 0
	if _, err := Shelf(ctx, s, sh, Options{Log: slog.New(slog.DiscardHandler), Progress: func(int, int) {
		if n < 10 {
			if err := os.Remove(filepath.Join(root, fmt.Sprint(n), "a.mkv")); err != nil {
				t.Error(err)
			}
		}
		n++
	}}); err != nil {
		t.Fatal(err)
	}
	if left := problems(t, s); len(left) > 0 {
		t.Errorf("these fail: %v", left)
	}
	r := run(t, s, sh)
	if now := filesOf(t, s); len(now) != 10 || r.Files != 10 {
		t.Errorf("known: %v, %+v", now, r)
	}
}
