package certificate

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/testbuild"

	"github.com/letsencrypt/pebble/v2/ca"
	"github.com/letsencrypt/pebble/v2/db"
	"github.com/letsencrypt/pebble/v2/va"
	"github.com/letsencrypt/pebble/v2/wfe"
)

const macKey = "zWNDZM6eQGHWpSRTPal5eIUYFTu7EajVIoguysqZ9wG44nMEtx3MUAsUDkMTQ12W"

// authority starts an authority (Pebble), which looks by a name server, and on these ports, and gives where it
// is asked, by what its address is trusted, and by what its certificates are.
func authority(t *testing.T, nameserver string, plain, encrypted int, account bool,
	lasts time.Duration) (address string,
	trusted, roots *x509.CertPool) {
	t.Helper()
	// It refuses every fifth message once, for no reason; and waits as it likes.
	for key, value := range map[string]string{"PEBBLE_WFE_NONCEREJECT": "20", "PEBBLE_VA_SLEEPTIME": "1"} {
		t.Setenv(key, value)
	}
	logger := log.New(testLog{t}, "", 0)
	store := db.NewMemoryStore()
	issuer := ca.New(logger, store, "", "ecdsa", 0, 1, map[string]ca.Profile{"default": {Description: "for tests",
		ValidityPeriod: uint64(lasts.Seconds())}})
	if account {
		if err := store.AddExternalAccountKeyByID("the-mill", macKey); err != nil {
			t.Fatal(err)
		}
	}
	if err := store.AddBlockedDomain("blocked.mill.example"); err != nil {
		t.Fatal(err)
	}
	front := wfe.New(logger, store, va.New(logger, plain, encrypted, false, nameserver, store), issuer,
		[]string{"pebble.home.arpa"}, false, account, 1, 1)
	srv := httptest.NewTLSServer(front.Handler())
	t.Cleanup(srv.Close)
	trusted, roots = x509.NewCertPool(), x509.NewCertPool()
	trusted.AddCert(srv.Certificate())
	if !roots.AppendCertsFromPEM(issuer.GetRootCert(0).PEM()) {
		t.Fatal("no root")
	}
	return srv.URL + wfe.DirectoryPath, trusted, roots
}

type testLog struct{ *testing.T }

func (l testLog) Write(b []byte) (int, error) { return len(b), nil }

// asks runs a keeper that asks an authority, with real ports.
func asks(t *testing.T, k *Keeper, plain net.Listener) (encrypted string) {
	t.Helper()
	srv := &http.Server{Handler: k.Challenge(http.NotFoundHandler())}
	go srv.Serve(plain)
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", k.TLS))
	if err != nil {
		t.Fatal(err)
	}
	safe := &http.Server{Handler: http.NotFoundHandler(), TLSConfig: k.Config(),
		ErrorLog: slog.NewLogLogger(slog.DiscardHandler, 0)}
	go safe.ServeTLS(l, "", "")
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan bool)
	go func() { k.Run(ctx); close(done) }()
	t.Cleanup(func() {
		stop()
		<-done
		srv.Close()
		safe.Close()
	})
	return l.Addr().String()
}

// shown gives the certificate that is shown for a name, once it is one that is trusted.
func shown(t *testing.T, k *Keeper, at, name string, roots *x509.CertPool, not string) *x509.Certificate {
	t.Helper()
	var last error
	for began := time.Now(); time.Since(began) < time.Minute; time.Sleep(50 * time.Millisecond) {
		c, err := tls.Dial("tcp", at, &tls.Config{ServerName: name, RootCAs: roots})
		if last = err; err != nil {
			continue
		}
		leaf := c.ConnectionState().PeerCertificates[0]
		c.Close()
		if leaf.SerialNumber.String() != not {
			return leaf
		}
		last = errors.New("still the one before")
	}
	t.Fatalf("%s: %v; %+v", name, last, k.Report(time.Now()))
	return nil
}

