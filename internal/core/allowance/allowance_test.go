package allowance

import (
	"net/netip"
	"testing"
)

func TestAtHomeIsPrivateRangesOnly(t *testing.T) {
	for s, want := range map[string]bool{
		"127.0.0.1": true, "::1": true, "10.1.2.3": true, "172.16.0.1": true, "172.32.0.1": false,
		"192.168.1.9": true, "192.0.2.1": false, "203.0.113.5": false, "169.254.1.1": true,
		"fe80::1": true, "fd00::1": true, "2001:db8::1": false, "::ffff:192.168.0.1": true, "::ffff:203.0.113.5": false,
	} {
		if got := AtHome(netip.MustParseAddr(s)); got != want {
			t.Errorf("%s: got %v, want %v", s, got, want)
		}
	}
}

func TestForwardedAddressesAreBelievedFromTrustedProxiesOnly(t *testing.T) {
	trusted := []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24"), netip.MustParsePrefix("10.0.0.5/32")}
	for name, c := range map[string]struct {
		peer string
		xff  []string
		want string
	}{
		"no proxy":                       {"203.0.113.9", nil, "203.0.113.9"},
		"an untrusted peer lies":         {"203.0.113.9", []string{"192.168.0.2"}, "203.0.113.9"},
		"one proxy":                      {"192.0.2.1", []string{"203.0.113.9"}, "203.0.113.9"},
		"the client's own lie is passed": {"192.0.2.1", []string{"192.168.0.2, 203.0.113.9"}, "203.0.113.9"},
		"two proxies, two headers":       {"10.0.0.5", []string{"203.0.113.9", "192.0.2.7"}, "203.0.113.9"},
		"with a port":                    {"192.0.2.1", []string{"203.0.113.9:4711"}, "203.0.113.9"},
		"IPv6 in brackets":               {"192.0.2.1", []string{"[2001:db8::7]:80"}, "2001:db8::7"},
		"mapped peer":                    {"::ffff:192.0.2.1", []string{"203.0.113.9"}, "203.0.113.9"},
		"nonsense":                       {"192.0.2.1", []string{"203.0.113.9, unknown"}, "192.0.2.1"},
		"header empty":                   {"192.0.2.1", []string{""}, "192.0.2.1"},
	} {
		if got := ClientAddress(netip.MustParseAddr(c.peer), c.xff, trusted).String(); got != c.want {
			t.Errorf("%s: got %s, want %s", name, got, c.want)
		}
	}
}

func TestRolesMayGoAwayByDefault(t *testing.T) {
	for r, want := range map[Role]bool{Admin: true, Adult: true, Child: false, Guest: false} {
		if r.AwayByDefault() != want || !r.Known() {
			t.Errorf("%s: got %v, want %v", r, r.AwayByDefault(), want)
		}
	}
	if Role("owner").Known() {
		t.Error("an unknown role is known")
	}
}
