package media

import (
	"encoding/binary"
	"io"
	"strconv"
	"strings"

	"cozyshelf/internal/core/ebml"
	"cozyshelf/internal/core/isobmff"
)

// Tags are what a video or audio file says of itself, beside its tracks. Empty fields
// it does not tell.
type Tags struct {
	Name     string   // of the film, the track, or the episode
	Summary  string   // what it is about
	Album    string   // of music
	AlbumBy  string   // whose album, where that is told apart
	Artist   string   // of music
	Year     int      // when it came out
	Track    int      // its number on the album
	Disc     int      // of an album of several
	Genres   []string // as written
	Director []string
	Actors   []string
	Authors  []string
	Cover    []byte // a picture: JPEG or PNG, as a rule
}

// More elements of Matroska (RFC 9559).
const (
	idTags        = 0x1254C367
	idTag         = 0x7373
	idTargets     = 0x63C0
	idTargetValue = 0x68CA
	idTagTrack    = 0x63C5
	idTagEdition  = 0x63C9
	idTagChapter  = 0x63C4
	idTagAttached = 0x63C6
	idSimpleTag   = 0x67C8
	idTagName     = 0x45A3
	idTagString   = 0x4487
	idTitle       = 0x7BA9
	idDateUTC     = 0x4461
	idAttachments = 0x1941A469
	idAttached    = 0x61A7
	idFileName    = 0x466E
	idFileType    = 0x4660
	idFileData    = 0x465C
)

// Bounds of what is read of tags.
const (
	maxTags  = 4 << 20  // bytes
	maxCover = 24 << 20 // bytes
	maxText  = 10_000   // bytes of one text
)

// ReadTags reads the tags of a Matroska file, and the summary of an MP4 file, whose
// other tags are read elsewhere. A file without tags, or of another form, says nothing,
// and that is no error.
func ReadTags(r io.ReaderAt, size int64) (Tags, error) {
	head := make([]byte, min(16, size))
	if _, err := r.ReadAt(head, 0); err != nil && err != io.EOF {
		return Tags{}, err
	}
	switch {
	case len(head) >= 4 && string(head[:4]) == "\x1a\x45\xdf\xa3":
		return matroskaTags(r, size)
	case len(head) >= 8 && mp4Start[string(head[4:8])]:
		return mp4Tags(r, size)
	}
	return Tags{}, nil
}

// matroskaTags follows the table of contents, and passes over what is not tags.
func matroskaTags(r io.ReaderAt, size int64) (Tags, error) {
	var t Tags
	head, err := ebml.Read(r, 0, size)
	if err != nil {
		return t, err
	}
	segment, err := ebml.Read(r, head.End, size)
	if err != nil || segment.ID != ebml.IDSegment {
		return t, nil
	}
	m := &matroska{r: r, size: size, segment: segment, seek: map[uint32]int64{}}
	done := map[uint32]bool{}
	read := func(e ebml.Element) error {
		if done[e.ID] {
			return nil
		}
		done[e.ID] = true
		return t.element(r, e, size)
	}
	end := min(segment.End, size)
	off := segment.Start
	for n := 0; off < end && n < 1<<10; n++ {
		e, err := ebml.Read(r, off, end)
		if err != nil || e.End == ebml.UnknownSize || e.ID == ebml.IDCluster {
			break
		}
		if e.ID == ebml.IDSeekHead {
			err = m.master(e)
		} else {
			err = read(e)
		}
		if err != nil {
			return t, err
		}
		off = e.End
	}
	for _, id := range []uint32{ebml.IDInfo, idTags, idAttachments} {
		if at, ok := m.seek[id]; ok && !done[id] && at >= 0 && at < size {
			if e, err := ebml.Read(r, at, size); err == nil && e.ID == id {
				if err := read(e); err != nil {
					return t, err
				}
			}
		}
	}
	return t, nil
}

// ebml.Element reads one ebml.Element of the segment that tells something.
func (t *Tags) element(r io.ReaderAt, e ebml.Element, size int64) error {
	switch e.ID {
	case idAttachments:
		return t.attachments(r, e, size)
	case ebml.IDInfo, idTags:
	default:
		return nil
	}
	if e.End == ebml.UnknownSize || e.End-e.Start > maxTags {
		return nil // nobody writes as much
	}
	b, err := window(r, e.Start, e.End-e.Start, size, "its tags")
	if err != nil {
		return err
	}
	ebml.Children(b, func(id uint32, data []byte) {
		switch {
		case e.ID == ebml.IDInfo && id == idTitle && t.Name == "":
			t.Name = text(data)
		case e.ID == idTags && id == idTag:
			t.tag(data)
		}
	})
	return nil
}

// tag reads one tag, with all that it says about what it is for.
func (t *Tags) tag(b []byte) {
	// The default of RFC 9559, 5.1.8.1.1.1, is 50: the film, or the album. Programs
	// that know no levels leave it out, and mean both.
	level := uint64(0)
	whole := true
	ebml.Children(b, func(id uint32, data []byte) {
		if id == idTargets {
			ebml.Children(data, func(id uint32, v []byte) {
				switch id {
				case idTargetValue:
					level = ebml.Uint(v)
				case idTagTrack, idTagEdition, idTagChapter, idTagAttached:
					whole = whole && ebml.Uint(v) == 0
				}
			})
		}
	})
	if !whole {
		return // of one of its tracks or chapters
	}
	ebml.Children(b, func(id uint32, data []byte) {
		if id != idSimpleTag {
			return
		}
		var name, value string
		ebml.Children(data, func(id uint32, v []byte) {
			switch id {
			case idTagName:
				name = strings.ToUpper(text(v))
			case idTagString:
				value = text(v)
			}
		})
		if value != "" {
			t.say(level, name, value)
		}
	})
}

