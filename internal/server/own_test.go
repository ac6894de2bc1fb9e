package server

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/store"
)

// TestMembersSeeToTheirOwnDevicesAndPassword tries a member's own corner, also on what is another's.
func TestMembersSeeToTheirOwnDevicesAndPassword(t *testing.T) {
	h := open(t)
	m := h.allow("bram", allowance.Allowance{Day: 60, Shelves: []string{"series"}})
	other := h.add("linnea", allowance.Child)
	here, there, theirs := h.cookie("bram"), h.cookie("bram"), h.cookie("linnea")
	in := func(cookie string) bool {
		h.t.Helper()
		res, _ := h.ask("GET", "/own", "", "Cookie", cookie)
		return res.StatusCode == http.StatusOK
	}
	h.token = ""
	if res, body := h.ask("GET", "/own", "", "Cookie", here); res.StatusCode != http.StatusOK ||
		!bytes.Contains(body, []byte("60 minutes a day")) || bytes.Count(body, []byte(`class="row"`)) != 3 ||
		!bytes.Contains(body, []byte("this one")) {
		t.Errorf("%s %s", res.Status, body)
	}
	list, err := h.Store.DevicesOf(context.Background(), other.ID, time.Now())
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	h.form(fmt.Sprintf("/own/devices/%d", list[0].ID), here, nil)
	if !in(theirs) {
		t.Error("a member has signed another one out")
	}
	h.form("/own/devices/others", here, nil)
	if in(there) || !in(here) {
		t.Errorf("the others are in: %v; this one: %v", in(there), in(here))
	}
	if left, err := h.Store.DevicesOf(context.Background(), m.ID, time.Now()); err != nil || len(left) != 1 {
		t.Errorf("%+v, %v", left, err)
	}
	there = h.cookie("bram")
	const before, after = "bram by the millpond", "the heron on the weir"
	for _, c := range []struct {
		now, one, two string
		status        int
		said          string
	}{{before, after, after + "s", 400, "not the same"}, {before, "short", "short", 400, "fewer than 12"},
		{"something else", after, after, 403, "not the password you have"}} {
		res, body := h.form("/own/password", here, url.Values{"now": {c.now}, "password": {c.one}, "again": {c.two}})
		if res.StatusCode != c.status || !bytes.Contains(body, []byte(c.said)) {
			t.Errorf("%v: %s %s", c, res.Status, body)
		}
	}
	if status, _ := h.signs("bram", before); status != http.StatusOK {
		t.Errorf("the password has changed: %d", status)
	}
	res, body := h.form("/own/password", here, url.Values{"now": {before}, "password": {after}, "again": {after}})
	fresh := ""
	for _, k := range res.Cookies() {
		if strings.Contains(k.Name, "session") {
			fresh = k.Name + "=" + k.Value
		}
	}
	if res.StatusCode != http.StatusOK || !bytes.Contains(body, []byte("new password")) || fresh == "" || !in(fresh) ||
		in(here) || in(there) {
		t.Errorf("%s: this one %v, as before %v, another %v", res.Status, in(fresh), in(here), in(there))
	}
	if status, _ := h.signs("bram", after); status != http.StatusOK {
		t.Errorf("with the new password: %d", status)
	}
	if status, _ := h.signs("bram", before); status != http.StatusUnauthorized {
		t.Errorf("with the one before: %d", status)
	}
	// Guesses at the one before are counted as at the door.
	wrong := 0
	for range 60 {
		res, _ := h.form("/own/password", fresh, url.Values{"now": {"a guess at it"}, "password": {before},
			"again": {before}})
		if res.StatusCode == http.StatusTooManyRequests {
			wrong++
		}
	}
	if wrong == 0 {
		t.Error("60 guesses were tried")
	}
}

