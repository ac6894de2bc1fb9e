package live

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/delivery"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

// minutes is how much members watched this week. It is held in memory, and what is new is written
// every few seconds.
type minutes struct {
	writing sync.Mutex // while it is held, what is new is in the store or not, but not both
	mu      sync.Mutex
	of      map[int64]*week
	due     map[dayKey]allowance.Meter
}

type week struct {
	name string
	days map[string]allowance.Meter
}

type dayKey struct {
	member    int64
	day, week string
}

func add(a, b allowance.Meter) allowance.Meter {
	return allowance.Meter{Watched: a.Watched + b.Watched, Fetched: a.Fetched + b.Fetched}
}

// Charge notes that a member watched something, or was sent so much of a film.
func (s *Server) Charge(member int64, more allowance.Meter) { s.chargeAt(member, time.Now(), more) }

// chargeAt does the same for a moment.
func (s *Server) chargeAt(member int64, at time.Time, more allowance.Meter) {
	now := at.In(s.Zone)
	k := dayKey{member, allowance.DayOf(now), allowance.WeekOf(now)}
	m := &s.minutes
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.due == nil {
		m.due = map[dayKey]allowance.Meter{}
	}
	m.due[k] = add(m.due[k], more)
	if w := m.of[member]; w != nil && w.name == k.week {
		w.days[k.day] = add(w.days[k.day], more)
	}
}

// used gives what a member watched this week.
func (s *Server) used(ctx context.Context, member int64, now time.Time) (u allowance.Used, err error) {
	m := &s.minutes
	name := allowance.WeekOf(now)
	m.mu.Lock()
	w := m.of[member]
	m.mu.Unlock()
	if w == nil || w.name != name {
		if w, err = s.loadWeek(ctx, member, name); err != nil {
			return u, err
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for day, d := range w.days {
		u.Week += d.Used()
		if day == allowance.DayOf(now) {
			u.Today = d.Used()
		}
	}
	return u, nil
}

func (s *Server) loadWeek(ctx context.Context, member int64, name string) (*week, error) {
	m := &s.minutes
	m.writing.Lock()
	defer m.writing.Unlock()
	list, err := s.Store.WatchedWeek(ctx, member, name)
	if err != nil {
		return nil, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	w := &week{name: name, days: map[string]allowance.Meter{}}
	for _, d := range list {
		w.days[d.Day] = d.Meter
	}
	for k, more := range m.due {
		if k.member == member && k.week == name {
			w.days[k.day] = add(w.days[k.day], more)
		}
	}
	if m.of == nil {
		m.of = map[int64]*week{}
	}
	m.of[member] = w
	return w, nil
}

// writeMinutes writes what is new.
func (s *Server) writeMinutes(ctx context.Context) error {
	m := &s.minutes
	m.writing.Lock()
	defer m.writing.Unlock()
	m.mu.Lock()
	due := m.due
	m.due = nil
	m.mu.Unlock()
	if len(due) == 0 {
		return nil
	}
	var list []store.WatchedDay
	for k, more := range due {
		list = append(list, store.WatchedDay{Member: k.member, Day: k.day, Week: k.week, Meter: more})
	}
	err := s.Store.AddWatched(ctx, list...)
	if err != nil {
		m.mu.Lock()
		defer m.mu.Unlock()
		if m.due == nil {
			m.due = map[dayKey]allowance.Meter{}
		}
		for k, more := range due {
			m.due[k] = add(m.due[k], more)
		}
	}
	return err
}

// allowancePause is how often it is looked who may not watch any more.
const allowancePause = 5 * time.Second

// Allowances ends what members may not be sent any more, and writes how much they watched.
func (s *Server) Allowances(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), allowancePause)
			defer cancel()
			if err := s.writeMinutes(last); err != nil {
				s.Log.Error("how much was watched could not be noted at the end", "why", err)
			}
			return
		case <-time.After(allowancePause):
		}
		if err := s.writeMinutes(ctx); err != nil && ctx.Err() == nil {
			s.Log.Error("how much was watched could not be noted; it is tried again", "why", err)
		}
		if s.Cuts.Count() == 0 {
			continue
		}
		all, err := s.Store.Members(ctx)
		if err != nil {
			continue // it is looked again soon
		}
		for _, m := range all {
			if (m.Allowed.Timed() || !m.Allowed.Until.IsZero()) && s.Cuts.Has(m.ID) {
				if v, err := s.verdict(ctx, m, 0, 0); err == nil && !v.OK {
					s.Cuts.Cut(m.ID)
					s.timeUp(m, v)
				}
			}
		}
	}
}

