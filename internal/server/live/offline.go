package live

import (
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

// Bounds of plays that are told afterwards, such as of a copy that was taken along.
const (
	oldestTold  = 60 * 24 * time.Hour
	longestTold = 24 * time.Hour
	mostTold    = 500 // of a device within a day
	clockSkew   = 5 * time.Minute
)

// Told is a play that a device tells of afterwards.
type Told struct {
	Started, Ended          time.Time
	From, Position, Watched float64 // seconds
}

// tellings counts what devices tell within a day. The zero value is ready.
type tellings struct {
	mu  sync.Mutex
	day int64
	of  map[int64]int
}

// take counts one, unless there are too many.
func (c *tellings) take(device int64, now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if day := now.Unix() / (24 * 60 * 60); c.of == nil || day != c.day {
		c.day, c.of = day, map[int64]int{}
	}
	c.of[device]++
	return c.of[device] <= mostTold
}

// TellPlay notes a play that is over, of which a device tells afterwards. Its minutes count for the day on which
// it began. One that was told already is given again.
func (s *Server) TellPlay(r *http.Request, t store.Title, f store.File, in Told) (usage.Play, error) {
	v, now := VisitorOf(r), time.Now()
	bad := func(why string) error {
		return UsageProblem("the play cannot be taken", why, "see /api/v1/openapi.json")
	}
	length := in.Ended.Sub(in.Started)
	switch {
	case in.Started.IsZero() || in.Ended.IsZero() || length < 0 || length > longestTold:
		return usage.Play{}, bad("it has to begin before it ends, and to last a day at most")
	case in.Ended.After(now.Add(clockSkew)):
		return usage.Play{}, bad("it ends in the future; is the device's clock right?")
	case now.Sub(in.Started) > oldestTold:
		return usage.Play{}, bad("it is older than 60 days")
	case !(in.From >= 0) || !(in.Position >= 0) || in.Position > 1e7 || in.From > 1e7 || f.Duration > 0 &&
		in.Position > f.Duration+60:
		return usage.Play{}, bad("its positions do not lie in the file")
	case !(in.Watched >= 0) || in.Watched > 2*length.Seconds()+1:
		return usage.Play{}, bad("more was watched than there was time for")
	}
	if !s.told.take(v.Device.ID, now) {
		return usage.Play{}, &StatusError{Problem: &problem.Problem{What: "too many plays are told at once",
			Why: fmt.Sprintf("a device tells of %d a day at most", mostTold), Fix: "tell of the rest tomorrow"},
			Status: http.StatusTooManyRequests, Wait: time.Hour}
	}
	p := usage.Play{Member: v.Member.Name, Shelf: t.Shelf, Title: t.Name, Part: f.Part, Device: v.Device.Name,
		Address: v.Address.String(), Away: v.Away, Started: in.Started, Seen: in.Ended, Ended: in.Ended, From: in.From,
		Position: in.Position, Duration: f.Duration, Watched: in.Watched, Done: usage.Finished(in.Position, f.Duration),
		Delivery: "as-it-is", Why: "told afterwards"}
	p, err := s.Store.TellPlay(r.Context(), p, v.Device.ID, v.Member.ID, f.ID)
	if errors.Is(err, store.ErrExists) {
		return p, nil
	}
	if err == nil {
		s.chargeAt(v.Member.ID, in.Started, allowance.Meter{Watched: time.Duration(in.Watched * float64(time.Second))})
	}
	return p, err
}
