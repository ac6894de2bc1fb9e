package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/testbuild"
	"cozyshelf/test/browser"
)

// cinema is a household with a film that is repacked and one that is converted.
func cinema(t *testing.T) (m *mill, repacked, converted int64) {
	t.Helper()
	m = newMill(t, "process")
	m.must("deploy", "--yes")
	m.add(demo.Person{Name: "wren", Role: allowance.Admin})
	lines := filepath.Join(t.TempDir(), "lines.srt")
	if err := os.WriteFile(lines, []byte("1\n00:00:01,000 --> 00:00:19,000\nHet water staat laag\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	args := strings.Fields("-f lavfi -i " + moving + " -f lavfi -i " + humming + " -f lavfi -i sine=f=200:d=20 -i " +
		lines +
		" -map 0 -map 1 -map 2 -map 3 -preset ultrafast -pix_fmt yuv420p -metadata:s:a:0 language=dut " +
		"-metadata:s:a:1 language=eng -metadata:s:s:0 language=dut")
	repacked = m.film("Low Water (2014)", ".mkv", append(args, strings.Fields("-c:v libx264 -g 48 -c:a aac")...)...)
	converted = m.film("Cinder Lane (2012)", ".mkv", append(args,
		strings.Fields("-c:v libx265 -x265-params log-level=none -c:a ac3")...)...)
	for id, want := range map[int64]string{repacked: "repacked", converted: "converted"} {
		if d, status := m.deliver(id, "{}"); d.As != want {
			t.Fatalf("it is not %s: %d %+v", want, status, d)
		}
	}
	return m, repacked, converted
}

// heard starts a program that plays, as an account without powers, tells it something every half
// second, and gives what it says.
func heard(t *testing.T, tell func(said string) string, name string, args ...string) string {
	t.Helper()
	c := exec.Command("timeout", append([]string{"-k", "5", "120", name}, args...)...)
	home := t.TempDir()
	c.Env = append(os.Environ(), "HOME="+home, "XDG_RUNTIME_DIR="+home, "SDL_VIDEODRIVER=dummy", "SDL_AUDIODRIVER=dummy")
	if os.Getuid() == 0 { // some refuse to be root
		if err := os.Chown(home, 65534, 65534); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(filepath.Dir(home), 0o755); err != nil {
			t.Fatal(err)
		}
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	in, err := c.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out := &transcript{}
	c.Stdout, c.Stderr = out, out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	for {
		select {
		case err := <-ended:
			in.Close()
			if err != nil {
				t.Errorf("%s: %v", name, err)
			}
			return out.String()
		case <-time.After(500 * time.Millisecond):
			if tell != nil {
				fmt.Fprintln(in, tell(out.String())) // it may have ended, which is seen above
			}
		}
	}
}

// transcript is what a program says, while it says it.
type transcript struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (o *transcript) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.Write(b)
}

func (o *transcript) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return strings.ReplaceAll(o.b.String(), "\r", "\n")
}

// farthest is the largest number that a pattern finds.
func farthest(text, pattern string) (most float64) {
	for _, m := range regexp.MustCompile(pattern).FindAllStringSubmatch(text, -1) {
		if n, err := strconv.ParseFloat(m[1], 64); err == nil {
			most = max(most, n)
		}
	}
	return most
}

