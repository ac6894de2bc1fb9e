package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/testbuild"
)

// delivered is what the API says of a delivery.
type delivered struct {
	As      string
	Picture struct {
		As, Codec, Way string
		Width, Height  int
	}
	Sound struct {
		As, Codec string
		Channels  int
	}
	Subtitles []struct{ As, Language, URL string }
	Reasons   []struct{ Code, Text string }
	URL       string
	// Of a problem.
	Problem, Why, Fix string
}

// film puts a film onto the shelf that ffmpeg makes, and gives its number.
func (m *mill) film(title, ending string, args ...string) int64 {
	m.t.Helper()
	if _, err := exec.LookPath("ffmpeg"); err != nil {
		testbuild.Missing(m.t, "ffmpeg")
	}
	name := m.path("media/films/" + title + "/" + title + ending)
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		m.t.Fatal(err)
	}
	out, err := exec.Command("ffmpeg", append(append([]string{"-nostdin", "-v", "error", "-y"}, args...), name)...).
		CombinedOutput()
	if err != nil {
		m.t.Fatalf("%v\n%s", err, out)
	}
	m.must("shelf", "scan", "films")
	var hits []struct {
		Title struct{ ID int64 }
	}
	_, body := m.get("GET", "/api/v1/search?q="+url.QueryEscape(strings.Fields(title)[0]), "", "Authorization",
		"Bearer "+m.token("wren"))
	if err := json.Unmarshal([]byte(body), &hits); err != nil || len(hits) == 0 {
		m.t.Fatalf("%s is not found: %v %s", title, err, body)
	}
	var whole struct {
		Files []struct{ ID int64 }
	}
	_, body = m.get("GET", fmt.Sprintf("/api/v1/titles/%d", hits[0].Title.ID), "", "Authorization",
		"Bearer "+m.token("wren"))
	if err := json.Unmarshal([]byte(body), &whole); err != nil || len(whole.Files) == 0 {
		m.t.Fatalf("%v %s", err, body)
	}
	return whole.Files[0].ID
}

// deliver asks how a file reaches a device.
func (m *mill) deliver(file int64, abilities string) (d delivered, status int) {
	m.t.Helper()
	return m.deliverTo(m.token("wren"), file, abilities)
}

// deliverTo asks it on a device that has signed in.
func (m *mill) deliverTo(token string, file int64, abilities string) (d delivered, status int) {
	m.t.Helper()
	resp, body := m.get("POST", fmt.Sprintf("/api/v1/files/%d/delivery", file), abilities, "Authorization",
		"Bearer "+token)
	if err := json.Unmarshal([]byte(body), &d); err != nil {
		m.t.Fatalf("%v: %s", err, body)
	}
	return d, resp.StatusCode
}

// delivered asks it as a viewer does: while the machine still converts for those before, again.
func (m *mill) delivered(t *testing.T, file int64, abilities string) (d delivered) {
	t.Helper()
	token := m.token("wren")
	until(t, "a delivery that is not refused", 2*time.Minute, func() bool {
		var status int
		d, status = m.deliverTo(token, file, abilities)
		if status != 200 && status != 409 {
			t.Fatalf("%d %+v", status, d)
		}
		return status == 200
	})
	return d
}

// fetchURL gets what lies at an address, with no token.
func fetchURL(t *testing.T, address string) ([]byte, *http.Response) {
	t.Helper()
	resp, err := http.Get(address)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	return b, resp
}

const (
	moving  = "testsrc2=s=640x360:r=24:d=20"
	humming = "aevalsrc=sin(2*PI*t*(300+20*t)):s=48000:d=20"
)