// verdict says whether a member may watch now: a file on a device, or 0 for whatever is running.
func (s *Server) verdict(ctx context.Context, m store.Member, device, file int64) (allowance.Verdict, error) {
	var u allowance.Used
	now := time.Now().In(s.Zone)
	if m.Allowed.Day > 0 || m.Allowed.Week > 0 {
		var err error
		if u, err = s.used(ctx, m.ID, now); err != nil {
			return allowance.Verdict{}, err
		}
	}
	if m.Allowed.Timed() {
		all, err := s.grants(ctx)
		if err != nil {
			return allowance.Verdict{}, err
		}
		u.Granted = all[m.ID]
	}
	if m.Allowed.Streams > 0 && file != 0 {
		if others, running := s.Tracker.Others(m.ID, device, file); !running {
			u.Streams = others
		}
	}
	return allowance.Decide(m.Allowed, now, u), nil
}

// grants gives until when more was granted to members. It is held in memory until one is added.
func (s *Server) grants(ctx context.Context) (map[int64]time.Time, error) {
	if all := s.granted.Load(); all != nil {
		return *all, nil
	}
	s.granting.Lock()
	defer s.granting.Unlock()
	all, err := s.Store.Granted(ctx, time.Now())
	if err == nil {
		s.granted.Store(&all)
	}
	return all, err
}

const (
	grantedAtOnce = 30 * time.Minute // how much more a member is granted
	begunLately   = 2 * time.Hour    // how long ago the film was seen last that is to end
	overrun       = 2 * time.Minute  // for pauses
	longestFilm   = 5 * time.Hour
)

// Rest is what a member watched lately, and how long it goes on; an empty title where there is nothing.
func (s *Server) Rest(ctx context.Context, m store.Member) (title string, rest time.Duration, err error) {
	list, err := s.Store.Plays(ctx, usage.Filter{Member: m.Name, Since: time.Now().Add(-begunLately), Limit: 1})
	if err != nil || len(list) == 0 || list[0].Done || list[0].Duration <= list[0].Position {
		return "", 0, err
	}
	p := list[0]
	return p.Title, min(longestFilm, time.Duration((p.Duration-p.Position)*float64(time.Second))), nil
}

// MayGrant reports whether the member of a request may grant others more: adults may, at home.
func MayGrant(r *http.Request) bool {
	v := VisitorOf(r)
	return !v.Away && (v.Member.Role == allowance.Admin || v.Member.Role == allowance.Adult)
}

// Wards gives the children whose time is bounded.
func (s *Server) Wards(ctx context.Context) (out []store.Member, err error) {
	all, err := s.Store.Members(ctx)
	for _, m := range all {
		if m.Role == allowance.Child && m.Allowed.Timed() {
			out = append(out, m)
		}
	}
	return out, err
}

// GrantMore lets a child watch for a while more, or until the film ends that it watched lately, whatever its
// hours and minutes are.
func (s *Server) GrantMore(r *http.Request, name string, film bool) error {
	if !MayGrant(r) {
		return &StatusError{Problem: &problem.Problem{What: "you may not grant more", Why: "adults may, at home",
			Fix: "ask one of them"}, Status: http.StatusForbidden}
	}
	list, err := s.Wards(r.Context())
	if err != nil {
		return err
	}
	for _, m := range list {
		if store.Fold(m.Name) != store.Fold(name) {
			continue
		}
		more := grantedAtOnce
		if film {
			title, rest, err := s.Rest(r.Context(), m)
			if err != nil {
				return err
			}
			if title == "" {
				return &StatusError{Problem: &problem.Problem{What: m.Name + " is watching nothing that could end",
					Why: "nothing was watched within two hours, or it is over", Fix: "grant half an hour"},
					Status: http.StatusConflict}
			}
			more = rest + overrun
		}
		until, by := time.Now().Add(more), VisitorOf(r).Member.Name
		s.granting.Lock()
		defer s.granting.Unlock()
		with, tell := s.Telling(r.Context(), event.Granted{Member: m.Name, By: by,
			Until: until.In(s.Zone).Format("15:04")})
		if err := s.Store.Grant(with, m.ID, until, by); err != nil {
			return err
		}
		tell()
		s.granted.Store(nil)
		return nil
	}
	return Nothing(r)
}

// Standing tells what a member has watched, and whether it may go on.
func (s *Server) Standing(ctx context.Context, m store.Member) (u allowance.Used, v allowance.Verdict, err error) {
	if u, err = s.used(ctx, m.ID, time.Now().In(s.Zone)); err == nil {
		v, err = s.verdict(ctx, m, 0, 0)
	}
	return u, v, err
}

