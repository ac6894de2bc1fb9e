package server

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/store"
)

// allow signs a child in who may watch so much.
func (h *house) allow(name string, a allowance.Allowance) store.Member {
	h.t.Helper()
	m := h.add(name, allowance.Child)
	m.Allowed = a
	if err := h.Store.EditMember(context.Background(), name, store.Edit{Allowed: &a}); err != nil {
		h.t.Fatal(err)
	}
	h.token = ""
	if _, h.token = h.signs(name, name+" by the millpond"); h.token == "" {
		h.t.Fatal("no sign-in")
	}
	return m
}

// hidden are the ways in which a film is not there for a child: each gives an allowance, and rules for
// the film, and what is answered otherwise than where the whole shelf is not there.
var hidden = map[string]struct {
	allowed allowance.Allowance
	rule    *bool
	age     *int // of the film
	others  map[string]int
}{
	"its shelf is not there": {allowed: allowance.Allowance{Shelves: []string{"series"}}},
	"it is for older ones":   {allowed: allowance.Allowance{Age: new(6)}, age: new(12), others: shelfThere},
	"its age is not known":   {allowed: allowance.Allowance{Age: new(6)}, others: shelfThere},
	"it is hidden by itself": {rule: new(false), others: shelfThere},
	"it is hidden, and of an age for all": {allowed: allowance.Allowance{Age: new(6)}, age: new(0), rule: new(false),
		others: shelfThere},
}

var shelfThere = map[string]int{"GET /api/v1/shelves/{shelf}/titles": 200, "GET /shelf/{shelf}": 200,
	"POST /api/v1/intake/{shelf}": 403, "HEAD /api/v1/intake/{shelf}/{upload}": 0,
	"PATCH /api/v1/intake/{shelf}/{upload}":  0,
	"DELETE /api/v1/intake/{shelf}/{upload}": 0}

// TestWhatMayNotBeSeenDoesNotExist asks each address for a film, as a child to whom it is not there. An
// address that is new has to be put into the table.
func TestWhatMayNotBeSeenDoesNotExist(t *testing.T) {
	for name, way := range hidden {
		t.Run(name, func(t *testing.T) {
			h := open(t)
			h.notThere(way.allowed, way.rule, way.age, way.others)
		})
	}
}

