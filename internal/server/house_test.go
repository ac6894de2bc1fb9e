package server

import (
	"bufio"
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

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/store"
)

// session signs a member in on a page, with a code where one is given.
func (h *house) session(name, password, code string, headers ...string) string {
	h.t.Helper()
	res, b := h.form("/sign-in", "", url.Values{"name": {name}, "password": {password}}, headers...)
	if ticket := ticketText.FindSubmatch(b); ticket != nil {
		res, _ = h.form("/sign-in/code", "", url.Values{"ticket": {string(ticket[1])}, "code": {code}}, headers...)
	}
	for _, k := range res.Cookies() {
		if strings.Contains(k.Name, "session") {
			return k.Name + "=" + k.Value
		}
	}
	h.t.Fatalf("%s comes not in: %s", name, res.Status)
	return ""
}

var houseLink = regexp.MustCompile(`translate="no">http[^<]*(/invite/[^<]+)<`)

func TestTheHouseIsSeenToByAdministrators(t *testing.T) {
	h, ctx := open(t), context.Background()
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	const password = "by the millpond"
	plain := h.session("wren", password, "")
	h.add("ozan", allowance.Adult)
	adult := h.session("ozan", "ozan by the millpond", "")
	film := h.fileCalled("Copper Kite")
	h.tell(film, 1, "playing") // wren, as a program
	token := h.token
	h.token = ""
	paths := map[string]string{"GET /house": "", "GET /house/now": "", "POST /house/streams/1": "says=x",
		"POST /house/invites":      "name=nora&role=child",
		"POST /house/invites/nora": "", "POST /house/shelves/films": "", "POST /house/titles/1": "take="}
	all := func(who, cookie string, want int, headers ...string) {
		t.Helper()
		for route, body := range paths {
			method, path, _ := strings.Cut(route, " ")
			res, b := h.ask(method, path, body, append(headers, "Cookie", cookie, "Content-Type",
				"application/x-www-form-urlencoded")...)
			if res.StatusCode != want || bytes.Contains(b, []byte("Copper")) {
				t.Errorf("%s: %s gives %s", who, route, res.Status)
			}
		}
	}
	all("a stranger", "", http.StatusUnauthorized)
	all("an adult", adult, http.StatusNotFound)
	all("an administrator without a second factor", plain, http.StatusForbidden)
	_, recoveries := h.setUp(plain, password)
	admin := h.session("wren", password, recoveries[0])
	away := []string{"X-Forwarded-For", "203.0.113.9", "X-Forwarded-Proto", "https"}
	outside := strings.Replace(admin, "shelf_session", "__Host-shelf_session", 1)
	all("an administrator away", outside, http.StatusForbidden, away...)
	h.Settings.Administration = household.AdminAnywhere
	if res, _ := h.ask("GET", "/house", "", append(away, "Cookie", outside)...); res.StatusCode != http.StatusOK {
		t.Errorf("where it is allowed from anywhere: %s", res.Status)
	}
	h.Settings.Administration = household.AdminNever
	all("where it is left to the tool", admin, http.StatusForbidden)
	h.Settings.Administration = household.AdminHome
	_, b := h.ask("GET", "/house", "", "Cookie", admin)
	for _, text := range []string{"wren: Copper Kite", "ozan", "films", "The Night Bakery S02E02 Ash.mp4"} {
		if !bytes.Contains(b, []byte(text)) {
			t.Errorf("the page does not tell %s", text)
		}
	}
	// An invite.
	res, b := h.form("/house/invites", admin, url.Values{"name": {"linnea"}, "role": {"child"}})
	link := houseLink.FindSubmatch(b)
	if res.StatusCode != http.StatusOK || link == nil || !bytes.Contains(b, []byte("<svg")) {
		t.Fatalf("%s %s", res.Status, b)
	}
	if res, b := h.ask("GET", string(link[1]), ""); res.StatusCode != http.StatusOK ||
		!bytes.Contains(b, []byte("linnea")) {
		t.Errorf("the link: %s", res.Status)
	}
	for _, bad := range []url.Values{{"name": {"wren"}, "role": {"child"}}, {"name": {"a b"}, "role": {"child"}},
		{"name": {"nora"}, "role": {"king"}}, {}} {
		if res, b := h.form("/house/invites", admin, bad); res.StatusCode != http.StatusBadRequest || houseLink.Match(b) {
			t.Errorf("%v: %s", bad, res.Status)
		}
	}
	h.form("/house/invites/linnea", admin, nil)
	if res, _ := h.ask("GET", string(link[1]), ""); res.StatusCode != http.StatusNotFound {
		t.Errorf("a link that was taken back: %s", res.Status)
	}
	// A title that several entries fit.
	title := h.titleOf(film)
	if err := h.Store.Describe(ctx, title, store.Described{Match: describe.Unclear, Looked: time.Now(),
		Candidates: []describe.Candidate{{ID: "wikidata Q900104", Name: "Copper Kite", Year: 2003}, {ID: "wikidata Q900190",
			Name: "Copper Kite", Year: 1957, Says: "A novel about a tin roof."}}}); err != nil {
		t.Fatal(err)
	}
	if _, b := h.ask("GET", "/house", "", "Cookie", admin); !bytes.Contains(b, []byte(`value="wikidata Q900190"`)) {
		t.Errorf("entries are not offered: %s", b)
	}
	if res, b := h.form(fmt.Sprintf("/house/titles/%d", title), admin,
		url.Values{"take": {"wikidata Q900104"}}); res.StatusCode !=
		http.StatusBadRequest || !bytes.Contains(b, []byte("catalogue of that name")) {
		t.Errorf("an entry where no catalogue may be asked: %s", res.Status)
	}
	if res, _ := h.form(fmt.Sprintf("/house/titles/%d", title), admin,
		url.Values{"take": {""}}); res.StatusCode != http.StatusSeeOther {
		t.Errorf("none of them: %s", res.Status)
	}
	if d, err := h.Store.Described(ctx, title); err != nil || d.Match != describe.None {
		t.Errorf("%+v, %v", d, err)
	}
	// A scan.
	scanning, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { defer close(done); h.ScanWanted(scanning) }()
	scanned := func() string {
		t.Helper()
		list, err := h.ShelfList(ctx)
		if err != nil {
			t.Fatal(err)
		}
		for _, sh := range list {
			if sh.Name == "films" {
				return fmt.Sprint(sh.Scanned)
			}
		}
		return ""
	}
	before := scanned()
	if res, b := h.form("/house/shelves/films", admin, nil); res.StatusCode != http.StatusOK ||
		!bytes.Contains(b, []byte("is being looked through")) {
		t.Errorf("a scan: %s", res.Status)
	}
	for began := time.Now(); scanned() == before; time.Sleep(10 * time.Millisecond) {
		if time.Since(began) > 20*time.Second {
			t.Fatal("the shelf was not looked through")
		}
	}
	stop()
	<-done
	h.isTold(admin, plays(t, h))
	// A stream is ended with a word, and stays so.
	if res, _ := h.form(fmt.Sprintf("/house/streams/%d", plays(t, h)[0].ID), admin,
		url.Values{"says": {"supper is ready"}}); res.StatusCode !=
		http.StatusSeeOther {
		t.Errorf("ending it: %s", res.Status)
	}
	h.token = token
	if res, b := h.ask("PUT", fmt.Sprintf("/api/v1/files/%d/position", film),
		`{"position":2,"state":"playing"}`); !bytes.Contains(b,
		[]byte(`"allowed":false`)) || !bytes.Contains(b, []byte("stopped")) {
		t.Errorf("its position: %s %s", res.Status, b)
	}
	if res, b := h.ask("GET", fmt.Sprintf("/api/v1/files/%d/content", film), ""); res.StatusCode != http.StatusForbidden ||
		!bytes.Contains(b, []byte("supper is ready")) || res.Header.Get("Retry-After") == "" {
		t.Errorf("the film: %s %s", res.Status, b)
	}
	if res, _ := h.ask("GET", fmt.Sprintf("/api/v1/files/%d/content", h.fileCalled("Paper Lighthouse")), "", "Range",
		"bytes=0-9"); res.StatusCode !=
		http.StatusPartialContent {
		t.Errorf("another film: %s", res.Status)
	}
	if res, _ := h.form("/house/streams/999999", admin, nil); res.StatusCode != http.StatusNotFound {
		t.Errorf("ending none: %s", res.Status)
	}
}

