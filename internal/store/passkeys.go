package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Passkey is one of a member's.
type Passkey struct {
	ID         int64
	Name       string
	Place      string // the server's name for which it was made
	Credential []byte // by which an authenticator names it
	Record     []byte // its public key and what goes with it
	Created    time.Time
	Used       time.Time // zero for never
}

// MostPasskeys is how many a member may have.
const MostPasskeys = 20

const passkeyColumns = "SELECT k.id, k.name, k.place, k.credential, k.record, k.created, k.used"

func scanPasskey(r *sql.Rows, k *Passkey, more ...any) error {
	var record string
	var created, used int64
	err := r.Scan(append([]any{&k.ID, &k.Name, &k.Place, &k.Credential, &record, &created, &used}, more...)...)
	k.Record, k.Created, k.Used = []byte(record), fromMilli(created), fromMilli(used)
	return err
}

// Passkeys gives a member's passkeys, the oldest first.
func (s *Store) Passkeys(ctx context.Context, member int64) ([]Passkey, error) {
	return rows(ctx, s.r, func(r *sql.Rows, k *Passkey) error { return scanPasskey(r, k) },
		passkeyColumns+" FROM passkeys k WHERE k.member = ? ORDER BY k.id", member)
}

// PasskeyOf finds a passkey by what an authenticator calls it, and whose it is, with the handle of that
// member; ErrNotFound for none, or one that is for another name.
func (s *Store) PasskeyOf(ctx context.Context, place string, credential []byte) (k Passkey, member string,
	handle []byte, err error) {
	k, err = one(rows(ctx, s.r, func(r *sql.Rows, k *Passkey) error { return scanPasskey(r, k, &member, &handle) },
		passkeyColumns+", m.name, m.handle FROM passkeys k JOIN members m ON m.id = k.member "+
			"WHERE k.credential = ? AND k.place = ?", credential, place))
	return k, member, handle, err
}

// Handle gives by what authenticators know a member; nothing for whoever never had a passkey.
func (s *Store) Handle(ctx context.Context, member int64) (handle []byte, err error) {
	err = s.r.QueryRowContext(ctx, "SELECT handle FROM members WHERE id = ?", member).Scan(&handle)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return handle, err
}

// AddPasskey gives a member a passkey that was made for a handle; ErrExists where the passkey is somebody's
// already, or the member has another handle by now.
func (s *Store) AddPasskey(ctx context.Context, member int64, handle []byte, k Passkey, now time.Time) error {
	defer s.changed()
	return s.change(ctx, func(tx *sql.Tx) error { return addPasskey(ctx, tx, member, handle, k, now) })
}

func addPasskey(ctx context.Context, tx *sql.Tx, member int64, handle []byte, k Passkey, now time.Time) error {
	var has []byte
	var count int
	var taken bool
	err := tx.QueryRowContext(ctx, "UPDATE members SET handle = coalesce(handle, ?2) WHERE id = ?1 RETURNING handle, "+
		"(SELECT count(*) FROM passkeys WHERE member = ?1), EXISTS (SELECT 1 FROM passkeys WHERE credential = ?3)",
		member, handle, k.Credential).Scan(&has, &count, &taken)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return ErrNotFound
	case err != nil:
		return err
	case taken || !bytes.Equal(has, handle):
		return fmt.Errorf("the passkey %w", ErrExists)
	case count >= MostPasskeys:
		return ErrMany
	}
	_, err = tx.ExecContext(ctx, "INSERT INTO passkeys (member, name, place, credential, record, created, used) "+
		"VALUES (?, ?, ?, ?, ?, ?, 0)", member, k.Name, k.Place, k.Credential, string(k.Record), milli(now))
	return err
}

// UsePasskey notes that a passkey was used, and how it has changed by that.
func (s *Store) UsePasskey(ctx context.Context, id int64, record []byte, now time.Time) error {
	return s.changedOne(ctx, "UPDATE passkeys SET record = ?2, used = ?3 WHERE id = ?1", id, string(record), milli(now))
}

// ErrLastWayIn says that a member could not sign in any more.
var ErrLastWayIn = errors.New("the last way in")

// RemovePasskey takes one of a member's passkeys away; ErrNotFound for none, ErrLastWayIn for the only one of
// whoever has no password.
func (s *Store) RemovePasskey(ctx context.Context, member, id int64) error {
	defer s.changed()
	return s.change(ctx, func(tx *sql.Tx) error {
		var has, only bool
		if err := tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM passkeys WHERE id = ?2 AND member = ?1), "+
			"NOT EXISTS (SELECT 1 FROM passkeys WHERE id != ?2 AND member = ?1) AND EXISTS "+
			"(SELECT 1 FROM members WHERE id = ?1 AND password = '')", member, id).Scan(&has, &only); err != nil {
			return err
		}
		switch {
		case !has:
			return ErrNotFound
		case only:
			return ErrLastWayIn
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM passkeys WHERE id = ?", id)
		return err
	})
}

// ForgetPasskeys takes all of a member's passkeys away, and gives how many there were.
func (s *Store) ForgetPasskeys(ctx context.Context, member int64) (int, error) {
	defer s.changed()
	var n int64
	err := s.tx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM passkeys WHERE member = ?", member)
		if err != nil {
			return err
		}
		if n, err = res.RowsAffected(); err == nil && n == 0 {
			err = ErrNotFound
		}
		return err
	})
	if errors.Is(err, ErrNotFound) { // so nothing is told
		err = nil
	}
	return int(n), err
}
