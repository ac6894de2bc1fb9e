package live

import (
	"context"
	"sync"
)

// Holds sees to it that one at a time changes what is known of a title. A person who comes
// does not wait for a catalogue that is being asked in the background: that is given up,
// and done again later. The zero value is ready.
type Holds struct {
	mu sync.Mutex
	of map[int64]*hold
}

type hold struct {
	giveUp context.CancelFunc // nil for what is not given up
	free   chan struct{}      // closed when the title is free again
}

// Take waits until a title is free, and takes it. The context it gives ends when a person wants
// the title; that of a person, or of quick work, is left alone. The function it gives frees the
// title.
func (h *Holds) Take(ctx context.Context, id int64, person, quick bool) (context.Context, func(), error) {
	for {
		h.mu.Lock()
		other := h.of[id]
		if other == nil {
			if h.of == nil {
				h.of = map[int64]*hold{}
			}
			mine := &hold{free: make(chan struct{})}
			ctx, cancel := context.WithCancel(ctx)
			if !person && !quick {
				mine.giveUp = cancel
			}
			h.of[id] = mine
			h.mu.Unlock()
			return ctx, func() {
				cancel()
				h.mu.Lock()
				defer h.mu.Unlock()
				delete(h.of, id)
				close(mine.free)
			}, nil
		}
		h.mu.Unlock()
		if person && other.giveUp != nil {
			other.giveUp()
		}
		select {
		case <-other.free:
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		}
	}
}
