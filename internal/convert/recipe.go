package convert

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"

	"cozyshelf/internal/core/capacity"
	"cozyshelf/internal/core/encoders"
	"cozyshelf/internal/core/media"
)

// Recipe is what is made of one track of a file.
type Recipe struct {
	File    string // which file, in which state: recipes of different files never meet
	Track   int    // in the file, counted from 1
	Source  media.Track
	Width   int // of a picture, as it is made
	Height  int
	Bitrate int64
	ToneMap bool
	Burn    int // the track of subtitles that is drawn into the picture, counted from 1; 0 for none
	// BurnText tells that those are text, and the how manyth of the file's subtitles they are, from 1.
	BurnText int
	// By which way a picture is made, by its name, and in what; software and H.264 where it is empty.
	Way, Codec string
	Quality    encoders.Quality // of software; by the size of the picture where it is empty

	fonts string // a folder of them, for subtitles that bring none; empty for the machine's
	// Of sound. Level brings loud and quiet parts together, after it was made louder by Gain (dB).
	Channels int
	Level    bool
	Gain     float64
	// From where the pieces count, in seconds, and the end.
	Start, End float64
}

// picture reports whether it is one of a picture.
func (r Recipe) picture() bool { return r.Height > 0 }

// key tells recipes apart.
func (r Recipe) key() string {
	return fmt.Sprintf("%s %d %s %dx%d %d %t %s %d %t %.1f %g", r.File, r.Track, r.Codec, r.Width, r.Height, r.Bitrate,
		r.ToneMap, fmt.Sprint(r.Burn, r.BurnText), r.Channels, r.Level, r.Gain, r.Start)
}

// Lengths of pieces, in seconds. Those of sound are of whole frames of AAC at 48 kHz, so that pieces
// which were made apart fit together.
const (
	pictureStep = 1.0
	soundStep   = 192 * 1024.0 / 48000
	soundLead   = 4 * 1024.0 / 48000  // made before a piece of sound, and thrown away
	levelLead   = 96 * 1024.0 / 48000 // the same, where it depends on how loud it has been
)

// lead is how much is made before a piece, and thrown away.
func (r Recipe) lead() float64 {
	switch {
	case r.picture():
		return 0
	case r.Level:
		return levelLead
	}
	return soundLead
}

// Step is how long a piece lasts.
func (r Recipe) Step() float64 {
	if r.picture() {
		return pictureStep
	}
	return soundStep
}

// scale is what a second has of the made track's units.
func (r Recipe) scale() int64 {
	if r.picture() {
		return 90000
	}
	return 48000
}

// Lengths gives the lengths of all pieces.
func (r Recipe) Lengths() (out []float64) {
	for at := r.Start; at < r.End-0.02 && len(out) < mostPieces; at += r.Step() {
		out = append(out, min(r.Step(), r.End-at))
	}
	if len(out) == 0 {
		out = append(out, max(0.1, r.End-r.Start))
	}
	return out
}

// mostPieces bounds how many pieces a film has.
const mostPieces = 1 << 16

// arguments are those of ffmpeg that make it from a moment on: before the input, and behind it.
// seek counts from the file's beginning; late is how much later than its first piece the film begins.
func (r Recipe) arguments(way encoders.Way, seek, late float64, threads int) (before, after []string) {
	if seek > 0 { // to the beginning not all forms can be sought
		before = []string{"-ss", strconv.FormatFloat(seek, 'f', 6, 64)}
	}
	if threads > 0 {
		before = append(before, "-threads", strconv.Itoa(threads))
	}
	moov := encoders.InSoftware.Moov()
	if r.picture() {
		before, after, moov = append(way.Before(), before...), r.pictureArguments(way, seek, late), way.Moov()
	} else {
		after = r.soundArguments()
	}
	return before, append(after, "-map_metadata", "-1", "-map_chapters", "-1", "-avoid_negative_ts", "disabled",
		"-f", "mp4", "-movflags", "+"+moov+"+default_base_moof+frag_every_frame+frag_discont", "-flush_packets", "1")
}

