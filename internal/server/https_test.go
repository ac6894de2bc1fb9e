package server

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
	"cozyshelf/internal/testbuild"
)

// safe is a server that runs with HTTPS of its own.
type safe struct {
	*Server
	plain, https string // addresses
	client       *http.Client
}

// runSafe runs a server with a certificate from somewhere until the test ends.
func runSafe(t *testing.T, from blueprint.SettingsCertificate, roots *x509.CertPool, names ...string) *safe {
	t.Helper()
	dir := t.TempDir()
	if err := demo.Media(filepath.Join(dir, "media")); err != nil {
		t.Fatal(err)
	}
	films := filepath.Join(dir, "media", "films")
	plain, port := testbuild.Port(t), testbuild.Port(t)
	out := &safe{plain: fmt.Sprintf("127.0.0.1:%d", plain), https: fmt.Sprintf("127.0.0.1:%d", port)}
	set := blueprint.Settings{Format: 1, Name: "Fernhollow Mill", Language: "en", UnknownAge: 18, State: dir,
		Names:       names,
		Certificate: &from, Listeners: []blueprint.SettingsListener{
			{Purpose: household.ForPages, Address: out.plain, Port: plain},
			{Purpose: household.ForHTTPS, Address: out.https, Port: port, TLS: true}},
		Shelves: []blueprint.SettingsShelf{{Name: "films", Kind: household.Films, Access: household.Read,
			Folders: []string{films}, Shown: []string{films}}}}
	out.Server = New(set, "0.0.0-test", slog.New(slog.DiscardHandler))
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error)
	go func() { done <- out.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		if err := <-done; err != nil {
			t.Error(err)
		}
	})
	for out.Open() == nil {
		time.Sleep(10 * time.Millisecond)
	}
	if _, err := out.Store.AddMember(ctx, store.Member{Name: "wren", Role: allowance.Admin,
		Password: hashed("by the millpond")},
		time.Now()); err != nil {
		t.Fatal(err)
	}
	if der := out.Certificate.Authority(); der != nil {
		c, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		roots = x509.NewCertPool()
		roots.AddCert(c)
	}
	out.client = &http.Client{Transport: &http.Transport{ForceAttemptHTTP2: true,
		TLSClientConfig: &tls.Config{RootCAs: roots},
		DialContext: func(ctx context.Context, network, at string) (net.Conn, error) {
			if strings.HasSuffix(at, fmt.Sprintf(":%d", port)) {
				at = out.https
			}
			return new(net.Dialer).DialContext(ctx, network, at)
		}}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	t.Cleanup(out.client.CloseIdleConnections)
	return out
}

// get asks, and gives what comes.
func (s *safe) get(t *testing.T, address, host string, header ...string) (*http.Response, []byte) {
	t.Helper()
	r, err := http.NewRequest("GET", address, nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Host = host
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	res, err := s.client.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return res, b
}

func TestTheHouseholdVouchesForItself(t *testing.T) {
	t.Parallel()
	s := runSafe(t, blueprint.SettingsCertificate{From: household.CertificateHome}, nil)
	base := "https://" + s.https
	res, err := s.client.Post(base+"/sign-in", "application/x-www-form-urlencoded",
		strings.NewReader("name=wren&password=by+the+millpond"))
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	var cookie string
	for _, c := range res.Cookies() {
		if strings.HasPrefix(c.Name, "__Host-") && c.Secure {
			cookie = c.Name + "=" + c.Value
		}
	}
	if res.ProtoMajor != 2 || cookie == "" || res.Header.Get("Strict-Transport-Security") != "" {
		t.Fatalf("%s %s: %v", res.Proto, res.Status, res.Header)
	}
	for {
		if hits, err := s.Store.Search(context.Background(), "Copper Kite", 1); err == nil && len(hits) > 0 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	// Films come whole and in parts, many at once on one connection.
	h := &house{Server: s.Server, t: t}
	id := h.fileCalled("Copper Kite")
	want, err := os.ReadFile(h.pathOf(id))
	if err != nil {
		t.Fatal(err)
	}
	const parts = 20
	var all sync.WaitGroup
	for i := range parts {
		all.Go(func() {
			from := i * len(want) / parts
			res, b := s.get(t, fmt.Sprintf("%s/api/v1/files/%d/content", base, id), "", "Cookie", cookie, "Range",
				fmt.Sprintf("bytes=%d-", from))
			if res.StatusCode != http.StatusPartialContent || !bytes.Equal(b, want[from:]) {
				t.Errorf("from %d: %s, %d bytes of %d", from, res.Status, len(b), len(want)-from)
			}
		})
	}
	all.Wait()
	if d := s.Door.Status(); d.Connections != 1 {
		t.Errorf("%+v", d)
	}
	// What devices come to trust is there over plain HTTP.
	res, page := s.get(t, "http://"+s.plain+"/trust", "")
	if res.StatusCode != http.StatusOK || !bytes.Contains(page, []byte(base+"/")) {
		t.Errorf("%s %s", res.Status, page)
	}
	res, file := s.get(t, "http://"+s.plain+"/trust/authority.crt", "")
	if b, _ := pem.Decode(file); b == nil || !bytes.Equal(b.Bytes, s.Certificate.Authority()) {
		t.Errorf("%s %s", res.Status, file)
	}
	// A page over plain HTTP stays there: a device that does not trust the authority yet would be shut out.
	if res, _ := s.get(t, "http://"+s.plain+"/sign-in", "localhost"); res.StatusCode != http.StatusUnauthorized {
		t.Errorf("%s", res.Status)
	}
}

// TestRequestsOnOneConnectionAreBounded asks for more at once than may be from one network, on few connections.
func TestRequestsOnOneConnectionAreBounded(t *testing.T) {
	t.Parallel()
	s := runSafe(t, blueprint.SettingsCertificate{From: household.CertificateHome}, nil)
	const most = 10
	door := live.Door{OfOne: most}
	let, waits := make(chan bool), make(chan bool, 100)
	ask := door.Handle(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		waits <- true
		<-let
	}))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	srv := &http.Server{Handler: ask, ConnContext: door.Context, TLSConfig: s.Certificate.Config(),
		HTTP2: &http.HTTP2Config{MaxConcurrentStreams: mostTogether}}
	go srv.ServeTLS(door.Listen(l, nil, true), "", "")
	t.Cleanup(func() { srv.Close() })
	_, port, _ := net.SplitHostPort(l.Addr().String())
	got := make(chan int, 100)
	for range 30 {
		go func() {
			res, err := s.client.Get("https://localhost:" + port + "/")
			if err != nil {
				t.Error(err)
				got <- 0
				return
			}
			res.Body.Close()
			got <- res.StatusCode
		}()
	}
	count := map[int]int{}
	for range 30 - most {
		count[<-got]++
	}
	for range most {
		<-waits
	}
	close(let)
	for range most {
		count[<-got]++
	}
	if count[http.StatusOK] != most || count[http.StatusServiceUnavailable] != 30-most {
		t.Errorf("%v", count)
	}
}

