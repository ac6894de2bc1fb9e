package live

import (
	"context"
	"crypto/rand"
	"errors"
	"net/http"
	"strings"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/pairing"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// PairPath is where members confirm the code of a screen.
const PairPath = "/pair"

// Paired is a screen that waits to be confirmed.
type Paired struct {
	Secret string // by which it asks what became of it
	Code   string // as pairing.NewCode makes it
}

// BeginPairing gives a screen the code that it shows.
func (s *Server) BeginPairing(r *http.Request, name string, page bool) (Paired, error) {
	v := VisitorOf(r)
	p := Paired{Secret: secret.Token()}
	for range 3 { // a code that is taken is a rare thing
		var err error
		if p.Code, err = pairing.NewCode(rand.Reader); err != nil {
			return p, err
		}
		err = s.pairings.Begin(time.Now(), pairing.Screen{Name: deviceName(name), Address: v.Address, Away: v.Away,
			Page: page}, p.Code, p.Secret)
		if errors.Is(err, pairing.ErrFull) {
			s.holdBack(r)
			return p, &StatusError{Problem: &problem.Problem{What: "too many screens are waiting",
				Why: "each waits for a member to confirm its code", Fix: "try again in a few minutes"},
				Status: http.StatusTooManyRequests, Wait: time.Minute}
		}
		if err == nil {
			return p, nil
		}
	}
	return p, errors.New("no code could be found that is free")
}

// AskPairing tells a screen what became of its code, and lets it in where a member has confirmed it.
func (s *Server) AskPairing(r *http.Request, key string) (pairing.State, string, store.Member, error) {
	if len(key) > 128 {
		key = "" // none of ours
	}
	now := time.Now()
	state, member, screen := s.pairings.Ask(now, key)
	if state != pairing.Granted {
		if state == pairing.Over && s.guessed.many(now) {
			s.holdBack(r)
		}
		return state, "", store.Member{}, nil
	}
	all, err := s.Store.Members(r.Context())
	if err != nil {
		return state, "", store.Member{}, err
	}
	for _, m := range all {
		if m.ID != member {
			continue
		}
		if err := s.mayBeHere(m, VisitorOf(r), now); err != nil {
			return state, "", m, err
		}
		kind := store.ForProgram
		if screen.Page {
			kind = store.ForPage
		}
		token, _, err := s.addDevice(r, m, store.Device{Name: screen.Name, Kind: kind, Second: screen.Second}, now)
		return state, token, m, err
	}
	return pairing.Refused, "", store.Member{}, nil // that member has gone meanwhile
}

// Waits gives the screen of a code that the member of a request has typed.
func (s *Server) Waits(r *http.Request, code string) (pairing.Screen, error) {
	screen, err := s.pairings.Find(time.Now(), VisitorOf(r).Member.ID, pairing.Typed(code))
	return screen, noScreen(err)
}

// Confirm lets the screen of a code in as the member of a request, or refuses it.
func (s *Server) Confirm(r *http.Request, code string, yes bool) (pairing.Screen, error) {
	m, now := VisitorOf(r).Member, time.Now()
	screen, err := s.pairings.Find(now, m.ID, pairing.Typed(code))
	if err == nil && yes && screen.Away && !m.Away {
		return screen, &StatusError{Problem: &problem.Problem{What: "that screen is outside the home",
			Where: screen.Address.String(), Why: "your account is for use at home only",
			Fix: "refuse it, unless it is you who brought it there"}, Status: http.StatusForbidden}
	}
	if err == nil {
		screen, err = s.pairings.Decide(now, m.ID, pairing.Typed(code), yes, VisitorOf(r).Device.Second)
	}
	return screen, noScreen(err)
}

func noScreen(err error) error {
	switch {
	case errors.Is(err, pairing.ErrUnknown):
		return &StatusError{Problem: &problem.Problem{What: "no screen shows this code now",
			Why: "it is another one, or its ten minutes are over", Fix: "look at the screen, and type what it shows"},
			Status: http.StatusNotFound}
	case errors.Is(err, pairing.ErrGuesses):
		return &StatusError{Problem: &problem.Problem{What: "too many codes were tried", Why: "no screen showed them",
			Fix: "try again in ten minutes"}, Status: http.StatusTooManyRequests, Wait: pairing.Lasts}
	}
	return err
}

// mayBeHere refuses a member who may not use the server from where a visitor is, or not any more.
func (s *Server) mayBeHere(m store.Member, v *Visitor, now time.Time) error {
	if v.Away && !m.Away {
		return s.tooFar(m, v)
	}
	if until := m.Allowed.Until; !until.IsZero() && !now.Before(until) {
		return s.notNow(m, allowance.Verdict{Reason: allowance.Ended})
	}
	return nil
}

// deviceName is how a device is called that calls itself so.
func deviceName(name string) string {
	if name = strings.ToValidUTF8(strings.TrimSpace(name), ""); name == "" {
		return "unnamed device"
	}
	if len(name) > 80 {
		name = strings.ToValidUTF8(name[:80], "")
	}
	return name
}

// addDevice signs a member in on a device, of which the name, what for, the second factor and the screen are
// given, and gives its token.
func (s *Server) addDevice(r *http.Request, m store.Member, d store.Device, now time.Time) (string, store.Device,
	error) {
	v, token := VisitorOf(r), secret.Token()
	networks, _ := allowance.Moved("", allowance.Area(v.Address, v.Away))
	d.Name, d.Expires, d.Ends = deviceName(d.Name), now.Add(Stays[d.Kind].Slides), now.Add(Stays[d.Kind].Ends)
	d.Address, d.Away, d.Networks = v.Address.String(), v.Away, networks
	with, tell := s.Telling(context.WithoutCancel(r.Context()), event.SignedIn{Member: m.Name, Device: d.Name,
		Address: v.Address.String(), Away: v.Away, New: s.Known.device(r, m.ID) == 0})
	d, err := s.Store.AddDevice(with, m.ID, d, token, now)
	if err != nil {
		return "", d, err
	}
	tell()
	return token, d, nil
}
