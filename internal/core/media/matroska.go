package media

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"time"
)

// Elements of EBML (RFC 8794) and Matroska (RFC 9559) that are read here.
const (
	idEBML        = 0x1A45DFA3
	idDocType     = 0x4282
	idSegment     = 0x18538067
	idSeekHead    = 0x114D9B74
	idSeek        = 0x4DBB
	idSeekID      = 0x53AB
	idSeekPos     = 0x53AC
	idInfo        = 0x1549A966
	idScale       = 0x2AD7B1
	idDuration    = 0x4489
	idTracks      = 0x1654AE6B
	idTrackEntry  = 0xAE
	idTrackType   = 0x83
	idCodec       = 0x86
	idLanguage    = 0x22B59C
	idLanguageTag = 0x22B59D
	idVideo       = 0xE0
	idWidth       = 0xB0
	idHeight      = 0xBA
	idPrivate     = 0x63A2
	idFrameLength = 0x23E383
	idInterlaced  = 0x9A
	idShownWidth  = 0x54B0
	idShownHeight = 0x54BA
	idShownUnit   = 0x54B2
	idColour      = 0x55B0
	idTransfer    = 0x55BA
	idProjection  = 0x7670
	idRoll        = 0x7675
	idAudio       = 0xE1
	idRate        = 0xB5
	idChannels    = 0x9F
	idCluster     = 0x1F43B675
	idTimestamp   = 0xE7
	idSimpleBlock = 0xA3
	idBlockGroup  = 0xA0
	idBlock       = 0xA1
)

const unknownSize = math.MaxInt64

// element is an EBML element of a file: its id and where its data lies.
type element struct {
	id         uint32
	start, end int64 // end is unknownSize where the size is not told
}

// readElement reads the header of the element at an offset.
func readElement(r io.ReaderAt, off, size int64) (element, error) {
	var h [12]byte
	n, err := r.ReadAt(h[:min(12, max(0, size-off))], off)
	if n == 0 {
		if err == nil {
			err = io.ErrUnexpectedEOF
		}
		return element{}, err
	}
	e, head, ok := header(h[:n])
	if !ok {
		return e, fmt.Errorf("no element begins at byte %d", off)
	}
	e.start = off + int64(head)
	if e.end != unknownSize {
		e.end += e.start
	}
	return e, nil
}

// header reads id and size from the front of b. The element's end holds its
// size, and head is the header's length.
func header(b []byte) (e element, head int, ok bool) {
	if len(b) == 0 {
		return e, 0, false
	}
	n := 1
	for mask := byte(0x80); n <= 4 && b[0]&mask == 0; n++ {
		mask >>= 1
	}
	if n > 4 || len(b) < n+1 {
		return e, 0, false
	}
	for _, c := range b[:n] {
		e.id = e.id<<8 | uint32(c)
	}
	b = b[n:]
	m := 1
	mask := byte(0x80)
	for ; m <= 8 && b[0]&mask == 0; m++ {
		mask >>= 1
	}
	if m > 8 || len(b) < m {
		return e, 0, false
	}
	v, ones := uint64(b[0]&^mask), b[0]&^mask == mask-1
	for _, c := range b[1:m] {
		v = v<<8 | uint64(c)
		ones = ones && c == 0xff
	}
	if ones {
		e.end = unknownSize
	} else if v > 1<<60 {
		return e, 0, false
	} else {
		e.end = int64(v)
	}
	return e, n + m, true
}

// children visits the elements held in memory. One that is cut short ends the visit.
func children(b []byte, visit func(id uint32, data []byte)) {
	for len(b) > 0 {
		e, head, ok := header(b)
		if !ok || e.end == unknownSize || e.end > int64(len(b)-head) {
			return
		}
		visit(e.id, b[head:head+int(e.end)])
		b = b[head+int(e.end):]
	}
}

func uintOf(b []byte) uint64 {
	var v uint64
	for _, c := range b[:min(8, len(b))] {
		v = v<<8 | uint64(c)
	}
	return v
}

