package repack

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"

	"cozyshelf/internal/core/isobmff"
	"cozyshelf/internal/core/media"
)

// mp4Film is what is kept of an MP4 file: where the tables of its tracks lie, and where in them each
// piece begins.
type mp4Film struct {
	Tracks    []mp4Track `json:"tracks"`
	Fragments []int64    `json:"fragments,omitempty"` // where the fragments' indexes (moof) lie, of a file that has them
}

type mp4Track struct {
	ID     uint32   `json:"id"`
	Number int      `json:"number"`
	Tables tables   `json:"tables"`
	Shift  int64    `json:"shift"`         // added to each sample's times, by the edit list
	Until  int64    `json:"until"`         // the end of what is shown; 0 for all
	Marks  []mark   `json:"marks"`         // where the pieces begin, and the end
	Each   defaults `json:"each,omitzero"` // of fragments
}

// table is where the entries of a box lie.
type table struct {
	At    int64  `json:"at"`
	Count uint32 `json:"n"`
}

// tables are those of a track (ISO/IEC 14496-12, 8.6 and 8.7).
type tables struct {
	Length   table  `json:"stts"`
	Shown    table  `json:"ctts"`
	Keys     table  `json:"stss"`
	HasKeys  bool   `json:"has_stss"`
	Chunks   table  `json:"stsc"`
	Sizes    table  `json:"stsz"`
	Size     uint32 `json:"size"` // of every sample, or 0
	SizeBits int    `json:"size_bits"`
	Offsets  table  `json:"stco"`
	Wide     bool   `json:"co64"` // offsets of eight bytes
	Signed   bool   `json:"ctts_signed"`
}

// mark is a place in a track: the state of a cursor.
type mark struct {
	Sample uint32 `json:"s"` // samples before it
	Decode int64  `json:"d"` // its time
	Run    uint32 `json:"r"` // of stts, and how many samples of it are behind
	Past   uint32 `json:"p"`
	Shown  uint32 `json:"cr"` // of ctts
	Gone   uint32 `json:"cp"`
	Key    uint32 `json:"k"`  // the next of stss
	Group  uint32 `json:"g"`  // of stsc
	Chunk  uint32 `json:"c"`  // chunks before it
	Within uint32 `json:"w"`  // samples of its chunk before it
	At     int64  `json:"at"` // in the file
	// Of a file with fragments: which one, and samples of the track in it that are before.
	Fragment int    `json:"f"`
	Skip     uint32 `json:"fs"`
}

// numbers reads tables from a file, a block at a time.
type numbers struct {
	r    io.ReaderAt
	at   int64 // of the block
	have []byte
	buf  [4096]byte
	err  error
}

func (n *numbers) bytes(at int64, size int) []byte {
	if at < n.at || at+int64(size) > n.at+int64(len(n.have)) {
		k, err := n.r.ReadAt(n.buf[:], at)
		n.at, n.have = at, n.buf[:k]
		if k < size {
			if n.err == nil {
				n.err = fmt.Errorf("the file ends inside its index, at byte %d: %w", at, err)
			}
			return make([]byte, size)
		}
	}
	return n.have[at-n.at:][:size]
}

func (n *numbers) u32(at int64) uint32 { return binary.BigEndian.Uint32(n.bytes(at, 4)) }

// cursor goes through the samples of a track.
type cursor struct {
	mark
	t                                           *tables
	length, shown, keys, chunks, sizes, offsets numbers
	// Of the run of chunks that it is in.
	perChunk, description, lastChunk uint32
	begun                            bool
}

func (t *tables) from(r io.ReaderAt, m mark) *cursor {
	c := &cursor{mark: m, t: t}
	for _, n := range []*numbers{&c.length, &c.shown, &c.keys, &c.chunks, &c.sizes, &c.offsets} {
		n.r = r
	}
	return c
}

// count is how many samples the track has.
func (t *tables) count() uint32 { return t.Sizes.Count }

func (c *cursor) err() error {
	for _, n := range []*numbers{&c.length, &c.shown, &c.keys, &c.chunks, &c.sizes, &c.offsets} {
		if n.err != nil {
			return n.err
		}
	}
	return nil
}