// pictureArguments make a picture by a way. A key frame stands at the beginning of each piece, and no
// picture is stored out of its order, so that a piece can begin at any. It is made smaller before its
// range is narrowed, which is the costlier.
func (r Recipe) pictureArguments(way encoders.Way, seek, late float64) []string {
	filters := ""
	add := func(f string) {
		if filters != "" {
			filters += ","
		}
		filters += f
	}
	if r.Source.Interlaced {
		add("yadif=deint=interlaced")
	}
	add(fmt.Sprintf("scale=%d:%d:flags=bicubic,setsar=1", r.Width, r.Height))
	if r.ToneMap {
		add("zscale=t=linear:npl=100,format=gbrpf32le,zscale=p=bt709,tonemap=hable:desat=0," +
			"zscale=t=bt709:m=bt709:r=tv")
	}
	add(way.Filter())
	var out []string
	switch {
	case r.BurnText > 0:
		// They go by the film's clock, and what runs here begins with 0.
		fonts := ""
		if r.fonts != "" {
			fonts = ":fontsdir=" + r.fonts
		}
		filters = fmt.Sprintf("setpts=PTS+%.6f/TB,subtitles=filename=/proc/self/fd/3:si=%d%s,setpts=PTS-%.6f/TB,", seek,
			r.BurnText-1, fonts, seek) + filters
		out = []string{"-map", fmt.Sprintf("0:%d", r.Track-1), "-vf", filters}
	case r.Burn > 0:
		out = []string{"-filter_complex", fmt.Sprintf("[0:%d][0:%d]scale2ref[s][v];[v][s]overlay,%s[out]", r.Burn-1,
			r.Track-1, filters), "-map", "[out]"}
	default:
		out = []string{"-map", fmt.Sprintf("0:%d", r.Track-1), "-vf", filters}
	}
	out = append(out, "-an", "-sn", "-dn", "-fps_mode", "passthrough", "-enc_time_base", "1:90000")
	out = append(out, way.Encode(r.Bitrate, cmp.Or(r.Quality, r.quality()))...)
	return append(out, "-force_key_frames", r.keys(late), "-colorspace", "bt709", "-color_primaries", "bt709",
		"-color_trc", "bt709", "-video_track_timescale", "90000")
}

// longestRun is how many pieces one run makes at most, so that the times of their beginnings fit into
// an argument.
const longestRun = 8000

// keys gives the times of key frames as ffmpeg takes them. A list is meant by the film's clock; an
// expression would count from the first picture.
func (r Recipe) keys(late float64) string {
	var b strings.Builder
	b.WriteString("0")
	for i := 1; i <= longestRun; i++ {
		if at := float64(i)*r.Step() - late; at > 0 && at < r.End-r.Start {
			fmt.Fprintf(&b, ",%.3f", at)
		}
	}
	return b.String()
}

// quality is how much work the encoder does: as much as keeps up with who watches.
func (r Recipe) quality() encoders.Quality {
	if float64(r.Width*r.Height)*cmp.Or(r.Source.FrameRate, 25) > capacity.ManyPixels {
		return encoders.Quick
	}
	return encoders.Usual
}

// soundArguments make AAC. Of more than two channels stereo is made so that what is spoken stays
// clear: it comes from the middle.
func (r Recipe) soundArguments() []string {
	filters := "aresample=48000:async=1:first_pts=0"
	switch {
	case r.Channels <= 2 && cmp.Or(r.Source.Channels, 2) >= 6:
		filters += ",aformat=channel_layouts=5.1,pan=stereo|FL<1.0*FC+0.7*FL+0.4*BL|FR<1.0*FC+0.7*FR+0.4*BR"
	case r.Channels >= 6:
		filters += ",aformat=channel_layouts=5.1"
	}
	if r.Level {
		filters += fmt.Sprintf(",volume=%.1fdB,acompressor=threshold=0.05:ratio=4:attack=20:release=500:makeup=2,"+
			"alimiter=limit=0.7:level=false", r.Gain)
	}
	rate := "160k"
	if r.Channels >= 6 {
		rate = "384k"
	}
	return []string{"-map", fmt.Sprintf("0:%d", r.Track-1), "-vn", "-sn", "-dn", "-af", filters, "-ar", "48000", "-ac",
		strconv.Itoa(max(1, min(r.Channels, 6))), "-c:a", "aac", "-b:a", rate}
}

// Arguments are those with which ffmpeg makes the whole of it: before the input, and behind it.
func (r Recipe) Arguments() (before, after []string) {
	return r.arguments(encoders.InSoftware, 0, 0, 0)
}
