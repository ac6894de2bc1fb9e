package live

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/problem"
)

// outside is the way in from outside the home: whether it is open, and what is being answered there.
type outside struct {
	mu       sync.Mutex
	file     string
	since    time.Time // that it is closed; zero while it is open
	asking   map[*asking]bool
	allowed  []netip.Prefix
	refused  []netip.Prefix
	restrict bool // only those that are allowed
}

// asking is a request from outside that is being answered.
type asking struct {
	rc    *http.ResponseController
	end   context.CancelFunc
	ended bool // since the way in was closed
}

// closedNote is what is kept of it over a restart.
type closedNote struct {
	Closed time.Time `json:"closed_at"`
}

// openOutside reads whether the way in is closed, and who may come by it.
func (s *Server) openOutside() {
	o := &s.outside
	o.file = filepath.Join(s.Settings.State, layout.Closed)
	o.allowed, o.refused = household.Prefixes(s.Settings.AllowedNetworks), household.Prefixes(s.Settings.RefusedNetworks)
	o.restrict = len(s.Settings.AllowedNetworks) > 0
	b, err := os.ReadFile(o.file)
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	var note closedNote
	if err == nil {
		err = json.Unmarshal(b, &note)
	}
	if o.since = note.Closed; err != nil || o.since.IsZero() {
		o.since = s.Started // it was closed, whatever else became of it
		s.Log.Warn("since when the way in from outside is closed cannot be read", "why", err)
	}
}

// CloseOutside closes the way in from outside, until it is opened again; now ends all that is being answered there,
// too. It gives how much that was.
func (s *Server) CloseOutside(now bool) (ended int, err error) {
	o := &s.outside
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.since.IsZero() {
		o.since = time.Now().Truncate(time.Second)
		s.Events.Tell(event.OutsideChanged{Closed: true})
	}
	if now {
		for a := range o.asking {
			a.ended = true
			a.end()
			_ = a.rc.SetReadDeadline(time.Unix(1, 0)) // it may have ended by itself
			_ = a.rc.SetWriteDeadline(time.Unix(1, 0))
			ended++
		}
	}
	b, err := json.Marshal(closedNote{o.since})
	if err == nil {
		err = atomicfile.Replace(o.file, b, 0o600, nil)
	}
	return ended, err
}

// OpenOutside opens it again.
func (s *Server) OpenOutside() error {
	o := &s.outside
	o.mu.Lock()
	defer o.mu.Unlock()
	if err := os.Remove(o.file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if !o.since.IsZero() {
		o.since = time.Time{}
		s.Events.Tell(event.OutsideChanged{})
	}
	return nil
}

// OutsideClosed gives since when the way in is closed; zero while it is open.
func (s *Server) OutsideClosed() time.Time {
	s.outside.mu.Lock()
	defer s.outside.mu.Unlock()
	return s.outside.since
}

// FromOutside judges a request from outside by the way in alone, and has it end when that is closed. The function
// that it gives says that the request is over, and tells whether it was ended: then its connection must not be used
// any more.
func (s *Server) FromOutside(w http.ResponseWriter, r *http.Request, v *Visitor) (*http.Request, func() bool, error) {
	if !v.Away {
		return r, func() bool { return false }, nil
	}
	refuse := func(why string) error {
		return &StatusError{Problem: &problem.Problem{What: "nobody comes in from outside the home",
			Where: v.Address.String(),
			Why:   why, Fix: "go on at home, or ask the household's administrator"}, Status: http.StatusForbidden}
	}
	in := func(list []netip.Prefix) bool {
		return slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(v.Address) })
	}
	o := &s.outside
	o.mu.Lock()
	defer o.mu.Unlock()
	switch {
	case !o.since.IsZero():
		return r, nil, refuse("the way in is closed")
	case in(o.refused), o.restrict && !in(o.allowed):
		return r, nil, refuse("not from this network")
	}
	ctx, end := context.WithCancel(r.Context())
	a := &asking{rc: http.NewResponseController(w), end: end}
	if o.asking == nil {
		o.asking = map[*asking]bool{}
	}
	o.asking[a] = true
	return r.WithContext(ctx), func() bool {
		end()
		o.mu.Lock()
		defer o.mu.Unlock()
		delete(o.asking, a)
		return a.ended
	}, nil
}
