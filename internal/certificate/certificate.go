// Package certificate keeps the certificate of the server's own HTTPS: from files that somebody else
// renews, from a small authority of the household's own, or from an authority that is asked (RFC 8555).
// The server answers without one, too: a connection is refused until there is one, and Report says why.
package certificate

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
)

// Options are what a keeper needs to know.
type Options struct {
	From      blueprint.SettingsCertificate
	State     string          // the state folder
	Household string          // its name, by which people know its authority
	Names     map[string]bool // that the server answers to
	HTTP, TLS int             // the ports that the server listens on, inside
	Log       *slog.Logger
	Roots     *x509.CertPool // that an authority's own address is trusted by; the usual ones where nil

	look time.Duration // how often it is looked whether it is time to ask anew; zero for the usual
}

// source is where certificates come from.
type source interface {
	// certificate gives the one for a connection.
	certificate(*tls.ClientHelloInfo) (*tls.Certificate, error)
	// run keeps it good until the context ends.
	run(context.Context)
	// names are those that it is to be good for.
	names() []string
	// current is the certificate for a name, or errNone.
	current(name string) (*tls.Certificate, error)
}

// Keeper keeps the server's certificate.
type Keeper struct {
	Options
	source
	problem atomic.Pointer[string]
	home    *home
	asked   *asked
}

// Report tells of the certificate.
type Report struct {
	From    string    `json:"from"`
	Names   []string  `json:"names"`               // that it is good for
	Missing []string  `json:"missing"`             // names of the server that it is not good for
	Issuer  string    `json:"issuer,omitempty"`    // who vouches for it
	Ends    time.Time `json:"ends_at,omitzero"`    // when it ends
	Problem string    `json:"problem,omitempty"`   // what is wrong
	Print   string    `json:"authority,omitempty"` // SHA-256 of the household's own authority
	PEM     string    `json:"authority_pem,omitempty"`
}

var errNone = errors.New("there is no certificate yet")

// Open makes a keeper. That there is no certificate yet is no error.
func Open(o Options) *Keeper {
	k := &Keeper{Options: o}
	switch o.From.From {
	case household.CertificateFiles:
		k.source = &files{keeper: k}
	case household.CertificateACME:
		k.asked = ask(k)
		k.source = k.asked
	default:
		k.home = openHome(k)
		k.source = k.home
	}
	return k
}

// Run keeps the certificate good until the context ends.
func (k *Keeper) Run(ctx context.Context) { k.run(ctx) }

// said notes what is wrong, or nil, and logs it once.
func (k *Keeper) said(err error) {
	if err == nil {
		k.problem.Store(nil)
		return
	}
	text := err.Error()
	if old := k.problem.Swap(&text); old == nil || *old != text {
		k.Log.Error("the certificate", "from", k.From.From, "why", err)
	}
}

// Config is how connections are encrypted: TLS 1.3, or 1.2 with forward secrecy and authenticated
// encryption only.
func (k *Keeper) Config() *tls.Config {
	c := &tls.Config{
		GetCertificate: k.certificate,
		MinVersion:     tls.VersionTLS12,
		CipherSuites: []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,
			tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384, tls.TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384,
			tls.TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256, tls.TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256},
		NextProtos: []string{"h2", "http/1.1"},
	}
	if k.asked != nil {
		c.NextProtos = append(c.NextProtos, acmeProtocol)
	}
	return c
}

// Challenge lets an authority look over plain HTTP whether a name is ours.
func (k *Keeper) Challenge(next http.Handler) http.Handler {
	if k == nil || k.asked == nil {
		return next
	}
	return k.asked.issuer.HTTPChallengeHandler(next)
}

// Authority gives the certificate of the household's own authority, in DER; nil for none.
func (k *Keeper) Authority() []byte {
	if k == nil || k.home == nil {
		return nil
	}
	return k.home.authority()
}

// current is the certificate that a client gets which names a name, or none.
func (k *Keeper) current(name string) (*x509.Certificate, error) {
	c, err := k.source.current(name)
	if err != nil {
		return nil, err
	}
	if c.Leaf != nil {
		return c.Leaf, nil
	}
	return x509.ParseCertificate(c.Certificate[0])
}

// Covers reports whether browsers anywhere take the server for a host, by a certificate that is good
// now. One of the household's own authority is taken by devices that trust it only.
func (k *Keeper) Covers(host string, now time.Time) bool {
	if k == nil || k.home != nil {
		return false
	}
	c, err := k.current(host)
	return err == nil && c.VerifyHostname(host) == nil && now.After(c.NotBefore) && now.Before(c.NotAfter)
}

// soon is how long before its end a certificate counts as about to end.
const soon = 7 * 24 * time.Hour

// Report tells of the certificate.
func (k *Keeper) Report(now time.Time) Report {
	out := Report{From: k.From.From, Names: []string{}, Missing: []string{}}
	if p := k.problem.Load(); p != nil {
		out.Problem = *p
	}
	wanted := k.names()
	for _, name := range wanted {
		c, err := k.current(name)
		if err != nil || c.VerifyHostname(name) != nil {
			out.Missing = append(out.Missing, name)
			continue
		}
		out.Names, out.Issuer = append(out.Names, name), c.Issuer.CommonName
		if out.Issuer == "" && len(c.Issuer.Organization) > 0 {
			out.Issuer = c.Issuer.Organization[0]
		}
		if out.Ends.IsZero() || c.NotAfter.Before(out.Ends) {
			out.Ends = c.NotAfter
		}
	}
	switch {
	case out.Problem != "":
	case len(out.Names) == 0:
		out.Problem = errNone.Error()
	case !now.Before(out.Ends):
		out.Problem = "it has ended"
	case out.Ends.Sub(now) < soon:
		out.Problem = fmt.Sprintf("it ends in %d days, and no other has come", int(out.Ends.Sub(now).Hours()/24))
	}
	if k.home != nil {
		out.Print = k.home.print()
		if der := k.home.authority(); der != nil {
			out.PEM = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
		}
	}
	return out
}

// sorted gives the names of a set that a function takes.
func sorted(names map[string]bool, take func(string) bool) (out []string) {
	for n := range names {
		if n != "" && take(n) {
			out = append(out, strings.ToLower(n))
		}
	}
	slices.Sort(out)
	return out
}