var errTables = errors.New("the tables of its index contradict each other")

// group reads the entry of stsc that the cursor is in.
func (c *cursor) group() {
	at := c.t.Chunks.At + 12*int64(c.Group)
	c.perChunk, c.description = c.chunks.u32(at+4), c.chunks.u32(at+8)
	c.lastChunk = c.t.Offsets.Count
	if c.Group+1 < c.t.Chunks.Count {
		c.lastChunk = c.chunks.u32(at+12) - 1
	}
}

// next gives the next sample; more is false behind the last.
func (c *cursor) next() (s sample, more bool, err error) {
	if c.Sample >= c.t.count() {
		return s, false, c.err()
	}
	// Where it lies.
	if !c.begun {
		c.begun = true
		c.group()
	}
	for c.Within >= c.perChunk {
		c.Chunk, c.Within = c.Chunk+1, 0
		for c.Chunk >= c.lastChunk {
			if c.Group++; c.Group >= c.t.Chunks.Count {
				return s, false, errTables
			}
			c.group()
		}
	}
	if c.Chunk >= c.t.Offsets.Count || c.description != 1 {
		return s, false, unfit("its tracks change their form within")
	}
	if c.Within == 0 {
		if c.t.Wide {
			c.At = int64(binary.BigEndian.Uint64(c.offsets.bytes(c.t.Offsets.At+8*int64(c.Chunk), 8)) & (1<<62 - 1))
		} else {
			c.At = int64(c.offsets.u32(c.t.Offsets.At + 4*int64(c.Chunk)))
		}
	}
	s.at, s.size = c.At, c.sampleSize()
	// When it is decoded and shown.
	if c.Run >= c.t.Length.Count {
		return s, false, errTables
	}
	at := c.t.Length.At + 8*int64(c.Run)
	for c.Past >= c.length.u32(at) {
		if c.Run++; c.Run >= c.t.Length.Count {
			return s, false, errTables
		}
		c.Past, at = 0, at+8
	}
	s.decode, s.duration = c.Decode, c.length.u32(at+4)
	s.shown = s.decode + c.offset()
	s.key = !c.t.HasKeys
	if c.Key < c.t.Keys.Count && c.keys.u32(c.t.Keys.At+4*int64(c.Key)) == c.Sample+1 {
		s.key = true
		c.Key++
	}
	c.Sample, c.Past, c.Within, c.At = c.Sample+1, c.Past+1, c.Within+1, c.At+int64(s.size)
	c.Decode += int64(s.duration)
	if c.Decode < 0 || c.Decode > 1<<60 {
		return s, false, errTables
	}
	return s, true, c.err()
}

func (c *cursor) sampleSize() uint32 {
	i := int64(c.Sample)
	switch {
	case c.t.Size > 0:
		return c.t.Size
	case c.t.SizeBits == 16:
		return uint32(binary.BigEndian.Uint16(c.sizes.bytes(c.t.Sizes.At+2*i, 2)))
	case c.t.SizeBits == 8:
		return uint32(c.sizes.bytes(c.t.Sizes.At+i, 1)[0])
	case c.t.SizeBits == 4:
		return uint32(c.sizes.bytes(c.t.Sizes.At+i/2, 1)[0] >> (4 - 4*(i&1)) & 15)
	}
	return c.sizes.u32(c.t.Sizes.At + 4*i)
}

// offset is how much later than decoded a sample is shown.
func (c *cursor) offset() int64 {
	if c.Shown >= c.t.Shown.Count {
		return 0
	}
	at := c.t.Shown.At + 8*int64(c.Shown)
	for c.Gone >= c.shown.u32(at) {
		if c.Shown++; c.Shown >= c.t.Shown.Count {
			return 0
		}
		c.Gone, at = 0, at+8
	}
	c.Gone++
	// Version 0 has no signs, but files are written as if it had.
	return int64(int32(c.shown.u32(at + 4)))
}

