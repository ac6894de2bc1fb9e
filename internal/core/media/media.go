// Package media reads what a media file holds: duration, tracks, codecs and
// picture size, from the headers of MP4 (ISO/IEC 14496-12) and Matroska (RFC
// 9559) files, of AVI, of MPEG transport and programme streams (ISO/IEC 13818-1),
// and of sound in FLAC (RFC 9639), MP3, Ogg (RFC 3533), WAV and ADTS. It reads
// headers only, and of streams their beginning and end; it never trusts a length
// it finds, and needs no other program.
package media

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
)

// Edition counts the ways in which headers were read: when more is read of them, it is raised, and
// the scan reads all files anew.
const Edition = 2

// Kinds of tracks.
const (
	Video    = "video"
	Audio    = "audio"
	Subtitle = "subtitle"
	Picture  = "picture"
	Data     = "data"
)

// Track is one track. Codec names are those in common use: h264, hevc, aac.
type Track struct {
	Kind       string `json:"kind"`
	Codec      string `json:"codec"`
	Language   string `json:"language,omitempty"` // ISO 639-2 or BCP 47; empty where not told
	Width      int    `json:"width,omitempty"`    // pixels as stored
	Height     int    `json:"height,omitempty"`
	Channels   int    `json:"channels,omitempty"`
	SampleRate int    `json:"sample_rate,omitempty"` // Hz

	// What a device has to be able to do, as far as the headers tell.
	RFC6381    string  `json:"rfc6381,omitempty"`     // the codec with its profile and level: avc1.640028, mp4a.40.2
	Profile    string  `json:"profile,omitempty"`     // as the codec's standard calls it
	Level      string  `json:"level,omitempty"`       // such as 4.1
	BitDepth   int     `json:"bit_depth,omitempty"`   // of a picture
	Chroma     string  `json:"chroma,omitempty"`      // 4:0:0, 4:2:0, 4:2:2 or 4:4:4
	FrameRate  float64 `json:"frame_rate,omitempty"`  // pictures a second, on average
	HDR        string  `json:"hdr,omitempty"`         // PQ or HLG; empty for the usual range
	Rotation   int     `json:"rotation,omitempty"`    // degrees clockwise that the picture is to be turned by
	PixelShape string  `json:"pixel_shape,omitempty"` // width to height of a pixel, such as 64:45; empty for square
	Interlaced bool    `json:"interlaced,omitempty"`

	progressive bool // the container says that it is not interlaced
}

// PixelRatio gives the shape of a pixel as two numbers: 1 and 1 for a square one.
func (t Track) PixelRatio() (width, height int) {
	if n, err := fmt.Sscanf(t.PixelShape, "%d:%d", &width, &height); n < 2 || err != nil || width < 1 || height < 1 {
		return 1, 1
	}
	return width, height
}

// Info is what a file holds. Duration is in seconds, 0 where the file does not
// tell.
type Info struct {
	// Container is mp4, matroska, webm, avi, mpegts, mpeg, flac, mp3, ogg, wav or adts; of a
	// picture jpeg, png, gif or webp.
	Container string  `json:"container"`
	Duration  float64 `json:"duration"`
	Tracks    []Track `json:"tracks"`
	// When it was recorded or taken, as the file tells: RFC 3339, without a zone where it tells none.
	Made string `json:"made,omitempty"`
	Turn int    `json:"turn,omitempty"` // how a picture is turned: EXIF's orientation, 2 to 8
}

// made writes a moment that a file tells, if it can be one: clocks that were never
// set give their epochs.
func made(t time.Time) string {
	if t.Year() < 1990 || t.Year() > 2199 {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

// ErrUnknown says that a file is none of those that are read here.
var ErrUnknown = errors.New("it is in no form that is known here")

// Read reads the headers of a file of the given size.
func Read(r io.ReaderAt, size int64) (Info, error) {
	if size == 0 {
		return Info{}, errors.New("the file is empty")
	}
	head := make([]byte, min(sniffLen, size))
	if _, err := r.ReadAt(head, 0); err != nil && err != io.EOF {
		return Info{}, err
	}
	switch {
	case len(head) >= 4 && string(head[:4]) == "\x1a\x45\xdf\xa3":
		return readMatroska(r, size)
	case len(head) >= 8 && mp4Start[string(head[4:8])]:
		return readMP4(r, size)
	case len(head) >= 12 && string(head[:4]) == "RIFF" && string(head[8:11]) == "AVI":
		return readAVI(r, size)
	case len(head) >= 5 && (head[0] == 0x47 || head[4] == 0x47):
		return readTS(r, size)
	case len(head) >= 4 && string(head[:4]) == "\x00\x00\x01\xba":
		return readPS(r, size)
	}
	if info, known, err := readSound(r, size, head); known {
		return info, err
	}
	return Info{}, ErrUnknown
}

// First gives the first track of a kind, or a zero Track.
func (i Info) First(kind string) Track {
	for _, t := range i.Tracks {
		if t.Kind == kind {
			return t
		}
	}
	return Track{}
}

// Codecs gives the codecs in a few words: "h264, aac".
func (i Info) Codecs() string {
	var out []string
	for _, kind := range []string{Video, Audio} {
		if t := i.First(kind); t.Codec != "" {
			out = append(out, t.Codec)
		}
	}
	return strings.Join(out, ", ")
}

// window reads n bytes at an offset, within a limit, and says in words where a
// file ends too early.
func window(r io.ReaderAt, off, n, size int64, what string) ([]byte, error) {
	if n < 0 || off < 0 || n > maxHeader {
		return nil, fmt.Errorf("%s claims %d bytes, which cannot be", what, n)
	}
	if off+n > size {
		return nil, fmt.Errorf("the file ends inside %s: %d bytes are missing", what, off+n-size)
	}
	b := make([]byte, n)
	if _, err := r.ReadAt(b, off); err != nil && err != io.EOF {
		return nil, err
	}
	return b, nil
}

// maxHeader bounds what is read at once: a real index of a long film stays well
// below it.
const maxHeader = 64 << 20