func floatOf(b []byte) float64 {
	var v float64
	switch len(b) {
	case 4:
		v = float64(math.Float32frombits(binary.BigEndian.Uint32(b)))
	case 8:
		v = math.Float64frombits(binary.BigEndian.Uint64(b))
	}
	if math.IsNaN(v) || math.IsInf(v, 0) || v < 0 {
		return 0
	}
	return v
}

type matroska struct {
	r        io.ReaderAt
	size     int64
	info     Info
	scale    uint64  // nanoseconds a tick
	ticks    float64 // the duration, as the header tells it
	measured float64 // the latest timestamp seen, where the header does not
	segment  element
	seek     map[uint32]int64 // where SeekHead says that elements lie
	hasInfo  bool
	hasTrack bool
}

func readMatroska(r io.ReaderAt, size int64) (Info, error) {
	m := &matroska{r: r, size: size, scale: 1000000, seek: map[uint32]int64{}}
	head, err := readElement(r, 0, size)
	if err != nil {
		return Info{}, err
	}
	b, err := window(r, head.start, min(head.end-head.start, maxHeader+1), size, "its first header")
	if err != nil {
		return Info{}, err
	}
	m.info.Container = "matroska"
	children(b, func(id uint32, data []byte) {
		if id == idDocType && strings.TrimRight(string(data), "\x00") == "webm" {
			m.info.Container = "webm"
		}
	})
	if m.segment, err = readElement(r, head.end, size); err != nil || m.segment.id != idSegment {
		return Info{}, errors.New("the file ends before its content (no segment)")
	}
	if err := m.walk(); err != nil {
		return Info{}, err
	}
	if !m.hasTrack {
		return Info{}, errors.New("the file tells of no tracks")
	}
	if m.segment.end != unknownSize && m.segment.end > size {
		return Info{}, fmt.Errorf("the file ends inside its pictures and sound (segment): %d bytes are missing",
			m.segment.end-size)
	}
	m.info.Duration = max(m.ticks, m.measured) * float64(m.scale) / 1e9
	return m.info, nil
}

// walk visits the segment's children until all is known. Clusters, which hold
// the media, are passed over by their length, and looked into only when the
// duration is not told.
func (m *matroska) walk() error {
	end := min(m.segment.end, m.size)
	off := m.segment.start
	for n := 0; off < end && n < maxBoxes; n++ {
		e, err := readElement(m.r, off, end)
		if err != nil {
			break // what was found until here must do
		}
		switch e.id {
		case idSeekHead, idInfo, idTracks:
			if err := m.master(e); err != nil {
				return err
			}
		case idCluster:
			if !m.hasTrack || !m.hasInfo {
				m.follow()
			}
			if m.hasTrack && m.ticks > 0 {
				return nil
			}
			m.cluster(e)
		}
		if m.hasTrack && m.hasInfo && m.ticks > 0 {
			return nil
		}
		if e.end == unknownSize {
			if e.id != idCluster {
				break
			}
			// A cluster of unknown size: its children are read as if they were
			// siblings; no id is used on both levels.
			off = e.start
			continue
		}
		off = e.end
	}
	if !m.hasTrack {
		m.follow()
	}
	return nil
}

// follow reads what SeekHead points to.
func (m *matroska) follow() {
	for _, id := range []uint32{idInfo, idTracks} {
		at, ok := m.seek[id]
		if !ok || at < 0 || at >= m.size {
			continue
		}
		if e, err := readElement(m.r, at, m.size); err == nil && e.id == id {
			// A bad pointer leaves things as they are: the walk continues.
			_ = m.master(e)
		}
	}
}

