package allowance

import (
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

var (
	start = time.Date(2026, 11, 27, 20, 0, 0, 0, time.UTC)
	home  = netip.MustParseAddr("192.0.2.7")
)

func TestManyAtOnceAreCountedBeforeAnyIsTried(t *testing.T) {
	var l Attempts
	var passed atomic.Int64
	var wg sync.WaitGroup
	for range 300 {
		wg.Go(func() {
			if _, wait := l.Take("wren", home, 0, start); wait == 0 {
				passed.Add(1)
			}
		})
	}
	wg.Wait()
	if n := passed.Load(); n != 8 {
		t.Errorf("%d of 300 passed at once, want 8", n)
	}
	// The others of the household share the address, and are not locked out.
	for _, name := range []string{"ozan", "linnea", "ilse"} {
		if _, wait := l.Take(name, home, 0, start); wait != 0 {
			t.Errorf("%s has to wait %s", name, wait)
		}
	}
	// Nor is wren, on a device of her own.
	if _, wait := l.Take("wren", home, 17, start); wait != 0 {
		t.Errorf("wren has to wait %s on her own device", wait)
	}
}

func TestWaitingIsBounded(t *testing.T) {
	var l Attempts
	now := start
	for range 5000 {
		l.Take("wren", home, 0, now)
		now = now.Add(10 * time.Millisecond)
	}
	_, wait := l.Take("wren", home, 0, now)
	if wait <= 0 || wait > Longest {
		t.Errorf("the wait is %s", wait)
	}
	// Whoever waits as long as was said is let in.
	if _, again := l.Take("wren", home, 0, now.Add(wait)); again != 0 {
		t.Errorf("after %s it is %s more", wait, again)
	}
	// Refused attempts do not make it longer.
	for range 1000 {
		l.Take("wren", home, 0, now)
	}
	if _, after := l.Take("wren", home, 0, now.Add(wait+time.Minute)); after != 0 {
		t.Errorf("it became %s longer", after)
	}
}

func TestNetworksOfIPv6Count(t *testing.T) {
	var l Attempts
	n := 0
	for i := range 200 {
		if _, wait := l.Take("wren", netip.MustParseAddr(fmt.Sprintf("2001:db8:1:2::%x", i+1)), 0, start); wait == 0 {
			n++
		}
	}
	if n != 8 {
		t.Errorf("%d attempts from one /64", n)
	}
	// From many networks there is a bound for the member, too.
	n = 0
	for i := range 2000 {
		if _, wait := l.Take("ozan", netip.AddrFrom4([4]byte{198, 51, byte(i >> 8), byte(i)}), 0, start); wait == 0 {
			n++
		}
	}
	if n != 40 {
		t.Errorf("%d attempts from many networks, want 40", n)
	}
}

func TestSuccessGivesBack(t *testing.T) {
	var l Attempts
	for range 200 {
		a, wait := l.Take("wren", home, 0, start)
		if wait != 0 {
			t.Fatal("a member who is right every time has to wait")
		}
		a.Back()
	}
	for range 7 {
		l.Take("wren", home, 0, start)
	}
	a, _ := l.Take("wren", home, 0, start)
	a.Forgive()
	for i := range 8 {
		if _, wait := l.Take("wren", home, 0, start); wait != 0 {
			t.Errorf("after a success the %dth has to wait", i+1)
		}
	}
	(Attempt{}).Back() // of one that was refused
}

func TestStrangersCannotMakeItRememberMuch(t *testing.T) {
	var l Attempts
	long := strings.Repeat("x", 60<<10)
	for i := range 3 * maxKeys {
		l.Take(long[:60<<10-i%1000]+fmt.Sprint(i), home, 0, start)
	}
	if n := len(l.buckets); n > maxKeys {
		t.Errorf("%d keys are kept", n)
	}
}

// No order of attempts lets more through than the bound says.
func FuzzAttempts(f *testing.F) {
	f.Add([]byte{1, 2, 3, 250, 0, 0})
	f.Fuzz(func(t *testing.T, steps []byte) {
		var l Attempts
		now, n := start, 0.0
		for _, s := range steps {
			now = now.Add(time.Duration(s) * time.Second / 4)
			a, wait := l.Take("wren", home, 0, now)
			if wait > Longest || wait < 0 {
				t.Fatalf("the wait is %s", wait)
			}
			if wait == 0 && s%5 == 4 {
				a.Back()
			} else if wait == 0 {
				n++
			}
		}
		if most := fromOne.burst + now.Sub(start).Minutes(); n > most+1 {
			t.Errorf("%v attempts in %s", n, now.Sub(start))
		}
	})
}
