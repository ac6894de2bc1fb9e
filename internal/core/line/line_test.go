package line

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/verdict"
)

// kernels is what a kernel shows of an interface whose prefix was changed a moment ago.
const kernels = `00000000000000000000000000000001 01 80 10 80       lo
fe8000000000000000fc00fffe000001 02 40 20 80     eth0
fd000000000000000000000000000002 02 40 00 80     eth0
20010db800010000000000fffe000001 02 40 00 20     eth0
20010db800020000000000fffe000001 02 40 00 00     eth0
20010db80002000098a1b2c3d4e5f607 02 40 00 01     eth0
20010db8000200000000000000000009 02 40 00 40     eth0
20010db800030000000000fffe000001 03 40 00 80     eth1
not a line
20010db8 02 40 00 00     eth0
`

func public(a netip.Addr) bool { return a.IsGlobalUnicast() && !a.IsPrivate() }

func TestTheAddressThatStaysIsChosen(t *testing.T) {
	held := ReadHeld([]byte(kernels), "eth0")
	if len(held) != 6 {
		t.Fatalf("%d addresses: %+v", len(held), held)
	}
	want := netip.MustParseAddr("2001:db8:2::ff:fe00:1")
	if got := Own(held, netip.MustParseAddr("2001:db8:1::ff:fe00:1"), public); got != want {
		t.Errorf("%s instead of %s", got, want)
	}
	// One that was chosen before stays, whatever comes beside it and in whatever order.
	held = append(held, Held{Addr: netip.MustParseAddr("2001:db8:2::5")})
	for range 20 {
		rand.Shuffle(len(held), func(i, j int) { held[i], held[j] = held[j], held[i] })
		if got := Own(held, want, public); got != want {
			t.Errorf("%s instead of %s", got, want)
		}
		if got := Own(held, netip.Addr{}, public); got != netip.MustParseAddr("2001:db8:2::5") {
			t.Errorf("%s depends on the order", got)
		}
	}
	if got := Own(ReadHeld([]byte(kernels), "lo"), netip.Addr{}, public); got.IsValid() {
		t.Errorf("%s is reached from nowhere", got)
	}
}

func TestAllHaveToSayTheSame(t *testing.T) {
	one, other := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2")
	if a, why := Agreed(map[string]netip.Addr{"a": one, "b": one}); a != one || why != "" {
		t.Errorf("%s %s", a, why)
	}
	if a, why := Agreed(map[string]netip.Addr{"a": one, "b": other}); a.IsValid() || !strings.Contains(why,
		"192.0.2.1 as a sees it, 192.0.2.2 as b sees it") {
		t.Errorf("%s %s", a, why)
	}
	if a, why := Agreed(nil); a.IsValid() || why != "" {
		t.Errorf("%s %s", a, why)
	}
}

func TestWhatIsDoneAboutARecord(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	a, b := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2")
	var none netip.Addr
	for what, c := range map[string]struct {
		s         Seen
		own, web  Step
		afterHour Step // at the address of others, when an hour has passed
	}{
		"it is right":             {Seen{Line: a, Stands: []netip.Addr{a}}, Leave, Leave, Leave},
		"there is none":           {Seen{Line: a}, Write, Write, Write},
		"it is another":           {Seen{Line: a, Stands: []netip.Addr{b}}, Write, Write, Write},
		"there is another beside": {Seen{Line: a, Stands: []netip.Addr{a, b}}, Write, Write, Write},
		"it was just written": {Seen{Line: a, Stands: []netip.Addr{b}, Sent: a, SentAt: now.Add(-time.Minute)},
			Write, Leave, Write},
		"the clock was set back": {Seen{Line: a, Stands: []netip.Addr{b}, Sent: a, SentAt: now.Add(2 * time.Hour)},
			Write, Write, Leave},
		"another was written": {Seen{Line: a, Stands: []netip.Addr{b}, Sent: b, SentAt: now}, Write, Write, Write},
		"the line has none": {Seen{Stands: []netip.Addr{b}, Sent: b, SentAt: now.Add(-time.Hour)}, Leave, Leave,
			Leave},
		"it has none for long": {Seen{Stands: []netip.Addr{b}, Sent: b, SentAt: now, Gone: now.Add(-2 * time.Hour)},
			Remove, Leave,
			Leave},
		"not since then": {Seen{Stands: []netip.Addr{b}, Sent: b, SentAt: now, Gone: now.Add(-time.Minute)},
			Leave, Leave, Leave},
		"somebody else's": {Seen{Stands: []netip.Addr{b}, Sent: a, Gone: now.Add(-2 * time.Hour)}, Leave, Leave,
			Leave},
		"nothing was written": {Seen{Stands: []netip.Addr{b}, Sent: none, Gone: now.Add(-2 * time.Hour)}, Leave,
			Leave, Leave},
		"nothing is known yet": {Seen{}, Leave, Leave, Leave},
	} {
		if got := c.s.Decide(true, now); got != c.own {
			t.Errorf("%s, own: %s instead of %s", what, got, c.own)
		}
		if got := c.s.Decide(false, now); got != c.web {
			t.Errorf("%s, web: %s instead of %s", what, got, c.web)
		}
		later := now.Add(time.Hour)
		if what == "the clock was set back" {
			later = now.Add(2*time.Hour + time.Minute)
		}
		if got := c.s.Decide(false, later); got != c.afterHour {
			t.Errorf("%s, web, later: %s instead of %s", what, got, c.afterHour)
		}
	}
}