func (m *matroska) master(e element) error {
	what := map[uint32]string{idSeekHead: "its table of contents", idInfo: "its header",
		idTracks: "its list of tracks"}[e.id]
	if e.end == unknownSize {
		return fmt.Errorf("%s has no length", what)
	}
	b, err := window(m.r, e.start, e.end-e.start, m.size, what)
	if err != nil {
		return err
	}
	switch e.id {
	case idSeekHead:
		children(b, func(id uint32, data []byte) {
			if id != idSeek {
				return
			}
			var to uint32
			at := int64(-1)
			children(data, func(id uint32, v []byte) {
				switch id {
				case idSeekID:
					to = uint32(uintOf(v))
				case idSeekPos:
					if p := uintOf(v); p < 1<<60 {
						at = m.segment.start + int64(p)
					}
				}
			})
			m.seek[to] = at
		})
	case idInfo:
		m.hasInfo = true
		children(b, func(id uint32, data []byte) {
			switch id {
			case idScale:
				if v := uintOf(data); v > 0 && v < 1e12 {
					m.scale = v
				}
			case idDuration:
				if v := floatOf(data); v < 1e15 {
					m.ticks = v
				}
			case idDateUTC: // nanoseconds since the beginning of 2001
				if len(data) == 8 {
					m.info.Made = made(time.Unix(978307200, 0).Add(time.Duration(binary.BigEndian.Uint64(data))))
				}
			}
		})
	case idTracks:
		if m.hasTrack {
			return nil
		}
		children(b, func(id uint32, data []byte) {
			if id == idTrackEntry && len(m.info.Tracks) < 1000 {
				m.info.Tracks = append(m.info.Tracks, trackEntry(data))
				m.hasTrack = true
			}
		})
	}
	return nil
}

// cluster takes the last timestamp of a cluster as the duration so far; it is
// used only where the header does not tell.
func (m *matroska) cluster(e element) {
	end := min(e.end, m.size)
	var base uint64
	for off, n := e.start, 0; off < end && n < 1<<14; n++ {
		c, err := readElement(m.r, off, end)
		if err != nil || c.end == unknownSize || c.id == idCluster {
			return
		}
		switch c.id {
		case idTimestamp:
			if b, err := window(m.r, c.start, min(c.end-c.start, 8), m.size, "a timestamp"); err == nil {
				base = uintOf(b)
			}
		case idSimpleBlock:
			m.block(base, c)
		case idBlockGroup:
			for q := c.start; q < c.end; {
				g, err := readElement(m.r, q, c.end)
				if err != nil || g.end == unknownSize {
					break
				}
				if g.id == idBlock {
					m.block(base, g)
				}
				q = g.end
			}
		}
		off = c.end
	}
}

func (m *matroska) block(base uint64, e element) {
	b, err := window(m.r, e.start, min(e.end-e.start, 12), m.size, "a block")
	if err != nil || len(b) < 4 || base > 1<<50 {
		return
	}
	n := 1
	for mask := byte(0x80); n <= 8 && b[0]&mask == 0; n++ {
		mask >>= 1
	}
	if n+2 <= len(b) {
		at := float64(base) + float64(int16(binary.BigEndian.Uint16(b[n:])))
		m.measured = max(m.measured, at)
	}
}

func trackEntry(b []byte) Track {
	t := Track{Kind: Data, Language: "eng"} // the default of RFC 9559, 5.1.4.1.19
	var private []byte
	length := 0.0 // of a frame, in seconds
	children(b, func(id uint32, data []byte) {
		switch id {
		case idTrackType:
			t.Kind = map[uint64]string{1: Video, 2: Audio, 17: Subtitle}[uintOf(data)]
			if t.Kind == "" {
				t.Kind = Data
			}
		case idCodec:
			t.Codec = matroskaCodec(strings.TrimRight(string(data[:min(64, len(data))]), "\x00"))
		case idLanguage, idLanguageTag:
			t.Language = printable(strings.TrimRight(string(data[:min(32, len(data))]), "\x00"))
		case idPrivate:
			private = data
		case idFrameLength:
			if n := uintOf(data); n > 0 {
				length = float64(n) / 1e9
			}
		case idVideo:
			t.matroskaPicture(data)
		case idAudio:
			t.Channels, t.SampleRate = 1, 8000 // the defaults of RFC 9559
			children(data, func(id uint32, v []byte) {
				switch id {
				case idRate:
					t.SampleRate = int(min(floatOf(v), 1e7))
				case idChannels:
					t.Channels = int(min(uintOf(v), 1024))
				}
			})
		}
	})
	if t.Language == "und" {
		t.Language = ""
	}
	if t.Kind == Video && length > 0 {
		t.rate(1 / length)
	}
	t.private(private)
	t.named()
	return t
}

