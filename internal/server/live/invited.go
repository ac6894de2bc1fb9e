package live

import (
	"context"
	"errors"
	"net/http"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// InvitePath is what the path of an invite's link begins with.
const InvitePath = "/invite/"

// Invited finds the invite of a link, for whoever may use it from where they are.
func (s *Server) Invited(r *http.Request, token string) (store.Invite, error) {
	if len(token) > 100 {
		return store.Invite{}, noInvite()
	}
	i, err := s.Store.InviteOf(r.Context(), token, time.Now())
	if errors.Is(err, store.ErrNotFound) {
		return i, noInvite()
	}
	if v := VisitorOf(r); err == nil && v.Away && !i.Away {
		err = s.tooFar(i.Member, v)
	}
	return i, err
}

func noInvite() error {
	return &StatusError{Problem: &problem.Problem{What: "this invite is not good any more",
		Why: "it was used, its time is over, or another was made in its place", Fix: "ask who sent it for another one"},
		Status: http.StatusNotFound}
}

// Accept makes a member of an invite, with the password that was chosen, and signs in on a page.
func (s *Server) Accept(r *http.Request, token, password, device string) (string, store.Member, error) {
	i, err := s.Invited(r, token)
	if err != nil {
		return "", i.Member, err
	}
	if why := secret.Judge(password, i.Name); why != "" {
		return "", i.Member, &StatusError{Problem: &problem.Problem{What: "the password cannot be taken", Why: why,
			Fix: "choose a longer one"}, Status: http.StatusBadRequest}
	}
	// A hash takes memory: one at a time, however often somebody with a link asks.
	if !s.accepting.TryLock() {
		return "", i.Member, tooMany("somebody else is choosing a password at this moment", 2*time.Second)
	}
	defer s.accepting.Unlock()
	return s.accepted(r, i.Member, device, false, func(ctx context.Context, now time.Time) (store.Member, error) {
		return s.Store.Accept(ctx, token, s.Keys.Hash(password), now)
	})
}

// accepted makes a member of an invite, and signs in on a page.
func (s *Server) accepted(r *http.Request, invited store.Member, device string, second bool,
	accept func(ctx context.Context, now time.Time) (store.Member, error)) (string, store.Member, error) {
	now := time.Now()
	with, tell := s.Telling(r.Context(), event.MemberAdded{Member: invited.Name, Role: string(invited.Role)})
	m, err := accept(with, now)
	switch {
	case errors.Is(err, store.ErrNotFound), errors.Is(err, store.ErrExists):
		return "", m, noInvite()
	case err != nil:
		return "", m, err
	}
	tell()
	session, _, err := s.addDevice(r, m, store.Device{Name: device, Kind: store.ForPage, Second: second}, now)
	return session, m, err
}