func TestPausesGrowAndEnd(t *testing.T) {
	if Pause(0) != 5*time.Minute || Pause(1) != time.Minute || Pause(2) != 2*time.Minute {
		t.Errorf("%s %s %s", Pause(0), Pause(1), Pause(2))
	}
	for n := 1; n < 200; n++ {
		if p := Pause(n); p < Pause(n-1) && n > 1 || p <= 0 || p > time.Hour {
			t.Errorf("%d: %s", n, p)
		}
	}
}

func TestWhatIsSaidOfARecord(t *testing.T) {
	now := time.Now()
	a, b := "192.0.2.1", "192.0.2.2"
	shared := "100.72.0.9"
	for says, c := range map[string]struct {
		r    Report
		want verdict.Status
	}{
		"stands for 192.0.2.1, the line's address": {Report{Line: []string{a}, Stands: []string{a}, Looked: now},
			verdict.OK},
		"it was not looked yet": {Report{}, verdict.Warning},
		"stands for 192.0.2.2; the line's address is 192.0.2.1": {Report{Line: []string{a}, Stands: []string{b},
			Looked: now},
			verdict.Blocked},
		"has no address; the line's is 192.0.2.1": {Report{Line: []string{a}, Looked: now}, verdict.Blocked},
		"also stands for 192.0.2.2": {Report{Line: []string{a}, Stands: []string{a, b}, Looked: now},
			verdict.Warning},
		"shares its address with others of the provider (100.72.0.9)": {Report{Hidden: []string{shared}, Looked: now},
			verdict.Blocked},
		"is one of a home": {Report{Hidden: []string{"10.0.0.2"}, Looked: now}, verdict.Blocked},
		"the line's address is not known: nobody answers": {Report{Problem: "nobody answers", Looked: now,
			Learn: household.LearnSTUN}, verdict.Blocked},
		"the line's address; the name server is away": {Report{Line: []string{a}, Stands: []string{a}, Looked: now,
			Problem: "the name server is away"}, verdict.Warning},
	} {
		c.r.Name = "shelf.example.net"
		l := c.r.Judge(now)
		if !strings.Contains(l.Says, says) || l.Status != c.want || (l.Do == "") != (l.Status == verdict.OK) {
			t.Errorf("%+v, not %q", l, says)
		}
	}
	// Of a family that could not be learnt nothing is claimed.
	six := Report{Name: "shelf.example.net", Line: []string{a}, Stands: []string{a, "2001:db8::1"}, Looked: now}
	if l := six.Judge(now); l.Status != verdict.OK || len(l.Details) != 1 || !strings.Contains(l.Details[0],
		"2001:db8::1") {
		t.Errorf("%+v", l)
	}
	six.Stands = []string{"2001:db8::1"}
	if l := six.Judge(now); l.Status != verdict.Warning || !strings.Contains(l.Says, "has no IPv4 address") {
		t.Errorf("%+v", l)
	}
	// A failure is among the details of what it has caused.
	l := Report{Name: "shelf.example.net", Keep: household.KeepDNS, Line: []string{a}, Stands: []string{b}, Looked: now,
		Problem: "refused"}.Judge(now)
	if !slices.Contains(l.Details, "refused") || !strings.Contains(l.Do, "why it cannot be written") {
		t.Errorf("%+v", l)
	}
}

func FuzzHeld(f *testing.F) {
	f.Add([]byte(kernels), "eth0")
	f.Fuzz(func(t *testing.T, b []byte, name string) {
		for _, h := range ReadHeld(b, name) {
			if !h.Addr.IsValid() {
				t.Errorf("%+v", h)
			}
		}
	})
}
