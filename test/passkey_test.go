package test

import (
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestChromiumHoldsPasskeys has a browser make passkeys and sign in by them: on one's own page, and from an invite.
// A backup that goes to a household of another name tells what becomes of them.
func TestChromiumHoldsPasskeys(t *testing.T) {
	t.Parallel()
	m, b, _, step := signedIn(t)
	here := m.byPasskey(b, step)
	step("the house", b.Go(here+"/house"))
	step("is open", b.Until(`location.pathname == "/house" && document.querySelector("form[action='/house/invites']")`))
	if got := m.must("member", "show", "wren"); !strings.Contains(got, "telephone, for localhost, last used") {
		t.Errorf("member show: %s", got)
	}
	// An invite is taken by a passkey alone.
	link := regexp.MustCompile(`/invite/\S+`).FindString(m.must("member", "invite", "ilse", "--role", "adult"))
	step("the invite", b.Go(here+link))
	by := `document.querySelector("button[data-passkey^='/invite/']")`
	step("offers it", b.Until(by))
	step("take it", b.Eval(by+".click()", nil))
	step("it is ilse", b.Until(`document.querySelector("a[href='/own']") && document.querySelector("a[href='/own']").textContent == "ilse"`))
	if got := m.must("member", "show", "ilse"); !strings.Contains(got, "none: comes in by passkeys only") {
		t.Errorf("member show: %s", got)
	}
	if _, got, code := m.run("", "member", "edit", "ilse", "--forget-passkeys"); code != 2 ||
		!strings.Contains(got, "ilse has no password") {
		t.Errorf("forgetting the only way in: %d %s", code, got)
	}
	m.must("member", "edit", "wren", "--forget-passkeys")
	if got := m.must("member", "show", "wren"); strings.Contains(got, "telephone") {
		t.Errorf("member show: %s", got)
	}
	file := filepath.Join(m.dir, "b.tar.zst")
	m.must("backup", "--to", file)
	if got := m.must("restore", file, "--yes"); !strings.Contains(got, "1 passkey for localhost stay good") {
		t.Errorf("restore: %s", got)
	}
	step("open", b.Go(here+"/own"))
	if len(b.Said) > 0 {
		t.Logf("the page said %v", b.Said)
	}
}
