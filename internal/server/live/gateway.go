package live

import (
	"bufio"
	"encoding/hex"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
)

// gateways gives this container's own addresses and those of its default gateways, from
// /proc/net/route (proc(5): addresses are in the machine's order of bytes).
func (s *Server) gateways() []netip.Addr {
	s.GatewaysOnce.Do(func() {
		list, _ := net.InterfaceAddrs() // without them the gateways have to do
		for _, a := range list {
			if p, err := netip.ParsePrefix(a.String()); err == nil && !p.Addr().IsLoopback() {
				s.GatewayList = append(s.GatewayList, p.Addr().Unmap())
			}
		}
		f, err := os.Open("/proc/net/route")
		if err != nil {
			return
		}
		defer f.Close()
		s.GatewayList = append(s.GatewayList, parseRoutes(bufio.NewScanner(f))...)
	})
	return s.GatewayList
}

func parseRoutes(lines *bufio.Scanner) []netip.Addr {
	var out []netip.Addr
	for lines.Scan() {
		f := strings.Fields(lines.Text())
		if len(f) < 3 || f[1] != "00000000" || f[2] == "00000000" {
			continue
		}
		b, err := hex.DecodeString(f[2])
		if err != nil || len(b) != 4 {
			continue
		}
		slices.Reverse(b) // on the machines that there are for it, the lowest byte comes first
		out = append(out, netip.AddrFrom4([4]byte(b)))
	}
	return out
}
