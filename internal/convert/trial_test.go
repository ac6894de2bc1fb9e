package convert_test

import (
	"context"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"cozyshelf/internal/convert"
	"cozyshelf/internal/core/capacity"
	"cozyshelf/internal/core/encoders"
	"cozyshelf/internal/ffmpeg"
)

// standIn gives an ffmpeg that does as told for graphics devices, and else is the real one. What it is
// asked is noted.
func standIn(t *testing.T, script string) (tools *ffmpeg.Tools, asked string) {
	t.Helper()
	real, err := exec.LookPath("ffmpeg")
	if err != nil {
		t.Skip(err)
	}
	probe, err := exec.LookPath("ffprobe")
	if err != nil {
		t.Skip(err)
	}
	dir := t.TempDir()
	asked = filepath.Join(dir, "asked")
	text := "#!/bin/bash\necho \"$@\" >> " + asked + "\ncase \" $* \" in\n*' -encoders '*) echo ' ------'; " +
		"echo ' V....D libx264 x'; echo ' V....D h264_vaapi x'; exit;;\n*_vaapi*) " + script + ";;\nesac\nexec " + real +
		` "$@"` + "\n"
	name := filepath.Join(dir, "ffmpeg")
	if err := os.WriteFile(name, []byte(text), 0o700); err != nil {
		t.Fatal(err)
	}
	return &ffmpeg.Tools{FFmpeg: []string{name}, FFprobe: []string{probe}}, asked
}

// inSoftware is what a stand-in does to make with libx264 what a device was asked for.
const inSoftware = `args=(); skip=0
for a in "$@"; do
  if [ $skip = 1 ]; then skip=0; continue; fi
  case "$a" in
  -init_hw_device|-filter_hw_device|-hwaccel|-hwaccel_device|-rc_mode|-async_depth) skip=1; continue;;
  h264_vaapi) a=libx264; args+=("$a" -preset ultrafast -sc_threshold 0); continue;;
  esac
  a="${a//format=nv12,hwupload/format=yuv420p}"
  args+=("$a")
done
set -- "${args[@]}"`

var device = []encoders.Device{{Path: "/dev/dri/renderD128", Driver: "i915", Kind: encoders.Render}}

// TestWaysAreTried has a device that works, one that fails, one that makes nothing, and none.
func TestWaysAreTried(t *testing.T) {
	for what, c := range map[string]struct {
		script  string
		devices []encoders.Device
		want    string // the ways that work
		says    string // of the first
	}{
		"it works":           {inSoftware, device, "va-api /dev/dri/renderD128, software", ""},
		"it fails":           {"echo 'No VA display found' >&2; exit 1", device, "software", "No VA display found"},
		"it makes nothing":   {"exit 0", device, "software", "0 bytes"},
		"there is no device": {inSoftware, nil, "software", ""},
	} {
		tools, _ := standIn(t, c.script)
		tried, err := convert.TryAll(context.Background(), *tools, encoders.Auto, c.devices, t.TempDir())
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		var names []string
		ways := convert.WaysOf(tried, capacity.Measured{}, 2, slog.New(slog.DiscardHandler))
		for _, w := range ways {
			names = append(names, w.Name())
			if w.Room <= 0 {
				t.Errorf("%s: %s has no room", what, w.Name())
			}
		}
		if got := strings.Join(names, ", "); got != c.want || !strings.Contains(tried[0].Why, c.says) ||
			(tried[0].Why == "") != (c.says == "") {
			t.Errorf("%s: %s works; of the first it says %q", what, got, tried[0].Why)
		}
	}
}

