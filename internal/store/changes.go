package store

import (
	"context"
	"database/sql"
	"time"
)

// ChangeOf is what was changed about how a member signs in.
type ChangeOf string

// What is changed.
const (
	PasswordSet   ChangeOf = "password"
	PasskeyMade   ChangeOf = "passkey made"
	PasskeyGone   ChangeOf = "passkey taken away"
	PasskeysGone  ChangeOf = "all passkeys taken away"
	FactorSet     ChangeOf = "second factor set up"
	FactorGone    ChangeOf = "second factor taken away"
	RecoveryTaken ChangeOf = "recovery code used"
	ScreenPIN     ChangeOf = "PIN for screens set"
	ScreenPINGone ChangeOf = "PIN for screens taken away"
)

// MostChanges is how many changes of a member are kept, the latest.
const MostChanges = 50

// SignInChange is a change to how a member signs in.
type SignInChange struct {
	ID      int64
	At      time.Time
	What    ChangeOf
	About   string // what a passkey is called
	Device  int64  // on which it was done; 0 where somebody else did it
	Called  string // that device's name
	Address string // from where; empty for the server's machine
	Told    bool   // the member knows of it
}

// NoteChange keeps a change to how a member signs in, so that they are told of it.
func (s *Store) NoteChange(ctx context.Context, member int64, c SignInChange) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO changes (member, at, what, about, device, called, address) "+
			"VALUES (?, ?, ?, ?, ?, ?, ?)", member, milli(c.At), c.What, c.About, c.Device, c.Called, c.Address); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM changes WHERE member = ?1 AND id NOT IN (SELECT id FROM changes "+
			"WHERE member = ?1 ORDER BY id DESC LIMIT ?2)", member, MostChanges)
		return err
	})
}

// ChangesOf gives the latest changes to how a member signs in, the latest first.
func (s *Store) ChangesOf(ctx context.Context, member int64, limit int) ([]SignInChange, error) {
	return rows(ctx, s.r, func(r *sql.Rows, c *SignInChange) error {
		var at int64
		err := r.Scan(&c.ID, &at, &c.What, &c.About, &c.Device, &c.Called, &c.Address, &c.Told)
		c.At = fromMilli(at)
		return err
	}, "SELECT id, at, what, about, device, called, address, told FROM changes WHERE member = ? ORDER BY id DESC LIMIT ?",
		member, limit)
}

// ToldOfChanges notes that a member knows of all changes up to one.
func (s *Store) ToldOfChanges(ctx context.Context, member, until int64) error {
	_, err := s.w.ExecContext(ctx, "UPDATE changes SET told = 1 WHERE member = ? AND id <= ? AND told = 0", member, until)
	return s.explain(err)
}

// Rehash keeps another hash of the same password, if it is still the one before. Nobody is signed out.
func (s *Store) Rehash(ctx context.Context, member int64, before, after string) error {
	defer s.changed()
	_, err := s.w.ExecContext(ctx, "UPDATE members SET password = ? WHERE id = ? AND password = ?", after, member, before)
	return s.explain(err)
}

// Reseal has each secret of a second factor kept as a function gives it.
func (s *Store) Reseal(ctx context.Context, seal func(member int64, secret string) (string, error)) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		type kept struct {
			member int64
			secret string
		}
		list, err := rows(ctx, tx, func(r *sql.Rows, k *kept) error { return r.Scan(&k.member, &k.secret) },
			"SELECT member, secret FROM factors")
		if err != nil {
			return err
		}
		for _, k := range list {
			text, err := seal(k.member, k.secret)
			if err != nil {
				return err
			}
			if text == k.secret {
				continue
			}
			if _, err := tx.ExecContext(ctx, "UPDATE factors SET secret = ? WHERE member = ?", text, k.member); err != nil {
				return err
			}
		}
		return nil
	})
}
