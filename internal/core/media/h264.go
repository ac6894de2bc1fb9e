package media

import (
	"bytes"
	"slices"

	"cozyshelf/internal/core/bits"
)

// h264Parameters are what a sequence parameter set of H.264 tells (ITU-T H.264, 7.3.2.1.1 and E.1.1).
type h264Parameters struct {
	across, down             uint32 // macroblocks; down of a field where fields is set
	left, right, top, bottom uint32 // what is cropped, in the units that the chroma gives
	chroma, depth            uint32
	fields                   bool // pictures may be coded as fields: they are interlaced
	shape                    [2]int
	transfer                 int
	whole                    bool // all of it could be read
}

// h264Set reads a sequence parameter set, without the byte that names its sort.
func h264Set(set []byte) (s h264Parameters) {
	r := bits.Of(bytes.ReplaceAll(set, []byte{0, 0, 3}, []byte{0, 0}))
	s.chroma, s.depth = 1, 8
	profile := r.Read(8)
	r.Read(16)
	r.Golomb()
	if slices.Contains([]uint32{100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135}, profile) {
		if s.chroma = r.Golomb(); s.chroma == 3 {
			r.Read(1)
		}
		s.depth = r.Golomb() + 8
		r.Golomb()
		r.Read(1)
		if r.Read(1) == 1 {
			scalingLists(r, map[bool]int{true: 12, false: 8}[s.chroma == 3])
		}
	}
	r.Golomb()
	switch r.Golomb() {
	case 0:
		r.Golomb()
	case 1:
		r.Read(1)
		r.Signed()
		r.Signed()
		for range min(r.Golomb(), 255) {
			r.Signed()
		}
	}
	r.Golomb()
	r.Read(1)
	s.across, s.down = r.Golomb()+1, r.Golomb()+1
	if s.fields = r.Read(1) == 0; s.fields {
		r.Read(1)
	}
	r.Read(1)
	if r.Read(1) == 1 {
		s.left, s.right, s.top, s.bottom = r.Golomb(), r.Golomb(), r.Golomb(), r.Golomb()
	}
	if r.Read(1) == 1 {
		s.usability(r)
	}
	s.whole = !r.Over() && s.chroma < 4 && s.depth <= 14
	return s
}

func scalingLists(r *bits.Reader, n int) {
	for i := range n {
		if r.Read(1) == 0 {
			continue
		}
		last, next := int32(8), int32(8)
		for range map[bool]int{true: 16, false: 64}[i < 6] {
			if next != 0 {
				next = (last + r.Signed() + 256) & 255
			}
			if next != 0 {
				last = next
			}
		}
	}
}

// pixelShapes are the sample aspect ratios by aspect_ratio_idc (ITU-T H.273, 8.6).
var pixelShapes = [][2]int{{}, {1, 1}, {12, 11}, {10, 11}, {16, 11}, {40, 33}, {24, 11}, {20, 11}, {32, 11}, {80, 33},
	{18, 11}, {15, 11}, {64, 33}, {160, 99}, {4, 3}, {3, 2}, {2, 1}}

// usability reads the beginning of the video usability information.
func (s *h264Parameters) usability(r *bits.Reader) {
	if r.Read(1) == 1 {
		if idc := int(r.Read(8)); idc == 255 {
			s.shape = [2]int{int(r.Read(16)), int(r.Read(16))}
		} else if idc < len(pixelShapes) {
			s.shape = pixelShapes[idc]
		}
	}
	if r.Read(1) == 1 {
		r.Read(1)
	}
	if r.Read(1) == 1 {
		r.Read(4)
		if r.Read(1) == 1 {
			r.Read(8)
			s.transfer = int(r.Read(8))
			r.Read(8)
		}
	}
}

// size gives how large pictures are.
func (s h264Parameters) size() (wide, high int) {
	fields := 1
	if s.fields {
		fields = 2
	}
	wide, high = int(s.across&0xfff)*16, int(s.down&0xfff)*16*fields
	x, y := 2, 2
	if s.chroma == 3 || s.chroma == 0 {
		x = 1
	}
	if s.chroma != 1 {
		y = 1
	}
	y *= fields
	wide -= x * int(s.left&0xfff+s.right&0xfff)
	high -= y * int(s.top&0xfff+s.bottom&0xfff)
	return max(0, wide), max(0, high)
}
