// Package nameserver changes the records of a zone on its own name server, by dynamic update (RFC 2136),
// signed with a key that both have (TSIG, RFC 8945).
package nameserver

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// Key is what signs an update.
type Key struct {
	Name      string // as the name server calls it
	Secret    string // base64
	Algorithm string // hmac-sha256 where empty
}

// algorithms are those of RFC 8945 that are not broken.
var algorithms = map[string]string{"": dns.HmacSHA256, "hmac-sha224": dns.HmacSHA224, "hmac-sha256": dns.HmacSHA256,
	"hmac-sha384": dns.HmacSHA384, "hmac-sha512": dns.HmacSHA512}

// Server is the name server of a zone.
type Server struct {
	Address string // host:port, or host for port 53
	Key     Key    // zero for none
}

// answerTime is how long a name server may take.
const answerTime = 10 * time.Second

// ErrRefused is that the name server does not take an update.
var ErrRefused = errors.New("the name server refuses the update")

// Add adds records to a zone, beside those that there are.
func (s Server) Add(ctx context.Context, zone string, records ...dns.RR) error {
	return s.update(ctx, zone, func(m *dns.Msg) { m.Insert(records) })
}

// Remove takes exactly these records away.
func (s Server) Remove(ctx context.Context, zone string, records ...dns.RR) error {
	return s.update(ctx, zone, func(m *dns.Msg) { m.Remove(records) })
}

// Set has a name have exactly these records of a type, all at once.
func (s Server) Set(ctx context.Context, zone, name string, kind uint16, records ...dns.RR) error {
	return s.update(ctx, zone, func(m *dns.Msg) {
		m.RemoveRRset([]dns.RR{&dns.ANY{Hdr: dns.RR_Header{Name: dns.Fqdn(name), Rrtype: kind, Class: dns.ClassANY}}})
		m.Insert(records)
	})
}

func (s Server) update(ctx context.Context, zone string, fill func(*dns.Msg)) error {
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(zone))
	fill(m)
	c := &dns.Client{Net: "tcp", Timeout: answerTime}
	if s.Key.Name != "" {
		algorithm, ok := algorithms[strings.ToLower(strings.TrimSuffix(s.Key.Algorithm, "."))]
		if !ok {
			return fmt.Errorf("there is no algorithm %q for the key of a name server", s.Key.Algorithm)
		}
		name := dns.Fqdn(strings.ToLower(s.Key.Name))
		c.TsigSecret = map[string]string{name: s.Key.Secret}
		m.SetTsig(name, algorithm, 300, time.Now().Unix())
	}
	address := s.Address
	if _, _, err := net.SplitHostPort(address); err != nil {
		address = net.JoinHostPort(strings.Trim(address, "[]"), "53")
	}
	answer, _, err := c.ExchangeContext(ctx, m, address)
	if err != nil {
		return fmt.Errorf("asking the name server %s: %w", address, err)
	}
	if answer.Rcode != dns.RcodeSuccess {
		return fmt.Errorf("%w: %s", ErrRefused, dns.RcodeToString[answer.Rcode])
	}
	return nil
}