// TestRealClients has players that many have at home play both films: from the beginning, from the
// middle, and with another sound and subtitles.
func TestRealClients(t *testing.T) {
	t.Parallel()
	m, repacked, converted := cinema(t)
	need := func(t *testing.T, name string) string {
		p, err := exec.LookPath(name)
		if err != nil {
			testbuild.Missing(t, name)
		}
		return p
	}
	for what, id := range map[string]int64{"repacked": repacked, "converted": converted} {
		stream := func(t *testing.T) (film, texts string) {
			d := m.delivered(t, id, "{}")
			if len(d.Subtitles) != 1 {
				t.Fatalf("%+v", d)
			}
			return m.address() + d.URL, m.address() + d.Subtitles[0].URL
		}
		t.Run("VLC/"+what, func(t *testing.T) {
			address, _ := stream(t)
			const time = `(?m)^(?:> )?(\d+)$`
			told := 0
			out := heard(t, func(said string) string {
				at := farthest(said, time)
				switch {
				case told == 0 && at >= 1:
					told++
					return "seek 12\natrack\nstrack 3"
				case told == 1 && at >= 13:
					told++
					return "strack"
				case told == 2:
					return "quit"
				}
				return "get_time"
			}, need(t, "cvlc"), "-I",
				"oldrc", "--rc-fake-tty", "--no-dbus", "--vout=dummy", "--aout=dummy", "--quiet", address)
			if at := farthest(out, time); at < 13 || !strings.Contains(out, "English") ||
				!strings.Contains(out, "Dutch") || strings.Contains(out, "rror:") {
				t.Errorf("it came to %.0f s:\n%s", at, out)
			}
		})
		t.Run("GStreamer/"+what, func(t *testing.T) {
			// In one size: where it changes between two while it fills its buffer, on a machine that is
			// busy, GStreamer 1.22 was seen to wait for ever with all pieces there.
			able := `{"max_height":240}`
			if what == "repacked" {
				able = "{}"
			}
			d := m.delivered(t, id, able)
			if d.As != what {
				t.Fatalf("%+v", d)
			}
			out := heard(t, nil, need(t, "gst-play-1.0"), "--no-interactive", "--videosink=fakevideosink",
				"--audiosink=fakeaudiosink", "--start-position=12", m.address()+d.URL)
			if at := farthest(out, `0:00:(\d+\.\d)`); at < 19 || strings.Contains(out, "ERROR") ||
				!strings.Contains(out, "end of play list") {
				t.Errorf("it came to %.0f s:\n%s", at, out)
			}
		})
		t.Run("mpv/"+what, func(t *testing.T) {
			address, texts := stream(t)
			out := heard(t, nil, need(t, "mpv"), "--no-config", "--vo=null", "--ao=null", "--length=3", "--aid=2",
				"--sub-file="+texts, "--term-status-msg=at ${=time-pos} sound ${=aid} subtitles ${=sid}", address)
			if at := farthest(out, `at (\d+\.\d+) sound 2 subtitles 1`); at < 2.5 || at > 4 ||
				strings.Contains(out, "rrors when") {
				t.Errorf("it came to %.0f s:\n%s", at, out)
			}
		})
		t.Run("ffplay/"+what, func(t *testing.T) {
			address, _ := stream(t)
			out := heard(t, nil, need(t, "ffplay"), "-stats", "-autoexit", "-t", "3", address)
			if at := farthest(out, `(\d+\.\d+) A-V:`); at < 2.5 || at > 6 {
				t.Errorf("it came to %.0f s:\n%s", at, out)
			}
		})
	}
	// A player that opens Matroska gets the file, and seeks in it.
	t.Run("mpv/as it is", func(t *testing.T) {
		d := m.delivered(t, repacked, `{"device":"player"}`)
		if d.As != "as-it-is" {
			t.Fatalf("%+v", d)
		}
		out := heard(t, nil, need(t, "mpv"), "--no-config", "--vo=null", "--ao=null", "--start=12", "--length=3", "--sid=1",
			"--term-status-msg=at ${=time-pos} subtitles ${=sid}", m.address()+d.URL)
		if at := farthest(out, `at (\d+\.\d+) subtitles 1`); at < 14.5 || at > 16 {
			t.Errorf("it came to %.0f s:\n%s", at, out)
		}
	})
	t.Run("Firefox", func(t *testing.T) { inFirefox(t, m, map[string]int64{"Matroska": repacked, "AC-3": converted}) })
}

// inFirefox plays films on the page in Firefox, each for a reason that the page tells.
func inFirefox(t *testing.T, m *mill, films map[string]int64) {
	if browser.FindFirefox() == "" {
		testbuild.Missing(t, "firefox-esr")
	}
	f, err := browser.OpenFirefox()
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	step := func(what string, err error) {
		t.Helper()
		if err != nil {
			var seen json.RawMessage
			_ = f.Eval(`[location.href, document.body.innerText, document.querySelector("video")?.currentTime,
				document.querySelector("video")?.error?.message]`, &seen)
			t.Fatalf("%s: %v\n%s", what, err, seen)
		}
	}
	step("open", f.Go(m.address()+"/"))
	step("sign in", f.SignIn("wren", password("wren")))
	for why, id := range films {
		step("the page", f.Go(fmt.Sprintf("%s/play/%d", m.address(), id)))
		step("it says why", f.Until(fmt.Sprintf(`document.getElementById("how").textContent.includes(%q)`, why)))
		step("play", f.Eval(`document.querySelector("video").play().catch(() => {}), 1`, nil))
		step("it runs", f.Until(`document.querySelector("video").currentTime > 2`))
		step("seek", f.Eval(`document.querySelector("video").currentTime = 12`, nil))
		step("it runs on", f.Until(`document.querySelector("video").currentTime > 13.5`))
		step("subtitles", f.Eval(`(document.querySelector("video").textTracks[0].mode = "showing")`, nil))
		step("they are there", f.Until(`(document.querySelector("video").textTracks[0].cues || []).length === 1`))
		step("another sound", f.Eval(`(() => { const s = document.getElementById("sound"); s.value = "3";
			s.dispatchEvent(new Event("change")); })()`, nil))
		step("it goes on", f.Until(`document.querySelector("video").currentTime > 15`))
	}
}
