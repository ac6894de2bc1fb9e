package repack

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"unicode/utf16"

	"cozyshelf/internal/core/isobmff"
	"cozyshelf/internal/core/media"
)

// mostText bounds a line of subtitles.
const mostText = 64 << 10

// reach is how many pieces before its own a line of subtitles is still looked for.
const reach = 2

// cue is a line of subtitles, in milliseconds.
type cue struct {
	from, to int
	text     string
}

// Whole asks for all of a track of subtitles.
const Whole = -1

// Text gives a piece of a track of subtitles as WebVTT, or the whole of it: every line that is shown
// within it, with its times in the film.
func (f *Film) Text(r io.ReaderAt, number, piece int) ([]byte, error) {
	t := f.Track(number)
	if t == nil || t.Info.Kind != media.Subtitle || t.Cannot != "" {
		return nil, fmt.Errorf("there is no track %d of subtitles", number)
	}
	if piece != Whole && (piece < 0 || piece >= f.Pieces()) {
		return nil, fmt.Errorf("there is no piece %d", piece)
	}
	from, to := piece, piece
	if piece == Whole {
		from, to = 0, f.Pieces()-1
	}
	var list []cue
	var err error
	if f.MP4 != nil {
		list, err = f.MP4.lines(r, f, t, from, to)
	} else {
		list, err = f.Matroska.lines(r, f, t, from, to)
	}
	if err != nil {
		return nil, err
	}
	start, end := int(f.Starts[from]/1e6), int(f.Starts[to+1]/1e6)
	if from == 0 {
		start = math.MinInt
	}
	var out bytes.Buffer
	out.WriteString("WEBVTT\n")
	if piece != Whole {
		out.WriteString("X-TIMESTAMP-MAP=LOCAL:00:00:00.000,MPEGTS:0\n")
	}
	for _, c := range list {
		if c.text != "" && c.to > start && c.from < end && c.to > c.from && c.from >= 0 {
			fmt.Fprintf(&out, "\n%s\n%s\n", media.CueTimes(c.from, c.to), c.text)
		}
	}
	return out.Bytes(), nil
}

// lines reads subtitles of MP4: each sample is what is shown for its time, which may be nothing.
func (m *mp4Film) lines(r io.ReaderAt, f *Film, t *Track, first, last int) (out []cue, err error) {
	for p := max(0, first-reach); p <= last; p++ {
		list, err := m.samples(r, f, t, p)
		if err != nil {
			return nil, err
		}
		for _, s := range list {
			if s.size > mostText {
				continue
			}
			b, err := s.bytes(r, mostText)
			if err != nil {
				return nil, err
			}
			from := t.shownAt(s) / 1e6
			to := from + scaled(int64(s.duration), int64(t.Scale), 1000)
			for _, text := range texts(t.Info.Codec, b) {
				out = append(out, cue{int(from), int(to), text})
			}
		}
	}
	return out, nil
}

// texts gives the lines of a sample of MP4 (3GPP TS 26.245, 5.17, and ISO/IEC 14496-30).
func texts(codec string, b []byte) (out []string) {
	if codec == "webvtt" {
		isobmff.Each(b, func(kind string, b []byte) {
			if kind != "vttc" {
				return
			}
			isobmff.Each(b, func(kind string, b []byte) {
				if kind == "payl" {
					out = append(out, media.CueText("webvtt", b))
				}
			})
		})
		return out
	}
	if len(b) < 2 {
		return nil
	}
	b = b[2:min(len(b), 2+int(binary.BigEndian.Uint16(b)))]
	if len(b) >= 2 && b[0] == 0xfe && b[1] == 0xff {
		var units []uint16
		for b = b[2:]; len(b) >= 2; b = b[2:] {
			units = append(units, binary.BigEndian.Uint16(b))
		}
		b = []byte(string(utf16.Decode(units)))
	}
	return []string{media.CueText("mov_text", b)}
}

// lines reads subtitles of Matroska.
func (m *matroskaFilm) lines(r io.ReaderAt, f *Film, t *Track, first, last int) (out []cue, err error) {
	x := m.track(t.Number)
	if x == nil {
		return nil, fmt.Errorf("track %d was not looked through", t.Number)
	}
	end := f.Starts[last+1]
	if last+1 == f.Pieces() {
		end = math.MaxInt64
	}
	from := m.Before[max(0, first-reach)]
	var bad error
	err = eachBlock(r, f.Size, m, from, func(b block) bool {
		if b.track != x.ID {
			// Subtitles lie near the pictures that they belong to.
			return b.time == math.MinInt64 || end == math.MaxInt64 || b.time < end+3e9
		}
		if b.time >= end || b.time < 0 || b.size > mostText {
			return b.time < end
		}
		s := x.sampleOf(b)
		text, err := s.bytes(r, mostText)
		if err == nil {
			text, err = x.unpacked(text)
		}
		if err != nil {
			bad = err
			return false
		}
		if n := len(out); n > 0 && out[n-1].to == 0 {
			out[n-1].to = int(b.time / 1e6) // one that does not tell ends with the next
		}
		c := cue{from: int(b.time / 1e6), text: media.CueText(t.Info.Codec, text)}
		if b.length > 0 {
			c.to = int((b.time + b.length) / 1e6)
		}
		if out = append(out, c); len(out) > mostInPiece {
			bad = unfit("it has more subtitles than can be")
			return false
		}
		return true
	})
	if n := len(out); n > 0 && out[n-1].to == 0 {
		out[n-1].to = out[n-1].from + 5000
	}
	if bad != nil {
		err = bad
	}
	return out, err
}
