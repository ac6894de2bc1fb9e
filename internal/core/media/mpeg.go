package media

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
)

// mpegTypes are the streams of MPEG by the number that a programme map gives them (ISO/IEC
// 13818-1, and what disks add).
var mpegTypes = map[byte]Track{
	0x01: {Kind: Video, Codec: "mpeg1video"},
	0x02: {Kind: Video, Codec: "mpeg2video"},
	0x10: {Kind: Video, Codec: "mpeg4"},
	0x1b: {Kind: Video, Codec: "h264"},
	0x24: {Kind: Video, Codec: "hevc"},
	0xea: {Kind: Video, Codec: "vc1"},
	0x03: {Kind: Audio, Codec: "mp2"},
	0x04: {Kind: Audio, Codec: "mp2"},
	0x0f: {Kind: Audio, Codec: "aac"},
	0x11: {Kind: Audio, Codec: "aac_latm"},
	0x80: {Kind: Audio, Codec: "pcm_bluray"},
	0x81: {Kind: Audio, Codec: "ac3"},
	0x82: {Kind: Audio, Codec: "dts"},
	0x83: {Kind: Audio, Codec: "truehd"},
	0x84: {Kind: Audio, Codec: "eac3"},
	0x85: {Kind: Audio, Codec: "dts"},
	0x86: {Kind: Audio, Codec: "dts"},
	0x87: {Kind: Audio, Codec: "eac3"},
	0x90: {Kind: Subtitle, Codec: "hdmv_pgs_subtitle"},
}

// How much of an MPEG file is looked at: its beginning, for what is in it, and its end, for
// how long it is. The first is mostly enough; more is read where the pictures have not told
// their size yet, or no time was found.
const (
	mpegPart = 512 << 10
	mpegHead = 4 << 20
	mpegTail = 2 << 20
)

// parts reads the beginning of an MPEG file and then its end, each only as far as is needed.
// known tells whether the beginning has told all, timed whether the end has told a time; read
// takes what was read, from a whole number of packets of a size on.
func parts(r io.ReaderAt, size, packet int64, read func(b []byte), known, timed func() bool) error {
	at := int64(0)
	for at < min(mpegHead, size) && (at == 0 || !known()) {
		n := min(mpegPart-mpegPart%packet, size-at)
		b, err := window(r, at, n, size, "its beginning")
		if err != nil {
			return err
		}
		read(b)
		at += n
	}
	for part := int64(mpegPart); at < size; part *= 4 {
		from := max(at, size-part)
		from -= (from - at) % packet
		b, err := window(r, from, size-from, size, "its end")
		if err != nil {
			return err
		}
		if read(b); timed() || part >= mpegTail || from == at {
			return nil
		}
	}
	return nil
}

// complete reports whether all of the streams have told what is wanted of them.
func complete(list []*elementary) bool {
	return len(list) > 0 && !slices.ContainsFunc(list, func(e *elementary) bool {
		return e.track.Kind == Video && e.track.Width == 0 && e.track.Codec != "hevc" && e.track.Codec != "vc1"
	})
}

// latest is the last time that any of the streams told.
func latest(list []*elementary) (t int64) {
	for _, e := range list {
		t = max(t, e.clock.last)
	}
	return t
}

// clock are the first and the last time that a stream tells, in 90,000ths of a second.
type clock struct {
	first, last int64
	any         bool
}

func (c *clock) see(t int64) {
	if !c.any {
		c.first, c.last, c.any = t, t, true
	}
	// A clock of 33 bits begins anew after 26 hours.
	if d := (t - c.first) & (1<<33 - 1); d < 1<<32 && d > (c.last-c.first)&(1<<33-1) {
		c.last = t
	} else if d > 1<<32 {
		c.first = t // pictures are not stored in the order in which they are shown
	}
}

func (c *clock) seconds() float64 { return float64((c.last-c.first)&(1<<33-1)) / 90000 }

// elementary is one stream of an MPEG file.
type elementary struct {
	track Track
	clock clock
	begin []byte // of what it holds, until its picture's size or its sound is known
}

// packetTime reads when what a packet (PES) holds is shown, and gives where that begins.
func packetTime(b []byte) (t int64, body int, ok bool) {
	if len(b) < 14 || b[0] != 0 || b[1] != 0 || b[2] != 1 {
		return 0, 0, false
	}
	if b[6]&0xc0 == 0x80 { // MPEG-2
		body = 9 + int(b[8])
		if b[7]&0x80 == 0 {
			return 0, body, false
		}
		return time33(b[9:]), body, true
	}
	at := 6 // MPEG-1: stuffing, a buffer's size, then the times
	for at < len(b) && b[at] == 0xff {
		at++
	}
	if at+2 < len(b) && b[at]&0xc0 == 0x40 {
		at += 2
	}
	if at+5 > len(b) || b[at]&0xe0 != 0x20 {
		return 0, at + 1, false
	}
	t = time33(b[at:])
	if at += 5; b[at-5]&0x10 != 0 {
		at += 5
	}
	return t, at, true
}

