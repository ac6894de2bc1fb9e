package certificate

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"strings"

	"cozyshelf/internal/remote/nameserver"

	"github.com/libdns/libdns"
	"github.com/miekg/dns"
)

// credentials are what an authority or a name server has given.
type credentials struct {
	keyID, macKey string // of the account (external account binding, RFC 8555, 7.3.4)
	tsig          nameserver.Key
}

// readCredentials reads lines such as key_id=…; empty ones and those that begin with # are passed over.
func readCredentials(b []byte) (c credentials, err error) {
	fields := map[string]*string{"key_id": &c.keyID, "mac_key": &c.macKey, "tsig_name": &c.tsig.Name,
		"tsig_secret": &c.tsig.Secret, "tsig_algorithm": &c.tsig.Algorithm}
	lines := bufio.NewScanner(bytes.NewReader(b))
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || line[0] == '#' {
			continue
		}
		key, value, ok := strings.Cut(line, "=")
		to := fields[strings.TrimSpace(key)]
		if !ok || to == nil {
			return c, fmt.Errorf("line %d of the credentials is none of key_id=, mac_key=, tsig_name=, tsig_secret=, "+
				"tsig_algorithm=", n)
		}
		*to = strings.TrimSpace(value)
	}
	if (c.keyID == "") != (c.macKey == "") || (c.tsig.Name == "") != (c.tsig.Secret == "") {
		return c, fmt.Errorf("key_id= and mac_key= belong together in the credentials, and so do tsig_name= and tsig_secret=")
	}
	return c, lines.Err()
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
