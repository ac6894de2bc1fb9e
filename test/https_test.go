package test

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/control"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/testbuild"
)

// section adds lines to the household file.
func (m *mill) section(lines string) {
	m.t.Helper()
	text, err := os.ReadFile(m.path("household.toml"))
	if err == nil {
		err = os.WriteFile(m.path("household.toml"), append(text, "\n"+lines...), 0o644)
	}
	if err != nil {
		m.t.Fatal(err)
	}
}

// shows gives the certificate that is shown at a port for a name, if it is one that is trusted.
func shows(port int, name string, roots *x509.CertPool) (*x509.Certificate, error) {
	c, err := tls.DialWithDialer(&net.Dialer{Timeout: time.Second}, "tcp", fmt.Sprintf("127.0.0.1:%d", port),
		&tls.Config{ServerName: name, RootCAs: roots})
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return c.ConnectionState().PeerCertificates[0], nil
}

// TestHTTPSOfTheServersOwn deploys it in a container: by the household's own authority, which outlives the
// machine by a backup, and from files that are renewed while it runs.
func TestHTTPSOfTheServersOwn(t *testing.T) {
	t.Parallel()
	needsDocker(t)
	m, port := newMill(t, "docker"), testbuild.Port(t)
	m.edit(`bind    = "localhost"`, "names = [\"mill.home.arpa\"]\nbind    = \"localhost\"")
	m.section(fmt.Sprintf("[remote.certificate]\nfrom = \"home\"\nport = %d\n", port))
	m.must("deploy", "--yes")
	m.must("member", "add", "wren", "--role", "admin", "--generate")
	ca := m.path("ca.crt")
	said := m.must("remote", "certificate", "--save", ca)
	if !strings.Contains(said, "mill.home.arpa") || !strings.Contains(said, "/trust") {
		t.Errorf("%s", said)
	}
	if _, errs, code := m.run("", "remote", "certificate", "--save", ca); code == 0 || !strings.Contains(errs,
		"there is a file already") {
		t.Errorf("a file that is there: code %d, %s", code, errs)
	}
	b, err := os.ReadFile(ca)
	roots := x509.NewCertPool()
	if err != nil || !roots.AppendCertsFromPEM(b) {
		t.Fatalf("%s, %v", b, err)
	}
	if _, err := shows(port, "mill.home.arpa", roots); err != nil {
		t.Error(err)
	}
	if _, err := shows(port, "shelf.example.net", roots); err == nil {
		t.Error("it vouches for a name outside")
	}
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{ForceAttemptHTTP2: true,
		TLSClientConfig: &tls.Config{RootCAs: roots}}}
	res, err := client.Get(fmt.Sprintf("https://localhost:%d/healthz", port))
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if res.StatusCode != http.StatusOK || res.ProtoMajor != 2 {
		t.Errorf("%s %s", res.Proto, res.Status)
	}
	if got := m.must("status"); !strings.Contains(got, "by the household's own authority") {
		t.Errorf("%s", got)
	}
	// Another machine that has the backup is trusted by the same devices.
	saved := m.path("b.tar.zst")
	m.must("backup", "--to", saved)
	n, other := newMill(t, "process"), testbuild.Port(t)
	n.section(fmt.Sprintf("[remote.certificate]\nfrom = \"home\"\nport = %d\n", other))
	n.must("deploy", "--yes")
	if _, err := shows(other, "localhost", roots); err == nil {
		t.Error("another household's authority is the same")
	}
	n.must("restore", saved, "--yes")
	if _, err := shows(other, "localhost", roots); err != nil {
		t.Errorf("after a restore: %v", err)
	}

	// From files.
	folder := m.path("certificate")
	if err := os.Mkdir(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	m.edit("from = \"home\"", fmt.Sprintf("from = \"files\"\nfolder = %q\nchain = \"chain.pem\"\nkey = \"key.pem\"",
		folder))
	if out, errs, code := m.run("", "deploy", "--yes"); code != problem.ExitFound ||
		!strings.Contains(out+errs, "chain.pem and key.pem is not in") {
		t.Errorf("no files: code %d, %s%s", code, out, errs)
	}
	issuer := testbuild.NewAuthority(t, "an authority that everybody trusts")
	files := x509.NewCertPool()
	files.AddCert(issuer.Cert)
	renew := func() {
		t.Helper()
		cert, key := issuer.Issue(time.Now().Add(-time.Hour), time.Now().Add(60*24*time.Hour), "shelf.example.net")
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			t.Fatal(err)
		}
		owner := &atomicfile.Owner{UID: m.uid, GID: m.uid}
		for name, block := range map[string]*pem.Block{"chain.pem": {Type: "CERTIFICATE", Bytes: cert.Raw},
			"key.pem": {Type: "PRIVATE KEY", Bytes: der}} {
			if err := atomicfile.Replace(filepath.Join(folder, name), pem.EncodeToMemory(block), 0o600, owner); err != nil {
				t.Fatal(err)
			}
		}
	}
	renew()
	if os.Geteuid() == 0 {
		if out, errs, code := m.run("", "deploy", "--yes"); code != problem.ExitFound ||
			!strings.Contains(out+errs, "setfacl") {
			t.Errorf("a folder that the account may not read: code %d, %s%s", code, out, errs)
		}
	}
	if err := os.Chmod(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	m.must("deploy", "--yes")
	first, err := shows(port, "shelf.example.net", files)
	for range 100 {
		if err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
		first, err = shows(port, "shelf.example.net", files)
	}
	if err != nil {
		t.Fatal(err)
	}
	renew()
	for began := time.Now(); ; time.Sleep(100 * time.Millisecond) {
		if again, err := shows(port, "shelf.example.net", files); err == nil &&
			again.SerialNumber.Cmp(first.SerialNumber) != 0 {
			break
		}
		if time.Since(began) > 20*time.Second {
			t.Fatal("a renewed certificate is not taken up")
		}
	}
	var doc control.Certificate
	if m.document(&doc, "remote", "certificate"); len(doc.Names) != 1 || doc.Problem != "" || doc.PEM != "" {
		t.Errorf("%+v", doc)
	}
	if _, errs, code := m.run("", "remote", "certificate", "--save", m.path("none.crt")); code != problem.ExitUsage {
		t.Errorf("no authority to save: code %d, %s", code, errs)
	}
}
