package test

import (
	"fmt"
	"testing"
)

// TestTheMeterTellsWeakFromStrong types passwords into a form for a new one.
func TestTheMeterTellsWeakFromStrong(t *testing.T) {
	t.Parallel()
	m, b, _, step := signedIn(t)
	step("own page", b.Go(m.address()+"/own"))
	step("the meter", b.Until(`document.querySelector(".strength meter")`))
	order := []string{"Guessed soon", "Fair: one more word would make it good", "Good", "Strong"}
	for password, want := range map[string]int{
		"wrenwrenwrenwren": 0, "wren-wren-wren-2026": 0, "aaaaaaaaaaaaaaaa": 0, "abcdefghijklmnop": 0,
		"qwertzuiop123456": 0, "millpond millpond": 0, "Summertime1999!": 0, "millpond-lantern-4": 0,
		"millpond lantern otter": 1, "millpond lantern otter sourdough": 2, "Fähre Laterne Otter Sauerteig": 2,
		"millpond lantern otter sourdough ladder quince": 3, "k7#Vq9!zR2@mX5$wT8": 3,
	} {
		var got string
		step(password, b.Eval(fmt.Sprintf(`(() => {
			const f = document.querySelector("form[action='/own/password']").elements.password;
			f.value = %q; f.dispatchEvent(new Event("input"));
			return f.nextElementSibling.querySelector("output").textContent })()`, password), &got))
		if got != order[want] {
			t.Errorf("%s: %q, want %q", password, got, order[want])
		}
	}
	var got string
	step("a short one", b.Eval(`(() => { const f = document.querySelector("form[action='/own/password']").elements.password;
		f.value = "k7#Vq9!zR2"; f.dispatchEvent(new Event("input"));
		return f.nextElementSibling.textContent + document.querySelector(".strength meter").value })()`, &got))
	if got != "2 more characters34" {
		t.Errorf("a short one: %s", got)
	}
}
