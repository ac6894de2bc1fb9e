package server

import (
	"bytes"
	"context"
	"encoding/xml"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"testing"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/store"
)

// TestWhatArrivesIsReadAtASecretAddress makes one, reads it as feed and calendar, bounds its member, changes it and
// takes it away.
func TestWhatArrivesIsReadAtASecretAddress(t *testing.T) {
	h := open(t)
	h.token = ""
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	ctx := context.Background()
	bram := h.add("bram", allowance.Child)
	cookie := h.comesIn("bram", "bram by the millpond")
	made := func() string {
		t.Helper()
		res, b := h.form("/own/feed", cookie, url.Values{})
		at := between(string(b), h.url, "/arrived.atom")
		if res.StatusCode != http.StatusOK || !strings.HasPrefix(at, "/feed/") {
			t.Fatalf("%s %s", res.Status, b)
		}
		return at
	}
	at := made()
	read := func(at string, headers ...string) (int, []string) {
		t.Helper()
		res, b := h.ask("GET", at+"/arrived.atom", "", headers...)
		calendar, c := h.ask("GET", at+"/arrived.ics", "", headers...)
		if res.StatusCode != calendar.StatusCode {
			t.Errorf("%s and %s", res.Status, calendar.Status)
		}
		var got struct {
			Entries []struct {
				Title string `xml:"title"`
				Link  struct {
					Href string `xml:"href,attr"`
				} `xml:"link"`
			} `xml:"entry"`
		}
		if res.StatusCode != http.StatusOK {
			return res.StatusCode, nil
		}
		if err := xml.Unmarshal(b, &got); err != nil || !strings.HasPrefix(res.Header.Get("Content-Type"),
			"application/atom+xml") {
			t.Fatalf("%v %s", err, b)
		}
		var titles []string
		for _, e := range got.Entries {
			titles = append(titles, e.Title)
			if !strings.HasPrefix(e.Link.Href, h.url+"/title/") {
				t.Errorf("%s", e.Link.Href)
			}
		}
		if n := bytes.Count(c, []byte("BEGIN:VEVENT")); n != len(titles) {
			t.Errorf("%d days, and %d entries", n, len(titles))
		}
		return res.StatusCode, titles
	}
	_, all := read(at)
	text := strings.Join(all, "\n")
	if !strings.Contains(text, "Copper Kite") || !strings.Contains(text, "Tiny Harbour: The Buoy") ||
		strings.Contains(text, "Ash") {
		t.Errorf("%s", text)
	}
	if page := h.at("/own", cookie); strings.Contains(page, at) || !strings.Contains(page, "You have secret addresses") {
		t.Error("it is shown twice, or not at all")
	}
	// What is not there for its member is not there.
	if err := h.Store.EditMember(ctx, "bram",
		store.Edit{Allowed: &allowance.Allowance{Shelves: []string{"music"}}}); err != nil {
		t.Fatal(err)
	}
	if _, some := read(at); len(some) == 0 || len(some) >= len(all) || strings.Contains(strings.Join(some, "\n"),
		"Copper Kite") {
		t.Errorf("%v", some)
	}
	if status, _ := read(at, from("203.0.113.9")...); status != http.StatusForbidden {
		t.Errorf("from outside: %d", status)
	}
	// It opens nothing else, and is kept as a hash.
	token := strings.TrimPrefix(at, "/feed/")
	if status, _ := h.by(token, "GET", "/api/v1/me", ""); status != http.StatusUnauthorized {
		t.Errorf("as a token: %d", status)
	}
	h.nowhere(token)
	other := made()
	if status, _ := read(at); status != http.StatusNotFound {
		t.Errorf("the one before: %d", status)
	}
	h.form("/own/feed", cookie, url.Values{"feed": {"none"}})
	for _, gone := range []string{other, "/feed/x", "/feed/" + strings.Repeat("x", 5000)} {
		if status, _ := read(gone); status != http.StatusNotFound {
			t.Errorf("%.40s: %d", gone, status)
		}
	}
	last := made()
	if err := h.Store.RemoveMember(ctx, bram.Name); err != nil {
		t.Fatal(err)
	}
	if status, _ := read(last); status != http.StatusNotFound {
		t.Errorf("of a member that is gone: %d", status)
	}
}
