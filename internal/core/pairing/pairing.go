// Package pairing lets a screen without a keyboard in: it shows a short code, and a member confirms it
// on another device, as in the device authorization grant of OAuth 2.0 (RFC 8628).
//
// A screen has two secrets: the short code that people read and type, and a long one by which it asks
// what became of it. Both are good for Lasts, and once. How many wait at a time is bounded, in all and by
// address, for the home and for outside separately, so that strangers outside keep nobody at home out.
// Who types codes that are none has to wait after a few.
package pairing

import (
	"crypto/sha256"
	"errors"
	"io"
	"net/netip"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/core/allowance"
)

const (
	// Lasts is how long a code is good.
	Lasts = 10 * time.Minute
	// Interval is how long a screen waits between two questions at least.
	Interval = 5 * time.Second

	mostWaiting = 64 // at home, and the same from outside
	mostOfOne   = 6  // from one address, or one network of IPv6
	mostWrong   = 10 // codes that are none, of one member within Lasts
)

// Screen is what asks to be let in.
type Screen struct {
	Name    string // as it calls itself
	Address netip.Addr
	Away    bool // from outside the home
	Page    bool // a page of ours; else a program
	Second  bool // whoever confirmed it had signed in with a second factor
	Since   time.Time
}

// State is what became of a screen's code.
type State string

// What may have become of it.
const (
	Waiting State = "waiting"
	TooSoon State = "too soon" // it asks more often than it may, and has to wait longer from now on
	Granted State = "granted"
	Refused State = "refused"
	Over    State = "over" // its time is over, or it never was
)

// Errors of what people do.
var (
	ErrFull    = errors.New("too many screens are waiting")
	ErrUnknown = errors.New("there is no such code")
	ErrGuesses = errors.New("too many codes were tried that are none")
)

// Pairings are the screens that wait. The zero value is ready.
type Pairings struct {
	mu      sync.Mutex
	waiting map[[sha256.Size]byte]*pairing // by the hash of the long secret
	codes   map[string]*pairing
	wrong   map[int64][]time.Time // codes that are none, by member
}

type pairing struct {
	Screen
	code     string
	key      [sha256.Size]byte
	state    State
	member   int64
	asked    time.Time
	interval time.Duration
}

// letters are those of codes: no vowels, so that no words come out, and none that are easily taken for
// another (RFC 8628, 6.1).
const letters = "BCDFGHJKLMNPQRSTVWXZ"

// NewCode makes a code of eight letters.
func NewCode(random io.Reader) (string, error) {
	var out []byte
	b := make([]byte, 1)
	for len(out) < 8 {
		if _, err := io.ReadFull(random, b); err != nil {
			return "", err
		}
		if n := int(b[0]); n < 256/len(letters)*len(letters) { // each letter as likely as the others
			out = append(out, letters[n%len(letters)])
		}
	}
	return string(out), nil
}

// Shown writes a code as people read it: BDFH-JKLM.
func Shown(code string) string {
	if len(code) != 8 {
		return code
	}
	return code[:4] + "-" + code[4:]
}

// Typed reads a code as people type it.
func Typed(text string) string {
	if len(text) > 100 {
		return ""
	}
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' {
			r -= 'a' - 'A'
		}
		if strings.ContainsRune(letters, r) {
			return r
		}
		return -1
	}, text)
}

// Begin notes a screen that waits, by a code of NewCode and a long secret. A code that is taken is
// refused with ErrUnknown.
func (p *Pairings) Begin(now time.Time, s Screen, code, secret string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.sweep(now)
	all, same := 0, 0
	for _, w := range p.waiting {
		if w.Away != s.Away {
			continue
		}
		all++
		if allowance.Network(w.Address) == allowance.Network(s.Address) {
			same++
		}
	}
	if all >= mostWaiting || same >= mostOfOne {
		return ErrFull
	}
	if p.codes[code] != nil {
		return ErrUnknown
	}
	if p.waiting == nil {
		p.waiting, p.codes = map[[sha256.Size]byte]*pairing{}, map[string]*pairing{}
	}
	s.Since = now
	w := &pairing{Screen: s, code: code, key: sha256.Sum256([]byte(secret)), state: Waiting, interval: Interval}
	p.waiting[w.key], p.codes[code] = w, w
	return nil
}

// sweep forgets what is over.
func (p *Pairings) sweep(now time.Time) {
	for _, w := range p.waiting {
		if now.Sub(w.Since).Abs() >= Lasts {
			p.forget(w)
		}
	}
	for m, list := range p.wrong {
		if len(list) == 0 || now.Sub(list[len(list)-1]).Abs() >= Lasts {
			delete(p.wrong, m)
		}
	}
}

func (p *Pairings) forget(w *pairing) {
	delete(p.waiting, w.key)
	delete(p.codes, w.code)
}

// Find gives the screen of a code that a member has typed.
func (p *Pairings) Find(now time.Time, member int64, code string) (Screen, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	w, err := p.find(now, member, code)
	if err != nil {
		return Screen{}, err
	}
	return w.Screen, nil
}

func (p *Pairings) find(now time.Time, member int64, code string) (*pairing, error) {
	p.sweep(now)
	lately := 0
	for _, t := range p.wrong[member] {
		if now.Sub(t).Abs() < Lasts {
			lately++
		}
	}
	if lately >= mostWrong {
		return nil, ErrGuesses
	}
	w := p.codes[code]
	if w == nil || w.state != Waiting {
		if p.wrong == nil {
			p.wrong = map[int64][]time.Time{}
		}
		list := append(p.wrong[member], now)
		p.wrong[member] = list[max(0, len(list)-mostWrong):]
		return nil, ErrUnknown
	}
	return w, nil
}

// Decide lets the screen of a code in as a member, or refuses it. second is whether the member has signed
// in with a second factor.
func (p *Pairings) Decide(now time.Time, member int64, code string, yes, second bool) (Screen, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	w, err := p.find(now, member, code)
	if err != nil {
		return Screen{}, err
	}
	w.state, w.member, w.Second = Refused, member, second
	if yes {
		w.state = Granted
	}
	delete(p.codes, code)
	return w.Screen, nil
}

// Ask tells a screen what became of its code, by its long secret. Where it is granted, this is told once,
// with the member that it is let in as.
func (p *Pairings) Ask(now time.Time, secret string) (state State, member int64, s Screen) {
	key := sha256.Sum256([]byte(secret))
	p.mu.Lock()
	defer p.mu.Unlock()
	p.sweep(now)
	w := p.waiting[key]
	if w == nil {
		return Over, 0, Screen{}
	}
	soon := !w.asked.IsZero() && now.Sub(w.asked) < w.interval-time.Second/2
	w.asked = now
	switch {
	case w.state == Granted || w.state == Refused:
		p.forget(w)
		return w.state, w.member, w.Screen
	case soon:
		w.interval = min(w.interval+Interval, time.Minute)
		return TooSoon, 0, w.Screen
	}
	return Waiting, 0, w.Screen
}
