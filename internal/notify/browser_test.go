package notify

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/store"
)

// opened is a browser with its push service behind one address: it opens what comes as RFC 8291 says, by itself.
type opened struct {
	key    *ecdh.PrivateKey
	secret []byte
	mu     sync.Mutex
	status int // that its push service answers
	tries  int
	shown  []shown
	err    error
}

func newOpened(t *testing.T) *opened {
	t.Helper()
	key, err := ecdh.P256().GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	o := &opened{key: key, secret: make([]byte, 16), status: http.StatusCreated}
	rand.Read(o.secret)
	return o
}

// open opens a message by RFC 8188 and 8291.
func (o *opened) open(body []byte) (out shown, err error) {
	if len(body) < 86 || body[20] != 65 {
		return out, fmt.Errorf("%d bytes are no message", len(body))
	}
	salt, size, from, sealed := body[:16], binary.BigEndian.Uint32(body[16:20]), body[21:86], body[86:]
	if len(body) > int(size) || size > 4096 {
		return out, fmt.Errorf("%d bytes in a record of %d", len(body), size)
	}
	public, err := ecdh.P256().NewPublicKey(from)
	if err != nil {
		return out, err
	}
	common, err := o.key.ECDH(public)
	if err != nil {
		return out, err
	}
	first, err := hkdf.Key(sha256.New, common, o.secret,
		"WebPush: info\x00"+string(o.key.PublicKey().Bytes())+string(from), 32)
	if err != nil {
		return out, err
	}
	key, err := hkdf.Key(sha256.New, first, salt, "Content-Encoding: aes128gcm\x00", 16)
	if err != nil {
		return out, err
	}
	nonce, err := hkdf.Key(sha256.New, first, salt, "Content-Encoding: nonce\x00", 12)
	if err != nil {
		return out, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return out, err
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		return out, err
	}
	text, err := gcm.Open(nil, nonce, sealed, nil)
	if err != nil {
		return out, err
	}
	rest, ok := strings.CutSuffix(strings.TrimRight(string(text), "\x00"), "\x02")
	if !ok {
		return out, errors.New("the record has no end")
	}
	return out, json.Unmarshal([]byte(rest), &out)
}

// vouched judges the header by which the server says who it is (RFC 8292).
func vouched(header, public, audience string) error {
	token, key, _ := strings.Cut(strings.TrimPrefix(header, "vapid t="), ", k=")
	parts := strings.Split(token, ".")
	if key != public || len(parts) != 3 {
		return fmt.Errorf("%q", header)
	}
	point, err := base64.RawURLEncoding.DecodeString(key)
	if err != nil || len(point) != 65 {
		return fmt.Errorf("the key: %w", err)
	}
	signed, err := base64.RawURLEncoding.DecodeString(parts[2])
	if err != nil || len(signed) != 64 {
		return fmt.Errorf("the signature: %w", err)
	}
	sum := sha256.Sum256([]byte(parts[0] + "." + parts[1]))
	k, err := ecdsa.ParseUncompressedPublicKey(elliptic.P256(), point)
	if err != nil {
		return err
	}
	if !ecdsa.Verify(k, sum[:], new(big.Int).SetBytes(signed[:32]), new(big.Int).SetBytes(signed[32:])) {
		return errors.New("the signature is none")
	}
	claims, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return err
	}
	var c struct {
		Aud, Sub string
		Exp      int64
	}
	if err := json.Unmarshal(claims, &c); err != nil || c.Aud != audience || !strings.HasPrefix(c.Sub, "https:") ||
		time.Until(time.Unix(c.Exp, 0)) > 24*time.Hour || time.Until(time.Unix(c.Exp, 0)) < time.Hour {
		return fmt.Errorf("%s: %w", claims, err)
	}
	return nil
}

