package live

import (
	"context"
	"crypto/rand"
	"errors"
	"net/http"
	"sync"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/factor"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// What waits for a second factor: sign-ins whose password was right, and factors that are being set up.
const (
	secondTime  = 5 * time.Minute
	setupTime   = 15 * time.Minute
	mostSeconds = 256
	mostSetups  = 64
)

// seconds are what waits for a code. The zero value is ready.
type seconds struct {
	mu      sync.Mutex
	signing map[string]signing
	setups  map[int64]setup // by member
}

// signing is a sign-in whose password was right.
type signing struct {
	member  string
	device  string
	kind    store.For
	expires time.Time
}

// setup is a factor that is not confirmed yet.
type setup struct {
	secret  string
	expires time.Time
}

// SecondWanted says that the password was right, and a code is wanted by which the sign-in goes on.
type SecondWanted struct{ Ticket string }

func (*SecondWanted) Error() string { return "a code of the second factor is wanted" }

// Demands reports whether a member needs a second factor from outside the home.
func (s *Server) Demands(m store.Member) bool {
	switch s.Settings.SecondFactor {
	case household.SecondAdmins:
		return m.Role == allowance.Admin
	case household.SecondEverybody:
		return true
	}
	return false
}

func needsSecond(m store.Member) error {
	return &StatusError{Problem: &problem.Problem{What: "a second factor is needed from outside the home",
		Why: "this household asks " + m.Name + " for one",
		Fix: "set one up at home, on your own page, and sign in with it"}, Status: http.StatusForbidden}
}

// second goes on with a sign-in whose password was right: with a code where the member has a factor. It
// gives whether one was used.
func (s *Server) second(r *http.Request, m store.Member, code, device string, kind store.For, now time.Time) (bool,
	error) {
	f, err := s.Factor(r.Context(), m.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
		if VisitorOf(r).Away && s.Demands(m) {
			return false, needsSecond(m)
		}
		return false, nil
	case err != nil:
		return false, err
	case code == "":
		return false, &SecondWanted{Ticket: s.seconds.wait(signing{m.Name, device, kind, now.Add(secondTime)}, now)}
	}
	return true, s.takeCode(r.Context(), m, f, code, now)
}

// wait keeps a sign-in, and gives by what it goes on.
func (w *seconds) wait(i signing, now time.Time) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	for t, old := range w.signing {
		if now.After(old.expires) || len(w.signing) >= mostSeconds {
			delete(w.signing, t)
		}
	}
	if w.signing == nil {
		w.signing = map[string]signing{}
	}
	ticket := secret.Token()
	w.signing[ticket] = i
	return ticket
}

func wrongCode() error {
	return &StatusError{Problem: &problem.Problem{What: "the code is not right",
		Why: "it is another one, was used already, or a clock is wrong",
		Fix: "wait for the next code, or use a recovery code"}, Status: http.StatusUnauthorized}
}

