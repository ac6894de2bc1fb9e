package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/demo"
)

// copied is a prepared copy, as the tool and the API tell of it.
type copied struct {
	ID                int64
	Title, State, For string
	Height            int
	Done, Length      float64
	Bytes             int64
	Problem, Why, URL string
	AskedBy           string `json:"asked_by"`
}

// TestPreparedCopies has a film prepared, kills the server in the midst, and plays, takes along and
// removes the copy.
func TestPreparedCopies(t *testing.T) {
	t.Parallel()
	m, b, _, step := signedIn(t)
	m.add(demo.Person{Name: "bram", Role: allowance.Child})
	subs := m.path("words.srt")
	if err := os.WriteFile(subs, []byte("1\n00:00:02,000 --> 00:00:05,000\nThe kites are out.\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	id := m.film("Dovetail (2013)", ".mkv", "-f", "lavfi", "-i", "testsrc2=s=854x480:r=24:d=40", "-f",
		"lavfi", "-i", "sine=d=40", "-i", subs, "-map", "0", "-map", "1", "-map", "2", "-c:v", "mpeg4", "-q:v", "4",
		"-c:a", "ac3", "-c:s", "srt", "-metadata:s:s:0", "language=nor", "-metadata:s:a:0", "language=nor")
	if err := os.WriteFile(m.path("media/films/Dovetail (2013)/Dovetail (2013).lv.srt"),
		[]byte("1\n00:00:07,000 --> 00:00:09,500\nPūķi ir gaisā.\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	m.must("shelf", "scan", "films")
	plain := `{"containers":["mp4"],"video":["avc1.640028"],"audio":["mp4a.40.2"],"subtitles":["webvtt"]}`
	if d, _ := m.deliver(id, plain); d.As != "converted" {
		t.Fatalf("it is %+v", d)
	}
	var list []copied
	m.document(&list, "prepare", "add", "dovetail", "--height", "240", "--for", "bram", "--now")
	if len(list) != 1 || list[0].For != "bram" || list[0].Bytes < 1<<18 {
		t.Fatalf("%+v", list)
	}
	number := list[0].ID
	grows := m.path(fmt.Sprintf("state/prepared/%d.picture", number))
	size := func() int64 {
		st, err := os.Stat(grows)
		if err != nil {
			return 0
		}
		return st.Size()
	}
	wait := func(what string, is func() bool) {
		t.Helper()
		for began := time.Now(); !is(); time.Sleep(100 * time.Millisecond) {
			if time.Since(began) > 3*time.Minute {
				t.Fatalf("it did not come about that %s", what)
			}
		}
	}
	wait("some of it is made", func() bool { return size() > 40_000 })
	if err := syscall.Kill(m.server(), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	had := size()
	m.must("start")
	wait("it has gone on", func() bool { return size() > had || size() == 0 })
	if n := size(); n != 0 && n < had/2 {
		t.Errorf("of %d bytes %d are left after the server was killed", had, n)
	}
	wait("it is ready", func() bool {
		m.document(&list, "prepare", "list")
		if len(list) == 1 && list[0].State == "failed" {
			t.Fatal(list[0].Problem)
		}
		return len(list) == 1 && list[0].State == "ready"
	})
	name := m.path(fmt.Sprintf("state/prepared/%d.mp4", number))
	out, err := exec.Command("ffprobe", "-v", "error", "-count_frames", "-show_entries",
		"stream=codec_name,codec_type,height,nb_read_frames:stream_tags=language", "-of", "json", name).Output()
	if err != nil {
		t.Fatal(err)
	}
	var seen struct {
		Streams []struct {
			Name   string `json:"codec_name"`
			Type   string `json:"codec_type"`
			Height int
			Frames string `json:"nb_read_frames"`
			Tags   struct{ Language string }
		}
	}
	if err := json.Unmarshal(out, &seen); err != nil || len(seen.Streams) != 4 {
		t.Fatalf("%v %s", err, out)
	}
	if v, a, s := seen.Streams[0], seen.Streams[1], seen.Streams[2]; v.Name != "h264" || v.Height != 240 ||
		v.Frames != "960" || a.Name != "aac" || s.Name != "mov_text" || s.Tags.Language != "nor" ||
		seen.Streams[3].Name != "mov_text" || seen.Streams[3].Tags.Language != "lav" {
		t.Errorf("%s", out)
	}
	words, err := exec.Command("ffmpeg", "-v", "error", "-i", name, "-map", "0:3", "-f", "srt", "-").Output()
	if err != nil || !strings.Contains(string(words), "00:00:07,000 --> 00:00:09,500\nPūķi ir gaisā.") {
		t.Errorf("the words beside the film: %v %s", err, words)
	}
	if db := likeness(t, m.path("media/films/Dovetail (2013)/Dovetail (2013).mkv"), name, 428, 240); db < 28 {
		t.Errorf("the copy is like the film by %.1f dB", db)
	}
	if left, _ := filepath.Glob(m.path("state/prepared/*")); len(left) != 1 || list[0].Bytes < 100_000 {
		t.Errorf("%v lie there; %+v", left, list[0])
	}

	// It is sent where else the film would be converted.
	d, _ := m.deliver(id, plain)
	if d.As != "as-it-is" || len(d.Reasons) != 1 || d.Reasons[0].Code != "prepared-copy" || d.Picture.Height != 240 {
		t.Errorf("%+v", d)
	}
	want, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	if got, resp := fetchURL(t, m.address()+d.URL); resp.StatusCode != http.StatusOK || string(got) != string(want) {
		t.Errorf("its address gives %s and %d bytes of %d", resp.Status, len(got), len(want))
	}
	if len(d.Subtitles) != 1 || d.Subtitles[0].URL == "" {
		t.Errorf("its subtitles: %+v", d.Subtitles)
	} else if words, _ := fetchURL(t, m.address()+d.Subtitles[0].URL); !strings.Contains(string(words),
		"The kites are out.") {
		t.Errorf("its subtitles are %s", words)
	}
	if d, _ := m.deliver(id, `{"lines":120}`); d.As != "converted" {
		t.Errorf("a smaller picture was wished for: %+v", d)
	}
	// A member takes it along in ranges, and may not ask for more.
	var own []copied
	bram := []string{"Authorization", "Bearer " + m.token("bram")}
	_, body := m.get("GET", fmt.Sprintf("/api/v1/files/%d/prepared", id), "", bram...)
	if err := json.Unmarshal([]byte(body), &own); err != nil || len(own) != 1 || own[0].URL == "" {
		t.Fatalf("%v %s", err, body)
	}
	resp, body := m.get("GET", own[0].URL, "", append(bram, "Range", "bytes=1000-1999")...)
	if resp.StatusCode != http.StatusPartialContent || body != string(want[1000:2000]) {
		t.Errorf("a range gives %s and %d bytes", resp.Status, len(body))
	}
	if resp, _ := m.get("GET", own[0].URL, ""); resp.StatusCode != http.StatusUnauthorized {
		t.Errorf("a stranger gets %s", resp.Status)
	}
	resp, _ = m.get("POST", fmt.Sprintf("/api/v1/files/%d/prepared", id), `{"height":240}`, bram...)
	if resp.StatusCode != http.StatusForbidden {
		t.Errorf("a child asks for a copy, and gets %s", resp.Status)
	}
	// A member asks on the page; it waits for the night.
	_, body = m.get("GET", fmt.Sprintf("/api/v1/files/%d", id), "", "Authorization", "Bearer "+m.token("wren"))
	var file struct{ Title int64 }
	if err := json.Unmarshal([]byte(body), &file); err != nil {
		t.Fatal(err)
	}
	step("the page", b.Go(fmt.Sprintf("%s/play/%d", m.address(), id)))
	step("it says that it is a copy", b.Until(`document.getElementById("how").textContent.includes("copy of 240 lines")`))
	step("play", b.Eval(`document.querySelector("video").play().catch(() => {}), 1`, nil))
	step("it runs", b.Until(`document.querySelector("video").currentTime > 1`))
	step("the title", b.Go(fmt.Sprintf("%s/title/%d", m.address(), file.Title)))
	step("the copy is there", b.Until(`document.querySelector(".copies a[download]") !== null`))
	m.document(&list, "prepare", "cancel", fmt.Sprint(number))
	step("the title again", b.Go(fmt.Sprintf("%s/title/%d", m.address(), file.Title)))
	step("ask", b.Eval(`document.querySelector(".copies button").click(), 1`, nil))
	step("it waits", b.Until(`document.querySelector(".copies").textContent.includes("waiting for quiet hours")`))
	if m.document(&list, "prepare", "list"); len(list) != 1 || list[0].AskedBy != "wren" || list[0].State != "waiting" &&
		list[0].State != "making" {
		t.Errorf("%+v", list)
	}
	m.document(&list, "prepare", "cancel", fmt.Sprint(list[0].ID))
	if left, _ := filepath.Glob(m.path("state/prepared/*.mp4")); len(left) != 0 {
		t.Errorf("%v are left", left)
	}
	if resp, _ := m.get("GET", own[0].URL, "", bram...); resp.StatusCode != http.StatusNotFound {
		t.Errorf("a copy that was cancelled gives %s", resp.Status)
	}
}

// TestPreparedCopiesAreBounded asks for more than there is room for, and for what is no film.
func TestPreparedCopiesAreBounded(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.edit("[storage]", "[convert]\nprepared_limit = \"100 MiB\"\n\n[storage]")
	m.must("deploy", "--yes")
	m.add(demo.Person{Name: "wren", Role: allowance.Admin})
	m.film("Long Wait (2014)", ".mkv", "-f", "lavfi", "-i", "color=s=640x360:r=1:d=7200", "-c:v", "mpeg4", "-q:v", "20")
	for what, c := range map[string]struct {
		args []string
		says string
	}{
		"too large":     {[]string{"long wait", "--height", "360"}, "prepared_limit"},
		"no such title": {[]string{"zebra"}, "no title"},
		"no film":       {[]string{"mill songs"}, ""},
		"no member":     {[]string{"long wait", "--for", "nobody"}, "no member"},
		"no height":     {[]string{"long wait", "--height", "5"}, "no size of a film"},
	} {
		_, errs, code := m.run("", append([]string{"prepare", "add"}, c.args...)...)
		if code == 0 || !strings.Contains(errs, c.says) || !strings.Contains(errs, "fix:") {
			t.Errorf("%s: code %d\n%s", what, code, errs)
		}
	}
	var list []copied
	if m.document(&list, "prepare", "list"); len(list) != 0 {
		t.Errorf("%+v", list)
	}
}

// TestPreparedCopiesStayTogether prepares films whose picture, sound or clock begins later, with a flash
// and a beep in the same moment.
func TestPreparedCopiesStayTogether(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	m.add(demo.Person{Name: "wren", Role: allowance.Admin})
	picture := []string{"-f", "lavfi", "-i",
		"color=black:s=320x180:r=25:d=10,drawbox=c=white:t=fill:enable='between(t,5,5.4)'"}
	sound := func(at float64) []string {
		return []string{"-f", "lavfi", "-i", fmt.Sprintf("aevalsrc='if(between(t,%g,%g),0.8,0)*sin(2*PI*t*800)':s=48000:d=10",
			at, at+0.4)}
	}
	join := func(parts ...[]string) (out []string) {
		for _, p := range parts {
			out = append(out, p...)
		}
		return out
	}
	for title, c := range map[string]struct {
		ending string
		args   []string
	}{
		"Aspen Gate (2001)": {".ts", join(picture, sound(5), []string{"-c:v", "mpeg2video", "-c:a", "mp2"})},
		"Cedar Gate (2003)": {".mkv", join([]string{"-itsoffset", "0.8"}, picture, sound(5.8),
			[]string{"-c:v", "mpeg4", "-c:a", "ac3"})},
		"Dogwood Gate (2004)": {".mkv", join(picture, []string{"-itsoffset", "0.8"}, sound(4.2),
			[]string{"-c:v", "libx264", "-pix_fmt", "yuv420p", "-c:a", "ac3"})},
	} {
		m.film(title, c.ending, append(c.args, "-map", "0", "-map", "1")...)
		word, _, _ := strings.Cut(title, " ")
		var list []copied
		m.document(&list, "prepare", "add", word, "--now")
		number := list[0].ID
		for began := time.Now(); ; time.Sleep(200 * time.Millisecond) {
			var is copied
			m.document(&list, "prepare", "list")
			for _, p := range list {
				if p.ID == number {
					is = p
				}
			}
			if is.State == "ready" {
				break
			}
			if is.State == "failed" || time.Since(began) > 2*time.Minute {
				t.Fatalf("%s: %+v", title, is)
			}
		}
		out, err := exec.Command("ffmpeg", "-nostdin", "-i", m.path(fmt.Sprintf("state/prepared/%d.mp4", number)), "-vf",
			"negate,blackdetect=d=0.1:pix_th=0.2", "-af", "silencedetect=n=-30dB:d=1", "-f", "null", "-").CombinedOutput()
		var flash, beep float64
		_, rest, _ := strings.Cut(string(out), "black_start:")
		_, err1 := fmt.Sscanf(rest, "%g", &flash)
		_, rest, _ = strings.Cut(string(out), "silence_end: ")
		_, err2 := fmt.Sscanf(rest, "%g", &beep)
		if err != nil || err1 != nil || err2 != nil || flash < 4 || flash-beep > 0.06 || beep-flash > 0.06 {
			t.Errorf("%s: the flash is at %.3f s, the beep at %.3f s; %v %v %v", title, flash, beep, err, err1, err2)
		}
	}
}
