package server

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/passkey/passkeytest"
	"cozyshelf/internal/server/live"
)

// byName opens a house whose pages are reached by a name, as browsers want for passkeys.
func byName(t *testing.T) *house {
	h := open(t)
	h.url, h.token = strings.Replace(h.url, "127.0.0.1", "localhost", 1), ""
	return h
}

// step sends what a page sends about a passkey, and gives the status, the answer and the session.
func (h *house) step(path, cookie string, sent any, headers ...string) (int, map[string]json.RawMessage, string) {
	h.t.Helper()
	b, err := json.Marshal(sent)
	if err != nil {
		h.t.Fatal(err)
	}
	res, b := h.ask("POST", path, string(b), append([]string{"Content-Type", "application/json", "Cookie", cookie},
		headers...)...)
	var got map[string]json.RawMessage
	if err := json.Unmarshal(b, &got); err != nil {
		h.t.Fatalf("%s: %s %s", path, res.Status, b)
	}
	session := ""
	for _, k := range res.Cookies() {
		if strings.Contains(k.Name, "session") {
			session = k.Name + "=" + k.Value
		}
	}
	return res.StatusCode, got, session
}

// passkey has an authenticator make or use a passkey for what is at a path, and sends the answer.
func (h *house) passkey(do func(asked []byte, origin string) ([]byte, error), path, cookie string,
	more map[string]any) (int, string, string) {
	h.t.Helper()
	status, asked, _ := h.step(path+"/ask", cookie, more)
	if status != http.StatusOK {
		return status, string(asked["said"]), ""
	}
	answer, err := do(asked["options"], h.url)
	if err != nil {
		h.t.Fatal(err)
	}
	sent := map[string]any{"ticket": asked["ticket"], "answer": json.RawMessage(answer)}
	for k, v := range more {
		sent[k] = v
	}
	status, got, session := h.step(path, cookie, sent)
	return status, string(got["said"]) + string(got["next"]), session
}

// comesIn signs in by a form with a password.
func (h *house) comesIn(name, password string) string {
	h.t.Helper()
	res, b := h.form("/sign-in", "", url.Values{"name": {name}, "password": {password}})
	for _, k := range res.Cookies() {
		if strings.Contains(k.Name, "session") {
			return k.Name + "=" + k.Value
		}
	}
	h.t.Fatalf("no session: %s %s", res.Status, b)
	return ""
}

var passkeyForm = regexp.MustCompile(`/own/passkeys/(\d+)`)