// say takes one tag by its name in the registry of Matroska tags, and by those that
// programs write which know no levels.
func (t *Tags) say(level uint64, name, value string) {
	first := func(s *string) {
		if *s == "" {
			*s = value
		}
	}
	number := func(n *int, most int) {
		digits, _, _ := strings.Cut(value, "/")
		if v, err := strconv.Atoi(strings.TrimSpace(digits)); err == nil && v > 0 && v <= most && *n == 0 {
			*n = v
		}
	}
	list := func(l *[]string) {
		if len(*l) < 200 {
			*l = append(*l, value)
		}
	}
	switch name {
	case "TITLE":
		if level <= 30 || t.Name == "" {
			if t.Name != "" && t.Album == "" {
				t.Album = t.Name
			}
			t.Name = value
		} else if t.Album == "" && t.Name != value {
			t.Album = value
		}
	case "ALBUM":
		t.Album = value
	case "ALBUM_ARTIST", "ALBUMARTIST":
		first(&t.AlbumBy)
	case "ARTIST":
		first(&t.Artist)
	case "SUMMARY", "SYNOPSIS", "DESCRIPTION":
		first(&t.Summary)
	case "DATE_RELEASED", "DATE", "YEAR", "DATE_RECORDED":
		if y, err := strconv.Atoi(value[:min(4, len(value))]); err == nil && y > 1800 && y < 2200 && t.Year == 0 {
			t.Year = y
		}
	case "PART_NUMBER":
		if level >= 50 {
			number(&t.Disc, 100)
		} else {
			number(&t.Track, 1000)
		}
	case "TRACK", "TRACKNUMBER":
		number(&t.Track, 1000)
	case "DISC", "DISCNUMBER":
		number(&t.Disc, 100)
	case "GENRE":
		list(&t.Genres)
	case "DIRECTOR":
		list(&t.Director)
	case "ACTOR", "LEAD_PERFORMER":
		list(&t.Actors)
	case "WRITTEN_BY", "SCREENPLAY_BY", "COMPOSER":
		list(&t.Authors)
	}
}

// attachments looks for a cover among the files in the file.
func (t *Tags) attachments(r io.ReaderAt, e ebml.Element, size int64) error {
	best := 0
	end := min(e.End, size)
	for off, n := e.Start, 0; off < end && n < 1000; n++ {
		a, err := ebml.Read(r, off, end)
		if err != nil || a.End == ebml.UnknownSize {
			return nil
		}
		off = a.End
		if a.ID != idAttached {
			continue
		}
		var name, kind string
		var data ebml.Element
		for p := a.Start; p < min(a.End, size); {
			c, err := ebml.Read(r, p, min(a.End, size))
			if err != nil || c.End == ebml.UnknownSize {
				break
			}
			switch c.ID {
			case idFileName, idFileType:
				if b, err := window(r, c.Start, min(c.End-c.Start, 255), size, "an attachment"); err != nil {
					return err
				} else if c.ID == idFileName {
					name = strings.ToLower(text(b))
				} else {
					kind = strings.ToLower(text(b))
				}
			case idFileData:
				data = c
			}
			p = c.End
		}
		worth := 0
		switch {
		case !strings.HasPrefix(kind, "image/") || data.End-data.Start > maxCover:
		case strings.HasPrefix(name, "cover."):
			worth = 3
		case strings.HasPrefix(name, "cover") || strings.HasPrefix(name, "small_cover"):
			worth = 2
		default:
			worth = 1
		}
		if worth > best && data.End > data.Start {
			b, err := window(r, data.Start, data.End-data.Start, size, "a picture in it")
			if err != nil {
				return err
			}
			t.Cover, best = b, worth
		}
	}
	return nil
}

// mp4Tags reads the texts of an MP4 file that tell what it is about.
func mp4Tags(r io.ReaderAt, size int64) (Tags, error) {
	var t Tags
	err := isobmff.Top(r, size, func(b isobmff.Box) (bool, error) {
		if b.Kind != "moov" {
			return false, nil
		}
		payload, err := window(r, b.Start, b.End-b.Start, size, "its index (moov)")
		if err != nil {
			return true, err
		}
		isobmff.Each(payload, func(kind string, p []byte) {
			if kind != "udta" {
				return
			}
			isobmff.Each(p, func(kind string, p []byte) {
				if kind != "meta" || len(p) < 4 {
					return
				}
				isobmff.Each(p[4:], func(kind string, p []byte) {
					if kind == "ilst" {
						isobmff.Each(p, t.item)
					}
				})
			})
		})
		return true, nil
	})
	return t, err
}

func (t *Tags) item(kind string, p []byte) {
	if kind != "desc" && kind != "ldes" {
		return
	}
	isobmff.Each(p, func(inner string, p []byte) {
		if inner != "data" || len(p) < 8 || binary.BigEndian.Uint32(p) != 1 { // 1: UTF-8
			return
		}
		if s := text(p[8:]); kind == "ldes" || t.Summary == "" {
			t.Summary = s
		}
	})
}

// text takes bytes as UTF-8 text in one line, up to a bound.
func text(b []byte) string {
	s, _, _ := strings.Cut(string(b[:min(len(b), maxText)]), "\x00")
	return strings.Join(strings.Fields(strings.ToValidUTF8(s, "")), " ")
}
