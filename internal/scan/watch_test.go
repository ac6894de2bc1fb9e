package scan

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/testbuild"
)

// watched watches a folder in the background and counts how often it is told something;
// further is told where.
func watched(t *testing.T, dir string, further ...func([]Place)) *atomic.Int64 {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	var n atomic.Int64
	ready, over := make(chan struct{}), make(chan error, 1)
	go func() {
		over <- Watch(ctx, dir, slog.New(slog.DiscardHandler), func() { close(ready) }, func(list []Place) {
			for _, f := range further {
				f(list)
			}
			n.Add(1)
		})
	}()
	t.Cleanup(func() {
		cancel()
		if err := <-over; err != nil {
			t.Errorf("it ended with %v", err)
		}
	})
	select {
	case <-ready:
	case <-time.After(10 * time.Second):
		t.Fatal("it does not watch")
	}
	return &n
}

func TestChangesAreSeen(t *testing.T) {
	dir := t.TempDir()
	write(t, filepath.Join(dir, "a", "b", "old.mp4"), []byte("x"))
	// Looking only where it tells must be enough to know all that is there.
	s, sh := open(t), shelf(dir)
	sh.Kind = household.Recordings
	run(t, s, sh)
	told := make(chan []Place, 100)
	n := watched(t, dir, func(list []Place) { told <- list })
	see := func(what string) {
		t.Helper()
		for len(told) > 0 {
			list := <-told
			if len(list) == 0 {
				t.Errorf("%s: it does not say where", what)
			}
			if _, err := Shelf(ctx, s, sh,
				Options{Log: slog.New(slog.DiscardHandler),
					Only: &Part{Shown: sh.Shown[0], Places: list}}); err != nil {
				t.Fatal(err)
			}
		}
		var want, got []string
		_ = filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error { // a temporary folder
			if strings.HasSuffix(p, ".mp4") && !strings.Contains(p, "/.") {
				want = append(want, strings.TrimPrefix(p, dir+"/"))
			}
			return err
		})
		list, err := s.ShelfFiles(ctx, sh.Name)
		for _, f := range list {
			got = append(got, f.Path)
		}
		slices.Sort(got)
		slices.Sort(want)
		if err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: the store knows %q, there are %q, %v", what, got, want, err)
		}
	}
	saw := func(what string, want bool) {
		t.Helper()
		before := n.Load()
		for began := time.Now(); time.Since(began) < 3*time.Second; time.Sleep(20 * time.Millisecond) {
			if n.Load() != before {
				break
			}
			if !want && time.Since(began) > settled+500*time.Millisecond {
				break
			}
		}
		if (n.Load() != before) != want {
			t.Errorf("%s: told %v", what, !want)
		}
		see(what)
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	write(t, filepath.Join(dir, "a", "b", "new.mp4"), []byte("x"))
	saw("a new file", true)
	must(os.Rename(filepath.Join(dir, "a", "b", "new.mp4"), filepath.Join(dir, "moved.mp4")))
	saw("a moved file", true)
	write(t, filepath.Join(dir, "c", "d", "e.mp4"), []byte("x"))
	saw("new folders", true)
	write(t, filepath.Join(dir, "c", "d", "f.mp4"), []byte("x"))
	saw("a file in a new folder", true)
	must(os.Remove(filepath.Join(dir, "a", "b", "old.mp4")))
	saw("a file that goes", true)
	must(os.Rename(filepath.Join(dir, "c"), filepath.Join(dir, "a", "e")))
	saw("a folder that is moved", true)
	write(t, filepath.Join(dir, "a", "e", "d", "g.mp4"), []byte("x"))
	saw("a file in a moved folder", true)
	must(os.RemoveAll(filepath.Join(dir, "a", "e")))
	saw("a folder that goes", true)
	write(t, filepath.Join(dir, ".holding", "half.mp4"), []byte("x"))
	saw("hidden files", false)
}

