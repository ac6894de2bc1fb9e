package operate

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/testbuild"

	"golang.org/x/sys/unix"
)

// TestUnseenDisksAreNotCounted mounts a disk below a shelf's folder, of which the server tells or
// does not tell.
func TestUnseenDisksAreNotCounted(t *testing.T) {
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to mount")
	}
	b := newBench(t)
	films := filepath.Join(testbuild.Folder(t), "films")
	inner, deep := filepath.Join(films, "second"), filepath.Join(films, "second", "third")
	b.must(os.MkdirAll(inner, 0o755))
	for _, at := range []string{inner, deep} {
		b.must(os.MkdirAll(at, 0o755))
		b.must(unix.Mount("tmpfs", at, "tmpfs", 0, "mode=0755"))
		t.Cleanup(func() { _ = unix.Unmount(at, unix.MNT_DETACH) })
	}
	for i, file := range []string{films + "/a.mkv", inner + "/b.mkv", inner + "/c.mkv", deep + "/d.mkv"} {
		b.must(os.WriteFile(file, nil, 0o644))
		if i == 2 { // the server's account cannot read this one
			b.must(os.Chmod(file, 0o600))
		}
	}
	b.file.Server.RunAs = "41001:41001"
	b.file.Shelves = []household.Shelf{{Name: "films", Kind: "films", Folders: []string{films}, Access: household.Read}}
	house := b.find()
	all := house.Gather(t.Context())
	for _, c := range []struct {
		name                     string
		told                     []string
		files, readable, failing int
		unseen                   string
	}{
		{"all seen", []string{inner, deep}, 4, 3, 1, ""},
		{"none seen", nil, 1, 1, 0, inner + " 3"},
		{"one within another", []string{inner}, 3, 2, 1, deep + " 1"},
		{"what is not there", []string{inner, deep, "/srv/nothing"}, 4, 3, 1, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			f, list := house.Unseen(all, []control.Shelf{{Name: "films", Mounted: c.told}})
			var got string
			for _, u := range list {
				got += fmt.Sprint(u.Point, " ", u.Files)
			}
			r := f.Shelves[0].Folders[0].Access
			if got != c.unseen || r.Files != c.files || r.ReadableFiles != c.readable || r.Failing != c.failing {
				t.Errorf("unseen %q; %d files, %d readable, %d failing", got, r.Files, r.ReadableFiles, r.Failing)
			}
		})
	}
	if r := all.Shelves[0].Folders[0].Access; r.Files != 4 {
		t.Errorf("the facts themselves changed: %d files", r.Files)
	}
	if _, list := house.Unseen(all, nil); len(list) != 0 {
		t.Errorf("a shelf of which the server does not tell: %+v", list)
	}
}
