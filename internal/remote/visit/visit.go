// Package visit asks a household's server by the address that people use from outside, as a stranger would, and
// notes what is seen on the way. What that means is judged elsewhere.
package visit

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/core/reach"
)

// Wish says how to ask.
type Wish struct {
	Address string
	Token   string                                                       // of the visit, as it was announced
	Arrived func(context.Context) (*reach.Arrival, error)                // how it came to the server
	Roots   *x509.CertPool                                               // who is trusted; nil for those of the machine
	Connect netip.Addr                                                   // to be asked in place of what the name stands for
	From    netip.Addr                                                   // of this machine, to ask from
	Outside bool                                                         // look at what the address shows, and visit nobody
	Patient bool                                                         // see whether an answer is waited for that takes long
	Told    func(what string)                                            // before each step
	Resolve func(ctx context.Context, host string) ([]netip.Addr, error) // nil for the machine's own
}

// claimed is where the visit says that it comes from. Nobody who knows proxies believes it.
const claimed = "203.0.113.77"

// How long is waited for a connection, and for an answer.
const (
	toConnect = 10 * time.Second
	toAnswer  = 30 * time.Second
	upload    = 8 << 20 // bytes: more than proxies take by themselves
)

type visitor struct {
	Wish
	u    *url.URL
	http *http.Client
	seen reach.Seen
}

// Go makes a visit.
func Go(ctx context.Context, w Wish) reach.Seen {
	v := &visitor{Wish: w, seen: reach.Seen{Address: w.Address, At: time.Now(), Addresses: []string{}}}
	u, err := url.Parse(w.Address)
	if err != nil || u.Host == "" {
		return v.seen
	}
	v.u = u
	if !v.name(ctx) {
		return v.seen
	}
	v.http = &http.Client{Timeout: toAnswer, CheckRedirect: func(*http.Request,
		[]*http.Request) error {
		return http.ErrUseLastResponse
	},
		Transport: &http.Transport{DialContext: v.dial, TLSClientConfig: &tls.Config{RootCAs: w.Roots,
			MinVersion: tls.VersionTLS12},
			ForceAttemptHTTP2: true, DisableCompression: true, TLSHandshakeTimeout: toConnect}}
	defer v.http.CloseIdleConnections()
	if u.Scheme == "https" {
		v.told("certificate")
		if v.seen.Certificate = v.certificate(ctx); v.seen.Certificate.Fault != "" {
			return v.seen
		}
		v.plain(ctx)
	}
	if v.Outside {
		return v.seen
	}
	v.told("answer")
	if !v.answer(ctx) {
		return v.seen
	}
	v.told("ranges")
	v.seen.Ranges = v.try(func() error { return v.ranges(ctx) })
	v.told("uploads")
	v.seen.Upload = v.try(func() error { return v.upload(ctx) })
	v.told("events")
	v.seen.Events = v.try(func() error { return v.events(ctx) })
	if v.Patient {
		v.told("a long answer")
		v.seen.Patient = v.try(func() error { return v.patient(ctx) })
	}
	return v.seen
}

func (v *visitor) told(what string) {
	if v.Told != nil {
		v.Told(what)
	}
}

func (v *visitor) try(do func() error) *reach.Trial {
	began := time.Now()
	err := do()
	t := &reach.Trial{Took: time.Since(began).Seconds()}
	if err != nil {
		t.Why = plainly(err)
	}
	return t
}

// plainly leaves out the address, which is known, from an error of a client.
func plainly(err error) string {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err.Error()
	}
	return err.Error()
}

// name finds what the name stands for.
func (v *visitor) name(ctx context.Context) bool {
	host := v.u.Hostname()
	if v.Connect.IsValid() {
		v.seen.Addresses, v.seen.Given = []string{v.Connect.String()}, true
		return true
	}
	if a, err := netip.ParseAddr(host); err == nil {
		v.seen.Addresses = []string{a.String()}
		return true
	}
	resolve := v.Resolve
	if resolve == nil {
		resolve = func(ctx context.Context, host string) ([]netip.Addr, error) {
			return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
		}
	}
	ctx, stop := context.WithTimeout(ctx, toConnect)
	defer stop()
	list, err := resolve(ctx, host)
	if err != nil {
		var d *net.DNSError
		v.seen.NameError = err.Error()
		if errors.As(err, &d) {
			v.seen.NameError = d.Err
		}
		return false
	}
	for _, a := range list {
		v.seen.Addresses = append(v.seen.Addresses, a.Unmap().String())
	}
	return len(list) > 0
}

