package picture

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"cozyshelf/internal/testbuild"
)

// TestPhotosStandUpright compares how a photo is turned with ffmpeg, for all eight
// ways to hold a camera.
func TestPhotosStandUpright(t *testing.T) {
	if _, err := exec.LookPath("ffmpeg"); err != nil {
		testbuild.Missing(t, "ffmpeg")
	}
	dir := t.TempDir()
	for turn := 1; turn <= 8; turn++ {
		b := testbuild.Photo(t, turn, "2014:08:03 16:21:07", "+02:00")
		s, err := Read(bytes.NewReader(b))
		if err != nil || s.Turn != turn || s.Taken != "2014-08-03T16:21:07+02:00" || s.Width != 96 || s.Height != 64 ||
			s.Format != "jpeg" {
			t.Fatalf("orientation %d: %+v, %v", turn, s, err)
		}
		in, out := filepath.Join(dir, fmt.Sprintf("%d.jpg", turn)), filepath.Join(dir, fmt.Sprintf("%d.ppm", turn))
		if err := os.WriteFile(in, b, 0o600); err != nil {
			t.Fatal(err)
		}
		if said, err := exec.Command("ffmpeg", "-v", "error", "-i", in, out).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, said)
		}
		want := ppm(t, out)
		img, err := Decode(b)
		if err != nil {
			t.Fatal(err)
		}
		scaled, err := Scale(img, s.Turn, 600)
		if err != nil {
			t.Fatal(err)
		}
		got, err := jpeg.Decode(bytes.NewReader(scaled))
		if err != nil {
			t.Fatal(err)
		}
		if got.Bounds() != want.Bounds() {
			t.Errorf("orientation %d: got %v, want %v", turn, got.Bounds(), want.Bounds())
			continue
		}
		w, h := got.Bounds().Dx(), got.Bounds().Dy()
		for _, p := range []image.Point{{w / 4, h / 4}, {3 * w / 4, h / 4}, {w / 4, 3 * h / 4},
			{3 * w / 4, 3 * h / 4}} {
			if a, b := got.At(p.X, p.Y), want.At(p.X, p.Y); apart(a, b) > 24<<8 {
				t.Errorf("orientation %d, at %v: got %v, want %v", turn, p, a, b)
			}
		}
	}
}

func apart(a, b color.Color) uint32 {
	r, g, l, _ := a.RGBA()
	x, y, z, _ := b.RGBA()
	return max(max(r, x)-min(r, x), max(g, y)-min(g, y), max(l, z)-min(l, z))
}

func ppm(t *testing.T, name string) *image.RGBA {
	t.Helper()
	b, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	var w, h, most int
	if _, err := fmt.Sscanf(string(b), "P6\n%d %d\n%d", &w, &h, &most); err != nil || len(b) < 3*w*h {
		t.Fatal(err)
	}
	b = b[len(b)-3*w*h:]
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for i := range w * h {
		img.Set(i%w, i/w, color.RGBA{b[3*i], b[3*i+1], b[3*i+2], 255})
	}
	return img
}

func TestHeadersOfPicturesThatAreNone(t *testing.T) {
	whole := testbuild.Photo(t, 6, "2014:08:03 16:21:07")
	if s, err := Read(bytes.NewReader(whole)); err != nil || s.Taken != "2014-08-03T16:21:07" {
		t.Errorf("without a zone: %+v, %v", s, err)
	}
	for taken, want := range map[string]string{"0000:00:00 00:00:00": "", "    :  :     :  :  ": "",
		"2014:13:03 16:21:07": "", "1620:01:01 00:00:00": ""} {
		if s, err := Read(bytes.NewReader(testbuild.Photo(t, 9, taken, "junk"))); err != nil || s.Taken != want ||
			s.Turn != 0 {
			t.Errorf("%q: %+v, %v", taken, s, err)
		}
	}
	for name, b := range map[string][]byte{"nothing": nil, "a text": []byte(strings.Repeat("not a picture ", 9)),
		"an archive": []byte("PK\x03\x04" + strings.Repeat("x", 60)), "half a header": whole[:4],
		"a film": []byte("\x00\x00\x00\x20ftypisom" + strings.Repeat("\x00", 60))} {
		if s, err := Read(bytes.NewReader(b)); err == nil {
			t.Errorf("%s is taken for %+v", name, s)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(testbuild.Photo(f, 6, "2014:08:03 16:21:07", "+02:00"))
	f.Add(sample(f, 3, 3))
	f.Add(append([]byte("\x00\x00\x00\x18ftypheic"), testbuild.EXIF(3, "2014:08:03 16:21:07", "")...))
	f.Add(testbuild.EXIF(3, "2014:08:03 16:21:07", ""))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := Read(bytes.NewReader(b))
		if err == nil && (s.Format == "" || s.Turn < 0 || s.Turn > 8 || s.Width < 0) {
			t.Errorf("got %+v", s)
		}
	})
}
