package scan

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/store"
)

// TestNamesAreReadAnewByALaterEdition has a store that a program filled which read a name
// otherwise, and a person who described what it took for the title.
func TestNamesAreReadAnewByALaterEdition(t *testing.T) {
	s, root := open(t), t.TempDir()
	sh := shelf(root)
	const name = "Copper.Kite.2003.mkv"
	copyClip(t, "Copper Kite (2003).mkv", filepath.Join(root, name))
	if err := os.Mkdir(filepath.Join(root, "empty"), 0o755); err != nil {
		t.Fatal(err)
	}
	if r := run(t, s, sh); r.New != 1 {
		t.Fatalf("%+v", r)
	}
	folders, err := s.Folders(ctx, sh.Name, root)
	if err != nil || len(folders) != 2 {
		t.Fatal(folders, err)
	}
	former := s.BeginScan(sh.Name, sh.Kind, time.Now())
	for _, f := range folders {
		if len(f.Signature) != 25 || f.Signature[24] != edition {
			t.Fatalf("the signature of %q is %q", f.Path, f.Signature)
		}
		d := store.FolderFound{Root: root, Path: f.Path, Signature: f.Signature[:24]}
		known, err := s.Known(ctx, f.ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, k := range known {
			d.Files = append(d.Files, store.FileFound{ID: k.ID,
				Found: store.Found{Name: k.Name, Size: k.Size, MTime: k.MTime, CTime: k.CTime, Inode: k.Inode,
					Fingerprint: k.Fingerprint, Title: "Copper Kite 2003 mkv", Content: string(naming.Video)}})
		}
		if err := former.Folder(ctx, d); err != nil {
			t.Fatal(err)
		}
	}
	if err := former.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	titled := func() store.Title {
		t.Helper()
		list, err := s.Titles(ctx, sh.Name)
		if err != nil || len(list) != 1 {
			t.Fatal(list, err)
		}
		return list[0]
	}
	was := titled()
	if was.Name != "Copper Kite 2003 mkv" {
		t.Fatalf("the former program: %+v", was)
	}
	if err := s.Describe(ctx, was.ID, store.Described{Description: describe.Description{Summary: "Wren likes it."},
		Edited: []string{"summary"}}); err != nil {
		t.Fatal(err)
	}
	if r := run(t, s, sh); r.Files != 1 || r.New+r.Changed+r.Moved+r.Gone != 0 {
		t.Errorf("the scan says %+v", r)
	}
	now := titled()
	if now.Name != "Copper Kite" || now.Year != 2003 {
		t.Errorf("got %+v", now)
	}
	if d, err := s.Described(ctx, now.ID); err != nil || d.Summary != "Wren likes it." {
		t.Errorf("what a person said of it: %+v, %v", d, err)
	}
	folders, err = s.Folders(ctx, sh.Name, root)
	for _, f := range folders {
		if err != nil || !current(f.Signature) || f.Signature == "" {
			t.Errorf("%q is to be read once more: %q, %v", f.Path, f.Signature, err)
		}
	}
}
