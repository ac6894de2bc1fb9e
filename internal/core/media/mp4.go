package media

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"cozyshelf/internal/core/isobmff"
)

// mp4Start holds the boxes with which an MP4 file may begin.
var mp4Start = map[string]bool{"ftyp": true, "moov": true, "mdat": true, "free": true, "skip": true, "wide": true,
	"styp": true, "sidx": true, "moof": true}

func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return '?'
		}
		return r
	}, s)
}

func readMP4(r io.ReaderAt, size int64) (Info, error) {
	m := mp4{info: Info{Container: "mp4"}}
	found, data := false, false
	var short error
	err := isobmff.Top(r, size, func(b isobmff.Box) (bool, error) {
		switch b.Kind {
		case "moov":
			payload, err := window(r, b.Start, b.End-b.Start, size, "its index (moov)")
			if err != nil {
				return true, err
			}
			found = true
			m.moov(payload)
			if m.fragmented {
				return m.info.Duration > 0, nil
			}
			return data, nil // where the index is first, what it tells of must follow
		case "moof":
			payload, err := window(r, b.Start, b.End-b.Start, size, "a fragment (moof)")
			if err != nil {
				return true, nil // a recording that was cut off plays up to here
			}
			m.moof(payload)
		case "mdat":
			switch data = true; {
			case b.End <= size || m.fragmented:
			case !found:
				return true, fmt.Errorf("the file ends before its index (moov): at least %d bytes are missing",
					b.End-size)
			default:
				short = fmt.Errorf("the file ends inside its pictures and sound (mdat): %d bytes are missing",
					b.End-size)
			}
			return found && !m.fragmented, nil
		}
		return false, nil
	})
	switch {
	case err != nil && !found:
		return Info{}, err
	case !found:
		return Info{}, errors.New("the file has no index (moov)")
	case len(m.info.Tracks) == 0:
		return Info{}, errors.New("the file's index names no track")
	case short != nil:
		return Info{}, short
	}
	if m.info.Duration == 0 {
		m.info.Duration = m.fragmentEnd()
	}
	return m.info, nil
}

type mp4 struct {
	info       Info
	fragmented bool
	ids        map[uint32]*fragmentTrack
}

type fragmentTrack struct {
	scale, length uint32 // units a second; default sample duration
	end           uint64
}

func (m *mp4) moov(b []byte) {
	m.ids = map[uint32]*fragmentTrack{}
	var scale uint64
	isobmff.Each(b, func(kind string, p []byte) {
		switch kind {
		case "mvhd":
			var length uint64
			scale, length = timing(p)
			m.info.Made = created(p)
			if scale > 0 {
				m.info.Duration = float64(length) / float64(scale)
			}
		case "trak":
			m.trak(p)
		case "mvex":
			m.fragmented = true
			isobmff.Each(p, func(kind string, p []byte) {
				switch {
				case kind == "mehd" && scale > 0 && m.info.Duration == 0:
					length := uint64(0)
					if len(p) >= 12 && p[0] == 1 {
						length = binary.BigEndian.Uint64(p[4:])
					} else if len(p) >= 8 {
						length = uint64(binary.BigEndian.Uint32(p[4:]))
					}
					m.info.Duration = float64(length) / float64(scale)
				case kind == "trex" && len(p) >= 16:
					if t := m.ids[binary.BigEndian.Uint32(p[4:])]; t != nil {
						t.length = binary.BigEndian.Uint32(p[12:])
					}
				}
			})
		}
	})
}

// timing reads the time scale and duration of mvhd and mdhd, which share a form.
func timing(p []byte) (scale, length uint64) {
	if len(p) >= 32 && p[0] == 1 {
		scale, length = uint64(binary.BigEndian.Uint32(p[20:])), binary.BigEndian.Uint64(p[24:])
		if length == 1<<64-1 {
			length = 0
		}
	} else if len(p) >= 20 && p[0] == 0 {
		scale, length = uint64(binary.BigEndian.Uint32(p[12:])), uint64(binary.BigEndian.Uint32(p[16:]))
		if length == 1<<32-1 {
			length = 0
		}
	}
	return scale, length
}

