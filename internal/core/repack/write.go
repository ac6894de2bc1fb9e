package repack

import (
	"encoding/binary"
	"math"

	"cozyshelf/internal/core/media"
)

// writer puts boxes together (ISO/IEC 14496-12).
type writer struct{ b []byte }

func (w *writer) u8(v ...byte)     { w.b = append(w.b, v...) }
func (w *writer) u16(v ...int)     { w.each(2, v) }
func (w *writer) u32(v ...int)     { w.each(4, v) }
func (w *writer) u64(v int64)      { w.b = binary.BigEndian.AppendUint64(w.b, uint64(v)) }
func (w *writer) text(s string)    { w.b = append(w.b, s...) }
func (w *writer) zeros(n int)      { w.b = append(w.b, make([]byte, n)...) }
func (w *writer) bytes(b []byte)   { w.b = append(w.b, b...) }
func (w *writer) set32(at, v int)  { binary.BigEndian.PutUint32(w.b[at:], uint32(v)) }
func (w *writer) full(v, flag int) { w.u32(v<<24 | flag) }

func (w *writer) each(size int, list []int) {
	for _, v := range list {
		for i := size - 1; i >= 0; i-- {
			w.b = append(w.b, byte(v>>(8*i)))
		}
	}
}

// box writes a box around what do writes.
func (w *writer) box(kind string, do func()) {
	at := len(w.b)
	w.u32(0)
	w.text(kind)
	do()
	w.set32(at, len(w.b)-at)
}

// matrices turn a picture clockwise, as the header of a track tells it.
var matrices = map[int][4]int{0: {0x10000, 0, 0, 0x10000}, 90: {0, 0x10000, -0x10000, 0},
	180: {-0x10000, 0, 0, -0x10000}, 270: {0, -0x10000, 0x10000, 0}}

// initSegment writes the initialization segment of a track: a file that names no sample.
func initSegment(t *Track) []byte {
	w := &writer{}
	w.box("ftyp", func() {
		w.text("iso6")
		w.u32(0)
		w.text("iso6cmfcmp41")
	})
	w.box("moov", func() {
		w.box("mvhd", func() {
			w.full(0, 0)
			w.u32(0, 0, 1000, 0, 0x10000)
			w.u16(0x100, 0)
			w.zeros(8)
			w.matrix(0)
			w.zeros(24)
			w.u32(2) // the next track
		})
		w.track(t)
		w.box("mvex", func() {
			w.box("trex", func() {
				w.full(0, 0)
				w.u32(1, 1, 0, 0, 0)
			})
		})
	})
	return w.b
}

func (w *writer) matrix(rotation int) {
	m := matrices[rotation]
	w.u32(m[0], m[1], 0, m[2], m[3], 0, 0, 0, 0x40000000)
}

func (w *writer) track(t *Track) {
	picture := t.Info.Kind == media.Video
	w.box("trak", func() {
		w.box("tkhd", func() {
			w.full(0, 7)
			w.u32(0, 0, 1, 0, 0)
			w.zeros(8)
			if picture {
				w.u16(0, 0, 0, 0)
			} else {
				w.u16(0, 1, 0x100, 0)
			}
			w.matrix(t.Info.Rotation)
			num, den := t.Info.PixelRatio()
			width := int(math.Round(float64(t.Info.Width) * float64(num) / float64(den)))
			w.u32(min(width, 65535)<<16, min(t.Info.Height, 65535)<<16)
		})
		if t.Edit+t.Delay > 0 {
			w.box("edts", func() {
				w.box("elst", func() {
					w.full(1, 0)
					w.u32(1)
					w.u64(0)
					w.u64(t.Edit + t.Delay)
					w.u16(1, 0)
				})
			})
		}
		w.box("mdia", func() {
			w.box("mdhd", func() {
				w.full(0, 0)
				w.u32(0, 0, int(t.Scale), 0)
				w.u16(packed(t.Info.Language), 0)
			})
			w.box("hdlr", func() {
				w.full(0, 0)
				w.u32(0)
				if picture {
					w.text("vide")
				} else {
					w.text("soun")
				}
				w.zeros(13)
			})
			w.minf(t, picture)
		})
	})
}

func (w *writer) minf(t *Track, picture bool) {
	w.box("minf", func() {
		if picture {
			w.box("vmhd", func() { w.full(0, 1); w.zeros(8) })
		} else {
			w.box("smhd", func() { w.full(0, 0); w.zeros(4) })
		}
		w.box("dinf", func() {
			w.box("dref", func() {
				w.full(0, 0)
				w.u32(1)
				w.box("url ", func() { w.full(0, 1) })
			})
		})
		w.box("stbl", func() {
			w.box("stsd", func() {
				w.full(0, 0)
				w.u32(1)
				w.bytes(t.Entry)
			})
			for _, kind := range []string{"stts", "stsc", "stco"} {
				w.box(kind, func() { w.full(0, 0); w.u32(0) })
			}
			w.box("stsz", func() { w.full(0, 0); w.u32(0, 0) })
		})
	})
}

// packed writes a language of three letters in five bits each; others are left open.
func packed(language string) int {
	if len(language) != 3 {
		language = "und"
	}
	v := 0
	for _, c := range []byte(language) {
		if c < 'a' || c > 'z' {
			return packed("und")
		}
		v = v<<5 | int(c-0x60)
	}
	return v
}

// Flags of samples: what depends on nothing, and what depends on others.
const (
	keySample   = 0x02000000
	otherSample = 0x01010000
)

// fragment writes what stands before the bytes of a piece: its type, its index and the header of
// its bytes. One with nothing in it stands at a time of its own, in the track's units.
func fragment(list []sample, empty int64, sequence uint32, body int64) []byte {
	if len(list) > 0 {
		empty = list[0].decode
	}
	w := &writer{b: make([]byte, 0, 160+16*len(list))}
	w.box("styp", func() {
		w.text("msdh")
		w.u32(0)
		w.text("msdhcmfscmff")
	})
	at, offset := len(w.b), 0
	w.box("moof", func() {
		w.box("mfhd", func() { w.full(0, 0); w.u32(int(sequence)) })
		w.box("traf", func() {
			w.box("tfhd", func() { w.full(0, 0x20000); w.u32(1) })
			w.box("tfdt", func() {
				w.full(1, 0)
				w.u64(empty)
			})
			w.box("trun", func() {
				w.full(1, 0xf01)
				w.u32(len(list))
				offset = len(w.b)
				w.u32(0)
				for _, s := range list {
					flags := otherSample
					if s.key {
						flags = keySample
					}
					w.u32(int(s.duration), int(s.size), flags, int(s.shown-s.decode))
				}
			})
		})
	})
	w.set32(offset, len(w.b)-at+8)
	w.u32(int(body + 8))
	w.text("mdat")
	return w.b
}