// TestWhoGreetsSlowlyIsNotWaitedFor opens connections on which TLS is not spoken, or slowly.
func TestWhoGreetsSlowlyIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	s := runSafe(t, blueprint.SettingsCertificate{From: household.CertificateHome}, nil)
	for what, c := range map[string]struct {
		send   string
		within time.Duration
	}{"nothing": {"", 8 * time.Second}, "half a greeting": {"\x16\x03\x01\x02\x00\x01", 8 * time.Second},
		"plain HTTP":            {"GET / HTTP/1.1\r\nHost: localhost\r\n\r\n", 4 * time.Second},
		"a greeting of rubbish": {"\x16\x03\x01\x00\x05\x01\x00\x00\x01\x00", 4 * time.Second}} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			conn, err := net.Dial("tcp", s.https)
			if err != nil {
				t.Fatal(err)
			}
			defer conn.Close()
			if _, err := io.WriteString(conn, c.send); err != nil {
				t.Fatal(err)
			}
			_ = conn.SetReadDeadline(time.Now().Add(c.within))
			if _, err := io.Copy(io.Discard, conn); err != nil && os.IsTimeout(err) {
				t.Errorf("still open after %s", c.within)
			}
		})
	}
	t.Run("a greeting, and no question", func(t *testing.T) {
		t.Parallel()
		conn, err := tls.Dial("tcp", s.https, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"http/1.1"}})
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		_ = conn.SetReadDeadline(time.Now().Add(8 * time.Second))
		if _, err := io.Copy(io.Discard, conn); err != nil && os.IsTimeout(err) {
			t.Error("still open")
		}
	})
}

func TestPagesLeadOnToHTTPS(t *testing.T) {
	t.Parallel()
	dir, ca := t.TempDir(), testbuild.NewAuthority(t, "an authority that everybody trusts")
	cert, key := ca.Issue(time.Now().Add(-time.Hour), time.Now().Add(24*time.Hour), "shelf.example.net")
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	from := blueprint.SettingsCertificate{From: household.CertificateFiles, Chain: filepath.Join(dir, "chain.pem"),
		Key: filepath.Join(dir, "key.pem")}
	for p, b := range map[string]*pem.Block{from.Chain: {Type: "CERTIFICATE", Bytes: cert.Raw},
		from.Key: {Type: "PRIVATE KEY", Bytes: der}} {
		if err := os.WriteFile(p, pem.EncodeToMemory(b), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	roots := x509.NewCertPool()
	roots.AddCert(ca.Cert)
	s := runSafe(t, from, roots, "shelf.example.net", "mill.home.arpa")
	_, port, _ := net.SplitHostPort(s.https)
	for range 1000 { // the files are read a moment after the start
		if s.Certificate.Covers("shelf.example.net", time.Now()) {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	for path, want := range map[string]string{"/": "/", "/sign-in": "/sign-in",
		"/shelf/films?from=a%20b": "/shelf/films?from=a%20b",
		"//example.org/":          "//example.org/", "/api/v1/titles": "", "/healthz": ""} {
		res, _ := s.get(t, "http://"+s.plain+path, "shelf.example.net:8080")
		got := res.Header.Get("Location")
		if want == "" && strings.HasPrefix(got, "https:") || want != "" && (got != "https://shelf.example.net:"+port+want ||
			res.StatusCode != http.StatusTemporaryRedirect) {
			t.Errorf("%s: %s to %s", path, res.Status, got)
		}
	}
	for _, host := range []string{"mill.home.arpa", "localhost", s.plain, "other.example.net"} {
		if res, _ := s.get(t, "http://"+s.plain+"/sign-in", host); strings.HasPrefix(res.Header.Get("Location"), "https:") {
			t.Errorf("%s: to %s", host, res.Header.Get("Location"))
		}
	}
	res, _ := s.get(t, "https://shelf.example.net:"+port+"/sign-in", "")
	if res.StatusCode != http.StatusUnauthorized || res.Header.Get("Strict-Transport-Security") == "" {
		t.Errorf("%s: %v", res.Status, res.Header)
	}
	// There is no authority of the household's own to trust.
	for _, path := range []string{"/trust", "/trust/authority.crt"} {
		if res, _ := s.get(t, "http://"+s.plain+path, "localhost"); res.StatusCode != http.StatusNotFound {
			t.Errorf("%s: %s", path, res.Status)
		}
	}
}
