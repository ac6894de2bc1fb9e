package certificate

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/testbuild"
)

var quiet = slog.New(slog.DiscardHandler)

// homeIn opens the keeper of a household's own authority.
func homeIn(t *testing.T, dir string, names ...string) *Keeper {
	t.Helper()
	return Open(Options{From: blueprint.SettingsCertificate{From: household.CertificateHome}, State: dir,
		Household: "Fernhollow Mill", Names: household.NamesOf(names, ""), Log: quiet})
}

// serve answers over TLS with a keeper's certificate, and gives where.
func serve(t *testing.T, k *Keeper) string {
	t.Helper()
	l, err := tls.Listen("tcp", "127.0.0.1:0", k.Config())
	if err != nil {
		t.Fatal(err)
	}
	srv := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, "the mill")
	}), ErrorLog: slog.NewLogLogger(slog.DiscardHandler, 0)}
	go srv.Serve(l)
	t.Cleanup(func() { srv.Close() })
	return l.Addr().String()
}

// TestHomesAreVouchedForAndNothingElse has openssl judge what a household's own authority can vouch for, also
// where somebody else has its key.
func TestHomesAreVouchedForAndNothingElse(t *testing.T) {
	if _, err := exec.LookPath("openssl"); err != nil {
		testbuild.Missing(t, "openssl")
	}
	dir := t.TempDir()
	k := homeIn(t, dir, "mill.home.arpa", "millpond", "shelf.example.net", "10.1.2.3", "192.0.2.7")
	ca := filepath.Join(dir, "ca.pem")
	if err := os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: k.Authority()}),
		0o600); err != nil {
		t.Fatal(err)
	}
	leaf, err := k.current("mill.home.arpa")
	if err != nil {
		t.Fatal(err)
	}
	verify := func(c *x509.Certificate, args ...string) (string, bool) {
		t.Helper()
		file := filepath.Join(dir, "leaf.pem")
		if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}), 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command("openssl", append([]string{"verify", "-x509_strict", "-purpose", "sslserver", "-CAfile",
			ca},
			append(args, file)...)...).CombinedOutput()
		return string(out), err == nil
	}
	for _, good := range [][]string{{"-verify_hostname", "mill.home.arpa"}, {"-verify_hostname", "millpond"},
		{"-verify_hostname", "localhost"}, {"-verify_ip", "10.1.2.3"}, {"-verify_ip", "127.0.0.1"}} {
		if out, ok := verify(leaf, good...); !ok {
			t.Errorf("%v: %s", good, out)
		}
	}
	for _, bad := range [][]string{{"-verify_hostname", "shelf.example.net"}, {"-verify_ip", "192.0.2.7"}} {
		if out, ok := verify(leaf, bad...); ok {
			t.Errorf("%v: %s", bad, out)
		}
	}
	r := k.Report(time.Now())
	if !slices.Contains(r.Names, "mill.home.arpa") || r.Problem != "" || r.Print == "" ||
		slices.Contains(r.Names, "shelf.example.net") || !slices.Contains(r.Missing, "192.0.2.7") {
		t.Errorf("%+v", r)
	}
	// Whoever has the key forges in vain.
	for _, name := range []string{"example.net", "bank.example.net", "home.arpa.example.net", "192.0.2.7", "8.8.8.8",
		"2001:db8::1"} {
		c, err := k.home.issue(time.Now(), []string{name})
		if err != nil {
			t.Fatal(err)
		}
		if out, ok := verify(c.Leaf); ok || !strings.Contains(out, "permitted subtree violation") {
			t.Errorf("%s: %s", name, out)
		}
	}
}

// TestOnlyAnAuthorityOfAHomeIsTrusted gives the tool what a server that was taken over could give.
func TestOnlyAnAuthorityOfAHomeIsTrusted(t *testing.T) {
	k := homeIn(t, t.TempDir(), "millpond")
	good := k.Report(time.Now()).PEM
	if der, err := OnlyHomes(good); err != nil || !bytes.Equal(der, k.Authority()) {
		t.Errorf("%v", err)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	forge := func(change func(c *x509.Certificate)) string {
		t.Helper()
		c := *k.home.ca
		c.Raw, c.ExtraExtensions, c.PublicKey = nil, nil, key.Public()
		change(&c)
		der, err := x509.CreateCertificate(rand.Reader, &c, &c, key.Public(), key)
		if err != nil {
			t.Fatal(err)
		}
		return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	}
	if _, err := OnlyHomes(forge(func(*x509.Certificate) {})); err != nil {
		t.Errorf("a sound one: %v", err)
	}
	net4 := func(text string) *net.IPNet {
		_, n, err := net.ParseCIDR(text)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	for what, text := range map[string]string{"nothing": "",
		"rubbish": "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n",
		"two":     good + good, "a key": strings.ReplaceAll(good, "CERTIFICATE", "PRIVATE KEY"),
		"any name":       forge(func(c *x509.Certificate) { c.PermittedDNSDomains = nil }),
		"a name outside": forge(func(c *x509.Certificate) { c.PermittedDNSDomains = []string{"home.arpa", "example.net"} }),
		"all addresses":  forge(func(c *x509.Certificate) { c.PermittedIPRanges = []*net.IPNet{net4("0.0.0.0/0")} }),
		"more addresses": forge(func(c *x509.Certificate) { c.PermittedIPRanges = []*net.IPNet{net4("10.0.0.0/7")} }),
		"no addresses":   forge(func(c *x509.Certificate) { c.PermittedIPRanges = nil }),
		"not critical":   forge(func(c *x509.Certificate) { c.PermittedDNSDomainsCritical = false }),
		"mail and code":  forge(func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageAny} }),
		"those below it": forge(func(c *x509.Certificate) { c.MaxPathLen, c.MaxPathLenZero = 2, false }),
		"no authority":   forge(func(c *x509.Certificate) { c.IsCA, c.MaxPathLen, c.MaxPathLenZero = false, 0, false }),
	} {
		if _, err := OnlyHomes(text); err == nil {
			t.Errorf("%s is trusted", what)
		}
	}
}

