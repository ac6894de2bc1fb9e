package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/right"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/store"

	"github.com/prometheus/client_golang/prometheus/testutil/promlint"
)

// key makes a key, and gives its token.
func (h *house) key(name string, lasts time.Duration, away bool, may ...right.Right) string {
	h.t.Helper()
	token, _, err := h.NewKey(context.Background(), store.Key{Name: name, May: may, Away: away}, lasts)
	if err != nil {
		h.t.Fatal(err)
	}
	return token
}

// by asks with a key, and gives the status and what comes.
func (h *house) by(token, method, path, body string, headers ...string) (int, string) {
	h.t.Helper()
	res, b := h.ask(method, path, body, append([]string{"Authorization", "Bearer " + token}, headers...)...)
	return res.StatusCode, string(b)
}

// keyed are the addresses that keys ask, by the right that each needs.
var keyed = map[right.Right][]string{right.ReadFigures: {"GET /api/v1/figures/now", "GET /api/v1/figures/history",
	"GET /api/v1/figures/top?of=titles", "GET /api/v1/figures/top?of=genres",
	"GET /api/v1/figures/chart?by=week&of=plays", "GET /api/v1/figures/heat?of=watched", "GET /api/v1/figures/report",
	"GET /api/v1/figures/forecast", "GET /api/v1/figures/chart?of=library"},
	right.ReadLibrary: {"GET /api/v1/figures/library"}, right.ControlStreams: {"POST /api/v1/streams/999/stop"},
	right.Metrics: {"GET /metrics"}}

func TestAKeyMayWhatItWasGivenAndNothingElse(t *testing.T) {
	h := open(t)
	for _, may := range right.All {
		token := h.key(string(may), 0, false, may)
		for needs, routes := range keyed {
			for _, route := range routes {
				method, path, _ := strings.Cut(route, " ")
				status, body := h.by(token, method, path, "{}")
				want := http.StatusForbidden
				if needs == may {
					want = http.StatusOK
					if method == "POST" {
						want = http.StatusNotFound // that stream is over
					}
				}
				if method == "GET" {
					status, body = h.by(token, method, path, "")
				}
				if status != want {
					t.Errorf("%s with %s: %d %s", route, may, status, body)
				}
			}
		}
		// It is no member.
		for _, route := range described(t) {
			method, path, _ := strings.Cut(route, " ")
			if strings.Contains(path, "/figures/") || strings.HasSuffix(path, "/stop") || path == "/metrics" ||
				path == "/healthz" ||
				strings.HasSuffix(path, "openapi.json") || strings.Contains(path, "/sign-in") || strings.Contains(path,
				"/pairing") ||
				strings.Contains(path, "/token") || strings.Contains(path, "/streams/") || method == "OPTIONS" {
				continue
			}
			path = strings.NewReplacer("{shelf}", "films", "{title}", "1", "{file}", "1", "{name}", "x", "{copy}", "1",
				"{upload}",
				"0123456789abcdef", "{room}", "x").Replace(path)
			body := "{}"
			if method == "GET" || method == "HEAD" {
				body = ""
			}
			if status, said := h.by(token, method, path, body); status != http.StatusUnauthorized {
				t.Errorf("%s with a key: %d %s", route, status, said)
			}
		}
		for _, path := range []string{"/own", "/house", "/shelf/films"} {
			if status, said := h.by(token, "GET", path, ""); status != http.StatusUnauthorized {
				t.Errorf("%s with a key: %d %.80s", path, status, said)
			}
			if status, said := h.by("", "GET", path, "", "Cookie",
				"shelf_session="+token); status != http.StatusUnauthorized {
				t.Errorf("%s with a key as a cookie: %d %.80s", path, status, said)
			}
		}
	}
}

func TestKeysEndAndAreGoodAtHome(t *testing.T) {
	h := open(t)
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	ctx := context.Background()
	const from = "203.0.113.9"
	away := []string{"X-Forwarded-For", from, "X-Forwarded-Proto", "https"}
	home, everywhere := h.key("home", 0, false, right.ReadFigures), h.key("everywhere", time.Hour, true,
		right.ReadFigures)
	if status, body := h.by(home, "GET", "/api/v1/figures/now", "", away...); status != http.StatusForbidden {
		t.Errorf("%d %s", status, body)
	}
	if status, body := h.by(everywhere, "GET", "/api/v1/figures/now", "", away...); status != http.StatusOK {
		t.Errorf("%d %s", status, body)
	}
	list, err := h.Store.Keys(ctx)
	if err != nil || len(list) != 2 || list[0].Address != from || list[0].Used.IsZero() || !list[1].Used.IsZero() {
		t.Errorf("%+v, %v", list, err)
	}
	if _, err := h.Store.KeyOf(ctx, everywhere, time.Now().Add(2*time.Hour)); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("after its end: %v", err)
	}
	for _, none := range []string{"", "key_", "key_forged", home[:len(home)-1], home + "x", "key_" + strings.Repeat("x",
		5000),
		strings.ToUpper(home)} {
		if status, body := h.by(none, "GET", "/api/v1/figures/now", ""); status != http.StatusUnauthorized {
			t.Errorf("%.20q: %d %s", none, status, body)
		}
	}
	for _, bad := range []store.Key{{Name: "", May: right.All}, {Name: "no rights"}, {Name: "x\x1b[2J", May: right.All},
		{Name: "Home", May: right.All}, {Name: "a b", May: right.All}} {
		if _, _, err := h.NewKey(ctx, bad, 0); err == nil {
			t.Errorf("%q was made", bad.Name)
		}
	}
	if err := h.DropKey(ctx, "HOME"); err != nil {
		t.Error(err)
	}
	if status, _ := h.by(home, "GET", "/api/v1/figures/now", ""); status != http.StatusUnauthorized {
		t.Errorf("taken away: %d", status)
	}
	if err := h.DropKey(ctx, "home"); err == nil {
		t.Error("taken away twice")
	}
	for i := range store.MostKeys {
		if _, _, err := h.NewKey(ctx, store.Key{Name: fmt.Sprint("k", i), May: right.All},
			0); (err != nil) != (i == store.MostKeys-1) {
			t.Errorf("the key %d: %v", i, err)
		}
	}
	h.nowhere(everywhere)
}