// notThere tries that a film is not there for a child of an allowance, and a rule for the film.
func (h *house) notThere(bounds allowance.Allowance, rule *bool, age *int, others map[string]int) {
	t, ctx := h.t, context.Background()
	t.Helper()
	film := h.fileCalled("Copper Kite")
	var whole struct{ Title int64 }
	if _, body := h.ask("GET", fmt.Sprintf("/api/v1/files/%d", film), ""); json.Unmarshal(body, &whole) != nil ||
		whole.Title == 0 {
		t.Fatalf("%s", body)
	}
	var made struct{ URL string }
	if _, body := h.ask("POST", fmt.Sprintf("/api/v1/files/%d/delivery", film),
		`{"device":"player"}`); json.Unmarshal(body,
		&made) != nil || made.URL == "" {
		t.Fatalf("%s", body)
	}
	d, err := h.Store.Described(ctx, whole.Title)
	if d.Age = age; err != nil || h.Store.Describe(ctx, whole.Title, d) != nil {
		t.Fatal(err)
	}
	// Something is for everybody.
	other, _, err := h.Store.FileOf(ctx, h.fileCalled("Tiny Harbour"), 0)
	if err != nil || h.Store.Describe(ctx, other.ID,
		store.Described{Description: describe.Description{Age: new(0)}}) != nil {
		t.Fatal(err)
	}
	m := h.allow("bram", bounds)
	hide := func(a allowance.Allowance, rule *bool) {
		t.Helper()
		if err := h.Store.EditMember(ctx, "bram", store.Edit{Allowed: &a}); err != nil {
			t.Fatal(err)
		}
		if err := h.Store.RuleTitles(ctx, m.ID, map[int64]*bool{whole.Title: rule}); err != nil {
			t.Fatal(err)
		}
	}
	hide(bounds, rule)
	number, title := fmt.Sprint(film), fmt.Sprint(whole.Title)
	fill := strings.NewReplacer("{file}", number, "{title}", title, "{shelf}", "films", "{n}", "0", "{name}", "x.srt",
		"{copy}",
		"1", "{upload}", "0123456789abcdef", "{stream}", "1", "{ticket}", strings.Split(made.URL, "/")[4], "{$}", "",
		"{room}", h.room(film))
	const gone = http.StatusNotFound
	want := map[string]int{
		"GET /healthz": 0, "GET /api/v1/openapi.json": 0, "POST /api/v1/pairing": 0, "POST /api/v1/token": 0,
		"POST /api/v1/sign-in": 0, "POST /api/v1/sign-out": 0, "GET /api/v1/me": 200,
		"OPTIONS /api/v1/intake/{shelf}": 0, // tells of the protocol only
		"GET /api/v1/shelves":            200, "GET /api/v1/shelves/{shelf}/titles": gone,
		"GET /api/v1/titles/{title}": gone,
		"GET /api/v1/search":         200, "GET /api/v1/files/{file}": gone, "GET /api/v1/files/{file}/content": gone,
		"PUT /api/v1/files/{file}/position": gone, "GET /api/v1/files/{file}/subtitles/{name}": gone,
		"POST /api/v1/files/{file}/delivery": gone, "GET /api/v1/files/{file}/prepared": gone,
		"POST /api/v1/files/{file}/prepared": gone,
		"POST /api/v1/files/{file}/plays":    gone, "POST /api/v1/files/{file}/together": gone,
		"GET /api/v1/together/{room}": gone, "PUT /api/v1/together/{room}": gone,
		"GET /api/v1/together/{room}/events": gone, "GET /together/{room}": gone,
		"GET /api/v1/files/{file}/sofa": gone, "PUT /api/v1/files/{file}/sofa": gone,
		"GET /api/v1/prepared/{copy}/content": gone,
		"GET /api/v1/streams/{ticket}/{name}": 0, // it is another's, and asked for below
		"POST /api/v1/intake/{shelf}":         gone, "HEAD /api/v1/intake/{shelf}/{upload}": gone,
		"PATCH /api/v1/intake/{shelf}/{upload}": gone, "DELETE /api/v1/intake/{shelf}/{upload}": gone,
		// Figures are one's own; what is for keys only is nobody's.
		"GET /api/v1/figures/now": 200, "GET /api/v1/figures/history": 200, "GET /api/v1/figures/top": 200,
		"GET /api/v1/figures/chart": 200, "GET /api/v1/figures/heat": 200, "GET /api/v1/figures/report": 200,
		"GET /api/v1/figures/forecast": gone,
		"GET /api/v1/figures/library":  http.StatusUnauthorized, "GET /metrics": http.StatusUnauthorized,
		"POST /api/v1/streams/{stream}/stop": http.StatusUnauthorized,
		// Pages.
		"GET /": 200, "GET /shelf/{shelf}": gone, "GET /find": 200, "GET /title/{title}": gone, "GET /play/{file}": gone,
		"GET /cover/{title}": gone, "GET /chapter/{file}/{n}": gone,
	}
	for _, route := range described(t) {
		if _, ok := want[route]; !ok {
			t.Errorf("%s is not in the table", route)
		}
	}
	for route, status := range want {
		if other, ok := others[route]; ok {
			status = other
		}
		if status == 0 {
			continue
		}
		method, path, _ := strings.Cut(fill.Replace(route), " ")
		body, headers := "", []string{"Tus-Resumable", "1.0.0", "Upload-Length", "10", "Upload-Offset", "0", "Content-Type",
			"application/offset+octet-stream", "Upload-Metadata", "filename YS5tcDQ="}
		if strings.HasSuffix(route, "/search") || route == "GET /find" {
			path += "?q=copper"
		}
		if strings.HasSuffix(route, "/top") {
			path += "?of=titles"
		}
		switch {
		case strings.HasSuffix(route, "/position"):
			body = `{"position":1,"state":"playing"}`
		case strings.Contains(route, "{room}") && method == "PUT":
			body = `{"playing":true,"position":1}`
		case method == "PUT":
			body = `{"members":[]}`
		case method == "POST" && !strings.Contains(route, "intake"):
			body = "{}"
		}
		if !strings.Contains(path, "/api/") {
			// Pages go by a cookie.
			headers = append(headers, "Cookie", h.cookie("bram"))
		}
		res, b := h.ask(method, path, body, headers...)
		if res.StatusCode != status || bytes.Contains(b, []byte("Copper")) {
			t.Errorf("%s: %s %.300s", route, res.Status, b)
		}
	}
	// Nor does it exist where the member had seen it before.
	if _, body := h.ask("GET", "/", "", "Cookie", h.cookie("bram")); !bytes.Contains(body, []byte("Tiny Harbour")) ||
		bytes.Contains(body, []byte("Copper")) || bytes.Contains(body, []byte("/shelf/films")) != (others != nil) {
		t.Errorf("the first page: %s", body)
	}
	shelves := func() (out []struct{ Name, Titles any }) {
		t.Helper()
		if _, body := h.ask("GET", "/api/v1/shelves", ""); json.Unmarshal(body, &out) != nil {
			t.Fatalf("%s", body)
		}
		return out
	}
	before := shelves()
	hide(allowance.Allowance{}, nil)
	if after := shelves(); fmt.Sprint(after) == fmt.Sprint(before) {
		t.Errorf("the figures of shelves count what is not there: %v", before)
	}
	if _, body := h.ask("POST", fmt.Sprintf("/api/v1/files/%d/delivery", film),
		`{"device":"player"}`); json.Unmarshal(body,
		&made) != nil || made.URL == "" {
		t.Fatalf("%s", body)
	}
	if res, _ := h.ask("GET", made.URL, ""); res.StatusCode != http.StatusOK {
		t.Fatalf("before: %s", res.Status)
	}
	hide(bounds, rule)
	if res, _ := h.ask("GET", made.URL, ""); res.StatusCode != gone {
		t.Errorf("an address from before gives %s", res.Status)
	}
	// A title that is shown by itself is there whatever its age, on a shelf that is.
	hide(bounds, new(true))
	want404 := others == nil
	if res, _ := h.ask("GET", fmt.Sprintf("/api/v1/files/%d", film), ""); (res.StatusCode == gone) != want404 {
		t.Errorf("shown by itself: %s", res.Status)
	}
}

