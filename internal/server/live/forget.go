package live

import (
	"context"
	"errors"
	"net/http"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

// forgetEvery is how often plays are looked through that are not kept any longer.
const forgetEvery = 10 * time.Minute

// effaceEvery is how often traces of what was forgotten are overwritten, at most: the store is written anew for it.
const effaceEvery = 24 * time.Hour

// MayChoose reports whether members may say for how long their plays are kept.
func (s *Server) MayChoose() bool { return s.Settings.HistoryChoice != household.ChoiceHousehold }

// ChooseHistory has the plays of the member of a request kept for so many days, from now on.
func (s *Server) ChooseHistory(r *http.Request, days usage.Kept) error {
	if !s.MayChoose() {
		return &StatusError{Problem: &problem.Problem{What: "for how long plays are kept is for the household to say",
			Why: "its file says so", Fix: "ask the household's administrator"}, Status: http.StatusForbidden}
	}
	m := VisitorOf(r).Member
	if err := s.Store.KeepHistory(r.Context(), m.ID, days); err != nil {
		return err
	}
	return s.forgetPlays(r.Context())
}

// Forget takes the names from plays that are not kept any longer.
func (s *Server) Forget(ctx context.Context) {
	for {
		if err := s.forgetPlays(ctx); err != nil && ctx.Err() == nil {
			s.Log.Error("plays could not be forgotten; it is tried again", "why", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(forgetEvery):
		}
	}
}

func (s *Server) forgetPlays(ctx context.Context) error {
	s.forgetting.Lock()
	defer s.forgetting.Unlock()
	now := time.Now()
	gone, err := s.Store.CutAddresses(ctx, now.Add(-usage.AddressKept))
	if err != nil {
		return err
	}
	all, err := s.Store.Members(ctx)
	if err != nil {
		return err
	}
	if before := usage.KeptBefore(now, s.Settings.History, usage.AsHousehold, false); !before.IsZero() {
		n, err := s.Store.ForgetPlays(ctx, "", before) // also of members that are gone
		if err != nil {
			return err
		}
		gone += int(n)
	}
	for _, m := range all {
		if m.History == usage.AsHousehold {
			continue
		}
		if before := usage.KeptBefore(now, s.Settings.History, m.History, s.MayChoose()); !before.IsZero() {
			n, err := s.Store.ForgetPlays(ctx, m.Name, before)
			if err != nil {
				return err
			}
			gone += int(n)
		}
	}
	if gone > 0 {
		s.effacing.Store(true)
	}
	if s.effacing.Load() && now.Sub(s.effaced).Abs() > effaceEvery {
		switch err := s.Store.Efface(ctx); {
		case errors.Is(err, store.ErrBusy), errors.Is(err, store.ErrFull): // the next time
		case err != nil:
			return err
		default:
			s.effacing.Store(false)
			s.effaced = now
		}
	}
	return nil
}
