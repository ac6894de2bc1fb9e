package convert

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"cozyshelf/internal/core/capacity"
	"cozyshelf/internal/core/encoders"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/ffmpeg"
)

// Measuring says what is wanted of a measurement.
type Measuring struct {
	Tasks   []capacity.Task
	Seconds float64 // of film
	Quick   bool    // one at once, and how many go together is reckoned
	// Told hears of each step before it is done.
	Told func(Step)
}

// Step is how far a measurement is.
type Step struct {
	What string `json:"what"`
	Done int    `json:"done"`
	Of   int    `json:"of"` // as far as it is known by now
}

// How many at once are tried at most, and for how long.
const (
	mostTried       = 64
	longestMeasured = 3 * time.Minute // one run
)

// ErrWatched says that somebody began to watch what is converted.
var ErrWatched = errors.New("somebody watches a film that is being converted")

// Measure converts for real, by each way that works, as it is done for those who watch. It ends with
// ErrWatched when somebody does.
func (c *Converter) Measure(ctx context.Context, m Measuring) (capacity.Measured, error) {
	out := capacity.Measured{At: time.Now(), Quick: m.Quick, Runs: []capacity.Run{}}
	var err error
	if out.FFmpeg, err = c.Tools.Version(ctx); err != nil {
		return out, err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	if c.Streams() > 0 {
		return out, ErrWatched
	}
	go func() {
		for tick := time.NewTicker(200 * time.Millisecond); ; {
			select {
			case <-tick.C:
				if c.Streams() > 0 {
					cancel(ErrWatched)
				}
			case <-ctx.Done():
				tick.Stop()
				return
			}
		}
	}()
	step := Step{Of: len(m.Tasks) * (1 + len(c.Ways))}
	tell := func(what string) {
		step.What = what
		m.Told(step)
		step.Done++
	}
	films := map[[2]int]*os.File{}
	for _, t := range m.Tasks {
		at := [2]int{t.Width, t.Height}
		var f *os.File
		if f = films[at]; f == nil {
			tell("making a test film for " + t.Name)
			f, err = measuredFilm(ctx, c.Tools, c.Folder, t)
			if err == nil {
				films[at] = f
				defer f.Close()
			}
		} else {
			step.Of--
		}
		for _, w := range c.Ways {
			if w.Codec != "h264" {
				continue
			}
			run := capacity.Run{Task: t.Name, Way: w.Name()}
			if err == nil {
				tell(t.Name + " by " + w.Name())
				run, err = c.measure(ctx, m, t, w, f, func(n int) {
					step.Of++
					tell(fmt.Sprintf("%s by %s, %d at once", t.Name, w.Name(), n))
				})
			}
			if cause := context.Cause(ctx); cause != nil {
				return out, cause
			}
			if err != nil {
				run = capacity.Run{Task: t.Name, Way: w.Name(), Problem: err.Error()}
			}
			out.Runs = append(out.Runs, run)
		}
	}
	return out, nil
}

// measuredFilm makes a second of film for a task, with the grain of a real one.
func measuredFilm(ctx context.Context, tools ffmpeg.Tools, folder string, t capacity.Task) (*os.File, error) {
	source := fmt.Sprintf("testsrc2=s=%dx%d:r=%d:d=1,noise=alls=6:allf=t", t.Width, t.Height, capacity.Rate)
	args := []string{"-c:v", "libx264", "-preset", "veryfast", "-pix_fmt", "yuv420p", "-crf", "21"}
	if t.HDR {
		source += ",format=yuv420p10le"
		args = []string{"-c:v", "libx265", "-preset", "ultrafast", "-crf", "24", "-x265-params",
			"log-level=none:colorprim=bt2020:transfer=smpte2084:colormatrix=bt2020nc:frame-threads=1:rc-lookahead=1:bframes=0"}
	}
	return testFilm(ctx, tools, folder, source, args...)
}

// measure does one task by one way: one alone, then as many at once as are fast enough.
func (c *Converter) measure(ctx context.Context, m Measuring, t capacity.Task, w Way, film *os.File,
	tell func(n int)) (capacity.Run, error) {
	out := capacity.Run{Task: t.Name, Way: w.Name()}
	alone, err := c.together(ctx, t, w.Way, film, m.Seconds, 1)
	if err != nil {
		return out, err
	}
	out.Speed, out.Processors, out.Memory = alone.slowest, alone.processors, alone.memory
	if m.Quick {
		out.AtOnce = int(out.Speed)
		return out, nil
	}
	best := alone
	if alone.slowest >= 1 {
		out.AtOnce, out.Slowest = 1, alone.slowest
	}
	// The speed of one alone says about how many go together; from there it is looked up and down.
	for n, down := max(2, min(int(alone.slowest), mostTried)), false; n > out.AtOnce && n <= mostTried; {
		tell(n)
		got, err := c.together(ctx, t, w.Way, film, m.Seconds, n)
		if err != nil {
			return out, err
		}
		if got.slowest < 1 {
			down = true
			n--
			continue
		}
		out.AtOnce, out.Slowest, best = n, got.slowest, got
		if down {
			break
		}
		n++
	}
	out.Processors, out.Memory = best.processors, best.memory
	return out, nil
}

// ran is what came of some that were converted at once.
type ran struct {
	slowest    float64 // seconds of film a second
	processors float64
	memory     int64
}

// together converts so many at once.
func (c *Converter) together(ctx context.Context, t capacity.Task, w encoders.Way, film *os.File, seconds float64,
	n int) (ran, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, longestMeasured, fmt.Errorf("it takes longer than %s",
		longestMeasured))
	defer cancel()
	track := media.Track{Kind: media.Video, FrameRate: capacity.Rate, Width: t.Width, Height: t.Height}
	if t.HDR {
		track.HDR = media.PQ
	}
	r := Recipe{Track: 1, Source: track, Width: t.MadeW, Height: t.MadeH, ToneMap: t.HDR,
		Bitrate: int64(t.MadeW*t.MadeH) * 2, End: seconds}
	before, after := r.arguments(w, 0, 0, c.Threads)
	before = append([]string{"-stream_loop", "-1"}, before...)
	after = append([]string{"-t", fmt.Sprint(seconds)}, after...)
	used, errs := make([]ffmpeg.Used, n), make([]error, n)
	began := time.Now()
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() {
			used[i], errs[i] = c.Tools.Timed(ctx, film, before, after, func(out io.Reader) error {
				if made, err := io.Copy(io.Discard, out); err != nil || made < 1000 {
					return errors.Join(err, fmt.Errorf("it made %d bytes, and no film", made))
				}
				return io.EOF
			})
			if errors.Is(errs[i], io.EOF) {
				errs[i] = nil
			}
		})
	}
	all.Wait()
	wall := time.Since(began).Seconds()
	if cause := context.Cause(ctx); cause != nil {
		return ran{}, cause
	}
	var out ran
	for i := range n {
		if errs[i] != nil {
			return ran{}, errs[i]
		}
		out.processors += used[i].Processor.Seconds() / wall
		out.memory += used[i].Memory
		if speed := seconds / used[i].Wall.Seconds(); i == 0 || speed < out.slowest {
			out.slowest = speed
		}
	}
	return out, nil
}