// TestBrowsersAreToldWhatConcernsThem has a push service with browsers of an administrator and a child, which open
// what they get; some of them are gone, or take nothing for a while.
func TestBrowsersAreToldWhatConcernsThem(t *testing.T) {
	browsers := map[string]*opened{}
	for _, name := range []string{"wren", "bram", "gone", "late"} {
		browsers["/"+name] = newOpened(t)
	}
	browsers["/gone"].status = http.StatusGone
	browsers["/late"].status = http.StatusServiceUnavailable
	var public string
	var service *httptest.Server
	service = httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		o := browsers[r.URL.Path]
		body, err := io.ReadAll(r.Body)
		o.mu.Lock()
		defer o.mu.Unlock()
		o.tries++
		if w.WriteHeader(o.status); o.status != http.StatusCreated {
			return
		}
		var s shown
		if err == nil {
			s, err = o.open(body)
		}
		if err == nil {
			err = vouched(r.Header.Get("Authorization"), public, service.URL)
		}
		if r.Header.Get("TTL") != "86400" || r.Header.Get("Content-Encoding") != "aes128gcm" {
			err = errors.Join(err, fmt.Errorf("%v", r.Header))
		}
		o.shown, o.err = append(o.shown, s), errors.Join(o.err, err)
	}))
	defer service.Close()
	roots := x509.NewCertPool()
	roots.AddCert(service.Certificate())
	dir := t.TempDir()
	s, err := store.Open(t.Context(), filepath.Join(dir, "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	for _, m := range []struct {
		name    string
		role    allowance.Role
		devices []string
	}{{"wren", allowance.Admin, []string{"wren", "gone", "late"}}, {"bram", allowance.Child, []string{"bram"}}} {
		member, err := s.AddMember(t.Context(), store.Member{Name: m.name, Role: m.role}, now)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range m.devices {
			device, err := s.AddDevice(t.Context(), member.ID, store.Device{Name: d, Expires: now.Add(time.Hour),
				Ends: now.Add(time.Hour)}, d+" token", now)
			if err != nil {
				t.Fatal(err)
			}
			o := browsers["/"+d]
			b := store.Browser{Device: device.ID, Endpoint: service.URL + "/" + d,
				Key:    base64.RawURLEncoding.EncodeToString(o.key.PublicKey().Bytes()),
				Secret: base64.RawURLEncoding.EncodeToString(o.secret)}
			if err := errors.Join(CheckBrowser(b), s.KeepBrowser(t.Context(), b, now)); err != nil {
				t.Fatal(err)
			}
		}
	}
	s.Close()
	o := Options{Roots: roots, PushNear: []string{service.URL},
		Receivers: []household.Notice{{Name: "browsers", To: household.ToBrowser}}}
	k := keep(t, dir, o)
	if public, err = k.PushKey(t.Context()); err != nil {
		t.Fatal(err)
	}
	saw := func(name string) int {
		o := browsers["/"+name]
		o.mu.Lock()
		defer o.mu.Unlock()
		if o.err != nil {
			t.Fatal(name, o.err)
		}
		return len(o.shown)
	}
	k.events.Tell(disk(1))
	wait(t, "wren is told of the disk", func() bool { return saw("wren") == 1 })
	wait(t, "it is tried again with the browser whose push service is busy", func() bool {
		o := browsers["/late"]
		o.mu.Lock()
		defer o.mu.Unlock()
		if o.tries > 1 {
			o.status = http.StatusCreated
		}
		return len(o.shown) == 1
	})
	k.events.Tell(event.DeviceMoved{Member: "bram", Device: "kitchen tablet", Address: "203.0.113.7"})
	wait(t, "bram is told of the device", func() bool {
		return saw("bram") == 1 && saw("wren") == 2 &&
			saw("late") == 2
	})
	b := browsers["/bram"]
	if got := b.shown[0]; got.Title != "Fernhollow Mill" || !strings.Contains(got.Text, "kitchen tablet") ||
		got.ID == "" {
		t.Errorf("%+v", got)
	}
	if err := k.Try(t.Context(), "browsers"); err != nil || saw("bram") != 2 || saw("wren") != 3 {
		t.Errorf("a test notice: %v", err)
	}
	list, err := k.Store.Browsers(t.Context(), now)
	if err != nil || len(list) != 3 || browsers["/gone"].tries != 1 {
		t.Errorf("the one that is gone: %d tries, %+v, %v", browsers["/gone"].tries, list, err)
	}
	// Its key is the same from now on.
	k.end()
	again := keep(t, dir, o)
	if key, err := again.PushKey(t.Context()); err != nil || key != public {
		t.Errorf("%s, %v; was %s", key, err, public)
	}
}

