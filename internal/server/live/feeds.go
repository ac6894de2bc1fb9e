package live

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"cozyshelf/internal/core/feed"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// FeedPath begins the secret addresses of what arrived.
const FeedPath = "/feed/"

// What a feed holds: so many parts that a member may watch, of so many that arrived last.
const (
	feedLength = 50
	feedLooked = 200
)

// feeds are made one at a time: each looks many parts up.
type feeds struct{ mu sync.Mutex }

// NewFeed gives the member of a request a secret address of what arrived, in place of the one before.
func (s *Server) NewFeed(r *http.Request) (path string, err error) {
	token := secret.Token()
	return FeedPath + token, s.Store.SetFeed(r.Context(), VisitorOf(r).Member.ID, token, time.Now())
}

// FeedMember finds whose a secret address is, and whether they may be asked for from where the request comes from.
// One that is nobody's counts as a guess.
func (s *Server) FeedMember(r *http.Request, token string) (store.Member, error) {
	now := time.Now()
	if len(token) > 128 {
		return store.Member{}, Nothing(r)
	}
	m, err := s.Store.FeedOf(r.Context(), token)
	if errors.Is(err, store.ErrNotFound) {
		if s.guessed.many(now) {
			s.holdBack(r)
		}
		return m, Nothing(r)
	}
	if err == nil {
		err = s.mayBeHere(m, VisitorOf(r), now)
	}
	return m, err
}

// Feed is what arrived for a member, at a base such as https://shelf.example.net.
func (s *Server) Feed(ctx context.Context, m store.Member, base, path string) (feed.Feed, error) {
	s.feeds.mu.Lock()
	defer s.feeds.mu.Unlock()
	out := feed.Feed{ID: "urn:cozyshelf:" + s.Settings.Household, Title: "Arrived, " + s.Settings.Name, Link: base + path,
		Updated: s.Started}
	list, err := s.Store.Arrivals(ctx, feedLooked)
	if err != nil {
		return out, err
	}
	sight := s.SightOf(m)
	for _, a := range list {
		if len(out.Entries) == feedLength {
			break
		}
		if shown, err := s.Store.Shows(ctx, sight, a.Title); err != nil || !shown {
			continue
		}
		e := feed.Entry{ID: fmt.Sprintf("%s:%d", out.ID, a.File.ID), Title: a.Title.Name, Says: a.Title.Shelf, At: a.At,
			Link: fmt.Sprintf("%s/title/%d", base, a.Title.ID)}
		if a.File.Part != "" {
			e.Title += ": " + a.File.Part
		}
		if a.File.Season > 0 && a.File.Episode > 0 {
			e.Says += fmt.Sprintf(", season %d, episode %d", a.File.Season, a.File.Episode)
		}
		out.Entries = append(out.Entries, e)
	}
	if len(out.Entries) > 0 {
		out.Updated = out.Entries[0].At
	}
	return out, nil
}
