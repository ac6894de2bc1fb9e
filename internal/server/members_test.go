package server

import (
	"bytes"
	"context"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/passkey/passkeytest"
	"cozyshelf/internal/store"
)

// housed opens a house and signs wren in by a passkey, as who sees to it.
func housed(t *testing.T) (*house, string) {
	t.Helper()
	h := byName(t)
	var a passkeytest.Authenticator
	if status, said, _ := h.passkey(a.Make, "/own/passkeys", h.comesIn("wren", "by the millpond"),
		map[string]any{"password": "by the millpond"}); status != http.StatusOK {
		t.Fatalf("%d %s", status, said)
	}
	status, said, session := h.passkey(a.Use, "/sign-in/passkey", "", nil)
	if status != http.StatusOK {
		t.Fatalf("%d %s", status, said)
	}
	return h, session
}

func TestMembersAreBoundOnThePage(t *testing.T) {
	h, wren := housed(t)
	ctx := context.Background()
	h.add("bram", allowance.Child)
	bram := h.comesIn("bram", "bram by the millpond")
	full := url.Values{"do": {"save"}, "role": {"child"}, "away": {"no"}, "shelf": {"films", "series"}, "age": {"6"},
		"hours": {"mon-fri 15:00-19:30"}, "minutes": {"60"}, "streams": {"1"}, "until": {"2030-01-01"}, "bring": {"role"},
		"copies": {"yes"}, "bitrate-away": {"8M"}}
	res, page := h.form("/house/members/bram", wren, full)
	if res.StatusCode != http.StatusOK || !bytes.Contains(page, []byte("It holds from now on")) {
		t.Fatalf("%s %s", res.Status, page)
	}
	m, err := h.Store.Member(ctx, "bram")
	six, yes := 6, true
	hours, _ := allowance.ParseHours("mon-fri 15:00-19:30")
	want := allowance.Allowance{Shelves: []string{"films", "series"}, Age: &six, Hours: hours, Day: 60, Streams: 1,
		Copies: &yes, Away: allowance.Size{Bitrate: 8_000_000}}
	ends := m.Allowed.Until
	m.Allowed.Until = time.Time{}
	if err != nil || !reflect.DeepEqual(m.Allowed, want) || !ends.Equal(time.Date(2030, 1, 2, 0, 0, 0, 0, h.Zone)) {
		t.Fatalf("%+v %s %v", m.Allowed, ends, err)
	}
	// The form says it again, as it was said.
	_, page = h.ask("GET", "/house/members/bram", "", "Cookie", wren)
	for _, said := range []string{`value="mon-fri 15:00-19:30"`, `value="60"`, `value="2030-01-01"`, `value="8M"`,
		`value="films" checked`, `<option selected>yes`} {
		if !bytes.Contains(page, []byte(said)) {
			t.Errorf("the form does not say %s", said)
		}
	}
	if bytes.Contains(page, []byte(`value="music" checked`)) {
		t.Error("a shelf is ticked that is not there for bram")
	}
	// It holds at once.
	if _, b := h.ask("GET", "/", "", "Cookie", bram); bytes.Contains(b, []byte("/shelf/music")) {
		t.Error("bram sees what he may not")
	}
	// What cannot be is said, and changes nothing; what was typed stays in the form.
	for field, v := range map[string]string{"age": "old", "hours": "mon 25:00-26:00", "minutes": "-5", "until": "soon",
		"role": "boss", "shelf": "cellar", "do": "burn"} {
		bad := url.Values{}
		for k, l := range full {
			bad[k] = l
		}
		bad[field] = []string{v}
		res, page := h.form("/house/members/bram", wren, bad)
		if res.StatusCode != http.StatusBadRequest || !bytes.Contains(page, []byte(`role="alert"`)) {
			t.Errorf("%s=%s: %s", field, v, res.Status)
		}
		if field == "until" && !bytes.Contains(page, []byte(`value="soon"`)) {
			t.Error("what was typed is gone")
		}
	}
	again, err := h.Store.Member(ctx, "bram")
	if err != nil || !again.Allowed.Until.Equal(ends) || again.Role != allowance.Child {
		t.Errorf("%+v %v", again, err)
	}
	// An emptied form bounds nothing.
	if res, _ := h.form("/house/members/bram", wren, url.Values{"do": {"save"}, "role": {"adult"},
		"away": {"yes"}}); res.StatusCode !=
		http.StatusOK {
		t.Errorf("nothing: %s", res.Status)
	}
	if m, err = h.Store.Member(ctx, "bram"); err != nil || !reflect.DeepEqual(m.Allowed, allowance.Allowance{}) ||
		m.Role != allowance.Adult || !m.Away {
		t.Errorf("%+v %v", m, err)
	}
}

