package testbuild

import (
	"encoding/binary"
	"net"
	"net/netip"
	"sync"
	"testing"
)

// Seer is a server that is asked from which address it sees somebody (RFC 8489), and says what it is told to.
type Seer struct {
	At string // host and port

	mu  sync.Mutex
	say netip.Addr // invalid for no answer
}

// STUN starts a server that says an IPv4 address.
func STUN(t testing.TB, say string) *Seer {
	t.Helper()
	c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	s := &Seer{At: c.LocalAddr().String(), say: netip.MustParseAddr(say)}
	go func() {
		b := make([]byte, 100)
		for {
			n, from, err := c.ReadFromUDP(b)
			if err != nil {
				return
			}
			s.mu.Lock()
			say := s.say
			s.mu.Unlock()
			if n < 20 || !say.Is4() {
				continue
			}
			out := binary.BigEndian.AppendUint16(nil, 0x0101)
			out = append(binary.BigEndian.AppendUint16(out, 12), b[4:20]...)
			out = append(out, 0, 0x20, 0, 8, 0, 1, 0, 0)
			for i, v := range say.As4() {
				out = append(out, v^b[4+i])
			}
			_, _ = c.WriteToUDP(out, from) // who has gone needs no answer
		}
	}()
	return s
}

// Says has it say another address from now on; what is none has it say nothing.
func (s *Seer) Says(text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.say, _ = netip.ParseAddr(text) // invalid: it is silent
}
