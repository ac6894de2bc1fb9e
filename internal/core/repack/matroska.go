package repack

import (
	"bytes"
	"cmp"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"cozyshelf/internal/core/bits"
	"cozyshelf/internal/core/ebml"
	"cozyshelf/internal/core/media"
)

// Elements that only this package reads (RFC 9559).
const (
	idCues         = 0x1C53BB6B
	idCuePoint     = 0xBB
	idCueTime      = 0xB3
	idCuePositions = 0xB7
	idCueTrack     = 0xF7
	idCueCluster   = 0xF1
	idTrackNumber  = 0xD7
	idCodecDelay   = 0x56AA
	idEncodings    = 0x6D80
	idEncoding     = 0x6240
	idEncodingKind = 0x5033
	idCompression  = 0x5034
	idAlgorithm    = 0x4254
	idSettings     = 0x4255
	idBlockLength  = 0x9B
	idReference    = 0xFB
	idMatrix       = 0x55B1
	idRange        = 0x55B9
	idPrimaries    = 0x55BB
	idEncryption   = 0x5035
)

// matroskaFilm is what is kept of a Matroska file.
type matroskaFilm struct {
	Segment int64           `json:"segment"` // where the content begins
	Scale   int64           `json:"scale"`   // nanoseconds a tick
	Tracks  []matroskaTrack `json:"tracks"`
	Places  []int64         `json:"places"` // of each piece: the cluster where its key frame lies
	Before  []int64         `json:"before"` // and one that lies so much earlier that no sound of it is missed
}

type matroskaTrack struct {
	ID     uint64 `json:"id"`
	Number int    `json:"number"`
	First  int64  `json:"first"`            // nanoseconds of the first block
	Frame  int64  `json:"frame"`            // samples of a frame of sound; 0 where they differ
	Length int64  `json:"length"`           // nanoseconds of a sample, where it is told
	Prefix []byte `json:"prefix,omitempty"` // left out of each frame (header stripping)
	Zlib   bool   `json:"zlib,omitempty"`
	Headed bool   `json:"headed,omitempty"` // subtitles with a name and settings before the text, as WebM has them
}

// block is a frame, as it lies in a cluster.
type block struct {
	track  uint64
	at     int64 // of its bytes in the file
	size   int64
	time   int64 // nanoseconds
	length int64 // nanoseconds, where it is told
	key    bool
}

// openMatroska looks a Matroska or WebM file through.
func (f *Film) openMatroska(r io.ReaderAt, info media.Info) error {
	m := &matroskaFilm{Scale: 1_000_000}
	f.Matroska = m
	o := &matroskaOpener{film: f, m: m, r: r, info: info}
	if err := o.heads(); err != nil {
		return err
	}
	if len(f.Tracks) == 0 {
		return errors.New("the file tells of no tracks")
	}
	if err := o.begin(); err != nil {
		return err
	}
	lead := f.lead()
	if lead == nil {
		return nil
	}
	o.lead = m.track(lead.Number)
	if lead.Info.Kind == media.Video {
		if err := o.delay(lead); err != nil {
			return err
		}
	}
	keys := o.cues(lead)
	if len(keys) == 0 {
		var err error
		if keys, err = o.walk(lead); err != nil {
			return err
		}
	}
	return o.part(keys, lead)
}

// matroskaOpener looks a file through.
type matroskaOpener struct {
	film *Film
	m    *matroskaFilm
	r    io.ReaderAt
	info media.Info
	lead *matroskaTrack
	cue  []byte // the cues, as they lie in the file
	from int64  // the first cluster
	raw  [][]byte
}

func (m *matroskaFilm) track(number int) *matroskaTrack {
	for i := range m.Tracks {
		if m.Tracks[i].Number == number {
			return &m.Tracks[i]
		}
	}
	return nil
}

