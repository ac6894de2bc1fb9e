package store

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"time"
)

// Factor is a member's second factor.
type Factor struct {
	Secret     string // base32
	Used       int64  // the last period of which a code was taken
	Created    time.Time
	Recoveries int // codes that are left for who has lost theirs
}

// Factor gives a member's second factor; ErrNotFound for none.
func (s *Store) Factor(ctx context.Context, member int64) (Factor, error) {
	return one(rows(ctx, s.r, func(r *sql.Rows, f *Factor) error {
		var created int64
		err := r.Scan(&f.Secret, &f.Used, &created, &f.Recoveries)
		f.Created = fromMilli(created)
		return err
	}, `SELECT secret, used, created, (SELECT count(*) FROM recoveries r WHERE r.member = f.member)
		FROM factors f WHERE member = ?`, member))
}

// SetFactor gives a member a second factor, of which a period is used already, and recovery codes, of which
// only the hashes are kept. The device that they ask from counts as signed in with it.
func (s *Store) SetFactor(ctx context.Context, member, device int64, f Factor, recoveries []string) error {
	defer s.changed()
	return s.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx,
			"INSERT INTO factors (member, secret, used, created) VALUES (?, ?, ?, ?) ON CONFLICT "+
				"DO UPDATE SET secret = excluded.secret, used = excluded.used, created = excluded.created", member, f.Secret, f.Used,
			milli(f.Created)); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE devices SET second = 1 WHERE id = ? AND member = ?", device,
			member); err != nil {
			return err
		}
		return setRecoveries(ctx, tx, member, recoveries)
	})
}

func setRecoveries(ctx context.Context, tx *sql.Tx, member int64, codes []string) error {
	if _, err := tx.ExecContext(ctx, "DELETE FROM recoveries WHERE member = ?", member); err != nil {
		return err
	}
	for _, c := range codes {
		hash := sha256.Sum256([]byte(c))
		if _, err := tx.ExecContext(ctx, "INSERT INTO recoveries (member, code) VALUES (?, ?)", member, hash[:]); err != nil {
			return err
		}
	}
	return nil
}

// UseCode notes that a code of a period was taken; ErrNotFound where it, or a later one, was already.
func (s *Store) UseCode(ctx context.Context, member, period int64) error {
	return s.changedOne(ctx, "UPDATE factors SET used = ?2 WHERE member = ?1 AND used < ?2", member, period)
}

// UseRecovery uses a recovery code up; ErrNotFound where there is no such one.
func (s *Store) UseRecovery(ctx context.Context, member int64, code string) error {
	hash := sha256.Sum256([]byte(code))
	return s.changedOne(ctx, "DELETE FROM recoveries WHERE member = ? AND code = ?", member, hash[:])
}

// RemoveFactor takes a member's second factor away, with its recovery codes; ErrNotFound for none. Devices
// that were signed in with it do not count as such any more.
func (s *Store) RemoveFactor(ctx context.Context, member int64) error {
	defer s.changed()
	return s.change(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM factors WHERE member = ?", member)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return cmp.Or(err, ErrNotFound)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE devices SET second = 0 WHERE member = ?", member); err != nil {
			return err
		}
		return setRecoveries(ctx, tx, member, nil)
	})
}

// changedOne makes a change that is to touch one row; ErrNotFound where it touches none.
func (s *Store) changedOne(ctx context.Context, query string, args ...any) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, query, args...)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return cmp.Or(err, ErrNotFound)
		}
		return nil
	})
}
