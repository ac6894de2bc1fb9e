package media

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// sniffLen is how much of a file's beginning tells what it is.
const sniffLen = 16

// readSound reads the headers of FLAC, WAV, Ogg, MP3 and ADTS files. known is false where the
// file is none of them.
func readSound(r io.ReaderAt, size int64, head []byte) (info Info, known bool, err error) {
	is := func(at int, s string) bool { return len(head) >= at+len(s) && string(head[at:at+len(s)]) == s }
	switch {
	case is(0, "fLaC"):
		info, err = readFLAC(r, 4, size)
	case (is(0, "RIFF") || is(0, "RF64")) && is(8, "WAVE"):
		info, err = readWAV(r, size)
	case is(0, "OggS"):
		info, err = readOgg(r, size)
	case is(0, "ID3") && len(head) >= 10:
		start := int64(10) + syncsafe(head[6:10])
		if head[5]&0x10 != 0 {
			start += 10 // a footer
		}
		next, rerr := window(r, start, 4, size, "what follows the tags")
		if rerr != nil {
			return info, true, rerr
		}
		if string(next) == "fLaC" {
			info, err = readFLAC(r, start+4, size)
		} else {
			info, err = readMP3(r, start, size)
		}
	case len(head) >= 7 && head[0] == 0xff && head[1]&0xf6 == 0xf0:
		info, err = readADTS(r, size)
	case len(head) >= 4 && head[0] == 0xff && head[1]&0xe0 == 0xe0:
		info, err = readMP3(r, 0, size)
	default:
		return info, false, nil
	}
	return info, true, err
}

// syncsafe reads a number of seven bits a byte, as ID3 has it.
func syncsafe(b []byte) int64 {
	return int64(b[0]&0x7f)<<21 | int64(b[1]&0x7f)<<14 | int64(b[2]&0x7f)<<7 | int64(b[3]&0x7f)
}

// readFLAC reads the first block of a FLAC stream (RFC 9639), which begins at an offset.
func readFLAC(r io.ReaderAt, at, size int64) (Info, error) {
	b, err := window(r, at, 4+34, size, "the first block (STREAMINFO)")
	if err != nil {
		return Info{}, err
	}
	if b[0]&0x7f != 0 {
		return Info{}, errors.New("its first block is not the one that describes it (STREAMINFO)")
	}
	rate, channels, samples := flacInfo(b[4:])
	if rate == 0 {
		return Info{}, errors.New("it tells a sample rate of 0")
	}
	return Info{Container: "flac", Duration: float64(samples) / float64(rate),
		Tracks: []Track{{Kind: Audio, Codec: "flac", Channels: channels, SampleRate: rate}}}, nil
}

func flacInfo(b []byte) (rate, channels int, samples int64) {
	x := binary.BigEndian.Uint64(b[10:])
	return int(x >> 44), int(x>>41&7) + 1, int64(x & (1<<36 - 1))
}

// soundTags are the formats of sound in WAV and AVI files, by their numbers.
var soundTags = map[uint16]string{
	0x0002: "adpcm_ms", 0x0006: "pcm_alaw", 0x0007: "pcm_mulaw", 0x0011: "adpcm_ima_wav",
	0x0050: "mp2", 0x0055: "mp3", 0x00ff: "aac",
	0x0160: "wmav1", 0x0161: "wmav2", 0x0162: "wmapro", 0x1600: "aac", 0x2000: "ac3",
	0x2001: "dts", 0x674f: "vorbis", 0x6771: "vorbis", 0xf1ac: "flac",
}

// waveFormat reads a WAVEFORMATEX. perSecond is its bytes a second.
func waveFormat(b []byte) (t Track, perSecond int) {
	tag, bits := binary.LittleEndian.Uint16(b), binary.LittleEndian.Uint16(b[14:])
	if tag == 0xfffe && len(b) >= 26 {
		tag = binary.LittleEndian.Uint16(b[24:])
	}
	t = Track{Kind: Audio, Codec: soundTags[tag], Channels: int(binary.LittleEndian.Uint16(b[2:])),
		SampleRate: int(binary.LittleEndian.Uint32(b[4:]))}
	switch {
	case tag == 1 && bits <= 8:
		t.Codec = "pcm_u8"
	case tag == 1:
		t.Codec = fmt.Sprintf("pcm_s%dle", (bits+7)/8*8)
	case tag == 3:
		t.Codec = fmt.Sprintf("pcm_f%dle", bits)
	case t.Codec == "":
		t.Codec = fmt.Sprintf("0x%04x", tag)
	}
	return t, int(binary.LittleEndian.Uint32(b[8:]))
}