func TestTheServersCertificateIsMadeAnewInTime(t *testing.T) {
	k := homeIn(t, t.TempDir(), "mill.home.arpa")
	first, err := k.current("mill.home.arpa")
	if err != nil {
		t.Fatal(err)
	}
	if again, err := k.current("mill.home.arpa"); err != nil || again.SerialNumber.Cmp(first.SerialNumber) != 0 {
		t.Errorf("another at once: %v", err)
	}
	now := time.Now()
	for what, c := range map[string]struct {
		at  time.Time
		old bool
	}{"now": {now, false}, "in 50 days": {now.AddDate(0, 0, 50), false}, "in 65 days": {now.AddDate(0, 0, 65), true},
		"in a year": {now.AddDate(1, 0, 0), true}, "an hour ago": {now.Add(-time.Hour), false},
		"a clock that was never set": {time.Unix(0, 0), true}} {
		if got := k.home.old(first, c.at); got != c.old {
			t.Errorf("%s: %v", what, got)
		}
	}
	// The authority outlives the server.
	print := k.home.print()
	if again := homeIn(t, k.State, "mill.home.arpa"); again.home.print() != print || print == "" {
		t.Error("another authority after a start")
	}
	st, err := os.Stat(filepath.Join(k.State, "authority.pem"))
	if err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", st, err)
	}
	// A damaged one is said, and not replaced: devices trust it.
	if err := os.WriteFile(filepath.Join(k.State, "authority.pem"), []byte("rust"), 0o600); err != nil {
		t.Fatal(err)
	}
	bad := homeIn(t, k.State, "mill.home.arpa")
	if r := bad.Report(now); len(r.Names) > 0 || !strings.Contains(r.Problem, "authority.pem") {
		t.Errorf("%+v", r)
	}
	if b, err := os.ReadFile(filepath.Join(k.State, "authority.pem")); err != nil || string(b) != "rust" {
		t.Errorf("%s, %v", b, err)
	}
}

func TestOnlyStrongEncryptionIsSpoken(t *testing.T) {
	k := homeIn(t, t.TempDir())
	at := serve(t, k)
	roots := x509.NewCertPool()
	c, err := x509.ParseCertificate(k.Authority())
	if err != nil {
		t.Fatal(err)
	}
	roots.AddCert(c)
	for _, v := range []uint16{tls.VersionTLS10, tls.VersionTLS11, tls.VersionTLS12, tls.VersionTLS13} {
		conn, err := tls.Dial("tcp", at, &tls.Config{RootCAs: roots, ServerName: "localhost", MinVersion: v, MaxVersion: v,
			NextProtos: []string{"h2"}})
		if good := v >= tls.VersionTLS12; (err == nil) != good {
			t.Errorf("%s: %v", tls.VersionName(v), err)
		}
		if err == nil {
			conn.Close()
		}
	}
	for _, s := range slices.Concat(tls.CipherSuites(), tls.InsecureCipherSuites()) {
		if !slices.Contains(s.SupportedVersions, tls.VersionTLS12) || len(s.SupportedVersions) == 1 &&
			s.SupportedVersions[0] ==
				tls.VersionTLS13 {
			continue
		}
		conn, err := tls.Dial("tcp", at, &tls.Config{RootCAs: roots, ServerName: "localhost", MaxVersion: tls.VersionTLS12,
			CipherSuites: []uint16{s.ID}})
		strong := strings.HasPrefix(s.Name, "TLS_ECDHE_ECDSA") && (strings.Contains(s.Name, "GCM") ||
			strings.Contains(s.Name, "CHACHA20"))
		if (err == nil) != strong {
			t.Errorf("%s: %v", s.Name, err)
		}
		if err == nil {
			conn.Close()
		}
	}
}

