package certificate

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"path/filepath"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/remote/nameserver"

	"github.com/caddyserver/certmagic"
	"github.com/mholt/acmez/v3/acme"
	"go.uber.org/zap"
)

// acmeProtocol is what an authority asks for that looks over TLS whether a name is ours (RFC 8737).
const acmeProtocol = "acme-tls/1"

// asked is an authority that is asked for certificates, and asked anew in time: when it says so (RFC
// 9773), or when a third of the time is left.
type asked struct {
	keeper *Keeper
	list   []string
	config *certmagic.Config
	cache  *certmagic.Cache
	issuer *certmagic.ACMEIssuer
}

func ask(k *Keeper) *asked {
	a := &asked{keeper: k, list: household.PublicNames(k.Names)}
	given, roots, err := k.given()
	if err != nil {
		k.said(err)
	}
	quiet := zap.NewNop() // what matters comes by OnEvent
	a.cache = certmagic.NewCache(certmagic.CacheOptions{Logger: quiet, RenewCheckInterval: k.look,
		GetConfigForCert: func(certmagic.Certificate) (*certmagic.Config, error) { return a.config, nil }})
	a.config = certmagic.New(a.cache, certmagic.Config{Logger: quiet, OnEvent: a.event,
		Storage: &certmagic.FileStorage{Path: filepath.Join(k.State, layout.Certificates)}})
	if len(a.list) > 0 {
		a.config.FallbackServerName = a.list[0]
	}
	a.issuer = certmagic.NewACMEIssuer(a.config, certmagic.ACMEIssuer{CA: k.From.Authority, Email: k.From.Contact,
		Agreed: true, AltHTTPPort: k.HTTP, AltTLSALPNPort: k.TLS, TrustedRoots: roots, Logger: quiet})
	if given.keyID != "" {
		a.issuer.ExternalAccount = &acme.EAB{KeyID: given.keyID, MACKey: given.macKey}
	}
	if at := k.From.Nameserver; at != "" {
		a.issuer.DNS01Solver = &certmagic.DNS01Solver{DNSManager: certmagic.DNSManager{Logger: quiet,
			Resolvers:   []string{at},
			DNSProvider: zoneRecords{nameserver.Server{Address: at, Key: given.tsig}}}}
	}
	a.config.Issuers = []certmagic.Issuer{a.issuer}
	return a
}

// given reads what lies in the folder for asking: credentials, and the authority's own authority.
func (k *Keeper) given() (c credentials, roots *x509.CertPool, err error) {
	roots = k.Roots
	if k.From.Credentials != "" {
		b, err := text(k.From.Credentials)
		if err == nil {
			c, err = readCredentials(b)
		}
		if err != nil {
			return c, roots, err
		}
	}
	if k.From.Roots != "" {
		b, err := text(k.From.Roots)
		if err != nil {
			return c, roots, err
		}
		if roots = x509.NewCertPool(); !roots.AppendCertsFromPEM(b) {
			return c, roots, fmt.Errorf("%s holds no certificate", k.From.Roots)
		}
	}
	return c, roots, nil
}

func (a *asked) names() []string { return a.list }

func (a *asked) certificate(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	return a.config.GetCertificate(hello)
}

func (a *asked) current(name string) (*tls.Certificate, error) {
	for _, c := range a.cache.AllMatchingCertificates(name) {
		return &c.Certificate, nil
	}
	return nil, errNone
}

// run asks for what is missing, again and again with growing pauses, and for more in time.
func (a *asked) run(ctx context.Context) {
	defer a.cache.Stop()
	if err := a.config.ManageAsync(ctx, a.list); err != nil {
		a.keeper.said(fmt.Errorf("the authority cannot be asked: %w", err))
	}
	<-ctx.Done()
}

// event hears what becomes of asking.
func (a *asked) event(_ context.Context, name string, data map[string]any) error {
	switch name {
	case "cert_obtained":
		a.keeper.said(nil)
		a.keeper.Log.Info("the authority has given a certificate", "name", data["identifier"], "renewed", data["renewal"])
	case "cert_failed":
		err, ok := data["error"].(error)
		if !ok {
			err = errors.New("no reason is given")
		}
		a.keeper.said(fmt.Errorf("the authority gives none for %v: %w", data["identifier"], err))
	}
	return nil
}