func time33(b []byte) int64 {
	return int64(b[0]>>1&7)<<30 | int64(b[1])<<22 | int64(b[2]>>1)<<15 | int64(b[3])<<7 | int64(b[4]>>1)
}

// hold keeps the beginning of what a stream holds, until it tells what is wanted.
func (e *elementary) hold(b []byte) {
	if len(e.begin) < 64<<10 && e.track.Kind != Subtitle && e.track.Width == 0 && e.track.SampleRate == 0 {
		if e.begin = append(e.begin, b...); len(e.begin) > 512 {
			e.learn()
		}
	}
}

// learn reads the size of a picture, or the rate of a sound, from a stream's own headers.
func (e *elementary) learn() {
	if b := e.begin; e.track.Kind == Data && len(b) > 7 { // private, and nothing says what
		switch {
		case b[0] == 0xff && b[1]&0xf6 == 0xf0:
			e.track = Track{Kind: Audio, Codec: "aac", Language: e.track.Language}
		case b[0] == 0x0b && b[1] == 0x77:
			e.track = Track{Kind: Audio, Codec: "ac3", Language: e.track.Language}
		}
	}
	switch t := &e.track; t.Codec {
	case "mpeg1video", "mpeg2video":
		if i := bytes.Index(e.begin, []byte{0, 0, 1, 0xb3}); i >= 0 && i+8 <= len(e.begin) {
			b := e.begin[i+4:]
			defer func() { t.mpeg2(b[3], e.begin[i:]) }()
			t.Width, t.Height = int(b[0])<<4|int(b[1]>>4), int(b[1]&15)<<8|int(b[2])
			if t.Codec == "mpeg1video" && bytes.Contains(e.begin[i:], []byte{0, 0, 1, 0xb5}) {
				t.Codec = "mpeg2video"
			}
		}
	case "h264":
		for i := bytes.Index(e.begin, []byte{0, 0, 1}); i >= 0 && i+4 < len(e.begin); {
			if e.begin[i+3]&0x1f == 7 {
				end := bytes.Index(e.begin[i+4:], []byte{0, 0, 1})
				if end < 0 {
					end = len(e.begin) - i - 4
				}
				set := h264Set(e.begin[i+4 : i+4+end])
				t.Width, t.Height = set.size()
				if t.h264(set); end > 3 {
					t.avcName("avc1", e.begin[i+4], e.begin[i+5], e.begin[i+6])
				}
				return
			}
			next := bytes.Index(e.begin[i+3:], []byte{0, 0, 1})
			if next < 0 {
				return
			}
			i += 3 + next
		}
	case "mp2", "mp3":
		for i := 0; i+4 <= len(e.begin); i++ {
			if f, ok := parseMPEGFrame(e.begin[i:]); ok {
				t.Codec, t.SampleRate, t.Channels = fmt.Sprintf("mp%d", f.layer), f.rate, f.channels
				return
			}
		}
	case "ac3":
		if i := bytes.Index(e.begin, []byte{0x0b, 0x77}); i >= 0 && i+8 <= len(e.begin) {
			b := e.begin[i:]
			mode := b[6] >> 5
			skip := 3
			if mode&1 != 0 && mode != 1 {
				skip += 2
			}
			if mode&4 != 0 {
				skip += 2
			}
			if mode == 2 {
				skip += 2
			}
			lfe := int(uint16(b[6])<<8|uint16(b[7])) >> (15 - skip) & 1
			t.SampleRate = []int{48000, 44100, 32000, 0}[b[4]>>6]
			t.Channels = []int{2, 1, 2, 3, 3, 4, 4, 5}[mode] + lfe
		}
	case "aac":
		rates := []int{96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350, 0, 0, 0}
		for i := 0; i+4 <= len(e.begin); i++ {
			if b := e.begin[i:]; b[0] == 0xff && b[1]&0xf6 == 0xf0 {
				t.SampleRate, t.Channels = rates[b[2]>>2&15], int(b[2]&1)<<2|int(b[3]>>6)
				return
			}
		}
	}
}

// transport is an MPEG transport stream being read.
type transport struct {
	maps    map[int]bool // packets of these numbers hold programme maps
	streams map[int]*elementary
	order   []int
}

// tsPacket is the size of a packet; on some disks and cameras four bytes with a time stand
// before each.
func tsPacket(b []byte) (size, skip int) {
	for _, form := range [][2]int{{188, 0}, {192, 4}} {
		ok := len(b) >= 5*form[0]
		for n := 0; ok && n < 5; n++ {
			ok = b[n*form[0]+form[1]] == 0x47
		}
		if ok {
			return form[0], form[1]
		}
	}
	return 0, 0
}

