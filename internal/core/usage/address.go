package usage

import (
	"net/netip"
	"time"

	"cozyshelf/internal/core/allowance"
)

// AddressKept is for how long the address of a play is kept whole; then its network is left.
const AddressKept = 30 * 24 * time.Hour

// NetworkOf cuts an address to its network, such as 192.0.2.0/24. What is one already stays; what is no address
// gives nothing.
func NetworkOf(address string) string {
	if p, err := netip.ParsePrefix(address); err == nil {
		return p.String()
	}
	a, err := netip.ParseAddr(address)
	if err != nil {
		return ""
	}
	return allowance.Area(a, true)
}