// TestAnAdultAtHomeGrantsMore has others try, too.
func TestAnAdultAtHomeGrantsMore(t *testing.T) {
	h := open(t)
	film := fmt.Sprintf("/api/v1/files/%d/content", h.fileCalled("Copper Kite"))
	m := h.allow("bram", allowance.Allowance{Day: 10})
	child, token := h.cookie("bram"), h.token
	h.add("linnea", allowance.Child) // whose time has no bounds
	h.add("piet", allowance.Guest)
	h.add("ozan", allowance.Adult)
	guest, adult := h.cookie("piet"), h.cookie("ozan")
	watches := func() bool {
		h.t.Helper()
		h.token = token
		defer func() { h.token = "" }()
		res, _ := h.ask("GET", film, "", "Range", "bytes=0-9")
		return res.StatusCode == http.StatusPartialContent
	}
	if !watches() {
		t.Fatal("nothing can be watched")
	}
	h.Charge(m.ID, allowance.Meter{Watched: 10 * time.Minute})
	if watches() {
		t.Fatal("the minutes are not used up")
	}
	for who, cookie := range map[string]string{"a child": child, "a guest": guest} {
		if res, _ := h.form("/own/children/bram", cookie, nil); res.StatusCode != http.StatusForbidden || watches() {
			t.Errorf("%s grants more: %s", who, res.Status)
		}
		h.token = ""
		if _, body := h.ask("GET", "/own", "", "Cookie", cookie); bytes.Contains(body, []byte("minutes more")) {
			t.Errorf("%s is offered to grant more", who)
		}
	}
	for _, name := range []string{"linnea", "ozan", "nobody"} {
		if res, _ := h.form("/own/children/"+name, adult, nil); res.StatusCode != http.StatusNotFound {
			t.Errorf("more for %s: %s", name, res.Status)
		}
	}
	if _, body := h.ask("GET", "/own", "", "Cookie", adult); !bytes.Contains(body,
		[]byte("watch again tomorrow at 00:00")) {
		t.Errorf("an adult's page: %s", body)
	}
	if res, _ := h.form("/own/children/bram", adult, nil); res.StatusCode != http.StatusSeeOther || !watches() {
		t.Errorf("an adult grants more: %s, watches %v", res.Status, watches())
	}
	_, v, err := h.Standing(context.Background(), m)
	if left := time.Until(v.Until); err != nil || !v.OK || left > 30*time.Minute || left < 29*time.Minute {
		t.Errorf("%+v, %v", v, err)
	}
	// It holds after a restart, and ends.
	all, err := h.Store.Granted(context.Background(), time.Now())
	if err != nil || len(all) != 1 {
		t.Errorf("%v %v", all, err)
	}
	if later, err := h.Store.Granted(context.Background(), time.Now().Add(31*time.Minute)); err != nil || len(later) != 0 {
		t.Errorf("%v %v", later, err)
	}
	// Until the film ends: what is left of it, and two minutes.
	other := h.allow("ilse", allowance.Allowance{Day: 10})
	h.token = ""
	if res, _ := h.form("/own/children/ilse", adult, url.Values{"more": {"film"}}); res.StatusCode != http.StatusConflict {
		t.Errorf("the end of nothing: %s", res.Status)
	}
	if _, err := h.Store.BeginPlay(context.Background(), usage.Play{Member: "ilse", Title: "Copper Kite", From: 600,
		Duration: 5400}, 77, 1, time.Now()); err != nil {
		t.Fatal(err)
	}
	if _, body := h.ask("GET", "/own", "", "Cookie", adult); !bytes.Contains(body, []byte("Until Copper Kite ends")) {
		t.Error("the end of the film is not offered")
	}
	for _, fields := range []url.Values{{"more": {"film"}}, nil} { // half an hour after it takes nothing away
		if res, _ := h.form("/own/children/ilse", adult, fields); res.StatusCode != http.StatusSeeOther {
			t.Errorf("%v: %s", fields, res.Status)
		}
		all, err := h.Store.Granted(context.Background(), time.Now())
		if left := time.Until(all[other.ID]); err != nil || left > 82*time.Minute || left < 81*time.Minute {
			t.Errorf("%v: %s are left, %v", fields, left, err)
		}
	}
}

