package media

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"cozyshelf/internal/core/ebml"
)

// maxElements bounds how many elements or boxes of one level are visited.
const maxElements = 1 << 16

type matroska struct {
	r        io.ReaderAt
	size     int64
	info     Info
	scale    uint64  // nanoseconds a tick
	ticks    float64 // the duration, as the header tells it
	measured float64 // the latest timestamp seen, where the header does not
	segment  ebml.Element
	seek     map[uint32]int64 // where SeekHead says that elements lie
	hasInfo  bool
	hasTrack bool
}

func readMatroska(r io.ReaderAt, size int64) (Info, error) {
	m := &matroska{r: r, size: size, scale: 1000000, seek: map[uint32]int64{}}
	head, err := ebml.Read(r, 0, size)
	if err != nil {
		return Info{}, err
	}
	b, err := window(r, head.Start, min(head.End-head.Start, maxHeader+1), size, "its first header")
	if err != nil {
		return Info{}, err
	}
	m.info.Container = "matroska"
	ebml.Children(b, func(id uint32, data []byte) {
		if id == ebml.IDDocType && strings.TrimRight(string(data), "\x00") == "webm" {
			m.info.Container = "webm"
		}
	})
	if m.segment, err = ebml.Read(r, head.End, size); err != nil || m.segment.ID != ebml.IDSegment {
		return Info{}, errors.New("the file ends before its content (no segment)")
	}
	if err := m.walk(); err != nil {
		return Info{}, err
	}
	if !m.hasTrack {
		return Info{}, errors.New("the file tells of no tracks")
	}
	if m.segment.End != ebml.UnknownSize && m.segment.End > size {
		return Info{}, fmt.Errorf("the file ends inside its pictures and sound (segment): %d bytes are missing",
			m.segment.End-size)
	}
	m.info.Duration = max(m.ticks, m.measured) * float64(m.scale) / 1e9
	return m.info, nil
}

