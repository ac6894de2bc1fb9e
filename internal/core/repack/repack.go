// Package repack puts the tracks of MP4, QuickTime, Matroska and WebM files into the form that
// devices take by segments: fragmented MP4 as CMAF has it (ISO/IEC 23000-19), listed by HLS
// playlists (RFC 8216). Nothing is decoded; pictures and sound are copied byte by byte.
//
// Open reads where things are (Film). The picture's key frames part the film into pieces of about
// six seconds; every track is sent by the same pieces, each of which can be asked for by itself.
// What is kept of a film is small: of each piece the place in the file where it begins. What a
// piece holds is looked up when it is asked for.
//
// Times: a track's samples keep the times of the file. What of it is not shown, as of sound that
// begins before zero, an edit list in the initialization segment leaves out; the same list takes
// back that pictures are shown later than they are decoded, since not all players know negative
// composition offsets.
//
// A file that cannot be repacked gives an *Unfit; it may still be converted.
package repack

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"

	"cozyshelf/internal/core/media"
)

// Edition counts the ways in which films were looked through: a film that was kept by another is
// looked through anew.
const Edition = 1

// Unfit says that a file cannot be repacked, though it may be a good file.
type Unfit struct{ Why string }

func (e *Unfit) Error() string { return "it cannot be repacked: " + e.Why }

func unfit(text string, args ...any) error { return &Unfit{fmt.Sprintf(text, args...)} }

// Bounds of what is believed of a file.
const (
	mostTracks  = 64
	mostPieces  = 1 << 15 // of six seconds: two days
	mostSamples = 1 << 24 // of a track
	mostInPiece = 1 << 17 // samples of a track in one piece
	mostPrivate = 1 << 20 // bytes of a codec's configuration
	mostSample  = 1 << 28 // bytes of a sample
)

// pieceLength is how long a piece should be, in nanoseconds: it begins with the first key frame
// after so long.
const pieceLength = 5_000_000_000

// Film is a file that was looked through. It holds no more than can be kept in a store.
type Film struct {
	Edition int     `json:"edition"`
	Size    int64   `json:"size"` // of the file
	Tracks  []Track `json:"tracks"`
	// Starts holds the nanoseconds at which the pieces begin, and the end.
	Starts []int64 `json:"starts"`

	MP4      *mp4Film      `json:"mp4,omitempty"`
	Matroska *matroskaFilm `json:"matroska,omitempty"`
}

// Track is one track that can be sent.
type Track struct {
	Number int         `json:"number"` // in the file, counted from 1, as media.Info has them
	Info   media.Track `json:"info"`
	Scale  uint32      `json:"scale"` // units of time a second
	Entry  []byte      `json:"entry"` // the sample entry; none for subtitles
	Edit   int64       `json:"edit"`  // units that are left out at the beginning: how encoders start
	Delay  int64       `json:"delay"` // units by which all is shown later, so that nothing is shown before it is decoded
	Cannot string      `json:"cannot,omitempty"`
	Bytes  int64       `json:"bytes"` // of its samples, as far as known
	Peak   int64       `json:"peak"`  // bits a second of its largest piece, as far as known
}

// sample is a picture, a frame of sound or a line of text.
type sample struct {
	at       int64 // in the file
	size     uint32
	decode   int64 // when it is decoded, in the track's units
	shown    int64 // when it is shown
	duration uint32
	key      bool
	prefix   []byte // what the container left out of each sample's beginning
}

// Pieces is how many pieces there are.
func (f *Film) Pieces() int { return len(f.Starts) - 1 }

// Length is how long a piece lasts, in seconds.
func (f *Film) Length(piece int) float64 { return float64(f.Starts[piece+1]-f.Starts[piece]) / 1e9 }

// Track gives a track by its number, or nil.
func (f *Film) Track(number int) *Track {
	for i := range f.Tracks {
		if f.Tracks[i].Number == number {
			return &f.Tracks[i]
		}
	}
	return nil
}