// heads reads what stands beside the clusters: units, tracks, cues.
func (o *matroskaOpener) heads() error {
	size := o.film.Size
	head, err := ebml.Read(o.r, 0, size)
	if err != nil {
		return err
	}
	segment, err := ebml.Read(o.r, head.End, size)
	if err != nil || segment.ID != ebml.IDSegment {
		return errors.New("the file ends before its content (no segment)")
	}
	o.m.Segment = segment.Start
	end := min(segment.End, size)
	seek := map[uint64]int64{}
	load := func(e ebml.Element) error {
		b, err := whole(o.r, e.Start, e.End-e.Start, 64<<20, size, "its header")
		if err != nil {
			return err
		}
		switch e.ID {
		case ebml.IDSeekHead:
			ebml.Seeks(b, func(id uint32, at int64) { seek[uint64(id)] = segment.Start + at })
		case ebml.IDInfo:
			ebml.Children(b, func(id uint32, v []byte) {
				if n := ebml.Uint(v); id == ebml.IDScale && n > 0 && n < 1e12 {
					o.m.Scale = int64(n)
				}
			})
		case ebml.IDTracks:
			o.tracks(b)
		case idCues:
			o.cue = b
		}
		return nil
	}
	for off, n := segment.Start, 0; off < end && n < 1000; n++ {
		e, err := ebml.Read(o.r, off, end)
		if err != nil {
			break
		}
		if e.ID == ebml.IDCluster {
			o.from = off
			break
		}
		if e.End == ebml.UnknownSize {
			break
		}
		if slices.Contains([]uint32{ebml.IDSeekHead, ebml.IDInfo, ebml.IDTracks, idCues}, e.ID) {
			if err := load(e); err != nil {
				return err
			}
		}
		off = e.End
	}
	for _, id := range []uint64{ebml.IDInfo, ebml.IDTracks, idCues} {
		at, ok := seek[id]
		if !ok || id == ebml.IDTracks && len(o.film.Tracks) > 0 || id == idCues && o.cue != nil {
			continue
		}
		if e, err := ebml.Read(o.r, at, size); err == nil && uint64(e.ID) == id && e.End != ebml.UnknownSize {
			if err := load(e); err != nil && id != idCues {
				return err
			}
		}
	}
	if o.from == 0 {
		return unfit("no pictures or sound are in it")
	}
	return nil
}

// tracks reads the tracks. Their sample entries are made later, since some need the first frame.
func (o *matroskaOpener) tracks(b []byte) {
	number := 0
	ebml.Children(b, func(id uint32, data []byte) {
		if id != ebml.IDTrackEntry {
			return
		}
		if number++; number > min(mostTracks, len(o.info.Tracks)) {
			return
		}
		t := Track{Number: number, Info: o.info.Tracks[number-1]}
		m := matroskaTrack{Number: number, First: -1}
		delay := int64(0)
		switch t.Info.Kind {
		case media.Video:
			t.Scale = 90_000
		case media.Audio:
			t.Scale = uint32(max(t.Info.SampleRate, 1))
			if t.Info.Codec == "opus" {
				t.Scale = 48_000
			}
		case media.Subtitle:
			t.Scale = 1000
			if !slices.Contains([]string{"subrip", "webvtt", "ass"}, t.Info.Codec) {
				t.Cannot = "its subtitles are in a form that is not text"
			}
		default:
			return
		}
		ebml.Children(data, func(id uint32, v []byte) {
			switch id {
			case idTrackNumber:
				m.ID = ebml.Uint(v)
			case ebml.IDCodec:
				m.Headed = strings.HasPrefix(string(v), "D_WEBVTT/")
			case idCodecDelay:
				delay = int64(min(ebml.Uint(v), 10e9))
			case ebml.IDFrameLength:
				m.Length = int64(min(ebml.Uint(v), 1<<40))
			case idEncodings:
				if why := m.encoded(v); why != "" {
					t.Cannot = why
				}
			}
		})
		if t.Info.Kind == media.Audio {
			t.Edit = scaled(delay, 1e9, int64(t.Scale))
		}
		o.film.Tracks = append(o.film.Tracks, t)
		o.m.Tracks = append(o.m.Tracks, m)
		o.raw = append(o.raw, data)
	})
}

