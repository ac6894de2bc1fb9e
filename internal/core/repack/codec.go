package repack

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"

	"cozyshelf/internal/core/bits"
	"cozyshelf/internal/core/isobmff"
	"cozyshelf/internal/core/media"
)

// entryOfMP4 makes the sample entry of a track from the one that the file has. Of its boxes those
// are taken that devices know.
func (t *Track) entryOfMP4(description []byte) error {
	kind, entries := "", 0
	var b []byte
	isobmff.Each(description, func(k string, p []byte) {
		if entries++; entries == 1 {
			kind, b = k, p
		}
	})
	if entries != 1 {
		return unfit("its tracks change their form within")
	}
	if t.Info.Kind == media.Video {
		return t.pictureOfMP4(b)
	}
	return t.soundOfMP4(kind, b)
}

// configs are the boxes in which pictures keep the configuration of their codec.
var configs = map[string]string{"h264": "avcC", "hevc": "hvcC", "av1": "av1C", "vp9": "vpcC"}

func (t *Track) pictureOfMP4(b []byte) error {
	if len(b) < 78 || configs[t.Info.Codec] == "" {
		return unfit("%s is not carried in segments", t.Info.Codec)
	}
	var config, colour []byte
	isobmff.Each(b[78:], func(k string, p []byte) {
		switch {
		case k == configs[t.Info.Codec]:
			config = p
		case k == "colr" && len(p) >= 11 && string(p[:4]) == "nclx":
			colour = p[4:11]
		case k == "colr" && len(p) >= 10 && string(p[:4]) == "nclc":
			colour = append(bytes.Clone(p[4:10]), 0)
		}
	})
	return t.picture(config, colour)
}

// picture writes the sample entry of a picture. colour is as in a colr box, or nil.
func (t *Track) picture(config, colour []byte) error {
	if len(config) < 4 {
		return unfit("the configuration of its picture is missing")
	}
	name := map[string]string{"h264": "avc1", "hevc": "hvc1", "av1": "av01", "vp9": "vp09"}[t.Info.Codec]
	// Where the parameters stand in the stream only, that is named so.
	switch {
	case t.Info.Codec == "h264" && (len(config) < 7 || config[5]&31 == 0):
		name = "avc3"
	case t.Info.Codec == "hevc" && (len(config) < 23 || config[22] == 0):
		name = "hev1"
	}
	if _, rest, ok := strings.Cut(t.Info.RFC6381, "."); ok {
		t.Info.RFC6381 = name + "." + rest
	}
	w := &writer{}
	w.box(name, func() {
		w.zeros(6)
		w.u16(1)
		w.zeros(16)
		w.u16(min(t.Info.Width, 65535), min(t.Info.Height, 65535))
		w.u32(0x480000, 0x480000, 0)
		w.u16(1)
		w.zeros(32)
		w.u16(24, 0xffff)
		w.box(configs[t.Info.Codec], func() { w.bytes(config) })
		if num, den := t.Info.PixelRatio(); num != den {
			w.box("pasp", func() { w.u32(num, den) })
		}
		if len(colour) == 7 {
			w.box("colr", func() { w.text("nclx"); w.bytes(colour) })
		}
	})
	t.Entry = w.b
	return nil
}

func (t *Track) soundOfMP4(kind string, b []byte) error {
	if len(b) < 28 {
		return unfit("the configuration of its sound is missing")
	}
	found := map[string][]byte{}
	var read func(k string, p []byte)
	read = func(k string, p []byte) {
		switch {
		case k == "wave": // as QuickTime keeps them
			isobmff.Each(p, read)
		case k == "alac" && kind == "alac" && len(p) >= 28:
			found[k] = p
		case k == "esds", k == "dac3", k == "dec3", k == "dOps", k == "dfLa":
			found[k] = p
		}
	}
	isobmff.Each(b[min(len(b), media.SoundBoxes(b)):], read)
	switch t.Info.Codec {
	case "aac":
		if found["esds"] == nil {
			return unfit("the configuration of its sound is missing")
		}
		return t.sound("mp4a", "esds", found["esds"])
	case "mp3":
		return t.sound("mp4a", "esds", descriptor(0x6b, nil))
	case "ac3":
		if found["dac3"] != nil {
			return t.sound("ac-3", "dac3", found["dac3"])
		}
	case "eac3":
		return t.sound("ec-3", "dec3", found["dec3"])
	case "opus":
		return t.sound("Opus", "dOps", found["dOps"])
	case "flac":
		return t.sound("fLaC", "dfLa", found["dfLa"])
	case "alac":
		return t.sound("alac", "alac", found["alac"])
	}
	return unfit("%s is not carried in segments from this container", t.Info.Codec)
}

