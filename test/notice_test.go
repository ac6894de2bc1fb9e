package test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/notify"
	"cozyshelf/internal/problem"
)

// heardOf is a message that came, and whether it was signed with a key.
type heardOf struct {
	kind, text string
	signed     map[string]bool
}

// doorbell takes webhooks, and looks by which of some keys they are signed.
type doorbell struct {
	*httptest.Server
	mu     sync.Mutex
	status int
	came   []heardOf
}

func newDoorbell(t *testing.T, keys ...string) *doorbell {
	d := &doorbell{status: 204}
	d.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body) // what is cut off fits no signature
		var e struct {
			Type string
			Data struct{ Text string }
		}
		_ = json.Unmarshal(body, &e) // a message that cannot be read has no type
		h := heardOf{kind: e.Type, text: e.Data.Text, signed: map[string]bool{}}
		var at int64
		fmt.Sscan(r.Header.Get("Webhook-Timestamp"), &at)
		for _, k := range keys {
			want, err := notify.Sign(k, r.Header.Get("Webhook-Id"), time.Unix(at, 0), body)
			h.signed[k] = err == nil && want == r.Header.Get("Webhook-Signature")
		}
		d.mu.Lock()
		defer d.mu.Unlock()
		if w.WriteHeader(d.status); d.status < 300 {
			d.came = append(d.came, h)
		}
	}))
	t.Cleanup(d.Close)
	return d
}

// find gives the last message of a kind.
func (d *doorbell) find(kind string) (out heardOf, found bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, h := range d.came {
		if h.kind == kind {
			out, found = h, true
		}
	}
	return out, found
}

// TestTheHouseholdIsToldOfWhatHappens has a webhook and a program on the host told, by deployed servers.
func TestTheHouseholdIsToldOfWhatHappens(t *testing.T) {
	t.Parallel()
	const first, second = "the first key of the doorbell", "the second key of the doorbell"
	engines(t, func(t *testing.T, engine string) {
		m, bell := newMill(t, engine), newDoorbell(t, first, second)
		write := func(name, text string, mode os.FileMode) string {
			t.Helper()
			p := m.path(name)
			if err := os.WriteFile(p, []byte(text), mode); err != nil {
				t.Fatal(err)
			}
			return p
		}
		m.edit(`network = "own"`, `network = "host"`) // from where this test can be reached
		m.section(fmt.Sprintf("[[notice]]\nname = \"house\"\nto = \"webhook\"\naddress = %q\nsecret = %q\n"+
			"[[notice]]\nname = \"bell\"\nto = \"program\"\nprogram = %q\nevents = [\"device-new\"]\n",
			bell.URL, m.path("house.key"), m.path("bell")))
		// Nothing is begun without the key, or with one that others may read.
		for _, do := range []func(){func() {}, func() { write("house.key", first+"\n", 0o644) }} {
			do()
			if out, errs, code := m.run("", "deploy", "--yes"); code != problem.ExitFound ||
				!strings.Contains(out+errs, "house.key cannot be used") {
				t.Fatalf("code %d\n%s%s", code, out, errs)
			}
		}
		if err := os.Remove(m.path("house.key")); err != nil {
			t.Fatal(err)
		}
		write("house.key", first+"\n", 0o600)
		write("bell", "#!/bin/sh\ncat >>"+m.path("rung")+"\n", 0o755)
		m.must("deploy", "--yes")
		m.must("notice", "test", "house")
		if h, ok := bell.find("cozyshelf.test"); !ok || !h.signed[first] {
			t.Errorf("%+v", bell.came)
		}
		// A secret that was changed counts after the next deploy, which has nothing else to do.
		write("house.key", second, 0o600)
		m.must("deploy", "--yes")
		m.add(demo.People[0])
		m.viewer(demo.People[0].Name)
		until(t, "a new device is told of", 20*time.Second, func() bool {
			_, ok := bell.find("cozyshelf.device-new")
			return ok
		})
		if h, _ := bell.find("cozyshelf.device-new"); !h.signed[second] || h.signed[first] ||
			!strings.Contains(h.text, demo.People[0].Name+" signed in on a new device, "+demo.People[0].Name+"'s tablet") {
			t.Errorf("%+v", h)
		}
		// The program is told by the tool, and what it took does not come again.
		for range 2 {
			m.must("notice", "run", "bell", "--once")
		}
		var rung struct{ Type string }
		if b, err := os.ReadFile(m.path("rung")); err != nil || json.Unmarshal(b, &rung) != nil ||
			rung.Type != "cozyshelf.device-new" {
			t.Errorf("%v %s", err, b)
		}
		// One that fails is told again later, and says why.
		write("bell", "#!/bin/sh\necho there is no bell >&2; exit 3\n", 0o755)
		m.viewer(demo.People[0].Name)
		until(t, "it waits", 20*time.Second, func() bool {
			var list []control.Receiver
			m.document(&list, "notice", "list")
			return len(list) == 2 && list[1].Waiting == 1
		})
		if _, errs, code := m.run("", "notice", "run", "bell", "--once"); code == 0 || !strings.Contains(errs,
			"there is no bell") {
			t.Errorf("code %d: %s", code, errs)
		}
		if out := m.must("notice", "list"); !strings.Contains(out, "there is no bell") || !strings.Contains(out,
			"tried again") {
			t.Error(out)
		}
		// What others could have written is not run.
		if err := os.Chmod(m.path("bell"), 0o777); err != nil {
			t.Fatal(err)
		}
		if _, errs, code := m.run("", "notice", "test", "bell"); code == 0 || !strings.Contains(errs, "bell") {
			t.Errorf("code %d: %s", code, errs)
		}
		// A receiver that fails keeps its notices over a restart.
		bell.mu.Lock()
		bell.status = 500
		bell.mu.Unlock()
		m.must("member", "password", demo.People[0].Name, "--generate")
		m.must("restart")
		if _, errs, code := m.run("", "notice", "test", "house"); code == 0 || !strings.Contains(errs, "500") {
			t.Errorf("code %d: %s", code, errs)
		}
		bell.mu.Lock()
		bell.status = 204
		bell.mu.Unlock()
		m.must("notice", "test", "house")
		until(t, "what waited has come", 20*time.Second, func() bool {
			_, ok := bell.find("cozyshelf.sign-in-changed")
			return ok
		})
		if _, errs, code := m.run("", "notice", "test", "nobody"); code != problem.ExitUsage || !strings.Contains(errs,
			"nobody") {
			t.Errorf("code %d: %s", code, errs)
		}
	})
}