// openMP4 looks an MP4 or QuickTime file through.
func (f *Film) openMP4(r io.ReaderAt, info media.Info) error {
	m := &mp4Film{}
	f.MP4 = m
	var moov []byte
	var moovAt int64
	fragments := false
	err := isobmff.Top(r, f.Size, func(b isobmff.Box) (bool, error) {
		switch b.Kind {
		case "moov":
			if moov != nil {
				return false, nil
			}
			var err error
			moovAt = b.Start
			moov, err = whole(r, b.Start, b.End-b.Start, 256<<20, f.Size, "its index (moov)")
			return false, err
		case "moof":
			fragments = true
			m.Fragments = append(m.Fragments, b.Start)
			if len(m.Fragments) > mostPieces*8 {
				return true, unfit("it has more fragments than can be")
			}
		}
		return false, nil
	})
	if moov == nil {
		if err == nil {
			err = errors.New("the file has no index (moov)")
		}
		return err
	}
	if err != nil && !fragments {
		return err
	}
	p := &moovReader{film: f, base: moovAt, moov: moov, info: info}
	p.read()
	if fragments {
		return f.openFragments(r)
	}
	return f.partMP4(r)
}

// moovReader reads a file's index.
type moovReader struct {
	film  *Film
	base  int64
	moov  []byte
	scale int64 // units a second of the whole film
	info  media.Info
}

// at gives where a payload, which is a slice of the index, lies in the file: what is left behind its
// beginning tells how much is before.
func (p *moovReader) at(payload []byte) int64 {
	return p.base + int64(cap(p.moov)-cap(payload))
}

func (p *moovReader) read() {
	number := 0
	isobmff.Each(p.moov, func(kind string, b []byte) {
		switch {
		case kind == "mvhd" && len(b) >= 24:
			p.scale = int64(binary.BigEndian.Uint32(b[12:]))
			if b[0] == 1 {
				p.scale = int64(binary.BigEndian.Uint32(b[20:]))
			}
		case kind == "trak":
			number++
			if number <= min(mostTracks, len(p.info.Tracks)) {
				p.trak(b, number)
			}
		case kind == "mvex":
			isobmff.Each(b, func(kind string, b []byte) {
				if kind != "trex" || len(b) < 24 {
					return
				}
				for i := range p.film.MP4.Tracks {
					if t := &p.film.MP4.Tracks[i]; t.ID == binary.BigEndian.Uint32(b[4:]) {
						t.Each = defaults{binary.BigEndian.Uint32(b[12:]), binary.BigEndian.Uint32(b[16:]),
							binary.BigEndian.Uint32(b[20:])}
					}
				}
			})
		}
	})
}

// trak reads a track. One that cannot be sent is kept with the reason.
func (p *moovReader) trak(b []byte, number int) {
	m := mp4Track{Number: number}
	t := Track{Number: number}
	var entry, edits []byte
	isobmff.Each(b, func(kind string, b []byte) {
		switch kind {
		case "tkhd":
			if len(b) >= 24 && b[0] == 1 {
				m.ID = binary.BigEndian.Uint32(b[20:])
			} else if len(b) >= 16 {
				m.ID = binary.BigEndian.Uint32(b[12:])
			}
		case "edts":
			isobmff.Each(b, func(kind string, b []byte) {
				if kind == "elst" {
					edits = b
				}
			})
		case "mdia":
			isobmff.Each(b, func(kind string, b []byte) {
				switch {
				case kind == "mdhd" && len(b) >= 24:
					t.Scale = binary.BigEndian.Uint32(b[12:])
					if b[0] == 1 {
						t.Scale = binary.BigEndian.Uint32(b[20:])
					}
				case kind == "minf":
					isobmff.Each(b, func(kind string, b []byte) {
						if kind == "stbl" {
							entry = p.stbl(b, &m.Tables)
						}
					})
				}
			})
		}
	})
	t.Info = p.info.Tracks[number-1]
	switch {
	case t.Info.Kind != media.Video && t.Info.Kind != media.Audio && t.Info.Kind != media.Subtitle:
		return
	case t.Scale == 0:
		t.Cannot = "a track has no unit of time"
	case t.Info.Kind == media.Subtitle && !slices.Contains([]string{"mov_text", "webvtt"}, t.Info.Codec):
		t.Cannot = "its subtitles are in a form that is not text"
	case t.Info.Kind == media.Subtitle:
	default:
		if err := t.entryOfMP4(entry); err != nil {
			t.Cannot = err.Error()
		}
	}
	if why := m.edit(edits, p.scale, &t); why != "" && t.Cannot == "" {
		t.Cannot = why
	}
	p.film.Tracks = append(p.film.Tracks, t)
	p.film.MP4.Tracks = append(p.film.MP4.Tracks, m)
}

