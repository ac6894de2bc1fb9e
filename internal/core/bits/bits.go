// Package bits reads a stream bit by bit, as the headers of codecs are written. Beyond the end it gives
// zeros.
package bits

// Reader reads from some bytes.
type Reader struct {
	b  []byte
	at int
}

// Of begins at the first bit.
func Of(b []byte) *Reader { return &Reader{b: b} }

// Read gives the next n bits as a number, the first the highest.
func (r *Reader) Read(n int) (v uint32) {
	for range n {
		v <<= 1
		if r.at>>3 < len(r.b) {
			v |= uint32(r.b[r.at>>3]>>(7-r.at&7)) & 1
		}
		r.at++
	}
	return v
}

// Int is Read.
func (r *Reader) Int(n int) int { return int(r.Read(n)) }

// Over reports whether more was read than there is.
func (r *Reader) Over() bool { return r.at > 8*len(r.b) }

// Golomb reads a number as H.264 and HEVC write it (Exp-Golomb).
func (r *Reader) Golomb() uint32 {
	zeros := 0
	for r.Read(1) == 0 && zeros < 32 && r.at < 8*len(r.b) {
		zeros++
	}
	return 1<<min(zeros, 31) - 1 + r.Read(min(zeros, 31))
}

// Signed is Golomb for a number that may be below zero.
func (r *Reader) Signed() int32 {
	v := r.Golomb()
	if v&1 == 0 {
		return -int32(v / 2)
	}
	return int32(v/2 + 1)
}
