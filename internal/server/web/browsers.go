package web

import (
	"net/http"
	"slices"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/notify"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// tellsBrowsers reports whether the household has browsers told of what happens.
func (s *Web) tellsBrowsers() bool {
	return slices.ContainsFunc(s.Settings.Notices, func(n household.Notice) bool { return n.To == household.ToBrowser })
}

// browserTold fills in what the own page says of that.
func (s *Web) browserTold(r *http.Request, p *ownPage) error {
	v := live.VisitorOf(r)
	if !s.tellsBrowsers() || v.Device.Screen != 0 || s.Keeper() == nil {
		return nil // a screen for several is nobody's own
	}
	var err error
	if p.Told, err = s.Store.BrowserOf(r.Context(), v.Device.ID); err == nil {
		p.PushKey, err = s.Keeper().PushKey(r.Context())
	}
	return err
}

// browserOwn has the browser of a request told of what concerns its member, or no longer.
func (s *Web) browserOwn(w http.ResponseWriter, r *http.Request) error {
	v := live.VisitorOf(r)
	if !s.tellsBrowsers() || v.Device.Screen != 0 {
		return live.Nothing(r)
	}
	r.Body = http.MaxBytesReader(w, r.Body, 8<<10)
	if r.PostFormValue("told") == "no" {
		if err := s.Store.DropBrowser(r.Context(), v.Device.ID); err != nil {
			return err
		}
		http.Redirect(w, r, "/own#told", http.StatusSeeOther)
		return nil
	}
	b := store.Browser{Device: v.Device.ID, Endpoint: r.PostFormValue("endpoint"), Key: r.PostFormValue("key"),
		Secret: r.PostFormValue("secret")}
	if err := notify.CheckBrowser(b); err != nil {
		return &live.StatusError{Problem: &problem.Problem{What: "this browser cannot be told", Why: err.Error(),
			Fix: "open your own page once more, and try again"}, Status: http.StatusBadRequest}
	}
	if err := s.Store.KeepBrowser(r.Context(), b, time.Now()); err != nil {
		return err
	}
	http.Redirect(w, r, "/own#told", http.StatusSeeOther)
	return nil
}
