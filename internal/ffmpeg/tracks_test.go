package ffmpeg

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"cozyshelf/internal/core/media"
)

// TestTracksAgreeWithOurOwnReaders has ffprobe tell of files that our own readers open, too.
func TestTracksAgreeWithOurOwnReaders(t *testing.T) {
	x := tools(t)
	pictures, sounds := []string{"-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=1"},
		[]string{"-f", "lavfi", "-i", "sine=r=44100:d=1"}
	for name, args := range map[string]string{
		"plain.mp4": "-c:v libx264 -preset ultrafast -pix_fmt yuv420p -c:a aac",
		"deep.mkv":  "-c:v libx265 -preset ultrafast -x265-params log-level=none -pix_fmt yuv420p10le -c:a flac -ac 2",
		"wide.mp4":  "-vf setsar=64/45 -c:v libx264 -preset ultrafast -pix_fmt yuv422p -c:a ac3 -ar 48000 -ac 6",
		"woven.mkv": "-flags +ilme+ildct -x264opts tff=1 -c:v libx264 -preset ultrafast -pix_fmt yuv420p -c:a mp3",
		"bright.mkv": "-c:v libx265 -preset ultrafast -x265-params log-level=none:transfer=16 -pix_fmt yuv420p10le " +
			"-color_trc smpte2084 -c:a aac",
		"old.avi": "-c:v mpeg4 -c:a mp3",
	} {
		f := file(t, name, nil, append(append(pictures, sounds...), strings.Fields(args)...)...)
		st, err := f.Stat()
		if err != nil {
			t.Fatal(err)
		}
		want, err := media.Read(f, st.Size())
		if err != nil {
			t.Fatal(err)
		}
		got, err := x.Tracks(context.Background(), f)
		if err != nil || len(got.Tracks) != len(want.Tracks) || got.Duration < 0.9 || got.Duration > 1.2 {
			t.Errorf("%s: %+v, %v", name, got, err)
			continue
		}
		for i := range got.Tracks {
			if g, w := essence(got.Tracks[i]), essence(want.Tracks[i]); g != w {
				t.Errorf("%s, track %d:\n%s, our own reader says\n%s", name, i+1, g, w)
			}
		}
	}
	if info, err := x.Tracks(context.Background(), file(t, "none.wmv", []byte("no film at all"))); err == nil {
		t.Errorf("a text is %+v", info)
	}
}

// essence is what a delivery is decided by, as far as both tell.
func essence(t media.Track) string {
	if t.Kind == media.Audio {
		return fmt.Sprint(t.Kind, t.Codec, t.Channels, t.SampleRate)
	}
	return fmt.Sprint(t.Kind, t.Codec, t.Width, t.Height, t.PixelShape, t.Interlaced, t.HDR, t.BitDepth > 8)
}

// FuzzTracks holds what ffprobe may be made to say: nothing of it leaves its bounds.
func FuzzTracks(f *testing.F) {
	f.Add("asf", "9.5", "video", "wmv3", 640, 360, 2, "44100", "1:1", "30000/1001", "tt", "yuv420p10le", -90.0)
	f.Add("../x", "nan", "audio", "a\x00b", -1, 1<<30, 1<<30, "x", "0:0", "1/0", "", "", 1e300)
	f.Fuzz(func(t *testing.T, format, length, kind, codec string, w, h, channels int, hz, shape, fps, field, pixels string,
		turn float64) {
		s := said{Streams: []saidStream{{Type: kind, Codec: codec, Width: w, Height: h, Channels: channels, Rate: hz,
			Shape: shape, FrameRate: fps, Field: field, Pixels: pixels}}}
		s.Format.Name, s.Format.Duration = format, length
		s.Streams[0].Beside = []struct{ Rotation float64 }{{turn}}
		info, err := s.info()
		if err != nil {
			return
		}
		v := info.Tracks[0]
		if !(info.Duration >= 0 && info.Duration < 1e7) || v.Width < 0 || v.Width > 1<<16 || v.Height < 0 ||
			v.Height > 1<<16 || v.Channels < 0 || v.Channels > 64 || v.SampleRate < 0 || v.SampleRate > 1<<20 ||
			!(v.FrameRate >= 0 && v.FrameRate < 1000) || v.Rotation%90 != 0 || len(v.Codec) > 32 ||
			strings.ContainsAny(info.Container+v.Codec+v.Language, "/\x00 ") {
			t.Errorf("%+v", info)
		}
	})
}
