package secret

import (
	"context"
	"errors"
	"runtime"
	"sync"
	"time"
)

// ErrBusy says that so many wait for a hash to be made that this one is not.
var ErrBusy = errors.New("too many passwords are being checked just now")

// Line says in which line somebody waits.
type Line int

// The lines. Whoever stands in one goes before all in the next.
const (
	First Line = iota // members who have hardly tried lately
	Again             // members for whom much is tried
	Later             // names that nobody has
	lines
)

// The bounds of making hashes: so many at once, so that the memory lasts, and so many that
// wait, so that nobody waits for long.
const (
	mostFirst = 48
	mostAgain = 32
	mostLater = 16
)

// atOnce is how many hashes are made at once: two, but always one processor less than there
// are, if there are more: it has other things to do.
func atOnce() int { return min(2, max(1, runtime.GOMAXPROCS(0)-1)) }

// rest is how long the later line rests after each hash for it, as a multiple of the time
// that it took: strangers get a small part of a processor, with the memory that each hash
// leaves to be collected.
const rest = 10

// queue is the lines.
type queue struct {
	mu      sync.Mutex
	busy    int
	waiting [lines][]chan struct{}
	closed  time.Time // the later line rests until then
	wakes   bool      // somebody calls the next one then
}

var places queue

// wait waits for a place. With always there is one in the end, however many wait.
func (q *queue) wait(ctx context.Context, line Line, always bool) error {
	q.mu.Lock()
	if q.busy < atOnce() && (line != Later || q.open()) {
		q.busy++
		q.mu.Unlock()
		return nil
	}
	if most := []int{mostFirst, mostAgain, mostLater}[line]; len(q.waiting[line]) >= most && !always {
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
	// It was called in the same moment, so the place is handed on.
	q.next()
	return ctx.Err()
}

// open reports whether the later line is called; if it rests, it will be. The lock is held.
func (q *queue) open() bool {
	left := time.Until(q.closed)
	if left <= 0 {
		return true
	}
	if !q.wakes {
		q.wakes = true
		time.AfterFunc(left, func() {
			q.mu.Lock()
			defer q.mu.Unlock()
			q.wakes = false
			if q.busy < atOnce() && len(q.waiting[Later]) > 0 {
				q.busy++
				q.next()
			}
		})
	}
	return false
}

// leave gives a place to the next. began is when a hash for the later line was begun, zero
// for others.
func (q *queue) leave(began time.Time) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if !began.IsZero() {
		q.closed = time.Now().Add(rest * time.Since(began))
	}
	q.next()
}

// next calls the next one, or notes that a place is free. The lock is held.
func (q *queue) next() {
	for line := range q.waiting {
		if len(q.waiting[line]) > 0 && (Line(line) != Later || q.open()) {
			close(q.waiting[line][0])
			q.waiting[line] = q.waiting[line][1:]
			return
		}
	}
	q.busy--
}
