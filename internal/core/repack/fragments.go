package repack

import (
	"encoding/binary"
	"errors"
	"io"

	"cozyshelf/internal/core/isobmff"
	"cozyshelf/internal/core/media"
)

// defaults are what a track's samples have in common in fragments.
type defaults struct {
	Duration uint32 `json:"d,omitempty"`
	Size     uint32 `json:"s,omitempty"`
	Flags    uint32 `json:"f,omitempty"`
}

// mostIndex is how large the index of a fragment may be.
const mostIndex = 16 << 20

// fragmentOf gives the samples that a track has in a fragment (ISO/IEC 14496-12, 8.8). decode is
// the time at which the fragment begins where it does not tell.
func (m *mp4Film) fragmentOf(r io.ReaderAt, f *Film, number int, t *mp4Track, decode int64) ([]sample, error) {
	if number >= len(m.Fragments) {
		return nil, nil
	}
	at := m.Fragments[number]
	var head [8]byte
	if _, err := r.ReadAt(head[:], at-8); err != nil {
		return nil, err
	}
	b, err := whole(r, at, int64(binary.BigEndian.Uint32(head[:4]))-8, mostIndex, f.Size, "a fragment (moof)")
	if err != nil {
		return nil, err
	}
	var out []sample
	isobmff.Each(b, func(kind string, b []byte) {
		if kind != "traf" || err != nil {
			return
		}
		d, base, ours := t.Each, at-8, false
		end := int64(-1) // of the run before
		isobmff.Each(b, func(kind string, b []byte) {
			if len(b) < 8 || err != nil {
				return
			}
			flags := binary.BigEndian.Uint32(b) & 0xffffff
			switch {
			case kind == "tfhd":
				if ours = binary.BigEndian.Uint32(b[4:]) == t.ID; ours {
					base = d.header(b[8:], flags, base)
				}
			case kind == "tfdt" && ours && b[0] == 1 && len(b) >= 12:
				decode = int64(binary.BigEndian.Uint64(b[4:]) & (1<<62 - 1))
			case kind == "tfdt" && ours:
				decode = int64(binary.BigEndian.Uint32(b[4:]))
			case kind == "trun" && ours:
				var list []sample
				if list, end, err = run(b, flags, d, base, end, decode); len(list) > 0 {
					last := list[len(list)-1]
					decode = last.decode + int64(last.duration)
				}
				out = append(out, list...)
			}
		})
	})
	return out, err
}

// header reads what tfhd tells, and gives where the data begins from which offsets count.
func (d *defaults) header(b []byte, flags uint32, base int64) int64 {
	take := func(flag uint32, size int) []byte {
		if flags&flag == 0 || len(b) < size {
			return nil
		}
		v := b[:size]
		b = b[size:]
		return v
	}
	if v := take(1, 8); v != nil {
		base = int64(binary.BigEndian.Uint64(v) & (1<<62 - 1))
	}
	take(2, 4)
	number := func(flag uint32, otherwise uint32) uint32 {
		if v := take(flag, 4); v != nil {
			return binary.BigEndian.Uint32(v)
		}
		return otherwise
	}
	d.Duration = number(8, d.Duration)
	d.Size = number(0x10, d.Size)
	d.Flags = number(0x20, d.Flags)
	return base
}

// run reads the samples of a run (trun). end is where the run before ended, or less than 0.
func run(b []byte, flags uint32, d defaults, base, end, decode int64) ([]sample, int64, error) {
	n := binary.BigEndian.Uint32(b[4:])
	b = b[8:]
	next := func() (v uint32) {
		if len(b) >= 4 {
			v = binary.BigEndian.Uint32(b)
			b = b[4:]
		}
		return v
	}
	at := base
	switch {
	case flags&1 != 0:
		at = base + int64(int32(next()))
	case end >= 0:
		at = end
	}
	first, hasFirst := d.Flags, flags&4 != 0
	if hasFirst {
		first = next()
	}
	per := 0
	for _, f := range []uint32{0x100, 0x200, 0x400, 0x800} {
		if flags&f != 0 {
			per += 4
		}
	}
	if n > mostInPiece || int(n)*per > len(b) {
		return nil, at, errors.New("a fragment's run claims more samples than there are")
	}
	out := make([]sample, n)
	for i := range out {
		s := &out[i]
		s.at, s.decode, s.duration, s.size = at, decode, d.Duration, d.Size
		flag := d.Flags
		if i == 0 && hasFirst {
			flag = first
		}
		if flags&0x100 != 0 {
			s.duration = next()
		}
		if flags&0x200 != 0 {
			s.size = next()
		}
		if flags&0x400 != 0 {
			flag = next()
		}
		s.shown = decode
		if flags&0x800 != 0 {
			s.shown += int64(int32(next()))
		}
		s.key = flag&0x10000 == 0
		at, decode = at+int64(s.size), decode+int64(s.duration)
	}
	return out, at, nil
}