// mostChunks is how many chunks of a RIFF file are looked at, on all levels together.
const mostChunks = 4096

// riff reads the chunks of a RIFF file.
type riff struct {
	r    io.ReaderAt
	seen int // chunks
}

// chunks goes through those of a part of the file until it is told to stop.
func (f *riff) chunks(from, to int64, each func(id string, at, n int64) (more bool, err error)) error {
	for from+8 <= to {
		if f.seen++; f.seen > mostChunks {
			return fmt.Errorf("it has more than %d chunks", mostChunks)
		}
		b, err := window(f.r, from, 8, to, "a chunk's head")
		if err != nil {
			return err
		}
		n := int64(binary.LittleEndian.Uint32(b[4:]))
		more, err := each(string(b[:4]), from+8, n)
		if err != nil || !more {
			return err
		}
		from += 8 + n + n&1
	}
	return nil
}

func readWAV(r io.ReaderAt, size int64) (Info, error) {
	info := Info{Container: "wav"}
	perSecond := 0
	long := int64(0) // of the data, where a file of more than 4 GiB tells it apart
	err := (&riff{r: r}).chunks(12, size, func(id string, at, n int64) (bool, error) {
		switch id {
		case "ds64":
			b, err := window(r, at, 16, size, "the chunk of sizes")
			if err != nil {
				return false, err
			}
			long = int64(binary.LittleEndian.Uint64(b[8:]) & (1<<62 - 1))
		case "fmt ":
			if n < 16 {
				return false, fmt.Errorf("its format has %d bytes, and 16 are the least", n)
			}
			b, err := window(r, at, min(n, 40), size, "the format")
			if err != nil {
				return false, err
			}
			var t Track
			t, perSecond = waveFormat(b)
			info.Tracks = []Track{t}
		case "data":
			if n == 1<<32-1 && long > 0 {
				n = long
			}
			if perSecond > 0 {
				info.Duration = float64(min(n, size-at)) / float64(perSecond)
			}
			return false, nil
		}
		return true, nil
	})
	if err == nil && len(info.Tracks) == 0 {
		err = errors.New("it has no format")
	}
	return info, err
}

// oggStream is one logical stream of an Ogg file (RFC 3533).
type oggStream struct {
	track  Track
	rate   float64 // positions a second
	skip   int64   // samples that are not played
	frames int     // of Theora: how many bits of a position count frames since the last whole one
	last   int64
}

// endOfOgg is how much of an Ogg file's end is searched for its last pages: a page has at
// most 65,307 bytes, and there may be several streams.
const endOfOgg = 512 << 10

func readOgg(r io.ReaderAt, size int64) (Info, error) {
	info := Info{Container: "ogg"}
	streams, order := map[uint32]*oggStream{}, []uint32{}
	for at, n := int64(0), 0; n < 64; n++ {
		b, err := window(r, at, 27, size, "a page's head")
		if err != nil {
			return info, err
		}
		if string(b[:4]) != "OggS" || b[5]&2 == 0 {
			break // the first pages of all streams come before all others
		}
		lens, err := window(r, at+27, int64(b[26]), size, "a page's head")
		if err != nil {
			return info, err
		}
		total, first, whole := int64(0), int64(0), false
		for _, l := range lens {
			total += int64(l)
			if !whole {
				first += int64(l)
			}
			whole = whole || l < 255
		}
		body, err := window(r, at+27+int64(len(lens)), min(first, 4096), size, "a stream's first page")
		if err != nil {
			return info, err
		}
		serial := binary.LittleEndian.Uint32(b[14:])
		if s := oggHead(body); s != nil && streams[serial] == nil {
			streams[serial] = s
			order = append(order, serial)
		}
		at += 27 + int64(len(lens)) + total
	}
	if len(order) == 0 {
		return info, errors.New("it holds no stream that is known")
	}
	from := max(0, size-endOfOgg)
	end, err := window(r, from, size-from, size, "the last pages")
	if err != nil {
		return info, err
	}
	for i := bytes.Index(end, []byte("OggS")); i >= 0 && i+27 <= len(end); {
		if s := streams[binary.LittleEndian.Uint32(end[i+14:])]; s != nil && end[i+4] == 0 {
			if g := int64(binary.LittleEndian.Uint64(end[i+6:])); g > s.last {
				s.last = g
			}
		}
		next := bytes.Index(end[i+4:], []byte("OggS"))
		if next < 0 {
			break
		}
		i += 4 + next
	}
	for _, serial := range order {
		s := streams[serial]
		info.Tracks = append(info.Tracks, s.track)
		at := s.last - s.skip
		if s.frames > 0 {
			at = s.last>>s.frames + s.last&(1<<s.frames-1)
		}
		if s.rate > 0 {
			info.Duration = max(info.Duration, float64(max(0, at))/s.rate)
		}
	}
	return info, nil
}

