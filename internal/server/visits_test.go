package server

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/netip"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/reach"
)

// TestVisitsAreAnnounced has strangers ask for what only the tool's visits are answered.
func TestVisitsAreAnnounced(t *testing.T) {
	h := open(t)
	h.token = ""
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	all := []string{"", "/data", "/events", "/patient"}
	nothing := func(what, token string) {
		t.Helper()
		for _, more := range all {
			if res, b := h.ask("GET", reach.VisitPath+token+more, ""); res.StatusCode != http.StatusNotFound {
				t.Errorf("%s%s: %s %.100s", what, more, res.Status, b)
			}
		}
		if res, _ := h.ask("PUT", reach.VisitPath+token+"/data", "x"); res.StatusCode != http.StatusNotFound {
			t.Errorf("%s, sent: %s", what, res.Status)
		}
	}
	nothing("before", "token")
	token := h.Visits.Announce(time.Now())
	nothing("another token", token+"x")
	nothing("no token", "x")
	if h.Visits.Seen(token) != nil {
		t.Error("seen before it came")
	}
	res, _ := h.ask("GET", reach.VisitPath+token, "", "X-Forwarded-For", "203.0.113.77, 198.51.100.4",
		"X-Forwarded-Proto", "https")
	got := h.Visits.Seen(token)
	if want := (reach.Arrival{Via: "127.0.0.1", Client: "198.51.100.4", Secure: true,
		Host:      strings.TrimPrefix(h.url, "http://"),
		Forwarded: 2}); res.StatusCode != http.StatusOK || got == nil || *got != want {
		t.Errorf("%s %+v", res.Status, got)
	}
	// The first question counts, not what comes after.
	h.ask("GET", reach.VisitPath+token, "")
	if again := h.Visits.Seen(token); *again != *got {
		t.Errorf("%+v", again)
	}
	data := reach.VisitData(token)
	if res, b := h.ask("GET", reach.VisitPath+token+"/data", "", "Range", "bytes=1000-1999"); res.StatusCode !=
		http.StatusPartialContent || !bytes.Equal(b, data[1000:2000]) {
		t.Errorf("a range: %s, %d bytes", res.Status, len(b))
	}
	if res, b := h.ask("PUT", reach.VisitPath+token+"/data", strings.Repeat("x", 17<<20)); res.StatusCode < 400 {
		t.Errorf("17 MiB: %s %s", res.Status, b)
	}
	var brought struct{ Bytes int64 }
	if _, b := h.ask("PUT", reach.VisitPath+token+"/data", "abc"); json.Unmarshal(b, &brought) != nil ||
		brought.Bytes != 3 {
		t.Errorf("3 bytes: %s", b)
	}
	// One that is refused is seen all the same, so that it can be said why.
	token = h.Visits.Announce(time.Now())
	if res, _ := h.ask("GET", reach.VisitPath+token, "", "X-Forwarded-For",
		"198.51.100.4"); res.StatusCode != http.StatusForbidden ||
		h.Visits.Seen(token) == nil || h.Visits.Seen(token).Secure {
		t.Errorf("plain HTTP from outside: %s %+v", res.Status, h.Visits.Seen(token))
	}
	old := h.Visits.Announce(time.Now().Add(-time.Hour))
	nothing("one that is over", old)
}
