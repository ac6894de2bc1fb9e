package delivery

import (
	"math"
	"slices"

	"cozyshelf/internal/core/capacity"
	"cozyshelf/internal/core/media"
)

// Ladder holds the heights, in lines, of pictures that are made.
var Ladder = []int{2160, 1080, 720, 480, 240}

// upright gives width and height of a picture as it is shown: turned, with square pixels.
func upright(t media.Track) (w, h int) {
	num, den := t.PixelRatio()
	w, h = int(math.Round(float64(t.Width)*float64(num)/float64(den))), t.Height
	if t.Rotation == 90 || t.Rotation == 270 {
		w, h = h, w
	}
	return w, h
}

// lines is how a picture is counted in bounds: 1080 for 1920×1080, for 1920×800, and for 1080×1920.
// A wide picture counts as the one of 16 to 9 that it would fit into.
func lines(w, h int) int {
	short, long := min(w, h), max(w, h)
	return max(short, (long*9+15)/16)
}

// Fit gives the size of a picture within a number of lines, in even numbers, never enlarged.
func Fit(t media.Track, most int) (w, h int) {
	w, h = upright(t)
	if n := lines(w, h); n > most && most > 0 {
		scale := float64(most) / float64(n)
		w, h = int(math.Round(float64(w)*scale)), int(math.Round(float64(h)*scale))
	}
	return max(2, w&^1), max(2, h&^1)
}

// BitrateFor gives the bits a second that a picture of H.264 is made with: 0.1 bits a pixel for
// 1080 lines of 25 pictures a second, and more for a smaller one.
func BitrateFor(w, h int, rate float64) int64 {
	if rate <= 0 {
		rate = 25
	}
	pixels := float64(w*h) * math.Sqrt(rate*25)
	return int64(0.1*math.Pow(pixels/51.84e6, 0.75)*51.84e6/1000) * 1000
}

// least is the smallest number of bits a second that a picture is worth making with.
const least = 100_000

// picture decides about the picture.
func (c *choice) picture() {
	t, n := c.track(0, media.Video)
	c.plan.Picture = Picture{Do: None}
	if n == 0 {
		if c.plan.Sound.Do == None {
			c.because(Unreadable, "there is neither picture nor sound in it")
			c.plan.As = Refused
		}
		return
	}
	w, h := upright(t)
	c.plan.Picture = Picture{Do: Copy, Track: n, Codec: t.Codec, Name: t.RFC6381, Width: w, Height: h}
	must, may := c.reasonsToMake(t)
	if !must && !may {
		return
	}
	wanted := c.wanted(t)
	refusals := len(c.plan.Reasons)
	if p, ok := c.makePicture(t, n, wanted); ok {
		c.plan.Picture = p
		return
	}
	if must {
		c.plan.As = Refused
		return
	}
	// It is only larger than the device wishes for, and that is better than nothing.
	c.plan.Reasons = c.plan.Reasons[:refusals]
	c.because(Larger, "a smaller picture cannot be made now, so it goes as it is")
}

// reasonsToMake says why the picture has to be made anew: must for what the device does not play or
// the member may not have, may for what is only larger than the device wishes for.
func (c *choice) reasonsToMake(t media.Track) (must, may bool) {
	before := len(c.plan.Reasons)
	switch c.device.playsPicture(t) {
	case otherCodec:
		c.because(PictureCodec, "the picture is %s, which this device does not play", spoken(t.Codec))
	case beyond:
		c.because(PictureProfile, "the picture is %s, which is more than this device plays of %s", described(t),
			spoken(t.Codec))
	}
	if t.HDR != "" && !c.device.HDR {
		c.because(PictureHDR, "the picture has a high dynamic range, which this device does not show")
	}
	switch {
	case len(c.plan.Reasons) > before:
	case c.file.closed() && (c.container() == "" || c.plan.Sound.Do == Make):
		c.because(PictureContainer, "its picture cannot be taken out of %s as it is",
			spokenContainer(c.file.Media.Container))
	}
	if c.container() == "" && !slices.Contains(packedPictures, t.Codec) && len(c.plan.Reasons) == before {
		c.because(PictureContainer, "%s cannot be sent to this device in a container that it takes", spoken(t.Codec))
	}
	n := lines(upright(t))
	if c.bounds.Height > 0 && n > c.bounds.Height {
		c.because(BoundHeight, "you may be sent pictures of up to %d lines here, and it has %d", c.bounds.Height, n)
	}
	if rate := c.file.bitrate(); c.bounds.Bitrate > 0 && rate > c.bounds.Bitrate {
		c.because(BoundBitrate, "you may be sent up to %s here, and it has %s", megabits(c.bounds.Bitrate),
			megabits(rate))
	}
	for _, s := range c.plan.Subtitles {
		if s.Do == Drawn {
			must = true
		}
	}
	must = must || len(c.plan.Reasons) > before
	switch most := c.wish.Lines; {
	case c.device.MaxHeight > 0 && n > c.device.MaxHeight:
		c.because(DeviceHeight, "this device wants up to %d lines, and it has %d", c.device.MaxHeight, n)
		may = true
	case most > 0 && n > most:
		c.because(WishedHeight, "%d lines were asked for, and it has %d", most, n)
		may = true
	}
	return must, may
}

