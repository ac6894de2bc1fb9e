package stream

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/store"
)

// Viewer is who is sent something: a member on a device, from an address.
type Viewer struct {
	Member   int64
	Name     string
	Device   int64
	DeviceAs string
	Address  string
	Away     bool
	Most     int    // how many streams the member may have at once; 0 for as many as they like
	Delivery string // how it is sent, where that is known
	Why      string // why not as it is
}

// Plays is what a Tracker needs of the store.
type Plays interface {
	BeginPlay(ctx context.Context, p usage.Play, device, file int64, now time.Time) (usage.Play, error)
	SofaOf(ctx context.Context, play int64) ([]store.Sitting, error)
	Sit(ctx context.Context, play int64, sofa []store.Sitting) error
	MarkPlays(ctx context.Context, marks ...store.Mark) error
}

// Tracker keeps account of the streams that are running. A stream is one file on one
// device; it begins with the first bytes or report, and is over when the device
// says so or has been silent for a while. What Report has acknowledged is on
// the disk; bytes are noted every few seconds.
type Tracker struct {
	Store Plays
	Log   *slog.Logger
	// Telling, unless nil, hears of plays that are about to begin or go on, and to be over. The change is made with the
	// context that it gives; tell is called when it is made.
	Telling func(ctx context.Context, began, ended []usage.Play) (with context.Context, tell func())
	// Watched, unless nil, hears of time that a member has really seen. It must be quick.
	Watched func(member int64, more time.Duration)
	Now     func() time.Time // time.Now where nil

	mu   sync.Mutex
	live map[key]*live

	settling sync.Mutex // one at a time: Settle holds many streams at once
}

type key struct{ device, file int64 }

type live struct {
	mu       sync.Mutex
	play     usage.Play
	member   int64
	sofa     []store.Sitting // who watches along
	file     int64
	reported time.Time  // of the last report
	pace     usage.Pace // bounds what counts as watched
	dirty    bool
	over     bool
	silent   bool // it is over because nothing was heard of it
	opened   bool
}

func (t *Tracker) now() time.Time {
	if t.Now != nil {
		return t.Now()
	}
	return time.Now()
}

// enter finds the stream of a viewer and a file, or begins one. The stream is
// locked when it is returned.
func (t *Tracker) enter(ctx context.Context, v Viewer, title store.Title, f store.File) (*live, error) {
	for {
		t.mu.Lock()
		if t.live == nil {
			t.live = map[key]*live{}
		}
		k := key{v.Device, f.ID}
		l := t.live[k]
		if l == nil {
			if v.Most > 0 && t.count(v.Member) >= v.Most {
				t.mu.Unlock()
				return nil, ErrMany
			}
			l = &live{member: v.Member, file: f.ID}
			t.live[k] = l
		}
		t.mu.Unlock()
		l.mu.Lock()
		if l.over {
			l.mu.Unlock() // it ended while we waited; the next round makes a new one
			t.drop(k, l)
			continue
		}
		if l.opened {
			return l, nil
		}
		p := usage.Play{
			Member: v.Name, Shelf: title.Shelf, Title: title.Name, Part: f.Part, Device: v.DeviceAs,
			Address: v.Address, Away: v.Away, From: f.ResumeAt, Duration: f.Duration,
			Delivery: v.Delivery, Why: v.Why,
		}
		now := t.now()
		with, tell := t.telling(ctx, []usage.Play{p}, nil)
		var err error
		if l.play, err = t.Store.BeginPlay(with, p, v.Device, f.ID, now); err != nil {
			l.over = true
			l.mu.Unlock()
			t.drop(k, l)
			return nil, err
		}
		tell()
		if len(l.play.Sofa) > 0 { // it goes on
			if l.sofa, err = t.Store.SofaOf(ctx, l.play.ID); err != nil {
				l.over = true
				l.mu.Unlock()
				t.drop(k, l)
				return nil, err
			}
		}
		l.opened, l.reported = true, now
		l.pace.Begin(now)
		return l, nil
	}
}

func (t *Tracker) drop(k key, l *live) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.live[k] == l {
		delete(t.live, k)
	}
}

// Sending notes that a file is asked for, and gives a function to be told of
// the bytes that leave.
func (t *Tracker) Sending(ctx context.Context, v Viewer, title store.Title, f store.File) (count func(int64),
	err error) {
	l, err := t.enter(ctx, v, title, f)
	if err != nil {
		return nil, err
	}
	l.play.Seen = t.now()
	if v.Delivery != "" && (v.Delivery != l.play.Delivery || v.Why != l.play.Why) {
		l.play.Delivery, l.play.Why, l.dirty = v.Delivery, v.Why, true
	}
	l.mu.Unlock()
	return func(n int64) {
		l.mu.Lock()
		if l.over && l.silent {
			// A player that was paused for long takes bytes again.
			l.mu.Unlock()
			again, err := t.enter(context.WithoutCancel(ctx), v, title, f)
			if err != nil {
				return // it is the next report that tells of the fault
			}
			l = again
		}
		defer l.mu.Unlock()
		l.play.Bytes += n
		l.play.Seen = t.now()
		l.dirty = true
	}, nil
}