// sound writes the sample entry of sound.
func (t *Track) sound(name, config string, b []byte) error {
	if len(b) < 2 {
		return unfit("the configuration of its sound is missing")
	}
	rate := t.Info.SampleRate
	if rate > 65535 {
		rate = 0 // the codec's own configuration tells it
	}
	w := &writer{}
	w.box(name, func() {
		w.zeros(6)
		w.u16(1)
		w.zeros(8)
		w.u16(max(1, min(t.Info.Channels, 65535)), 16, 0, 0)
		w.u32(rate << 16)
		w.box(config, func() { w.bytes(b) })
	})
	t.Entry = w.b
	return nil
}

// descriptor writes an elementary stream descriptor (ISO/IEC 14496-1), as an esds box has it.
func descriptor(objectType byte, config []byte) []byte {
	w := &writer{}
	tag := func(tag byte, do func()) {
		w.u8(tag, 0x80, 0x80, 0x80, 0)
		at := len(w.b)
		do()
		n := len(w.b) - at
		w.b[at-2], w.b[at-1] = byte(n>>7|0x80), byte(n&0x7f)
	}
	w.full(0, 0)
	tag(3, func() {
		w.u16(0)
		w.u8(0)
		tag(4, func() {
			w.u8(objectType, 0x15)
			w.zeros(11)
			if len(config) > 0 {
				tag(5, func() { w.bytes(config) })
			}
		})
		tag(6, func() { w.u8(2) })
	})
	return w.b
}

// entryOfMatroska makes the sample entry of a track from what Matroska keeps of it: the private
// data of the codec, and where that says nothing, the first frame.
func (t *Track) entryOfMatroska(private, colour, first []byte) error {
	switch t.Info.Codec {
	case "h264", "hevc", "av1":
		return t.picture(private, colour)
	case "vp9":
		config, err := t.vp9Config(first, colour)
		if err != nil {
			return err
		}
		return t.picture(config, colour)
	case "aac":
		if len(private) < 2 {
			return unfit("the configuration of its sound is missing")
		}
		return t.sound("mp4a", "esds", descriptor(0x40, private))
	case "mp3":
		return t.sound("mp4a", "esds", descriptor(0x6b, nil))
	case "ac3":
		return t.sound("ac-3", "dac3", ac3Config(first))
	case "eac3":
		return t.sound("ec-3", "dec3", eac3Config(first))
	case "opus":
		if len(private) < 19 || string(private[:8]) != "OpusHead" {
			return unfit("the configuration of its sound is missing")
		}
		// The same fields, but in network order (Encapsulation of Opus in ISO BMFF, 4.3.2).
		w := &writer{}
		w.u8(0, private[9])
		w.u16(int(binary.LittleEndian.Uint16(private[10:])))
		w.u32(int(binary.LittleEndian.Uint32(private[12:])))
		w.u16(int(binary.LittleEndian.Uint16(private[16:])))
		w.bytes(private[18:])
		return t.sound("Opus", "dOps", w.b)
	case "flac":
		if len(private) < 42 || string(private[:4]) != "fLaC" {
			return unfit("the configuration of its sound is missing")
		}
		// The stream's own block is enough, as the last one.
		block := bytes.Clone(private[4:42])
		block[0] |= 0x80
		return t.sound("fLaC", "dfLa", append([]byte{0, 0, 0, 0}, block...))
	case "alac":
		if len(private) < 24 {
			return unfit("the configuration of its sound is missing")
		}
		return t.sound("alac", "alac", append([]byte{0, 0, 0, 0}, private[len(private)-24:]...))
	}
	return unfit("%s is not carried in segments", t.Info.Codec)
}

