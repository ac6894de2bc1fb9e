package scan

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/lookup"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/picture"
	"cozyshelf/internal/store"
)

// found reads a file's name, and reports whether it is a sample.
func (s *scanner) found(dir string, e machine.Entry) (store.Found, bool) {
	r := naming.Read(s.shelf.Kind, path.Join(dir, e.Name))
	content, _ := naming.ContentOf(e.Name)
	f := store.Found{
		Name: e.Name, Size: e.Size, MTime: e.MTime, CTime: e.CTime, Inode: e.Inode, Title: r.Title, Year: r.Year,
		By:     r.By,
		Season: r.Season, Episode: r.Episode, Part: r.Part, Content: string(content),
		Last: r.Last, Disc: r.Disc, Piece: r.Piece, Date: r.Date, Edition: r.Edition, Extra: r.Extra, Outside: r.ID,
	}
	if !r.Clear {
		f.Note = r.Why
	}
	return f, r.Sample
}

// open opens files and reads their headers, a few at a time. It does not wait for
// ever: ErrSilent says that a file does not answer.
func (s *scanner) open(ctx context.Context, inside, dir string, entries []machine.Entry, found []store.Found,
	todo []int) error {
	type result struct {
		i int
		f store.Found
	}
	workers := min(len(todo), runtime.GOMAXPROCS(0))
	var next atomic.Int64
	results, over := make(chan result), make(chan struct{})
	defer close(over)
	before := slices.Clone(found) // for the workers: one that is not answered may still be reading after us
	for range workers {
		go func() {
			if s.gently {
				machine.Gently()
			}
			for n := int(next.Add(1)) - 1; n < len(todo); n = int(next.Add(1)) - 1 {
				i := todo[n]
				f := before[i]
				s.read(filepath.Join(inside, dir, entries[i].Name), entries[i], &f)
				select {
				case results <- result{i, f}:
				case <-over:
					return
				}
			}
		}()
	}
	timer := time.NewTimer(Patience)
	defer timer.Stop()
	for range todo {
		select {
		case r := <-results:
			found[r.i] = r.f
			timer.Reset(Patience)
		case <-ctx.Done():
			return ctx.Err()
		case <-timer.C:
			return machine.ErrSilent
		}
	}
	return nil
}

// vanished is the problem of a file that is not there any more when it is opened.
const vanished = "it vanished meanwhile"

// streamed tells which files are looked into, too, but have no index that would have to be
// whole: what cannot be made out of them is not told, and is no problem of the file.
var streamed = map[string]bool{
	".avi": true, ".ts": true, ".m2ts": true, ".mts": true, ".m2t": true, ".vob": true,
	".mpg": true, ".mpeg": true, ".ogv": true,
	".mp3": true, ".flac": true, ".ogg": true, ".oga": true, ".opus": true, ".wav": true, ".aac": true,
}

// opened tells which files are opened for what they hold, and have to be whole; the others
// are only opened to see whether they can be.
var opened = map[string]bool{".mp4": true, ".m4v": true, ".mov": true, ".m4a": true, ".mkv": true, ".webm": true,
	".3gp": true, ".3g2": true,
	".mka": true}