// encoded reads how a track's frames are packed.
func (m *matroskaTrack) encoded(b []byte) (cannot string) {
	ebml.Children(b, func(id uint32, data []byte) {
		if id != idEncoding {
			return
		}
		ebml.Children(data, func(id uint32, v []byte) {
			switch id {
			case idEncryption:
				cannot = "it is encrypted"
			case idCompression:
				algorithm := uint64(0)
				var settings []byte
				ebml.Children(v, func(id uint32, v []byte) {
					switch id {
					case idAlgorithm:
						algorithm = ebml.Uint(v)
					case idSettings:
						settings = v
					}
				})
				switch {
				case algorithm == 3 && len(settings) < 256:
					m.Prefix = bytes.Clone(settings)
				case algorithm == 0:
					m.Zlib = true
				default:
					cannot = "its frames are packed in a way that is not known"
				}
			}
		})
	})
	return cannot
}

// begin looks at the first blocks of each track, and makes the sample entries.
func (o *matroskaOpener) begin() error {
	left := 0
	first := map[uint64][]byte{}
	for i := range o.m.Tracks {
		if o.film.Tracks[i].Info.Kind != media.Subtitle {
			left++
		}
	}
	err := eachBlock(o.r, o.film.Size, o.m, o.from, func(b block) bool {
		i := slices.IndexFunc(o.m.Tracks, func(t matroskaTrack) bool { return t.ID == b.track })
		if i < 0 || o.m.Tracks[i].First >= 0 || o.film.Tracks[i].Info.Kind == media.Subtitle {
			return b.time < 120e9 // a track may begin late, or never
		}
		o.m.Tracks[i].First = max(b.time, 0)
		s := sample{at: b.at, size: uint32(min(b.size, 1<<16)), prefix: o.m.Tracks[i].Prefix}
		s.size += uint32(len(s.prefix))
		first[b.track], _ = s.bytes(o.r, 1<<17) // what cannot be read is found missing below
		left--
		return left > 0
	})
	for i := range o.film.Tracks {
		t, m := &o.film.Tracks[i], &o.m.Tracks[i]
		if t.Cannot != "" || t.Info.Kind == media.Subtitle {
			continue
		}
		if first[m.ID] == nil {
			t.Cannot = "a track in it has no pictures or sound"
			continue
		}
		if m.Zlib {
			t.Cannot = "its frames are packed one by one"
			continue
		}
		private, colour := matroskaPrivate(o.raw[i])
		if e := t.entryOfMatroska(private, colour, first[m.ID]); e != nil {
			t.Cannot = e.Error()
			continue
		}
		if t.Info.Kind == media.Audio {
			scale := t.Scale
			t.Scale, m.Frame = soundFrame(t, private, first[m.ID])
			t.Edit = scaled(t.Edit, int64(scale), int64(t.Scale))
		}
	}
	return err
}

// matroskaPrivate gives the private data of a track's codec, and its colours as a colr box has
// them.
func matroskaPrivate(entry []byte) (private, colour []byte) {
	ebml.Children(entry, func(id uint32, v []byte) {
		switch id {
		case ebml.IDPrivate:
			private = v[:min(len(v), mostPrivate)]
		case ebml.IDVideo:
			ebml.Children(v, func(id uint32, v []byte) {
				if id != ebml.IDColour {
					return
				}
				colour = []byte{0, 2, 0, 2, 0, 2, 0} // not told
				ebml.Children(v, func(id uint32, v []byte) {
					n := byte(min(ebml.Uint(v), 255))
					switch id {
					case idPrimaries:
						colour[1] = n
					case ebml.IDTransfer:
						colour[3] = n
					case idMatrix:
						colour[5] = n
					case idRange:
						if n == 2 {
							colour[6] = 0x80
						}
					}
				})
			})
		}
	})
	return private, colour
}

