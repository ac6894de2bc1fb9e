package passkey

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	"cozyshelf/internal/passkey/passkeytest"
)

func TestPlaces(t *testing.T) {
	for host, want := range map[string]Place{
		"shelf.example.net":      {"shelf.example.net", "https://shelf.example.net"},
		"Shelf.example.net:8443": {"shelf.example.net", "https://shelf.example.net:8443"},
		"mill.home.arpa:26990":   {"mill.home.arpa", "https://mill.home.arpa:26990"},
		"localhost:26990":        {"localhost", "https://localhost:26990"},
	} {
		if got, ok := PlaceOf(host, true); !ok || got != want {
			t.Errorf("%s: %+v %v", host, got, ok)
		}
	}
	for _, host := range []string{"192.0.2.7:26990", "192.0.2.7", "[2001:db8::7]:26990", "[2001:db8::7]", "", "mill."} {
		if got, ok := PlaceOf(host, true); ok {
			t.Errorf("%q: %+v", host, got)
		}
	}
	if _, ok := PlaceOf("shelf.example.net", false); ok {
		t.Error("over plain HTTP")
	}
	if got, ok := PlaceOf("localhost:26990", false); !ok || got.Origin != "http://localhost:26990" {
		t.Errorf("on the machine itself: %+v %v", got, ok)
	}
}

// made has an authenticator make a passkey, and gives what is kept of it.
func made(t *testing.T, p Place, a *passkeytest.Authenticator) (Made, error) {
	t.Helper()
	asked, session, err := p.New("Fernhollow Mill", Person{Handle: bytes.Repeat([]byte{7}, 32), Name: "wren"})
	if err != nil {
		t.Fatal(err)
	}
	answer, err := a.Make(asked, p.Origin)
	if err != nil {
		t.Fatal(err)
	}
	return p.Keep(session, answer)
}

func used(t *testing.T, p Place, a *passkeytest.Authenticator, m Made) (Used, error) {
	t.Helper()
	asked, session, err := p.Ask()
	if err != nil {
		t.Fatal(err)
	}
	answer, err := a.Use(asked, p.Origin)
	if err != nil {
		t.Fatal(err)
	}
	return p.Check(session, answer, func(id []byte) (Person, error) {
		if !bytes.Equal(id, m.Credential) {
			return Person{}, errors.New("nobody has it")
		}
		return Person{m.Handle, "wren", [][]byte{m.Record}}, nil
	})
}

var mill = Place{"mill.example.net", "https://mill.example.net"}

func TestAPasskeyIsMadeAndUsed(t *testing.T) {
	for _, counts := range []bool{false, true} {
		var a passkeytest.Authenticator
		m, err := made(t, mill, &a)
		if err != nil || !bytes.Equal(m.Credential, a.ID) || !bytes.Equal(m.Handle, a.Handle) {
			t.Fatalf("%+v %v", m, err)
		}
		if bytes.Contains(m.Record, []byte("clientData")) {
			t.Errorf("more is kept than is needed: %s", m.Record)
		}
		for range 3 {
			if counts {
				a.Count++
			}
			u, err := used(t, mill, &a, m)
			if err != nil {
				t.Fatal(err)
			}
			m.Record = u.Record
		}
		if counts {
			a.Count = 2 // as a copy would have it
			if _, err := used(t, mill, &a, m); !errors.Is(err, ErrCopied) {
				t.Errorf("a copy: %v", err)
			}
		}
	}
}

// wrongs are ways in which an authenticator, or whoever stands between, may be wrong.
var wrongs = map[string]func(*passkeytest.Authenticator){
	"its owner proved nothing": func(a *passkeytest.Authenticator) { a.Unverified = true },
	"nobody touched it":        func(a *passkeytest.Authenticator) { a.Absent = true },
	"another page":             func(a *passkeytest.Authenticator) { a.Origin = "https://mill.example.org" },
	"a page below":             func(a *passkeytest.Authenticator) { a.Origin = "https://a.mill.example.net" },
	"another port":             func(a *passkeytest.Authenticator) { a.Origin = "https://mill.example.net:444" },
	"plain HTTP":               func(a *passkeytest.Authenticator) { a.Origin = "http://mill.example.net" },
	"another name":             func(a *passkeytest.Authenticator) { a.For = "example.net" },
}

func TestWrongPasskeysAreRefused(t *testing.T) {
	var good passkeytest.Authenticator
	m, err := made(t, mill, &good)
	if err != nil {
		t.Fatal(err)
	}
	for what, spoil := range wrongs {
		var a passkeytest.Authenticator
		spoil(&a)
		if _, err := made(t, mill, &a); err == nil {
			t.Errorf("made although: %s", what)
		}
		a = good
		spoil(&a)
		if _, err := used(t, mill, &a, m); err == nil {
			t.Errorf("used although: %s", what)
		}
	}
	for what, spoil := range map[string]func(*passkeytest.Authenticator){
		"another key":    func(a *passkeytest.Authenticator) { a.Forged = true },
		"another person": func(a *passkeytest.Authenticator) { a.Handle = bytes.Repeat([]byte{8}, 32) },
		"unknown":        func(a *passkeytest.Authenticator) { a.ID = []byte("another") },
		"of nobody":      func(a *passkeytest.Authenticator) { a.Handle = nil },
	} {
		a := good
		spoil(&a)
		if _, err := used(t, mill, &a, m); err == nil {
			t.Errorf("used although: %s", what)
		}
	}
	// What was asked for one time is no answer to another.
	asked, _, err := mill.Ask()
	if err != nil {
		t.Fatal(err)
	}
	_, other, err := mill.Ask()
	if err != nil {
		t.Fatal(err)
	}
	answer, err := good.Use(asked, mill.Origin)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := mill.Check(other, answer, func([]byte) (Person, error) {
		return Person{m.Handle, "wren", [][]byte{m.Record}}, nil
	}); err == nil {
		t.Error("an answer to another question was taken")
	}
}

// FuzzAnswers sends what nobody's authenticator made.
func FuzzAnswers(f *testing.F) {
	var a passkeytest.Authenticator
	asked, session, err := mill.New("Fernhollow Mill", Person{Handle: []byte("handle"), Name: "wren"})
	if err != nil {
		f.Fatal(err)
	}
	first, err := a.Make(asked, mill.Origin)
	if err != nil {
		f.Fatal(err)
	}
	m, err := mill.Keep(session, first)
	if err != nil {
		f.Fatal(err)
	}
	_, asking, err := mill.Ask()
	if err != nil {
		f.Fatal(err)
	}
	for _, answer := range []string{string(first), strings.Replace(string(first), "attestationObject", "signature", 1),
		"{}", "",
		`{"id":"","rawId":"","type":"public-key","response":{}}`, "[1]", `{"rawId":7}`} {
		f.Add([]byte(answer))
	}
	f.Fuzz(func(t *testing.T, answer []byte) {
		if got, err := mill.Keep(session, answer); err == nil && !bytes.Equal(got.Handle, m.Handle) {
			t.Errorf("kept for %x", got.Handle)
		}
		if _, err := mill.Check(asking, answer, func([]byte) (Person, error) {
			return Person{m.Handle, "wren", [][]byte{m.Record}}, nil
		}); err == nil {
			t.Errorf("taken: %q", answer)
		}
	})
}