// MayWatch refuses a file that the member of a request may not watch now.
func (s *Server) MayWatch(r *http.Request, file int64) error {
	v := VisitorOf(r)
	if err := s.stoppedNow(v.Device.ID, file); err != nil {
		return err
	}
	d, err := s.verdict(r.Context(), v.Member, v.Device.ID, file)
	if err != nil || d.OK {
		return err
	}
	return s.notNow(v.Member, d)
}

// TooMany refuses a stream more than the member of a request may have at once.
func (s *Server) TooMany(r *http.Request) error {
	return s.notNow(VisitorOf(r).Member, allowance.Verdict{Reason: allowance.Streams})
}

// Enough ends what the member of a request is being sent, if it may not watch on.
func (s *Server) Enough(r *http.Request, file int64) {
	v := VisitorOf(r)
	if !v.Member.Allowed.Timed() {
		return
	}
	if d, err := s.verdict(r.Context(), v.Member, v.Device.ID, file); err == nil && !d.OK {
		s.Cuts.Cut(v.Member.ID)
	}
}

// Lasts tells for how long a member may go on with a file: when that ends, if it does within a day, and why.
func (s *Server) Lasts(r *http.Request, file int64) (allowance.Verdict, error) {
	if s.stoppedNow(VisitorOf(r).Device.ID, file) != nil {
		return allowance.Verdict{Reason: allowance.Stopped}, nil
	}
	return s.verdict(r.Context(), VisitorOf(r).Member, 0, 0)
}

// CutAged has what members with a bound of age are being sent judged anew.
func (s *Server) CutAged(ctx context.Context) {
	all, err := s.Store.Members(ctx)
	for _, m := range all {
		if m.Allowed.Age != nil {
			s.Cuts.Cut(m.ID)
		}
	}
	if err != nil {
		s.Log.Error("what is being sent could not be judged anew; it ends with the stream", "why", err)
	}
}

// notNow is a refusal, with when it goes on.
func (s *Server) notNow(m store.Member, d allowance.Verdict) error {
	now := time.Now().In(s.Zone)
	p := &problem.Problem{Fix: "ask the household's administrator"}
	switch d.Reason {
	case allowance.Hours:
		p.What, p.Why = "it is not your time to watch", "your hours are "+allowance.FormatHours(m.Allowed.Hours)
	case allowance.Day:
		p.What, p.Why = "your time for today is used up", fmt.Sprintf("you may watch %d minutes a day", m.Allowed.Day)
	case allowance.Week:
		p.What, p.Why = "your time for this week is used up", fmt.Sprintf("you may watch %d minutes a week", m.Allowed.Week)
	case allowance.Streams:
		p.What, p.Fix = "as much plays as you may watch at once", "end one of them, and try again in a minute"
		p.Why = fmt.Sprintf("you may watch %d at once", m.Allowed.Streams)
	case allowance.Ended:
		p.What, p.Why = "your account has ended", "it was good until "+Spoken(m.Allowed.Until.In(s.Zone), now)
	}
	e := &StatusError{Problem: p, Status: http.StatusForbidden}
	if !d.Until.IsZero() {
		p.Fix = "it goes on " + Spoken(d.Until.In(s.Zone), now)
		e.Wait = d.Until.Sub(now)
	}
	return e
}

// Spoken writes a moment as one says it: today at 19:30.
func Spoken(t, now time.Time) string {
	clock := t.Format("15:04")
	switch day := allowance.DayOf(t); {
	case day == allowance.DayOf(now):
		return "today at " + clock
	case day == allowance.DayOf(now.AddDate(0, 0, 1)):
		return "tomorrow at " + clock
	case t.After(now) && t.Sub(now) < 7*24*time.Hour:
		return "on " + t.Weekday().String() + " at " + clock
	}
	return "on " + t.Format("2 January 2006") + " at " + clock
}

// Bounds are those of the pictures that the member of a request gets from where they are.
func (s *Server) Bounds(r *http.Request) delivery.Bounds {
	v := VisitorOf(r)
	return delivery.Bounds(v.Member.Allowed.Size(v.Away))
}

// Fits refuses what is larger than the member of a request may be sent.
func (s *Server) Fits(r *http.Request, what media.Info, size int64) error {
	b := s.Bounds(r)
	t := what.First(media.Video)
	if b.Height > 0 && min(t.Width, t.Height) > b.Height || b.Bitrate > 0 && t.Kind != "" && what.Duration > 0 &&
		float64(size)*8/what.Duration > float64(b.Bitrate) {
		return &StatusError{Problem: &problem.Problem{What: "the file is larger than you may be sent",
			Why: "there is a bound for you", Fix: "play it on the page, or ask for a delivery (POST .../delivery)"},
			Status: http.StatusForbidden}
	}
	return nil
}
