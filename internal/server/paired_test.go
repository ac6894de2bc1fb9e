package server

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/pairing"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// post posts a form with the headers of a program, and reads a document.
func (h *house) post(path string, fields url.Values, into any, headers ...string) int {
	h.t.Helper()
	had := h.token
	h.token = ""
	defer func() { h.token = had }()
	res, b := h.ask("POST", path, fields.Encode(), append(headers, "Content-Type", "application/x-www-form-urlencoded")...)
	if err := json.Unmarshal(b, into); err != nil {
		h.t.Fatalf("%s: %s %s", path, res.Status, b)
	}
	return res.StatusCode
}

type pairingAnswer struct {
	Secret   string `json:"device_code"`
	Code     string `json:"user_code"`
	URI      string `json:"verification_uri"`
	Whole    string `json:"verification_uri_complete"`
	Expires  int    `json:"expires_in"`
	Interval int
}

type tokenAnswer struct {
	Token string `json:"access_token"`
	Type  string `json:"token_type"`
	Error string
}

// asks asks what became of a code.
func (h *house) asks(secret string) (int, tokenAnswer) {
	var got tokenAnswer
	status := h.post("/api/v1/token", url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"},
		"device_code": {secret}}, &got)
	return status, got
}

// TestAScreenShowsACode goes the way of RFC 8628 as a television, and as the member who confirms it.
func TestAScreenShowsACode(t *testing.T) {
	h := open(t)
	var p pairingAnswer
	if status := h.post("/api/v1/pairing", url.Values{"device": {"mill television"}}, &p); status != http.StatusOK ||
		p.Expires != 600 || p.Interval != 5 || len(p.Code) != 9 || p.URI != h.url+"/pair" || p.Whole != p.URI+"/"+p.Code {
		t.Fatalf("%d %+v", status, p)
	}
	if status, got := h.asks(p.Secret); status != http.StatusBadRequest || got.Error != "authorization_pending" {
		t.Errorf("before: %d %+v", status, got)
	}
	if status, got := h.asks(p.Secret); status != http.StatusBadRequest || got.Error != "slow_down" {
		t.Errorf("at once again: %d %+v", status, got)
	}
	if status, got := h.asks("none of yours"); status != http.StatusBadRequest || got.Error != "expired_token" {
		t.Errorf("another secret: %d %+v", status, got)
	}
	var other tokenAnswer
	if status := h.post("/api/v1/token", url.Values{"grant_type": {"password"}},
		&other); status != http.StatusBadRequest ||
		other.Error != "unsupported_grant_type" {
		t.Errorf("another grant: %d %+v", status, other)
	}
	h.add("ozan", allowance.Adult)
	h.token = ""
	page := func(method, path, body string) (*http.Response, []byte) {
		t.Helper()
		return h.ask(method, path, body, "Cookie", h.cookie("ozan"), "Content-Type", "application/x-www-form-urlencoded")
	}
	if res, b := page("GET", "/pair/"+strings.ToLower(p.Code), ""); res.StatusCode != http.StatusOK ||
		!bytes.Contains(b, []byte("mill television is at home")) || !bytes.Contains(b, []byte("127.0.0.1")) {
		t.Errorf("the page: %s %s", res.Status, b)
	}
	if res, _ := page("GET", "/pair/BBBB-BBBB", ""); res.StatusCode != http.StatusNotFound {
		t.Errorf("another code: %s", res.Status)
	}
	if res, b := h.ask("GET", "/pair/"+p.Code, ""); res.StatusCode != http.StatusUnauthorized ||
		bytes.Contains(b, []byte("television")) {
		t.Errorf("without a sign-in: %s", res.Status)
	}
	if res, b := page("POST", "/pair/"+p.Code, "do=yes"); res.StatusCode != http.StatusOK ||
		!bytes.Contains(b, []byte("comes in as ozan")) {
		t.Errorf("confirmed: %s %s", res.Status, b)
	}
	status, got := h.asks(p.Secret)
	if status != http.StatusOK || got.Type != "Bearer" || got.Token == "" {
		t.Fatalf("after: %d %+v", status, got)
	}
	if status, again := h.asks(p.Secret); status != http.StatusBadRequest || again.Error != "expired_token" {
		t.Errorf("the second time: %d %+v", status, again)
	}
	h.token = got.Token
	if res, b := h.ask("GET", "/api/v1/me", ""); res.StatusCode != http.StatusOK || !bytes.Contains(b, []byte(`"ozan"`)) ||
		!bytes.Contains(b, []byte("mill television")) {
		t.Errorf("as whom: %s %s", res.Status, b)
	}
	if strings.Contains(h.log.String(), p.Secret) || strings.Contains(h.log.String(), got.Token) {
		t.Error("a secret is in the log")
	}
	// One that is refused.
	h.post("/api/v1/pairing", nil, &p)
	if res, _ := page("POST", "/pair/"+p.Code, "do=no"); res.StatusCode != http.StatusOK {
		t.Error(res.Status)
	}
	if _, got := h.asks(p.Secret); got.Error != "access_denied" {
		t.Errorf("refused: %+v", got)
	}
}