func TestPasskeysStandForPasswordAndSecondFactor(t *testing.T) {
	h := byName(t)
	const password = "by the millpond"
	cookie := h.comesIn("wren", password)
	var a passkeytest.Authenticator
	if status, said, _ := h.passkey(a.Make, "/own/passkeys", cookie,
		map[string]any{"password": "by the millrace"}); status !=
		http.StatusForbidden {
		t.Errorf("with another password: %d %s", status, said)
	}
	if status, said, _ := h.passkey(a.Make, "/own/passkeys", "", map[string]any{"password": password}); status !=
		http.StatusUnauthorized {
		t.Errorf("for nobody: %d %s", status, said)
	}
	if status, said, _ := h.passkey(a.Make, "/own/passkeys", cookie, map[string]any{"password": password,
		"name": "  telephone\n of <wren> "}); status != http.StatusOK || said != `"/own#passkeys"` {
		t.Fatalf("%d %s", status, said)
	}
	_, page := h.ask("GET", "/own", "", "Cookie", cookie)
	if !bytes.Contains(page, []byte("telephone of &lt;wren&gt;")) {
		t.Errorf("the page does not name it: %s", page)
	}
	// Who has signed in with a password only does not see to the house; with a passkey they do.
	if res, _ := h.ask("GET", "/house", "", "Cookie", cookie); res.StatusCode != http.StatusForbidden {
		t.Errorf("the house with a password: %s", res.Status)
	}
	status, said, with := h.passkey(a.Use, "/sign-in/passkey", "", map[string]any{"next": "/house"})
	if status != http.StatusOK || with == "" || said != `"/house"` {
		t.Fatalf("signing in: %d %s", status, said)
	}
	if res, _ := h.ask("GET", "/house", "", "Cookie", with); res.StatusCode != http.StatusOK {
		t.Errorf("the house with a passkey: %s", res.Status)
	}
	if _, said, _ := h.passkey(a.Use, "/sign-in/passkey", "",
		map[string]any{"next": "https://example.net/"}); said != `"/"` {
		t.Errorf("sent on to %s", said)
	}
	// It stands for the password for a while, on this device only.
	if status, said, _ := h.passkey((&passkeytest.Authenticator{}).Make, "/own/passkeys", with,
		nil); status != http.StatusOK {
		t.Errorf("another passkey, after signing in with one: %d %s", status, said)
	}
	if status, _, _ := h.passkey((&passkeytest.Authenticator{}).Make, "/own/passkeys", cookie, nil); status !=
		http.StatusForbidden {
		t.Errorf("the same on another device: %d", status)
	}
	if status, said, _ := h.passkey(a.Use, "/own/confirm", cookie, nil); status != http.StatusOK {
		t.Errorf("confirming: %d %s", status, said)
	}
	_, page = h.ask("GET", "/own", "", "Cookie", cookie)
	ids := passkeyForm.FindAllStringSubmatch(string(page), -1)
	if len(ids) != 2 {
		t.Fatalf("passkeys: %v", ids)
	}
	if res, b := h.form("/own/passkeys/"+ids[0][1], cookie, nil); res.StatusCode != http.StatusOK {
		t.Errorf("taking one away: %s %s", res.Status, b)
	}
	if status, _, session := h.passkey(a.Use, "/sign-in/passkey", "", nil); status != http.StatusUnauthorized ||
		session != "" {
		t.Errorf("with one that was taken away: %d", status)
	}
	// Nobody takes another's away, nor confirms for another.
	h.add("ilse", allowance.Adult)
	other := h.comesIn("ilse", "ilse by the millpond")
	var b passkeytest.Authenticator
	if status, said, _ := h.passkey(b.Make, "/own/passkeys", other,
		map[string]any{"password": "ilse by the millpond"}); status !=
		http.StatusOK {
		t.Fatalf("%d %s", status, said)
	}
	if res, _ := h.form("/own/passkeys/"+ids[1][1], other, url.Values{"now": {"ilse by the millpond"}}); res.StatusCode !=
		http.StatusNotFound {
		t.Errorf("taking another's away: %s", res.Status)
	}
	third := h.comesIn("wren", password)
	if status, _, _ := h.passkey(b.Use, "/own/confirm", third, nil); status != http.StatusUnauthorized {
		t.Errorf("confirming for another: %d", status)
	}
}

