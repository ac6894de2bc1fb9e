// Package ebml reads elements of EBML (RFC 8794), the form of Matroska and WebM files (RFC 9559): an
// id, a size, and data, which may be further elements. It trusts no size that it finds.
package ebml

import (
	"encoding/binary"
	"fmt"
	"io"
	"math"
)

// Elements of EBML (RFC 8794) and Matroska (RFC 9559) that are read here.
const (
	IDEBML        = 0x1A45DFA3
	IDDocType     = 0x4282
	IDSegment     = 0x18538067
	IDSeekHead    = 0x114D9B74
	IDSeek        = 0x4DBB
	IDSeekID      = 0x53AB
	IDSeekPos     = 0x53AC
	IDInfo        = 0x1549A966
	IDScale       = 0x2AD7B1
	IDDuration    = 0x4489
	IDTracks      = 0x1654AE6B
	IDTrackEntry  = 0xAE
	IDTrackType   = 0x83
	IDCodec       = 0x86
	IDLanguage    = 0x22B59C
	IDLanguageTag = 0x22B59D
	IDVideo       = 0xE0
	IDWidth       = 0xB0
	IDHeight      = 0xBA
	IDPrivate     = 0x63A2
	IDFrameLength = 0x23E383
	IDInterlaced  = 0x9A
	IDShownWidth  = 0x54B0
	IDShownHeight = 0x54BA
	IDShownUnit   = 0x54B2
	IDColour      = 0x55B0
	IDTransfer    = 0x55BA
	IDProjection  = 0x7670
	IDRoll        = 0x7675
	IDAudio       = 0xE1
	IDRate        = 0xB5
	IDChannels    = 0x9F
	IDCluster     = 0x1F43B675
	IDTimestamp   = 0xE7
	IDSimpleBlock = 0xA3
	IDBlockGroup  = 0xA0
	IDBlock       = 0xA1
)

// UnknownSize is the end of an element that does not tell its size.
const UnknownSize = math.MaxInt64

// Element is an EBML element of a file: its id and where its data lies.
type Element struct {
	ID         uint32
	Start, End int64 // End is UnknownSize where the size is not told
}

// Read reads the header of the element at an offset.
func Read(r io.ReaderAt, off, size int64) (Element, error) {
	var h [12]byte
	n, err := r.ReadAt(h[:min(12, max(0, size-off))], off)
	if n == 0 {
		if err == nil {
			err = io.ErrUnexpectedEOF
		}
		return Element{}, err
	}
	e, head, ok := Header(h[:n])
	if !ok {
		return e, fmt.Errorf("no element begins at byte %d", off)
	}
	e.Start = off + int64(head)
	if e.End != UnknownSize {
		e.End += e.Start
	}
	return e, nil
}

// Header reads id and size from the front of b. The element's end holds its
// size, and head is the header's length.
func Header(b []byte) (e Element, head int, ok bool) {
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
		e.ID = e.ID<<8 | uint32(c)
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
		e.End = UnknownSize
	} else if v > 1<<60 {
		return e, 0, false
	} else {
		e.End = int64(v)
	}
	return e, n + m, true
}

// Children visits the elements held in memory. One that is cut short ends the visit.
func Children(b []byte, visit func(id uint32, data []byte)) {
	for len(b) > 0 {
		e, head, ok := Header(b)
		if !ok || e.End == UnknownSize || e.End > int64(len(b)-head) {
			return
		}
		visit(e.ID, b[head:head+int(e.End)])
		b = b[head+int(e.End):]
	}
}

// Uint reads a number.
func Uint(b []byte) uint64 {
	var v uint64
	for _, c := range b[:min(8, len(b))] {
		v = v<<8 | uint64(c)
	}
	return v
}

// Float reads a number that is no less than 0; what is none counts as 0.
func Float(b []byte) float64 {
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

// Seeks visits the elements that a SeekHead tells of, with how far from the segment's beginning each is
// said to lie.
func Seeks(head []byte, visit func(id uint32, at int64)) {
	Children(head, func(id uint32, data []byte) {
		if id != IDSeek {
			return
		}
		var what uint32
		at := int64(-1)
		Children(data, func(id uint32, v []byte) {
			switch id {
			case IDSeekID:
				what = uint32(Uint(v))
			case IDSeekPos:
				if p := Uint(v); p < 1<<60 {
					at = int64(p)
				}
			}
		})
		if at >= 0 {
			visit(what, at)
		}
	})
}
