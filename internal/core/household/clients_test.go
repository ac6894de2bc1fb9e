package household

import "testing"

func TestWhereStrangersWouldSeemToBeAtHome(t *testing.T) {
	for _, c := range []struct {
		bind, network  string
		forwards, ipv6 bool
		want           bool
	}{
		{"lan", "own", false, false, false},
		{"lan", "own", true, false, true},
		{"lan", "host", true, false, false},
		{"localhost", "own", true, false, false},
		{"2001:db8::7", "own", false, false, true},
		{"2001:db8::7", "own", false, true, false},
		{"2001:db8::7", "elsewhere", false, true, true},
		{"192.0.2.7", "own", false, false, false},
	} {
		h := &Household{Server: Server{Bind: c.bind, Network: c.network}}
		if got := h.HidesClients(c.forwards, c.ipv6); got != c.want {
			t.Errorf("%+v: got %v", c, got)
		}
	}
}