// TestFiguresAreOnesOwn asks for figures as a key, as members, and for those of others.
func TestFiguresAreOnesOwn(t *testing.T) {
	h := open(t)
	ctx := context.Background()
	h.add("piet", allowance.Adult)
	now := time.Now()
	for i, who := range []string{"wren", "piet", "wren"} {
		p := usage.Play{Member: who, Shelf: "films", Title: "Copper Kite", Device: "telephone", Address: "192.0.2.44",
			Started: now.Add(time.Duration(i) * time.Second), Watched: 600, Duration: 1200, Position: 600,
			Delivery: "as-it-is"}
		p.Seen = p.Started.Add(10 * time.Minute)
		p.Ended = p.Seen
		if _, err := h.Store.TellPlay(ctx, p, int64(i), 1, h.fileCalled("Copper Kite")); err != nil {
			t.Fatal(err)
		}
	}
	key := h.key("automation", 0, false, right.ReadFigures)
	_, piet := h.signs("piet", "piet by the millpond")
	count := func(token, path string) int {
		t.Helper()
		status, body := h.by(token, "GET", path, "")
		var list []json.RawMessage
		if status != http.StatusOK || json.Unmarshal([]byte(body), &list) != nil {
			t.Fatalf("%s: %d %s", path, status, body)
		}
		if strings.Contains(body, "192.0.2.44") {
			t.Errorf("%s tells an address: %s", path, body)
		}
		return len(list)
	}
	since := "since=" + now.AddDate(0, -1, 0).UTC().Format(time.RFC3339)
	for path, want := range map[string][2]int{"history": {3, 1}, "history?limit=2": {2, 1}, "top?of=members": {2, 1},
		"top?of=titles&by=plays": {1, 1}, "now": {0, 0}, "history?member=piet": {1, 1}, "history?title=kite&" + since: {3,
			1}} {
		for i, token := range []string{key, piet} {
			if got := count(token, "/api/v1/figures/"+path); got != want[i] {
				t.Errorf("%s: %d of %d", path, got, want[i])
			}
		}
	}
	// An administrator without a second factor does not see to the house.
	if got := count(h.token, "/api/v1/figures/history"); got != 2 {
		t.Errorf("wren's own: %d", got)
	}
	if status, body := h.by(piet, "GET", "/api/v1/figures/history?member=wren", ""); status != http.StatusNotFound {
		t.Errorf("%d %s", status, body)
	}
	var columns []usage.Column
	status, body := h.by(key, "GET", "/api/v1/figures/chart?by=day&of=plays&split=member&"+since, "")
	if err := json.Unmarshal([]byte(body), &columns); err != nil || status != http.StatusOK {
		t.Fatalf("%d %s", status, body)
	}
	sum, wren := 0.0, 0.0
	for _, c := range columns {
		sum, wren = sum+c.Value, wren+c.Split["wren"]
	}
	if sum != 3 || wren != 2 {
		t.Errorf("%g plays, %g of wren: %s", sum, wren, body)
	}
	for _, bad := range []string{"top", "top?of=pets", "top?of=titles&by=luck", "top?of=titles&limit=0",
		"chart?by=heat", "chart?of=luck",
		"chart?split=luck", "history?since=yesterday", "history?after=777", "history?limit=-1", "history?delivery=luck"} {
		if status, body := h.by(key, "GET", "/api/v1/figures/"+bad, ""); status != http.StatusBadRequest {
			t.Errorf("%s: %d %s", bad, status, body)
		}
	}
}

// TestMeasurementsAreAsOthersReadThem holds them against the rules that promtool has.
func TestMeasurementsAreAsOthersReadThem(t *testing.T) {
	h := open(t)
	key := h.key("measurements", 0, false, right.Metrics)
	_, body := h.by(key, "GET", "/metrics", "")
	problems, err := promlint.New(strings.NewReader(body)).Lint()
	if err != nil || len(problems) > 0 {
		t.Errorf("%v, %v", problems, err)
	}
	for _, want := range []string{`cozyshelf_shelf_titles{shelf="films"} 6`, "cozyshelf_members 1", "cozyshelf_ready 1",
		`cozyshelf_streams{delivery="converted",where="away"} 0`, `cozyshelf_shelf_connected{shelf="music"} 1`,
		`cozyshelf_build_info{version="0.0.0-test"} 1`, "process_resident_memory_bytes"} {
		if !strings.Contains(body, want) {
			t.Errorf("there is no %s", want)
		}
	}
	_, body = h.by(key, "GET", "/metrics", "", "Accept", "application/openmetrics-text; version=1.0.0")
	if !strings.HasSuffix(body, "# EOF\n") {
		t.Errorf("no OpenMetrics: %.200s", body)
	}
}