// TestRenewedFilesAreTakenUp renews files as others do: one after the other, and both at once by a link.
func TestRenewedFilesAreTakenUp(t *testing.T) {
	dir := t.TempDir()
	ca := testbuild.NewAuthority(t, "a mill's authority")
	write := func(chain, key string, names ...string) {
		t.Helper()
		c, k := ca.Issue(time.Now().Add(-time.Hour), time.Now().Add(30*24*time.Hour), names...)
		der, err := x509.MarshalPKCS8PrivateKey(k)
		if err != nil {
			t.Fatal(err)
		}
		for name, b := range map[string]*pem.Block{chain: {Type: "CERTIFICATE", Bytes: c.Raw},
			key: {Type: "PRIVATE KEY", Bytes: der}} {
			if name == "" {
				continue
			}
			if err := atomicfile.Replace(filepath.Join(dir, name), pem.EncodeToMemory(b), 0o600, nil); err != nil {
				t.Fatal(err)
			}
		}
	}
	k := Open(Options{From: blueprint.SettingsCertificate{From: household.CertificateFiles,
		Chain: filepath.Join(dir, "chain.pem"), Key: filepath.Join(dir, "key.pem")}, State: t.TempDir(), Log: quiet})
	f := k.source.(*files)
	look := func() Report {
		f.load()
		return k.Report(time.Now())
	}
	if r := look(); len(r.Names) > 0 || !strings.Contains(r.Problem, "chain.pem") {
		t.Errorf("no files: %+v", r)
	}
	write("chain.pem", "key.pem", "one.example.net")
	if r := look(); !slices.Equal(r.Names, []string{"one.example.net"}) || r.Problem != "" {
		t.Errorf("the first: %+v", r)
	}
	// The chain is there, and its key not yet: the one before stays.
	write("chain.pem", "later.pem", "two.example.net")
	if r := look(); !slices.Equal(r.Names, []string{"one.example.net"}) || !strings.Contains(r.Problem,
		"do not make one") {
		t.Errorf("half: %+v", r)
	}
	if err := os.Rename(filepath.Join(dir, "later.pem"), filepath.Join(dir, "key.pem")); err != nil {
		t.Fatal(err)
	}
	if r := look(); !slices.Equal(r.Names, []string{"two.example.net"}) || r.Problem != "" {
		t.Errorf("whole: %+v", r)
	}
	if !k.Covers("two.example.net", time.Now()) || k.Covers("one.example.net", time.Now()) ||
		k.Covers("two.example.net", time.Now().AddDate(0, 2, 0)) {
		t.Error("what it covers")
	}
	if err := os.Remove(filepath.Join(dir, "chain.pem")); err != nil {
		t.Fatal(err)
	}
	for what, spoil := range map[string]func(p string) error{
		"cut short": func(p string) error { return os.WriteFile(p, []byte("-----BEGIN CERTIFICATE-----\nMII"), 0o600) },
		"a folder":  func(p string) error { return os.Mkdir(p, 0o700) },
		"a pipe":    func(p string) error { return exec.Command("mkfifo", p).Run() },
		"huge":      func(p string) error { return os.WriteFile(p, make([]byte, mostPEM+1), 0o600) },
	} {
		p := filepath.Join(dir, "chain.pem")
		if err := spoil(p); err != nil {
			t.Fatal(err)
		}
		if r := look(); !slices.Equal(r.Names, []string{"two.example.net"}) || r.Problem == "" {
			t.Errorf("%s: %+v", what, r)
		}
		if err := os.RemoveAll(p); err != nil {
			t.Fatal(err)
		}
	}
	write("chain.pem", "key.pem", "three.example.net")
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan bool)
	go func() { k.Run(ctx); close(done) }()
	for range 1000 {
		if k.Covers("three.example.net", time.Now()) {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	stop()
	<-done
	if r := k.Report(time.Now()); !slices.Equal(r.Names, []string{"three.example.net"}) || r.Problem != "" {
		t.Errorf("mended: %+v", r)
	}
	if r := k.Report(time.Now().AddDate(0, 0, 25)); !strings.Contains(r.Problem, "it ends in") {
		t.Errorf("near its end: %+v", r)
	}
	if r := k.Report(time.Now().AddDate(0, 0, 31)); r.Problem != "it has ended" {
		t.Errorf("after its end: %+v", r)
	}
}

func FuzzCredentials(f *testing.F) {
	f.Add([]byte("key_id=mill\nmac_key = c2VjcmV0\n# a line\n\ntsig_name=mill\ntsig_secret=eA==\n"))
	f.Add([]byte("key_id=mill"))
	f.Fuzz(func(t *testing.T, b []byte) {
		c, err := readCredentials(b)
		if err == nil && ((c.keyID == "") != (c.macKey == "") || (c.tsig.Name == "") != (c.tsig.Secret == "")) {
			t.Errorf("%q: %+v", b, c)
		}
	})
}
