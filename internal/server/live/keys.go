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
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/right"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// keyPrefix begins the token of a key, by which it is told from a member's.
const keyPrefix = "key_"

// How long a key may be good.
const (
	shortestKey = time.Minute
	longestKey  = 10 * 365 * day
)

// NewKey makes a key for another system, and gives its token, which is shown once. It is good for a time; for
// ever where that is zero.
func (s *Server) NewKey(ctx context.Context, k store.Key, lasts time.Duration) (string, store.Key, error) {
	if why := checkName(k.Name); why != "" {
		return "", k, UsageProblem(fmt.Sprintf("%q cannot be a key's name", k.Name), why,
			"choose a short name, such as automation")
	}
	if len(k.May) == 0 {
		return "", k, UsageProblem("the key could do nothing", "no right is given",
			"name them with --may: "+right.Words(right.All))
	}
	if lasts != 0 && (lasts < shortestKey || lasts > longestKey) {
		return "", k, UsageProblem("the key cannot be good for so long", "it may be from a minute to ten years",
			"leave --for out for one that does not end")
	}
	k.Created = time.Now()
	if lasts > 0 {
		k.Ends = k.Created.Add(lasts).Truncate(time.Second)
	}
	token := keyPrefix + secret.Token()
	with, tell := s.Telling(ctx, event.KeyChanged{Key: k.Name, May: right.Words(k.May), Set: true})
	switch err := s.Store.AddKey(with, k, token); {
	case errors.Is(err, store.ErrExists):
		return "", k, &problem.Problem{What: "there is a key " + k.Name + " already", Why: "each system has one of its own",
			Fix: "choose another name, or cozyshelf key remove " + k.Name, Err: err}
	case errors.Is(err, store.ErrMany):
		return "", k, UsageProblem("there are too many keys", fmt.Sprintf("%d are the most", store.MostKeys),
			"remove one that is not used: cozyshelf key list")
	case err != nil:
		return "", k, err
	}
	tell()
	return token, k, nil
}

// DropKey takes a key away.
func (s *Server) DropKey(ctx context.Context, name string) error {
	with, tell := s.Telling(ctx, event.KeyChanged{Key: name})
	err := s.Store.RemoveKey(with, name)
	if errors.Is(err, store.ErrNotFound) {
		return &problem.Problem{What: fmt.Sprintf("there is no key %q", name), Why: "none of that name was made",
			Fix: "see cozyshelf key list", Err: err}
	}
	if err == nil {
		tell()
	}
	return err
}

func noKey() error {
	return &StatusError{Problem: &problem.Problem{What: "the key is not good",
		Why: "it is not known, was taken away, or has ended",
		Fix: "have an administrator make one: cozyshelf key add"}, Status: http.StatusUnauthorized}
}

// identifyKey finds out whose key a request brings, and whether it may do something from where it is.
func (s *Server) identifyKey(r *http.Request, token string, needs right.Right) error {
	v, now := VisitorOf(r), time.Now()
	if len(token) > 128 {
		return noKey()
	}
	k, err := s.Store.KeyOf(r.Context(), token, now)
	if errors.Is(err, store.ErrNotFound) {
		if s.guessed.many(now) {
			s.holdBack(r)
		}
		return noKey()
	}
	if err != nil {
		return err
	}
	refused := func(why, fix string) error {
		s.failed.warn(s.Log, "a key was refused: "+why, k.Name, v.Address, now)
		return &StatusError{Problem: &problem.Problem{What: "the key " + k.Name + " may not do that", Why: why, Fix: fix},
			Status: http.StatusForbidden}
	}
	switch {
	case !slices.Contains(k.May, needs):
		return refused("it may "+right.Words(k.May)+", and this needs "+string(needs), "make another key with that right")
	case v.Away && !k.Away:
		return refused("it is good at home only", "make one with --away")
	}
	v.Key = &k
	s.Door.Known(r)
	here := place{now, v.Address.String()}
	if last, _ := s.keysTouched.Load(k.ID); last == nil || last.(place).network != here.network ||
		now.Sub(last.(place).at) > time.Minute {
		s.keysTouched.Store(k.ID, here)
		if err := s.Store.TouchKey(context.WithoutCancel(r.Context()), k.ID, here.network, now); err != nil {
			s.Log.Warn("a key could not be noted as used", "key", k.Name, "why", err)
		}
	}
	return nil
}

// WithKey lets keys with a right pass, and members as SignedIn does, where members are given.
func (s *Server) WithKey(needs right.Right, members bool, next http.HandlerFunc) http.HandlerFunc {
	signed := s.SignedIn(next)
	return func(w http.ResponseWriter, r *http.Request) {
		token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !ok || !strings.HasPrefix(token, keyPrefix) {
			if members {
				signed(w, r)
				return
			}
			w.Header().Set("WWW-Authenticate", `Bearer realm="shelf"`)
			Fail(w, noKey())
			return
		}
		if err := s.identifyKey(r, token, needs); err != nil {
			Fail(w, err)
			return
		}
		next(w, r)
	}
}

// HouseOpen gives why an administrator of a request does not see to the house from where they are, and what
// to do; nothing where they do. Whoever is none of them is told that there is nothing.
func (s *Server) HouseOpen(r *http.Request) error {
	v := VisitorOf(r)
	refuse := func(why, fix string) error {
		return &StatusError{Problem: &problem.Problem{What: "the house is seen to elsewhere", Why: why, Fix: fix},
			Status: http.StatusForbidden}
	}
	switch where := s.Settings.Administration; {
	case v.Member.Role != allowance.Admin:
		return Nothing(r)
	case where == household.AdminNever:
		return refuse("the household's file leaves it to the tool", "use cozyshelf on the host")
	case v.Away && where != household.AdminAnywhere:
		return refuse("it is open at home only", "go on at home, or use cozyshelf on the host")
	case !v.Device.Second:
		return refuse("you have signed in without a second factor",
			"set one up on your own page, or sign in again with it")
	}
	return nil
}