// plays gives the one stream that is running.
func plays(t *testing.T, h *house) []usage.Play {
	t.Helper()
	list, err := h.Store.Plays(context.Background(), usage.Filter{Open: true})
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	return list
}

// isTold has a page that stays open told how the house is.
func (h *house) isTold(cookie string, running []usage.Play) {
	h.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", h.url+"/house/now", nil)
	if err != nil {
		h.t.Fatal(err)
	}
	r.Header.Set("Cookie", cookie)
	res, err := http.DefaultClient.Do(r)
	if err != nil || res.Header.Get("Content-Type") != "text/event-stream" {
		h.t.Fatal(res, err)
	}
	defer res.Body.Close()
	var now struct {
		Today []struct {
			Text string
			Well bool
		}
		Streams []struct {
			ID      int64
			Who, At string
			Title   string
		}
	}
	for lines := bufio.NewScanner(res.Body); lines.Scan(); {
		if text, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			if err := json.Unmarshal([]byte(text), &now); err != nil {
				h.t.Fatal(err)
			}
			break
		}
	}
	if len(now.Today) != 5 || now.Today[0].Text != "wren watches Copper Kite" || len(now.Streams) != 1 ||
		now.Streams[0].ID != running[0].ID || now.Streams[0].Who != "wren" || !strings.Contains(now.Streams[0].At,
		"at home") {
		h.t.Errorf("%+v", now)
	}
}

// titleOf gives the title of a file.
func (h *house) titleOf(file int64) int64 {
	h.t.Helper()
	t, _, err := h.Store.FileOf(context.Background(), file, 0)
	if err != nil {
		h.t.Fatal(err)
	}
	return t.ID
}
