package notify

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/testbuild"
)

// exim is what Exim is told: it takes letters for the mill alone, at one port from those who have signed in.
const exim = `exim_user = Debian-exim
exim_group = Debian-exim
keep_environment =
spool_directory = FOLDER/spool
log_file_path = FOLDER/spool/%slog
pid_file_path = FOLDER/spool/exim.pid
local_interfaces = 127.0.0.1
daemon_smtp_ports = OPEN : CLOSED
primary_hostname = localhost
tls_advertise_hosts = *
tls_certificate = FOLDER/chain.pem
tls_privatekey = FOLDER/key.pem
acl_smtp_rcpt = check
acl_smtp_data = accept
never_users =
begin acl
check:
  deny message = 550 there is nobody of that name
    condition = ${if !eq{$domain}{mill.home.arpa}}
  deny message = 530 sign in first
    condition = ${if eq{$received_port}{CLOSED}}
    !authenticated = *
  accept
begin routers
all:
  driver = accept
  transport = keep
begin transports
keep:
  driver = appendfile
  maildir_format
  directory = FOLDER/mail
  user = Debian-exim
  create_directory
begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_prompts = :
  server_condition = ${if and {{eq{$auth2}{shelf}}{eq{$auth3}{the letters' word}}}}
  server_advertise_condition = ${if def:tls_in_cipher}
`

// mailServer runs Exim, which keeps what it takes in a folder. It gives the address of its listener
// without and with a sign-in, and the authority of its certificate.
func mailServer(t *testing.T) (open, closed, folder string, roots *x509.CertPool) {
	t.Helper()
	program, err := exec.LookPath("exim4")
	if err != nil || os.Getuid() != 0 {
		testbuild.Missing(t, "exim4, as root")
	}
	dir, err := os.MkdirTemp("", "cozyshelf-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	roots = certificate(t, dir)
	open, closed = free(t), free(t)
	text := strings.NewReplacer("FOLDER", dir, "OPEN", open, "CLOSED", closed).Replace(exim)
	if err := os.WriteFile(filepath.Join(dir, "exim.conf"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	folder = filepath.Join(dir, "mail")
	for _, d := range []string{folder, filepath.Join(dir, "spool")} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.Command("chown", "-R", "Debian-exim:Debian-exim", dir).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if err := os.Chown(filepath.Join(dir, "exim.conf"), 0, 0); err != nil {
		t.Fatal(err)
	}
	c := exec.Command(program, "-C", filepath.Join(dir, "exim.conf"), "-bdf")
	c.WaitDelay = time.Second
	var says bytes.Buffer
	c.Stdout, c.Stderr = &says, &says
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait()
		if t.Failed() {
			t.Log(says.String())
		}
	})
	for _, port := range []string{open, closed} {
		wait(t, "the mail server answers", func() bool {
			conn, err := net.Dial("tcp", "127.0.0.1:"+port)
			if err == nil {
				conn.Close()
			}
			return err == nil
		})
	}
	return "smtp://localhost:" + open, "smtp://localhost:" + closed, folder, roots
}

// certificate puts one for localhost into a folder, with its key, and gives the authority that vouches for it.
func certificate(t *testing.T, dir string) *x509.CertPool {
	t.Helper()
	a := testbuild.NewAuthority(t, "receivers")
	cert, key := a.Issue(time.Now().Add(-time.Hour), time.Now().AddDate(0, 1, 0), "localhost")
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for name, b := range map[string]*pem.Block{"chain.pem": {Type: "CERTIFICATE", Bytes: cert.Raw},
		"key.pem": {Type: "PRIVATE KEY", Bytes: der}} {
		if err := os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(b), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	roots := x509.NewCertPool()
	roots.AddCert(a.Cert)
	return roots
}

// free gives a port of this machine that nobody uses.
func free(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return fmt.Sprint(l.Addr().(*net.TCPAddr).Port)
}

// letters reads what the mail server took.
func letters(t *testing.T, folder string) (out []*mail.Message) {
	t.Helper()
	list, err := filepath.Glob(folder + "/new/*")
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range list {
		b, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		m, err := mail.ReadMessage(bytes.NewReader(b))
		if err != nil {
			t.Fatalf("%v\n%s", err, b)
		}
		out = append(out, m)
	}
	return out
}

// TestMailIsSent has Exim take mail, signed in and not.
func TestMailIsSent(t *testing.T) {
	open, closed, folder, roots := mailServer(t)
	from, to := "shelf@mill.home.arpa", []string{"wren@mill.home.arpa"}
	k := keep(t, t.TempDir(), Options{Roots: roots, Receivers: []household.Notice{
		{Name: "letters", To: household.ToMail, Address: closed, User: "shelf", From: from, Recipients: to}}})
	// The secret of keep is not this server's.
	if err := k.Try(t.Context(), "letters"); err == nil || !strings.Contains(err.Error(), "535") {
		t.Errorf("a wrong password: %v", err)
	}
	if err := os.WriteFile(k.Secrets, []byte(`{"letters": "the letters' word"}`), 0o600); err != nil {
		t.Fatal(err)
	}
	k.events.Tell(event.FolderAway{Shelf: "films", Folder: "/srv/größe", Why: "its disk is unplugged"})
	wait(t, "the letter is there", func() bool { return len(letters(t, folder)) == 1 })
	m := letters(t, folder)[0]
	subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	if err != nil || subject != "Fernhollow Mill: The folder /srv/größe of the shelf films is not there: its disk is unplugged" ||
		m.Header.Get("From") != "<"+from+">" || m.Header.Get("To") != "<"+to[0]+">" ||
		m.Header.Get("Auto-Submitted") != "auto-generated" {
		t.Errorf("%q %v %+v", subject, err, m.Header)
	}
	b, err := io.ReadAll(quotedprintable.NewReader(m.Body))
	if err != nil || !strings.Contains(string(b), "The folder /srv/größe of the shelf films is not there") {
		t.Errorf("%v %s", err, b)
	}
	wait(t, "it is noted", func() bool { return k.state("letters").Took == 1 })

	// A server whose certificate nobody vouches for gets no password, and at home no letter either.
	for name, r := range map[string]household.Notice{
		"with a password": {Name: "a", To: household.ToMail, Address: closed, User: "shelf", From: from, Recipients: to},
		"without":         {Name: "a", To: household.ToMail, Address: open, From: from, Recipients: to}} {
		stranger := keep(t, t.TempDir(), Options{Roots: x509.NewCertPool(), Receivers: []household.Notice{r}})
		if err := stranger.Try(t.Context(), "a"); err == nil || !strings.Contains(err.Error(), "not trusted") {
			t.Errorf("%s: %v", name, err)
		}
	}
	home := keep(t, t.TempDir(), Options{Roots: roots, Receivers: []household.Notice{{Name: "a", To: household.ToMail,
		Address: open, From: from, Recipients: to}, {Name: "b", To: household.ToMail, Address: open, From: from,
		Recipients: []string{"nobody@elsewhere.home.arpa"}}}})
	if err := home.Try(t.Context(), "a"); err != nil {
		t.Error(err)
	}
	wait(t, "the second letter is there", func() bool { return len(letters(t, folder)) == 2 })
	if err := home.Try(t.Context(), "b"); err == nil || !strings.Contains(err.Error(), "550") {
		t.Errorf("a recipient that is not there: %v", err)
	}
}
