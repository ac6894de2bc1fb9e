package demo

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"cozyshelf/internal/core/media"
)

func TestTheClipsAreSmallAndFaultyOnlyWhereMeant(t *testing.T) {
	dir := t.TempDir()
	if err := Media(dir); err != nil {
		t.Fatal(err)
	}
	var size int64
	faulty := 0
	err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		st, err := d.Info()
		if err != nil {
			return err
		}
		size += st.Size()
		rel, _ := filepath.Rel(dir, p)
		if rel == Unreadable {
			if st.Mode().Perm()&0o077 != 0 {
				t.Errorf("%s can be read: mode %o", rel, st.Mode().Perm())
			}
			faulty++
			return nil
		}
		if filepath.Ext(p) == ".jpg" {
			return nil
		}
		f, err := os.Open(p)
		if err != nil {
			return err
		}
		defer f.Close()
		if _, err := media.Read(f, st.Size()); err != nil {
			faulty++
			if rel != Broken {
				t.Errorf("%s: %v", rel, err)
			}
		}
		return nil
	})
	if err != nil || faulty != 2 || size > 3<<20 || size < 1<<20 {
		t.Errorf("%d faulty, %d bytes, %v", faulty, size, err)
	}
}