func readTS(r io.ReaderAt, size int64) (Info, error) {
	head, err := window(r, 0, min(5*192, size), size, "the first packets")
	if err != nil {
		return Info{}, err
	}
	packet, skip := tsPacket(head)
	if packet == 0 {
		return Info{}, ErrUnknown
	}
	t := &transport{maps: map[int]bool{}, streams: map[int]*elementary{}}
	before := int64(0)
	err = parts(r, size, int64(packet), func(b []byte) {
		before = latest(t.list())
		t.read(b, packet, skip)
	}, func() bool { return complete(t.list()) }, func() bool { return latest(t.list()) != before })
	if err != nil {
		return Info{}, err
	}
	if len(t.order) == 0 {
		return Info{}, errors.New("it has no map of its streams at its beginning")
	}
	info := Info{Container: "mpegts"}
	info.take(t.list())
	return info, nil
}

// list gives the streams in the order of their map.
func (t *transport) list() (out []*elementary) {
	for _, pid := range t.order {
		out = append(out, t.streams[pid])
	}
	return out
}

// take gives a file its streams, and the length of the longest.
func (i *Info) take(list []*elementary) {
	var all clock
	for _, e := range list {
		e.learn()
		i.Tracks = append(i.Tracks, e.track)
		if e.clock.any && e.track.Kind != Subtitle {
			all.see(e.clock.first)
			all.see(e.clock.last)
		}
	}
	if all.any {
		i.Duration = all.seconds()
	}
}

func (t *transport) read(b []byte, packet, skip int) {
	for ; len(b) >= packet; b = b[packet:] {
		p := b[skip : skip+188]
		if p[0] != 0x47 || p[1]&0x80 != 0 {
			continue
		}
		start, pid := p[1]&0x40 != 0, int(p[1]&0x1f)<<8|int(p[2])
		body := p[4:]
		if p[3]&0x20 != 0 { // an adaptation field
			n := int(body[0]) + 1
			if n > len(body) {
				continue
			}
			body = body[n:]
		}
		if p[3]&0x10 == 0 || len(body) == 0 {
			continue
		}
		switch e := t.streams[pid]; {
		case start && pid == 0:
			t.programmes(section(body))
		case start && t.maps[pid]:
			t.streamsOf(section(body))
		case e != nil && start:
			at, from, ok := packetTime(body)
			if ok {
				e.clock.see(at)
			}
			if from > 0 && from < len(body) {
				e.hold(body[from:])
			}
		case e != nil && len(e.begin) > 0:
			e.hold(body)
		}
	}
}

// section gives a table without its head and its sum; what does not lie in one packet is cut.
func section(b []byte) []byte {
	if at := int(b[0]) + 1; at+8 < len(b) {
		b = b[at:]
		n := int(b[1]&15)<<8 | int(b[2])
		if n >= 9 {
			return b[:min(len(b), max(8, 3+n-4))]
		}
	}
	return nil
}

func (t *transport) programmes(b []byte) {
	for i := 8; i+4 <= len(b); i += 4 {
		if b[i] != 0 || b[i+1] != 0 {
			t.maps[int(b[i+2]&0x1f)<<8|int(b[i+3])] = true
		}
	}
}

// mostStreams is how many streams of a file are told of.
const mostStreams = 64

func (t *transport) streamsOf(b []byte) {
	if len(b) < 12 {
		return
	}
	for i := 12 + int(b[10]&15)<<8 + int(b[11]); i+5 <= len(b); {
		kind, pid, n := b[i], int(b[i+1]&0x1f)<<8|int(b[i+2]), int(b[i+3]&15)<<8|int(b[i+4])
		tags := b[min(len(b), i+5):min(len(b), i+5+n)]
		if i += 5 + n; t.streams[pid] != nil || len(t.order) >= mostStreams {
			continue
		}
		track, known := mpegTypes[kind], true
		if track.Kind == "" {
			track, known = Track{Kind: Data}, kind == 6
		}
		described(&track, tags)
		if known && (track.Codec != "" || track.Kind == Data) {
			t.streams[pid] = &elementary{track: track}
			t.order = append(t.order, pid)
		}
	}
}

