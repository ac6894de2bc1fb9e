package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// chosen posts a password to an invite's link, and gives the status and the session.
func (h *house) chosen(token, password, again string, headers ...string) (int, string, []byte) {
	h.t.Helper()
	res, b := h.form(live.InvitePath+token, "", url.Values{"password": {password}, "again": {again}}, headers...)
	session := ""
	for _, k := range res.Cookies() {
		if strings.Contains(k.Name, "session") {
			session = k.Name + "=" + k.Value
		}
	}
	return res.StatusCode, session, b
}

func (h *house) invites(name string, expires time.Time, a allowance.Allowance) string {
	h.t.Helper()
	token := secret.Token()
	if err := h.Store.AddInvite(context.Background(), store.Invite{Member: store.Member{Name: name, Role: allowance.Child,
		Allowed: a}, Expires: expires}, token, time.Now()); err != nil {
		h.t.Fatal(err)
	}
	return token
}

func TestAnInviteIsGoodOnce(t *testing.T) {
	h := open(t)
	const password = "down by the millrace"
	token := h.invites("linnea", time.Now().Add(time.Hour), allowance.Allowance{Shelves: []string{"music"}})
	h.token = ""
	if res, b := h.ask("GET", live.InvitePath+token, ""); res.StatusCode != http.StatusOK || !bytes.Contains(b,
		[]byte("linnea, choose a password")) || bytes.Contains(b, []byte("/shelf/")) ||
		res.Header.Get("Referrer-Policy") != "no-referrer" {
		t.Errorf("%s %s", res.Status, b)
	}
	for said, p := range map[string][2]string{"not the same": {password, password + "s"},
		"fewer than 12": {"short", "short"},
		"name":          {"linnealinnea", "linnealinnea"}} {
		status, session, b := h.chosen(token, p[0], p[1])
		if status >= 500 || session != "" || !bytes.Contains(b, []byte(said)) {
			t.Errorf("%q: %d %s", p, status, b)
		}
	}
	// However many are at it at once, one comes in.
	var in atomic.Int32
	var sessions sync.Map
	var work sync.WaitGroup
	for range 12 {
		work.Go(func() {
			for range 40 {
				status, session, _ := h.chosen(token, password, password)
				if status == http.StatusSeeOther {
					in.Add(1)
					sessions.Store(session, true)
				}
				if status != http.StatusTooManyRequests {
					return
				}
				time.Sleep(20 * time.Millisecond)
			}
		})
	}
	work.Wait()
	if in.Load() != 1 {
		t.Fatalf("%d came in", in.Load())
	}
	sessions.Range(func(session, _ any) bool {
		if res, b := h.ask("GET", "/", "", "Cookie", session.(string)); res.StatusCode != http.StatusOK ||
			!bytes.Contains(b, []byte("/shelf/music")) || bytes.Contains(b, []byte("/shelf/films")) {
			t.Errorf("the page: %s", res.Status)
		}
		return true
	})
	if status, _ := h.signs("linnea", password); status != http.StatusOK {
		t.Errorf("signing in: %d", status)
	}
	if status, _, _ := h.chosen(token, password, password); status != http.StatusNotFound {
		t.Errorf("the second time: %d", status)
	}
	// The token is nowhere: not in the store, and not in the log.
	h.nowhere(token)
}

func TestInvitesEnd(t *testing.T) {
	h := open(t)
	const password = "down by the millrace"
	over := h.invites("bram", time.Now().Add(-time.Second), allowance.Allowance{})
	old := h.invites("piet", time.Now().Add(time.Hour), allowance.Allowance{})
	renewed := h.invites("piet", time.Now().Add(time.Hour), allowance.Allowance{})
	taken := h.invites("ilse", time.Now().Add(time.Hour), allowance.Allowance{})
	if err := h.Store.RemoveInvite(context.Background(), "Ilse"); err != nil {
		t.Fatal(err)
	}
	added := h.invites("ozan", time.Now().Add(time.Hour), allowance.Allowance{})
	h.add("ozan", allowance.Adult)
	for what, token := range map[string]string{"expired": over, "replaced": old, "taken back": taken,
		"of a member that is there by now": added, "none": "nothing", "long": strings.Repeat("x", 5000)} {
		if status, session, _ := h.chosen(token, password, password); status != http.StatusNotFound || session != "" {
			t.Errorf("%s: %d", what, status)
		}
	}
	// A child may not come in from outside, nor may anybody from another site's page.
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	if status, session, _ := h.chosen(renewed, password, password, "X-Forwarded-For", "203.0.113.9",
		"X-Forwarded-Proto", "https"); status != http.StatusForbidden || session != "" {
		t.Errorf("from outside: %d", status)
	}
	if status, session, _ := h.chosen(renewed, password, password, "Origin", "https://example.net", "Sec-Fetch-Site",
		"cross-site"); status != http.StatusForbidden || session != "" {
		t.Errorf("from another site: %d", status)
	}
	if status, session, _ := h.chosen(renewed, password, password); status != http.StatusSeeOther || session == "" {
		t.Errorf("the good one: %d", status)
	}
	// Nobody is invited as the first.
	for _, m := range []string{"piet", "ozan", "wren"} {
		if err := h.Store.RemoveMember(context.Background(), m); err != nil {
			t.Fatal(fmt.Errorf("%s: %w", m, err))
		}
	}
	err := h.Store.AddInvite(context.Background(), store.Invite{Member: store.Member{Name: "wren", Role: allowance.Admin},
		Expires: time.Now().Add(time.Hour)}, secret.Token(), time.Now())
	if !errors.Is(err, store.ErrNoMember) {
		t.Errorf("the first: %v", err)
	}
}