// dial connects to what the name stands for, on the port that was asked for.
func (v *visitor) dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: toConnect}
	if v.From.IsValid() {
		d.LocalAddr = net.TCPAddrFromAddrPort(netip.AddrPortFrom(v.From, 0))
	}
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	var faults []error
	for _, a := range v.seen.Addresses {
		c, err := d.DialContext(ctx, network, net.JoinHostPort(a, port))
		if err == nil {
			return c, nil
		}
		faults = append(faults, err)
	}
	return nil, errors.Join(faults...)
}

// faultOf says what an error of a connection means.
func faultOf(err error) reach.Fault {
	var ne net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return reach.Refused
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH), errors.Is(err, syscall.ETIMEDOUT),
		errors.As(err, &ne) && ne.Timeout():
		return reach.Unreachable
	}
	return reach.Other
}

// certificate looks at what the address shows of itself, whatever it is.
func (v *visitor) certificate(ctx context.Context) *reach.Certificate {
	out := &reach.Certificate{}
	ctx, stop := context.WithTimeout(ctx, 2*toConnect)
	defer stop()
	port := v.u.Port()
	if port == "" {
		port = "443"
	}
	raw, err := v.dial(ctx, "tcp", net.JoinHostPort(v.u.Hostname(), port))
	if err != nil {
		out.Error, out.Fault = err.Error(), faultOf(err)
		return out
	}
	defer raw.Close()
	host := v.u.Hostname()
	// What is shown is judged below, so that it can be said what is wrong with it.
	c := tls.Client(raw, &tls.Config{ServerName: host, InsecureSkipVerify: true, MinVersion: tls.VersionTLS12,
		NextProtos: []string{"h2", "http/1.1"}})
	if err := c.HandshakeContext(ctx); err != nil {
		out.Error, out.Fault = err.Error(), reach.Other
		var record tls.RecordHeaderError
		if errors.As(err, &record) {
			out.Fault = reach.NoTLS
		}
		return out
	}
	state := c.ConnectionState()
	leaf := state.PeerCertificates[0]
	out.Names, out.From, out.Until = leaf.DNSNames, leaf.NotBefore, leaf.NotAfter
	out.Issuer, out.Version, out.HTTP2 = leaf.Issuer.CommonName, tls.VersionName(state.Version),
		state.NegotiatedProtocol == "h2"
	if out.Issuer == "" && len(leaf.Issuer.Organization) > 0 {
		out.Issuer = leaf.Issuer.Organization[0]
	}
	between := x509.NewCertPool()
	for _, one := range state.PeerCertificates[1:] {
		between.AddCert(one)
	}
	if _, err := leaf.Verify(x509.VerifyOptions{DNSName: host, Roots: v.Roots, Intermediates: between}); err != nil {
		out.Error, out.Fault = err.Error(), reach.Untrusted
		var name x509.HostnameError
		var bad x509.CertificateInvalidError
		switch {
		case errors.As(err, &name):
			out.Fault = reach.WrongName
		case errors.As(err, &bad) && bad.Reason == x509.Expired && bad.Cert == leaf:
			out.Fault = reach.Expired
		}
	}
	return out
}

// plain asks without TLS, where that has a port of its own.
func (v *visitor) plain(ctx context.Context) {
	if p := v.u.Port(); p != "" && p != "443" {
		return
	}
	v.told("plain HTTP")
	ctx, stop := context.WithTimeout(ctx, toConnect)
	defer stop()
	res, err := v.ask(ctx, "GET", "http://"+v.u.Hostname()+"/", nil, nil)
	if err != nil {
		v.seen.Plain = &reach.Plain{Error: plainly(err)}
		return
	}
	defer res.Body.Close()
	v.seen.Plain = &reach.Plain{Status: res.StatusCode, Location: res.Header.Get("Location")}
}

func (v *visitor) ask(ctx context.Context, method, address string, body io.Reader, header http.Header) (*http.Response,
	error) {
	r, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return nil, err
	}
	for k, list := range header {
		r.Header[k] = list
	}
	return v.http.Do(r)
}

// at is an address of the visit.
func (v *visitor) at(more string) string {
	return v.u.Scheme + "://" + v.u.Host + reach.VisitPath + v.Token + more
}

// once are headers that an answer has one of.
var once = []string{"X-Content-Type-Options", "Referrer-Policy", "Content-Security-Policy", "X-Frame-Options",
	"Strict-Transport-Security", "Cross-Origin-Opener-Policy", "Permissions-Policy", "Cache-Control", "Content-Type"}