// soundFrame gives the unit of time of a track of sound, and how many of it a frame has.
func soundFrame(t *Track, private, first []byte) (scale uint32, frame int64) {
	scale = t.Scale
	switch t.Info.Codec {
	case "aac":
		frame = 1024
		if len(private) >= 2 {
			r := bits.Of(private)
			if r.Int(5) == 31 {
				r.Int(6)
			}
			rates := []uint32{96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350}
			if i := r.Int(4); i < len(rates) {
				scale = rates[i]
			} else if i == 15 {
				scale = uint32(max(1, r.Int(24)))
			}
			r.Int(4)
			if r.Int(1) == 1 {
				frame = 960
			}
		}
	case "ac3":
		frame = 1536
	case "eac3":
		frame = 1536
		if len(first) > 4 && first[4]>>6 != 3 {
			frame = []int64{256, 512, 768, 1536}[first[4]>>4&3]
		}
	case "mp3":
		frame = 1152
		if len(first) > 1 && first[1]&8 == 0 { // the lower rates of MPEG-2
			frame = 576
		}
	case "opus":
		frame = opusFrame(first)
	case "flac":
		if len(private) >= 12 && bytes.Equal(private[8:10], private[10:12]) {
			frame = int64(binary.BigEndian.Uint16(private[8:]))
		}
	case "alac":
		if len(private) >= 24 {
			frame = int64(binary.BigEndian.Uint32(private[len(private)-24:]))
		}
	}
	return scale, frame
}

// opusFrame gives how many samples of 48 kHz a packet has (RFC 6716, 3.1).
func opusFrame(packet []byte) int64 {
	if len(packet) == 0 {
		return 0
	}
	config := packet[0] >> 3
	var one int64
	switch {
	case config < 12:
		one = []int64{480, 960, 1920, 2880}[config&3]
	case config < 16:
		one = []int64{480, 960}[config&1]
	default:
		one = []int64{120, 240, 480, 960}[config&3]
	}
	switch packet[0] & 3 {
	case 0:
		return one
	case 1, 2:
		return 2 * one
	}
	if len(packet) < 2 {
		return 0
	}
	return one * int64(packet[1]&63)
}

// delay finds how much later than decoded pictures must be shown, by the beginning of the film.
func (o *matroskaOpener) delay(lead *Track) error {
	var times []int64
	keys := 0
	err := eachBlock(o.r, o.film.Size, o.m, o.from, func(b block) bool {
		if b.track != o.lead.ID || b.time == math.MinInt64 {
			return true
		}
		if b.key {
			keys++
		}
		times = append(times, b.time)
		return len(times) < 1000 && keys < 4
	})
	if err != nil || lead.Info.Codec == "av1" || lead.Info.Codec == "vp9" {
		return err // those two are stored as they are shown
	}
	order := slices.Sorted(slices.Values(times))
	var most, longest int64
	for i, shown := range times[:max(0, len(times)-16)] {
		most = max(most, order[i]-shown)
		longest = max(longest, order[i+1]-order[i])
	}
	if most > 0 {
		lead.Delay = scaled(most+min(longest, 1e9/10), 1e9, int64(lead.Scale))
	}
	return nil
}

// place is a key frame: when, and the cluster in which it lies.
type place struct{ time, cluster int64 }

// cues reads the index of key frames. It gives nothing where there is none that serves.
func (o *matroskaOpener) cues(lead *Track) (out []place) {
	ebml.Children(o.cue, func(id uint32, data []byte) {
		if id != idCuePoint {
			return
		}
		time := int64(-1)
		ebml.Children(data, func(id uint32, v []byte) {
			switch id {
			case idCueTime:
				time = int64(ebml.Uint(v)&(1<<40-1)) * o.m.Scale
			case idCuePositions:
				var track uint64
				cluster := int64(-1)
				ebml.Children(v, func(id uint32, v []byte) {
					switch id {
					case idCueTrack:
						track = ebml.Uint(v)
					case idCueCluster:
						cluster = o.m.Segment + int64(ebml.Uint(v)&(1<<60-1))
					}
				})
				if track == o.lead.ID && cluster >= 0 && cluster < o.film.Size && time >= 0 &&
					len(out) < mostSamples {
					out = append(out, place{time, cluster})
				}
			}
		})
	})
	slices.SortStableFunc(out, func(a, b place) int { return cmp.Compare(a.time, b.time) })
	// Where pieces would last too long, or the beginning is missing, the file is walked.
	end := int64(o.info.Duration * 1e9)
	if len(out) == 0 || out[0].time > o.lead.First+1e9 || end/int64(len(out)) > 20e9 {
		return nil
	}
	for i := range out {
		if i > 0 && out[i].cluster < out[i-1].cluster {
			return nil
		}
	}
	if lead.Info.Kind == media.Audio {
		return out
	}
	// The first key frame need not be named.
	if out[0].time > o.lead.First {
		out = append([]place{{o.lead.First, o.from}}, out...)
	}
	return out
}

