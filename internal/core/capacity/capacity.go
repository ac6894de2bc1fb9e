// Package capacity says how much a machine converts at once: from what was measured on it, or by
// rules of thumb until then.
//
// What a conversion costs has three parts: each pixel that is decoded, each that is encoded, and each
// whose dynamic range is narrowed. Weights holds the three, and three measured tasks give them.
package capacity

import (
	"math"
	"slices"
	"time"
)

// Task is one conversion that is measured.
type Task struct {
	Name         string
	Width        int // of the film
	Height       int
	HDR          bool
	MadeW, MadeH int // of the picture that is made
}

// Rate is how many pictures a second the films of all tasks have.
const Rate = 24

// Tasks are those that are measured. Of the first two the weights of decoding and encoding are found,
// of the third that of a narrowed range.
var Tasks = []Task{
	{Name: "1080p to 720p", Width: 1920, Height: 1080, MadeW: 1280, MadeH: 720},
	{Name: "1080p to 480p", Width: 1920, Height: 1080, MadeW: 854, MadeH: 480},
	{Name: "2160p HDR to 1080p", Width: 3840, Height: 2160, HDR: true, MadeW: 1920, MadeH: 1080},
}

// Run is what came of one task by one way.
type Run struct {
	Task string `json:"task"`
	Way  string `json:"way"`
	// Speed is that of one alone: seconds of film a second.
	Speed float64 `json:"speed"`
	// AtOnce is how many were made at once, each as fast as it is watched. In a quick measurement it
	// is reckoned from Speed.
	AtOnce int `json:"at_once"`
	// Slowest is the speed of the slowest of those; 0 where it was not measured.
	Slowest float64 `json:"slowest,omitempty"`
	// Processors is how many of them were kept busy, and Memory what was taken, in bytes: by all of
	// AtOnce together, or by one where none or one was fast enough.
	Processors float64 `json:"processors"`
	Memory     int64   `json:"memory"`
	Problem    string  `json:"problem,omitempty"` // why it could not be measured
}

// Measured is what was found out about a machine.
type Measured struct {
	At         time.Time `json:"measured_at"`
	Quick      bool      `json:"quick"`
	Processors int       `json:"processors_there"`
	FFmpeg     string    `json:"ffmpeg"` // its version
	Runs       []Run     `json:"runs"`
}

// run finds one.
func (m Measured) run(way, task string) (Run, bool) {
	i := slices.IndexFunc(m.Runs, func(r Run) bool { return r.Way == way && r.Task == task && r.Problem == "" })
	if i < 0 {
		return Run{}, false
	}
	return m.Runs[i], m.Runs[i].Speed > 0
}

// AtOnce is how many pictures may be made at once by a way: as many as of the smallest task. At least
// one, since a slow one is better than none; 0 where it was not measured.
func (m Measured) AtOnce(way string) int {
	most := 0
	for _, t := range Tasks {
		if r, ok := m.run(way, t.Name); ok {
			most = max(most, r.AtOnce, 1)
		}
	}
	return most
}

// Weights says what a conversion costs.
type Weights struct {
	Room    float64 // pixels a second that the whole machine encodes if it did nothing else
	Decode  float64 // how much a decoded pixel costs, by an encoded one
	ToneMap float64 // how much one costs whose range is narrowed, by an encoded one
}

// Cost is what a picture costs, in encoded pixels a second.
func (w Weights) Cost(width, height, madeW, madeH int, rate float64, hdr bool) float64 {
	made := float64(madeW * madeH)
	cost := made + w.Decode*float64(width*height)
	if made*rate > ManyPixels {
		cost -= made * (1 - quickly)
	}
	if hdr {
		cost += w.ToneMap * made
	}
	return cost * rate
}

// ManyPixels is from how many pixels a second on an encoder in software does less for each; quickly is
// what one costs then.
const (
	ManyPixels = 40e6
	quickly    = 0.6
)

// pixelsEach is how many pixels a second a processor of the last ten years encodes in software.
const pixelsEach = 30e6

// Expected gives the weights of software on a machine that was not measured.
func Expected(processors float64) Weights {
	return Weights{Room: pixelsEach * max(0.5, processors), Decode: 0.12, ToneMap: 1}
}

// hardwarePixels is how many pixels a second a graphics device of the last ten years encodes.
const hardwarePixels = 250e6

// ExpectedHardware gives the weights of a graphics device that was not measured. The range of a picture
// is narrowed by the processors, with other ways.
func ExpectedHardware(processors int) Weights {
	return Weights{Room: hardwarePixels, Decode: 0.25,
		ToneMap: hardwarePixels / (pixelsEach * float64(max(1, processors)))}
}

// Expect is how many of a task a machine makes at once by its weights.
func (w Weights) Expect(t Task) int {
	cost := w.Cost(t.Width, t.Height, t.MadeW, t.MadeH, Rate, t.HDR)
	if cost <= 0 {
		return 0
	}
	return int(w.Room / cost)
}

// Weights gives those of a way that was measured. What was not, or makes no sense, is as expected.
func (m Measured) Weights(way string) (Weights, bool) {
	large, ok := m.run(way, Tasks[0].Name)
	small, also := m.run(way, Tasks[1].Name)
	if !ok || !also {
		return Weights{}, false
	}
	out := Expected(1)
	// The part of the machine that a task takes at the speed of watching is decode·a + encode·b.
	share := func(r Run) float64 {
		if r.AtOnce > 0 && r.Slowest > 0 {
			return 1 / (float64(r.AtOnce) * r.Slowest)
		}
		return 1 / r.Speed
	}
	pixels := func(t Task) (film, made float64) {
		return float64(t.Width*t.Height) * Rate, float64(t.MadeW*t.MadeH) * Rate
	}
	film, madeLarge := pixels(Tasks[0])
	_, madeSmall := pixels(Tasks[1])
	encode := (share(large) - share(small)) / (madeLarge - madeSmall)
	decode := (share(small) - encode*madeSmall) / film
	if !(encode > 0) || !(decode >= 0) {
		// Both together are what is sure; a small picture that costs as much as a large one is noise.
		encode = share(large) / (madeLarge + out.Decode*film)
		decode = out.Decode * encode
	}
	out.Room, out.Decode = 1/encode, decode/encode
	if hdr, ok := m.run(way, Tasks[2].Name); ok {
		film, made := pixels(Tasks[2])
		if tone := (share(hdr) - encode*made*quickly - decode*film) / made / encode; tone > 0 {
			out.ToneMap = tone
		} else {
			out.ToneMap = 0
		}
	}
	if math.IsInf(out.Room, 0) || math.IsNaN(out.Room+out.Decode+out.ToneMap) {
		return Weights{}, false
	}
	return out, true
}

// Fits reports whether what was measured is of this machine as it is now.
func (m Measured) Fits(processors int, ffmpeg string) bool {
	return m.Processors == processors && m.FFmpeg == ffmpeg && len(m.Runs) > 0
}

// StreamBytes is what one converted picture keeps in the scratch folder, in bytes: half a minute ahead,
// a quarter behind, and the same again for a seek.
func StreamBytes(bitrate int64) int64 { return bitrate / 8 * 90 }

// StreamMemory is what a run of ffmpeg takes for a film of so many lines, in bytes.
func StreamMemory(lines int) int64 {
	switch {
	case lines > 1080:
		return 900 << 20
	case lines > 720:
		return 350 << 20
	}
	return 200 << 20
}
