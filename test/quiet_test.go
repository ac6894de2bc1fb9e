package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/testbuild"
)

// TestQuietHours lets the server take pictures, chapters and loudness from files, and end
// and come back meanwhile: what was done is not done again.
func TestQuietHours(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("ffmpeg"); err != nil {
		testbuild.Missing(t, "ffmpeg")
	}
	m := newMill(t, "process")
	said := m.path("chapters.txt")
	if err := os.WriteFile(said, []byte(";FFMETADATA1\n[CHAPTER]\nTIMEBASE=1/1000\nSTART=0\nEND=4000\ntitle=The "+
		"pier\n[CHAPTER]\nTIMEBASE=1/1000\nSTART=4000\nEND=8000\ntitle=Low tide\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc=s=320x180:r=12:d=8", "-f",
		"lavfi", "-i", "sine=d=8", "-i", said, "-map_metadata", "2", "-c:v", "mpeg4", "-c:a", "aac",
		m.path("media/films/Nine Chapters (2019).mkv")).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	file := string(read(m.path("household.toml")))
	set := func(text string) {
		if err := os.WriteFile(m.path("household.toml"), []byte(file+text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, text := range []string{"\n[quiet]\nwork = [\"dancing\"]\n",
		"\n[quiet]\nwork = [\"frames\"]\nhours = \"at night\"\n"} {
		set(text)
		if _, errs, code := m.run("", "deploy", "--yes"); code != problem.ExitUsage ||
			!strings.Contains(errs, "quiet.") {
			t.Errorf("code %d: %s", code, errs)
		}
	}
	set("\n[quiet]\nwork = [\"frames\", \"chapters\", \"loudness\"]\nhours = \"00:00-24:00\"\n")
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	left := func() (n int) {
		var st struct{ Server control.Status }
		if m.document(&st, "status"); st.Server.Quiet == nil {
			t.Fatalf("status says nothing of it: %+v", st)
		}
		for _, v := range st.Server.Quiet.Left {
			n += v
		}
		return n
	}
	within(t, 20*time.Second, "the first scan", func() bool { return m.titles("films") == 7 })
	within(t, 90*time.Second, "something done",
		func() bool { return strings.Contains(m.must("logs"), "work of quiet hours") })
	m.must("restart")
	m.until("ready")
	within(t, 90*time.Second, "all done", func() bool { return left() == 0 })
	for _, work := range []string{"chapters", "loudness"} { // in the eleven files that can be read, before and after
		sum := 0
		for _, told := range regexp.MustCompile(`msg="work of quiet hours" work=`+work+` done=(\d+) failed=0`).FindAllStringSubmatch(m.must("logs"), -1) {
			n, _ := strconv.Atoi(told[1])
			sum += n
		}
		if sum != 11 {
			t.Errorf("%s were found %d times", work, sum)
		}
	}
	token := m.token("wren")
	var found struct {
		Titles []struct{ ID int64 }
	}
	ask := func(path string, v any) {
		t.Helper()
		res, body := m.get("GET", path, "", "Authorization", "Bearer "+token)
		if err := json.Unmarshal([]byte(body), v); err != nil || res.StatusCode != 200 {
			t.Fatalf("%s: %s %s", path, res.Status, body)
		}
	}
	ask("/api/v1/shelves/films/titles?from=nine%20ch&limit=1", &found)
	var title struct{ Files []struct{ ID int64 } }
	ask(fmt.Sprintf("/api/v1/titles/%d", found.Titles[0].ID), &title)
	var f struct {
		Chapters []struct {
			At            float64
			Name, Picture string
		}
		Loudness struct{ Integrated, Peak float64 }
	}
	ask(fmt.Sprintf("/api/v1/files/%d", title.Files[0].ID), &f)
	if len(f.Chapters) != 2 || f.Chapters[1].At != 4 || f.Chapters[1].Name != "Low tide" ||
		f.Chapters[1].Picture == "" || f.Loudness.Integrated > -10 || f.Loudness.Integrated < -40 {
		t.Errorf("got %+v", f)
	}
	for path, want := range map[string]string{fmt.Sprintf("/cover/%d", found.Titles[0].ID): "image/jpeg",
		fmt.Sprintf("/chapter/%d/1", title.Files[0].ID): "image/jpeg"} {
		if res, b := m.get("GET", path, "", "Cookie", "shelf_session="+
			token); res.Header.Get("Content-Type") != want || len(b) < 500 {
			t.Errorf("%s: %s, %s, %d bytes", path, res.Status, res.Header.Get("Content-Type"), len(b))
		}
	}
	if _, page := m.get("GET", fmt.Sprintf("/play/%d", title.Files[0].ID), "", "Cookie", "shelf_session="+
		token); !strings.Contains(page, "Low tide") || !strings.Contains(page, "LUFS") {
		t.Errorf("its page says:\n%s", page)
	}
	if res, _ := m.get("GET", fmt.Sprintf("/chapter/%d/9", title.Files[0].ID), "", "Cookie", "shelf_session="+
		token); res.StatusCode != 404 {
		t.Errorf("a chapter that is not there: %s", res.Status)
	}
	// A picture that comes later counts more than one from the film.
	d := m.match("Nine Chapters").Described
	if d.From != "the film" {
		t.Errorf("its picture is from %q", d.From)
	}
	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, 30, 40))); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(m.path("media/films/Nine Chapters (2019).png"), b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	within(t, 20*time.Second, "the picture beside it",
		func() bool { return m.match("Nine Chapters").Described.From == "Nine Chapters (2019).png" })
}

// TestQuietHoursInAContainer has the work done by an ffmpeg that lies in the image alone.
func TestQuietHoursInAContainer(t *testing.T) {
	t.Parallel()
	needsDocker(t)
	if _, err := exec.LookPath("ffprobe"); err != nil {
		testbuild.Missing(t, "ffmpeg")
	}
	m := newMill(t, "docker")
	m.must("deploy", "--yes")
	m.edit("[storage]", "[quiet]\nwork = [\"chapters\", \"loudness\"]\nhours = \"00:00-24:00\"\n\n[storage]")
	if out := m.must("check"); !strings.Contains(out, "which goes into the image") {
		t.Errorf("check:\n%s", out)
	}
	if out := m.must("deploy", "--yes"); !strings.Contains(out, "ffmpeg in the image none → ") ||
		!strings.Contains(out, "with ffmpeg") {
		t.Errorf("deploy:\n%s", out)
	}
	if out := m.must("deploy", "--yes"); !strings.Contains(out, "Nothing to do") {
		t.Errorf("deploy once more:\n%s", out)
	}
	within(t, 90*time.Second, "all done", func() bool {
		var st struct{ Server control.Status }
		m.document(&st, "status")
		q := st.Server.Quiet
		return q != nil && q.Problem == "" && q.Left["chapters"]+q.Left["loudness"] == 0
	})
	for _, work := range []string{"chapters", "loudness"} {
		if logs := m.must("logs"); !strings.Contains(logs, "work="+work+" done=10 failed=0") {
			t.Errorf("%s:\n%s", work, logs)
		}
	}
}
