// Package nameserver changes the records of a zone on its own name server, by dynamic update (RFC 2136),
// signed with a key that both have (TSIG, RFC 8945).
package nameserver

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
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

// ReadLines reads lines such as key=value into fields by their keys; empty lines and those that begin with # are
// passed over.
func ReadLines(b []byte, fields map[string]*string) error {
	lines := bufio.NewScanner(bytes.NewReader(b))
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || line[0] == '#' {
			continue
		}
		key, value, ok := strings.Cut(line, "=")
		to := fields[strings.TrimSpace(key)]
		if !ok || to == nil {
			return fmt.Errorf("line %d is none of %s=", n, strings.Join(slices.Sorted(maps.Keys(fields)), "=, "))
		}
		*to = strings.TrimSpace(value)
	}
	return lines.Err()
}

// Lines are where ReadLines puts the parts of a key.
func (k *Key) Lines() map[string]*string {
	return map[string]*string{"tsig_name": &k.Name, "tsig_secret": &k.Secret, "tsig_algorithm": &k.Algorithm}
}

// Check says what of a key is missing.
func (k Key) Check() error {
	if (k.Name == "") != (k.Secret == "") {
		return errors.New("tsig_name= and tsig_secret= belong together")
	}
	return nil
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

// Zone finds the zone of a name: the nearest name above it, or itself, of which the server has the beginning (SOA).
func (s Server) Zone(ctx context.Context, name string) (string, error) {
	for zone := dns.Fqdn(name); zone != "."; {
		answer, err := s.ask(ctx, zone, dns.TypeSOA)
		if err != nil {
			return "", err
		}
		for _, rr := range answer.Answer {
			if soa, ok := rr.(*dns.SOA); ok && strings.EqualFold(soa.Hdr.Name, zone) {
				return zone, nil
			}
		}
		_, zone, _ = strings.Cut(zone, ".")
		if zone == "" {
			zone = "."
		}
	}
	return "", fmt.Errorf("the name server has no zone that holds %s", name)
}

// Addresses gives what a name stands for, by its records of a type (A or AAAA) at this server.
func (s Server) Addresses(ctx context.Context, name string, kind uint16) (out []netip.Addr, err error) {
	answer, err := s.ask(ctx, dns.Fqdn(name), kind)
	if err != nil {
		return nil, err
	}
	if answer.Rcode != dns.RcodeSuccess && answer.Rcode != dns.RcodeNameError {
		return nil, fmt.Errorf("the name server answers %s", dns.RcodeToString[answer.Rcode])
	}
	for _, rr := range answer.Answer {
		var a netip.Addr
		switch rr := rr.(type) {
		case *dns.A:
			a, _ = netip.AddrFromSlice(rr.A)
		case *dns.AAAA:
			a, _ = netip.AddrFromSlice(rr.AAAA)
		}
		if a.IsValid() && len(out) < mostAddresses {
			out = append(out, a.Unmap())
		}
	}
	return out, nil
}

// mostAddresses bounds what is read of a name.
const mostAddresses = 64

func (s Server) ask(ctx context.Context, name string, kind uint16) (*dns.Msg, error) {
	m := new(dns.Msg)
	m.SetQuestion(name, kind)
	answer, _, err := (&dns.Client{Net: "tcp", Timeout: answerTime}).ExchangeContext(ctx, m, s.at())
	if err != nil {
		return nil, fmt.Errorf("asking the name server %s: %w", s.at(), err)
	}
	return answer, nil
}

// at gives host and port.
func (s Server) at() string {
	if _, _, err := net.SplitHostPort(s.Address); err != nil {
		return net.JoinHostPort(strings.Trim(s.Address, "[]"), "53")
	}
	return s.Address
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
	answer, _, err := c.ExchangeContext(ctx, m, s.at())
	if errors.Is(err, dns.ErrAuth) {
		return fmt.Errorf("%w: it does not know the key, or is not in charge of %s", ErrRefused, zone)
	}
	if err != nil {
		return fmt.Errorf("asking the name server %s: %w", s.at(), err)
	}
	if answer.Rcode != dns.RcodeSuccess {
		return fmt.Errorf("%w: %s", ErrRefused, dns.RcodeToString[answer.Rcode])
	}
	return nil
}