func TestManyChangesAreToldOnceInAWhile(t *testing.T) {
	dir := t.TempDir()
	n := watched(t, dir)
	for i := range 3000 {
		write(t, filepath.Join(dir, fmt.Sprint(i%30), fmt.Sprint(i)), []byte("x"))
	}
	time.Sleep(2 * settled)
	if got := n.Load(); got < 1 || got > 40 {
		t.Errorf("3000 files: told %d times", got)
	}
	// Folders that came in the rush are watched, too.
	before := n.Load()
	write(t, filepath.Join(dir, "29", "later"), []byte("x"))
	time.Sleep(2 * settled)
	if n.Load() == before {
		t.Error("a folder that came in the rush is not watched")
	}
}

// TestWatchesRunOut runs this test again in a user namespace that has few watches.
func TestWatchesRunOut(t *testing.T) {
	if dir := os.Getenv("COZYSHELF_FEW_WATCHES"); dir != "" {
		if err := os.WriteFile("/proc/sys/user/max_inotify_watches", []byte("3"), 0); err != nil {
			t.Fatal(err)
		}
		err := Watch(context.Background(), dir, slog.New(slog.DiscardHandler),
			func() { t.Error("it says that it watches") }, func([]Place) {})
		if !errors.Is(err, ErrUnwatched) || !strings.Contains(err.Error(), "max_user_watches") {
			t.Errorf("got %v", err)
		}
		return
	}
	dir := t.TempDir()
	for i := range 10 {
		write(t, filepath.Join(dir, fmt.Sprint(i), "a"), nil)
	}
	c := exec.Command(os.Args[0], "-test.run", "^TestWatchesRunOut$", "-test.v")
	c.Env = append(os.Environ(), "COZYSHELF_FEW_WATCHES="+dir)
	c.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWUSER,
		UidMappings: []syscall.SysProcIDMap{{HostID: os.Getuid(), Size: 1}},
		GidMappings: []syscall.SysProcIDMap{{HostID: os.Getgid(), Size: 1}}}
	out, err := c.CombinedOutput()
	if errors.Is(err, syscall.EPERM) {
		testbuild.Missing(t, "leave to make a user namespace")
	}
	if err != nil || !strings.Contains(string(out), "PASS") {
		t.Errorf("%v\n%s", err, out)
	}
}

func TestAFileThatGrowsIsWaitedFor(t *testing.T) {
	s, dir := open(t), t.TempDir()
	const moon, kite = "The Understudy Moon (1996).mp4", "Copper Kite (2003).mkv"
	copyClip(t, kite, filepath.Join(dir, kite))
	old := time.Now().Add(-time.Hour)
	if err := os.Chtimes(filepath.Join(dir, kite), old, old); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, moon), []byte("half"))
	look := func(quiet time.Duration, files, n, growing, failing int) {
		t.Helper()
		r, err := Shelf(ctx, s, shelf(dir), Options{Log: slog.New(slog.DiscardHandler), Quiet: quiet, Gently: true})
		if err != nil || r.Files != files || r.New != n || r.Growing != growing || r.Unreadable != failing {
			t.Errorf("got %+v, %v", r, err)
		}
	}
	look(time.Minute, 1, 1, 1, 0)
	look(time.Minute, 1, 0, 1, 0)
	copyClip(t, moon, filepath.Join(dir, moon))
	if err := os.Chtimes(filepath.Join(dir, moon), old, old); err != nil {
		t.Fatal(err)
	}
	look(time.Minute, 2, 1, 0, 0)
	// One that is there and is written to again stays as it was until it is quiet.
	write(t, filepath.Join(dir, moon), []byte("half again"))
	look(time.Minute, 2, 0, 1, 0)
	if list, err := s.ShelfFiles(ctx, "films"); err != nil || len(list) != 2 || list[1].Problem != "" {
		t.Errorf("got %+v, %v", list, err)
	}
	look(0, 2, 0, 0, 1)
}
