package live

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// MadeFor is how long a passphrase is good that was made for a member: until then they choose a
// password of their own.
const MadeFor = 7 * day

// openKeys opens the keys of passwords, and seals with them what older programs kept open.
func (s *Server) openKeys(ctx context.Context, st *store.Store) {
	var err error
	if s.Keys, err = secret.OpenKeys(s.Settings.State); err != nil {
		s.Log.Error("a key of passwords cannot be used", "why", err)
	}
	if err := st.Reseal(ctx, func(member int64, text string) (string, error) {
		if secret.IsSealed(text) {
			return text, nil
		}
		return s.Keys.Seal(factorOf(member), text)
	}); err != nil {
		s.Log.Warn("second factors are not sealed yet", "why", err)
	}
}

// factorOf is the purpose for which the secret of a member's second factor is sealed.
func factorOf(member int64) string { return fmt.Sprintf("second factor of member %d", member) }

// Factor gives a member's second factor, with its secret to be read. Where its key is gone only recovery
// codes are good.
func (s *Server) Factor(ctx context.Context, member int64) (store.Factor, error) {
	f, err := s.Store.Factor(ctx, member)
	if err != nil {
		return f, err
	}
	text, err := s.Keys.Unseal(factorOf(member), f.Secret)
	if err != nil {
		s.Log.Error("the second factor of a member cannot be read", "member", member, "why", err)
	}
	f.Secret = text
	return f, nil
}

// rightPassword reports whether a password is the one that was hashed. One whose key is gone fits none.
func (s *Server) rightPassword(ctx context.Context, line secret.Line, hash, password string) (bool, error) {
	right, err := s.Keys.Check(ctx, line, hash, password)
	if errors.Is(err, secret.ErrNoKey) {
		s.Log.Error("a password cannot be checked: set another one with cozyshelf member password", "why", err)
		return false, nil
	}
	return right, err
}

// hashAnew keeps a password that was right as it is kept now, where an older program kept it otherwise.
func (s *Server) hashAnew(ctx context.Context, m store.Member, password string) {
	if s.Keys.Current(m.Password) {
		return
	}
	if err := s.Store.Rehash(context.WithoutCancel(ctx), m.ID, m.Password, s.Keys.Hash(password)); err != nil {
		s.Log.Warn("a password is still kept as an older program kept it", "member", m.Name, "why", err)
	}
}

// outOfDate refuses a passphrase that was made for a member and not replaced in time.
func outOfDate(m store.Member, now time.Time) error {
	if m.MadeUntil.IsZero() || now.Before(m.MadeUntil) {
		return nil
	}
	return &StatusError{Problem: &problem.Problem{What: "this passphrase is not good any more",
		Why: fmt.Sprintf("it was made for you, to be replaced by one of your own until %s",
			m.MadeUntil.Format("2 January 2006")),
		Fix: "ask an administrator for another one: cozyshelf member password " + m.Name + " --generate"},
		Status: http.StatusForbidden}
}

// NoteChange keeps a change to how a member signs in, so that they are told of it wherever they sign in. It
// is done by whoever the context belongs to; on the server's machine that is nobody.
func (s *Server) NoteChange(ctx context.Context, m store.Member, what store.ChangeOf, about string) {
	c := store.SignInChange{At: time.Now(), What: what, About: about}
	if v, ok := ctx.Value(VisitorKey{}).(*Visitor); ok {
		c.Address, c.Called = v.Address.String(), v.Device.Name
		if v.Member.ID == m.ID {
			c.Device = v.Device.ID
		} else if v.Member.Name != "" {
			c.Called = v.Member.Name
		}
	}
	if err := s.Store.NoteChange(context.WithoutCancel(ctx), m.ID, c); err != nil {
		s.Log.Warn("a change to how a member signs in could not be kept for them", "member", m.Name, "why", err)
	}
}