// TestADeviceThatFailsGivesWayToSoftware watches a film that a graphics device makes: from the
// beginning, until it fails in the midst, and when it never began. What is watched goes on.
func TestADeviceThatFailsGivesWayToSoftware(t *testing.T) {
	flag := filepath.Join(t.TempDir(), "broken")
	for what, c := range map[string]struct {
		script string
		breaks bool // after the third piece
	}{
		"it never works":      {"echo 'device lost' >&2; exit 1", false},
		"it ends in between":  {"[ -e " + flag + " ] && { echo 'device lost' >&2; exit 1; }\n" + inSoftware, true},
		"it works all along":  {inSoftware, false},
		"it says only rubish": {"head -c 5000 /dev/urandom", false},
	} {
		_ = os.Remove(flag)
		tools, asked := standIn(t, c.script)
		w := newWorkshop(t, tools)
		tried := []convert.Tried{{Way: encoders.Way{API: encoders.VAAPI, Device: "/dev/dri/renderD128", Codec: "h264"}},
			{Way: encoders.InSoftware}}
		w.Ways = convert.WaysOf(tried, capacity.Measured{}, 2, w.Log)
		r := picture(180)
		r.Way, r.Codec = tried[0].Name(), "h264"
		init, err := w.Init(context.Background(), r, "wren", w.open)
		if err != nil {
			t.Errorf("%s: %v", what, err)
			continue
		}
		film := init
		for i := range r.Lengths() {
			if c.breaks && i == 3 {
				if err := os.WriteFile(flag, nil, 0o600); err != nil {
					t.Fatal(err)
				}
				// Somebody jumps, and comes back: a new run begins, and fails.
				w.piece(t, r, len(r.Lengths())-1, "wren")
				w.forget(t)
			}
			film = append(film, w.piece(t, r, i, "wren")...)
		}
		name := filepath.Join(t.TempDir(), "made.mp4")
		if err := os.WriteFile(name, film, 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command("ffprobe", "-v", "error", "-count_frames", "-select_streams", "v", "-show_entries",
			"stream=nb_read_frames", "-of", "csv=p=0", name).CombinedOutput()
		if got := strings.TrimSpace(string(out)); err != nil || got != "1000" {
			t.Errorf("%s: the film has %s pictures of 1000, %v", what, got, err)
		}
		said, err := os.ReadFile(asked)
		if err != nil || !strings.Contains(string(said), "-init_hw_device vaapi=gpu:/dev/dri/renderD128") {
			t.Errorf("%s: the device was not asked: %s, %v", what, said, err)
		}
		offered := w.Offers()
		if broken := what != "it works all along"; broken != (len(offered) == 1) {
			t.Errorf("%s: %d ways are offered afterwards\n%s", what, len(offered), w.said)
		}
		w.stop()
	}
}

// forget empties the scratch folder under a workshop, as somebody who makes room would.
func (w *workshop) forget(t *testing.T) {
	t.Helper()
	list, err := filepath.Glob(w.Folder + "/convert/*")
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range list {
		if err := os.Remove(p); err != nil {
			t.Fatal(err)
		}
	}
}

// TestMeasure measures with real films, though small ones: quickly, and thoroughly.
func TestMeasure(t *testing.T) {
	tasks := slices.Clone(capacity.Tasks)
	for i := range tasks {
		v := &tasks[i]
		v.Width, v.Height, v.MadeW, v.MadeH = v.Width/4, v.Height/4, v.MadeW/4&^1, v.MadeH/4&^1
	}
	w := newWorkshop(t, nil)
	w.Ways = convert.WaysOf([]convert.Tried{{Way: encoders.InSoftware}}, capacity.Measured{}, 2, w.Log)
	steps := 0
	told := func(s convert.Step) {
		if steps++; s.What == "" || s.Done >= s.Of {
			t.Errorf("step %+v", s)
		}
	}
	quick := convert.Measuring{Tasks: tasks, Seconds: 1, Quick: true, Told: told}
	got, err := w.Measure(context.Background(), quick)
	if err != nil {
		t.Fatal(err)
	}
	if len(got.Runs) != len(capacity.Tasks) || steps < 5 || got.FFmpeg == "" || !got.Quick {
		t.Errorf("%d steps: %+v", steps, got)
	}
	for _, r := range got.Runs {
		if r.Problem != "" || r.Speed <= 0 || r.Processors <= 0 || r.Memory < 10<<20 || r.AtOnce != int(r.Speed) {
			t.Errorf("%+v", r)
		}
	}
	whole, err := w.Measure(context.Background(), convert.Measuring{Tasks: tasks[2:], Seconds: 2,
		Told: func(convert.Step) {}})
	if err != nil || len(whole.Runs) != 1 {
		t.Fatalf("%+v, %v", whole, err)
	}
	// How many a slow machine converts at once may be none.
	if r := whole.Runs[0]; (r.AtOnce > 0) != (r.Slowest >= 1) || r.Speed >= 1.5 && r.AtOnce < 1 || r.Speed <= 0 {
		t.Errorf("%+v", r)
	}
	if weights, ok := got.Weights("software"); !ok || weights.Room < 1e6 {
		t.Errorf("%+v", weights)
	}
	if list, _ := os.ReadDir(w.Folder); len(list) > 1 {
		t.Errorf("%d things are left in the scratch folder", len(list))
	}
	// Whoever watches goes before.
	w.piece(t, picture(180), 0, "wren")
	if _, err := w.Measure(context.Background(), quick); err == nil {
		t.Error("it is measured while somebody watches")
	}
}