// vp9Config makes a VPCodecConfigurationRecord from the header of a key frame (VP9 Bitstream
// Specification, 6.2), and names the track by it.
func (t *Track) vp9Config(frame, colour []byte) ([]byte, error) {
	r := bits.Of(frame)
	if r.Int(2) != 2 {
		return nil, unfit("its first picture is none of VP9")
	}
	profile := r.Int(1) | r.Int(1)<<1
	if profile == 3 {
		r.Int(1)
	}
	if again, dependent := r.Int(1), r.Int(1); again+dependent > 0 {
		return nil, unfit("its first picture is no key frame")
	}
	r.Int(2)
	if r.Int(24) != 0x498342 {
		return nil, unfit("its first picture is none of VP9")
	}
	depth, chroma := 8, 1
	if profile >= 2 {
		depth = 10 + 2*r.Int(1)
	}
	full := 0
	if space := r.Int(3); space != 7 {
		full = r.Int(1)
		if profile == 1 || profile == 3 {
			chroma = map[int]int{0: 3, 1: 3, 2: 2, 3: 1}[r.Int(1)<<1|r.Int(1)]
		}
	} else {
		full, chroma = 1, 3
	}
	if len(colour) != 7 {
		colour = []byte{0, 2, 0, 2, 0, 2, 0} // not told
	}
	level := media.VP9Level(t.Info.Width, t.Info.Height, t.Info.FrameRate)
	t.Info.RFC6381 = fmt.Sprintf("vp09.%02d.%02d.%02d", profile, level, depth)
	t.Info.BitDepth = depth
	return []byte{1, 0, 0, 0, byte(profile), byte(level), byte(depth<<4 | chroma<<1 | full), colour[1], colour[3],
		colour[5], 0, 0}, nil
}

// ac3Config makes an AC3SpecificBox's payload from a frame (ETSI TS 102 366, 4.4 and F.4).
func ac3Config(frame []byte) []byte {
	r := bits.Of(frame)
	if r.Int(16) != 0x0b77 {
		return nil
	}
	r.Int(16)
	fscod, frmsizecod, bsid, bsmod, acmod := r.Int(2), r.Int(6), r.Int(5), r.Int(3), r.Int(3)
	if acmod&1 == 1 && acmod != 1 {
		r.Int(2)
	}
	if acmod&4 != 0 {
		r.Int(2)
	}
	if acmod == 2 {
		r.Int(2)
	}
	lfe := r.Int(1)
	v := fscod<<22 | bsid<<17 | bsmod<<14 | acmod<<11 | lfe<<10 | frmsizecod>>1<<5
	return []byte{byte(v >> 16), byte(v >> 8), byte(v)}
}

// eac3Config makes an EC3SpecificBox's payload from a sample: one independent stream, with those
// that depend on it (ETSI TS 102 366, E.1.2 and F.6).
func eac3Config(sample []byte) []byte {
	var out []byte
	locations, dependent, rate := 0, 0, 0
	for b := sample; len(b) >= 7; {
		r := bits.Of(b)
		if r.Int(16) != 0x0b77 {
			break
		}
		kind := r.Int(2)
		r.Int(3)
		size := 2 * (r.Int(11) + 1)
		fscod := r.Int(2)
		blocks := 6
		if fscod == 3 {
			r.Int(2)
		} else {
			blocks = []int{1, 2, 3, 6}[r.Int(2)]
		}
		acmod, lfe, bsid := r.Int(3), r.Int(1), r.Int(5)
		hz := []int{48000, 44100, 32000, 24000}[fscod]
		rate += size * 8 * hz / (256 * blocks) / 1000
		switch {
		case kind == 0 && out == nil:
			// Behind bsid there are six bits that are 0 for one main stream.
			v := fscod<<14 | bsid<<9 | acmod<<1 | lfe
			out = []byte{byte(v >> 8), byte(v)}
		case kind == 1:
			dependent++
			locations |= eac3Places(r, acmod)
		}
		if size > len(b) {
			break
		}
		b = b[size:]
	}
	if out == nil {
		return nil
	}
	head := min(rate, 8191) << 3
	out = append([]byte{byte(head >> 8), byte(head)}, out...)
	if dependent == 0 {
		return append(out, 0)
	}
	v := min(dependent, 15)<<9 | locations
	return append(out, byte(v>>8), byte(v))
}

// eac3Places reads where the channels of a dependent stream are, as chan_loc has them.
func eac3Places(r *bits.Reader, acmod int) int {
	r.Int(5) // dialogue
	if r.Int(1) == 1 {
		r.Int(8)
	}
	if acmod == 0 {
		r.Int(5)
		if r.Int(1) == 1 {
			r.Int(8)
		}
	}
	if r.Int(1) == 0 {
		return 0
	}
	places := r.Int(16)
	out := 0
	// From bits of chanmap, counted from the left, to those of chan_loc.
	for bit, to := range map[int]int{5: 0, 6: 1, 7: 2, 8: 3, 9: 4, 10: 5, 11: 6, 12: 7, 14: 8} {
		if places>>(15-bit)&1 == 1 {
			out |= 1 << to
		}
	}
	return out
}
