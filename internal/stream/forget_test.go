package stream

import (
	"os"
	"testing"

	"golang.org/x/sys/unix"
)

// forget has the kernel let go of what it remembers of a file.
func forget(t *testing.T, f *os.File) {
	t.Helper()
	if err := unix.Fadvise(int(f.Fd()), 0, 0, unix.FADV_DONTNEED); err != nil {
		t.Fatal(err)
	}
}
