package certificate

import (
	"context"
	"errors"
	"fmt"

	"cozyshelf/internal/remote/nameserver"

	"github.com/libdns/libdns"
	"github.com/miekg/dns"
)

// credentials are what an authority or a name server has given.
type credentials struct {
	keyID, macKey string // of the account (external account binding, RFC 8555, 7.3.4)
	tsig          nameserver.Key
}

// readCredentials reads lines such as key_id=…
func readCredentials(b []byte) (c credentials, err error) {
	fields := c.tsig.Lines()
	fields["key_id"], fields["mac_key"] = &c.keyID, &c.macKey
	if err := nameserver.ReadLines(b, fields); err != nil {
		return c, fmt.Errorf("the credentials: %w", err)
	}
	if (c.keyID == "") != (c.macKey == "") {
		return c, errors.New("key_id= and mac_key= belong together in the credentials")
	}
	return c, c.tsig.Check()
}

// zoneRecords proves by records of a zone that a name is ours (DNS-01).
type zoneRecords struct{ server nameserver.Server }

// AppendRecords adds records to a zone.
func (z zoneRecords) AppendRecords(ctx context.Context, zone string, list []libdns.Record) ([]libdns.Record, error) {
	rrs, err := records(zone, list)
	if err == nil {
		err = z.server.Add(ctx, zone, rrs...)
	}
	return list, err
}

// DeleteRecords takes them away.
func (z zoneRecords) DeleteRecords(ctx context.Context, zone string, list []libdns.Record) ([]libdns.Record, error) {
	rrs, err := records(zone, list)
	if err == nil {
		err = z.server.Remove(ctx, zone, rrs...)
	}
	return list, err
}

func records(zone string, list []libdns.Record) (out []dns.RR, err error) {
	for _, r := range list {
		rr := r.RR()
		if rr.Type != "TXT" {
			return nil, fmt.Errorf("a record of type %s was not looked for", rr.Type)
		}
		out = append(out, &dns.TXT{Hdr: dns.RR_Header{Name: dns.Fqdn(libdns.AbsoluteName(rr.Name, zone)),
			Rrtype: dns.TypeTXT, Class: dns.ClassINET, Ttl: uint32(rr.TTL.Seconds())}, Txt: []string{rr.Data}})
	}
	return out, nil
}
