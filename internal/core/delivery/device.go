package delivery

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"cozyshelf/internal/core/media"
)

// Unknown is a device that said nothing: H.264 and AAC in MP4, as nearly everything plays them.
func Unknown() Device {
	return Device{Containers: []string{"mp4"}, Video: []string{"avc1.640028"}, Audio: []string{"mp4a.40.2"},
		MaxChannels: 2}
}

// PlainPlayer is a player program on a computer, which brings decoders for nearly everything.
func PlainPlayer() Device {
	return Device{
		Containers: []string{"mp4", "matroska", "webm", "avi", "mpegts", "mpeg", "flac", "mp3", "ogg", "wav", "adts"},
		Video: []string{"h264", "hevc", "av1", "vp9", "vp8", "mpeg4", "mpeg2video", "mpeg1video", "theora", "mjpeg",
			"prores"},
		Audio: []string{"aac", "ac3", "eac3", "dts", "truehd", "opus", "vorbis", "flac", "mp3", "mp2", "alac", "pcm",
			"pcm_s16le", "pcm_s16be", "pcm_u8"},
		HDR:       true,
		Subtitles: []string{"subrip", "webvtt", "ass", "mov_text", "hdmv_pgs_subtitle", "dvd_subtitle"},
	}
}

// Television is a television of the last ten years, of which no more is known.
func Television() Device {
	return Device{Containers: []string{"mp4", "mpegts"}, Video: []string{"avc1.640029"},
		Audio: []string{"mp4a.40.2", "ac-3", "mp4a.6B"}, MaxHeight: 1080, MaxChannels: 6}
}

// Known gives a device by the name of its sort.
func Known(name string) (Device, bool) {
	switch name {
	case "":
		return Unknown(), true
	case "player":
		return PlainPlayer(), true
	case "television":
		return Television(), true
	}
	return Device{}, false
}

// decoder is what a name of RFC 6381 asks of a decoder. Fields that a codec does not have are 0.
type decoder struct {
	family  string // the codec, by its common name
	any     bool   // all of it: only the family was named
	profile int
	tier    int
	level   int // in the codec's own counting
	depth   int
	flags   string // further constraints, as written
}

// families tell codecs by the first part of their names.
var families = map[string]string{"avc1": "h264", "avc3": "h264", "hvc1": "hevc", "hev1": "hevc", "dvh1": "hevc",
	"dvhe": "hevc", "av01": "av1", "vp09": "vp9", "vp08": "vp8", "ac-3": "ac3", "ec-3": "eac3", "dtsc": "dts",
	"dtsh": "dts", "dtsl": "dts"}

// parse reads a name.
func parse(name string) decoder {
	parts := strings.Split(strings.TrimSpace(name), ".")
	first := strings.ToLower(parts[0])
	d := decoder{family: first, any: len(parts) == 1}
	if f := families[first]; f != "" {
		d.family = f
	}
	if first == "mp4a" || first == "mp4v" {
		return objectType(parts)
	}
	num := func(i, base int) int {
		if i >= len(parts) {
			return -1
		}
		n, err := strconv.ParseInt(parts[i], base, 32)
		if err != nil || n < 0 {
			return -1
		}
		return int(n)
	}
	switch {
	case d.any:
	case d.family == "h264":
		v := num(1, 16)
		if len(parts) != 2 || len(parts[1]) != 6 || v < 0 {
			return decoder{family: first + "?"}
		}
		d.profile, d.flags, d.level, d.depth = v>>16, parts[1][2:4], v&255, 8
	case d.family == "hevc":
		d.profile = num(1, 10)
		if len(parts) > 1 {
			if p, err := strconv.Atoi(strings.TrimLeft(parts[1], "ABC")); err == nil {
				d.profile = p
			}
		}
		if len(parts) > 3 && len(parts[3]) > 1 {
			d.tier = strings.Index("LH", strings.ToUpper(parts[3][:1]))
			d.level, _ = strconv.Atoi(parts[3][1:]) // 0 plays nothing
		}
		if len(parts) > 4 {
			d.flags = strings.Join(parts[4:], ".")
		}
		d.depth = 8
		if d.profile == 2 {
			d.depth = 10
		}
	case d.family == "av1" && len(parts) >= 4 && len(parts[2]) == 3:
		d.profile, d.depth = num(1, 10), num(3, 10)
		d.tier = strings.Index("MH", strings.ToUpper(parts[2][2:]))
		d.level, _ = strconv.Atoi(parts[2][:2])
	case d.family == "vp9" && len(parts) >= 4:
		d.profile, d.level, d.depth = num(1, 10), num(2, 10), num(3, 10)
	case d.family == "vp8":
		d.any = true
	default:
		return decoder{family: name + "?"}
	}
	return d
}

