package household

import (
	"net/url"
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

// AnswersTo reports whether the household's server answers to a name.
func (h *Household) AnswersTo(name string) bool {
	return NamesOf(h.Server.Names, h.Remote.Address)[strings.ToLower(name)]
}
