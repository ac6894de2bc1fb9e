package allowance

import (
	"net/netip"
	"strings"
)

// mostNetworks is how many networks a device is known from.
const mostNetworks = 20

// Area is what counts as one network that a device is carried into: of IPv4 what one provider gives a place (/24),
// of IPv6 what one household has (/48). At home it is empty: there is one.
func Area(a netip.Addr, away bool) string {
	if !away {
		return ""
	}
	a = a.Unmap().WithZone("")
	bits := 24
	if a.Is6() {
		bits = 48
	}
	p, err := a.Prefix(bits)
	if err != nil {
		return ""
	}
	return p.String()
}

// Moved adds a network to those from which a device is known, with spaces between them and the latest last;
// is new is whether it was not among them.
func Moved(known, network string) (now string, isNew bool) {
	if network == "" {
		return known, false
	}
	list := []string{}
	isNew = true
	for n := range strings.FieldsSeq(known) {
		if n == network {
			isNew = false
			continue
		}
		list = append(list, n)
	}
	list = append(list, network)
	return strings.Join(list[max(0, len(list)-mostNetworks):], " "), isNew
}