func (s *scanner) read(name string, e machine.Entry, f *store.Found) {
	if errors.Is(e.Err, fs.ErrNotExist) {
		f.Problem = vanished
		return
	}
	if e.Err != nil {
		f.Problem = cause(e.Err, "look at")
		return
	}
	file, err := openPlain(name)
	if errors.Is(err, fs.ErrNotExist) {
		f.Problem = vanished
		return
	}
	if err != nil {
		f.Problem = cause(err, "read")
		if errors.Is(err, fs.ErrPermission) {
			f.Problem += fmt.Sprintf(" (owner %d, group %d, mode %04o)", e.UID, e.GID, e.Mode)
		}
		return
	}
	defer file.Close()
	if e.Size == 0 {
		f.Problem = "the file is empty"
		return
	}
	head := heads.Get().(*headReader)
	defer heads.Put(head)
	head.reset(file)
	if f.Fingerprint, err = fingerprint(head, e.Size); err != nil {
		f.Problem = cause(&fs.PathError{Op: "read", Path: name, Err: err}, "read")
		return
	}
	var info media.Info
	inside := false
	err = s.suspects.Do("headers", name, fmt.Sprintf("%d-%d", e.Size, e.MTime), func() (err error) {
		if s.shelf.Kind == household.Music {
			tagged(f, io.NewSectionReader(head, 0, e.Size), e.Size)
		}
		switch {
		case opened[strings.ToLower(path.Ext(e.Name))]:
			inside = true
			info, err = media.Read(head, e.Size)
		case streamed[strings.ToLower(path.Ext(e.Name))]:
			if inHead, serr := media.Read(head, e.Size); serr == nil {
				inside, info = true, inHead
			}
		case f.Content == string(naming.Picture):
			inside = true
			info, err = pictured(io.NewSectionReader(head, 0, e.Size))
		}
		return err
	})
	if err == nil && !inside {
		return
	}
	if err != nil {
		f.Problem = err.Error()
		return
	}
	f.Duration = info.Duration
	f.Date = dated(s.shelf.Kind, f, info, s.zone)
	b, err := json.Marshal(info)
	if err != nil {
		f.Problem = err.Error()
		return
	}
	f.Info = string(b)
}

// pictured reads the header of a picture.
func pictured(r io.ReadSeeker) (media.Info, error) {
	p, err := picture.Read(r)
	info := media.Info{Container: p.Format, Made: p.Taken}
	if p.Turn > 1 {
		info.Turn = p.Turn
	}
	if p.Width > 0 {
		info.Tracks = []media.Track{{Kind: media.Picture, Codec: p.Format, Width: p.Width, Height: p.Height}}
	}
	return info, err
}

// dated gives the date of a file: of a photo the moment that it tells, which counts more
// than its name; of a recording or a clip among photos that of its name, else the day that
// it tells, here.
func dated(kind household.Kind, f *store.Found, info media.Info, zone *time.Location) string {
	switch {
	case info.Made == "" || kind != household.Photos && kind != household.Recordings:
		return f.Date
	case f.Content == string(naming.Picture):
		return info.Made[:len("2006-01-02T15:04:05")]
	case f.Date != "":
		return f.Date
	}
	at, err := time.Parse(time.RFC3339, info.Made)
	if err != nil {
		return f.Date
	}
	return at.In(zone).Format("2006-01-02T15:04:05")
}

// tagged takes what a track says of itself, which counts more than its name. Whose album
// it is, a folder tells better than the artist of one track, as on compilations.
func tagged(f *store.Found, r lookup.File, size int64) {
	d, err := lookup.Tags(r, size)
	if err != nil || d.Album == "" {
		return
	}
	f.By = cmp.Or(d.AlbumBy, f.By, d.By)
	f.Title, f.Note = d.Album, ""
	if d.Year > 0 {
		f.Year = d.Year
	}
	f.Part = cmp.Or(d.Name, f.Part)
	if d.AlbumBy != "" && d.By != "" && d.By != d.AlbumBy {
		f.Part += " (" + d.By + ")"
	}
	if d.Track > 0 {
		f.Episode = d.Track
	}
	if d.Disc > 0 {
		f.Disc = d.Disc
	}
}

// cause says in words why something could not be done.
func cause(err error, verb string) string {
	var pe *fs.PathError
	if errors.Is(err, fs.ErrPermission) {
		return "the server's account may not " + verb + " it"
	}
	if errors.As(err, &pe) {
		err = pe.Err
	}
	return "it could not be " + map[string]string{"read": "read", "list": "listed", "look at": "looked at"}[verb] +
		": " + err.Error()
}
