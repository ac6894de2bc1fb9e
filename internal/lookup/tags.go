package lookup

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/media"

	"github.com/dhowden/tag"
)

// MaxEmbedded is how large a picture in a file may be, in bytes.
const MaxEmbedded = 24 << 20

// Tagged is what a file says of itself.
type Tagged struct {
	describe.Description        // of the track or film
	Album                string // empty where it says none
	AlbumBy              string // whose album; empty where only the track's artist is told
	By                   string // the track's artist
	Track, Disc          int
	Embedded             []byte // a picture
}

// File is a file that tags are read from.
type File interface {
	io.ReadSeeker
	io.ReaderAt
}

// Tags reads what a file says of itself: tags of ID3, MP4, Matroska, FLAC and Ogg. A file
// without tags says nothing, and that is no error.
func Tags(r File, size int64) (d Tagged, err error) {
	own, err := media.ReadTags(r, size)
	if err != nil {
		return d, err
	}
	if d = taken(own); own.Name != "" || len(own.Genres)+len(d.People) > 0 {
		return d, nil
	}
	said, err := others(r)
	said.Summary = own.Summary
	if said.Embedded == nil {
		said.Embedded = own.Cover
	}
	return said, err
}

// taken puts tags into our words.
func taken(t media.Tags) Tagged {
	d := Tagged{Album: t.Album, AlbumBy: t.AlbumBy, By: t.Artist, Track: t.Track, Disc: t.Disc, Embedded: t.Cover}
	d.Name, d.Summary, d.Year, d.Genres = t.Name, t.Summary, t.Year, t.Genres
	for _, p := range []struct {
		role  string
		names []string
	}{{"artist", []string{cmp.Or(t.AlbumBy, t.Artist)}}, {"director", t.Director}, {"author", t.Authors},
		{"actor", t.Actors}} {
		for _, n := range p.names {
			if n != "" {
				d.People = append(d.People, describe.Person{Name: n, Role: p.role})
			}
		}
	}
	return d
}

// others reads the tags of all but Matroska.
func others(r io.ReadSeeker) (d Tagged, err error) {
	// The reader trusts lengths that it finds more than one should.
	defer func() {
		if x := recover(); x != nil {
			d, err = Tagged{}, fmt.Errorf("its tags are damaged: %v", x)
		}
	}()
	m, err := tag.ReadFrom(r)
	if errors.Is(err, tag.ErrNoTagsFound) {
		return d, nil
	}
	if err != nil {
		return d, err
	}
	clean := func(s string) string {
		return strings.Join(strings.Fields(strings.ToValidUTF8(strings.Trim(s, "\x00"), "")), " ")
	}
	d.Name, d.Album, d.AlbumBy, d.By = clean(m.Title()), clean(m.Album()), clean(m.AlbumArtist()), clean(m.Artist())
	if y := m.Year(); y > 1800 && y < 2200 {
		d.Year = y
	}
	if by := cmp.Or(d.AlbumBy, d.By); by != "" {
		d.People = append(d.People, describe.Person{Name: by, Role: "artist"})
	}
	if g := clean(m.Genre()); g != "" {
		d.Genres = append(d.Genres, g)
	}
	if n, _ := m.Track(); n > 0 && n < 1000 {
		d.Track = n
	}
	for _, key := range []string{"tracknumber", "track"} { // of Vorbis comments, as others write them: 3/9
		if s, ok := m.Raw()[key].(string); ok && d.Track == 0 {
			first, _, _ := strings.Cut(s, "/")
			if n, err := strconv.Atoi(strings.TrimSpace(first)); err == nil && n > 0 && n < 1000 {
				d.Track = n
			}
		}
	}
	if n, of := m.Disc(); n > 0 && n < 100 && of > 1 {
		d.Disc = n
	}
	if p := m.Picture(); p != nil && len(p.Data) <= MaxEmbedded {
		d.Embedded = p.Data
	}
	return d, nil
}