// Report notes where a viewer is, in seconds, and whether watching is over.
// When it returns without error the position is kept.
func (t *Tracker) Report(ctx context.Context, v Viewer, title store.Title, f store.File, position float64,
	over bool) (usage.Play, error) {
	l, err := t.enter(ctx, v, title, f)
	if err != nil {
		return usage.Play{}, err
	}
	defer l.mu.Unlock()
	now := t.now()
	p := l.play
	pace := l.pace // it counts once the report is kept
	p.Watched += pace.Take(usage.Advance(p.Position, position, now.Sub(l.reported)), now)
	p.Position, p.Seen = position, now
	p.Done = p.Done || usage.Finished(position, p.Duration)
	m := mark(p, over)
	m.Member, m.File, m.Sofa = l.member, l.file, len(l.sofa) > 0
	var ends []usage.Play
	if over {
		ends = append(ends, p)
	}
	with, tell := t.telling(ctx, nil, ends)
	if err := t.Store.MarkPlays(with, m); err != nil {
		return p, err // as if it had not been told
	}
	tell()
	if more := p.Watched - l.play.Watched; more > 0 && t.Watched != nil {
		t.Watched(v.Member, time.Duration(more*float64(time.Second)))
		for _, m := range l.sofa {
			t.Watched(m.ID, time.Duration(more*float64(time.Second)))
		}
	}
	l.play, l.reported, l.pace, l.dirty = p, now, pace, false
	if over {
		l.over = true
		t.drop(key{v.Device, f.ID}, l)
	}
	return p, nil
}

// Running finds the stream of a play: on which device and of which file, and whose; a play of 0 for none.
func (t *Tracker) Running(play int64) (device, file int64, p usage.Play, member int64) {
	t.mu.Lock()
	list := make(map[key]*live, len(t.live))
	for k, l := range t.live {
		list[k] = l
	}
	t.mu.Unlock()
	for k, l := range list {
		l.mu.Lock()
		found := l.opened && !l.over && l.play.ID == play
		p, member = l.play, l.member
		l.mu.Unlock()
		if found {
			return k.device, k.file, p, member
		}
	}
	return 0, 0, usage.Play{}, 0
}

// Sit says who watches a stream along that is running; false where it is not.
func (t *Tracker) Sit(ctx context.Context, device, file int64, sofa []store.Sitting) (bool, error) {
	t.mu.Lock()
	l := t.live[key{device, file}]
	t.mu.Unlock()
	if l == nil {
		return false, nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over || !l.opened {
		return false, nil
	}
	if err := t.Store.Sit(ctx, l.play.ID, sofa); err != nil {
		return false, err
	}
	l.sofa, l.play.Sofa = sofa, nil
	for _, m := range sofa {
		l.play.Sofa = append(l.play.Sofa, m.Name)
	}
	return true, nil
}

// ErrMany says that a member has as many streams as may be.
var ErrMany = errors.New("as many streams are running as may be")

// count counts the streams of a member. The tracker is locked.
func (t *Tracker) count(member int64) (n int) {
	for _, l := range t.live {
		if l.member == member {
			n++
		}
	}
	return n
}

// Others counts the streams of a member besides one, and tells whether that is running.
func (t *Tracker) Others(member, device, file int64) (others int, running bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for k, l := range t.live {
		switch {
		case l.member != member:
		case k == key{device, file}:
			running = true
		default:
			others++
		}
	}
	return others, running
}

func (t *Tracker) telling(ctx context.Context, began, ended []usage.Play) (with context.Context, tell func()) {
	if t.Telling == nil || len(began)+len(ended) == 0 {
		return ctx, func() {}
	}
	return t.Telling(ctx, began, ended)
}

func mark(p usage.Play, over bool) store.Mark {
	return store.Mark{Play: p.ID, Position: p.Position, Watched: p.Watched, Bytes: p.Bytes, Done: p.Done, Over: over,
		At: p.Seen, Delivery: p.Delivery, Why: p.Why}
}

// Settle writes what has not been written and ends streams that were silent too
// long; with all it ends every stream. It is to be called every few seconds.
func (t *Tracker) Settle(ctx context.Context, all bool) error {
	t.settling.Lock()
	defer t.settling.Unlock()
	t.mu.Lock()
	list := make(map[key]*live, len(t.live))
	for k, l := range t.live {
		list[k] = l
	}
	t.mu.Unlock()
	var marks []store.Mark
	var ends []usage.Play
	var locked []*live
	now := t.now()
	for k, l := range list {
		l.mu.Lock()
		over := all || now.Sub(l.play.Seen) > usage.Silence
		if !l.opened || l.over || !l.dirty && !over {
			l.mu.Unlock()
			continue
		}
		marks = append(marks, mark(l.play, over))
		locked = append(locked, l)
		if over {
			l.over, l.silent = true, !all
			ends = append(ends, l.play)
			t.drop(k, l)
		}
	}
	// The streams stay locked until their marks are written, so that no report
	// that comes meanwhile is overwritten by an older mark.
	var err error
	if len(marks) > 0 {
		with, tell := t.telling(ctx, nil, ends)
		if err = t.Store.MarkPlays(with, marks...); err == nil {
			tell()
		}
	}
	for _, l := range locked {
		if err == nil {
			l.dirty = false
		}
		l.mu.Unlock()
	}
	return err
}

// Run settles every few seconds until the context ends, and once more then.
func (t *Tracker) Run(ctx context.Context) {
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if err := t.Settle(ctx, false); err != nil && ctx.Err() == nil {
				t.Log.Error("plays could not be noted; it is tried again", "why", err)
			}
		case <-ctx.Done():
			ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			if err := t.Settle(ctx, true); err != nil {
				t.Log.Error("plays could not be noted at the end", "why", err)
			}
			return
		}
	}
}