// TestMayBringAndTake tries the two bounds that go by the role unless they are given.
func TestMayBringAndTake(t *testing.T) {
	h := open(t)
	film := h.fileCalled("Copper Kite")
	for _, c := range []struct {
		role   allowance.Role
		bound  *bool
		copies bool
	}{{allowance.Adult, nil, true}, {allowance.Adult, new(false), false}, {allowance.Child, nil, false},
		{allowance.Child, new(true), true}} {
		h.allow("bram", allowance.Allowance{Copies: c.bound, Bring: c.bound})
		if err := h.Store.EditMember(context.Background(), "bram", store.Edit{Role: &c.role}); err != nil {
			t.Fatal(err)
		}
		// Nothing converts here: whoever may have a copy gets another refusal.
		res, body := h.ask("POST", fmt.Sprintf("/api/v1/files/%d/prepared", film), "{}")
		if may := !bytes.Contains(body, []byte("you may not take copies along")); may != c.copies {
			t.Errorf("%s %v: %s %s", c.role, c.bound, res.Status, body)
		}
		res, body = h.ask("POST", "/api/v1/intake/films", "", "Tus-Resumable", "1.0.0", "Upload-Length", "10",
			"Upload-Metadata", "filename YS5tcDQ=")
		if may := !bytes.Contains(body, []byte("you may not bring")); may != c.copies {
			t.Errorf("bringing, %s %v: %s %s", c.role, c.bound, res.Status, body)
		}
		if err := h.Store.RemoveMember(context.Background(), "bram"); err != nil {
			t.Fatal(err)
		}
	}
}

// described lists the addresses of the API's description.
func described(t *testing.T) (out []string) {
	t.Helper()
	b, err := os.ReadFile("api/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var d struct {
		Paths map[string]map[string]json.RawMessage
	}
	if err := json.Unmarshal(b, &d); err != nil || len(d.Paths) < 10 {
		t.Fatal(err, len(d.Paths))
	}
	for path, methods := range d.Paths {
		for m := range methods {
			if m = strings.ToUpper(m); m != "PARAMETERS" {
				out = append(out, m+" "+path)
			}
		}
	}
	return out
}