// oggHead reads the first packet of a stream; nil where it is none that is known.
func oggHead(b []byte) *oggStream {
	has := func(s string, n int) bool { return len(b) >= n && string(b[:len(s)]) == s }
	switch {
	case has("\x01vorbis", 16):
		rate := int(binary.LittleEndian.Uint32(b[12:]))
		return &oggStream{track: Track{Kind: Audio, Codec: "vorbis", Channels: int(b[11]), SampleRate: rate},
			rate: float64(rate)}
	case has("OpusHead", 19):
		return &oggStream{track: Track{Kind: Audio, Codec: "opus", Channels: int(b[9]), SampleRate: 48000}, rate: 48000,
			skip: int64(binary.LittleEndian.Uint16(b[10:]))}
	case has("\x7fFLAC", 13+4+34):
		rate, channels, _ := flacInfo(b[13+4:])
		return &oggStream{track: Track{Kind: Audio, Codec: "flac", Channels: channels, SampleRate: rate},
			rate: float64(rate)}
	case has("Speex   ", 52):
		rate := int(binary.LittleEndian.Uint32(b[36:]))
		return &oggStream{track: Track{Kind: Audio, Codec: "speex",
			Channels: int(binary.LittleEndian.Uint32(b[48:]) & 0xff), SampleRate: rate}, rate: float64(rate)}
	case has("\x80theora", 42):
		wide, high := int(b[14])<<16|int(b[15])<<8|int(b[16]), int(b[17])<<16|int(b[18])<<8|int(b[19])
		rate, of := binary.BigEndian.Uint32(b[22:]), binary.BigEndian.Uint32(b[26:])
		s := &oggStream{track: Track{Kind: Video, Codec: "theora", Width: wide, Height: high},
			frames: int(b[40]&3)<<3 | int(b[41]>>5)}
		if of > 0 {
			s.rate = float64(rate) / float64(of)
		}
		return s
	}
	return nil
}

// mpegRates are bits a second in thousands, by version (1, or 2 and 2.5) and layer.
var mpegRates = map[[2]int][]int{
	{1, 1}: {0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448},
	{1, 2}: {0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384},
	{1, 3}: {0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320},
	{2, 1}: {0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256},
	{2, 2}: {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160},
	{2, 3}: {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160},
}

// mpegFrame is the head of a frame of MPEG sound (ISO/IEC 11172-3).
type mpegFrame struct {
	layer, bits, rate, channels, samples, size, version int
}

