package visit

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/reach"
	"cozyshelf/internal/testbuild"
)

// serve answers with a certificate for a name, good from and until so many hours from now.
func serve(t *testing.T, a *testbuild.Authority, name string, from, until int) string {
	t.Helper()
	in := func(hours int) time.Time { return time.Now().Add(time.Duration(hours) * time.Hour) }
	leaf, key := a.Issue(in(from), in(until), name)
	s := httptest.NewUnstartedServer(http.NotFoundHandler())
	s.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{leaf.Raw}, PrivateKey: key}}}
	s.StartTLS()
	t.Cleanup(s.Close)
	return s.Listener.Addr().String()
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
	a, other := testbuild.NewAuthority(t, "the mill's own"), testbuild.NewAuthority(t, "another's")
	roots := x509.NewCertPool()
	roots.AddCert(a.Cert)
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
		"good":        {serve(t, a, name, -1, 500), ""},
		"another":     {serve(t, a, "other.example.net", -1, 500), reach.WrongName},
		"over":        {serve(t, a, name, -5, -1), reach.Expired},
		"not yet":     {serve(t, a, name, 5, 9), reach.Expired},
		"another's":   {serve(t, other, name, -1, 500), reach.Untrusted},
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
