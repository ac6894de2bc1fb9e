package test

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/demo"
	"cozyshelf/test/browser"
)

// TestTwoBrowsersTogetherApart has two members watch the same film on two pages: what one does both do, and
// they stay at the same moment.
func TestTwoBrowsersTogetherApart(t *testing.T) {
	m, one, film, step := signedIn(t)
	m.add(demo.Person{Name: "ilse", Role: allowance.Adult})
	two, err := browser.Open()
	step("another browser", err)
	t.Cleanup(func() { two.Close() })
	step("open", two.Go(m.address()+"/"))
	step("sign in", two.SignIn("ilse", password("ilse")))
	step("the film", one.Go(fmt.Sprintf("%s/play/%d", m.address(), film.ID)))
	step("begin", one.Until(`document.querySelector("#together button") && !document.querySelector("#together").hidden`))
	step("a room", one.Eval(`document.querySelector("#together button").click()`, nil))
	step("its link", one.Until(`(document.querySelector("#together input") || {}).value`))
	var link string
	step("its link", one.Eval(`document.querySelector("#together input").value`, &link))
	if !strings.HasPrefix(link, m.address()+"/together/") {
		t.Fatalf("the link is %q", link)
	}
	step("join", two.Go(link))
	both := func(what, script string) {
		t.Helper()
		for name, b := range map[string]*browser.Browser{"one": one, "two": two} {
			if err := b.Until(script); err != nil {
				var how string
				_ = b.Eval(`(() => { const p = document.getElementById("player"); return [p.currentTime, p.paused, p.playbackRate, p.readyState, document.querySelector("#together").textContent].join(" ") })()`, &how)
				t.Fatalf("%s, page %s: %v (%s; %v)", what, name, err, how, b.Said)
			}
		}
	}
	both("both are there", `document.querySelector("#together").textContent.includes("ilse, wren")`)
	// apart is by how much the pages differ, each at its own moment of the same clock.
	apart := func() float64 {
		t.Helper()
		at := func(b *browser.Browser) float64 {
			var v []float64
			step("where it is", b.Eval(`[document.getElementById("player").currentTime, Date.now() / 1000]`, &v))
			return v[0] - v[1]
		}
		return math.Abs(at(one) - at(two))
	}
	together := func(what string) {
		t.Helper()
		var off float64
		for range 60 {
			if off = apart(); off < 0.2 {
				t.Logf("%s: %.3f s apart", what, off)
				return
			}
			time.Sleep(150 * time.Millisecond)
		}
		t.Errorf("%s: they stay %.2f s apart", what, off)
	}
	const plays = `!document.getElementById("player").paused && document.getElementById("player").currentTime > 0`
	step("play", one.Eval(`document.getElementById("player").play()`, nil))
	both("wren plays", plays)
	together("after play")
	step("pause", two.Eval(`document.getElementById("player").pause()`, nil))
	both("ilse pauses", `document.getElementById("player").paused`)
	step("seek", one.Eval(`document.getElementById("player").currentTime = 15`, nil))
	both("wren seeks", `Math.abs(document.getElementById("player").currentTime - 15) < 0.3 && document.getElementById("player").paused`)
	step("play", two.Eval(`document.getElementById("player").play()`, nil))
	both("ilse plays", plays+` && document.getElementById("player").currentTime > 15`)
	together("after a seek")
	if out := m.must("usage", "verify"); !strings.Contains(out, "Compared with the plays") {
		t.Errorf("%s", out)
	}
	// Each is a play of its own.
	if out := m.must("usage", "now"); !strings.Contains(out, "wren") || !strings.Contains(out, "ilse") {
		t.Errorf("streams now:\n%s", out)
	}
}
