package live

import (
	"fmt"
	"net/http"
	"sync"
	"time"

	"cozyshelf/internal/problem"
)

// MostDeliveries is how many files may be sent to a member at once. A browser asks for
// several parts of a film at a time, and a household shares accounts now and then.
const MostDeliveries = 24

// Cuts are the deliveries that are running, so that they can be ended when a member may no longer
// have them.
type Cuts struct {
	mu sync.Mutex
	of map[int64]map[*sent]bool // by member
}

// sent is one of them.
type sent struct{ rc *http.ResponseController }

// Begin notes one, unless the member has too many. The function that it gives ends it.
func (c *Cuts) Begin(w http.ResponseWriter, v *Visitor) (end func(), err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	id := v.Member.ID
	if len(c.of[id]) >= MostDeliveries {
		return nil, &StatusError{Problem: &problem.Problem{
			What: "too much is sent to you at once",
			Why:  fmt.Sprintf("%s has %d deliveries going on", v.Member.Name, MostDeliveries),
			Fix:  "end one of them, and try again",
		}, Status: http.StatusTooManyRequests, Wait: 5 * time.Second}
	}
	if c.of == nil {
		c.of = map[int64]map[*sent]bool{}
	}
	if c.of[id] == nil {
		c.of[id] = map[*sent]bool{}
	}
	d := &sent{rc: http.NewResponseController(w)}
	c.of[id][d] = true
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		delete(c.of[id], d)
		if len(c.of[id]) == 0 {
			delete(c.of, id)
		}
	}, nil
}

// Has reports whether a member is being sent something.
func (c *Cuts) Has(member int64) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.of[member]) > 0
}

// Count is how many there are.
func (c *Cuts) Count() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := 0
	for _, list := range c.of {
		n += len(list)
	}
	return n
}

// Cut ends all deliveries to a member: what is still to be sent is not. Whoever may still
// have them asks again.
func (c *Cuts) Cut(member int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for d := range c.of[member] {
		_ = d.rc.SetWriteDeadline(time.Unix(1, 0)) // it may have ended by itself
	}
}
