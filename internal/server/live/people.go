package live

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// How long an invite may be good.
const (
	shortestInvite = time.Minute
	longestInvite  = 30 * 24 * time.Hour
)

// checkName says why a name cannot be a member's, or nothing.
func checkName(name string) string {
	switch {
	case name == "":
		return "it is empty"
	case !utf8.ValidString(name) || utf8.RuneCountInString(name) > 32:
		return "it has more than 32 characters"
	case strings.ContainsFunc(name, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) && !strings.ContainsRune("-_.", r)
	}):
		return "it may hold letters, digits, and - _ ."
	}
	return ""
}

// Person gives a member as it was asked for, without a password. A nil away stands for what the role
// brings, a nil allowance for no bounds.
func (s *Server) Person(name string, role allowance.Role, away *bool, a *allowance.Allowance) (store.Member, error) {
	m := store.Member{Name: name, Role: role, Away: role.AwayByDefault()}
	if why := checkName(name); why != "" {
		return m, UsageProblem(fmt.Sprintf("%q cannot be a member's name", name), why,
			"choose a short name, such as wren")
	}
	if !role.Known() {
		return m, UsageProblem(fmt.Sprintf("there is no role %q", role),
			"a member is admin, adult, child or guest", "give one of these with --role")
	}
	if away != nil {
		m.Away = *away
	}
	if a == nil {
		return m, nil
	}
	m.Allowed = *a
	return m, s.Allowable(*a)
}

// Allowable refuses an allowance that cannot be one.
func (s *Server) Allowable(a allowance.Allowance) error {
	if err := a.Check(); err != nil {
		return UsageProblem("that cannot be allowed", err.Error(), "see cozyshelf member edit --help")
	}
	for _, name := range a.Shelves {
		if s.Shelves[name] == nil {
			return s.NoShelf(name)
		}
	}
	return nil
}

// Invite makes an invite for somebody who is to become a member, and gives the token of its link.
func (s *Server) Invite(ctx context.Context, m store.Member, lasts time.Duration) (token string, i store.Invite,
	err error) {
	if lasts < shortestInvite || lasts > longestInvite {
		return "", i, UsageProblem("the invite cannot be good for so long", "it may be from a minute to 30 days",
			"leave --for out for a day")
	}
	now := time.Now()
	i.Member, i.Expires, i.Created = m, now.Add(lasts).Truncate(time.Second), now
	token = secret.Token()
	with, tell := s.Telling(ctx, event.Invited{Who: i.Name, Role: string(i.Role)})
	err = s.Store.AddInvite(with, i, token, now)
	switch {
	case errors.Is(err, store.ErrExists):
		return "", i, &problem.Problem{What: fmt.Sprintf("there is a member %s already", m.Name),
			Why: "an invite is for somebody who has no account", Fix: "cozyshelf member password gives a new password",
			Err: err}
	case errors.Is(err, store.ErrNoMember):
		return "", i, UsageProblem("nobody can be invited yet",
			"the first member is made on this machine, an administrator", "cozyshelf member add NAME --role admin")
	case errors.Is(err, store.ErrMany):
		return "", i, UsageProblem("no more can be invited", "as many invites are open as may be",
			"take some back: cozyshelf member invite")
	case err != nil:
		return "", i, err
	}
	tell()
	return token, i, nil
}

// NoMember says of an error about a member that there is none of that name, if that is why.
func NoMember(name string, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return &problem.Problem{What: fmt.Sprintf("there is no member %q", name),
			Why: "nobody of that name has an account", Fix: "see cozyshelf member list", Err: err}
	}
	return err
}

// EditMember changes what a member is and may do. What they are being sent is judged anew.
func (s *Server) EditMember(ctx context.Context, name string, e store.Edit) (store.Member, error) {
	if e.Role != nil && !e.Role.Known() {
		return store.Member{}, UsageProblem(fmt.Sprintf("there is no role %q", *e.Role),
			"a member is admin, adult, child or guest", "give one of these with --role")
	}
	if e.Allowed != nil {
		if err := s.Allowable(*e.Allowed); err != nil {
			return store.Member{}, err
		}
	}
	m, err := s.Store.Member(ctx, name)
	if err != nil {
		return m, NoMember(name, err)
	}
	if e.Role != nil {
		m.Role = *e.Role
	}
	if e.Away != nil {
		m.Away = *e.Away
	}
	with, tell := s.Telling(ctx, event.MemberChanged{Member: m.Name, Role: string(m.Role), Away: m.Away})
	err = s.Store.EditMember(with, name, e)
	if errors.Is(err, store.ErrLastAdmin) {
		return store.Member{}, &problem.Problem{What: fmt.Sprintf("%s stays an administrator", name),
			Why: "the household would be left without one", Fix: "make another member an administrator first", Err: err}
	}
	if err == nil {
		tell()
		m, err = s.Store.Member(ctx, name)
	}
	if err != nil {
		return m, NoMember(name, err)
	}
	s.Cuts.Cut(m.ID)
	return m, nil
}

// SignOutAll signs a member out on all devices but one.
func (s *Server) SignOutAll(ctx context.Context, m store.Member, but int64) error {
	list, err := s.Store.DevicesOf(ctx, m.ID, time.Now())
	if err != nil {
		return err
	}
	for _, d := range list {
		if d.ID == but {
			continue
		}
		if err := s.Store.RemoveDevice(ctx, d.ID); err != nil {
			return err
		}
	}
	s.Cuts.Cut(m.ID) // who may still have it asks again
	return nil
}

// DropMember takes a member's account away. Their plays stay.
func (s *Server) DropMember(ctx context.Context, name string) error {
	with, tell := s.Telling(ctx, event.MemberRemoved{Member: name})
	m, err := s.Store.Member(ctx, name)
	if err == nil {
		err = s.Store.RemoveMember(with, name)
	}
	if errors.Is(err, store.ErrLastAdmin) {
		return &problem.Problem{What: fmt.Sprintf("%s cannot be removed", name),
			Why: "the household would be left without an administrator",
			Fix: "make another member an administrator first", Err: err}
	}
	if err != nil {
		return NoMember(name, err)
	}
	s.Someone.Store(false) // it is looked at anew
	s.Cuts.Cut(m.ID)
	tell()
	return nil
}
