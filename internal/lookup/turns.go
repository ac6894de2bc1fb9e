package lookup

import (
	"context"
	"fmt"
	"sync"
	"time"
)

type hurried struct{}

// How long a catalogue that asks to be left alone is waited for: by a person, and in the
// background. For longer it is not asked at all.
const (
	hurriedPatience = 15 * time.Second
	patience        = 10 * time.Minute
)

// Hurry marks what is asked for a person who waits for the answer: it goes before what is
// asked in the background, and is given up sooner.
func Hurry(ctx context.Context) context.Context { return context.WithValue(ctx, hurried{}, true) }

// turns lets one request through at a time, and not before next. The zero value is ready.
type turns struct {
	mu      sync.Mutex
	busy    bool
	hurried int           // how many wait that are in a hurry
	next    time.Time     // when the next request may be made
	changed chan struct{} // closed when something changes; nil while nobody waits
}

// take waits for a turn, which free ends.
func (t *turns) take(ctx context.Context) error {
	hurry, most := ctx.Value(hurried{}) != nil, patience
	if hurry {
		most = hurriedPatience
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if hurry {
		t.hurried++
		defer func() {
			t.hurried--
			t.tell()
		}()
	}
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		var later <-chan time.Time
		if !t.busy && (hurry || t.hurried == 0) {
			pause := time.Until(t.next)
			if pause <= 0 {
				t.busy = true
				return nil
			}
			if pause > most {
				return fmt.Errorf("%w: for %s", ErrBusy, pause.Round(time.Second))
			}
			later = time.After(pause)
		}
		if t.changed == nil {
			t.changed = make(chan struct{})
		}
		changed := t.changed
		t.mu.Unlock()
		select {
		case <-changed:
		case <-later:
		case <-ctx.Done():
		}
		t.mu.Lock()
	}
}

// free ends a turn; the next one begins after a pause at the soonest.
func (t *turns) free(pause time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.busy, t.next = false, time.Now().Add(pause)
	t.tell()
}

// tell wakes who waits.
func (t *turns) tell() {
	if t.changed != nil {
		close(t.changed)
		t.changed = nil
	}
}