// first gives the first track of a kind that can be sent, or nil.
func (f *Film) first(kind string) *Track {
	for i := range f.Tracks {
		if t := &f.Tracks[i]; t.Info.Kind == kind && t.Cannot == "" {
			return t
		}
	}
	return nil
}

// lead gives the track by which a film is parted: its picture, else its sound, or nil.
func (f *Film) lead() *Track {
	if t := f.first(media.Video); t != nil {
		return t
	}
	return f.first(media.Audio)
}

// Open looks a file through.
func Open(r io.ReaderAt, size int64) (*Film, error) {
	info, err := media.Read(r, size)
	if errors.Is(err, media.ErrUnknown) {
		return nil, unfit("%v", err)
	}
	if err != nil {
		return nil, err
	}
	f := &Film{Edition: Edition, Size: size}
	switch info.Container {
	case "mp4":
		err = f.openMP4(r, info)
	case "matroska", "webm":
		err = f.openMatroska(r, info)
	default:
		err = unfit("it is in %s, which is not read here", info.Container)
	}
	if err != nil {
		return nil, err
	}
	if f.lead() == nil {
		why := "nothing in it can be sent by segments"
		for _, t := range f.Tracks {
			if t.Cannot != "" {
				why = t.Cannot
			}
		}
		return nil, unfit("%s", why)
	}
	if f.Pieces() < 1 || f.Pieces() > mostPieces || !slices.IsSorted(f.Starts) {
		return nil, unfit("its times make no sense")
	}
	return f, nil
}

// part parts a film: at key frames (nanoseconds, in their order) so that a piece lasts long
// enough. The end belongs to it.
func part(keys []int64, end int64) []int64 {
	if len(keys) == 0 {
		return nil
	}
	out := []int64{keys[0]}
	for _, k := range keys[1:] {
		if k-out[len(out)-1] >= pieceLength && end-k >= pieceLength/5 {
			out = append(out, k)
		}
	}
	return append(out, max(end, out[len(out)-1]+1))
}

// evenly parts a film without pictures.
func evenly(start, end int64) (keys []int64) {
	for at := start; at < end && len(keys) < mostPieces; at += 6_000_000_000 {
		keys = append(keys, at)
	}
	return keys
}

// samples gives the samples of a piece, in the order in which they are decoded.
func (f *Film) samples(r io.ReaderAt, t *Track, piece int) ([]sample, error) {
	if piece < 0 || piece >= f.Pieces() {
		return nil, fmt.Errorf("there is no piece %d", piece)
	}
	if f.MP4 != nil {
		return f.MP4.samples(r, f, t, piece)
	}
	return f.Matroska.samples(r, f, t, piece)
}

// Segment is a piece of a track, ready to be written.
type Segment struct {
	head    []byte
	samples []sample
	size    int64
	from    io.ReaderAt
}

// Size is how many bytes it has.
func (s *Segment) Size() int64 { return s.size }

// Samples is how many samples it has.
func (s *Segment) Samples() int { return len(s.samples) }

// Segment gives a piece of a track of pictures or sound.
func (f *Film) Segment(r io.ReaderAt, number, piece int) (*Segment, error) {
	t := f.Track(number)
	if t == nil || t.Entry == nil {
		return nil, fmt.Errorf("there is no track %d", number)
	}
	list, err := f.samples(r, t, piece)
	if err != nil {
		return nil, err
	}
	s := &Segment{samples: list, from: r}
	var body int64
	for _, x := range list {
		if x.size > mostSample || x.at < 0 || x.at+int64(x.size) > f.Size+int64(len(x.prefix)) {
			return nil, errors.New("the file ends before its pictures and sound do")
		}
		body += int64(x.size)
	}
	if body > math.MaxUint32-16 {
		return nil, errors.New("a piece is larger than can be sent")
	}
	s.head = fragment(list, scaled(f.Starts[piece], 1e9, int64(t.Scale)), uint32(piece+1), body)
	s.size = int64(len(s.head)) + body
	return s, nil
}

// Of stretches that are at least so long the kernel may send the bytes by itself; shorter ones are
// gathered.
const (
	direct   = 64 << 10
	gathered = 256 << 10
)