// stbl notes where the tables of a track lie, and gives its sample description.
func (p *moovReader) stbl(b []byte, t *tables) (entry []byte) {
	isobmff.Each(b, func(kind string, b []byte) {
		if len(b) < 8 {
			return
		}
		// No table has more entries than fit into its box.
		list := func(size int) table {
			return table{p.at(b[8:]), min(binary.BigEndian.Uint32(b[4:]), uint32((len(b)-8)/size))}
		}
		switch kind {
		case "stsd":
			entry = b[8:]
		case "stts":
			t.Length = list(8)
		case "ctts":
			t.Shown = list(8)
		case "stss":
			t.Keys, t.HasKeys = list(4), true
		case "stsc":
			t.Chunks = list(12)
		case "stco":
			t.Offsets = list(4)
		case "co64":
			t.Offsets, t.Wide = list(8), true
		case "stsz":
			if len(b) < 12 {
				return
			}
			count := binary.BigEndian.Uint32(b[8:])
			if t.Size = binary.BigEndian.Uint32(b[4:]); t.Size == 0 {
				count = min(count, uint32((len(b)-12)/4))
			}
			t.Sizes, t.SizeBits = table{p.at(b[12:]), min(count, mostSamples)}, 32
		case "stz2":
			if len(b) < 12 {
				return
			}
			t.SizeBits = int(b[7])
			if t.SizeBits != 4 && t.SizeBits != 8 && t.SizeBits != 16 {
				return
			}
			t.Sizes = table{p.at(b[12:]), min(binary.BigEndian.Uint32(b[8:]), uint32((len(b)-12)*8/t.SizeBits),
				mostSamples)}
		}
	})
	return entry
}

// edit applies an edit list: an empty beginning, and one stretch of the media. Films that are cut
// together by more than that have to be converted.
func (m *mp4Track) edit(b []byte, scale int64, t *Track) (cannot string) {
	if len(b) < 8 || scale == 0 || t.Scale == 0 {
		return ""
	}
	wide := b[0] == 1
	size := 12
	if wide {
		size = 20
	}
	n := min(int(binary.BigEndian.Uint32(b[4:])), (len(b)-8)/size)
	shown := false
	for i := range n {
		e := b[8+i*size:]
		var length, from int64
		if wide {
			length, from, e = int64(binary.BigEndian.Uint64(e)), int64(binary.BigEndian.Uint64(e[8:])), e[16:]
		} else {
			length, from, e = int64(binary.BigEndian.Uint32(e)), int64(int32(binary.BigEndian.Uint32(e[4:]))), e[8:]
		}
		if length < 0 || length > 1<<50 || from > 1<<50 {
			return "its edit list makes no sense"
		}
		switch {
		case shown:
			return "it is cut together from several stretches (edit list)"
		case from == -1:
			m.Shift += scaled(length, scale, int64(t.Scale))
		case from < 0 || binary.BigEndian.Uint32(e) != 1<<16:
			return "its edit list changes its speed"
		default:
			shown = true
			t.Edit = from
			if length > 0 {
				m.Until = from + scaled(length, scale, int64(t.Scale))
			}
		}
	}
	return ""
}

// stamp gives a sample the times of the film.
func (m *mp4Track) stamp(s *sample, t *Track) {
	s.decode += m.Shift
	s.shown += m.Shift + t.Delay
}

// shownAt gives when a sample is shown, in nanoseconds from the film's beginning.
func (t *Track) shownAt(s sample) int64 { return scaled(s.shown-t.Edit-t.Delay, int64(t.Scale), 1e9) }

// beyond reports whether a sample lies behind what the edit list shows.
func (m *mp4Track) beyond(shown int64) bool { return m.Until > 0 && shown >= m.Until }

