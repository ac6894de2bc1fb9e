package pairing

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	mrand "math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"
)

var noon = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

func at(s string) netip.Addr { return netip.MustParseAddr(s) }

func TestCodesAreEvenAndReadable(t *testing.T) {
	count := map[rune]int{}
	for range 4000 {
		c, err := NewCode(rand.Reader)
		if err != nil || len(c) != 8 || Typed(Shown(c)) != c || Typed(strings.ToLower(" "+Shown(c))) != c {
			t.Fatal(c, err)
		}
		for _, r := range c {
			count[r]++
		}
	}
	if len(count) != len(letters) {
		t.Errorf("%d letters", len(count))
	}
	for r, n := range count { // 1600 each; six deviations are 234
		if n < 1366 || n > 1834 {
			t.Errorf("%c came %d times of 32000", r, n)
		}
	}
	if _, err := NewCode(bytes.NewReader(nil)); err == nil {
		t.Error("a code out of no chance")
	}
}

func TestAScreenIsLetInOnce(t *testing.T) {
	var p Pairings
	s := Screen{Name: "mill television", Address: at("192.0.2.7")}
	if err := p.Begin(noon, s, "BCDFGHJK", "long"); err != nil {
		t.Fatal(err)
	}
	if err := p.Begin(noon, s, "BCDFGHJK", "other"); !errors.Is(err, ErrUnknown) {
		t.Errorf("a code that is taken: %v", err)
	}
	step := func(after time.Duration, want State, member int64) {
		t.Helper()
		if state, m, _ := p.Ask(noon.Add(after), "long"); state != want || m != member {
			t.Errorf("after %s: %s as %d, want %s as %d", after, state, m, want, member)
		}
	}
	step(0, Waiting, 0)
	step(time.Second, TooSoon, 0)    // from now on every ten seconds
	step(7*time.Second, TooSoon, 0)  // every fifteen
	step(23*time.Second, Waiting, 0) // it kept to it
	got, err := p.Find(noon.Add(30*time.Second), 3, "BCDFGHJK")
	if err != nil || got.Name != s.Name || got.Address != s.Address {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := p.Decide(noon.Add(31*time.Second), 3, "BCDFGHJK", true, false); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Decide(noon.Add(32*time.Second), 4, "BCDFGHJK", false, false); !errors.Is(err, ErrUnknown) {
		t.Errorf("decided again: %v", err)
	}
	step(33*time.Second, Granted, 3)
	step(50*time.Second, Over, 0)
	if len(p.waiting)+len(p.codes) != 0 {
		t.Error("something is kept")
	}
	// Refused, and over.
	for code, yes := range map[string]bool{"KKKKKKKK": false, "LLLLLLLL": true} {
		if err := p.Begin(noon, s, code, code); err != nil {
			t.Fatal(err)
		}
		if !yes {
			if _, err := p.Decide(noon, 3, code, false, false); err != nil {
				t.Fatal(err)
			}
			if state, _, _ := p.Ask(noon, code); state != Refused {
				t.Error(state)
			}
			continue
		}
		if _, err := p.Decide(noon.Add(Lasts), 3, code, true, false); !errors.Is(err, ErrUnknown) {
			t.Errorf("after its time: %v", err)
		}
		if state, _, _ := p.Ask(noon.Add(Lasts), code); state != Over {
			t.Error(state)
		}
	}
}

func TestStrangersAreBounded(t *testing.T) {
	var p Pairings
	begin := func(address string, away bool, n int) (in int) {
		for i := range n {
			code := fmt.Sprintf("%s %v %d", address, away, i)
			if err := p.Begin(noon, Screen{Address: at(address), Away: away}, code, code); err == nil {
				in++
			} else if !errors.Is(err, ErrFull) {
				t.Fatal(err)
			}
		}
		return in
	}
	if in := begin("203.0.113.9", true, 50); in != mostOfOne {
		t.Errorf("%d of one address", in)
	}
	all := mostOfOne
	for i := range 200 {
		all += begin(fmt.Sprintf("2001:db8:0:%x::1", i), true, 1) + begin(fmt.Sprintf("2001:db8:0:%x::2", i), true, 1)
	}
	if all != mostWaiting {
		t.Errorf("%d wait from outside", all)
	}
	if in := begin("192.0.2.7", false, 3); in != 3 {
		t.Errorf("%d of 3 at home, while many wait outside", in)
	}
	// Who guesses has to wait, and others do not.
	for i := range 3 * mostWrong {
		_, err := p.Find(noon.Add(time.Duration(i)*time.Second), 5, "ZZZZZZZZ")
		if want := map[bool]error{true: ErrUnknown, false: ErrGuesses}[i < mostWrong]; !errors.Is(err, want) {
			t.Errorf("guess %d: %v", i, err)
		}
	}
	if _, err := p.Find(noon.Add(time.Minute), 5, "192.0.2.7 false 0"); !errors.Is(err, ErrGuesses) {
		t.Errorf("a right one after many guesses: %v", err)
	}
	if _, err := p.Find(noon.Add(time.Minute), 6, "192.0.2.7 false 0"); err != nil {
		t.Error(err)
	}
	if _, err := p.Find(noon.Add(Lasts+time.Minute), 5, "ZZZZZZZZ"); !errors.Is(err, ErrUnknown) {
		t.Errorf("after a while: %v", err)
	}
}

// TestNothingIsLetInThatNobodyConfirmed does things in any order.
func TestNothingIsLetInThatNobodyConfirmed(t *testing.T) {
	rnd := mrand.New(mrand.NewPCG(8628, 1))
	for range 200 {
		var p Pairings
		said := map[string]int64{} // codes that a member confirmed in time
		now := noon
		for range 60 {
			now = now.Add(time.Duration(rnd.IntN(90)) * time.Second)
			code := string(rune('A' + rnd.IntN(6)))
			switch rnd.IntN(4) {
			case 0:
				if p.Begin(now, Screen{Address: at("192.0.2.7")}, code, code) == nil {
					delete(said, code)
				}
			case 1:
				member := int64(1 + rnd.IntN(3))
				if _, err := p.Decide(now, member, code, true, false); err == nil {
					said[code] = member
				}
			default:
				state, member, _ := p.Ask(now, code)
				if state == Granted && (member == 0 || said[code] != member) {
					t.Fatalf("%s let in as %d; confirmed was %v", code, member, said)
				}
				if state == Granted {
					delete(said, code)
				}
			}
		}
	}
}

func FuzzTyped(f *testing.F) {
	for _, s := range []string{"bdfh-jklm", "\xff\xfe", "ſſſ", "BCDFGHJK "} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, r := range Typed(s) {
			if !strings.ContainsRune(letters, r) {
				t.Errorf("%q: %q", s, r)
			}
		}
	})
}
