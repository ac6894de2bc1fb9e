package server

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// ErrClaimed tells that another server works on the state folder.
var ErrClaimed = errors.New("another server works on this state folder")

// claim takes a state folder for one server alone, until the function that it gives is
// called or the process ends, however that comes about. Another one that ends just now is
// waited for. Where folders cannot be locked, it is left at that: the store's own locks
// are another matter, and tried elsewhere.
func claim(ctx context.Context, state string) (func(), error) {
	dir, err := os.Open(state)
	if err != nil {
		return nil, err
	}
	for began := time.Now(); ; {
		err := unix.Flock(int(dir.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case !errors.Is(err, unix.EWOULDBLOCK):
			return func() { dir.Close() }, nil
		case time.Since(began) > takenFor:
			dir.Close()
			return nil, fmt.Errorf("%w: %s", ErrClaimed, state)
		}
		select {
		case <-ctx.Done():
			dir.Close()
			return nil, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