// partMP4 parts a film by its tables, and marks where the pieces begin.
func (f *Film) partMP4(r io.ReaderAt) error {
	lead := f.lead()
	if lead == nil {
		return nil
	}
	i := slices.IndexFunc(f.Tracks, func(t Track) bool { return t.Number == lead.Number })
	m := &f.MP4.Tracks[i]
	var keys []int64
	var end int64
	start := int64(1 << 62)
	c := m.Tables.from(r, mark{})
	for {
		s, more, err := c.next()
		if err != nil {
			return err
		}
		if !more {
			break
		}
		lead.Delay = max(lead.Delay, s.decode-s.shown)
		raw := s.shown
		if m.stamp(&s, lead); m.beyond(raw) && s.key {
			break
		}
		at := lead.shownAt(s)
		start, end = min(start, at), max(end, at+scaled(int64(s.duration), int64(lead.Scale), 1e9))
		if s.key {
			keys = append(keys, at)
		}
	}
	if len(keys) == 0 {
		return unfit("no key frame is in it")
	}
	if lead.Info.Kind == media.Audio {
		keys = evenly(max(start, 0), end)
	}
	f.Starts = part(keys, end)
	for i := range f.Tracks {
		if t := &f.Tracks[i]; t.Cannot == "" {
			if err := f.MP4.Tracks[i].mark(r, f, t); err != nil {
				t.Cannot = err.Error()
			}
		}
	}
	return nil
}

// marker notes where the pieces of a track begin, as its samples go by.
type marker struct {
	film  *Film
	track *Track
	piece int // the next that is to begin
	bytes int64
}

// begins reports whether a sample is the first of a piece. A piece of pictures begins with the key
// frame that it was parted at; others with the first sample that is shown in it.
func (k *marker) begins(s sample) bool {
	if k.piece >= k.film.Pieces() {
		return false
	}
	if k.piece == 0 {
		return true
	}
	if k.track.Info.Kind == media.Video && !s.key {
		return false
	}
	return k.track.shownAt(s) >= k.film.Starts[k.piece]
}

// count counts a sample.
func (k *marker) count(s sample) {
	k.bytes += int64(s.size)
	k.track.Bytes += int64(s.size)
}

// close ends a piece.
func (k *marker) close() {
	if k.piece > 0 && k.piece <= k.film.Pieces() {
		k.track.Peak = max(k.track.Peak, int64(float64(k.bytes)*8/k.film.Length(k.piece-1)))
	}
	k.bytes = 0
}

func (m *mp4Track) mark(r io.ReaderAt, f *Film, t *Track) error {
	k := marker{film: f, track: t}
	c := m.Tables.from(r, mark{})
	for {
		here := c.mark
		s, more, err := c.next()
		if err != nil {
			return err
		}
		raw := s.shown
		m.stamp(&s, t)
		if !more || m.beyond(raw) && (s.key || t.Info.Kind != media.Video) {
			k.close()
			for ; len(m.Marks) <= f.Pieces(); k.piece++ {
				m.Marks = append(m.Marks, here)
			}
			return nil
		}
		for k.begins(s) {
			k.close()
			m.Marks = append(m.Marks, here)
			k.piece++
		}
		k.count(s)
	}
}

// samples gives those of a piece.
func (m *mp4Film) samples(r io.ReaderAt, f *Film, t *Track, piece int) ([]sample, error) {
	i := slices.IndexFunc(m.Tracks, func(x mp4Track) bool { return x.Number == t.Number })
	if i < 0 || len(m.Tracks[i].Marks) <= piece+1 {
		return nil, errors.New("the track was not looked through")
	}
	x := &m.Tracks[i]
	if m.Fragments != nil {
		return m.fragmentSamples(r, f, x, t, piece)
	}
	from, to := x.Marks[piece], x.Marks[piece+1]
	if to.Sample-from.Sample > mostInPiece || to.Sample < from.Sample {
		return nil, errors.New("a piece has more samples than can be")
	}
	out := make([]sample, 0, to.Sample-from.Sample)
	c := x.Tables.from(r, from)
	for c.Sample < to.Sample {
		s, more, err := c.next()
		if err != nil {
			return nil, err
		}
		if !more {
			break
		}
		x.stamp(&s, t)
		out = append(out, s)
	}
	return out, nil
}