// walk finds the key frames by going through all blocks.
func (o *matroskaOpener) walk(lead *Track) (out []place, err error) {
	n := 0
	cluster := o.from
	var end int64
	err = eachBlockOf(o.r, o.film.Size, o.m, o.from, func(at int64) { cluster = at }, func(b block) bool {
		if b.track != o.lead.ID {
			return true
		}
		end = max(end, b.time)
		if n++; n > mostSamples {
			return false
		}
		if b.key && (lead.Info.Kind == media.Video || len(out) == 0 || b.time-out[len(out)-1].time > 2e9) {
			out = append(out, place{b.time, cluster})
		}
		return true
	})
	if len(out) > 0 {
		o.info.Duration = max(o.info.Duration, float64(end)/1e9)
	}
	return out, err
}

// part parts the film.
func (o *matroskaOpener) part(keys []place, lead *Track) error {
	if len(keys) == 0 {
		return unfit("no key frame is in it")
	}
	var times []int64
	for _, k := range keys {
		times = append(times, k.time)
	}
	end := max(int64(o.info.Duration*1e9), times[len(times)-1]+1e9/25)
	if lead.Info.Kind == media.Audio {
		times = evenly(o.lead.First, end)
	}
	o.film.Starts = part(times, end)
	for _, start := range o.film.Starts[:len(o.film.Starts)-1] {
		i, _ := slices.BinarySearchFunc(keys, start+1, func(k place, t int64) int { return cmp.Compare(k.time, t) })
		here := keys[max(0, i-1)]
		before := o.from
		// Sound lies up to a second or two behind the pictures that it belongs to, or before.
		for j := i - 1; j >= 0; j-- {
			if keys[j].time <= start-2e9 {
				before = keys[j].cluster
				break
			}
		}
		o.m.Places, o.m.Before = append(o.m.Places, here.cluster), append(o.m.Before, before)
	}
	// How much each piece has is not known before it is looked through; all of it together is.
	for i := range o.film.Tracks {
		o.film.Tracks[i].Bytes = 0
	}
	for i := range o.m.Places {
		to := o.film.Size
		if i+1 < len(o.m.Places) {
			to = o.m.Places[i+1]
		}
		peak := int64(float64(max(0, to-o.m.Places[i])) * 8 / o.film.Length(i))
		lead.Peak = max(lead.Peak, peak)
	}
	lead.Bytes = o.film.Size
	return nil
}

// eachBlock goes through the blocks from a cluster on, until visit has enough.
func eachBlock(r io.ReaderAt, size int64, m *matroskaFilm, from int64, visit func(block) (more bool)) error {
	return eachBlockOf(r, size, m, from, func(int64) {}, visit)
}

// eachBlockOf also tells of the clusters.
func eachBlockOf(r io.ReaderAt, size int64, m *matroskaFilm, from int64, cluster func(at int64),
	visit func(block) (more bool)) error {
	w := &window{r: r, size: size}
	base, inCluster := int64(0), false
	for off := from; off < size; {
		e, head, ok := w.element(off)
		if !ok {
			return w.err // what follows is damaged, or the file ends
		}
		end := e.End
		if e.End != ebml.UnknownSize {
			end += off + int64(head)
		}
		start := off + int64(head)
		switch e.ID {
		case ebml.IDCluster:
			cluster(off)
			inCluster = true
			off = start
			continue
		case ebml.IDTimestamp:
			base = int64(ebml.Uint(w.bytes(start, int(min(end-start, 8))))&(1<<50-1)) * m.Scale
		case ebml.IDSimpleBlock, ebml.IDBlockGroup:
			if !inCluster || end > size {
				return w.err
			}
			list, err := w.blocks(e.ID == ebml.IDBlockGroup, start, end, base, m.Scale)
			if err != nil {
				return err
			}
			for _, b := range list {
				if !visit(b) {
					return w.err
				}
			}
		}
		if end == ebml.UnknownSize {
			return w.err
		}
		off = end
	}
	return w.err
}

