package live

import (
	"errors"
	"net/http"
	"time"

	"cozyshelf/internal/core/together"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// TogetherPath is what the path of a room's link begins with.
const TogetherPath = "/together/"

// Room is a film that is watched together apart, as a device sees it.
type Room struct {
	together.State
	ID       string
	Title    store.Title
	Film     store.File
	Position float64  // now
	Members  []string // who is there
}

// OpenRoom lets others watch a film with the member of a request, from wherever they are.
func (s *Server) OpenRoom(r *http.Request, f store.File) (string, error) {
	id := secret.Token()
	err := s.rooms.Open(time.Now(), id, f.ID, f.Duration, VisitorOf(r).Member.Name)
	if errors.Is(err, together.ErrFull) {
		err = &StatusError{Problem: &problem.Problem{What: "too much is watched together already",
			Why: "there are as many rooms as may be", Fix: "try again later"}, Status: http.StatusTooManyRequests,
			Wait: time.Minute}
	}
	return id, err
}

// RoomOf gives a room, if its film is there for the member of a request, who may watch it now.
func (s *Server) RoomOf(r *http.Request, id string) (Room, error) {
	out := Room{ID: id}
	state, names, err := s.rooms.State(id)
	if err != nil {
		return out, noRoom(err)
	}
	if out.Title, out.Film, err = s.Seen(r, state.File); err != nil {
		return out, err
	}
	if err := s.MayWatch(r, state.File); err != nil {
		return out, err
	}
	out.State, out.Members = state, names
	out.Position = state.Now(time.Now(), out.Film.Duration)
	return out, nil
}

// DoInRoom has all in a room play or pause, at a position.
func (s *Server) DoInRoom(r *http.Request, id string, playing bool, position float64) (Room, error) {
	if _, err := s.RoomOf(r, id); err != nil {
		return Room{}, err
	}
	if _, err := s.rooms.Do(time.Now(), id, playing, position, VisitorOf(r).Member.Name); err != nil {
		return Room{}, noRoom(err)
	}
	return s.RoomOf(r, id)
}

// FollowRoom calls tell with a room at once, whenever something changes, and now and then, until the request is
// over, the device is signed out, or its member may not watch any more: then it gives why.
func (s *Server) FollowRoom(r *http.Request, id string, every time.Duration, tell func(Room) error) error {
	v := VisitorOf(r)
	if _, err := s.RoomOf(r, id); err != nil {
		return err
	}
	changed, leave, err := s.rooms.Join(time.Now(), id, v.Device.ID, v.Member.Name)
	if err != nil {
		return noRoom(err)
	}
	defer leave()
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		m, _, err := s.Store.SignedIn(r.Context(), v.Device.ID, time.Now())
		if err != nil {
			return err
		}
		v.Member = m // by what holds now
		room, err := s.RoomOf(r, id)
		if err == nil {
			err = tell(room)
		}
		if err != nil {
			return err
		}
		select {
		case <-r.Context().Done():
			return nil
		case <-changed:
		case <-tick.C:
		}
	}
}

func noRoom(err error) error {
	switch {
	case errors.Is(err, together.ErrGone):
		return &StatusError{Problem: &problem.Problem{What: "nothing is watched together here any more",
			Why: "the link is old, or all have left it", Fix: "ask for another one, or begin anew"}, Status: http.StatusNotFound}
	case errors.Is(err, together.ErrFull):
		return &StatusError{Problem: &problem.Problem{What: "this room is full", Why: "as many watch together as may",
			Fix: "watch in front of one screen"}, Status: http.StatusTooManyRequests, Wait: time.Minute}
	}
	return err
}
