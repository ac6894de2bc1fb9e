package store

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"

	"cozyshelf/internal/core/layout"

	"golang.org/x/sys/unix"
)

// ReserveFile is a file beside the store that only takes up space: on a disk that is full,
// what it takes is what opening the store needs.
const ReserveFile = layout.Reserve

// reserveSize is how much that is, in bytes: the shared memory that the database maps
// (32 KiB to begin with) and the first pages of its log.
const reserveSize = 512 << 10

// OpenReserved opens the store as Open does. Where the disk is full it gives the reserve
// up; where there is room it makes it. The folder must be the caller's own.
func OpenReserved(ctx context.Context, path string) (*Store, error) {
	reserve := filepath.Join(filepath.Dir(path), ReserveFile)
	s, err := Open(ctx, path)
	if errors.Is(err, ErrFull) && os.Remove(reserve) == nil {
		s, err = Open(ctx, path)
	}
	if err == nil {
		KeepReserve(filepath.Dir(path))
	}
	return s, err
}

// KeepReserve makes the reserve in a folder, unless it is there or the disk is nearly full.
func KeepReserve(dir string) {
	path := filepath.Join(dir, ReserveFile)
	var at unix.Statfs_t
	if unix.Statfs(dir, &at) != nil || int64(at.Bavail)*int64(at.Bsize) < 64*reserveSize {
		return
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return // it is there
	}
	// Without it the server only cannot be started again on a full disk.
	if _, err := io.CopyN(f, zeros{}, reserveSize); err != nil || f.Sync() != nil {
		_ = os.Remove(path)
	}
	_ = f.Close()
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) {
	clear(b)
	return len(b), nil
}
