// Package together keeps members in several places at the same moment of a film: what one of them does,
// all do. It knows where a film stands; how devices are told, and how they follow, is for others.
package together

import (
	"errors"
	"maps"
	"slices"
	"sync"
	"time"
)

const (
	mostRooms   = 32
	mostMembers = 16 // devices in one room
	mostOfOne   = 4  // rooms that one member opened: another takes the place of the one used least lately
	mostLines   = 4  // connections of one device
	idle        = 6 * time.Hour
)

// Errors of rooms.
var (
	ErrFull = errors.New("there is no more room")
	ErrGone = errors.New("there is no such room")
)

// State is where a film stands.
type State struct {
	File     int64
	Playing  bool
	Position float64 // seconds, at At
	At       time.Time
	Change   int    // counts what was done
	By       string // who did it last
}

// Now gives the position at a moment, not beyond the film's length, unless that is 0.
func (s State) Now(t time.Time, length float64) float64 {
	p := s.Position
	if s.Playing && t.After(s.At) {
		p += t.Sub(s.At).Seconds()
	}
	if length > 0 {
		p = min(p, length)
	}
	return p
}

// Rooms are the films that are watched together apart. The zero value is ready.
type Rooms struct {
	mu sync.Mutex
	of map[string]*room
}

type room struct {
	State
	opened  string // by whom
	length  float64
	used    time.Time
	members map[int64]*member // by device
}

type member struct {
	name string
	tell chan struct{} // has room for one: something has changed
	here int           // connections
}

// Open makes a room of a name that nobody can guess, for a film of a length.
func (r *Rooms) Open(now time.Time, id string, file int64, length float64, by string) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	for name, room := range r.of {
		if now.Sub(room.used).Abs() > idle {
			delete(r.of, name)
		}
	}
	own, oldest := 0, ""
	for name, room := range r.of {
		if room.opened != by {
			continue
		}
		if own++; oldest == "" || room.used.Before(r.of[oldest].used) {
			oldest = name
		}
	}
	if own >= mostOfOne {
		r.of[oldest].told(nil) // its devices ask, and hear that it is gone
		delete(r.of, oldest)
	}
	if len(r.of) >= mostRooms {
		return ErrFull
	}
	if r.of == nil {
		r.of = map[string]*room{}
	}
	r.of[id] = &room{State: State{File: file, At: now, By: by}, opened: by, length: length, used: now,
		members: map[int64]*member{}}
	return nil
}

// State gives where the film of a room stands, and the names of who is there.
func (r *Rooms) State(id string) (State, []string, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	room := r.of[id]
	if room == nil {
		return State{}, nil, ErrGone
	}
	var names []string
	for _, m := range room.members {
		names = append(names, m.name)
	}
	slices.Sort(names)
	return room.State, slices.Compact(names), nil
}

// Join lets a device in. The channel tells when something has changed; leave has to be called once.
func (r *Rooms) Join(now time.Time, id string, device int64, name string) (changed <-chan struct{}, leave func(),
	err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	room := r.of[id]
	if room == nil {
		return nil, nil, ErrGone
	}
	m := room.members[device]
	if m == nil {
		if len(room.members) >= mostMembers {
			return nil, nil, ErrFull
		}
		m = &member{name: name}
		room.members[device] = m
	}
	if m.here >= mostLines {
		return nil, nil, ErrFull
	}
	m.here++
	// A device that comes again takes the place of its connection before.
	m.tell = make(chan struct{}, 1)
	room.used = now
	room.told(nil)
	mine := m.tell
	return mine, func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		if m.here--; m.here == 0 && room.members[device] == m {
			delete(room.members, device)
			room.told(nil)
		}
	}, nil
}

// Do notes what somebody did. Where it says what is so already, nothing changes, so that devices which follow
// do not echo.
func (r *Rooms) Do(now time.Time, id string, playing bool, position float64, by string) (State, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	room := r.of[id]
	if room == nil {
		return State{}, ErrGone
	}
	if room.length > 0 {
		position = min(position, room.length)
	}
	position = max(0, position)
	room.used = now
	if room.Playing == playing {
		if off := position - room.Now(now, room.length); off < 0.25 && off > -0.25 {
			return room.State, nil
		}
	}
	room.State = State{File: room.File, Playing: playing, Position: position, At: now, Change: room.Change + 1, By: by}
	room.told(nil)
	return room.State, nil
}

// told tells all members but one that something has changed.
func (r *room) told(but *member) {
	for m := range maps.Values(r.members) {
		if m == but {
			continue
		}
		select {
		case m.tell <- struct{}{}:
		default: // they are told already
		}
	}
}

// Correction is what a device does that is not where the others are: how fast it plays, or a jump.
type Correction struct {
	Speed float64
	Jump  bool
}

// Correct says how a device catches up: within an unnoticeable difference not at all, within a few seconds by
// speed, beyond them by a jump.
func Correct(mine, theirs float64) Correction {
	switch off := theirs - mine; {
	case off > -0.06 && off < 0.06:
		return Correction{Speed: 1}
	case off > 3 || off < -3:
		return Correction{Speed: 1, Jump: true}
	default:
		return Correction{Speed: 1 + max(-0.1, min(0.1, off/4))}
	}
}
