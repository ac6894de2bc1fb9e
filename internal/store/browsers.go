package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"cozyshelf/internal/core/allowance"
)

// Browser is one that is told of what happens.
type Browser struct {
	Device   int64
	Member   string
	Role     allowance.Role
	Endpoint string
	Key      string // of the browser, base64url
	Secret   string // shared with it, base64url
	Failing  time.Time
}

// mostBrowsers is how many of a member's are told; another takes the place of the oldest.
const mostBrowsers = 10

// KeepBrowser notes by which address the browser of a device is told, in place of the one before. An address that
// another device gave belongs to this one from now on: it is the same browser.
func (s *Store) KeepBrowser(ctx context.Context, b Browser, now time.Time) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM browsers WHERE endpoint = ? OR device = ?", b.Endpoint,
			b.Device); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO browsers (device, endpoint, key, secret, created) VALUES "+
			"(?, ?, ?, ?, ?)", b.Device, b.Endpoint, b.Key, b.Secret, milli(now)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx,
			`DELETE FROM browsers WHERE device IN (SELECT b.device FROM browsers b JOIN devices d
			ON d.id = b.device WHERE d.member = (SELECT member FROM devices WHERE id = ?) ORDER BY b.created DESC,
				b.device DESC
			LIMIT -1 OFFSET ?)`, b.Device, mostBrowsers)
		return err
	})
}

// DropBrowser forgets the browser of a device.
func (s *Store) DropBrowser(ctx context.Context, device int64) error {
	_, err := s.w.ExecContext(ctx, "DELETE FROM browsers WHERE device = ?", device)
	return s.explain(err)
}

// DropAddress forgets a browser by its address: its push service says that it is there no more.
func (s *Store) DropAddress(ctx context.Context, endpoint string) error {
	_, err := s.w.ExecContext(ctx, "DELETE FROM browsers WHERE endpoint = ?", endpoint)
	return s.explain(err)
}

// BrowserOf reports whether the browser of a device is told of what happens.
func (s *Store) BrowserOf(ctx context.Context, device int64) (is bool, err error) {
	err = s.r.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM browsers WHERE device = ?)", device).Scan(&is)
	return is, s.explain(err)
}

// Browsers gives those of devices that are signed in.
func (s *Store) Browsers(ctx context.Context, now time.Time) ([]Browser, error) {
	return rows(ctx, s.r, func(r *sql.Rows, b *Browser) error {
		var failing int64
		err := r.Scan(&b.Device, &b.Member, &b.Role, &b.Endpoint, &b.Key, &b.Secret, &failing)
		b.Failing = fromMilli(failing)
		return err
	}, `SELECT b.device, m.name, m.role, b.endpoint, b.key, b.secret, b.failing FROM browsers b
		JOIN devices d ON d.id = b.device JOIN members m ON m.id = d.member WHERE d.expires > ? ORDER BY b.device`,
		milli(now))
}

// BrowserFails notes since when a browser's push service takes nothing; zero says that it does.
func (s *Store) BrowserFails(ctx context.Context, endpoint string, since time.Time) error {
	_, err := s.w.ExecContext(ctx, "UPDATE browsers SET failing = ?2 WHERE endpoint = ?1 AND failing != ?2", endpoint,
		milli(since))
	return s.explain(err)
}

// Once gives a text that is made once, and remembered under a name from then on.
func (s *Store) Once(ctx context.Context, name string, make func() (string, error)) (text string, err error) {
	err = s.change(ctx, func(tx *sql.Tx) error {
		err := tx.QueryRowContext(ctx, "SELECT text FROM remembered WHERE name = ?", name).Scan(&text)
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if text, err = make(); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO remembered (name, text) VALUES (?, ?)", name, text)
		return err
	})
	return text, err
}