// TestScreensAreBounded has strangers ask for codes, and a member guess.
func TestScreensAreBounded(t *testing.T) {
	h := open(t)
	var p pairingAnswer
	for i := range 12 {
		var got struct {
			pairingAnswer
			Problem string
		}
		status := h.post("/api/v1/pairing", nil, &got)
		if want := map[bool]int{true: 200, false: 429}[i < 6]; status != want {
			t.Errorf("code %d: %d %s", i, status, got.Problem)
		}
		if status == http.StatusOK {
			p = got.pairingAnswer
		}
	}
	h.add("piet", allowance.Guest)
	cookie := h.cookie("piet")
	for i := range 12 {
		res, _ := h.ask("GET", "/pair/BBBB-BBBB", "", "Cookie", cookie)
		if want := map[bool]int{true: 404, false: 429}[i < 10]; res.StatusCode != want {
			t.Errorf("guess %d: %s", i, res.Status)
		}
	}
	if res, b := h.ask("POST", "/pair/"+p.Code, "do=yes", "Cookie", cookie, "Content-Type",
		"application/x-www-form-urlencoded"); res.StatusCode != http.StatusTooManyRequests {
		t.Errorf("a right one after many guesses: %s %s", res.Status, b)
	}
}

// TestAScreenOutsideIsForWhoMayBeThere has a screen ask from outside, by a proxy that is trusted.
func TestAScreenOutsideIsForWhoMayBeThere(t *testing.T) {
	h := open(t)
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	outside := []string{"X-Forwarded-For", "203.0.113.9", "X-Forwarded-Proto", "https"}
	var p pairingAnswer
	if status := h.post("/api/v1/pairing", nil, &p, outside...); status != http.StatusOK ||
		!strings.HasPrefix(p.URI, "https://") {
		t.Fatalf("%d %+v", status, p)
	}
	h.add("bram", allowance.Child)
	cookie := h.cookie("bram")
	h.token = ""
	if res, b := h.ask("GET", "/pair/"+p.Code, "", "Cookie", cookie); !bytes.Contains(b, []byte("outside the home")) {
		t.Errorf("%s %s", res.Status, b)
	}
	if res, b := h.ask("POST", "/pair/"+p.Code, "do=yes", "Cookie", cookie, "Content-Type",
		"application/x-www-form-urlencoded"); res.StatusCode != http.StatusForbidden {
		t.Errorf("confirmed by who is at home only: %s %s", res.Status, b)
	}
	// Somebody who may be away confirms it, and may not any more when it asks.
	m := h.add("ilse", allowance.Adult)
	if _, err := h.Confirmed(m, p.Code); err != nil {
		t.Fatal(err)
	}
	home := false
	if err := h.Store.EditMember(context.Background(), "ilse", store.Edit{Away: &home}); err != nil {
		t.Fatal(err)
	}
	var got struct{ Problem string }
	if status := h.post("/api/v1/token", url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"},
		"device_code": {p.Secret}}, &got, outside...); status != http.StatusForbidden || got.Problem == "" {
		t.Errorf("%d %+v", status, got)
	}
}

// TestAPageOfAScreenComesIn has a browser show a code, and get a cookie.
func TestAPageOfAScreenComesIn(t *testing.T) {
	h := open(t)
	h.token = ""
	if res, b := h.ask("GET", "/", ""); !bytes.Contains(b, []byte(`href="/screen"`)) {
		t.Errorf("the front door: %s", res.Status)
	}
	if _, b := h.ask("GET", "/screen", ""); bytes.Contains(b, []byte("data-secret")) {
		t.Error("a code for whoever looks")
	}
	res, b := h.ask("POST", "/screen", "", "Content-Type", "application/x-www-form-urlencoded")
	_, rest, _ := bytes.Cut(b, []byte(`data-secret="`))
	secret, _, _ := bytes.Cut(rest, []byte(`"`))
	_, rest, _ = bytes.Cut(b, []byte(`translate="no">`))
	code, _, _ := bytes.Cut(rest, []byte("<"))
	if res.StatusCode != http.StatusOK || len(secret) < 40 || pairing.Shown(pairing.Typed(string(code))) != string(code) ||
		!bytes.Contains(b, []byte("<svg")) {
		t.Fatalf("%s %s", res.Status, b)
	}
	if _, err := h.Confirmed(h.add("ozan", allowance.Adult), string(code)); err != nil {
		t.Fatal(err)
	}
	res, b = h.ask("POST", "/screen/wait", url.Values{"secret": {string(secret)}}.Encode(), "Content-Type",
		"application/x-www-form-urlencoded")
	if !bytes.Contains(b, []byte("granted")) || len(res.Cookies()) == 0 {
		t.Fatalf("%s %s", res.Status, b)
	}
	cookie := ""
	for _, k := range res.Cookies() {
		if strings.Contains(k.Name, "session") {
			cookie = k.Name + "=" + k.Value
		}
	}
	if _, b := h.ask("GET", "/", "", "Cookie", cookie); !bytes.Contains(b, []byte(">ozan<")) {
		t.Errorf("the page: %.300s", b)
	}
}

// Confirmed has a member confirm a code.
func (h *house) Confirmed(m store.Member, code string) (pairing.Screen, error) {
	h.t.Helper()
	r, err := http.NewRequest("POST", "/", nil)
	if err != nil {
		h.t.Fatal(err)
	}
	r = r.WithContext(context.WithValue(r.Context(), live.VisitorKey{}, &live.Visitor{Member: m}))
	s, err := h.Confirm(r, code, true)
	if err == nil && time.Since(s.Since) > time.Minute {
		err = fmt.Errorf("it waits since %s", s.Since)
	}
	return s, err
}
