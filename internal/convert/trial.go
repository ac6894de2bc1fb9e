package convert

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"slices"
	"time"

	"cozyshelf/internal/core/capacity"
	"cozyshelf/internal/core/encoders"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/ffmpeg"
)

// longestTrial is how long half a second of film may take to be tried.
const longestTrial = 15 * time.Second

// Tried is a way that was tried, and why it does not work; nothing where it does.
type Tried struct {
	encoders.Way
	Why string
}

// TryAll tries every way that this machine may have with half a second of film, and gives them in the
// order in which they are preferred. want is auto, none or the path of a device. folder is where the
// film is made.
func TryAll(ctx context.Context, tools ffmpeg.Tools, want string, devices []encoders.Device, folder string) ([]Tried,
	error) {
	list, err := tools.Encoders(ctx)
	if err != nil {
		return nil, err
	}
	has := func(name string) bool { return slices.Contains(list, name) }
	codec := "libx264"
	if !has(codec) {
		codec = "mpeg4"
	}
	film, err := testFilm(ctx, tools, folder, "testsrc2=s=640x360:r=24:d=0.5", "-c:v", codec, "-pix_fmt", "yuv420p")
	if err != nil {
		return nil, fmt.Errorf("no film could be made to try with: %w", err)
	}
	defer film.Close()
	var out []Tried
	for _, w := range encoders.Candidates(want, devices, has) {
		t := Tried{Way: w}
		if err := try(ctx, tools, w, film); err != nil {
			t.Why = err.Error()
		}
		out = append(out, t)
	}
	return out, nil
}

// try makes half a second of film by a way.
func try(ctx context.Context, tools ffmpeg.Tools, w encoders.Way, film *os.File) error {
	ctx, cancel := context.WithTimeout(ctx, longestTrial)
	defer cancel()
	r := Recipe{Track: 1, Source: media.Track{Kind: media.Video, FrameRate: 24}, Width: 640, Height: 360,
		Bitrate: 1_000_000, End: 0.5}
	before, after := r.arguments(w, 0, 0, 0)
	made := int64(0)
	err := tools.Pipe(ctx, film, before, after, func(out io.Reader) (err error) {
		made, err = io.Copy(io.Discard, out)
		if err == nil {
			err = io.EOF
		}
		return err
	})
	switch {
	case ctx.Err() != nil:
		return fmt.Errorf("it made nothing within %s", longestTrial)
	case err != nil && err != io.EOF:
		return err
	case made < 2000:
		return fmt.Errorf("it made %d bytes, and no picture", made)
	}
	return nil
}

// testFilm has a film made that has no name.
func testFilm(ctx context.Context, tools ffmpeg.Tools, folder, source string, args ...string) (*os.File, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(folder, "trial-")
	if err != nil {
		return nil, err
	}
	_ = os.Remove(f.Name()) // it goes with its descriptor
	if err := tools.Film(ctx, f, source, args...); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// WaysOf gives those that work, with what each costs: as it was measured on this machine, else as it is
// expected.
func WaysOf(tried []Tried, measured capacity.Measured, processors int, log *slog.Logger) (out []Way) {
	var list []encoders.Way
	for _, t := range tried {
		list = append(list, t.Way)
		if t.Why != "" {
			log.Warn("a way to convert does not work here", "way", t.Name(), "why", t.Why)
		}
	}
	works := func(w encoders.Way) bool {
		return slices.ContainsFunc(tried, func(t Tried) bool { return t.Way == w && t.Why == "" })
	}
	for _, w := range encoders.Working(list, works) {
		weights, ok := measured.Weights(w.Name())
		switch {
		case ok:
		case w.Hardware():
			weights = capacity.ExpectedHardware(processors)
		default:
			weights = capacity.Expected(float64(processors))
		}
		out = append(out, Way{Way: w, Weights: weights})
	}
	return out
}
