package test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/testbuild"
	"cozyshelf/test/browser"
)

// unfit finds what does not fit a screen: what runs off its right side, what can be pressed and
// is smaller than 24 px (links within a sentence aside), and a header that takes too much.
const unfit = `(() => {
  const out = [], wide = document.documentElement.clientWidth;
  if (document.documentElement.scrollWidth > wide) out.push("the page is " + document.documentElement.scrollWidth + " px wide");
  const name = (e) => e.tagName.toLowerCase() + (e.className ? "." + e.className : "") + " " + (e.textContent || e.name || "").trim().slice(0, 30);
  for (const e of document.querySelectorAll("main *, header")) {
    const r = e.getBoundingClientRect();
    if (r.width && r.right > wide + 1 && !e.closest("nav, .chapters")) out.push("runs off the right: " + name(e));
  }
  for (const e of document.querySelectorAll("a, button, input:not([type=file]), audio, video")) {
    const r = e.getBoundingClientRect();
    if (!r.width || e.closest("p.fine")) continue;
    if (r.width < 24 || r.height < 24) out.push("too small (" + Math.round(r.width) + "×" + Math.round(r.height) + "): " + name(e));
  }
  const head = document.querySelector("header");
  if (head && head.getBoundingClientRect().height > 110) out.push("the header is " + head.getBoundingClientRect().height + " px high");
  return out.join("; ");
})()`

// signedIn is a household with a browser in which wren has signed in, and a film of it. step ends
// the test where something went wrong.
func signedIn(t *testing.T) (m *mill, b *browser.Browser, film demo.File, step func(what string, err error)) {
	t.Helper()
	if browser.Find() == "" {
		testbuild.Missing(t, "chromium")
	}
	m = newMill(t, "process")
	m.must("deploy", "--yes")
	m.add(demo.Person{Name: "wren", Role: allowance.Admin})
	film, err := m.viewer("wren").Find(context.Background(), "films", "The Paper Lighthouse", "")
	if err != nil {
		t.Fatal(err)
	}
	if b, err = browser.Open(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	step = func(what string, err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("%s: %v; the page said %v", what, err, b.Said)
		}
	}
	step("open", b.Go(m.address()+"/"))
	step("sign in", b.SignIn("wren", password("wren")))
	return m, b, film, step
}

// byPasskey signs wren in by a passkey that is made for it, so that the house can be seen to, and gives the address at
// which that is so.
func (m *mill) byPasskey(b *browser.Browser, step func(what string, err error)) (here string) {
	m.t.Helper()
	here = strings.Replace(m.address(), "127.0.0.1", "localhost", 1)
	step("an authenticator", b.Authenticate())
	step("by its name", b.Go(here+"/own"))
	step("sign in", b.SignIn("wren", password("wren")))
	step("own page", b.Go(here+"/own"))
	fill := `const f = document.querySelector("button[data-passkey='/own/passkeys']").form;
		f.elements.called.value = "telephone"; `
	step("another password", b.Eval(`(() => {`+fill+`f.elements.now.value = "not the password"; f.requestSubmit() })()`,
		nil))
	step("it is refused", b.Until(`document.body.textContent.includes("That is not the password you have")`))
	step("the password", b.Eval(`(() => {`+fill+`f.elements.now.value = "`+password("wren")+`"; f.requestSubmit() })()`,
		nil))
	step("it is there", b.Until(`[...document.querySelectorAll("li")].some(l => l.textContent.includes("telephone"))`))
	step("sign out", b.Eval(`document.querySelector("form[action='/sign-out'] button").click()`, nil))
	with := `document.querySelector("button[data-passkey='/sign-in/passkey']")`
	step("the door", b.Until(with))
	step("sign in with it", b.Eval(with+".click()", nil))
	step("it is wren", b.Until(`document.querySelector("a[href='/own']") && document.querySelector("a[href='/own']").textContent == "wren"`))
	return here
}

// TestPagesFitTelephonesAndScreens looks at each page at four widths.
func TestPagesFitTelephonesAndScreens(t *testing.T) {
	t.Parallel()
	m, b, film, step := signedIn(t)
	step("the title", b.Go(fmt.Sprintf("%s/play/%d", m.address(), film.ID)))
	var title string
	step("the title", b.Eval(`new URL(document.querySelector("h1 a").href).pathname`, &title))
	here := m.byPasskey(b, step)
	pages := []string{"/", "/shelf/films", "/shelf/series", "/find?q=the", "/own", "/own/figures", "/house",
		"/house/figures",
		"/house/members/wren", title, fmt.Sprintf("/play/%d", film.ID)}
	for _, width := range []int{360, 390, 768, 1280} {
		step("size", b.Size(width, 800))
		for _, page := range pages {
			step(page, b.Go(here+page))
			var wrong string
			step(page, b.Eval(unfit, &wrong))
			if wrong != "" {
				t.Errorf("at %d px, %s: %s", width, page, strings.ReplaceAll(wrong, "; ", "\n  "))
			}
		}
	}
}
