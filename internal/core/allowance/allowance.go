// Package allowance says what a member may do now: by role, and by where the request comes from.
//
// The address of a client is the address of the connection, unless that is a proxy which the
// household trusts: then ClientAddress takes the last address in the proxy's header that is not
// a trusted proxy's. What a stranger writes into a header therefore never counts. AtHome says
// whether an address is of the home network.
//
// Attempts counts wrong passwords, and says how long the next one has to wait.
package allowance

import (
	"net/netip"
	"slices"
	"strings"
)

// Role is what a member is in the household.
type Role string

// The roles.
const (
	Admin Role = "admin"
	Adult Role = "adult"
	Child Role = "child"
	Guest Role = "guest"
)

// Roles lists every role.
var Roles = []Role{Admin, Adult, Child, Guest}

// Known reports whether r is one of the roles.
func (r Role) Known() bool { return slices.Contains(Roles, r) }

// AwayByDefault reports whether a new member of this role may use the server
// from outside the home.
func (r Role) AwayByDefault() bool { return r == Admin || r == Adult }

// MayBring reports whether a member of this role may bring new media in.
func MayBring(r Role) bool { return r == Admin || r == Adult }

// MayBring reports whether a member may bring new media in, by their own bound or else by their role.
func (a Allowance) MayBring(r Role) bool {
	if a.Bring != nil {
		return *a.Bring
	}
	return MayBring(r)
}

// MayTake reports whether a member may have copies made and take them along.
func (a Allowance) MayTake(r Role) bool {
	if a.Copies != nil {
		return *a.Copies
	}
	return MayBring(r)
}

// AtHome reports whether an address lies in a private range: loopback,
// link-local, RFC 1918, or RFC 4193.
func AtHome(a netip.Addr) bool {
	a = a.Unmap()
	return a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast()
}

// ClientAddress works out who really asks. peer is the other end of the
// connection; forwarded holds the values of X-Forwarded-For in the order in
// which they came. Only what trusted proxies added is believed: the list is
// read from its end, and the first address that is not a trusted proxy is the
// client. A word that is no address ends the reading there: the proxy that
// passed it on is then all that is known.
func ClientAddress(peer netip.Addr, forwarded []string, trusted []netip.Prefix) netip.Addr {
	peer = peer.Unmap().WithZone("")
	believed := func(a netip.Addr) bool {
		return slices.ContainsFunc(trusted, func(p netip.Prefix) bool { return p.Contains(a) })
	}
	client := peer
	hops := strings.Split(strings.Join(forwarded, ","), ",")
	for i := len(hops) - 1; i >= 0 && believed(client); i-- {
		a, err := parseHop(strings.TrimSpace(hops[i]))
		if err != nil {
			break
		}
		client = a
	}
	return client
}

// parseHop reads an address, with or without a port or brackets.
func parseHop(s string) (netip.Addr, error) {
	if ap, err := netip.ParseAddrPort(s); err == nil {
		return ap.Addr().Unmap().WithZone(""), nil
	}
	a, err := netip.ParseAddr(strings.Trim(s, "[]"))
	return a.Unmap().WithZone(""), err
}