// window reads the headers of elements, a few KiB at a time.
type window struct {
	r    io.ReaderAt
	size int64
	at   int64
	have []byte
	buf  [2048]byte
	err  error
}

// bytes gives up to n bytes, fewer at the end of the file.
func (w *window) bytes(at int64, n int) []byte {
	if at < w.at || at+int64(n) > w.at+int64(len(w.have)) {
		k, err := w.r.ReadAt(w.buf[:min(int64(len(w.buf)), max(0, w.size-at))], at)
		if err != nil && err != io.EOF {
			w.err = err
		}
		w.at, w.have = at, w.buf[:k]
	}
	b := w.have[at-w.at:]
	return b[:min(n, len(b))]
}

func (w *window) element(at int64) (e ebml.Element, head int, ok bool) {
	return ebml.Header(w.bytes(at, 12))
}

// blocks gives the frames of a block or a group, which may hold several (lacing).
func (w *window) blocks(group bool, start, end, base, scale int64) ([]block, error) {
	length, key := int64(0), true
	if group {
		inner := [2]int64{-1, -1}
		for off := start; off < end; {
			e, head, ok := w.element(off)
			if !ok || e.End == ebml.UnknownSize {
				break
			}
			from, to := off+int64(head), off+int64(head)+e.End
			if to > end {
				break
			}
			switch e.ID {
			case ebml.IDBlock:
				inner = [2]int64{from, to}
			case idBlockLength:
				length = int64(ebml.Uint(w.bytes(from, int(min(e.End, 8))))&(1<<40-1)) * scale
			case idReference:
				key = false
			}
			off = to
		}
		if inner[0] < 0 {
			return nil, nil
		}
		start, end = inner[0], inner[1]
	}
	h := w.bytes(start, 1024) // enough for the sizes of 256 frames
	n := 1
	if len(h) < 5 {
		return nil, io.ErrUnexpectedEOF
	}
	for mask := byte(0x80); n <= 8 && h[0]&mask == 0; n++ {
		mask >>= 1
	}
	if n+3 > len(h) || n > 8 {
		return nil, errors.New("a block has no track")
	}
	b := block{track: ebml.Uint(h[:n]) &^ (1 << (7 * n)), length: length,
		time: base + int64(int16(binary.BigEndian.Uint16(h[n:])))*scale}
	flags := h[n+2]
	if b.key = key; !group {
		b.key = flags&0x80 != 0
	}
	return laced(b, flags>>1&3, h[n+3:], start+int64(n)+3, end)
}