// created reads the moment at which the file was made from mvhd: seconds since the
// beginning of 1904.
func created(p []byte) string {
	var v uint64
	if len(p) >= 12 && p[0] == 1 {
		v = binary.BigEndian.Uint64(p[4:])
	} else if len(p) >= 8 && p[0] == 0 {
		v = uint64(binary.BigEndian.Uint32(p[4:]))
	}
	const epoch = 2082844800 // 1904 before 1970
	if v < epoch || v > 1<<34 {
		return ""
	}
	return made(time.Unix(int64(v-epoch), 0))
}

func (m *mp4) trak(b []byte) {
	var t Track
	var id, scale uint32
	var length uint64
	isobmff.Each(b, func(kind string, p []byte) {
		switch kind {
		case "tkhd":
			at := 40
			if len(p) >= 24 && p[0] == 1 {
				id, at = binary.BigEndian.Uint32(p[20:]), 52
			} else if len(p) >= 16 {
				id = binary.BigEndian.Uint32(p[12:])
			}
			if len(p) >= at+36 {
				t.Rotation = rotation(p[at:])
			}
		case "mdia":
			isobmff.Each(p, func(kind string, p []byte) {
				switch kind {
				case "mdhd":
					s, n := timing(p)
					scale, length = uint32(s), n
					t.Language = mdhdLanguage(p)
				case "hdlr":
					if len(p) >= 12 {
						t.Kind = map[string]string{"vide": Video, "soun": Audio, "subt": Subtitle, "sbtl": Subtitle,
							"text": Subtitle}[string(p[8:12])]
					}
				case "minf":
					isobmff.Each(p, func(kind string, p []byte) {
						if kind == "stbl" {
							isobmff.Each(p, func(kind string, p []byte) {
								switch {
								case kind == "stsd" && len(p) >= 8:
									sampleEntry(&t, p[8:])
								case kind == "stts" && t.Kind == Video && length > 0:
									t.rate(float64(samplesOf(p)) * float64(scale) / float64(length))
								}
							})
						}
					})
				}
			})
		}
	})
	if t.Kind == "" {
		t.Kind = Data
	}
	t.named()
	m.info.Tracks = append(m.info.Tracks, t)
	m.ids[id] = &fragmentTrack{scale: scale}
}

// rotation tells by the matrix of a track's header how it is to be turned: by quarters only.
func rotation(matrix []byte) int {
	at := func(i int) int32 { return int32(binary.BigEndian.Uint32(matrix[4*i:])) }
	const one = 1 << 16
	switch [4]int32{at(0), at(1), at(3), at(4)} {
	case [4]int32{0, one, -one, 0}:
		return 90
	case [4]int32{-one, 0, 0, -one}:
		return 180
	case [4]int32{0, -one, one, 0}:
		return 270
	}
	return 0
}

// samplesOf counts the samples that an stts box tells of.
func samplesOf(p []byte) (n uint64) {
	if len(p) < 8 {
		return 0
	}
	for p = p[8:]; len(p) >= 8; p = p[8:] {
		n += uint64(binary.BigEndian.Uint32(p))
	}
	return n
}

// mdhdLanguage reads three letters packed in five bits each (ISO 639-2).
func mdhdLanguage(p []byte) string {
	at := 20
	if len(p) > 0 && p[0] == 1 {
		at = 32
	}
	if len(p) < at+2 {
		return ""
	}
	v := binary.BigEndian.Uint16(p[at:])
	s := []byte{byte(v>>10&31) + 0x60, byte(v>>5&31) + 0x60, byte(v&31) + 0x60}
	for _, c := range s {
		if c < 'a' || c > 'z' {
			return ""
		}
	}
	if string(s) == "und" {
		return ""
	}
	return string(s)
}

var mp4Codecs = map[string]string{
	"avc1": "h264", "avc3": "h264", "hvc1": "hevc", "hev1": "hevc", "av01": "av1", "vp08": "vp8", "vp09": "vp9",
	"mp4v": "mpeg4", "s263": "h263", "jpeg": "mjpeg", "mp4a": "aac", "ac-3": "ac3", "ec-3": "eac3", "Opus": "opus",
	"fLaC": "flac",
	"alac": "alac", ".mp3": "mp3", "tx3g": "mov_text", "text": "mov_text", "wvtt": "webvtt", "stpp": "ttml",
	"apch": "prores",
	"apcn": "prores",
	"sowt": "pcm_s16le", "twos": "pcm_s16be", "dtsc": "dts", "dtsh": "dts", "dtsl": "dts",
}