func parseMPEGFrame(b []byte) (f mpegFrame, ok bool) {
	if len(b) < 4 || b[0] != 0xff || b[1]&0xe0 != 0xe0 {
		return f, false
	}
	version := []int{25, 0, 2, 1}[b[1]>>3&3]
	layer := 4 - int(b[1]>>1&3)
	index, freq := int(b[2]>>4), int(b[2]>>2&3)
	if version == 0 || layer == 4 || index == 0 || index == 15 || freq == 3 {
		return f, false
	}
	f.version, f.layer = min(version, 2), layer
	f.bits = mpegRates[[2]int{f.version, layer}][index] * 1000
	f.rate = []int{44100, 48000, 32000}[freq]
	switch version {
	case 2:
		f.rate /= 2
	case 25:
		f.rate /= 4
	}
	f.channels = 2
	if b[3]>>6 == 3 {
		f.channels = 1
	}
	f.samples = map[int]int{1: 384, 2: 1152, 3: 1152}[layer]
	if layer == 3 && f.version == 2 {
		f.samples = 576
	}
	padding := int(b[2] >> 1 & 1)
	if layer == 1 {
		f.size = (12*f.bits/f.rate + padding) * 4
	} else {
		f.size = f.samples/8*f.bits/f.rate + padding
	}
	return f, f.size > 4
}

// searched is how far a frame is looked for: what precedes it may be padding.
const searched = 256 << 10

func readMP3(r io.ReaderAt, start, size int64) (Info, error) {
	b, err := window(r, start, min(searched, size-start), size, "the first frames")
	if err != nil {
		return Info{}, err
	}
	for i := 0; i+4 <= len(b); i++ {
		f, ok := parseMPEGFrame(b[i:])
		if !ok {
			continue
		}
		if next := i + f.size; next+4 <= len(b) {
			if g, ok := parseMPEGFrame(b[next:]); !ok || g.rate != f.rate || g.layer != f.layer {
				continue // it only looked like one
			}
		} else if start+int64(next) != size {
			continue
		}
		info := Info{Container: "mp3", Tracks: []Track{{Kind: Audio, Codec: fmt.Sprintf("mp%d", f.layer),
			Channels: f.channels, SampleRate: f.rate}}}
		if n := framesTold(b[i:], f); n > 0 {
			info.Duration = float64(n) * float64(f.samples) / float64(f.rate)
		} else {
			info.Duration = float64(size-start-int64(i)-tail(r, size)) * 8 / float64(f.bits)
		}
		return info, nil
	}
	return Info{}, ErrUnknown
}

// framesTold gives how many frames there are, where the first one says so.
func framesTold(b []byte, f mpegFrame) uint32 {
	at := 4 + map[[2]int]int{{1, 2}: 32, {1, 1}: 17, {2, 2}: 17, {2, 1}: 9}[[2]int{f.version, f.channels}]
	if len(b) >= at+12 && (string(b[at:at+4]) == "Xing" || string(b[at:at+4]) == "Info") && b[at+7]&1 != 0 {
		return binary.BigEndian.Uint32(b[at+8:])
	}
	if len(b) >= 36+18 && string(b[36:40]) == "VBRI" {
		return binary.BigEndian.Uint32(b[36+14:])
	}
	return 0
}

// tail is how many bytes at a file's end are tags (ID3v1).
func tail(r io.ReaderAt, size int64) int64 {
	if b, err := window(r, size-128, 3, size, "the end"); err == nil && string(b) == "TAG" {
		return 128
	}
	return 0
}

// readADTS reads AAC in frames by themselves. How many there are follows from how large the
// first ones are.
func readADTS(r io.ReaderAt, size int64) (Info, error) {
	b, err := window(r, 0, min(searched, size), size, "the first frames")
	if err != nil {
		return Info{}, err
	}
	rates := []int{96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350}
	frames, at, rate, channels := 0, 0, 0, 0
	for at+7 <= len(b) && b[at] == 0xff && b[at+1]&0xf6 == 0xf0 {
		index := int(b[at+2] >> 2 & 15)
		n := int(b[at+3]&3)<<11 | int(b[at+4])<<3 | int(b[at+5]>>5)
		if index >= len(rates) || n < 7 {
			break
		}
		if frames == 0 {
			rate, channels = rates[index], int(b[at+2]&1)<<2|int(b[at+3]>>6)
		}
		frames++
		at += n
	}
	if frames < 2 && int64(at) != size {
		return Info{}, ErrUnknown
	}
	info := Info{Container: "adts", Tracks: []Track{{Kind: Audio, Codec: "aac", Channels: channels, SampleRate: rate}}}
	info.Duration = float64(size) / (float64(at) / float64(frames)) * 1024 / float64(rate)
	return info, nil
}
