package household

import (
	"net/netip"
	"net/url"
	"slices"
	"strings"
)

// NamesOf gives the names that a server answers to: those that the household file lists, that of its address
// outside, and this machine's own.
func NamesOf(names []string, address string) map[string]bool {
	out := map[string]bool{"localhost": true}
	for _, n := range names {
		out[strings.TrimSuffix(strings.ToLower(n), ".")] = true
	}
	if u, err := url.Parse(address); err == nil && u.Hostname() != "" {
		out[strings.ToLower(u.Hostname())] = true
	}
	return out
}

// HomeEnds are the ends of names that are good in a home only, and belong to nobody outside (RFC 6762, 8375,
// and the draft for "internal").
var HomeEnds = []string{"home.arpa", "local", "internal", "lan", "localhost"}

// IsHomeName reports whether a name is good in a home only: one without a dot, or with such an end.
func IsHomeName(name string) bool {
	name = strings.TrimSuffix(strings.ToLower(name), ".")
	if !strings.Contains(name, ".") {
		return true
	}
	return slices.ContainsFunc(HomeEnds, func(end string) bool { return strings.HasSuffix(name, "."+end) })
}

// PublicNames are those of a server's names for which an authority can be asked, sorted: addresses are none,
// nor are names that are good in a home only.
func PublicNames(names map[string]bool) (out []string) {
	for n := range names {
		if _, err := netip.ParseAddr(n); err != nil && n != "" && !IsHomeName(n) {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return out
}

// AnswersTo reports whether the household's server answers to a name.
func (h *Household) AnswersTo(name string) bool {
	return NamesOf(h.Server.Names, h.Remote.Address)[strings.ToLower(name)]
}
