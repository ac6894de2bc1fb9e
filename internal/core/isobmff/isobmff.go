// Package isobmff reads boxes of the ISO base media file format (ISO/IEC 14496-12), the form of MP4
// and QuickTime files: a length, a type of four letters, and a payload, which may be further boxes.
// It trusts no length that it finds.
package isobmff

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Box is one box of a file or of a byte slice: its type and where its payload lies.
type Box struct {
	Kind       string
	Start, End int64
}

// maxBoxes bounds how many boxes of one level are visited.
const maxBoxes = 1 << 16

// Top visits the top-level boxes of a file, reading only their headers.
func Top(r io.ReaderAt, size int64, visit func(Box) (stop bool, err error)) error {
	off := int64(0)
	var h [16]byte
	for n := 0; off < size; n++ {
		if n > maxBoxes {
			return errors.New("the file has more boxes than can be")
		}
		if off+8 > size {
			return fmt.Errorf("the file ends inside the header of a box, at byte %d", off)
		}
		k, err := r.ReadAt(h[:], off)
		if k < 8 && err != nil {
			return err
		}
		length, head := int64(binary.BigEndian.Uint32(h[:4])), int64(8)
		switch length {
		case 0:
			length = size - off
		case 1:
			if k < 16 {
				return fmt.Errorf("the file ends inside the header of a box, at byte %d", off)
			}
			length, head = int64(binary.BigEndian.Uint64(h[8:])), 16
		}
		kind := string(h[4:8])
		if length < head || length > 1<<60 {
			return fmt.Errorf("box %q at byte %d claims a length that cannot be", kind, off)
		}
		stop, err := visit(Box{kind, off + head, off + length})
		if stop || err != nil {
			return err
		}
		off += length
	}
	return nil
}

// Each visits the boxes of a payload held in memory. A box that is cut short
// ends the visit.
func Each(b []byte, visit func(kind string, payload []byte)) {
	for len(b) >= 8 {
		length, head := uint64(binary.BigEndian.Uint32(b)), uint64(8)
		switch length {
		case 0:
			length = uint64(len(b))
		case 1:
			if len(b) < 16 {
				return
			}
			length, head = binary.BigEndian.Uint64(b[8:]), 16
		}
		if length < head || length > uint64(len(b)) {
			return
		}
		visit(string(b[4:8]), b[head:length])
		b = b[length:]
	}
}
