package ffmpeg

import (
	"bytes"
	"context"
	"errors"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"cozyshelf/internal/testbuild"
)

func tools(t *testing.T) Tools {
	t.Helper()
	x, err := Find()
	if err != nil {
		testbuild.Missing(t, "ffmpeg")
	}
	return x
}

func file(t *testing.T, name string, content []byte, args ...string) *os.File {
	t.Helper()
	p := filepath.Join(t.TempDir(), name)
	var err error
	if content != nil {
		err = os.WriteFile(p, content, 0o600)
	} else if out, rerr := exec.Command("ffmpeg",
		append(append([]string{"-nostdin", "-v", "error"}, args...), p)...).CombinedOutput(); rerr != nil {
		t.Fatalf("%v\n%s", rerr, out)
	}
	if err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(p)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

func TestFramesAndChapters(t *testing.T) {
	x, ctx := tools(t), context.Background()
	said := filepath.Join(t.TempDir(), "chapters.txt")
	if err := os.WriteFile(said, []byte(";FFMETADATA1\n[CHAPTER]\nTIMEBASE=1/1000\nSTART=0\nEND=4000\ntitle=The "+
		"pier\n[CHAPTER]\nTIMEBASE=1/1000\nSTART=4000\nEND=8000\ntitle=Low  tide\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	// Red for four seconds, then blue.
	f := file(t, "film.mkv", nil, "-f", "lavfi", "-i",
		"color=red:s=1600x900:d=4:r=12[a];color=blue:s=1600x900:d=4:r=12[b];[a][b]concat=n=2", "-i", said, "-map", "0",
		"-map_metadata", "1", "-c:v", "mpeg4", "-q:v", "2")
	for at, want := range map[float64][3]uint32{1: {240, 20, 20}, 5.5: {20, 20, 240}} {
		b, err := x.Frame(ctx, f, at)
		if err != nil {
			t.Fatal(err)
		}
		img, err := png.Decode(bytes.NewReader(b))
		if err != nil || img.Bounds().Dx() != 1280 || img.Bounds().Dy() != 720 {
			t.Fatalf("%v, %v", img, err)
		}
		r, g, bl, _ := img.At(640, 360).RGBA()
		for i, v := range []uint32{r >> 8, g >> 8, bl >> 8} {
			if d := int(v) - int(want[i]); d < -30 || d > 30 {
				t.Errorf("at %.1f s: got %d %d %d, want about %v", at, r>>8, g>>8, bl>>8, want)
				break
			}
		}
	}
	if _, err := x.Frame(ctx, f, 60); err == nil {
		t.Error("there is a picture after the end")
	}
	list, err := x.Chapters(ctx, f)
	if err != nil || len(list) != 2 || list[0].Name != "The pier" || list[1].Name != "Low tide" || list[1].At != 4 {
		t.Errorf("got %+v, %v", list, err)
	}
	if _, err := x.Loudness(ctx, f); err == nil {
		t.Error("a film without sound is loud")
	}
}

// TestLoudnessIsThatOfTheStandard measures test signal 1 of EBU Tech 3341: a stereo tone
// of 1 kHz at -23 dBFS has -23 LUFS. And one six decibels louder.
func TestLoudnessIsThatOfTheStandard(t *testing.T) {
	x := tools(t)
	for dbfs, name := range map[float64]string{-23: "a.flac", -17: "b.mka"} {
		tone := "0.07079457843841379*sin(2*PI*1000*t)"
		if dbfs == -17 {
			tone = "0.14125375446227545*sin(2*PI*1000*t)"
		}
		f := file(t, name, nil, "-f", "lavfi", "-i", "aevalsrc="+tone+"|"+tone+":d=20:s=48000", "-c:a", "flac")
		got, err := x.Loudness(context.Background(), f)
		if err != nil || math.Abs(got.Integrated-dbfs) > 0.15 || math.Abs(got.Peak-dbfs) > 0.15 || got.Range > 0.2 {
			t.Errorf("%v dBFS: got %+v, %v", dbfs, got, err)
		}
	}
	silent := file(t, "silent.flac", nil, "-f", "lavfi", "-i", "anullsrc=d=2")
	if got, err := x.Loudness(context.Background(), silent); err != nil || got.Integrated > -69 {
		t.Errorf("silence: got %+v, %v", got, err)
	}
}

// TestNothingElseIsRead gives files that name other files, as scripts and playlists do, and
// some that are nothing.
func TestNothingElseIsRead(t *testing.T) {
	x, ctx := tools(t), context.Background()
	other := file(t, "other.mkv", nil, "-f", "lavfi", "-i", "testsrc=d=1:s=64x48", "-f", "lavfi", "-i", "sine=d=1")
	for name, text := range map[string]string{
		"script.mp4":   "ffconcat version 1.0\nfile " + other.Name() + "\n",
		"playlist.mkv": "#EXTM3U\n#EXT-X-TARGETDURATION:1\n#EXTINF:1,\n" + other.Name() + "\n#EXT-X-ENDLIST\n",
		"picture.mp4":  "<svg xmlns=\"http://www.w3.org/2000/svg\"><image href=\"" + other.Name() + "\"/></svg>",
		"nothing.mp4":  "nothing at all",
		"empty.mp4":    "",
	} {
		f := file(t, name, []byte(text))
		if b, err := x.Frame(ctx, f, 0); err == nil {
			t.Errorf("%s: a picture of %d bytes", name, len(b))
		}
		if list, err := x.Chapters(ctx, f); err == nil {
			t.Errorf("%s: chapters %v", name, list)
		}
		if l, err := x.Loudness(ctx, f); err == nil {
			t.Errorf("%s: loudness %v", name, l)
		}
	}
	over, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cancel()
	long := file(t, "long.flac", nil, "-f", "lavfi", "-i", "sine=d=4000", "-ar", "8000")
	began := time.Now()
	if _, err := x.Loudness(over, long); !errors.Is(err, context.DeadlineExceeded) ||
		time.Since(began) > 10*time.Second {
		t.Errorf("it does not stop: %v after %v", err, time.Since(began))
	}
}