// TestANewDeviceIsTold has somebody sign in elsewhere, and carry a device about.
func TestANewDeviceIsTold(t *testing.T) {
	h := open(t)
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	from := func(address string) []string {
		return []string{"X-Forwarded-For", address, "X-Forwarded-Proto", "https"}
	}
	h.add("ozan", allowance.Adult)
	here := h.cookie("ozan")
	h.token = ""
	front := func() string {
		t.Helper()
		_, b := h.ask("GET", "/", "", "Cookie", here)
		_, rest, found := strings.Cut(string(b), "Signed in as you: ")
		if !found {
			return ""
		}
		said, _, _ := strings.Cut(rest, "</p>")
		return said
	}
	if said := front(); said != "" {
		t.Errorf("of the first device: %s", said)
	}
	res, b := h.ask("POST", "/api/v1/sign-in",
		`{"name":"ozan","password":"ozan by the millpond","device":"mill telephone"}`)
	var got struct{ Token string }
	if json.Unmarshal(b, &got) != nil || got.Token == "" {
		t.Fatalf("%s %s", res.Status, b)
	}
	if said := front(); !strings.Contains(said, "mill telephone") || !strings.Contains(said, "at home, from 127.0.0.1") {
		t.Errorf("of a second one: %q", said)
	}
	h.form("/own/devices/known", here, nil)
	if said := front(); said != "" {
		t.Errorf("after it is known: %s", said)
	}
	use := func(headers []string) {
		t.Helper()
		if res, b := h.ask("GET", "/api/v1/me", "", append(headers, "Authorization",
			"Bearer "+got.Token)...); res.StatusCode !=
			http.StatusOK {
			t.Fatalf("%s %s", res.Status, b)
		}
	}
	use(nil)
	if said := front(); said != "" {
		t.Errorf("at home again: %s", said)
	}
	for i, step := range []struct {
		address string
		told    bool
	}{{"203.0.113.9", true}, {"203.0.113.77", false}, {"198.51.100.4", true}, {"203.0.113.9", false}} {
		use(from(step.address))
		if said := front(); strings.Contains(said, "outside the home, from "+step.address) != step.told {
			t.Errorf("step %d, %s: %q", i, step.address, said)
		}
		h.form("/own/devices/known", here, nil)
	}
	if n := strings.Count(h.log.String(), "a device in a new network"); n != 2 {
		t.Errorf("the log tells of %d new networks", n)
	}
	m, err := h.Store.Member(context.Background(), "ozan")
	if err != nil {
		t.Fatal(err)
	}
	list, err := h.Store.DevicesOf(context.Background(), m.ID, time.Now())
	if err != nil || len(list) != 2 || !slices.ContainsFunc(list, func(d store.Device) bool {
		return d.Name == "mill telephone" && d.Away && d.Address == "203.0.113.9" && strings.Count(d.Networks, " ") == 1
	}) {
		t.Errorf("%+v, %v", list, err)
	}
}

// TestAdministratorsHearOfNewDevices has an administrator told of the devices of others, once they want to be.
func TestAdministratorsHearOfNewDevices(t *testing.T) {
	h := open(t)
	h.add("ozan", allowance.Adult)
	h.token = ""
	wren, ozan := h.comesIn("wren", "by the millpond"), h.comesIn("ozan", "ozan by the millpond")
	front := func(cookie string) string {
		t.Helper()
		_, b := h.ask("GET", "/", "", "Cookie", cookie)
		_, rest, _ := strings.Cut(string(b), "<b>ozan</b> on a new device")
		said, _, _ := strings.Cut(rest, "</p>")
		return said
	}
	if said := front(wren); said != "" {
		t.Errorf("unasked: %s", said)
	}
	time.Sleep(2 * time.Millisecond) // times are kept in milliseconds
	h.form("/own/hears", wren, url.Values{"hears": {"yes"}})
	h.form("/own/hears", ozan, url.Values{"hears": {"yes"}})
	if said := front(wren); said != "" {
		t.Errorf("of what was there before: %s", said)
	}
	time.Sleep(2 * time.Millisecond)
	h.ask("POST", "/api/v1/sign-in", `{"name":"ozan","password":"ozan by the millpond","device":"mill <telephone>"}`)
	h.ask("POST", "/api/v1/sign-in", `{"name":"wren","password":"by the millpond","device":"desk"}`)
	if said := front(wren); !strings.Contains(said, "mill &lt;telephone&gt;") || strings.Contains(said, "desk") {
		t.Errorf("of a new one: %q", said)
	}
	if said := front(ozan); said != "" {
		t.Errorf("an adult hears of others: %s", said)
	}
	time.Sleep(2 * time.Millisecond)
	h.form("/own/hears", wren, nil)
	if said := front(wren); said != "" {
		t.Errorf("the second time: %s", said)
	}
	h.form("/own/hears", wren, url.Values{"hears": {"no"}})
	h.ask("POST", "/api/v1/sign-in", `{"name":"ozan","password":"ozan by the millpond","device":"another"}`)
	if said := front(wren); said != "" {
		t.Errorf("unwished: %s", said)
	}
}
