package usage

import (
	"net/netip"
	"testing"
)

func TestAddressesAreCutToTheirNetwork(t *testing.T) {
	for in, want := range map[string]string{"192.0.2.44": "192.0.2.0/24", "::ffff:192.0.2.44": "192.0.2.0/24",
		"2001:db8:1:2:3:4:5:6": "2001:db8:1::/48", "fe80::1%eth0": "fe80::/48", "192.0.2.0/24": "192.0.2.0/24", "": "",
		"telephone":   "",
		"192.0.2.300": ""} {
		if got := NetworkOf(in); got != want {
			t.Errorf("%s: %q, want %q", in, got, want)
		}
		if got := NetworkOf(NetworkOf(in)); got != want {
			t.Errorf("%s, twice: %q", in, got)
		}
	}
}

func FuzzNetworkOf(f *testing.F) {
	f.Add("192.0.2.44")
	f.Add("2001:db8::1")
	f.Fuzz(func(t *testing.T, text string) {
		got := NetworkOf(text)
		a, err := netip.ParseAddr(text)
		if err != nil {
			return
		}
		if p, err := netip.ParsePrefix(got); err != nil || !p.Contains(a.Unmap().WithZone("")) || got == text {
			t.Errorf("%q: %q, %v", text, got, err)
		}
	})
}