// sampleEntry reads the first entry of a sample description: codec, picture
// size, channels and sample rate.
func sampleEntry(t *Track, b []byte) {
	done := false
	isobmff.Each(b, func(kind string, p []byte) {
		if done {
			return
		}
		done = true
		t.Codec = mp4Codecs[kind]
		if t.Codec == "" {
			t.Codec = strings.TrimSpace(printable(kind))
		}
		switch t.Kind {
		case Video:
			if len(p) >= 28 {
				t.Width, t.Height = int(binary.BigEndian.Uint16(p[24:])), int(binary.BigEndian.Uint16(p[26:]))
			}
			if len(p) > 78 {
				isobmff.Each(p[78:], func(k string, q []byte) { t.pictureBox(kind, k, q) })
			}
		case Audio:
			if len(p) >= 28 {
				t.Channels = int(binary.BigEndian.Uint16(p[16:]))
				t.SampleRate = int(binary.BigEndian.Uint32(p[24:]) >> 16)
			}
			if at := SoundBoxes(p); len(p) > at {
				var read func(k string, q []byte)
				read = func(k string, q []byte) {
					switch {
					case k == "wave": // as QuickTime keeps them
						isobmff.Each(q, read)
					case k == "esds":
						t.Codec = esdsCodec(q, t.Codec)
						if n := aacChannels(q); t.Codec == "aac" && n > 0 {
							t.Channels = n
						}
						if c := decoderConfig(q); len(c) > 13 {
							if tag, d := descriptor(c[13:]); tag == 5 {
								t.aacConfig(d)
							}
						}
					case k == "dac3" && len(q) >= 3:
						// acmod and lfeon (ETSI TS 102 366, F.4).
						t.Channels = []int{2, 1, 2, 3, 3, 4, 4, 5}[q[1]>>3&7] + int(q[1]>>2&1)
					case k == "dOps" && len(q) >= 8:
						t.Channels = int(q[1])
						t.SampleRate = 48000
					}
				}
				isobmff.Each(p[at:], read)
			}
		}
	})
}

// SoundBoxes is where the boxes within the sample entry of sound begin: QuickTime's own versions
// have further fields before them.
func SoundBoxes(p []byte) int {
	if len(p) < 10 {
		return 28
	}
	switch binary.BigEndian.Uint16(p[8:]) {
	case 1:
		return 44
	case 2:
		return 64
	}
	return 28
}

// pictureBox reads a box within the sample entry of a picture.
func (t *Track) pictureBox(entry, kind string, p []byte) {
	switch kind {
	case "esds":
		if entry == "mp4v" {
			t.Codec = esdsCodec(p, t.Codec)
		}
	case "avcC":
		t.avcConfig(entry, p)
	case "hvcC":
		t.hevcConfig(entry, p)
	case "av1C":
		t.av1Config(p)
	case "vpcC":
		if len(p) > 4 {
			t.vpConfig(entry, p[4:])
		}
	case "pasp":
		if len(p) >= 8 {
			t.PixelShape = ""
			t.shape(int(binary.BigEndian.Uint32(p)), int(binary.BigEndian.Uint32(p[4:])))
		}
	case "colr":
		if len(p) >= 10 && (string(p[:4]) == "nclx" || string(p[:4]) == "nclc") {
			t.HDR = transferKind(int(binary.BigEndian.Uint16(p[6:])))
		}
	}
}

// esdsCodec tells codecs apart that share a sample entry, by the object type of
// the elementary stream descriptor (ISO/IEC 14496-1, 8.3.3).
func esdsCodec(p []byte, otherwise string) string {
	p = decoderConfig(p)
	if len(p) < 1 {
		return otherwise
	}
	switch p[0] {
	case 0x20:
		return "mpeg4"
	case 0x40, 0x66, 0x67, 0x68:
		return "aac"
	case 0x60, 0x61, 0x62, 0x63, 0x64, 0x65:
		return "mpeg2video"
	case 0x69, 0x6b:
		return "mp3"
	case 0x6a:
		return "mpeg1video"
	case 0x6c:
		return "mjpeg"
	case 0xa5:
		return "ac3"
	case 0xa6:
		return "eac3"
	case 0xa9:
		return "dts"
	}
	return otherwise
}

