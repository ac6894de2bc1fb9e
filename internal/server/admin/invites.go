package admin

import (
	"errors"
	"fmt"
	"net/http"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

func (s *Admin) invite(r *http.Request) (any, error) {
	var in control.NewInvite
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	m, err := s.Person(in.Name, in.Role, in.Away, in.Allowed)
	if err != nil {
		return nil, err
	}
	token, i, err := s.Invite(r.Context(), m, in.For)
	if err != nil {
		return nil, err
	}
	out := inviteOf(i)
	out.Path = live.InvitePath + token
	return out, nil
}

func (s *Admin) invites(r *http.Request) (any, error) {
	list, err := s.Store.Invites(r.Context(), time.Now())
	out := []control.Invite{}
	for _, i := range list {
		out = append(out, inviteOf(i))
	}
	return out, err
}

func (s *Admin) takeBack(r *http.Request) (any, error) {
	name := r.PathValue("name")
	err := s.Store.RemoveInvite(r.Context(), name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &problem.Problem{What: fmt.Sprintf("there is no invite for %q", name),
			Why: "it was used, has expired, or never was", Fix: "see cozyshelf member invite", Err: err}
	}
	return struct{}{}, err
}

func inviteOf(i store.Invite) control.Invite {
	return control.Invite{Name: i.Name, Role: i.Role, Away: i.Away, Allowed: i.Allowed, Created: i.Created,
		Expires: i.Expires}
}
