package rename

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// TestAPipeInAFoldersPlaceHoldsNobody opens one, as somebody could swap it in at any moment.
func TestAPipeInAFoldersPlaceHoldsNobody(t *testing.T) {
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	if err := syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(dir, "there"), 0o700); err != nil {
		t.Fatal(err)
	}
	opened := make(chan error, 1)
	go func() {
		_, err := folder(root, "pipe")
		opened <- err
	}()
	select {
	case err := <-opened:
		if err == nil {
			t.Error("a pipe was taken for a folder")
		}
	case <-time.After(10 * time.Second):
		t.Fatal("a pipe holds whoever opens it")
	}
	f, err := folder(root, "there")
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
}