// walk visits the segment's children until all is known. Clusters, which hold
// the media, are passed over by their length, and looked into only when the
// duration is not told.
func (m *matroska) walk() error {
	end := min(m.segment.End, m.size)
	off := m.segment.Start
	for n := 0; off < end && n < maxElements; n++ {
		e, err := ebml.Read(m.r, off, end)
		if err != nil {
			break // what was found until here must do
		}
		switch e.ID {
		case ebml.IDSeekHead, ebml.IDInfo, ebml.IDTracks:
			if err := m.master(e); err != nil {
				return err
			}
		case ebml.IDCluster:
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
		if e.End == ebml.UnknownSize {
			if e.ID != ebml.IDCluster {
				break
			}
			// A cluster of unknown size: its children are read as if they were
			// siblings; no id is used on both levels.
			off = e.Start
			continue
		}
		off = e.End
	}
	if !m.hasTrack {
		m.follow()
	}
	return nil
}

// follow reads what SeekHead points to.
func (m *matroska) follow() {
	for _, id := range []uint32{ebml.IDInfo, ebml.IDTracks} {
		at, ok := m.seek[id]
		if !ok || at < 0 || at >= m.size {
			continue
		}
		if e, err := ebml.Read(m.r, at, m.size); err == nil && e.ID == id {
			// A bad pointer leaves things as they are: the walk continues.
			_ = m.master(e)
		}
	}
}

func (m *matroska) master(e ebml.Element) error {
	what := map[uint32]string{ebml.IDSeekHead: "its table of contents", ebml.IDInfo: "its header",
		ebml.IDTracks: "its list of tracks"}[e.ID]
	if e.End == ebml.UnknownSize {
		return fmt.Errorf("%s has no length", what)
	}
	b, err := window(m.r, e.Start, e.End-e.Start, m.size, what)
	if err != nil {
		return err
	}
	switch e.ID {
	case ebml.IDSeekHead:
		ebml.Seeks(b, func(id uint32, at int64) { m.seek[id] = m.segment.Start + at })
	case ebml.IDInfo:
		m.hasInfo = true
		ebml.Children(b, func(id uint32, data []byte) {
			switch id {
			case ebml.IDScale:
				if v := ebml.Uint(data); v > 0 && v < 1e12 {
					m.scale = v
				}
			case ebml.IDDuration:
				if v := ebml.Float(data); v < 1e15 {
					m.ticks = v
				}
			case idDateUTC: // nanoseconds since the beginning of 2001
				if len(data) == 8 {
					m.info.Made = made(time.Unix(978307200, 0).Add(time.Duration(binary.BigEndian.Uint64(data))))
				}
			}
		})
	case ebml.IDTracks:
		if m.hasTrack {
			return nil
		}
		ebml.Children(b, func(id uint32, data []byte) {
			if id == ebml.IDTrackEntry && len(m.info.Tracks) < 1000 {
				m.info.Tracks = append(m.info.Tracks, trackEntry(data))
				m.hasTrack = true
			}
		})
	}
	return nil
}

// cluster takes the last timestamp of a cluster as the duration so far; it is
// used only where the header does not tell.
func (m *matroska) cluster(e ebml.Element) {
	end := min(e.End, m.size)
	var base uint64
	for off, n := e.Start, 0; off < end && n < 1<<14; n++ {
		c, err := ebml.Read(m.r, off, end)
		if err != nil || c.End == ebml.UnknownSize || c.ID == ebml.IDCluster {
			return
		}
		switch c.ID {
		case ebml.IDTimestamp:
			if b, err := window(m.r, c.Start, min(c.End-c.Start, 8), m.size, "a timestamp"); err == nil {
				base = ebml.Uint(b)
			}
		case ebml.IDSimpleBlock:
			m.block(base, c)
		case ebml.IDBlockGroup:
			for q := c.Start; q < c.End; {
				g, err := ebml.Read(m.r, q, c.End)
				if err != nil || g.End == ebml.UnknownSize {
					break
				}
				if g.ID == ebml.IDBlock {
					m.block(base, g)
				}
				q = g.End
			}
		}
		off = c.End
	}
}

func (m *matroska) block(base uint64, e ebml.Element) {
	b, err := window(m.r, e.Start, min(e.End-e.Start, 12), m.size, "a block")
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
	ebml.Children(b, func(id uint32, data []byte) {
		switch id {
		case ebml.IDTrackType:
			t.Kind = map[uint64]string{1: Video, 2: Audio, 17: Subtitle}[ebml.Uint(data)]
			if t.Kind == "" {
				t.Kind = Data
			}
		case ebml.IDCodec:
			t.Codec = matroskaCodec(strings.TrimRight(string(data[:min(64, len(data))]), "\x00"))
		case ebml.IDLanguage, ebml.IDLanguageTag:
			t.Language = printable(strings.TrimRight(string(data[:min(32, len(data))]), "\x00"))
		case ebml.IDPrivate:
			private = data
		case ebml.IDFrameLength:
			if n := ebml.Uint(data); n > 0 {
				length = float64(n) / 1e9
			}
		case ebml.IDVideo:
			t.matroskaPicture(data)
		case ebml.IDAudio:
			t.Channels, t.SampleRate = 1, 8000 // the defaults of RFC 9559
			ebml.Children(data, func(id uint32, v []byte) {
				switch id {
				case ebml.IDRate:
					t.SampleRate = int(min(ebml.Float(v), 1e7))
				case ebml.IDChannels:
					t.Channels = int(min(ebml.Uint(v), 1024))
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
	ebml.Children(data, func(id uint32, v []byte) {
		switch id {
		case ebml.IDWidth:
			t.Width = int(min(ebml.Uint(v), 1<<20))
		case ebml.IDHeight:
			t.Height = int(min(ebml.Uint(v), 1<<20))
		case ebml.IDShownWidth:
			w = int(min(ebml.Uint(v), 1<<20))
		case ebml.IDShownHeight:
			h = int(min(ebml.Uint(v), 1<<20))
		case ebml.IDShownUnit:
			unit = int(min(ebml.Uint(v), 255))
		case ebml.IDInterlaced:
			t.Interlaced, t.progressive = ebml.Uint(v) == 1, ebml.Uint(v) == 2
		case ebml.IDColour:
			ebml.Children(v, func(id uint32, v []byte) {
				if id == ebml.IDTransfer {
					t.HDR = transferKind(int(min(ebml.Uint(v), 255)))
				}
			})
		case ebml.IDProjection:
			ebml.Children(v, func(id uint32, v []byte) {
				if id == ebml.IDRoll {
					// Counterclockwise there, in degrees.
					t.Rotation = (360 - int(math.Mod(ebml.Float(v)+360, 360))) % 360
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
	{"S_TEXT/UTF8", "subrip"}, {"S_TEXT/ASS", "ass"}, {"S_TEXT/SSA", "ass"}, {"S_TEXT/WEBVTT", "webvtt"}, {"D_WEBVTT/", "webvtt"},
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
