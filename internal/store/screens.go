package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"time"
)

// Screen is one of the household's, on which one picks who one is.
type Screen struct {
	ID      int64
	Name    string
	Made    string // by which member
	Created time.Time
}

const screenColumns = "SELECT id, name, made, created FROM screens "

func scanScreen(r *sql.Rows, v *Screen) error {
	var created int64
	err := r.Scan(&v.ID, &v.Name, &v.Made, &created)
	v.Created = fromMilli(created)
	return err
}

// mostScreens is how many there may be.
const mostScreens = 50

// AddScreen notes a screen; only the hash of its token is kept.
func (s *Store) AddScreen(ctx context.Context, v Screen, token string, now time.Time) (Screen, error) {
	hash := sha256.Sum256([]byte(token))
	v.Created = now
	err := s.change(ctx, func(tx *sql.Tx) error {
		var n int
		if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM screens").Scan(&n); err != nil {
			return err
		}
		if n >= mostScreens {
			return ErrMany
		}
		res, err := tx.ExecContext(ctx, "INSERT INTO screens (name, token, made, created) VALUES (?, ?, ?, ?)", v.Name,
			hash[:],
			v.Made, milli(now))
		if err == nil {
			v.ID, err = res.LastInsertId()
		}
		return err
	})
	return v, err
}

// ScreenOf finds the screen of a token; ErrNotFound for none.
func (s *Store) ScreenOf(ctx context.Context, token string) (Screen, error) {
	hash := sha256.Sum256([]byte(token))
	return one(rows(ctx, s.r, scanScreen, screenColumns+"WHERE token = ?", hash[:]))
}

// Screens lists them.
func (s *Store) Screens(ctx context.Context) ([]Screen, error) {
	return rows(ctx, s.r, scanScreen, screenColumns+"ORDER BY name, id")
}

// RemoveScreen forgets a screen, and signs out everybody on it.
func (s *Store) RemoveScreen(ctx context.Context, id int64) error {
	defer s.changed()
	return s.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM devices WHERE screen = ? AND screen != 0", id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM screens WHERE id = ?", id)
		return err
	})
}

// OnScreen gives the members who are signed in on a screen.
func (s *Store) OnScreen(ctx context.Context, id int64) ([]int64, error) {
	return rows(ctx, s.r, func(r *sql.Rows, v *int64) error { return r.Scan(v) },
		"SELECT member FROM devices WHERE screen = ? AND screen != 0", id)
}

// LeaveScreen signs out whoever is signed in on a screen, but for one device.
func (s *Store) LeaveScreen(ctx context.Context, id, but int64) error {
	defer s.changed()
	_, err := s.w.ExecContext(ctx, "DELETE FROM devices WHERE screen = ? AND screen != 0 AND id != ?", id, but)
	return s.explain(err)
}

// SetPIN gives a member a PIN for screens, as its hash; an empty one takes it away.
func (s *Store) SetPIN(ctx context.Context, member int64, hash string) error {
	defer s.changed()
	return s.changedOne(ctx, "UPDATE members SET pin = ?2 WHERE id = ?1", member, hash)
}