// fetched fetches what may be cut off, and gives how much came.
func (h *house) fetched(path string) (status int, n int64) {
	h.t.Helper()
	r, err := http.NewRequest("GET", h.url+path, nil)
	if err != nil {
		h.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+h.token)
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		h.t.Fatal(err)
	}
	defer res.Body.Close()
	n, _ = io.Copy(io.Discard, res.Body) // that it is cut off is what is wanted
	return res.StatusCode, n
}

// cookie signs a member in on a page.
func (h *house) cookie(name string) string {
	h.t.Helper()
	c := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := c.Post(h.url+"/sign-in", "application/x-www-form-urlencoded", strings.NewReader("name="+name+
		"&password="+strings.ReplaceAll(name+" by the millpond", " ", "+")))
	if err != nil {
		h.t.Fatal(err)
	}
	defer res.Body.Close()
	for _, k := range res.Cookies() {
		if k.Value != "" {
			return k.Name + "=" + k.Value
		}
	}
	h.t.Fatalf("no cookie: %s", res.Status)
	return ""
}

// TestTimeThatIsUsedUpEndsWatching uses up a child's minutes while a film is being sent.
func TestTimeThatIsUsedUpEndsWatching(t *testing.T) {
	h := open(t)
	film := h.fileCalled("Copper Kite")
	if err := os.Truncate(h.pathOf(film), 1<<30); err != nil { // enough to fill all buffers
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); h.Allowances(ctx) }()
	m := h.allow("bram", allowance.Allowance{Day: 30})
	content := fmt.Sprintf("/api/v1/files/%d/content", film)
	r, _ := http.NewRequest("GET", h.url+content, nil)
	r.Header.Set("Authorization", "Bearer "+h.token)
	res, err := http.DefaultClient.Do(r)
	if err != nil || res.StatusCode != http.StatusOK {
		t.Fatal(res, err)
	}
	if _, err := io.CopyN(io.Discard, res.Body, 1<<20); err != nil {
		t.Fatal(err)
	}
	tell := func() (got struct {
		Allowed bool
		Until   time.Time `json:"allowed_until"`
		Reason  string    `json:"allowed_reason"`
	}) {
		t.Helper()
		res, body := h.ask("PUT", fmt.Sprintf("/api/v1/files/%d/position", film), `{"position":1,"state":"playing"}`)
		if err := json.Unmarshal(body, &got); err != nil || res.StatusCode != http.StatusOK {
			t.Fatalf("%s %s", res.Status, body)
		}
		return got
	}
	h.Charge(m.ID, allowance.Meter{Watched: 26 * time.Minute})
	if got, left := tell(), 0; !got.Allowed || got.Reason != "day" {
		t.Errorf("after 26 of 30 minutes: %+v", got)
	} else if left = int(time.Until(got.Until).Seconds()); left < 200 || left > 240 {
		t.Errorf("%d s are left", left)
	}
	h.Charge(m.ID, allowance.Meter{Watched: 4 * time.Minute})
	for began := time.Now(); h.Cuts.Count() > 0; time.Sleep(50 * time.Millisecond) {
		if time.Since(began) > 30*time.Second {
			t.Fatal("it is still being sent")
		}
	}
	if n, err := io.Copy(io.Discard, res.Body); err == nil {
		t.Errorf("all %d bytes more came", n)
	}
	res.Body.Close()
	if got := tell(); got.Allowed || got.Reason != "day" || !got.Until.After(time.Now()) {
		t.Errorf("afterwards: %+v", got)
	}
	for method, path := range map[string]string{"GET": content, "POST": fmt.Sprintf("/api/v1/files/%d/delivery", film)} {
		res, body := h.ask(method, path, "{}")
		if method == "GET" {
			res, body = h.ask(method, path, "")
		}
		if res.StatusCode != http.StatusForbidden || !bytes.Contains(body, []byte("tomorrow at 00:00")) ||
			res.Header.Get("Retry-After") == "" {
			t.Errorf("%s: %s %.200s", path, res.Status, body)
		}
	}
	if res, body := h.ask("GET", fmt.Sprintf("/play/%d", film), "", "Cookie", h.cookie("bram")); res.StatusCode !=
		http.StatusForbidden || !bytes.Contains(body, []byte("goes on tomorrow")) {
		t.Errorf("the page: %s %s", res.Status, body)
	}
	// What was watched is known after a restart, too.
	stop()
	<-done
	week, err := h.Store.WatchedWeek(context.Background(), m.ID, allowance.WeekOf(time.Now().In(h.Zone)))
	if err != nil || len(week) != 1 || week[0].Watched < 30*time.Minute || week[0].Fetched == 0 {
		t.Errorf("%+v, %v", week, err)
	}
	// One request for all of a long film gets no more, however fast it is.
	greedy := h.allow("ilse", allowance.Allowance{Day: 1})
	h.Charge(greedy.ID, allowance.Meter{Fetched: 11*time.Minute - 6*time.Second})
	if res, body := h.fetched(content); res != http.StatusOK || body > 600<<20 {
		t.Errorf("6 of the film's seconds were left, and %d bytes of %d came: %d", body, 1<<30, res)
	}
	// What is fetched far ahead counts, though nothing is told of it.
	other := h.allow("linnea", allowance.Allowance{Day: 30})
	h.Charge(other.ID, allowance.Meter{Fetched: 39 * time.Minute})
	if got := tell(); !got.Allowed {
		t.Errorf("39 minutes fetched, of 30 and 10 ahead: %+v", got)
	}
	h.Charge(other.ID, allowance.Meter{Fetched: 2 * time.Minute})
	if got := tell(); got.Allowed {
		t.Errorf("41 minutes fetched, of 30 and 10 ahead: %+v", got)
	}
}