// TestABrowserIsToldWhileNoPageIsOpen has a browser subscribe, and its worker show what it is told.
func TestABrowserIsToldWhileNoPageIsOpen(t *testing.T) {
	m, b, _, step := signedIn(t)
	here := strings.Replace(m.address(), "127.0.0.1", "localhost", 1)
	step("by its name", b.Go(here+"/own"))
	step("sign in", b.SignIn("wren", password("wren")))
	step("own page", b.Go(here+"/own"))
	var offered bool
	step("what it offers", b.Eval(`!!document.getElementById("told")`, &offered))
	if offered {
		t.Error("a household that tells no browser offers it")
	}
	m.section("[[notice]]\nname = \"browsers\"\nto = \"browser\"\n")
	m.must("deploy", "--yes")
	step("own page", b.Go(here+"/own"))
	step("allow", b.Allow(here))
	// No push service is reached from here, so what the browser would give is made here.
	step("it can", b.Until(`!document.querySelector("form[data-push] button").hidden`))
	step("its worker", b.Eval(`navigator.serviceWorker.register("/assets/worker.js")`, nil))
	b.Said = nil
	step("subscribe", b.Eval(`(async () => {
		const f = document.querySelector("form[data-push]");
		const text = (b) => btoa(String.fromCharCode(...new Uint8Array(b))).replace(/\+/g,
			"-").replace(/\//g, "_").replace(/=+$/, "");
		const pair = await crypto.subtle.generateKey({name: "ECDH", namedCurve: "P-256"}, true, ["deriveBits"]);
		f.elements.endpoint.value = "https://push.example.net/1";
		f.elements.key.value = text(await crypto.subtle.exportKey("raw", pair.publicKey));
		f.elements.secret.value = text(crypto.getRandomValues(new Uint8Array(16)));
		f.submit();
	})()`, nil))
	step("it is told", b.Until(`document.body.textContent.includes("It is told of what concerns you")`))
	const shown = `(async () => { const r = await navigator.serviceWorker.getRegistration("/assets/");
		window.shown = (await r.getNotifications()).map((n) => n.title + ": " + n.body).sort().join("; ") })()`
	for _, c := range []struct{ push, want string }{
		{`{"id": "1", "title": "Fernhollow Mill", "text": "The disk is nearly full."}`,
			"Fernhollow Mill: The disk is nearly full."},
		{`no JSON`, "Cozy Shelf: Something happened.; Fernhollow Mill: The disk is nearly full."},
	} {
		var got string
		for try := 0; try < 400 && got != c.want; try++ {
			if try%80 == 0 { // a worker that is just beginning or ending may lose one; the same id shows it once
				step("a push", b.Push(here, c.push))
			}
			time.Sleep(50 * time.Millisecond)
			step("what is shown", b.Eval(shown, nil))
			step("what is shown", b.Eval(`window.shown || ""`, &got))
		}
		if got != c.want {
			t.Errorf("after %s it shows %q, not %q", c.push, got, c.want)
		}
	}
	step("no longer", b.Eval(`document.querySelector("form[data-push] button").click()`, nil))
	step("no longer", b.Until(`document.body.textContent.includes("It can be told of what concerns you")`))
	for _, s := range b.Said {
		if !strings.Contains(s, "[DOM]") { // advice on forms
			t.Errorf("the page said %s", s)
		}
	}
}
