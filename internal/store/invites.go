package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Invite lets one person choose a password, once and for a while. Its Member has none yet.
type Invite struct {
	Member
	Expires time.Time
}

// ErrNoMember says that there is no member yet: the first is made on the host.
var ErrNoMember = errors.New("there is no member yet")

// mostInvites is how many may be open.
const mostInvites = 200

// AddInvite notes an invite; only the hash of its token is kept. One for the same name is replaced.
func (s *Store) AddInvite(ctx context.Context, i Invite, token string, now time.Time) error {
	hash := sha256.Sum256([]byte(token))
	allowed, err := json.Marshal(i.Allowed)
	if err != nil {
		return err
	}
	return s.change(ctx, func(tx *sql.Tx) error {
		var all, same, open int
		if err := tx.QueryRowContext(ctx, "SELECT count(*), count(*) FILTER (WHERE folded = ?) FROM members",
			Fold(i.Name)).Scan(&all, &same); err != nil {
			return err
		}
		switch {
		case all == 0:
			return ErrNoMember
		case same > 0:
			return fmt.Errorf("member %s %w", i.Name, ErrExists)
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM invites WHERE folded = ? OR expires <= ?", Fold(i.Name),
			milli(now)); err != nil {
			return err
		}
		if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM invites").Scan(&open); err != nil {
			return err
		}
		if open >= mostInvites {
			return ErrMany
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO invites (token, name, folded, role, away, allowance, created, expires) "+
			"VALUES (?, ?, ?, ?, ?, ?, ?, ?)", hash[:], i.Name, Fold(i.Name), i.Role, i.Away, string(allowed), milli(now),
			milli(i.Expires))
		return err
	})
}

const inviteColumns = "SELECT name, role, away, allowance, created, expires FROM invites "

func scanInvite(r *sql.Rows, i *Invite) error {
	var allowed string
	var created, expires int64
	err := r.Scan(&i.Name, &i.Role, &i.Away, &allowed, &created, &expires)
	i.Created, i.Expires = fromMilli(created), fromMilli(expires)
	i.allow(allowed)
	return err
}

// Invites lists those that are open.
func (s *Store) Invites(ctx context.Context, now time.Time) ([]Invite, error) {
	return rows(ctx, s.r, scanInvite, inviteColumns+"WHERE expires > ? ORDER BY created, name", milli(now))
}

// InviteOf finds the invite of a token; ErrNotFound for none that is open.
func (s *Store) InviteOf(ctx context.Context, token string, now time.Time) (Invite, error) {
	hash := sha256.Sum256([]byte(token))
	return one(rows(ctx, s.r, scanInvite, inviteColumns+"WHERE token = ? AND expires > ?", hash[:], milli(now)))
}

// RemoveInvite takes an invite back; ErrNotFound for none.
func (s *Store) RemoveInvite(ctx context.Context, name string) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		var gone string
		err := tx.QueryRowContext(ctx, "DELETE FROM invites WHERE folded = ? RETURNING name", Fold(name)).Scan(&gone)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNotFound
		}
		return err
	})
}

// Accept makes a member of an invite, with the password that was chosen. The invite is used up.
func (s *Store) Accept(ctx context.Context, token, password string, now time.Time) (Member, error) {
	return s.accept(ctx, token, now, func(tx *sql.Tx, m Member) (Member, error) {
		m.Password = password
		return addMember(ctx, tx, m, now)
	})
}

// AcceptPasskey makes a member of an invite, with a passkey that was made for a handle, and without a password.
func (s *Store) AcceptPasskey(ctx context.Context, token string, handle []byte, k Passkey, now time.Time) (Member,
	error) {
	return s.accept(ctx, token, now, func(tx *sql.Tx, m Member) (Member, error) {
		m, err := addMember(ctx, tx, m, now)
		if err != nil {
			return m, err
		}
		return m, addPasskey(ctx, tx, m.ID, handle, k, now)
	})
}

func (s *Store) accept(ctx context.Context, token string, now time.Time,
	add func(*sql.Tx, Member) (Member, error)) (Member, error) {
	i, err := s.InviteOf(ctx, token, now)
	if err != nil {
		return Member{}, err
	}
	hash := sha256.Sum256([]byte(token))
	m := i.Member
	defer s.changed()
	err = s.change(ctx, func(tx *sql.Tx) error {
		var gone string
		err := tx.QueryRowContext(ctx, "DELETE FROM invites WHERE token = ? AND expires > ? RETURNING name", hash[:],
			milli(now)).Scan(&gone)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNotFound // somebody was faster
		}
		if err != nil {
			return err
		}
		m, err = add(tx, m)
		return err
	})
	return m, err
}
