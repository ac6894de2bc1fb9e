package allowance

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
)

func TestNetworks(t *testing.T) {
	for a, want := range map[string]string{"203.0.113.9": "203.0.113.0/24", "::ffff:203.0.113.9": "203.0.113.0/24",
		"2001:db8:1:2::7": "2001:db8:1::/48"} {
		if got := Area(netip.MustParseAddr(a), true); got != want {
			t.Errorf("%s: %s, want %s", a, got, want)
		}
		if got := Area(netip.MustParseAddr(a), false); got != "" {
			t.Errorf("%s at home: %s", a, got)
		}
	}
	known, isNew := "", false
	for i := range 50 {
		n := fmt.Sprintf("203.0.%d.0/24", i)
		if known, isNew = Moved(known, n); !isNew {
			t.Errorf("%s was known", n)
		}
		if again, isNew := Moved(known, n); isNew || again != known {
			t.Errorf("%s again: %v, %s", n, isNew, again)
		}
	}
	if n := len(strings.Fields(known)); n != mostNetworks {
		t.Errorf("%d are kept", n)
	}
	if _, isNew := Moved(known, "203.0.0.0/24"); !isNew {
		t.Error("the oldest is not forgotten")
	}
	if now, isNew := Moved(known, ""); isNew || now != known {
		t.Error("home is a new network")
	}
	// One that is used stays.
	known, _ = Moved(known, "203.0.30.0/24")
	if !strings.HasSuffix(known, "203.0.30.0/24") || strings.Count(known, "203.0.30.0/24") != 1 {
		t.Error(known)
	}
}