// eachSample goes through all samples of a track.
func (m *mp4Film) eachSample(r io.ReaderAt, f *Film, x *mp4Track, visit func(here mark, s sample) error) (mark, error) {
	var decode int64
	total := 0
	for n := range m.Fragments {
		list, err := m.fragmentOf(r, f, n, x, decode)
		if err != nil {
			return mark{Fragment: n}, nil // a recording that was cut off plays up to here
		}
		if total += len(list); total > mostSamples {
			return mark{}, unfit("it has more samples than can be")
		}
		for i, s := range list {
			if err := visit(mark{Fragment: n, Skip: uint32(i), Decode: s.decode}, s); err != nil {
				return mark{}, err
			}
			decode = s.decode + int64(s.duration)
		}
	}
	return mark{Fragment: len(m.Fragments), Decode: decode}, nil
}

// openFragments parts a film that is written in fragments already.
func (f *Film) openFragments(r io.ReaderAt) error {
	lead := f.lead()
	if lead == nil {
		return nil
	}
	var keys []int64
	start, end := int64(1<<62), int64(0)
	x := f.mp4Track(lead)
	_, err := f.MP4.eachSample(r, f, x, func(_ mark, s sample) error {
		lead.Delay = max(lead.Delay, s.decode-s.shown)
		x.stamp(&s, lead)
		at := lead.shownAt(s)
		start, end = min(start, at), max(end, at+scaled(int64(s.duration), int64(lead.Scale), 1e9))
		if s.key {
			keys = append(keys, at)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if len(keys) == 0 {
		return unfit("no key frame is in it")
	}
	if lead.Info.Kind == media.Audio {
		keys = evenly(max(start, 0), end)
	}
	f.Starts = part(keys, end)
	for i := range f.Tracks {
		t := &f.Tracks[i]
		if t.Cannot != "" {
			continue
		}
		k, x := marker{film: f, track: t}, f.mp4Track(t)
		last, err := f.MP4.eachSample(r, f, x, func(here mark, s sample) error {
			x.stamp(&s, t)
			for k.begins(s) {
				k.close()
				x.Marks = append(x.Marks, here)
				k.piece++
			}
			k.count(s)
			return nil
		})
		if err != nil {
			return err
		}
		k.close()
		for len(x.Marks) <= f.Pieces() {
			x.Marks = append(x.Marks, last)
		}
	}
	return nil
}

func (f *Film) mp4Track(t *Track) *mp4Track {
	for i := range f.MP4.Tracks {
		if f.MP4.Tracks[i].Number == t.Number {
			return &f.MP4.Tracks[i]
		}
	}
	return nil
}

// fragmentSamples gives those of a piece.
func (m *mp4Film) fragmentSamples(r io.ReaderAt, f *Film, x *mp4Track, t *Track, piece int) ([]sample, error) {
	from, to := x.Marks[piece], x.Marks[piece+1]
	var out []sample
	decode := from.Decode
	for n := from.Fragment; n <= to.Fragment && n < len(m.Fragments); n++ {
		list, err := m.fragmentOf(r, f, n, x, decode)
		if err != nil {
			return nil, err
		}
		for i, s := range list {
			decode = s.decode + int64(s.duration)
			if n == from.Fragment && i < int(from.Skip) || n == to.Fragment && i >= int(to.Skip) {
				continue
			}
			x.stamp(&s, t)
			if out = append(out, s); len(out) > mostInPiece {
				return nil, errors.New("a piece has more samples than can be")
			}
		}
	}
	return out, nil
}