// answer asks for the first time, and says where it comes from, which a proxy should not believe.
func (v *visitor) answer(ctx context.Context) bool {
	v.seen.Claimed = claimed
	res, err := v.ask(ctx, "GET", v.at(""), nil, http.Header{"X-Forwarded-For": {claimed}})
	if err != nil {
		v.seen.Answer = &reach.Answer{Error: plainly(err), Fault: faultOf(err)}
		return false
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 1<<20)) // what stands in it does not matter
	v.seen.Answer = &reach.Answer{Status: res.StatusCode, Server: res.Header.Get("Server")}
	for _, name := range once {
		if len(res.Header.Values(name)) > 1 {
			v.seen.Doubled = append(v.seen.Doubled, name)
		}
	}
	if v.seen.Arrived, err = v.Arrived(ctx); err != nil {
		v.seen.Answer.Error = "the server cannot be asked what came: " + err.Error()
		return false
	}
	return res.StatusCode == http.StatusOK && v.seen.Arrived != nil
}

// ranges asks for parts of what the server sends a visit.
func (v *visitor) ranges(ctx context.Context) error {
	want := reach.VisitData(v.Token)
	for _, part := range [][2]int{{0, 1}, {1000, 1999}, {len(want) - 500, len(want) - 1}} {
		span := fmt.Sprintf("bytes=%d-%d", part[0], part[1])
		res, err := v.ask(ctx, "GET", v.at("/data"), nil, http.Header{"Range": {span}, "Accept-Encoding": {"gzip, br"}})
		if err != nil {
			return err
		}
		got, err := io.ReadAll(io.LimitReader(res.Body, int64(len(want))+1))
		res.Body.Close()
		switch {
		case err != nil:
			return err
		case res.Header.Get("Content-Encoding") != "":
			return errors.New("what stands between compresses films: " + res.Header.Get("Content-Encoding"))
		case res.StatusCode != http.StatusPartialContent:
			return fmt.Errorf("of %s came %d, with %d bytes", span, res.StatusCode, len(got))
		case res.Header.Get("Content-Range") != fmt.Sprintf("bytes %d-%d/%d", part[0], part[1], len(want)):
			return fmt.Errorf("of %s came %q", span, res.Header.Get("Content-Range"))
		case !bytes.Equal(got, want[part[0]:part[1]+1]):
			return fmt.Errorf("of %s came other bytes", span)
		}
	}
	return nil
}

// upload brings more than proxies take by themselves.
func (v *visitor) upload(ctx context.Context) error {
	b := make([]byte, upload)
	rand.Read(b) // never fails, see crypto/rand
	res, err := v.ask(ctx, "PUT", v.at("/data"), bytes.NewReader(b), nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusRequestEntityTooLarge {
		return fmt.Errorf("%d MiB are too large for what stands between (413)", upload>>20)
	}
	var got struct {
		Sum string `json:"sha256"`
	}
	sum := sha256.Sum256(b)
	if err := json.NewDecoder(io.LimitReader(res.Body, 1<<20)).Decode(&got); err != nil ||
		res.StatusCode != http.StatusOK {
		return fmt.Errorf("of %d MiB came %d", upload>>20, res.StatusCode)
	}
	if got.Sum != hex.EncodeToString(sum[:]) {
		return errors.New("other bytes arrived than were sent")
	}
	return nil
}

// events sees whether events come as they happen.
func (v *visitor) events(ctx context.Context) error {
	res, err := v.ask(ctx, "GET", v.at("/events"), nil, http.Header{"Accept": {"text/event-stream"},
		"Accept-Encoding": {"gzip"}})
	if err != nil {
		return err
	}
	defer res.Body.Close()
	body := io.Reader(res.Body)
	if res.Header.Get("Content-Encoding") == "gzip" { // which is well, as long as nothing is held back
		if body, err = gzip.NewReader(body); err != nil {
			return err
		}
	}
	var first, last time.Time
	n := 0
	for s := bufio.NewScanner(io.LimitReader(body, 1<<20)); s.Scan(); {
		if strings.HasPrefix(s.Text(), "data: ") {
			if n++; n == 1 {
				first = time.Now()
			}
			last = time.Now()
		}
	}
	whole := time.Duration(reach.VisitEvents-1) * reach.VisitPause
	switch {
	case res.StatusCode != http.StatusOK || n != reach.VisitEvents:
		return fmt.Errorf("of %d events came %d (%d)", reach.VisitEvents, n, res.StatusCode)
	case last.Sub(first) < whole/2:
		return fmt.Errorf("%d that happened within %s came within %s: they are held back", n, whole,
			last.Sub(first).Round(time.Millisecond))
	}
	return nil
}

// patient asks for what takes long.
func (v *visitor) patient(ctx context.Context) error {
	slow := *v.http
	slow.Timeout = reach.VisitPatience + toAnswer
	r, err := http.NewRequestWithContext(ctx, "GET", v.at("/patient"), nil)
	if err != nil {
		return err
	}
	began := time.Now()
	res, err := slow.Do(r)
	if err != nil {
		return fmt.Errorf("after %s: %s", time.Since(began).Round(time.Second), plainly(err))
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("after %s came %d", time.Since(began).Round(time.Second), res.StatusCode)
	}
	return nil
}
