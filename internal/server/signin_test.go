package server

import (
	"bytes"
	"context"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// at gives what is shown at a path with a cookie.
func (h *house) at(path, cookie string) string {
	h.t.Helper()
	had := h.token
	h.token = ""
	defer func() { h.token = had }()
	res, b := h.ask("GET", path, "", "Cookie", cookie)
	if res.StatusCode != http.StatusOK {
		h.t.Fatalf("%s: %s", path, res.Status)
	}
	return string(b)
}

func TestChangesToHowOneSignsInAreTold(t *testing.T) {
	h := open(t)
	h.token = ""
	ctx := context.Background()
	const password = "by the millpond"
	first, second := h.comesIn("wren", password), h.comesIn("wren", password)
	h.form("/own/devices/known", first, nil)
	if page := h.at("/", first); strings.Contains(page, "/own/changes") {
		t.Errorf("nothing was changed: %s", page)
	}
	_, recoveries := h.setUp(first, password)
	// Where it was done it is not told of, but listed.
	if page := h.at("/", first); strings.Contains(page, "/own/changes") {
		t.Error("told on the device itself")
	}
	if page := h.at("/own", first); !strings.Contains(page, "You have a second factor") ||
		!strings.Contains(page, "on this device") {
		t.Errorf("%s", page)
	}
	page := h.at("/", second)
	if !strings.Contains(page, "You have a second factor") || !strings.Contains(page, "from 127.0.0.1") {
		t.Errorf("%s", page)
	}
	until := between(page, `name="until" value="`, `"`)
	// What happens after a page was shown is told the next time, whatever was known of that page.
	wren, err := h.Store.Member(ctx, "wren")
	if err != nil {
		t.Fatal(err)
	}
	h.NoteChange(ctx, wren, store.PasskeyMade, "telephone")
	for _, bad := range []string{"", "x", "99999999999999999999"} {
		if res, _ := h.form("/own/changes", second, url.Values{"until": {bad}}); res.StatusCode != http.StatusNotFound {
			t.Errorf("%q: %s", bad, res.Status)
		}
	}
	h.form("/own/changes", second, url.Values{"until": {until}})
	if page := h.at("/", second); strings.Contains(page, "You have a second factor") ||
		!strings.Contains(page, "You have a new passkey (telephone)") ||
		!strings.Contains(page, "by an administrator, on the server") {
		t.Errorf("%s", page)
	}
	// A recovery code, a PIN, and another password, each.
	res, b := h.form("/sign-in", "", url.Values{"name": {"wren"}, "password": {password}})
	m := ticketText.FindSubmatch(b)
	if m == nil {
		t.Fatalf("%s %s", res.Status, b)
	}
	h.form("/sign-in/code", "", url.Values{"ticket": {string(m[1])}, "code": {recoveries[0]}})
	h.form("/own/pin", first, url.Values{"now": {password}, "pin": {"2468"}})
	h.form("/own/pin", first, url.Values{"now": {password}, "pin": {""}})
	res, _ = h.form("/own/password", first, url.Values{"now": {password}, "password": {"down by the millrace"},
		"again": {"down by the millrace"}})
	for _, k := range res.Cookies() {
		if strings.Contains(k.Name, "session") {
			first = k.Name + "=" + k.Value
		}
	}
	own := h.at("/own", first)
	for _, want := range []string{"A recovery code was used", "You have another PIN for screens",
		"Your PIN for screens was taken away", "You have another password"} {
		if !strings.Contains(own, want) {
			t.Errorf("not told: %s", want)
		}
	}
	// So many are kept; and nobody sees those of others.
	for range 2 * store.MostChanges {
		h.NoteChange(ctx, wren, store.PasswordSet, "")
	}
	if list, err := h.Store.ChangesOf(ctx, wren.ID, 10*store.MostChanges); err != nil || len(list) != store.MostChanges {
		t.Errorf("%d, %v", len(list), err)
	}
	h.add("piet", allowance.Adult)
	if page := h.at("/own", h.comesIn("piet", "piet by the millpond")); strings.Contains(page, "Changes to how") {
		t.Errorf("%s", page)
	}
}

// nowhere sees to it that a secret is neither in the store nor in the log.
func (h *house) nowhere(secret string) {
	h.t.Helper()
	for _, name := range []string{"store.db", "store.db-wal"} {
		b, err := os.ReadFile(filepath.Join(h.Settings.State, name))
		if err == nil && bytes.Contains(b, []byte(secret)) {
			h.t.Errorf("%s holds %s", name, secret)
		}
	}
	if strings.Contains(h.log.String(), secret) {
		h.t.Errorf("the log holds %s", secret)
	}
}

// between gives what stands between two texts.
func between(text, before, after string) string {
	_, rest, _ := strings.Cut(text, before)
	rest, _, _ = strings.Cut(rest, after)
	return rest
}

func TestAPassphraseThatWasMadeEnds(t *testing.T) {
	h := open(t)
	ctx := context.Background()
	const password = "by the millpond"
	h.add("ilse", allowance.Adult)
	lasts := func(d time.Duration) {
		t.Helper()
		if err := h.Store.SetPassword(ctx, "ilse", hashed(password), time.Now().Add(d)); err != nil {
			t.Fatal(err)
		}
	}
	until := time.Now().Add(time.Hour)
	lasts(time.Until(until))
	cookie := h.comesIn("ilse", password)
	for _, path := range []string{"/", "/own"} {
		if page := h.at(path, cookie); !strings.Contains(page, "was made for you, and is good until "+
			until.In(h.Zone).Format("Monday, 2 January, at 15:04")) {
			t.Errorf("%s: %s", path, page)
		}
	}
	if res, b := h.form("/own/password", cookie, url.Values{"now": {password}, "password": {"down by the millrace"},
		"again": {"down by the millrace"}}); res.StatusCode != http.StatusOK {
		t.Fatalf("%s %s", res.Status, b)
	}
	if page := h.at("/own", h.comesIn("ilse", "down by the millrace")); strings.Contains(page, "was made for you") {
		t.Errorf("%s", page)
	}
	lasts(-time.Second)
	if status, _ := h.signs("ilse", password); status != http.StatusForbidden {
		t.Errorf("%d", status)
	}
	res, b := h.form("/sign-in", "", url.Values{"name": {"ilse"}, "password": {password}})
	if res.StatusCode != http.StatusForbidden || !strings.Contains(string(b), "not good any more") {
		t.Errorf("%s %s", res.Status, b)
	}
	// Whoever does not know it hears nothing of that.
	if status, _ := h.signs("ilse", "by the millrace"); status != http.StatusUnauthorized {
		t.Errorf("%d", status)
	}
}

func TestTheStoreAloneGivesNeitherPasswordsNorCodes(t *testing.T) {
	h := open(t)
	ctx := context.Background()
	const password = "ilse by the millpond"
	h.add("ilse", allowance.Adult)
	before, err := h.Store.Member(ctx, "ilse")
	if err != nil || strings.Contains(before.Password, "keyid=") {
		t.Fatalf("%s, %v", before.Password, err)
	}
	cookie := h.comesIn("ilse", password) // a hash of an older program is replaced
	after, err := h.Store.Member(ctx, "ilse")
	if err != nil || !h.Keys.Current(after.Password) || !strings.Contains(after.Password, "keyid=") {
		t.Errorf("%s, %v", after.Password, err)
	}
	shared, _ := h.setUp(cookie, password)
	h.nowhere(shared)
	// With its key gone no code is good, also none of an empty secret; recovery codes still are.
	keys := h.Keys
	h.Keys = &secret.Keys{}
	if f, err := h.Factor(ctx, after.ID); err != nil || f.Secret != "" {
		t.Errorf("%s, %v", f.Secret, err)
	}
	h.Keys = keys
	// What an older program kept open is sealed when the store is opened.
	if err := h.Store.SetFactor(ctx, after.ID, 0, store.Factor{Secret: shared, Created: time.Now()}, nil); err != nil {
		t.Fatal(err)
	}
	if err := h.Store.Close(); err != nil {
		t.Fatal(err)
	}
	if err := h.OpenStore(ctx); err != nil {
		t.Fatal(err)
	}
	kept, err := h.Store.Factor(ctx, after.ID)
	if err != nil || strings.Contains(kept.Secret, shared) {
		t.Errorf("%s, %v", kept.Secret, err)
	}
	if f, err := h.Factor(ctx, after.ID); err != nil || f.Secret != shared {
		t.Errorf("%s, %v", f.Secret, err)
	}
}
