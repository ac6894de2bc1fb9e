package live

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/control"
	"cozyshelf/internal/convert"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/capacity"
	"cozyshelf/internal/core/encoders"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/ffmpeg"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
)

// converting is what is known of how this machine converts.
type converting struct {
	mu      sync.Mutex
	tried   []convert.Tried
	why     string // nothing can be converted
	missing bool   // since there is no ffmpeg, which nobody has asked for
	busy    bool   // it is being measured
}

// mostCapacity bounds how much of it is read, in bytes.
const mostCapacity = 1 << 20

// Convert makes renditions for as long as the server runs, where there is an ffmpeg.
func (s *Server) Convert(ctx context.Context) {
	var v blueprint.SettingsConvert
	if s.Settings.Convert != nil {
		v = *s.Settings.Convert
	}
	if v.Never || s.Settings.Scratch == "" {
		return
	}
	cannot := func(err error) {
		s.converting.mu.Lock()
		s.converting.why, s.converting.missing = err.Error(), errors.Is(err, ffmpeg.ErrMissing)
		s.converting.mu.Unlock()
		if v.Needed || !errors.Is(err, ffmpeg.ErrMissing) {
			s.Log.Warn("what a device does not play cannot be converted", "why", err)
		}
	}
	tools, err := ffmpeg.Find()
	if err != nil {
		cannot(err)
		return
	}
	processors := runtime.GOMAXPROCS(0)
	// Whoever watches already need not wait until every way was tried.
	software := []convert.Way{{Way: encoders.InSoftware, Weights: capacity.Expected(float64(processors))}}
	c := &convert.Converter{Tools: tools, Folder: s.Settings.Scratch, Limit: s.Settings.ScratchLimit * 9 / 10,
		Most: atOnce(v, capacity.Measured{}, software, processors), Ways: software, Log: s.Log}
	if fonts := filepath.Join(blueprint.FFmpegInside, "fonts"); folderThere(fonts) {
		c.Fonts = fonts
	}
	s.Converter.Store(c)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var running sync.WaitGroup
	running.Go(func() { c.Run(ctx) })
	defer running.Wait()
	// A start has enough to do: the first visitors, and the scan.
	select {
	case <-time.After(trialPause):
	case <-ctx.Done():
		return
	}
	tried, err := convert.TryAll(ctx, tools, v.Device, machine.Encoders(), s.Settings.Scratch)
	measured := s.readMeasured()
	if version, err := tools.Version(ctx); err != nil || !measured.Fits(processors, version) {
		measured.Runs = nil // of another machine: it is shown, and not reckoned with
	}
	ways := convert.WaysOf(tried, measured, processors, s.Log)
	if err == nil && len(ways) == 0 {
		err = errors.New("this machine's ffmpeg makes no H.264: " + tried[len(tried)-1].Why)
	}
	if err != nil {
		if ctx.Err() == nil {
			cannot(err)
		}
		s.Converter.Store(nil)
		cancel()
		return
	}
	s.converting.mu.Lock()
	s.converting.tried = tried
	s.converting.mu.Unlock()
	c.Reckon(ways, atOnce(v, measured, ways, processors))
	running.Wait()
}

// trialPause is how long after the start the ways to convert are tried.
const trialPause = 3 * time.Second

func folderThere(name string) bool {
	st, err := os.Stat(name)
	return err == nil && st.IsDir()
}

// atOnce is how many pictures are made at once.
func atOnce(v blueprint.SettingsConvert, m capacity.Measured, ways []convert.Way, processors int) int {
	most := max(2, processors/2)
	if v.AtOnce > 0 {
		return v.AtOnce
	}
	if v.Measured {
		sum := 0
		for _, w := range ways {
			sum += m.AtOnce(w.Name())
		}
		if sum > 0 {
			return sum
		}
	}
	return most
}

// readMeasured gives what was measured last; nothing where that cannot be read.
func (s *Server) readMeasured() (m capacity.Measured) {
	f, err := os.Open(filepath.Join(s.Settings.State, layout.Capacity))
	if err != nil {
		return m
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, mostCapacity))
	if err != nil || json.Unmarshal(b, &m) != nil {
		return capacity.Measured{}
	}
	return m
}

