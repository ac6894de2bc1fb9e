package server

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// from are the headers of a request from outside, by way of a proxy.
func from(address string) []string {
	return []string{"X-Forwarded-For", address, "X-Forwarded-Proto", "https"}
}

// TestTheWayInIsClosedAtOnce closes it while a film and the events of a room are being sent outside and at home.
func TestTheWayInIsClosedAtOnce(t *testing.T) {
	h := open(t)
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	film := h.fileCalled("Copper Kite")
	room := h.room(film)
	if err := os.Truncate(h.pathOf(film), 1<<30); err != nil { // enough to fill all buffers
		t.Fatal(err)
	}
	type outcome struct {
		err  error
		took time.Duration
	}
	begun, ended := make(chan bool), make(chan outcome, 8)
	fetch := func(path string, headers ...string) {
		r, err := http.NewRequest("GET", h.url+path, nil)
		if err != nil {
			t.Error(err)
			return
		}
		r.Header.Set("Authorization", "Bearer "+h.token)
		for i := 0; i+1 < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		res, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Error(err)
			return
		}
		defer res.Body.Close()
		b := make([]byte, 10)
		if _, err := io.ReadFull(res.Body, b); err != nil {
			t.Errorf("%s: %s, %v", path, res.Status, err)
		}
		begun <- true
		at := time.Now()
		if strings.Contains(path, "/content") {
			time.Sleep(300 * time.Millisecond) // nothing is taken for a moment
		}
		_, err = io.Copy(io.Discard, res.Body)
		ended <- outcome{err, time.Since(at)}
	}
	content, events := fmt.Sprintf("/api/v1/files/%d/content", film), "/api/v1/together/"+room+"/events"
	go fetch(content, from("203.0.113.9")...)
	<-begun
	go fetch(events, from("203.0.113.9")...)
	<-begun
	if n, err := h.CloseOutside(true); err != nil || n != 2 {
		t.Errorf("%d, %v", n, err)
	}
	for range 2 {
		select {
		case o := <-ended:
			if o.err == nil {
				t.Error("it came to its end")
			}
		case <-time.After(5 * time.Second):
			t.Fatal("still being sent")
		}
	}
	for _, path := range []string{"/", "/sign-in", "/api/v1/me", "/healthz", content} {
		if res, b := h.ask("GET", path, "", from("203.0.113.9")...); res.StatusCode != http.StatusForbidden {
			t.Errorf("%s from outside: %s %s", path, res.Status, b)
		}
		if path == content {
			continue // a whole film
		}
		if res, _ := h.ask("GET", path, "", from("192.168.1.9")...); res.StatusCode == http.StatusForbidden {
			t.Errorf("%s at home: %s", path, res.Status)
		}
	}
	// It stays closed over a restart, whatever becomes of the note.
	for _, note := range []string{"", "rust"} {
		if note != "" {
			if err := os.WriteFile(h.Settings.State+"/outside-closed.json", []byte(note), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if again := live.New(h.Settings, "0.0.0-test", h.Log); again.OutsideClosed().IsZero() {
			t.Errorf("open after a restart, with %q", note)
		}
	}
	if err := h.OpenOutside(); err != nil {
		t.Fatal(err)
	}
	if res, b := h.ask("GET", "/api/v1/me", "", from("203.0.113.9")...); res.StatusCode != http.StatusOK {
		t.Errorf("opened: %s %s", res.Status, b)
	}
	if again := live.New(h.Settings, "0.0.0-test", h.Log); !again.OutsideClosed().IsZero() {
		t.Error("closed after a restart")
	}
}

func TestOnlySomeNetworksComeIn(t *testing.T) {
	h := open(t)
	for _, c := range []struct {
		allowed, refused []string
		open             map[string]bool
	}{
		{nil, []string{"203.0.113.0/24", "2001:db8::/32"}, map[string]bool{"203.0.113.9": false, "198.51.100.9": true,
			"2001:db8::9": false,
			"192.168.1.9": true, "::ffff:203.0.113.9": false}},
		{[]string{"198.51.100.0/24"}, []string{"198.51.100.7"}, map[string]bool{"198.51.100.9": true, "198.51.100.7": false,
			"203.0.113.9": false, "10.0.0.4": true, "2001:db8::9": false}},
	} {
		set := h.Settings
		set.AllowedNetworks, set.RefusedNetworks = c.allowed, c.refused
		s := live.New(set, "0.0.0-test", h.Log)
		for address, want := range c.open {
			a := netip.MustParseAddr(address).Unmap()
			v := &live.Visitor{Address: a, Away: !allowance.AtHome(a)}
			r, _ := http.NewRequestWithContext(context.Background(), "GET", "/", nil)
			_, over, err := s.FromOutside(nil, r, v)
			if (err == nil) != want {
				t.Errorf("%v %v: %s: %v", c.allowed, c.refused, address, err)
			}
			if err == nil {
				over()
			}
		}
	}
}

// TestANetworkOutsideIsLockedOut tries the names of members in turn, from one network and then from another.
func TestANetworkOutsideIsLockedOut(t *testing.T) {
	h := open(t)
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	h.token = ""
	h.Settings.SecondFactor = household.SecondNobody
	h.add("piet", allowance.Adult)
	locked := 0
	for i := range 40 {
		name := fmt.Sprint("m", i)
		if _, err := h.Store.AddMember(context.Background(), store.Member{Name: name, Role: allowance.Guest,
			Password: hashed("piet by the millpond")}, time.Now()); err != nil {
			t.Fatal(err)
		}
		status, _ := h.signs(name, "by the millrace", from("203.0.113.9")...)
		if status == http.StatusTooManyRequests {
			locked++
		}
	}
	if locked != 20 {
		t.Errorf("%d of 40 tries were locked out", locked)
	}
	if status, _ := h.signs("piet", "piet by the millpond",
		from("203.0.113.9")...); status != http.StatusTooManyRequests {
		t.Errorf("from the network that is locked out: %d", status)
	}
	if status, _ := h.signs("piet", "piet by the millpond", from("198.51.100.9")...); status != http.StatusOK {
		t.Errorf("from another: %d", status)
	}
	if status, _ := h.signs("piet", "piet by the millpond"); status != http.StatusOK {
		t.Errorf("at home: %d", status)
	}
}