// private reads what a codec keeps of its own: the same records as in MP4.
func (t *Track) private(b []byte) {
	hdr, shape, fields := t.HDR, t.PixelShape, t.Interlaced
	switch t.Codec {
	case "h264":
		t.avcConfig("avc1", b)
	case "hevc":
		t.hevcConfig("hvc1", b)
	case "av1":
		t.av1Config(b)
	case "vp9":
		t.vpFeatures(b)
	case "vp8":
		t.RFC6381 = "vp8"
	case "aac":
		t.aacConfig(b)
	}
	// What the container tells goes before.
	if hdr != "" || shape != "" {
		t.HDR, t.PixelShape = hdr, shape
	}
	t.Interlaced = fields || t.Interlaced && !t.progressive
}

// matroskaPicture reads the description of a picture.
func (t *Track) matroskaPicture(data []byte) {
	var w, h, unit int
	children(data, func(id uint32, v []byte) {
		switch id {
		case idWidth:
			t.Width = int(min(uintOf(v), 1<<20))
		case idHeight:
			t.Height = int(min(uintOf(v), 1<<20))
		case idShownWidth:
			w = int(min(uintOf(v), 1<<20))
		case idShownHeight:
			h = int(min(uintOf(v), 1<<20))
		case idShownUnit:
			unit = int(min(uintOf(v), 255))
		case idInterlaced:
			t.Interlaced, t.progressive = uintOf(v) == 1, uintOf(v) == 2
		case idColour:
			children(v, func(id uint32, v []byte) {
				if id == idTransfer {
					t.HDR = transferKind(int(min(uintOf(v), 255)))
				}
			})
		case idProjection:
			children(v, func(id uint32, v []byte) {
				if id == idRoll {
					// Counterclockwise there, in degrees.
					t.Rotation = (360 - int(math.Mod(floatOf(v)+360, 360))) % 360
				}
			})
		}
	})
	// Pixels, centimetres, inches and a ratio all give a shape.
	if w > 0 && h > 0 && unit < 4 && t.Width > 0 && t.Height > 0 {
		if x, y := w*t.Height, h*t.Width; math.Abs(float64(x)/float64(y)-1) > 0.005 {
			t.shapeOf(x, y)
		}
	}
}

var matroskaCodecs = []struct{ prefix, name string }{
	{"V_MPEG4/ISO/AVC", "h264"}, {"V_MPEGH/ISO/HEVC", "hevc"}, {"V_AV1", "av1"}, {"V_VP9", "vp9"}, {"V_VP8", "vp8"},
	{"V_MPEG4/", "mpeg4"}, {"V_MPEG2", "mpeg2video"}, {"V_MPEG1", "mpeg1video"}, {"V_THEORA", "theora"},
	{"V_MJPEG", "mjpeg"}, {"V_FFV1", "ffv1"}, {"V_PRORES", "prores"},
	{"A_AAC", "aac"}, {"A_MPEG/L3", "mp3"}, {"A_MPEG/L2", "mp2"}, {"A_AC3", "ac3"}, {"A_EAC3", "eac3"},
	{"A_DTS", "dts"}, {"A_TRUEHD", "truehd"},
	{"A_OPUS", "opus"}, {"A_VORBIS", "vorbis"}, {"A_FLAC", "flac"}, {"A_ALAC", "alac"}, {"A_PCM", "pcm"},
	{"S_TEXT/UTF8", "subrip"}, {"S_TEXT/ASS", "ass"}, {"S_TEXT/SSA", "ass"}, {"S_TEXT/WEBVTT", "webvtt"},
	{"S_HDMV/PGS", "hdmv_pgs_subtitle"}, {"S_VOBSUB", "dvd_subtitle"},
}

func matroskaCodec(id string) string {
	for _, c := range matroskaCodecs {
		if strings.HasPrefix(id, c.prefix) {
			return c.name
		}
	}
	return printable(id)
}