// objectType reads the names that mp4a and mp4v have: the object type, and of AAC its own.
func objectType(parts []string) decoder {
	if len(parts) < 2 {
		return decoder{family: map[string]string{"mp4a": "aac", "mp4v": "mpeg4"}[strings.ToLower(parts[0])], any: true}
	}
	d := decoder{any: true}
	switch strings.ToLower(parts[1]) {
	case "40":
		d.family = "aac"
		if len(parts) > 2 {
			d.any = false
			d.profile, _ = strconv.Atoi(parts[2])
			if d.profile == 34 {
				return decoder{family: "mp3", any: true}
			}
		}
	case "66", "67", "68":
		d.family = "aac"
	case "69", "6b":
		d.family = "mp3"
	case "a5":
		d.family = "ac3"
	case "a6":
		d.family = "eac3"
	case "a9":
		d.family = "dts"
	case "20":
		d.family = "mpeg4"
	case "60", "61", "62", "63", "64", "65":
		d.family = "mpeg2video"
	case "6a":
		d.family = "mpeg1video"
	default:
		d.family = strings.Join(parts, ".") + "?"
	}
	return d
}

// What comes of asking whether a device plays a picture.
type played int

const (
	plays      played = iota
	otherCodec        // not at all
	beyond            // the codec, but not this much of it
)

// playsPicture reports whether a device plays a picture.
func (d Device) playsPicture(t media.Track) played {
	need := needOf(t)
	answer := otherCodec
	for _, name := range d.Video {
		can := parse(name)
		if can.family != t.Codec {
			continue
		}
		if can.any || can.covers(need) {
			return plays
		}
		answer = beyond
	}
	return answer
}

// needOf says what a decoder must do for a picture. Where headers do not tell, the size does.
func needOf(t media.Track) decoder {
	need := parse(t.RFC6381)
	if need.family != t.Codec || need.any {
		need = decoder{family: t.Codec, any: true}
	}
	if t.BitDepth > 0 {
		need.depth = t.BitDepth
	}
	if need.any && t.Codec == "vp9" {
		need = decoder{family: "vp9", depth: max(8, t.BitDepth)}
		if need.depth > 8 {
			need.profile = 2
		}
	}
	if need.family == "vp9" && need.level == 0 {
		need.level = media.VP9Level(t.Width, t.Height, t.FrameRate)
	}
	return need
}

// covers reports whether a decoder that does what c says can decode what need says.
func (c decoder) covers(need decoder) bool {
	if need.any || c.level < need.level {
		return false // what is not known counts against it
	}
	switch c.family {
	case "h264":
		// Each of these is contained in those after it (ITU-T H.264, A.2).
		order := []int{66, 77, 100, 110, 122, 244}
		have, want := slices.Index(order, c.profile), slices.Index(order, need.profile)
		return want >= 0 && have >= want || c.profile == need.profile
	case "hevc":
		if c.tier < need.tier || need.depth > c.depth && need.profile != c.profile {
			return false
		}
		if need.profile > 2 || c.profile > 2 {
			return c.profile == need.profile && c.flags == need.flags
		}
		return need.profile >= 1 && need.profile <= c.profile
	case "av1":
		return need.profile <= c.profile && need.tier <= c.tier && need.depth <= c.depth
	case "vp9":
		return need.depth <= c.depth && (need.profile == c.profile || need.profile == 0 ||
			need.profile == 2 && c.profile == 3)
	}
	return false
}

// playsSound reports whether a device plays a track of sound.
func (d Device) playsSound(t media.Track) bool {
	need := parse(t.RFC6381)
	for _, name := range d.Audio {
		can := parse(name)
		if can.family != t.Codec {
			continue
		}
		if can.any || t.Codec != "aac" || need.family == "aac" && !need.any && can.profile >= 1 &&
			(need.profile == can.profile || need.profile == 2 && (can.profile == 5 || can.profile == 29) ||
				need.profile == 5 && can.profile == 29) {
			return true
		}
	}
	return false
}

// soundToMake gives the codec in which sound is made for a device, and its name.
func (d Device) soundToMake() (codec, name string) {
	if t := (media.Track{Codec: "aac", RFC6381: "mp4a.40.2"}); d.playsSound(t) {
		return t.Codec, t.RFC6381
	}
	return "", ""
}

// H264 gives the name of a picture of H.264 of a size, if a device plays it, else "".
func (d Device) H264(w, h int, rate float64) string { return d.pictureToMake("h264", w, h, rate) }

// pictureToMake gives the name of a picture of a codec and a size, if a device plays it, else "".
func (d Device) pictureToMake(codec string, w, h int, rate float64) string {
	t := media.Track{Kind: media.Video, Codec: codec, Width: w, Height: h, FrameRate: rate, BitDepth: 8}
	var names []string
	switch codec {
	case "h264":
		level := media.AVCLevel(w, h, rate)
		names = []string{fmt.Sprintf("avc1.6400%02X", level), fmt.Sprintf("avc1.4D40%02X", level),
			fmt.Sprintf("avc1.42C0%02X", level)}
	case "hevc":
		names = []string{fmt.Sprintf("hvc1.1.6.L%d.90", media.HEVCLevel(w, h, rate))}
	case "av1":
		names = []string{fmt.Sprintf("av01.0.%02dM.08", media.AV1Level(w, h, rate))}
	}
	for _, n := range names {
		if t.RFC6381 = n; d.playsPicture(t) == plays {
			return n
		}
	}
	return ""
}