// wanted is how many lines the picture should have that is made.
func (c *choice) wanted(t media.Track) int {
	n := lines(upright(t))
	for _, most := range []int{c.bounds.Height, c.device.MaxHeight, c.wish.Lines} {
		if most > 0 {
			n = min(n, most)
		}
	}
	return n
}

// rungs gives the heights that a picture of so many lines at most may be made with, the largest first. A
// film that is not as high as a rung is made as high as it is.
func (m Machine) rungs(most int) (out []int) {
	ladder := Ladder
	if len(m.Ladder) > 0 {
		ladder = m.Ladder
	}
	if len(m.Ladder) == 0 || slices.Max(ladder) >= most {
		out = append(out, most)
	}
	for _, n := range slices.Backward(slices.Sorted(slices.Values(ladder))) {
		if n < most {
			out = append(out, n)
		}
	}
	return out
}

// makePicture finds a way to make the picture: graphics hardware before software, and the largest
// picture that can be made.
func (c *choice) makePicture(t media.Track, track, most int) (Picture, bool) {
	if c.machine.Never {
		c.because(ConvertingOff, "this household converts nothing; the administrator can write when = \"needed\" "+
			"under [convert]")
		return Picture{}, false
	}
	if len(c.machine.Ways) == 0 {
		c.because(NoConverter, "the server has no ffmpeg to convert with; the administrator can have it packed")
		return Picture{}, false
	}
	taken, busy := false, false
	for _, n := range c.machine.rungs(most) {
		w, h := Fit(t, n)
		rate := t.FrameRate
		if rate <= 0 {
			rate = 25
		}
		p := Picture{Do: Make, Track: track, Width: w, Height: h, ToneMap: t.HDR != "",
			Bitrate: BitrateFor(w, h, rate)}
		if c.bounds.Bitrate > 0 {
			p.Bitrate = min(p.Bitrate, c.bounds.Bitrate-soundBits)
		}
		if p.Bitrate < least {
			continue
		}
		for _, way := range c.ways() {
			name := c.device.pictureToMake(way.Codec, w, h, rate)
			if name == "" {
				continue
			}
			taken = true
			costs := capacity.Weights{Decode: way.Decode, ToneMap: way.ToneMap}
			if way.Room < costs.Cost(t.Width, t.Height, w, h, rate, p.ToneMap) {
				busy = true
				continue
			}
			p.Codec, p.Name, p.Way = way.Codec, name, way.Name
			if busy && h < c.plan.Picture.Height && n < most {
				c.because(Smaller, "the machine is busy, so the picture is made with %d lines", n)
			}
			return p, true
		}
	}
	switch {
	case c.bounds.Bitrate > 0 && c.bounds.Bitrate-soundBits < least:
		c.because(BoundTooLow, "%s are too little for any picture; the administrator can allow more",
			megabits(c.bounds.Bitrate))
	case !taken:
		c.because(NothingInCommon, "this device plays no picture that the server can make; a device that plays H.264 "+
			"can have it")
	case busy:
		c.because(Busy, "the machine converts as much as it can; it works once somebody else stops")
	}
	return Picture{}, false
}

// soundBits is what is left for sound where the bitrate is bounded.
const soundBits = 192_000

// ways gives those of the machine: hardware first, and H.264 before what fewer devices play.
func (c *choice) ways() []Way {
	out := slices.Clone(c.machine.Ways)
	rank := func(w Way) int {
		n := slices.Index([]string{"h264", "hevc", "av1"}, w.Codec)
		if !w.Hardware {
			n += 10
		}
		return n
	}
	slices.SortStableFunc(out, func(a, b Way) int { return rank(a) - rank(b) })
	return out
}