func TestPasskeysAreGoodOnceAndForWhatWasAsked(t *testing.T) {
	h := byName(t)
	cookie := h.comesIn("wren", "by the millpond")
	var a passkeytest.Authenticator
	if status, said, _ := h.passkey(a.Make, "/own/passkeys", cookie,
		map[string]any{"password": "by the millpond"}); status !=
		http.StatusOK {
		t.Fatalf("%d %s", status, said)
	}
	_, asked, _ := h.step("/sign-in/passkey/ask", "", nil)
	answer, err := a.Use(asked["options"], h.url)
	if err != nil {
		t.Fatal(err)
	}
	sent := map[string]any{"ticket": asked["ticket"], "answer": json.RawMessage(answer)}
	if status, got, _ := h.step("/own/confirm", cookie, sent); status != http.StatusUnauthorized {
		t.Errorf("an answer to signing in, to confirm with: %d %s", status, got)
	}
	if status, got, session := h.step("/sign-in/passkey", "", sent); status != http.StatusOK || session == "" {
		t.Fatalf("%d %s", status, got)
	}
	if status, _, session := h.step("/sign-in/passkey", "", sent); status != http.StatusUnauthorized || session != "" {
		t.Errorf("the second time: %d", status)
	}
	if status, got, _ := h.step("/sign-in/passkey", "", map[string]any{"ticket": string(asked["ticket"]) + "x",
		"answer": json.RawMessage(answer)}); status != http.StatusUnauthorized {
		t.Errorf("with a ticket of their own: %d %s", status, got)
	}
	for what, body := range map[string]string{"nothing": "", "no JSON": "{", "large": `{"name":"` +
		strings.Repeat("x", 70000) +
		`"}`, "an array": "[]", "no answer": `{"ticket":""}`} {
		res, b := h.ask("POST", "/sign-in/passkey", body)
		if res.StatusCode < 400 || res.StatusCode >= 500 || !bytes.Contains(b, []byte(`"said"`)) {
			t.Errorf("%s: %s %s", what, res.Status, b)
		}
	}
	// A page elsewhere cannot have a browser do it.
	if res, _ := h.ask("POST", "/sign-in/passkey/ask", "{}", "Sec-Fetch-Site", "cross-site", "Origin",
		"https://example.net"); res.StatusCode != http.StatusForbidden {
		t.Errorf("from another site: %s", res.Status)
	}
	// By its number there is no name that a passkey could be for.
	h.url = strings.Replace(h.url, "localhost", "127.0.0.1", 1)
	if status, _, _ := h.passkey(a.Use, "/sign-in/passkey", "", nil); status != http.StatusBadRequest {
		t.Errorf("at a number: %d", status)
	}
	if _, page := h.ask("GET", "/", ""); bytes.Contains(page, []byte("data-passkey")) {
		t.Error("the page offers what cannot be had")
	}
	// Guesses are counted before they are judged.
	h.url = strings.Replace(h.url, "127.0.0.1", "localhost", 1)
	forged := a
	forged.Forged = true
	for n := 0; ; n++ {
		status, said, _ := h.passkey(forged.Use, "/sign-in/passkey", "", nil)
		if status == http.StatusTooManyRequests {
			break
		}
		if status != http.StatusUnauthorized || n > 20 {
			t.Fatalf("guess %d: %d %s", n, status, said)
		}
	}
}

func TestAnInviteIsTakenWithAPasskey(t *testing.T) {
	h := byName(t)
	token := h.invites("ilse", time.Now().Add(time.Hour), allowance.Allowance{})
	var a, b passkeytest.Authenticator
	if status, said, _ := h.passkey(a.Make, live.InvitePath+"another/passkey", "", nil); status != http.StatusNotFound {
		t.Errorf("an invite that is none: %d %s", status, said)
	}
	status, said, session := h.passkey(a.Make, live.InvitePath+token+"/passkey", "", nil)
	if status != http.StatusOK || session == "" {
		t.Fatalf("%d %s", status, said)
	}
	if status, _, _ := h.passkey(b.Make, live.InvitePath+token+"/passkey", "", nil); status != http.StatusNotFound {
		t.Errorf("the second time: %d", status)
	}
	if status, said, session := h.passkey(a.Use, "/sign-in/passkey", "", nil); status != http.StatusOK || session == "" {
		t.Errorf("signing in: %d %s", status, said)
	}
	// There is no password, not even an empty one.
	for _, guess := range []string{"", "ilse", "a"} {
		if status, _ := h.signs("ilse", guess); status != http.StatusUnauthorized && status != http.StatusBadRequest {
			t.Errorf("%q as password: %d", guess, status)
		}
	}
	// The only way in stays; with a password beside it, it may go.
	status, said, session = h.passkey(a.Use, "/sign-in/passkey", "", nil)
	if status != http.StatusOK {
		t.Fatalf("%d %s", status, said)
	}
	_, page := h.ask("GET", "/own", "", "Cookie", session)
	id := passkeyForm.FindStringSubmatch(string(page))
	if id == nil || !bytes.Contains(page, []byte("You have none")) {
		t.Fatalf("%s", page)
	}
	if res, b := h.form("/own/passkeys/"+id[1], session, nil); res.StatusCode != http.StatusConflict || !bytes.Contains(b,
		[]byte("only way in")) {
		t.Errorf("the only one: %s %s", res.Status, b)
	}
	res, body := h.form("/own/password", session, url.Values{"password": {"under the alder"},
		"again": {"under the alder"}})
	if res.StatusCode != http.StatusOK {
		t.Fatalf("a password: %s %s", res.Status, body)
	}
	if status, _ := h.signs("ilse", "under the alder"); status != http.StatusOK {
		t.Errorf("with the password: %d", status)
	}
}

