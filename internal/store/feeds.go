package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"time"
)

// SetFeed gives a member a secret address of what arrived, in place of the one before; only its hash is kept. An
// empty token takes it away.
func (s *Store) SetFeed(ctx context.Context, member int64, token string, now time.Time) error {
	if token == "" {
		_, err := s.w.ExecContext(ctx, "DELETE FROM feeds WHERE member = ?", member)
		return s.explain(err)
	}
	hash := sha256.Sum256([]byte(token))
	_, err := s.w.ExecContext(ctx, "INSERT INTO feeds (member, token, created) VALUES (?1, ?2, ?3) ON CONFLICT (member) "+
		"DO UPDATE SET token = ?2, created = ?3", member, hash[:], milli(now))
	return s.explain(err)
}

// FeedSince gives since when a member has such an address; zero for none.
func (s *Store) FeedSince(ctx context.Context, member int64) (time.Time, error) {
	t, err := one(rows(ctx, s.r, func(r *sql.Rows, n *int64) error { return r.Scan(n) },
		"SELECT created FROM feeds WHERE member = ?", member))
	if err == ErrNotFound {
		return time.Time{}, nil
	}
	return fromMilli(t), err
}

// FeedOf finds the member that an address belongs to; ErrNotFound for nobody.
func (s *Store) FeedOf(ctx context.Context, token string) (Member, error) {
	hash := sha256.Sum256([]byte(token))
	return one(rows(ctx, s.r, scanMember, memberColumns+"JOIN feeds f ON f.member = m.id WHERE f.token = ?", hash[:]))
}

// Arrival is a part of a title that arrived on the shelves.
type Arrival struct {
	Title Title
	File  File
	At    time.Time
}

// Arrivals gives what arrived last, the latest first: parts that can be played.
func (s *Store) Arrivals(ctx context.Context, limit int) ([]Arrival, error) {
	type row struct{ id, added int64 }
	list, err := rows(ctx, s.r, func(r *sql.Rows, v *row) error { return r.Scan(&v.id, &v.added) },
		// Files come in the order of their ids.
		"SELECT id, added FROM files WHERE gone = 0 AND problem = '' AND extra = '' ORDER BY id DESC LIMIT ?", limit)
	if err != nil {
		return nil, err
	}
	out := make([]Arrival, 0, len(list))
	for _, v := range list {
		t, f, err := s.FileOf(ctx, v.id, 0)
		if err == ErrNotFound {
			continue // it went meanwhile
		}
		if err != nil {
			return nil, err
		}
		out = append(out, Arrival{t, f, fromMilli(v.added)})
	}
	return out, nil
}