// TestRepacked has films that a browser does not open arrive in segments.
func TestRepacked(t *testing.T) {
	t.Parallel()
	m, b, _, step := signedIn(t)
	lines := filepath.Join(t.TempDir(), "lines.srt")
	if err := os.WriteFile(lines, []byte("1\n00:00:01,000 --> 00:00:04,000\nHet water staat laag\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	id := m.film("Low Water (2014)", ".mkv", "-f", "lavfi", "-i", moving, "-f", "lavfi", "-i", humming, "-f", "lavfi",
		"-i", "sine=f=200:d=20", "-i", lines, "-map", "0", "-map", "1", "-map", "2", "-map", "3", "-c:v", "libx264",
		"-preset", "ultrafast", "-g", "48", "-pix_fmt", "yuv420p", "-c:a", "aac", "-metadata:s:a:0", "language=dut",
		"-metadata:s:a:1", "language=eng", "-metadata:s:s:0", "language=dut")
	d, status := m.deliver(id, "{}")
	if status != http.StatusOK || d.As != "repacked" || d.Picture.As != "copied" || d.Sound.As != "copied" ||
		len(d.Reasons) == 0 || d.Reasons[0].Code != "container" || len(d.Subtitles) != 1 || d.Subtitles[0].As != "apart" {
		t.Fatalf("%d %+v", status, d)
	}
	checkStream(t, m.address()+d.URL)
	// ffmpeg, as a client, decodes what the file holds.
	file := m.path("media/films/Low Water (2014)/Low Water (2014).mkv")
	for _, stream := range []string{"0:v:0", "0:a:0"} {
		want, got := frameSums(t, file, stream), frameSums(t, m.address()+d.URL, stream)
		if len(want) < 400 || strings.Join(got, " ") != strings.Join(want, " ") {
			t.Errorf("%s: %d frames arrive, of %d", stream, len(got), len(want))
		}
	}
	text, _ := fetchURL(t, m.address()+d.Subtitles[0].URL)
	if !strings.Contains(string(text), " --> 00:00:04.0") || !strings.Contains(string(text), "\nHet water staat laag\n") {
		t.Errorf("the subtitles are %q", text)
	}
	// A browser plays it, by itself and by our player.
	page := fmt.Sprintf("%s/play/%d", m.address(), id)
	step("the page", b.Go(page))
	step("it says why", b.Until(`document.getElementById("how").textContent.includes("Matroska")`))
	step("play", b.Eval(`document.querySelector("video").play().catch(() => {}), 1`, nil))
	step("it runs", b.Until(`document.querySelector("video").currentTime > 2`))
	step("seek", b.Eval(`document.querySelector("video").currentTime = 15`, nil))
	step("it runs on", b.Until(`document.querySelector("video").currentTime > 16.5`))
	step("subtitles", b.Eval(`document.querySelector("video").textTracks[0].mode = "showing"`, nil))
	step("they are there", b.Until(`(document.querySelector("video").textTracks[0].cues || []).length === 1`))
	var now []usage.Play
	if m.document(&now, "usage", "now"); len(now) == 0 || now[0].Delivery != "repacked" || now[0].Bytes == 0 ||
		!strings.Contains(now[0].Why, "Matroska") {
		t.Errorf("now: %+v", now)
	}
	step("another sound", b.Eval(`(() => {
		const s = document.getElementById("sound");
		s.value = "3";
		s.dispatchEvent(new Event("change"));
	})()`, nil))
	step("it goes on", b.Until(`document.querySelector("video").currentTime > 17.5`))
	step("by itself", b.Eval(fmt.Sprintf(`(() => {
		const v = document.createElement("video");
		v.id = "native";
		v.muted = true;
		v.src = %q; document.body.append(v); v.play(); })()`, d.URL), nil))
	step("it runs", b.Until(`document.getElementById("native").currentTime > 1`))
	step("seek", b.Eval(`document.getElementById("native").currentTime = 14`, nil))
	step("it runs on", b.Until(`document.getElementById("native").currentTime > 15`))
	for _, s := range b.Said {
		t.Errorf("the page complained: %s", s)
	}
}

// TestTicketsAreSealed tries addresses that were changed, and those of a device that was signed out.
func TestTicketsAreSealed(t *testing.T) {
	t.Parallel()
	m, _, film, _ := signedIn(t)
	token := m.token("wren")
	d, status := m.deliverTo(token, film.ID, "{}")
	if status != http.StatusOK || d.As != "as-it-is" || !strings.HasSuffix(d.URL, "/film.mp4") {
		t.Fatalf("%d %+v", status, d)
	}
	if _, resp := fetchURL(t, m.address()+d.URL); resp.StatusCode != http.StatusOK {
		t.Errorf("the address gives %d", resp.StatusCode)
	}
	for _, bad := range []string{d.URL[:len(d.URL)-12] + "A" + d.URL[len(d.URL)-11:], "/api/v1/streams/x/main.m3u8",
		"/api/v1/streams/e30.AAAA/main.m3u8", strings.Replace(d.URL, "/streams/e", "/streams/f", 1)} {
		if _, resp := fetchURL(t, m.address()+bad); resp.StatusCode != http.StatusNotFound {
			t.Errorf("%s gives %d", bad, resp.StatusCode)
		}
	}
	for _, body := range []string{`{"device":"toaster"}`, `{"max_height":-1}`,
		`{"video":["` + strings.Repeat("x", 65) + `"]}`,
		`{"what":1}`, `{"video":[` + strings.Repeat(`"a",`, 70) + `"a"]}`} {
		if d, status := m.deliver(film.ID, body); status != http.StatusBadRequest || d.Fix == "" {
			t.Errorf("%.40s gives %d %+v", body, status, d)
		}
	}
	resp, _ := m.get("POST", "/api/v1/sign-out", "", "Authorization", "Bearer "+token)
	if resp.StatusCode != http.StatusOK {
		t.Fatal(resp.Status)
	}
	if _, resp := fetchURL(t, m.address()+d.URL); resp.StatusCode != http.StatusUnauthorized {
		t.Errorf("after signing out the address gives %d", resp.StatusCode)
	}
}

// frameSums gives what ffmpeg decodes.
func frameSums(t *testing.T, address, stream string) (out []string) {
	t.Helper()
	c := exec.Command("ffmpeg", "-nostdin", "-v", "error", "-i", address, "-map", stream, "-fps_mode", "passthrough", "-f",
		"framemd5", "-")
	var b, errs bytes.Buffer
	c.Stdout, c.Stderr = &b, &errs
	if err := c.Run(); err != nil {
		t.Fatalf("%v\n%s", err, errs.String())
	}
	for line := range strings.Lines(b.String()) {
		if f := strings.Split(line, ","); len(f) >= 6 && !strings.HasPrefix(f[2], " -") && !strings.HasPrefix(
			strings.TrimSpace(f[2]), "-") {
			out = append(out, strings.TrimSpace(f[5]))
		}
	}
	return out
}

var attribute = regexp.MustCompile(`([A-Z0-9-]+)=("[^"]*"|[^,]*)`)

// checkStream holds playlists and segments against RFC 8216 and ISO/IEC 23000-19, and gives how
// many segments there are.
func checkStream(t *testing.T, address string) (segments int) {
	t.Helper()
	base, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	b, resp := fetchURL(t, address)
	if resp.StatusCode != http.StatusOK || resp.Header.Get("Content-Type") != "application/vnd.apple.mpegurl" {
		t.Fatalf("the playlist: %d %s %s", resp.StatusCode, resp.Header.Get("Content-Type"), b)
	}
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	if lines[0] != "#EXTM3U" || lines[1] != "#EXT-X-VERSION:7" {
		t.Errorf("it begins with %q", lines[:2])
	}
	groups := map[string]bool{}
	variants := 0
	for i, line := range lines {
		a := map[string]string{}
		for _, m := range attribute.FindAllStringSubmatch(line, -1) {
			a[m[1]] = strings.Trim(m[2], `"`)
		}
		switch {
		case strings.HasPrefix(line, "#EXT-X-MEDIA:"):
			if a["TYPE"] == "" || a["GROUP-ID"] == "" || a["NAME"] == "" || a["URI"] == "" {
				t.Errorf("a rendition lacks what it must have: %s", line)
			}
			if key := a["GROUP-ID"] + "/" + a["NAME"]; groups[key] {
				t.Errorf("two renditions of a group have one name: %s", line)
			} else {
				groups[key] = true
			}
			segments += checkRendition(t, base, a["URI"], a["TYPE"])
		case strings.HasPrefix(line, "#EXT-X-STREAM-INF:"):
			variants++
			if n, err := strconv.Atoi(a["BANDWIDTH"]); err != nil || n < 1000 || a["CODECS"] == "" {
				t.Errorf("a variant lacks what it must have: %s", line)
			}
			segments += checkRendition(t, base, lines[i+1], "VIDEO")
		}
	}
	if variants == 0 {
		t.Errorf("there is no variant:\n%s", b)
	}
	return segments
}

func checkRendition(t *testing.T, base *url.URL, uri, kind string) (segments int) {
	t.Helper()
	at, err := base.Parse(uri)
	if err != nil {
		t.Fatal(err)
	}
	b, resp := fetchURL(t, at.String())
	if resp.StatusCode != http.StatusOK {
		t.Fatalf("%s: %d %s", uri, resp.StatusCode, b)
	}
	target, length, ended := 0.0, 0.0, false
	var scale uint32
	var end float64 // where the segment before ended
	empty := false  // it was the last with something in it
	for line := range strings.Lines(string(b)) {
		line = strings.TrimSpace(line)
		tag, value, _ := strings.Cut(line, ":")
		switch {
		case ended:
			t.Errorf("%s goes on behind its end: %s", uri, line)
		case tag == "#EXT-X-TARGETDURATION":
			target, _ = strconv.ParseFloat(value, 64)
		case tag == "#EXT-X-MAP":
			a := attribute.FindStringSubmatch(value)
			init, _ := fetchBelow(t, at, strings.Trim(a[2], `"`))
			scale = checkInit(t, init)
		case tag == "#EXTINF":
			length, _ = strconv.ParseFloat(strings.TrimSuffix(value, ","), 64)
			if length <= 0 || length > target+0.5 {
				t.Errorf("%s: a segment of %f s, though none has more than %f", uri, length, target)
			}
		case tag == "#EXT-X-ENDLIST":
			ended = true
		case !strings.HasPrefix(line, "#"):
			segments++
			body, _ := fetchBelow(t, at, line)
			if kind == "SUBTITLES" {
				if !strings.HasPrefix(string(body), "WEBVTT\nX-TIMESTAMP-MAP=") {
					t.Errorf("%s is %.60q", line, body)
				}
				continue
			}
			from, to, n := checkSegment(t, line, body, scale, kind == "VIDEO")
			if empty && n > 0 || n == 0 && segments == 1 {
				t.Errorf("%s: there is nothing in a segment before it, or in the first", line)
			}
			if empty = n == 0; empty {
				continue // behind the end of the track
			}
			if segments > 1 && (from-end > 0.0011 || end-from > 0.0011) {
				t.Errorf("%s begins at %.4f s, where the one before ended at %.4f", line, from, end)
			}
			end = to
		}
	}
	if !ended || target == 0 || segments == 0 {
		t.Errorf("%s is no whole playlist:\n%s", uri, b)
	}
	return segments
}

func fetchBelow(t *testing.T, at *url.URL, uri string) ([]byte, *http.Response) {
	t.Helper()
	address, err := at.Parse(uri)
	if err != nil {
		t.Fatal(err)
	}
	b, resp := fetchURL(t, address.String())
	if resp.StatusCode != http.StatusOK || resp.Header.Get("Content-Length") != strconv.Itoa(len(b)) {
		t.Fatalf("%s: %s, %s of %d bytes: %.200s", uri, resp.Status, resp.Header.Get("Content-Length"), len(b), b)
	}
	return b, resp
}

// TestConverted has films that nobody plays as they are made anew, and looks at what arrives.
func TestConverted(t *testing.T) {
	t.Parallel()
	m, b, _, step := signedIn(t)
	const plain = `{"video":["avc1.640028"],"audio":["mp4a.40.2"],"max_channels":2}`
	for _, c := range []struct {
		title, ending, args string
		picture, sound      string // what becomes of them
		width, height       int
		least               float64 // dB
	}{
		{"Brass Orchard (2011)", ".mkv", "-c:v libx264 -preset ultrafast -pix_fmt yuv420p -g 60 -c:a ac3", "copied",
			"converted", 640, 360, 90},
		{"Cinder Lane (2012)", ".mkv", "-c:v libx265 -preset ultrafast -x265-params log-level=none -c:a aac", "converted",
			"copied", 640, 360, 30},
		{"Dovetail (2013)", ".avi", "-c:v mpeg4 -q:v 2 -c:a mp3", "converted", "converted", 640, 360, 30},
		{"Fallow Bridge (2016)", ".mpg", "-vf scale=720:576,setsar=64/45 -r 25 -c:v mpeg2video -q:v 2 -c:a mp2", "converted",
			"converted", 1024, 576, 28},
		// Only ffprobe opens these.
		{"Gallows Hill Fair (2009)", ".wmv", "-c:v wmv2 -q:v 2 -c:a wmav2", "converted", "converted", 640, 360, 30},
		{"Harrow Lane (2006)", ".flv", "-c:v flv -q:v 2 -ar 44100 -c:a libmp3lame", "converted", "converted", 640, 360, 30},
	} {
		length := "6"
		if c.ending == ".avi" { // which is played to its ninth second
			length = "12"
		}
		id := m.film(c.title, c.ending, append([]string{"-f", "lavfi", "-i", moving, "-f", "lavfi", "-i", humming, "-t",
			length},
			strings.Fields(c.args)...)...)
		began := time.Now()
		d, status := m.deliver(id, plain)
		if status != http.StatusOK || d.As != "converted" || d.Picture.As != c.picture || d.Sound.As != c.sound ||
			d.Picture.Width != c.width || d.Picture.Height != c.height || len(d.Reasons) == 0 {
			t.Errorf("%s: %d %+v", c.title, status, d)
			continue
		}
		n := checkStream(t, m.address()+d.URL)
		t.Logf("%s", time.Since(began).Round(time.Millisecond))
		db := likeness(t, m.path("media/films/"+c.title+"/"+c.title+c.ending), m.address()+d.URL, c.width, c.height)
		t.Logf("%s: %d segments, %.1f dB, %s", c.title, n, db, time.Since(began).Round(time.Millisecond))
		if db < c.least {
			t.Errorf("%s: the picture is only like the film by %.1f dB", c.title, db)
		}
		if c.title == "Dovetail (2013)" {
			step("the page", b.Go(fmt.Sprintf("%s/play/%d", m.address(), id)))
			step("it says why", b.Until(`document.getElementById("how").textContent.includes("MPEG-4 Part 2")`))
			t.Logf("it said why after %s", time.Since(began).Round(time.Millisecond))
			step("play", b.Eval(`document.querySelector("video").play().catch(() => {}), 1`, nil))
			step("it runs", b.Until(`document.querySelector("video").currentTime > 2`))
			t.Logf("it ran after %s", time.Since(began).Round(time.Millisecond))
			step("seek", b.Eval(`document.querySelector("video").currentTime = 8`, nil))
			step("it runs on", b.Until(`document.querySelector("video").currentTime > 9`))
			t.Logf("the page took until %s", time.Since(began).Round(time.Millisecond))
		}
	}
	for _, s := range b.Said {
		t.Errorf("the page complained: %s", s)
	}
}

// likeness compares the picture of a stream with the film's, frame by frame, in dB (PSNR).
func likeness(t *testing.T, film, address string, w, h int) float64 {
	t.Helper()
	out, err := exec.Command("ffmpeg", "-nostdin", "-i", address, "-i", film, "-lavfi", fmt.Sprintf(
		"[0:v:0]scale=%d:%d,setsar=1,format=yuv420p,setpts=PTS-STARTPTS[a];[1:v:0]scale=%d:%d,setsar=1,format=yuv420p,"+
			"setpts=PTS-STARTPTS[b];[a][b]psnr=shortest=1", w, h, w, h), "-f", "null", "-").CombinedOutput()
	found := regexp.MustCompile(`average:(inf|[0-9.]+)`).FindSubmatch(out)
	if err != nil || found == nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if string(found[1]) == "inf" {
		return 100
	}
	db, err := strconv.ParseFloat(string(found[1]), 64)
	if err != nil {
		t.Fatal(err)
	}
	return db
}

// TestConvertedInAContainer has a film made anew by the ffmpeg of the image, into memory that is
// mounted there.
func TestConvertedInAContainer(t *testing.T) {
	t.Parallel()
	needsDocker(t)
	m := newMill(t, "docker")
	f, err := os.OpenFile(m.path("household.toml"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteString("\n[convert]\nwhen = \"needed\"\n"); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	m.must("deploy", "--yes")
	m.add(demo.Person{Name: "wren", Role: allowance.Admin})
	id := m.film("Cinder Lane (2012)", ".mkv", "-f", "lavfi", "-i", "testsrc2=s=320x180:r=24:d=8", "-f", "lavfi", "-i",
		"sine=d=8", "-c:v", "libx265", "-preset", "ultrafast", "-x265-params", "log-level=none", "-c:a", "ac3")
	d, status := m.deliver(id, "{}")
	if status != http.StatusOK || d.As != "converted" {
		t.Fatalf("%d %+v", status, d)
	}
	if n := checkStream(t, m.address()+d.URL); n < 6 {
		t.Errorf("there are %d segments", n)
	}
	// ffmpeg as a client may decode one twice where it changes between sizes.
	if got := frameSums(t, m.address()+d.URL, "0:v:0"); len(got) < 192 {
		t.Errorf("%d pictures arrive, of 192", len(got))
	}
}
