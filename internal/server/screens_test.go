package server

import (
	"bytes"
	"context"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"testing"

	"cozyshelf/internal/core/allowance"
)

// screen is a browser that keeps its cookies.
type screen struct {
	h       *house
	cookies map[string]string
}

func (s *screen) do(method, path string, fields url.Values, headers ...string) (int, string) {
	s.h.t.Helper()
	c := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	r, err := http.NewRequest(method, s.h.url+path, strings.NewReader(fields.Encode()))
	if err != nil {
		s.h.t.Fatal(err)
	}
	if method == "GET" {
		r, _ = http.NewRequest(method, s.h.url+path, nil)
	} else {
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for name, v := range s.cookies {
		r.AddCookie(&http.Cookie{Name: name, Value: v})
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	res, err := c.Do(r)
	if err != nil {
		s.h.t.Fatal(err)
	}
	defer res.Body.Close()
	for _, k := range res.Cookies() {
		if s.cookies[k.Name] = k.Value; k.MaxAge < 0 {
			delete(s.cookies, k.Name)
		}
	}
	var b bytes.Buffer
	_, _ = b.ReadFrom(res.Body)
	if to := res.Header.Get("Location"); to != "" {
		return res.StatusCode, to
	}
	return res.StatusCode, b.String()
}

// is gives who is signed in on it.
func (s *screen) is() string {
	s.h.t.Helper()
	_, b := s.do("GET", "/own", nil)
	_, rest, ok := strings.Cut(b, `<a href="/own" aria-current="page">`)
	if !ok {
		return ""
	}
	name, _, _ := strings.Cut(rest, "<")
	return name
}

// pick picks somebody, with a PIN unless it is empty.
func (s *screen) pick(name, pin string) int {
	s.h.t.Helper()
	f := url.Values{"name": {name}}
	if pin != "" {
		f.Set("pin", pin)
	}
	status, _ := s.do("POST", "/who", f)
	return status
}

func TestAScreenForSeveral(t *testing.T) {
	h := open(t)
	h.add("ozan", allowance.Adult)
	h.add("ilse", allowance.Adult)
	h.add("bram", allowance.Child)
	h.add("linnea", allowance.Child)
	h.add("piet", allowance.Guest)
	s := &screen{h, map[string]string{}}
	if status, _ := s.do("GET", "/who", nil); status != http.StatusNotFound {
		t.Errorf("on a device like any other: %d", status)
	}
	// A child cannot make one.
	s.do("POST", "/sign-in", url.Values{"name": {"bram"}, "password": {"bram by the millpond"}})
	if status, _ := s.do("POST", "/own/several", url.Values{"name": {"x"}}); status != http.StatusForbidden {
		t.Errorf("a child makes a screen: %d", status)
	}
	s.do("POST", "/sign-out", nil)
	s.do("POST", "/sign-in", url.Values{"name": {"ozan"}, "password": {"ozan by the millpond"}})
	for _, bad := range []url.Values{{"now": {"other"}, "pin": {"1234"}}, {"now": {"ozan by the millpond"}, "pin": {"12"}},
		{"now": {"ozan by the millpond"}, "pin": {"12ab"}}} {
		if status, _ := s.do("POST", "/own/pin", bad); status < 400 {
			t.Errorf("%v: %d", bad, status)
		}
	}
	if status, b := s.do("POST", "/own/pin", url.Values{"now": {"ozan by the millpond"},
		"pin": {"4711"}}); status != 200 ||
		!strings.Contains(b, "You have a PIN") {
		t.Errorf("a PIN: %d", status)
	}
	if status, to := s.do("POST", "/own/several", url.Values{"name": {"big screen"}}); status != http.StatusSeeOther ||
		to != "/who" {
		t.Errorf("an adult makes a screen: %d %s", status, to)
	}
	if s.is() != "" {
		t.Errorf("after it was made %s is signed in", s.is())
	}
	if status, to := s.do("GET", "/", nil); status != http.StatusSeeOther || to != "/who" {
		t.Errorf("the front door: %d %s", status, to)
	}
	if status, b := s.do("GET", "/?door=yes", nil); status != http.StatusOK || !strings.Contains(b, "Password") {
		t.Errorf("with a password all the same: %d", status)
	}
	_, b := s.do("GET", "/who", nil)
	for name, there := range map[string]bool{"ozan": true, "bram": true, "linnea": true, "piet": true, "ilse": false,
		"wren": false} {
		if strings.Contains(b, `value="`+name+`"`) != there {
			t.Errorf("%s can be picked: %v", name, !there)
		}
	}
	// Adults without a PIN cannot be picked, and others with theirs only.
	for _, name := range []string{"wren", "ilse", "nobody"} {
		if status := s.pick(name, "0000"); status != http.StatusNotFound || s.is() != "" {
			t.Errorf("%s: %d", name, status)
		}
	}
	if status := s.pick("ozan", ""); status != http.StatusOK || s.is() != "" {
		t.Errorf("ozan without a PIN: %d, %s", status, s.is())
	}
	if status := s.pick("ozan", "0000"); status != http.StatusForbidden || s.is() != "" {
		t.Errorf("ozan with another PIN: %d", status)
	}
	if status := s.pick("ozan", "4711"); status != http.StatusSeeOther || s.is() != "ozan" {
		t.Errorf("ozan with his PIN: %d, %s", status, s.is())
	}
	// From an adult's corner a child is picked freely; out of a child's corner it takes a PIN.
	if status, to := s.do("POST", "/sign-out", nil); to != "/who" || s.is() != "ozan" {
		t.Errorf("signing out: %d %s", status, to)
	}
	if status := s.pick("bram", ""); status != http.StatusSeeOther || s.is() != "bram" {
		t.Errorf("bram: %d, %s", status, s.is())
	}
	for _, path := range []string{"/sign-out", "/api/v1/sign-out"} {
		if s.do("POST", path, nil); s.is() != "bram" {
			t.Errorf("%s lets a child out", path)
		}
	}
	if status := s.pick("linnea", ""); status != http.StatusOK || s.is() != "bram" {
		t.Errorf("another child, without a PIN: %d, %s", status, s.is())
	}
	if status := s.pick("piet", "1111"); status != http.StatusForbidden || s.is() != "bram" {
		t.Errorf("a guest, with a wrong PIN: %d, %s", status, s.is())
	}
	if status := s.pick("linnea", "4711"); status != http.StatusSeeOther || s.is() != "linnea" {
		t.Errorf("another child, with a grown-up's PIN: %d, %s", status, s.is())
	}
	// PINs are not guessed.
	counted := map[int]int{}
	for range 40 {
		counted[s.pick("ozan", "2222")]++
	}
	if counted[http.StatusTooManyRequests] < 25 || s.is() != "linnea" {
		t.Errorf("40 guesses: %v", counted)
	}
	// Whoever guessed here locked ozan out nowhere else.
	if status, token := h.signs("ozan", "ozan by the millpond"); status != http.StatusOK || token == "" {
		t.Errorf("ozan at another door: %d", status)
	}
	// A screen is one at home only, and is forgotten with who is there.
	h.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	if status, _ := s.do("GET", "/who", nil, "X-Forwarded-For", "203.0.113.9", "X-Forwarded-Proto",
		"https"); status != http.StatusNotFound {
		t.Errorf("from outside: %d", status)
	}
	list, err := h.Store.Screens(context.Background())
	if err != nil || len(list) != 1 || list[0].Made != "ozan" || list[0].Name != "big screen" {
		t.Fatalf("%+v, %v", list, err)
	}
	o := &screen{h, map[string]string{}}
	o.do("POST", "/sign-in", url.Values{"name": {"bram"}, "password": {"bram by the millpond"}})
	if status, _ := o.do("POST", "/own/screens/1", nil); status != http.StatusNotFound {
		t.Errorf("a child forgets a screen: %d", status)
	}
	o = &screen{h, map[string]string{}}
	o.do("POST", "/sign-in", url.Values{"name": {"wren"}, "password": {"by the millpond"}})
	o.do("POST", "/own/screens/1", nil)
	if status, _ := s.do("GET", "/who", nil); status != http.StatusNotFound || s.is() != "" {
		t.Errorf("after it was forgotten: %d, %s", status, s.is())
	}
}