// takeCode uses a code of a factor up, or a recovery code.
func (s *Server) takeCode(ctx context.Context, m store.Member, f store.Factor, code string, now time.Time) error {
	if step, ok := factor.Check(f.Secret, code, now, f.Used); ok {
		err := s.Store.UseCode(ctx, m.ID, step)
		if errors.Is(err, store.ErrNotFound) {
			return wrongCode() // somebody was faster
		}
		return err
	}
	if c := factor.Recovery(code); c != "" {
		with, tell := s.Telling(ctx, event.RecoveryUsed{Member: m.Name, Left: f.Recoveries - 1})
		err := s.Store.UseRecovery(with, m.ID, c)
		if err == nil {
			tell()
			s.NoteChange(ctx, m, store.RecoveryTaken, "")
			return nil
		}
		if !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	return wrongCode()
}

// SignInSecond goes on with a sign-in whose password was right, by a code. Each code is counted before it is
// looked at, like a password.
func (s *Server) SignInSecond(r *http.Request, ticket, code string) (string, store.Member, error) {
	v, now := VisitorOf(r), time.Now()
	s.seconds.mu.Lock()
	i, ok := s.seconds.signing[ticket]
	s.seconds.mu.Unlock()
	if !ok || now.After(i.expires) {
		return "", store.Member{}, &StatusError{Problem: &problem.Problem{What: "that took too long",
			Why: "a password is good for five minutes until the code follows", Fix: "sign in again"},
			Status: http.StatusGone}
	}
	m, err := s.Store.Member(r.Context(), i.member)
	if err != nil {
		return "", m, err
	}
	attempt, wait := s.attempts.Take(store.Fold(m.Name), v.Address, s.Known.device(r, m.ID), now)
	if wait > 0 {
		s.falseTries(m.Name, v.Address, now)
		s.refused.warn(s.Log, "sign-in refused for now, after too many codes", m.Name, v.Address, now)
		s.holdBack(r)
		return "", m, tooMany("to keep guessers out, the next try has to wait", wait)
	}
	if code == "" {
		code = "none" // it is no question for another ticket
	}
	used, err := s.second(r, m, code, i.device, i.kind, now)
	if err != nil {
		var st *StatusError
		if errors.As(err, &st) && st.Status == http.StatusUnauthorized {
			s.failed.warn(s.Log, "a wrong code of a second factor", m.Name, v.Address, now)
		} else {
			attempt.Back()
		}
		return "", m, err
	}
	s.seconds.mu.Lock()
	delete(s.seconds.signing, ticket)
	s.seconds.mu.Unlock()
	if err := s.mayBeHere(m, v, now); err != nil {
		attempt.Back()
		return "", m, err
	}
	attempt.Forgive()
	token, _, err := s.addDevice(r, m, store.Device{Name: i.device, Kind: i.kind, Second: used}, now)
	return token, m, err
}

// NewFactor gives the member of a request a secret for a second factor, which holds once a code of it was
// given. They have to know their password.
func (s *Server) NewFactor(r *http.Request, password string) (shared string, err error) {
	v, now := VisitorOf(r), time.Now()
	if err := s.knowsPassword(r, password); err != nil {
		return "", err
	}
	if shared, err = factor.NewSecret(rand.Reader); err != nil {
		return "", err
	}
	w := &s.seconds
	w.mu.Lock()
	defer w.mu.Unlock()
	for m, old := range w.setups {
		if now.After(old.expires) || len(w.setups) >= mostSetups {
			delete(w.setups, m)
		}
	}
	if w.setups == nil {
		w.setups = map[int64]setup{}
	}
	w.setups[v.Member.ID] = setup{shared, now.Add(setupTime)}
	return shared, nil
}

// KeepFactor keeps the second factor that the member of a request is setting up, by the first code of it,
// and gives the recovery codes. The secret is given, too, for whoever mistyped.
func (s *Server) KeepFactor(r *http.Request, code string) (recoveries []string, shared string, err error) {
	v, now := VisitorOf(r), time.Now()
	s.seconds.mu.Lock()
	i, ok := s.seconds.setups[v.Member.ID]
	s.seconds.mu.Unlock()
	if !ok || now.After(i.expires) {
		return nil, "", &StatusError{Problem: &problem.Problem{What: "that took too long",
			Why: "a second factor is set up within a quarter of an hour", Fix: "begin again"}, Status: http.StatusGone}
	}
	step, ok := factor.Check(i.secret, code, now, 0)
	if !ok {
		return nil, i.secret, wrongCode()
	}
	recoveries = factor.NewRecoveries()
	var kept []string
	for _, c := range recoveries {
		kept = append(kept, factor.Recovery(c))
	}
	shut, err := s.Keys.Seal(factorOf(v.Member.ID), i.secret)
	if err != nil {
		return nil, i.secret, err
	}
	with, tell := s.Telling(r.Context(), event.FactorChanged{Member: v.Member.Name, Set: true})
	if err := s.Store.SetFactor(with, v.Member.ID, v.Device.ID, store.Factor{Secret: shut, Used: step,
		Created: now}, kept); err != nil {
		return nil, i.secret, err
	}
	s.seconds.mu.Lock()
	delete(s.seconds.setups, v.Member.ID)
	s.seconds.mu.Unlock()
	tell()
	s.NoteChange(r.Context(), v.Member, store.FactorSet, "")
	return recoveries, "", nil
}

// DropFactor takes the second factor of the member of a request away. They have to know their password, and
// give a code.
func (s *Server) DropFactor(r *http.Request, password, code string) error {
	m := VisitorOf(r).Member
	if err := s.reassure(r, password, func() error {
		f, err := s.Factor(r.Context(), m.ID)
		if err == nil {
			err = s.takeCode(r.Context(), m, f, code, time.Now())
		}
		return err
	}); err != nil {
		return err
	}
	return s.ForgetFactor(r.Context(), m)
}

// ForgetFactor takes a member's second factor away.
func (s *Server) ForgetFactor(ctx context.Context, m store.Member) error {
	with, tell := s.Telling(ctx, event.FactorChanged{Member: m.Name})
	if err := s.Store.RemoveFactor(with, m.ID); err != nil {
		return err
	}
	s.Cuts.Cut(m.ID)
	tell()
	s.NoteChange(ctx, m, store.FactorGone, "")
	return nil
}
