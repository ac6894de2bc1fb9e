package server

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/store"

	"github.com/pquerna/otp/totp"
)

// form posts a form as a page does, without going where it is sent.
func (h *house) form(path, cookie string, fields url.Values, headers ...string) (*http.Response, []byte) {
	h.t.Helper()
	c := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	r, err := http.NewRequest("POST", h.url+path, strings.NewReader(fields.Encode()))
	if err != nil {
		h.t.Fatal(err)
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	r.Header.Set("Cookie", cookie)
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	res, err := c.Do(r)
	if err != nil {
		h.t.Fatal(err)
	}
	defer res.Body.Close()
	var b bytes.Buffer
	_, _ = b.ReadFrom(res.Body)
	return res, b.Bytes()
}

var (
	sharedText   = regexp.MustCompile(`<p translate="no">([A-Z2-7 ]+)</p>`)
	recoveryText = regexp.MustCompile(`<li translate="no">([a-z2-7-]+)</li>`)
	ticketText   = regexp.MustCompile(`name="ticket" value="([^"]+)"`)
)

// setUp sets a second factor up on a page, and gives its secret and the recovery codes.
func (h *house) setUp(cookie, password string) (shared string, recoveries []string) {
	h.t.Helper()
	res, b := h.form("/own/factor", cookie, url.Values{"now": {password}})
	m := sharedText.FindSubmatch(b)
	if res.StatusCode != http.StatusOK || m == nil || !bytes.Contains(b, []byte("<svg")) {
		h.t.Fatalf("%s %s", res.Status, b)
	}
	shared = strings.ReplaceAll(string(m[1]), " ", "")
	if res, b := h.form("/own/factor/keep", cookie,
		url.Values{"code": {"000000"}}); res.StatusCode != http.StatusUnauthorized ||
		!bytes.Contains(b, m[1]) {
		h.t.Errorf("a wrong code while setting up: %s", res.Status)
	}
	res, b = h.form("/own/factor/keep", cookie, url.Values{"code": {h.code(shared, 0)}})
	for _, c := range recoveryText.FindAllSubmatch(b, -1) {
		recoveries = append(recoveries, string(c[1]))
	}
	if res.StatusCode != http.StatusOK || len(recoveries) != 10 {
		h.t.Fatalf("%s %s", res.Status, b)
	}
	return shared, recoveries
}

// code is what an authenticator shows, or will show.
func (h *house) code(shared string, after time.Duration) string {
	h.t.Helper()
	c, err := totp.GenerateCode(shared, time.Now().Add(after))
	if err != nil {
		h.t.Fatal(err)
	}
	return c
}

func TestASecondFactorIsAskedForEverywhere(t *testing.T) {
	h := open(t)
	const password = "by the millpond"
	signIn := func(code string) (int, string) {
		t.Helper()
		had := h.token
		h.token = ""
		defer func() { h.token = had }()
		b, _ := json.Marshal(map[string]string{"name": "wren", "password": password, "code": code, "device": "test"})
		res, body := h.ask("POST", "/api/v1/sign-in", string(b))
		var got struct{ Token, Problem string }
		if err := json.Unmarshal(body, &got); err != nil {
			t.Fatalf("%s", body)
		}
		return res.StatusCode, got.Token + got.Problem
	}
	door := func() string {
		t.Helper()
		res, _ := h.form("/sign-in", "", url.Values{"name": {"wren"}, "password": {password}})
		for _, k := range res.Cookies() {
			if strings.Contains(k.Name, "session") {
				return k.Name + "=" + k.Value
			}
		}
		t.Fatalf("no cookie: %s", res.Status)
		return ""
	}
	cookie := door()
	if res, b := h.form("/own/factor", cookie,
		url.Values{"now": {"not my password"}}); res.StatusCode != http.StatusForbidden ||
		sharedText.Match(b) {
		t.Errorf("with another password: %s", res.Status)
	}
	shared, recoveries := h.setUp(cookie, password)
	// Programs.
	if status, said := signIn(""); status != http.StatusUnauthorized || !strings.Contains(said, "second factor") {
		t.Errorf("without a code: %d %s", status, said)
	}
	if status, said := signIn(h.code(shared, 0)); status != http.StatusUnauthorized {
		t.Errorf("with the code that was used to set it up: %d %s", status, said)
	}
	next := h.code(shared, 30*time.Second)
	if status, said := signIn(next); status != http.StatusOK {
		t.Errorf("with the next code: %d %s", status, said)
	}
	if status, _ := signIn(next); status != http.StatusUnauthorized {
		t.Errorf("with the same code again: %d", status)
	}
	if status, said := signIn(strings.ToUpper(recoveries[0])); status != http.StatusOK {
		t.Errorf("with a recovery code: %d %s", status, said)
	}
	if status, _ := signIn(recoveries[0]); status != http.StatusUnauthorized {
		t.Errorf("with the same recovery code again: %d", status)
	}
	// Pages.
	res, b := h.form("/sign-in", "", url.Values{"name": {"wren"}, "password": {password}, "next": {"/shelf/films"}})
	ticket := ticketText.FindSubmatch(b)
	if ticket == nil || len(res.Cookies()) > 0 {
		t.Fatalf("%s %s", res.Status, b)
	}
	if res, b := h.form("/sign-in/code", "", url.Values{"ticket": {string(ticket[1])}, "code": {"123"}}); res.StatusCode !=
		http.StatusUnauthorized || !bytes.Contains(b, ticket[1]) {
		t.Errorf("a wrong code: %s %s", res.Status, b)
	}
	if res, _ := h.form("/sign-in/code", "", url.Values{"ticket": {"other"}, "code": {recoveries[1]}}); res.StatusCode !=
		http.StatusGone {
		t.Errorf("another ticket: %s", res.Status)
	}
	res, b = h.form("/sign-in/code", "", url.Values{"ticket": {string(ticket[1])}, "code": {recoveries[1]},
		"next": {"/shelf/films"}})
	if res.StatusCode != http.StatusSeeOther || res.Header.Get("Location") != "/shelf/films" || len(res.Cookies()) == 0 {
		t.Errorf("a right one: %s %s", res.Status, b)
	}
	if res, _ := h.form("/sign-in/code", "", url.Values{"ticket": {string(ticket[1])},
		"code": {recoveries[2]}}); res.StatusCode !=
		http.StatusGone {
		t.Errorf("the same ticket again: %s", res.Status)
	}
	// No code and no secret is in the log.
	for _, text := range append(recoveries, shared, string(ticket[1])) {
		if strings.Contains(h.log.String(), text) {
			t.Errorf("the log holds %s", text)
		}
	}
	// Taken away by who knows both.
	for what, fields := range map[string]url.Values{"a code alone": {"now": {"other"}, "code": {recoveries[3]}},
		"a password alone": {"now": {password}, "code": {"000000"}}} {
		if res, _ := h.form("/own/factor/drop", cookie, fields); res.StatusCode < 400 {
			t.Errorf("%s: %s", what, res.Status)
		}
	}
	if res, b := h.form("/own/factor/drop", cookie, url.Values{"now": {password},
		"code": {recoveries[4]}}); res.StatusCode !=
		http.StatusOK || !bytes.Contains(b, []byte("no second factor any more")) {
		t.Errorf("both: %s", res.Status)
	}
	if status, said := signIn(""); status != http.StatusOK {
		t.Errorf("afterwards: %d %s", status, said)
	}
}

// TestCodesAreNotGuessed tries many: all of a member's guesses are counted as one.
func TestCodesAreNotGuessed(t *testing.T) {
	h := open(t)
	const password = "by the millpond"
	res, _ := h.form("/sign-in", "", url.Values{"name": {"wren"}, "password": {password}})
	cookie := res.Cookies()[0].Name + "=" + res.Cookies()[0].Value
	for _, k := range res.Cookies() {
		if strings.Contains(k.Name, "session") {
			cookie = k.Name + "=" + k.Value
		}
	}
	h.setUp(cookie, password)
	counted := map[string]int{}
	h.token = ""
	for i := range 30 {
		code := fmt.Sprintf("%06d", i)
		b, _ := json.Marshal(map[string]string{"name": "wren", "password": password, "code": code})
		res, _ := h.ask("POST", "/api/v1/sign-in", string(b))
		counted[fmt.Sprint("api ", res.StatusCode)]++
		res, _ = h.form("/own/factor/drop", cookie, url.Values{"now": {password}, "code": {code}})
		counted[fmt.Sprint("own ", res.StatusCode)]++
	}
	if looked := counted["api 401"] + counted["own 401"]; looked > 15 || counted["api 200"]+counted["own 200"] > 0 ||
		counted["api 429"] < 15 || counted["own 429"] < 15 {
		t.Errorf("of 60 guesses: %v", counted)
	}
}

// TestFromOutsideAdministratorsNeedOne tries who is let in from outside.
func TestFromOutsideAdministratorsNeedOne(t *testing.T) {
	h := open(t)
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	outside := []string{"X-Forwarded-For", "203.0.113.9", "X-Forwarded-Proto", "https"}
	h.Settings.SecondFactor = household.SecondAdmins
	const password = "by the millpond"
	status := func() int {
		res, _ := h.ask("GET", "/api/v1/me", "", outside...)
		return res.StatusCode
	}
	if got := status(); got != http.StatusForbidden {
		t.Errorf("a device that was signed in without one: %d", got)
	}
	had := h.token
	h.token = ""
	if res, b := h.ask("POST", "/api/v1/sign-in", `{"name":"wren","password":"by the millpond"}`,
		outside...); res.StatusCode !=
		http.StatusForbidden || !bytes.Contains(b, []byte("set one up at home")) {
		t.Errorf("signing in without one: %s %s", res.Status, b)
	}
	h.token = had
	if res, _ := h.ask("GET", "/api/v1/me", ""); res.StatusCode != http.StatusOK {
		t.Errorf("at home: %s", res.Status)
	}
	res, _ := h.form("/sign-in", "", url.Values{"name": {"wren"}, "password": {password}})
	cookie := ""
	for _, k := range res.Cookies() {
		if strings.Contains(k.Name, "session") {
			cookie = k.Name + "=" + k.Value
		}
	}
	_, recoveries := h.setUp(cookie, password)
	h.token = ""
	b, _ := json.Marshal(map[string]string{"name": "wren", "password": password, "code": recoveries[0]})
	res, body := h.ask("POST", "/api/v1/sign-in", string(b), outside...)
	var got struct{ Token string }
	if json.Unmarshal(body, &got) != nil || got.Token == "" {
		t.Fatalf("%s %s", res.Status, body)
	}
	h.token = got.Token
	if got := status(); got != http.StatusOK {
		t.Errorf("with one: %d", got)
	}
	// A screen is let in with what the member has who confirms it.
	var p pairingAnswer
	h.post("/api/v1/pairing", nil, &p, outside...)
	m, err := h.Store.Member(context.Background(), "wren")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.Confirmed(m, p.Code); err != nil {
		t.Fatal(err)
	}
	var screen tokenAnswer
	h.post("/api/v1/token", url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"},
		"device_code": {p.Secret}}, &screen, outside...)
	h.token = screen.Token
	if got := status(); got != http.StatusForbidden {
		t.Errorf("a screen that was confirmed without a second factor: %d", got)
	}
	// When the factor is taken away, nothing counts as signed in with it.
	h.token = got.Token
	if err := h.ForgetFactor(context.Background(), m); err != nil {
		t.Fatal(err)
	}
	if got := status(); got != http.StatusForbidden {
		t.Errorf("after it was taken away: %d", got)
	}
	h.Settings.SecondFactor = household.SecondNobody
	if got := status(); got != http.StatusOK {
		t.Errorf("where nobody needs one: %d", got)
	}
	if _, err := h.Store.Factor(context.Background(), m.ID); err == nil {
		t.Error("it is still there")
	}
	if err := h.Store.UseCode(context.Background(), m.ID, 1); err != store.ErrNotFound {
		t.Errorf("a code of none: %v", err)
	}
}