// TestAnAuthorityIsAskedAndAskedAnew has names proved over HTTP and TLS, and by records of their zone, with an
// account of the authority's, and sees the certificates renewed.
func TestAnAuthorityIsAskedAndAskedAnew(t *testing.T) {
	nameserver := testbuild.BIND(t, "TXT")
	for what, c := range map[string]struct {
		records, account bool
		lasts            time.Duration
	}{"over HTTP and TLS": {false, false, time.Hour}, "by records": {true, false, time.Hour},
		"with an account, renewed": {false, true, 24 * time.Second}} {
		t.Run(what, func(t *testing.T) {
			plain, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			o := Options{State: t.TempDir(), Names: household.NamesOf([]string{"shelf.mill.example", "films.mill.example",
				"millpond"}, ""), HTTP: plain.Addr().(*net.TCPAddr).Port, TLS: testbuild.Port(t), Log: quiet,
				look: 200 * time.Millisecond}
			at, trusted, roots := authority(t, nameserver, o.HTTP, o.TLS, c.account, c.lasts)
			o.From = blueprint.SettingsCertificate{From: household.CertificateACME, Authority: at,
				Contact: "wren@mill.example"}
			o.Roots = trusted
			if c.records || c.account {
				o.From.Credentials = filepath.Join(o.State, "credentials")
				text := "# given\ntsig_name=mill\ntsig_secret=" + testbuild.TSIGSecret + "\n"
				if c.account {
					text += "key_id=the-mill\nmac_key=" + macKey + "\n"
				}
				if err := os.WriteFile(o.From.Credentials, []byte(text), 0o600); err != nil {
					t.Fatal(err)
				}
			}
			if c.records {
				o.From.Nameserver = nameserver
				plain.Close() // nothing is open
				if plain, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
					t.Fatal(err)
				}
			}
			k := Open(o)
			encrypted := asks(t, k, plain)
			first := shown(t, k, encrypted, "shelf.mill.example", roots, "")
			shown(t, k, encrypted, "films.mill.example", roots, "")
			r := k.Report(time.Now())
			if len(r.Names) != 2 || len(r.Missing) != 0 || c.lasts == time.Hour && !strings.HasPrefix(r.Problem,
				"it ends in 0") {
				t.Errorf("%+v", r)
			}
			if !k.Covers("shelf.mill.example", time.Now()) || k.Covers("millpond", time.Now()) {
				t.Error("what it covers")
			}
			if c.account {
				shown(t, k, encrypted, "shelf.mill.example", roots, first.SerialNumber.String())
			}
			left, err := filepath.Glob(filepath.Join(o.State, "certificates", "*"))
			if err != nil || len(left) == 0 {
				t.Errorf("%v, %v", left, err)
			}
			for _, f := range left {
				if st, err := os.Stat(f); err != nil || st.Mode().Perm()&0o077 != 0 {
					t.Errorf("%s: %v, %v", f, st.Mode(), err)
				}
			}
		})
	}
}

// TestWhatAnAuthorityRefusesIsSaid asks for a name that it gives nothing for, one that does not lead here, and
// an authority that is not there.
func TestWhatAnAuthorityRefusesIsSaid(t *testing.T) {
	nameserver := testbuild.BIND(t, "TXT")
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer plain.Close()
	tcp := plain.Addr().(*net.TCPAddr).Port
	at, trusted, _ := authority(t, nameserver, tcp, testbuild.Port(t), false, time.Hour)
	for name, want := range map[string]string{"blocked.mill.example": "blocked.mill.example",
		"elsewhere.example": "elsewhere"} {
		k := Open(Options{State: t.TempDir(), Names: map[string]bool{name: true}, HTTP: tcp, TLS: testbuild.Port(t),
			Log:   quiet,
			Roots: trusted, From: blueprint.SettingsCertificate{From: household.CertificateACME, Authority: at}})
		ctx, stop := context.WithCancel(context.Background())
		go k.Run(ctx)
		var r Report
		for began := time.Now(); time.Since(began) < 30*time.Second; time.Sleep(50 * time.Millisecond) {
			if r = k.Report(time.Now()); strings.Contains(r.Problem, want) {
				break
			}
		}
		stop()
		if !strings.Contains(r.Problem, want) || len(r.Names) > 0 {
			t.Errorf("%s: %+v", name, r)
		}
	}
	bad := filepath.Join(t.TempDir(), "credentials")
	if err := os.WriteFile(bad, []byte("key_id=mill\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	k := Open(Options{State: t.TempDir(), Names: map[string]bool{"shelf.mill.example": true}, Log: quiet,
		From: blueprint.SettingsCertificate{From: household.CertificateACME, Authority: at, Credentials: bad}})
	if r := k.Report(time.Now()); !strings.Contains(r.Problem, "belong together") {
		t.Errorf("%+v", r)
	}
}
