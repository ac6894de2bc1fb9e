package atomicfile

import (
	"context"
	"errors"
	"fmt"
	"time"

	"cozyshelf/internal/boundary"

	"golang.org/x/sys/unix"
)

// ErrClaimed tells that somebody else has a folder for themselves.
var ErrClaimed = errors.New("somebody else is at work on it")

// Claim takes a folder for one process alone, until the function that it gives is called
// or the process ends, however that comes about (flock(2) on the folder itself). Another
// one that ends just now is waited for. Where folders cannot be locked, it is left at that.
func Claim(ctx context.Context, folder string, patience time.Duration) (func(), error) {
	dir, err := boundary.Open(folder)
	if err != nil {
		return nil, err
	}
	for began := time.Now(); ; {
		err := unix.Flock(dir.Fd(), unix.LOCK_EX|unix.LOCK_NB)
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case !errors.Is(err, unix.EWOULDBLOCK):
			return func() { dir.Close() }, nil
		case time.Since(began) >= patience:
			dir.Close()
			return nil, fmt.Errorf("%w: %s", ErrClaimed, folder)
		}
		select {
		case <-ctx.Done():
			dir.Close()
			return nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
