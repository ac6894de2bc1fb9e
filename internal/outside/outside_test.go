package outside

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
)

func TestPrivateAddressesAreReachedOnlyWhereTheyWereNamed(t *testing.T) {
	inner := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_,
			_ = io.WriteString(w, "of the router")
	}))
	defer inner.Close()
	var to string
	named := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/away" {
			http.Redirect(w, r, to, http.StatusFound)
			return
		}
		_, _ = io.WriteString(w, "a catalogue")
	}))
	defer named.Close()
	get := func(g Guard, address string) (string, error) {
		res, err := g.Client().Get(address)
		if err != nil {
			return "", err
		}
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		return string(b), err
	}
	g := Guard{Near: []string{named.URL + "/api.php"}}
	if got, err := get(g, named.URL+"/x"); err != nil || got != "a catalogue" {
		t.Errorf("what was named: %q, %v", got, err)
	}
	if got, err := get(g, inner.URL); !errors.Is(err, ErrPrivate) {
		t.Errorf("what was not: %q, %v", got, err)
	}
	for _, to = range []string{inner.URL, "http://169.254.169.254/latest", "http://localhost:1/", "http://[::1]:1/",
		"file:///etc/passwd"} {
		if got, err := get(g, named.URL+"/away"); err == nil {
			t.Errorf("redirected to %s: %q", to, got)
		}
	}
	if got, err := get(Guard{}, named.URL); !errors.Is(err, ErrPrivate) {
		t.Errorf("with nothing named: %q, %v", got, err)
	}
	if got, err := get(Guard{Private: true}, inner.URL); err != nil || got != "of the router" {
		t.Errorf("with all allowed: %q, %v", got, err)
	}
}

func TestPublic(t *testing.T) {
	for s, want := range map[string]bool{
		"1.1.1.1": true, "2606:4700::1": true, "127.0.0.1": false, "10.0.0.1": false, "169.254.169.254": false,
		"::1": false, "fe80::1": false, "fc00::1": false,
		"::ffff:10.0.0.1": false, "64:ff9b::a00:1": false, "2002:a00:1::": false, "0.0.0.0": false, "224.0.0.1": false,
		"100.64.0.1": false,
	} {
		if got := Public(netip.MustParseAddr(s)); got != want {
			t.Errorf("%s: got %v", s, got)
		}
	}
}
