package test

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/demo"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/testbuild"
)

// smallDisk mounts an ext4 of its own in the household's folder.
func (m *mill) smallDisk(name string, size int64) string {
	m.t.Helper()
	if os.Getuid() != 0 {
		testbuild.Missing(m.t, "root, to mount a disk")
	}
	image, at := m.path(name+".img"), m.path(name)
	f, err := os.Create(image)
	if err == nil {
		err = errors.Join(f.Truncate(size), f.Close(), os.Mkdir(at, 0o755))
	}
	if err != nil {
		m.t.Fatal(err)
	}
	for _, c := range [][]string{{"mkfs.ext4", "-q", "-m", "0", image}, {"mount", "-o", "loop", image, at}} {
		if out, err := exec.Command(c[0], c[1:]...).CombinedOutput(); err != nil {
			testbuild.Missing(m.t, fmt.Sprintf("a disk of its own: %s: %v %s", c[0], err, out))
		}
	}
	m.t.Cleanup(func() {
		m.run("", "retire", "--erase", "--yes") // what it cannot, cleaning up tells
		if err := syscall.Unmount(at, syscall.MNT_DETACH); err != nil {
			m.t.Errorf("unmounting %s: %v", at, err)
		}
	})
	return at
}

// fill writes until nothing fits any more, in ever smaller files.
func fill(t *testing.T, dir string) {
	t.Helper()
	for n, block := range []int{1 << 20, 4096, 512, 100} {
		f, err := os.Create(filepath.Join(dir, fmt.Sprintf("fill-%d", n)))
		if errors.Is(err, syscall.ENOSPC) {
			return
		}
		if err != nil {
			t.Fatal(err)
		}
		for b := make([]byte, block); err == nil; {
			_, err = f.Write(b)
		}
		if f.Close(); !errors.Is(err, syscall.ENOSPC) {
			t.Fatal(err)
		}
	}
}

// TestOnAFullDiskWhatIsTherePlays fills the disk with the state, to the last byte, also while
// the server is stopped.
func TestOnAFullDiskWhatIsTherePlays(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	disk := m.smallDisk("disk", 256<<20)
	m.edit(m.path("state"), filepath.Join(disk, "state"))
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	within(t, 20*time.Second, "the first scan", func() bool { return m.titles("films") == 6 })
	saved := m.path("saved.tar.zst")
	m.must("backup", "--to", saved)
	token := m.token("wren")
	plays := func(when, film string, want int) {
		t.Helper()
		code, err := call("GET", m.address()+fmt.Sprintf("/api/v1/files/%d/content", m.fileOf(t, token, film)),
			"Bearer "+token, "")
		if err != nil || code != want {
			t.Errorf("%s: %s: %d, %v", when, film, code, err)
		}
	}
	plays("with room", "Understudy", 200)
	fill(t, disk)
	plays("full", "Understudy", 200)
	plays("full, and not begun before", "Copper", 200)
	for when, do := range map[string]func(){"restarted": func() {},
		"filled while it was stopped": func() { fill(t, disk) }} {
		m.must("stop")
		do()
		out, errs, code := m.run("", "start")
		if code != problem.ExitFound || !strings.Contains(out, "is running") ||
			!strings.Contains(errs, "the disk with the state folder is full") {
			t.Fatalf("%s: code %d\n%s%s", when, code, out, errs)
		}
		plays(when, "Copper", 200)
	}
	free := "free some space"
	for _, args := range [][]string{
		{"tidy", "films", "--all", "--yes"}, {"restore", saved, "--yes"},
		{"backup", "--to", filepath.Join(disk, "b.tar.zst")},
		{"intake", "copy", m.path("media/series"), "--onto", "films", "--broken", "--yes"},
		{"shelf", "add", "music", "--kind", "music", "--folder", m.path("media/music"), "--yes"},
	} {
		began := time.Now()
		_, errs, code := m.run("", args...)
		if code != problem.ExitFailed || !strings.Contains(errs, free) {
			t.Errorf("%v: code %d, %s", args, code, errs)
		}
		if took := time.Since(began); took > 10*time.Second {
			t.Errorf("%v took %s", args, took)
		}
	}
	list, err := filepath.Glob(filepath.Join(disk, "fill-*"))
	if err != nil || len(list) == 0 {
		t.Fatal(list, err)
	}
	for _, p := range list {
		if err := os.Remove(p); err != nil {
			t.Fatal(err)
		}
	}
	m.until("ready")
	// With a few MiB a restore is refused before anything is touched.
	f, err := os.Create(filepath.Join(disk, "fill-0"))
	if err == nil {
		var st syscall.Statfs_t
		if err = syscall.Statfs(disk, &st); err == nil {
			_, err = io.CopyN(f, zeros{}, int64(st.Bavail)*int64(st.Bsize)-12<<20)
		}
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, errs, code := m.run("", "restore", saved, "--yes"); code != problem.ExitFailed ||
		!strings.Contains(errs, "not enough room") || !strings.Contains(errs, free) {
		t.Errorf("a restore with 12 MiB left: code %d, %s", code, errs)
	}
	if m.health() != "ready" {
		t.Errorf("after it: %s", m.health())
	}
	if err := os.Remove(filepath.Join(disk, "fill-0")); err != nil {
		t.Fatal(err)
	}
	m.must("restore", saved, "--yes")
	m.viewer("wren")
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { clear(b); return len(b), nil }
