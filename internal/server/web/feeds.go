package web

import (
	"net/http"
	"time"

	"cozyshelf/internal/core/feed"
	"cozyshelf/internal/server/live"
)

// FeedRoutes adds what arrived, at secret addresses: programs that read them cannot sign in.
func (s *Web) FeedRoutes(m *http.ServeMux) {
	m.HandleFunc("GET "+live.FeedPath+"{token}/arrived.atom", s.feed("application/atom+xml", feed.Feed.Atom))
	m.HandleFunc("GET "+live.FeedPath+"{token}/arrived.ics", s.feed("text/calendar",
		func(f feed.Feed) ([]byte, error) { return f.Calendar(s.Zone), nil }))
}

// feed answers with a feed in a form.
func (s *Web) feed(kind string, write func(feed.Feed) ([]byte, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		m, err := s.FeedMember(r, r.PathValue("token"))
		var f feed.Feed
		if err == nil {
			f, err = s.Feed(r.Context(), m, base(r), r.URL.Path)
		}
		var b []byte
		if err == nil {
			b, err = write(f)
		}
		if err != nil {
			live.Fail(w, err)
			return
		}
		w.Header().Set("Content-Type", kind+"; charset=utf-8")
		_, _ = w.Write(b) // whoever asked may have gone
	}
}

// feedOwn gives the member a secret address of what arrived, or takes it away.
func (s *Web) feedOwn(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	if r.PostFormValue("feed") == "none" {
		if err := s.Store.SetFeed(r.Context(), live.VisitorOf(r).Member.ID, "", time.Now()); err != nil {
			return err
		}
		http.Redirect(w, r, "/own#feed", http.StatusSeeOther)
		return nil
	}
	path, err := s.NewFeed(r)
	if err != nil {
		return err
	}
	return s.showOwnWith(w, r, func(p *ownPage) { p.FeedAt = base(r) + path })
}
