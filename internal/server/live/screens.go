package live

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// ScreenCookie is by which a screen of the household is known, whoever is signed in on it.
const ScreenCookie = "shelf_screen"

// screenLasts is how long a browser keeps it.
const screenLasts = 400 * 24 * time.Hour

// Digits of a PIN.
const (
	leastPIN = 4
	mostPIN  = 12

	mostGrown = 8 // grown-ups whose PINs are tried
)

// ScreenOf gives the screen of a request, at home; ErrNotFound where it is none.
func (s *Server) ScreenOf(r *http.Request) (store.Screen, error) {
	c, err := r.Cookie(ScreenCookie)
	if err != nil || VisitorOf(r).Away || len(c.Value) > 128 {
		return store.Screen{}, store.ErrNotFound
	}
	return s.Store.ScreenOf(r.Context(), c.Value)
}

// MakeScreen makes the device of a request one of the household's, on which one picks who one is. Adults do
// that, at home.
func (s *Server) MakeScreen(w http.ResponseWriter, r *http.Request, name string) error {
	v := VisitorOf(r)
	if !MayGrant(r) {
		return &StatusError{Problem: &problem.Problem{What: "you may not make this a screen for several",
			Why: "adults may, at home", Fix: "ask one of them"}, Status: http.StatusForbidden}
	}
	token := secret.Token()
	_, err := s.Store.AddScreen(r.Context(), store.Screen{Name: deviceName(name), Made: v.Member.Name}, token, time.Now())
	if errors.Is(err, store.ErrMany) {
		return UsageProblem("there are too many screens", "each device that was made one counts",
			"forget some of them first")
	}
	if err != nil {
		return err
	}
	http.SetCookie(w, &http.Cookie{Name: ScreenCookie, Value: token, Path: "/", MaxAge: int(screenLasts.Seconds()),
		HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: v.Secure})
	s.Events.Tell(event.ScreenMade{Screen: deviceName(name), By: v.Member.Name})
	return nil
}

// Pick is a member who can be picked on a screen.
type Pick struct {
	Member store.Member
	PIN    bool // theirs is asked for
	Grown  bool // that of a grown-up is asked for: a child is in its corner, and leaves it
}

// Picks gives who can be picked on a screen: children and guests, and of all others those who have a PIN.
// So nobody becomes an adult by a touch, and while a child is in its corner it takes a PIN to get out.
func (s *Server) Picks(r *http.Request, screen store.Screen) (out []Pick, err error) {
	all, err := s.Store.Members(r.Context())
	if err != nil {
		return nil, err
	}
	there, err := s.Store.OnScreen(r.Context(), screen.ID)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	child := slices.ContainsFunc(all, func(m store.Member) bool {
		return m.Role == allowance.Child && slices.Contains(there, m.ID)
	})
	for _, m := range all {
		grown := m.Role == allowance.Admin || m.Role == allowance.Adult
		if grown && m.PIN == "" || !m.Allowed.Until.IsZero() && !now.Before(m.Allowed.Until) {
			continue
		}
		out = append(out, Pick{m, m.PIN != "", child && m.PIN == "" && !slices.Contains(there, m.ID)})
	}
	return out, nil
}

// PickOn signs a member in on a screen, and whoever was there out. Guesses at a PIN are counted.
func (s *Server) PickOn(r *http.Request, screen store.Screen, name, pin string) (string, store.Member, error) {
	v, now := VisitorOf(r), time.Now()
	picks, err := s.Picks(r, screen)
	if err != nil {
		return "", store.Member{}, err
	}
	for _, p := range picks {
		m := p.Member
		if store.Fold(m.Name) != store.Fold(name) {
			continue
		}
		var whose []store.Member // one of their PINs has to be right
		for _, q := range picks {
			if p.PIN && q.Member.ID == m.ID || p.Grown && q.PIN && (q.Member.Role == allowance.Admin ||
				q.Member.Role == allowance.Adult) {
				whose = append(whose, q.Member)
			}
		}
		if p.PIN || p.Grown {
			if err := s.rightPIN(r, m, whose, pin, now); err != nil {
				return "", m, err
			}
		}
		if err := s.mayBeHere(m, v, now); err != nil {
			return "", m, err
		}
		// In this order: where it is cut off between, the child is still there, and a PIN still asked for.
		token, d, err := s.addDevice(r, m, store.Device{Name: screen.Name, Kind: store.ForPage, Screen: screen.ID}, now)
		if err == nil {
			err = s.Store.LeaveScreen(r.Context(), screen.ID, d.ID)
		}
		return token, m, err
	}
	return "", store.Member{}, Nothing(r)
}

// rightPIN refuses a PIN that is not a member's. A PIN is short: a guess counts like one at a password, but by
// itself, so that guesses at a screen lock nobody out elsewhere.
func (s *Server) rightPIN(r *http.Request, m store.Member, whose []store.Member, pin string, now time.Time) error {
	attempt, wait := s.attempts.Take("pin "+store.Fold(m.Name), VisitorOf(r).Address, 0, now)
	if wait > 0 {
		s.falseTries(m.Name, VisitorOf(r).Address, now)
		s.holdBack(r)
		return tooMany("to keep guessers out, the next try has to wait", wait)
	}
	right := false
	var err error
	for _, w := range whose[:min(mostGrown, len(whose))] {
		if right, err = s.rightPassword(r.Context(), secret.Again, w.PIN, pin); right || err != nil {
			break
		}
	}
	if err != nil {
		attempt.Back()
		if errors.Is(err, secret.ErrBusy) {
			return tooMany("many are signing in at this moment", 5*time.Second)
		}
		return err
	}
	if !right {
		s.failed.warn(s.Log, "a wrong PIN", m.Name, VisitorOf(r).Address, now)
		return &StatusError{Problem: &problem.Problem{What: "that is not the PIN", Fix: "try again"},
			Status: http.StatusForbidden}
	}
	attempt.Forgive()
	return nil
}

// SetPIN gives the member of a request a PIN for screens, if they know their password; an empty one takes it
// away.
func (s *Server) SetPIN(r *http.Request, password, pin string) error {
	if pin != "" && (len(pin) < leastPIN || len(pin) > mostPIN || strings.Trim(pin, "0123456789") != "") {
		return &StatusError{Problem: &problem.Problem{What: "the PIN cannot be taken",
			Why: fmt.Sprintf("it has %d to %d digits, and nothing else", leastPIN, mostPIN), Fix: "choose another"},
			Status: http.StatusBadRequest}
	}
	if err := s.knowsPassword(r, password); err != nil {
		return err
	}
	m, hash, what := VisitorOf(r).Member, "", store.ScreenPINGone
	if pin != "" {
		hash, what = s.Keys.Hash(pin), store.ScreenPIN
	}
	err := s.Store.SetPIN(r.Context(), m.ID, hash)
	if err == nil {
		s.NoteChange(r.Context(), m, what, "")
	}
	return err
}