// stretch is what lies together in a file, with what the container left out before it.
type stretch struct {
	prefix     []byte
	at, length int64
}

// stretches gives what is to be sent: samples that lie together are one.
func (s *Segment) stretches() (out []stretch) {
	for _, x := range s.samples {
		length := int64(x.size) - int64(len(x.prefix))
		if n := len(out); n > 0 && len(x.prefix) == 0 && out[n-1].at+out[n-1].length == x.at {
			out[n-1].length += length
			continue
		}
		out = append(out, stretch{x.prefix, x.at, length})
	}
	return out
}

// WriteTo writes it. From a file of its own, whose position nobody else needs, to a connection, the
// kernel sends long stretches by itself.
func (s *Segment) WriteTo(w io.Writer) (sent int64, err error) {
	to, _ := w.(io.ReaderFrom)
	file, _ := s.from.(io.ReadSeeker)
	buf := append(make([]byte, 0, min(gathered, s.size)), s.head...)
	flush := func() error {
		n, err := w.Write(buf)
		sent, buf = sent+int64(n), buf[:0]
		return err
	}
	for _, x := range s.stretches() {
		if len(buf)+len(x.prefix) > gathered {
			if err := flush(); err != nil {
				return sent, err
			}
		}
		buf = append(buf, x.prefix...)
		if x.length >= direct && to != nil && file != nil {
			if err := flush(); err != nil {
				return sent, err
			}
			if _, err := file.Seek(x.at, io.SeekStart); err != nil {
				return sent, err
			}
			n, err := to.ReadFrom(&io.LimitedReader{R: file, N: x.length})
			if sent += n; err == nil && n < x.length {
				err = fmt.Errorf("the file ends at byte %d: %w", x.at+n, io.ErrUnexpectedEOF)
			}
			if err != nil {
				return sent, err
			}
			continue
		}
		for x.length > 0 {
			if len(buf) >= gathered {
				if err := flush(); err != nil {
					return sent, err
				}
			}
			n := min(x.length, int64(gathered-len(buf)))
			have := len(buf)
			buf = slices.Grow(buf, int(n))[:have+int(n)]
			if k, err := s.from.ReadAt(buf[have:], x.at); k < int(n) {
				return sent, fmt.Errorf("reading the file at byte %d: %w", x.at, err)
			}
			x.at, x.length = x.at+n, x.length-n
		}
	}
	return sent, flush()
}

// bytes gives a sample's bytes.
func (x sample) bytes(r io.ReaderAt, most uint32) ([]byte, error) {
	if x.size > most || int(x.size) < len(x.prefix) {
		return nil, fmt.Errorf("a sample has %d bytes, which cannot be", x.size)
	}
	b := make([]byte, x.size)
	n := copy(b, x.prefix)
	if k, err := r.ReadAt(b[n:], x.at); k < len(b)-n {
		return nil, err
	}
	return b, nil
}

// Init gives the initialization segment of a track.
func (f *Film) Init(number int) ([]byte, error) {
	t := f.Track(number)
	if t == nil || t.Entry == nil {
		return nil, fmt.Errorf("there is no track %d", number)
	}
	return initSegment(t), nil
}

// whole reads a stretch of a file that must be there.
func whole(r io.ReaderAt, at, n, most, size int64, what string) ([]byte, error) {
	if n < 0 || at < 0 || n > most {
		return nil, fmt.Errorf("%s claims %d bytes, which cannot be", what, n)
	}
	if at+n > size {
		return nil, fmt.Errorf("the file ends inside %s", what)
	}
	var b bytes.Buffer
	if _, err := io.CopyN(&b, io.NewSectionReader(r, at, n), n); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// scaled turns a time from one unit to another, rounded to the nearest.
func scaled(v int64, from, to int64) int64 {
	if from <= 0 {
		return 0
	}
	whole, rest := v/from, v%from
	return whole*to + int64(math.Round(float64(rest)*float64(to)/float64(from)))
}