// TestAPushServiceThatTakesNothingHoldsNobodyUp has one that never answers, in a private network, where nobody has
// named it: it is not even asked.
func TestAPushServiceThatTakesNothingHoldsNobodyUp(t *testing.T) {
	asked := false
	service := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked = true }))
	defer service.Close()
	dir := t.TempDir()
	s, err := store.Open(t.Context(), filepath.Join(dir, "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	member, err := s.AddMember(t.Context(), store.Member{Name: "wren", Role: allowance.Admin}, now)
	if err != nil {
		t.Fatal(err)
	}
	device, err := s.AddDevice(t.Context(), member.ID, store.Device{Name: "d", Expires: now.Add(time.Hour),
		Ends: now.Add(time.Hour)}, "token", now)
	if err != nil {
		t.Fatal(err)
	}
	o := newOpened(t)
	b := store.Browser{Device: device.ID, Endpoint: service.URL + "/x",
		Key:    base64.RawURLEncoding.EncodeToString(o.key.PublicKey().Bytes()),
		Secret: base64.RawURLEncoding.EncodeToString(o.secret)}
	if err := errors.Join(s.KeepBrowser(t.Context(), b, now),
		s.BrowserFails(t.Context(), b.Endpoint, now.Add(-time.Hour))); err != nil {
		t.Fatal(err)
	}
	s.Close()
	options := Options{Receivers: []household.Notice{{Name: "browsers", To: household.ToBrowser}}}
	if err := keep(t, t.TempDir(), options).Try(t.Context(), "browsers"); err == nil || !strings.Contains(err.Error(),
		"no browser") {
		t.Errorf("a test where nobody has a browser told: %v", err)
	}
	k := keep(t, dir, options)
	k.events.Tell(disk(1))
	wait(t, "the notice is let go", func() bool { return k.state("browsers").Took == 1 })
	if asked {
		t.Error("a push service in a private network was asked")
	}
}

func TestBrowsersThatAreNone(t *testing.T) {
	o := newOpened(t)
	key, secret := base64.RawURLEncoding.EncodeToString(o.key.PublicKey().Bytes()),
		base64.RawURLEncoding.EncodeToString(o.secret)
	good := store.Browser{Endpoint: "https://push.example.net/1", Key: key, Secret: secret}
	if err := CheckBrowser(good); err != nil {
		t.Error(err)
	}
	for _, spoil := range []func(*store.Browser){
		func(b *store.Browser) { b.Endpoint = "http://push.example.net/1" },
		func(b *store.Browser) { b.Endpoint = "https://u:p@push.example.net/1" },
		func(b *store.Browser) { b.Endpoint = "https:///1" },
		func(b *store.Browser) { b.Endpoint = "https://push.example.net/" + strings.Repeat("a", mostEndpoint) },
		func(b *store.Browser) { b.Key = b.Key[:40] },
		func(b *store.Browser) {
			b.Key = base64.RawURLEncoding.EncodeToString(append([]byte{4}, make([]byte, 64)...))
		},
		func(b *store.Browser) { b.Key = "" },
		func(b *store.Browser) { b.Secret = b.Secret[:10] },
		func(b *store.Browser) { b.Secret = "!" },
	} {
		b := good
		if spoil(&b); CheckBrowser(b) == nil {
			t.Errorf("%+v is taken", b)
		}
	}
}
