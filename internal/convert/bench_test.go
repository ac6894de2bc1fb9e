package convert_test

import (
	"context"
	"log/slog"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/convert"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/ffmpeg"
)

// BenchmarkConvert measures, with a film of 1080 lines in HEVC, how long the first piece takes, how
// long one after a seek takes, and how fast the whole is made beside ffmpeg alone with the same
// options.
func BenchmarkConvert(b *testing.B) {
	tools, err := ffmpeg.Find()
	if err != nil {
		b.Skip(err)
	}
	film := b.TempDir() + "/film.mkv"
	if out, err := exec.Command("ffmpeg", strings.Fields("-nostdin -v error -f lavfi -i "+
		"testsrc2=s=1920x1080:r=24:d=30,noise=alls=8:allf=t -c:v libx265 -preset ultrafast -x265-params "+
		"log-level=none:keyint=48 "+
		"-b:v 8M "+film)...).CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	open := func() (*os.File, error) { return os.Open(film) }
	r := convert.Recipe{File: "film", Track: 1, Source: media.Track{Kind: media.Video, Codec: "hevc", FrameRate: 24},
		Width: 1920, Height: 1080, Bitrate: 5_000_000, End: 30}
	for b.Loop() {
		c, stop := started(b, tools)
		ctx := context.Background()
		piece := func(n int) time.Duration {
			began := time.Now()
			if _, err := c.Piece(ctx, r, n, "wren", open); err != nil {
				b.Fatal(err)
			}
			return time.Since(began)
		}
		b.ReportMetric(piece(0).Seconds(), "first-s")
		b.ReportMetric(piece(10).Seconds(), "seek-s")
		stop()
		c, stop = started(b, tools)
		began := time.Now()
		for n := range r.Lengths() {
			piece(n)
		}
		ours := time.Since(began)
		stop()
		before, after := r.Arguments()
		args := append(append([]string{"-nostdin", "-v", "error"}, before...), append([]string{"-i", film}, after...)...)
		began = time.Now()
		if out, err := exec.Command("ffmpeg", append(args, "-y", b.TempDir()+"/alone.mp4")...).CombinedOutput(); err != nil {
			b.Fatalf("%v\n%s", err, out)
		}
		b.ReportMetric(float64(time.Since(began))/float64(ours), "of-ffmpeg-alone")
	}
}

// started gives a converter that runs, and what ends it.
func started(b *testing.B, tools ffmpeg.Tools) (*convert.Converter, func()) {
	b.Helper()
	c := &convert.Converter{Tools: tools, Folder: b.TempDir(), Limit: 1 << 30, Most: 4,
		Log: slog.New(slog.DiscardHandler)}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); c.Run(ctx) }()
	time.Sleep(50 * time.Millisecond) // the folder is emptied first
	return c, func() {
		cancel()
		<-done
		for c.Streams() > 0 {
			time.Sleep(time.Millisecond)
		}
	}
}