// described reads what the descriptors of a stream add.
func described(t *Track, b []byte) {
	for len(b) >= 2 && 2+int(b[1]) <= len(b) {
		tag, body := b[0], b[2:2+int(b[1])]
		b = b[2+len(body):]
		switch {
		case tag == 0x0a && len(body) >= 3 && body[0] >= 'a' && body[0] <= 'z':
			t.Language = string(body[:3])
		case tag == 0x6a:
			*t = Track{Kind: Audio, Codec: "ac3", Language: t.Language}
		case tag == 0x7a:
			*t = Track{Kind: Audio, Codec: "eac3", Language: t.Language}
		case tag == 0x59:
			*t = Track{Kind: Subtitle, Codec: "dvb_subtitle", Language: t.Language}
		case tag == 0x56:
			*t = Track{Kind: Subtitle, Codec: "dvb_teletext", Language: t.Language}
		case tag == 0x05 && string(body) == "Opus":
			*t = Track{Kind: Audio, Codec: "opus", Language: t.Language}
		case tag == 0x05 && string(body) == "AC-3":
			*t = Track{Kind: Audio, Codec: "ac3", Language: t.Language}
		}
	}
}

// readPS reads an MPEG programme stream, as DVDs and old cameras have it.
func readPS(r io.ReaderAt, size int64) (Info, error) {
	streams, order := map[int]*elementary{}, []int{}
	list := func() (out []*elementary) {
		for _, key := range order {
			out = append(out, streams[key])
		}
		return out
	}
	before := int64(0)
	read := func(b []byte) {
		before = latest(list())
		for i := bytes.Index(b, []byte{0, 0, 1}); i >= 0 && i+14 < len(b); {
			id, next := int(b[i+3]), i+4
			if id >= 0xbd && id != 0xbe && id != 0xbf {
				n := int(b[i+4])<<8 | int(b[i+5])
				end := min(len(b), i+6+n)
				at, from, ok := packetTime(b[i:end])
				track, key := programmeTrack(id, b[i:end], from)
				if e := streams[key]; e == nil && track.Kind != "" && len(order) < mostStreams {
					streams[key] = &elementary{track: track}
					order = append(order, key)
				}
				if e := streams[key]; e != nil {
					if ok {
						e.clock.see(at)
					}
					if from > 0 && i+from < end {
						e.hold(b[i+from : end])
					}
				}
				next = max(next, end)
			}
			at := bytes.Index(b[next:], []byte{0, 0, 1})
			if at < 0 {
				return
			}
			i = next + at
		}
	}
	err := parts(r, size, 1, read, func() bool { return complete(list()) },
		func() bool { return latest(list()) != before })
	if err != nil {
		return Info{}, err
	}
	if len(order) == 0 {
		return Info{}, ErrUnknown
	}
	info := Info{Container: "mpeg"}
	slices.SortStableFunc(order, func(a, b int) int {
		video := func(key int) int {
			if streams[key].track.Kind == Video {
				return 0
			}
			return 1
		}
		return video(a) - video(b)
	})
	info.take(list())
	return info, nil
}

// programmeTrack says what a packet of a programme stream holds, and a key of its stream.
func programmeTrack(id int, packet []byte, body int) (Track, int) {
	switch {
	case id >= 0xe0 && id <= 0xef:
		return Track{Kind: Video, Codec: "mpeg1video"}, id
	case id >= 0xc0 && id <= 0xdf:
		return Track{Kind: Audio, Codec: "mp2"}, id
	case id == 0xbd && body > 0 && body < len(packet): // private: the first byte says what
		sub := int(packet[body])
		key := id<<8 | sub
		switch {
		case sub >= 0x80 && sub <= 0x87:
			return Track{Kind: Audio, Codec: "ac3"}, key
		case sub >= 0x88 && sub <= 0x8f:
			return Track{Kind: Audio, Codec: "dts"}, key
		case sub >= 0xa0 && sub <= 0xaf:
			return Track{Kind: Audio, Codec: "pcm_dvd"}, key
		case sub >= 0x20 && sub <= 0x3f:
			return Track{Kind: Subtitle, Codec: "dvd_subtitle"}, key
		}
		return Track{}, key
	}
	return Track{}, id
}

// mpeg2 takes what the header of a sequence tells besides the size (ISO/IEC 13818-2, 6.3.3 and
// 6.3.5): by a byte the shape of the whole picture and the pictures a second, and further on
// whether they are interlaced.
func (t *Track) mpeg2(shape byte, sequence []byte) {
	rates := []float64{0, 24000.0 / 1001, 24, 25, 30000.0 / 1001, 30, 50, 60000.0 / 1001, 60}
	if n := int(shape & 15); n < len(rates) {
		t.rate(rates[n])
	}
	if t.Codec != "mpeg2video" || t.Width == 0 || t.Height == 0 {
		return
	}
	switch shape >> 4 {
	case 2:
		t.shapeOf(4*t.Height, 3*t.Width)
	case 3:
		t.shapeOf(16*t.Height, 9*t.Width)
	case 4:
		t.shapeOf(221*t.Height, 100*t.Width)
	}
	if i := bytes.Index(sequence, []byte{0, 0, 1, 0xb5}); i >= 0 && i+6 <= len(sequence) && sequence[i+4]>>4 == 1 {
		t.Interlaced = sequence[i+5]&8 == 0
	}
}