func TestWhoSeesToMembersShowsWhoTheyAre(t *testing.T) {
	h, wren := housed(t)
	h.add("ilse", allowance.Adult)
	ilse := h.comesIn("ilse", "ilse by the millpond")
	for who, cookie := range map[string]string{"an adult": ilse, "nobody": ""} {
		for _, do := range []string{"save", "sign-out", "remove"} {
			if res, _ := h.form("/house/members/wren", cookie, url.Values{"do": {do},
				"role": {"child"}}); res.StatusCode == http.StatusOK {
				t.Errorf("%s may %s", who, do)
			}
		}
		if res, b := h.ask("GET", "/house/members/wren", "", "Cookie", cookie); res.StatusCode == http.StatusOK {
			t.Errorf("%s sees %s", who, b)
		}
	}
	if res, _ := h.ask("GET", "/house/members/nobody", "", "Cookie", wren); res.StatusCode != http.StatusNotFound {
		t.Errorf("a member that is none: %s", res.Status)
	}
	// The last administrator stays one, and nobody takes their own account away.
	if res, b := h.form("/house/members/wren", wren, url.Values{"do": {"save"}, "role": {"child"}}); res.StatusCode !=
		http.StatusBadRequest || !bytes.Contains(b, []byte("stays an administrator")) {
		t.Errorf("the last administrator: %s", res.Status)
	}
	if res, _ := h.form("/house/members/wren", wren, url.Values{"do": {"remove"}}); res.StatusCode != http.StatusConflict {
		t.Errorf("their own account: %s", res.Status)
	}
	if res, _ := h.form("/house/members/ilse", wren, url.Values{"do": {"sign-out"}}); res.StatusCode != http.StatusOK {
		t.Errorf("signing out: %s", res.Status)
	}
	if _, b := h.ask("GET", "/", "", "Cookie", ilse); !bytes.Contains(b, []byte("/sign-in")) {
		t.Error("ilse is still signed in")
	}
	if res, b := h.form("/house/members/ilse", wren, url.Values{"do": {"remove"}}); res.StatusCode != http.StatusOK ||
		!bytes.Contains(b, []byte("ilse has no account any more")) {
		t.Errorf("taking away: %s", res.Status)
	}
	if _, err := h.Store.Member(context.Background(), "ilse"); err != store.ErrNotFound {
		t.Errorf("ilse: %v", err)
	}
	// After ten minutes, or with a one-time code in place of a passkey, the password is asked for.
	cookie := h.comesIn("wren", "by the millpond")
	shared, _ := h.setUp(cookie, "by the millpond")
	res, b := h.form("/sign-in", "", url.Values{"name": {"wren"}, "password": {"by the millpond"}})
	ticket := ticketText.FindSubmatch(b)
	if ticket == nil {
		t.Fatalf("%s %s", res.Status, b)
	}
	res, _ = h.form("/sign-in/code", "", url.Values{"ticket": {string(ticket[1])},
		"code": {h.code(shared, 30*time.Second)}})
	by := ""
	for _, k := range res.Cookies() {
		if strings.Contains(k.Name, "session") {
			by = k.Name + "=" + k.Value
		}
	}
	h.add("ozan", allowance.Guest)
	if res, _ := h.form("/house/members/ozan", by, url.Values{"do": {"remove"}}); res.StatusCode != http.StatusForbidden {
		t.Errorf("without the password: %s", res.Status)
	}
	if res, _ := h.form("/house/members/ozan", by, url.Values{"do": {"remove"},
		"now": {"by the millpond"}}); res.StatusCode !=
		http.StatusOK {
		t.Errorf("with the password: %s", res.Status)
	}
}