// laced parts a block into its frames (RFC 9559, 10.3). h is what follows the block's header.
func laced(b block, lacing byte, h []byte, start, end int64) ([]block, error) {
	one := func(at, size int64) block {
		c := b
		c.at, c.size = at, size
		return c
	}
	if lacing == 0 {
		if end < start {
			return nil, errors.New("a block is shorter than its header")
		}
		return []block{one(start, end-start)}, nil
	}
	if len(h) == 0 {
		return nil, io.ErrUnexpectedEOF
	}
	frames := int(h[0]) + 1
	sizes := make([]int64, frames)
	at := 1
	bad := errors.New("the sizes of frames in a block make no sense")
	var sum int64
	switch lacing {
	case 2: // all of one size
		for i := range sizes {
			sizes[i] = (end - start - 1) / int64(frames)
		}
	case 1: // Xiph
		for i := range sizes[:frames-1] {
			for more := true; more; at++ {
				if at >= len(h) {
					return nil, bad
				}
				sizes[i] += int64(h[at])
				more = h[at] == 255
			}
			sum += sizes[i]
		}
	case 3: // EBML: the first, and differences
		for i := range sizes[:frames-1] {
			v, n := vint(h[min(at, len(h)):])
			if n == 0 {
				return nil, bad
			}
			if at += n; i == 0 {
				sizes[0] = v
			} else {
				sizes[i] = sizes[i-1] + v - (1<<(7*n-1) - 1)
			}
			if sizes[i] < 0 {
				return nil, bad
			}
			sum += sizes[i]
		}
	}
	if lacing != 2 {
		sizes[frames-1] = end - start - int64(at) - sum
	}
	var out []block
	pos := start + int64(at)
	for _, n := range sizes {
		if n < 0 || pos+n > end {
			return nil, bad
		}
		c := one(pos, n)
		if len(out) > 0 {
			c.time = math.MinInt64 // it follows the one before
		}
		out = append(out, c)
		pos += n
	}
	return out, nil
}

// vint reads a number of EBML's varying length, without its marker.
func vint(b []byte) (v int64, n int) {
	if len(b) == 0 || b[0] == 0 {
		return 0, 0
	}
	n = 1
	for mask := byte(0x80); b[0]&mask == 0; n++ {
		mask >>= 1
	}
	if len(b) < n {
		return 0, 0
	}
	return int64(ebml.Uint(b[:n]) &^ (1 << (7 * n))), n
}

// samples gives those of a piece.
func (m *matroskaFilm) samples(r io.ReaderAt, f *Film, t *Track, piece int) ([]sample, error) {
	x := m.track(t.Number)
	if x == nil {
		return nil, errors.New("the track was not looked through")
	}
	switch t.Info.Kind {
	case media.Video:
		return m.pictures(r, f, t, x, piece)
	case media.Audio:
		return m.sound(r, f, t, x, piece)
	}
	return nil, fmt.Errorf("track %d is sent as text", t.Number)
}

// sampleOf turns a block into a sample, without times.
func (x *matroskaTrack) sampleOf(b block) sample {
	return sample{at: b.at, size: uint32(min(b.size, mostSample)) + uint32(len(x.Prefix)), key: b.key, prefix: x.Prefix}
}

// pictures gives the pictures of a piece. Matroska tells only when a picture is shown; it is
// decoded when the next picture in the order of showing is due, which is no later for any of
// them once composition offsets may be negative.
func (m *matroskaFilm) pictures(r io.ReaderAt, f *Film, t *Track, x *matroskaTrack, piece int) ([]sample, error) {
	var list []sample
	var times, after []int64
	begun := false
	next := int64(math.MaxInt64)
	last := piece+1 == f.Pieces()
	if !last {
		next = f.Starts[piece+1]
	}
	var bad error
	err := eachBlock(r, f.Size, m, m.Places[piece], func(b block) bool {
		if b.track != x.ID {
			return true
		}
		switch {
		case b.time == math.MinInt64:
			bad = unfit("several pictures share a block")
			return false
		case !begun && b.time != f.Starts[piece] && (piece > 0 || !b.key):
			return b.time < f.Starts[piece]+30e9
		case begun && b.time >= next && b.key || len(after) > 0:
			// A few pictures may be shown before the key frame that they follow.
			after = append(after, b.time)
			return len(after) < 17 && (len(after) < 2 || b.time < after[0])
		}
		begun = true
		list, times = append(list, x.sampleOf(b)), append(times, b.time)
		if b.length > 0 {
			list[len(list)-1].duration = uint32(scaled(b.length, 1e9, int64(t.Scale)))
		}
		if len(list) > mostInPiece {
			bad = errors.New("a piece has more samples than can be")
			return false
		}
		return true
	})
	if err = cmp.Or(bad, err); err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("the key frame at %.3f s is not where the file's index says", float64(f.Starts[piece])/1e9)
	}
	order := slices.Sorted(slices.Values(times))
	end := int64(0)
	switch {
	case len(after) > 0:
		end = slices.Min(after)
	case list[len(list)-1].duration > 0:
		end = order[len(order)-1] + scaled(int64(list[len(list)-1].duration), int64(t.Scale), 1e9)
	default:
		end = order[len(order)-1] + x.pictureLength(order)
	}
	units := func(ns int64) int64 { return scaled(ns, 1e9, int64(t.Scale)) }
	for i := range list {
		s := &list[i]
		s.decode, s.shown = units(order[i]), units(times[i])+t.Delay
		to := end
		if i+1 < len(order) {
			to = order[i+1]
		}
		s.duration = uint32(max(0, units(max(to, order[i]))-s.decode))
	}
	if list[0].decode < 0 {
		return nil, unfit("its pictures begin before its beginning")
	}
	return list, nil
}