// decoderConfig gives the payload of an esds box's DecoderConfigDescriptor.
func decoderConfig(p []byte) []byte {
	if len(p) < 4 {
		return nil
	}
	tag, p := descriptor(p[4:])
	if tag != 3 || len(p) < 3 {
		return nil
	}
	skip := 3
	if p[2]&0x80 != 0 {
		skip += 2
	}
	if p[2]&0x20 != 0 {
		skip += 2
	}
	if len(p) < skip {
		return nil
	}
	if tag, p = descriptor(p[skip:]); tag != 4 {
		return nil
	}
	return p
}

// descriptor takes tag and length off the front; what follows may be longer
// than the descriptor itself.
func descriptor(p []byte) (byte, []byte) {
	if len(p) < 2 {
		return 0, nil
	}
	tag := p[0]
	p = p[1:]
	for i := 0; i < 4 && len(p) > 0; i++ {
		more := p[0]&0x80 != 0
		p = p[1:]
		if !more {
			break
		}
	}
	return tag, p
}

// aacChannels reads the channel configuration of an AudioSpecificConfig
// (ISO/IEC 14496-3, 1.6.2.1); the sample entry's own count is a fixed 2 in most
// files. It gives 0 where the configuration is told otherwise.
func aacChannels(esds []byte) int {
	p := decoderConfig(esds)
	if len(p) < 13 {
		return 0
	}
	tag, p := descriptor(p[13:])
	if tag != 5 || len(p) < 2 {
		return 0
	}
	bits := uint32(p[0])<<24 | uint32(p[1])<<16
	if len(p) > 2 {
		bits |= uint32(p[2]) << 8
	}
	if bits>>27 == 31 || bits>>23&15 == 15 {
		return 0 // long forms, which common files do not use
	}
	return []int{0, 1, 2, 3, 4, 5, 6, 8, 0, 0, 0, 7, 8, 0, 8, 0}[bits>>19&15]
}

// moof notes how far a fragment reaches.
func (m *mp4) moof(b []byte) {
	isobmff.Each(b, func(kind string, p []byte) {
		if kind != "traf" {
			return
		}
		var t *fragmentTrack
		var base, total uint64
		var length uint32
		isobmff.Each(p, func(kind string, p []byte) {
			if len(p) < 8 {
				return
			}
			flags := binary.BigEndian.Uint32(p) & 0xffffff
			switch kind {
			case "tfhd":
				if t = m.ids[binary.BigEndian.Uint32(p[4:])]; t == nil {
					return
				}
				length = t.length
				at := 8
				for _, f := range []struct {
					flag uint32
					n    int
				}{{1, 8}, {2, 4}} {
					if flags&f.flag != 0 {
						at += f.n
					}
				}
				if flags&8 != 0 && len(p) >= at+4 {
					length = binary.BigEndian.Uint32(p[at:])
				}
			case "tfdt":
				if p[0] == 1 && len(p) >= 12 {
					base = binary.BigEndian.Uint64(p[4:])
				} else {
					base = uint64(binary.BigEndian.Uint32(p[4:]))
				}
			case "trun":
				total += trunLength(p, flags, length)
			}
		})
		if t != nil && base < 1<<62 {
			t.end = max(t.end, base+total)
		}
	})
}

func trunLength(p []byte, flags, each uint32) uint64 {
	count := uint64(binary.BigEndian.Uint32(p[4:]))
	if flags&0x100 == 0 {
		return count * uint64(each)
	}
	at, step := 8, 0
	for _, f := range []uint32{1, 4} {
		if flags&f != 0 {
			at += 4
		}
	}
	for _, f := range []uint32{0x100, 0x200, 0x400, 0x800} {
		if flags&f != 0 {
			step += 4
		}
	}
	var sum uint64
	for ; count > 0 && at+step <= len(p); count-- {
		sum += uint64(binary.BigEndian.Uint32(p[at:]))
		at += step
	}
	return sum
}

func (m *mp4) fragmentEnd() float64 {
	var end float64
	for _, t := range m.ids {
		if t.scale > 0 {
			end = max(end, float64(t.end)/float64(t.scale))
		}
	}
	return end
}
