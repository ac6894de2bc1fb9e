package repack

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"cozyshelf/internal/core/isobmff"
	"cozyshelf/internal/core/media"
)

// Incoming reads a stream of MP4 fragments of one track, as an encoder writes it, and parts it into
// segments.
type Incoming struct {
	r     io.Reader
	track Track
	each  defaults
	// What was read and is not given out yet.
	samples []sample
	data    []byte
	ended   int64 // where the segment before ended, in the track's units
}

// mostBox bounds one box of the stream: a picture, or what is told of it.
const mostBox = 64 << 20

// NewIncoming reads the beginning of a stream.
func NewIncoming(r io.Reader) (*Incoming, error) {
	in := &Incoming{r: r}
	var head bytes.Buffer
	for {
		kind, b, err := in.box()
		if err != nil {
			return nil, err
		}
		head.Write(binary.BigEndian.AppendUint32(nil, uint32(len(b)+8)))
		head.WriteString(kind)
		head.Write(b)
		if kind == "moov" {
			break
		}
		if head.Len() > 1<<20 {
			return nil, errors.New("what the encoder writes does not begin as MP4 does")
		}
	}
	info, err := media.Read(bytes.NewReader(head.Bytes()), int64(head.Len()))
	if err != nil {
		return nil, fmt.Errorf("what the encoder writes: %w", err)
	}
	f := &Film{Size: int64(head.Len())}
	f.MP4 = &mp4Film{}
	isobmff.Each(head.Bytes(), func(kind string, b []byte) {
		if kind == "moov" {
			(&moovReader{film: f, moov: b, info: info}).read()
		}
	})
	if len(f.Tracks) != 1 || f.Tracks[0].Cannot != "" || f.Tracks[0].Entry == nil {
		return nil, errors.New("what the encoder writes is not one track of picture or sound")
	}
	in.track, in.each = f.Tracks[0], f.MP4.Tracks[0].Each
	in.track.Edit, in.track.Delay = 0, 0 // times are taken as they are written
	return in, nil
}

// Init gives the initialization segment of what arrives.
func (in *Incoming) Init() []byte { return initSegment(&in.track) }

// Name gives the codec by RFC 6381.
func (in *Incoming) Name() string { return in.track.Info.RFC6381 }

// box reads one box.
func (in *Incoming) box() (kind string, b []byte, err error) {
	var h [8]byte
	if _, err := io.ReadFull(in.r, h[:]); err != nil {
		return "", nil, err
	}
	n := int64(binary.BigEndian.Uint32(h[:]))
	if n < 8 || n > mostBox {
		return "", nil, fmt.Errorf("what the encoder writes has a box of %d bytes", n)
	}
	b = make([]byte, n-8)
	_, err = io.ReadFull(in.r, b)
	return string(h[4:]), b, err
}

// Next reads up to a time, in seconds of the stream, and gives all samples before it as a segment
// whose times are moved by so many seconds. Samples before the time from are left out. At the end
// of the stream it gives what is left, and io.EOF after that.
func (in *Incoming) Next(from, until, moved float64, number int) ([]byte, error) {
	scale := float64(in.track.Scale)
	if in.ended == 0 {
		in.ended = int64(max(0, from+moved)*scale + 0.5)
	}
	var list []sample
	var body []byte
	for {
		for i, s := range in.samples {
			at := float64(s.shown) / scale
			// A picture that belongs to the next segment must be one with which it can begin.
			if at >= until-0.0005 && (s.key || in.track.Info.Kind != media.Video) {
				in.samples = in.samples[i:]
				return in.segment(list, body, moved, number), nil
			}
			if at >= from-0.0005 {
				list, body = append(list, s), append(body, in.data[:s.size]...)
			}
			in.data = in.data[s.size:]
		}
		in.samples = nil
		err := in.more()
		if errors.Is(err, io.EOF) && len(list) > 0 {
			return in.segment(list, body, moved, number), nil
		}
		if err != nil {
			return nil, err
		}
		if len(body) > mostSample || len(list) > mostInPiece {
			return nil, errors.New("the encoder makes more than a segment can have")
		}
	}
}

func (in *Incoming) segment(list []sample, body []byte, moved float64, number int) []byte {
	by := int64(moved*float64(in.track.Scale) + 0.5)
	for i := range list {
		s := &list[i]
		s.decode, s.shown = s.decode+by, s.shown+by
		if i+1 < len(list) {
			continue
		}
		if len(in.samples) > 0 {
			s.duration = uint32(max(0, in.samples[0].decode+by-s.decode))
		}
	}
	for i := range max(0, len(list)-1) {
		list[i].duration = uint32(max(0, list[i+1].decode-list[i].decode))
	}
	b := append(fragment(list, in.ended, uint32(number+1), int64(len(body))), body...)
	if n := len(list); n > 0 {
		in.ended = list[n-1].decode + int64(list[n-1].duration)
	}
	return b
}

// Nothing is a segment in which there is nothing, as behind the end of a track. It begins at a time
// in seconds; scale is what a second has of the track's units.
func Nothing(number int, at float64, scale int64) []byte {
	return fragment(nil, int64(at*float64(scale)+0.5), uint32(number+1), 0)
}

// more reads one fragment.
func (in *Incoming) more() error {
	for {
		kind, b, err := in.box()
		if err != nil {
			return err
		}
		switch kind {
		case "moof":
			if in.samples, err = in.fragment(b); err != nil {
				return err
			}
		case "mdat":
			var sum int64
			for _, s := range in.samples {
				sum += int64(s.size)
			}
			if sum != int64(len(b)) {
				return errors.New("what the encoder writes contradicts itself")
			}
			in.data = b
			return nil
		}
	}
}

// fragment reads the index of a fragment.
func (in *Incoming) fragment(b []byte) (out []sample, err error) {
	isobmff.Each(b, func(kind string, b []byte) {
		if kind != "traf" {
			return
		}
		d := in.each
		var decode int64
		isobmff.Each(b, func(kind string, b []byte) {
			if len(b) < 8 || err != nil {
				return
			}
			flags := binary.BigEndian.Uint32(b) & 0xffffff
			switch {
			case kind == "tfhd":
				d.header(b[8:], flags, 0)
			case kind == "tfdt" && b[0] == 1 && len(b) >= 12:
				decode = int64(binary.BigEndian.Uint64(b[4:])) // sound begins before zero
			case kind == "tfdt":
				decode = int64(binary.BigEndian.Uint32(b[4:]))
			case kind == "trun":
				var list []sample
				if list, _, err = run(b, flags, d, 0, -1, decode); len(list) > 0 {
					decode = list[len(list)-1].decode + int64(list[len(list)-1].duration)
				}
				out = append(out, list...)
			}
		})
	})
	return out, err
}