// pictureLength is how long the last picture is shown, where nothing tells.
func (x *matroskaTrack) pictureLength(order []int64) int64 {
	switch n := len(order); {
	case x.Length > 0:
		return x.Length
	case n > 1:
		return (order[n-1] - order[0]) / int64(n-1)
	}
	return 1e9 / 25
}

// sound gives the sound of a piece. Matroska's times are rounded, to milliseconds as a rule: where
// a frame lies on the grid that the frames make, the grid's time is taken.
func (m *matroskaFilm) sound(r io.ReaderAt, f *Film, t *Track, x *matroskaTrack, piece int) ([]sample, error) {
	start, end := f.Starts[piece], f.Starts[piece+1]
	if piece+1 == f.Pieces() {
		end = math.MaxInt64
	}
	rate := int64(t.Scale)
	slack := m.Scale*6/10 + 700_000 // of a rounded time
	var list []sample
	var bad error
	var expected int64 // units; of the frame that follows
	known := false
	var own int64 // by which a frame belongs to a piece: what the file says, wherever reading began
	err := eachBlock(r, f.Size, m, m.Before[piece], func(b block) bool {
		if b.track != x.ID {
			return true
		}
		s := x.sampleOf(b)
		at := b.time
		frame := x.Frame
		if frame == 0 {
			frame = max(1, scaled(max(b.length, x.Length), 1e9, rate))
		}
		raw := scaled(at, 1e9, rate)
		switch {
		case at == math.MinInt64 && known:
			raw = expected
		case at == math.MinInt64:
			return true
		case x.Frame > 0 && (!known || abs(scaled(raw-expected, rate, 1e9)) > slack):
			// On the grid of the first frame, if it is near.
			first := scaled(x.First, 1e9, rate)
			n := (raw - first + x.Frame/2) / x.Frame
			if grid := first + n*x.Frame; n >= 0 && abs(scaled(grid-raw, rate, 1e9)) <= slack {
				raw = grid
			}
		case x.Frame > 0:
			raw = expected
		}
		known, expected = true, raw+frame
		if at != math.MinInt64 {
			own = at
		} else {
			own += scaled(frame, rate, 1e9)
		}
		if own < start && piece > 0 {
			return true
		}
		if own >= end {
			return false
		}
		if raw < 0 {
			return true // before the beginning, where nothing is shown
		}
		s.decode, s.shown, s.duration, s.key = raw, raw, uint32(frame), true
		if n := len(list); n > 0 && raw > list[n-1].decode {
			list[n-1].duration = uint32(raw - list[n-1].decode)
		}
		if list = append(list, s); len(list) > mostInPiece {
			bad = errors.New("a piece has more samples than can be")
			return false
		}
		return true
	})
	return list, cmp.Or(bad, err)
}

func abs(v int64) int64 { return max(v, -v) }

// unpacked gives the bytes of a line of text.
func (x *matroskaTrack) unpacked(b []byte) ([]byte, error) {
	if x.Headed {
		if parts := bytes.SplitN(b, []byte("\n"), 3); len(parts) == 3 {
			b = parts[2]
		}
	}
	if !x.Zlib {
		return b, nil
	}
	z, err := zlib.NewReader(bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	return io.ReadAll(io.LimitReader(z, mostText))
}