// Measured gives what was measured last.
func (s *Server) Measured() (capacity.Measured, error) {
	if m := s.readMeasured(); !m.At.IsZero() {
		return m, nil
	}
	return capacity.Measured{}, &StatusError{Problem: &problem.Problem{What: "this machine was not measured yet",
		Why: "nobody has done it", Fix: "cozyshelf capacity does it"}, Status: http.StatusNotFound}
}

// Measure measures how much this machine converts, keeps it, and goes by it from now on.
func (s *Server) Measure(ctx context.Context, m convert.Measuring) (capacity.Measured, error) {
	c := s.Converter.Load()
	k := &s.converting
	k.mu.Lock()
	switch why := k.why; {
	case c == nil:
		k.mu.Unlock()
		if v := s.Settings.Convert; v != nil && v.Never {
			why = "[convert] in the household file says never"
		} else if why == "" {
			why = "it has only just started, and still tries what works"
		}
		return capacity.Measured{}, &StatusError{Problem: &problem.Problem{What: "nothing can be measured", Why: why,
			Fix: "install ffmpeg on this machine, write when = \"needed\" under [convert], and deploy"},
			Status: http.StatusConflict}
	case k.busy:
		k.mu.Unlock()
		return capacity.Measured{}, &StatusError{Problem: &problem.Problem{What: "the machine is being measured",
			Why: "somebody else has begun it", Fix: "wait for its end"}, Status: http.StatusConflict}
	}
	k.busy = true
	k.mu.Unlock()
	defer func() {
		k.mu.Lock()
		k.busy = false
		k.mu.Unlock()
	}()
	out, err := c.Measure(ctx, m)
	if errors.Is(err, convert.ErrWatched) {
		return out, &StatusError{Problem: &problem.Problem{What: "the machine cannot be measured now", Why: err.Error(),
			Fix: "try again when nobody does; cozyshelf usage now shows who", Err: err}, Status: http.StatusConflict}
	}
	if err != nil {
		return out, err
	}
	out.Processors = runtime.GOMAXPROCS(0)
	b, err := json.MarshalIndent(out, "", "  ")
	if err != nil {
		return out, err
	}
	file := filepath.Join(s.Settings.State, layout.Capacity)
	if err := atomicfile.Replace(file, append(b, '\n'), 0o600, nil); err != nil {
		return out, err
	}
	k.mu.Lock()
	tried := slices.Clone(k.tried)
	k.mu.Unlock()
	var v blueprint.SettingsConvert
	if s.Settings.Convert != nil {
		v = *s.Settings.Convert
	}
	ways := convert.WaysOf(tried, out, out.Processors, s.Log)
	c.Reckon(ways, atOnce(v, out, ways, out.Processors))
	s.Log.Info("capacity measured", "quick", out.Quick, "runs", len(out.Runs))
	return out, nil
}

// ConvertStatus tells how this machine converts.
func (s *Server) ConvertStatus(ctx context.Context) *control.Converting {
	c := s.Converter.Load()
	k := &s.converting
	k.mu.Lock()
	defer k.mu.Unlock()
	if v := s.Settings.Convert; c == nil && (k.missing || k.why == "") && (v == nil || !v.Needed) {
		return nil
	}
	out := &control.Converting{Problem: k.why, Ways: []control.ConvertingWay{}, Streams: []control.Conversion{}}
	for _, t := range k.tried {
		out.Ways = append(out.Ways, control.ConvertingWay{Name: t.Name(), Codec: t.Codec, Why: t.Why})
	}
	if c != nil {
		out.AtOnce, out.Scratch = c.Bounds()
		for _, r := range c.Running() {
			v := control.Conversion{Height: r.Height, Bitrate: r.Bitrate, Way: r.Way, Speed: r.Speed, Viewers: r.Viewers}
			if id, err := strconv.ParseInt(r.File, 10, 64); err == nil {
				if t, _, err := s.Store.FileOf(ctx, id, 0); err == nil {
					v.Title = t.Name
				}
			}
			out.Streams = append(out.Streams, v)
		}
	}
	out.Measured = s.readMeasured().At
	return out
}
