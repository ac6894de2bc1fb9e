// Package outside is the one way in which this program asks servers elsewhere: catalogues,
// and what is fetched by address. Names and redirections come from strangers, so they never
// lead to this machine or to private networks, unless the administrator has named that
// very host: what answers there trusts whoever is at home.
package outside

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"syscall"
	"time"
)

// ErrPrivate says that an address leads to this machine or to a private network.
var ErrPrivate = errors.New("it leads to this machine or to a private network")

// Guard says how servers elsewhere are asked. The zero value reaches public addresses only.
type Guard struct {
	// Private allows all addresses.
	Private bool
	// Near are addresses such as https://catalogue.home.arpa/api that the administrator has
	// named: their hosts, with these ports, may be anywhere.
	Near []string
	// Redirect judges a redirection; nil follows up to four, to http and https.
	Redirect func(r *http.Request, via []*http.Request) error
	// Timeout bounds a whole exchange, 0 for none; Header how long the answer may take to
	// begin, 0 for a minute.
	Timeout, Header time.Duration
	// Raw leaves compressed answers as they are.
	Raw bool
}

// Client gives a client that keeps to the guard.
func (g Guard) Client() *http.Client {
	free, guarded := &net.Dialer{Timeout: 20 * time.Second}, &net.Dialer{Timeout: 20 * time.Second}
	// After names were resolved, so that none can point here.
	guarded.Control = func(_, address string, _ syscall.RawConn) error {
		ap, err := netip.ParseAddrPort(address)
		if err != nil || !Public(ap.Addr()) {
			return fmt.Errorf("%w: %s", ErrPrivate, address)
		}
		return nil
	}
	near := map[string]bool{}
	for _, n := range g.Near {
		if host := hostPort(n); host != "" {
			near[host] = true
		}
	}
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		if g.Private || near[strings.ToLower(address)] {
			return free.DialContext(ctx, network, address)
		}
		return guarded.DialContext(ctx, network, address)
	}
	header := g.Header
	if header == 0 {
		header = time.Minute
	}
	redirect := g.Redirect
	if redirect == nil {
		redirect = few
	}
	return &http.Client{
		Timeout: g.Timeout, CheckRedirect: redirect,
		Transport: &http.Transport{DialContext: dial, TLSHandshakeTimeout: 20 * time.Second,
			ResponseHeaderTimeout: header, DisableCompression: g.Raw,
			ForceAttemptHTTP2: true, MaxResponseHeaderBytes: 64 << 10, IdleConnTimeout: 30 * time.Second,
			MaxConnsPerHost: 8},
	}
}

func few(r *http.Request, via []*http.Request) error {
	switch {
	case len(via) > 4 || r.URL.Scheme != "http" && r.URL.Scheme != "https":
		return errors.New("it is redirected too often, or to what cannot be fetched")
	case via[0].URL.Scheme == "https" && r.URL.Scheme != "https":
		return errors.New("it is redirected from https to http")
	}
	return nil
}

// hostPort gives the host and port of an address, as a dialer is given them.
func hostPort(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" {
		return ""
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return strings.ToLower(net.JoinHostPort(u.Hostname(), port))
}

// Public reports whether an address is one of the public internet.
func Public(a netip.Addr) bool {
	a = a.Unmap()
	if !a.IsGlobalUnicast() || a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast() {
		return false
	}
	for _, p := range notPublic {
		if p.Contains(a) {
			return false
		}
	}
	return true
}

// notPublic are networks with a purpose of their own (IANA's registries of special
// addresses): shared, protocols, documentation, benchmarks, reserved, and those that carry
// addresses of the other protocol.
var notPublic = func() []netip.Prefix {
	var out []netip.Prefix
	for _, s := range []string{"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "198.18.0.0/15",
		"198.51.100.0/24", "203.0.113.0/24", "240.0.0.0/4",
		"64:ff9b::/96", "64:ff9b:1::/48", "100::/64", "2001::/23", "2001:db8::/32", "2002::/16", "3fff::/20"} {
		out = append(out, netip.MustParsePrefix(s))
	}
	return out
}()