// TestPasskeysFromOutside has an administrator come from outside, for whom a second factor is demanded.
func TestPasskeysFromOutside(t *testing.T) {
	h := open(t)
	h.token = ""
	h.Settings.SecondFactor = household.SecondAdmins
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	h.Names["shelf.example.net"] = true
	a, origin := passkeytest.Authenticator{}, "https://shelf.example.net"
	outside := func(path, cookie string, sent any) (int, map[string]json.RawMessage, string) {
		b, err := json.Marshal(sent)
		if err != nil {
			t.Fatal(err)
		}
		r, err := http.NewRequestWithContext(context.Background(), "POST", h.url+path, bytes.NewReader(b))
		if err != nil {
			t.Fatal(err)
		}
		r.Host = "shelf.example.net"
		r.Header.Set("X-Forwarded-Proto", "https")
		r.Header.Set("X-Forwarded-For", "203.0.113.9")
		if cookie != "" {
			r.Header.Set("Cookie", cookie)
			r.Header.Set("X-Forwarded-For", "192.168.1.5") // at home
		}
		res, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		var got map[string]json.RawMessage
		if err := json.NewDecoder(res.Body).Decode(&got); err != nil {
			t.Fatalf("%s: %s %v", path, res.Status, err)
		}
		session := ""
		for _, k := range res.Cookies() {
			if strings.Contains(k.Name, "session") {
				session = k.Name + "=" + k.Value
			}
		}
		return res.StatusCode, got, session
	}
	home := h.comesIn("wren", "by the millpond")
	home = "__Host-" + home // the same session, as a browser has it over HTTPS
	status, asked, _ := outside("/own/passkeys/ask", home, map[string]string{"password": "by the millpond"})
	if status != http.StatusOK {
		t.Fatalf("%d %s", status, asked["said"])
	}
	answer, err := a.Make(asked["options"], origin)
	if err != nil {
		t.Fatal(err)
	}
	if status, got, _ := outside("/own/passkeys", home, map[string]any{"ticket": asked["ticket"],
		"answer": json.RawMessage(answer)}); status != http.StatusOK {
		t.Fatalf("%d %s", status, got["said"])
	}
	_, asked, _ = outside("/sign-in/passkey/ask", "", nil)
	if answer, err = a.Use(asked["options"], origin); err != nil {
		t.Fatal(err)
	}
	status, got, session := outside("/sign-in/passkey", "", map[string]any{"ticket": asked["ticket"],
		"answer": json.RawMessage(answer)})
	if status != http.StatusOK || session == "" {
		t.Fatalf("%d %s", status, got["said"])
	}
	res, b := h.ask("GET", "/own", "", "Cookie", session, "X-Forwarded-Proto", "https", "X-Forwarded-For", "203.0.113.9")
	if res.StatusCode != http.StatusOK {
		t.Errorf("the page from outside: %s %s", res.Status, b)
	}
	// What is kept is for that name only.
	keys, err := h.Store.Passkeys(context.Background(), 1)
	if err != nil || len(keys) != 1 || keys[0].Place != "shelf.example.net" || keys[0].Used.IsZero() {
		t.Errorf("%+v %v", keys, err)
	}
}