// TestBoundsOfAMember tries those of streams, of pictures, and of the account itself.
func TestBoundsOfAMember(t *testing.T) {
	h := open(t)
	one, two := h.fileCalled("Copper Kite"), h.fileCalled("Paper Lighthouse")
	content := func(id int64) string { return fmt.Sprintf("/api/v1/files/%d/content", id) }
	h.allow("bram", allowance.Allowance{Streams: 1})
	for _, step := range []struct {
		file int64
		want int
	}{{one, 200}, {one, 200}, {two, 403}, {one, 200}} {
		if res, body := h.ask("GET", content(step.file), "", "Range", "bytes=0-99"); res.StatusCode != step.want &&
			res.StatusCode != http.StatusPartialContent || (step.want == 403) != (res.StatusCode == 403) {
			t.Errorf("%d: %s %.200s", step.file, res.Status, body)
		}
	}
	h.ask("PUT", fmt.Sprintf("/api/v1/files/%d/position", one), `{"position":1,"state":"stopped"}`)
	if res, body := h.ask("GET", content(two), "", "Range", "bytes=0-99"); res.StatusCode != http.StatusPartialContent {
		t.Errorf("after the first has ended: %s %.200s", res.Status, body)
	}
	h.allow("linnea", allowance.Allowance{Home: allowance.Size{Height: 100}})
	if res, body := h.ask("GET", content(one), ""); res.StatusCode != http.StatusForbidden {
		t.Errorf("a picture above the bound: %s %.100s", res.Status, body)
	}
	var plan struct {
		As      string
		Reasons []struct{ Code string }
	}
	// Nothing converts here, so it is refused; never is it sent as it is.
	if res, body := h.ask("POST", fmt.Sprintf("/api/v1/files/%d/delivery", one),
		"{}"); res.StatusCode != http.StatusConflict &&
		(json.Unmarshal(body, &plan) != nil || plan.As != "converted") {
		t.Errorf("a delivery above the bound: %s %s", res.Status, body)
	}
	// An account that ends does so at once, and cannot be signed in to.
	h.allow("piet", allowance.Allowance{Until: time.Now().Add(time.Hour)})
	if res, body := h.ask("GET", content(one), "", "Range", "bytes=0-9"); res.StatusCode != http.StatusPartialContent {
		t.Errorf("before the end: %s %s", res.Status, body)
	}
	over := allowance.Allowance{Until: time.Now().Add(-time.Second)}
	if err := h.Store.EditMember(context.Background(), "piet", store.Edit{Allowed: &over}); err != nil {
		t.Fatal(err)
	}
	if res, body := h.ask("GET", "/api/v1/me", ""); res.StatusCode != http.StatusForbidden ||
		!bytes.Contains(body, []byte("has ended")) {
		t.Errorf("after the end: %s %s", res.Status, body)
	}
	h.token = ""
	if status, token := h.signs("piet", "piet by the millpond"); status != http.StatusForbidden || token != "" {
		t.Errorf("signing in after the end: %d", status)
	}
}
