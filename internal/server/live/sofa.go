package live

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

// Sofa is who watches something together on one device.
type Sofa struct {
	Now      []string // beside the member whose device it is
	Proposed []string // as it was the last time on this device, where nobody was named yet
	People   []string // who may be named
}

const (
	mostOnSofa   = 16
	afterwards   = 24 * time.Hour      // how long after a play it may be said who watched along
	lastSofaTime = 30 * 24 * time.Hour // how long the last sofa is proposed
)

// neighbours gives the members that the member of a request may name: at home, and no guest; children may
// name children.
func (s *Server) neighbours(r *http.Request) ([]store.Member, error) {
	v, now := VisitorOf(r), time.Now()
	if v.Away || v.Member.Role == allowance.Guest {
		return nil, &StatusError{Problem: &problem.Problem{What: "who watches along cannot be said from here",
			Why: "members say it at home", Fix: "say it there, within a day"}, Status: http.StatusForbidden}
	}
	all, err := s.Store.Members(r.Context())
	return slices.DeleteFunc(all, func(m store.Member) bool {
		return m.ID == v.Member.ID || !m.Allowed.Until.IsZero() && !now.Before(m.Allowed.Until) ||
			v.Member.Role == allowance.Child && m.Role != allowance.Child
	}), err
}

// SofaOf tells who watches a file on the device of a request, and who may be named.
func (s *Server) SofaOf(r *http.Request, f store.File) (Sofa, error) {
	people, err := s.neighbours(r)
	if err != nil {
		return Sofa{}, err
	}
	out := Sofa{Now: []string{}, Proposed: []string{}, People: []string{}}
	for _, m := range people {
		out.People = append(out.People, m.Name)
	}
	device, now := VisitorOf(r).Device.ID, time.Now()
	switch p, err := s.Store.LastPlay(r.Context(), device, f.ID, now.Add(-afterwards), false); {
	case err == nil:
		out.Now = append(out.Now, p.Sofa...)
	case !errors.Is(err, store.ErrNotFound):
		return out, err
	}
	if len(out.Now) > 0 {
		return out, nil
	}
	p, err := s.Store.LastPlay(r.Context(), device, 0, now.Add(-lastSofaTime), true)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return out, err
	}
	for _, name := range p.Sofa {
		if slices.Contains(out.People, name) {
			out.Proposed = append(out.Proposed, name)
		}
	}
	return out, nil
}

// Sit says who watches a file along on the device of a request, now or since within a day. For a child it
// has to be something for them, at a time of theirs, unless the member is an adult who says otherwise.
func (s *Server) Sit(r *http.Request, t store.Title, f store.File, names []string, overrule bool) (Sofa, error) {
	v, ctx := VisitorOf(r), r.Context()
	people, err := s.neighbours(r)
	if err != nil {
		return Sofa{}, err
	}
	if len(names) > mostOnSofa {
		return Sofa{}, UsageProblem("that is too many for a sofa", fmt.Sprintf("there are %d", len(names)),
			fmt.Sprintf("name at most %d", mostOnSofa))
	}
	var sofa []store.Sitting
	for _, name := range names {
		i := slices.IndexFunc(people, func(m store.Member) bool { return store.Fold(m.Name) == store.Fold(name) })
		if i < 0 {
			return Sofa{}, UsageProblem(fmt.Sprintf("%q cannot be named", name),
				"there is no such member, or you may not name them",
				"GET tells who may be")
		}
		m := people[i]
		if slices.ContainsFunc(sofa, func(x store.Sitting) bool { return x.ID == m.ID }) {
			continue
		}
		reason, err := s.maySit(ctx, m, t)
		if err != nil {
			return Sofa{}, err
		}
		if reason != "" && !(overrule && allowance.MayOverrule(v.Member.Role)) {
			return Sofa{}, notForThem(m.Name, reason, allowance.MayOverrule(v.Member.Role))
		}
		sofa = append(sofa, store.Sitting{ID: m.ID, Name: m.Name})
	}
	running, err := s.Tracker.Sit(ctx, v.Device.ID, f.ID, sofa)
	if err == nil && !running {
		err = s.satAfterwards(ctx, v.Device.ID, f.ID, sofa)
	}
	if errors.Is(err, store.ErrNotFound) {
		return Sofa{}, &StatusError{Problem: &problem.Problem{What: "nothing of it was watched on this device today",
			Why: "who watches along is said while it plays, or within a day", Fix: "play it first"},
			Status: http.StatusConflict}
	}
	if err != nil {
		return Sofa{}, err
	}
	return s.SofaOf(r, f)
}

// satAfterwards notes who watched something along that is over. What was watched counts for them now.
func (s *Server) satAfterwards(ctx context.Context, device, file int64, sofa []store.Sitting) error {
	p, err := s.Store.LastPlay(ctx, device, file, time.Now().Add(-afterwards), false)
	if err != nil {
		return err
	}
	if err := s.Store.Sit(ctx, p.ID, sofa); err != nil {
		return err
	}
	for _, m := range sofa {
		if !slices.Contains(p.Sofa, m.Name) {
			s.Charge(m.ID, allowance.Meter{Watched: time.Duration(p.Watched * float64(time.Second))})
		}
	}
	return nil
}

// maySit says why somebody may not watch a title along now; an empty reason where they may.
func (s *Server) maySit(ctx context.Context, m store.Member, t store.Title) (allowance.Reason, error) {
	seat := allowance.Seat{Role: m.Role, Allowed: m.Allowed,
		What: allowance.What{Shelf: t.Shelf, Kind: t.Kind, Age: t.Age}}
	now := time.Now().In(s.Zone)
	var err error
	if m.Ruled {
		if seat.What.Rule, err = s.Store.Rule(ctx, m.ID, t.ID); err != nil {
			return "", err
		}
	}
	if m.Allowed.Timed() {
		if seat.Used, err = s.used(ctx, m.ID, now); err != nil {
			return "", err
		}
		all, err := s.grants(ctx)
		if err != nil {
			return "", err
		}
		seat.Used.Granted = all[m.ID]
	}
	return allowance.MaySit(seat, now, s.Settings.UnknownAge), nil
}

// Seated is a child on a sofa whose time is bounded.
type Seated struct {
	Name    string
	Verdict allowance.Verdict
}

// TimesOnSofa tells of those who watch along and whose time is bounded how long it lasts.
func (s *Server) TimesOnSofa(ctx context.Context, names []string) (out []Seated, err error) {
	for _, name := range names {
		m, err := s.Store.Member(ctx, name)
		if errors.Is(err, store.ErrNotFound) {
			continue // removed meanwhile
		}
		if err != nil {
			return out, err
		}
		if m.Role != allowance.Child || !m.Allowed.Timed() {
			continue
		}
		_, v, err := s.Standing(ctx, m)
		if err != nil {
			return out, err
		}
		out = append(out, Seated{m.Name, v})
	}
	return out, nil
}

func notForThem(name string, reason allowance.Reason, may bool) error {
	p := &problem.Problem{What: fmt.Sprintf("this is not for %s now", name), Why: map[allowance.Reason]string{
		allowance.Age: "it is for older ones, or hidden from them", allowance.Hours: "it is outside of their hours",
		allowance.Day: "their time for today is used up", allowance.Week: "their time for this week is used up",
		allowance.Ended: "their account has ended"}[reason], Fix: "leave them out"}
	if may {
		p.Fix = strings.Join([]string{p.Fix, "or say that they may"}, ", ")
	}
	return &StatusError{Problem: p, Status: http.StatusForbidden}
}
