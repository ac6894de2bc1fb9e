package visit

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/reach"
)

// authority makes certificates.
type authority struct {
	t    *testing.T
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

func (a *authority) make(c x509.Certificate) (*x509.Certificate, *ecdsa.PrivateKey) {
	a.t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		a.t.Fatal(err)
	}
	c.SerialNumber = big.NewInt(time.Now().UnixNano())
	parent, by := a.cert, a.key
	if parent == nil {
		parent, by = &c, k
	}
	b, err := x509.CreateCertificate(rand.Reader, &c, parent, &k.PublicKey, by)
	if err != nil {
		a.t.Fatal(err)
	}
	out, err := x509.ParseCertificate(b)
	if err != nil {
		a.t.Fatal(err)
	}
	return out, k
}

func newAuthority(t *testing.T) *authority {
	a := &authority{t: t}
	a.cert, a.key = a.make(x509.Certificate{Subject: pkix.Name{CommonName: "the mill's own"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(1000 * time.Hour)})
	return a
}

// serve answers with a certificate for a name, good from and until so many hours from now.
func (a *authority) serve(name string, from, until int) *httptest.Server {
	leaf, key := a.make(x509.Certificate{DNSNames: []string{name},
		NotBefore:   time.Now().Add(time.Duration(from) * time.Hour),
		NotAfter:    time.Now().Add(time.Duration(until) * time.Hour),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}})
	s := httptest.NewUnstartedServer(http.NotFoundHandler())
	s.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw}, PrivateKey: key}}}
	s.StartTLS()
	a.t.Cleanup(s.Close)
	return s
}

func port(t *testing.T, address string) string {
	t.Helper()
	_, p, err := net.SplitHostPort(address)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestWhatCertificatesAreWorth(t *testing.T) {
	a, other := newAuthority(t), newAuthority(t)
	roots := x509.NewCertPool()
	roots.AddCert(a.cert)
	const name = "shelf.example.net"
	plain := httptest.NewServer(http.NotFoundHandler())
	defer plain.Close()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	free.Close()
	for what, one := range map[string]struct {
		at    string
		fault reach.Fault
	}{
		"good":        {a.serve(name, -1, 500).Listener.Addr().String(), ""},
		"another":     {a.serve("other.example.net", -1, 500).Listener.Addr().String(), reach.WrongName},
		"over":        {a.serve(name, -5, -1).Listener.Addr().String(), reach.Expired},
		"not yet":     {a.serve(name, 5, 9).Listener.Addr().String(), reach.Expired},
		"another's":   {other.serve(name, -1, 500).Listener.Addr().String(), reach.Untrusted},
		"plain HTTP":  {plain.Listener.Addr().String(), reach.NoTLS},
		"nobody here": {free.Addr().String(), reach.Refused},
	} {
		seen := Go(context.Background(), Wish{Address: "https://" + name + ":" + port(t, one.at), Roots: roots, Outside: true,
			Connect: netip.MustParseAddr("127.0.0.1")})
		c := seen.Certificate
		if c == nil || c.Fault != one.fault || (c.Error == "") != (one.fault == "") {
			t.Errorf("%s: %+v", what, c)
			continue
		}
		if c.Fault == "" && (c.Issuer != "the mill's own" || !c.HTTP2 && c.Version == "" || c.Until.Before(time.Now())) {
			t.Errorf("%s: %+v", what, c)
		}
	}
}

func TestNamesThatNobodyKnows(t *testing.T) {
	for what, one := range map[string]struct {
		address string
		resolve func(context.Context, string) ([]netip.Addr, error)
		fault   string
		count   int
	}{
		"no address": {"", nil, "", 0}, "no host": {"https://", nil, "", 0},
		"unknown": {"https://shelf.example.net", func(context.Context, string) ([]netip.Addr, error) {
			return nil, &net.DNSError{Err: "no such host", Name: "shelf.example.net", IsNotFound: true}
		}, "no such host", 0},
		"a resolver that fails": {"https://shelf.example.net", func(context.Context, string) ([]netip.Addr, error) {
			return nil, errors.New("broken")
		}, "broken", 0},
		"none": {"https://shelf.example.net", func(context.Context, string) ([]netip.Addr, error) { return nil, nil }, "", 0},
	} {
		seen := Go(context.Background(), Wish{Address: one.address, Resolve: one.resolve, Outside: true})
		if !strings.Contains(seen.NameError, one.fault) || len(seen.Addresses) != one.count || seen.Certificate != nil {
			t.Errorf("%s: %+v", what, seen)
		}
	}
}

// TestNoVisitOfAStranger visits what is not the household's server.
func TestNoVisitOfAStranger(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Add("X-Frame-Options", "DENY")
		w.Header().Add("X-Frame-Options", "DENY")
	}))
	defer s.Close()
	seen := Go(context.Background(), Wish{Address: s.URL, Token: "t",
		Arrived: func(context.Context) (*reach.Arrival, error) { return nil, nil }})
	if seen.Answer == nil || seen.Answer.Status != http.StatusOK || seen.Arrived != nil || seen.Ranges != nil ||
		len(seen.Doubled) != 1 {
		t.Errorf("%+v", seen)
	}
}
