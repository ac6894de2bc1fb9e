package secret

import (
	"context"
	"errors"
	"sync"
)

// ErrBusy says that so many wait for a hash to be made that this one is not.
var ErrBusy = errors.New("too many passwords are being checked just now")

// Line says in which line somebody waits.
type Line int

// The lines. Whoever stands in the first goes before all in the later one.
const (
	First Line = iota // members, as far as they may try
	Later             // names that nobody has
)

// The bounds of making hashes: so many at once, so that the memory lasts, and so many that
// wait, so that nobody waits for long.
const (
	atOnce    = 2
	mostFirst = 48
	mostLater = 16
)

// queue is the lines.
type queue struct {
	mu      sync.Mutex
	busy    int
	waiting [2][]chan struct{}
}

var places queue

// wait waits for a place. With always there is one in the end, however many wait.
func (q *queue) wait(ctx context.Context, line Line, always bool) error {
	q.mu.Lock()
	if q.busy < atOnce {
		q.busy++
		q.mu.Unlock()
		return nil
	}
	if most := []int{mostFirst, mostLater}[line]; len(q.waiting[line]) >= most && !always {
		q.mu.Unlock()
		return ErrBusy
	}
	turn := make(chan struct{})
	q.waiting[line] = append(q.waiting[line], turn)
	q.mu.Unlock()
	select {
	case <-turn:
		return nil
	case <-ctx.Done():
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	for i, c := range q.waiting[line] {
		if c == turn {
			q.waiting[line] = append(q.waiting[line][:i], q.waiting[line][i+1:]...)
			return ctx.Err()
		}
	}
	// It was called in the same moment, so the place goes on.
	q.next()
	return ctx.Err()
}

// leave gives a place to the next.
func (q *queue) leave() {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.next()
}

// next calls the next one, or notes that a place is free. The lock is held.
func (q *queue) next() {
	for line := range q.waiting {
		if len(q.waiting[line]) > 0 {
			close(q.waiting[line][0])
			q.waiting[line] = q.waiting[line][1:]
			return
		}
	}
	q.busy--
}
