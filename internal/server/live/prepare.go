package live

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/convert"
	"cozyshelf/internal/core/delivery"
	"cozyshelf/internal/core/encoders"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/isobmff"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/core/repack"
	"cozyshelf/internal/ffmpeg"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"

	"github.com/dustin/go-humanize"

	"golang.org/x/text/language"
)

// Prepared copies are made at quiet hours, or at once where that is asked for. Picture and sound grow
// in files of their own, a piece at a time, so that it goes on where it stopped; at the end both, and
// the subtitles, go into one MP4. All lie in the folder layout.Prepared, by the number of the copy.

// Bounds of prepared copies.
const (
	leastLeft       = 1 << 30  // bytes that stay free where the state lies
	preparedSound   = 160_000  // bits a second
	preparedText    = 8        // tracks of subtitles
	growth          = 64 << 20 // bytes by which a track may always be larger than expected
	preparedHeight  = 720      // lines, where none are named
	preparedNotes   = 5 * time.Second
	preparedPatient = time.Minute // after something failed that may pass
)

// PreparedLimit is how much they may take, in bytes.
func (s *Server) PreparedLimit() int64 {
	if v := s.Settings.Convert; v != nil && v.Prepared > 0 {
		return v.Prepared
	}
	return int64(household.DefaultPrepare)
}

func (s *Server) preparedFile(id int64, ending string) string {
	return filepath.Join(s.Settings.State, layout.Prepared, fmt.Sprintf("%d%s", id, ending))
}

// OpenPrepared opens a copy that is ready.
func (s *Server) OpenPrepared(p store.Prepared) (*os.File, error) {
	return os.Open(s.preparedFile(p.ID, ".mp4"))
}

// preparedPlan is how a file becomes a copy of so many lines: a picture that is small enough, and that
// nearly everything plays, stays as it is.
func preparedPlan(f store.File, height int) delivery.Plan {
	return delivery.Decide(delivery.File{Media: f.Media, Size: f.Size}, delivery.Unknown(),
		delivery.Bounds{Height: height}, delivery.Wish{},
		delivery.Machine{Sound: true, Ways: []delivery.Way{{Name: string(encoders.Software), Codec: "h264", Room: 1e15}}})
}

// AddPrepared notes that a copy of a file is wanted, if there is room for it.
func (s *Server) AddPrepared(ctx context.Context, f store.File, p store.Prepared) (store.Prepared, error) {
	refuse := func(why, fix string) error {
		return &StatusError{Problem: &problem.Problem{What: "no copy can be prepared", Where: f.Path, Why: why, Fix: fix,
			Exit: problem.ExitUsage}, Status: http.StatusConflict}
	}
	if v := s.Settings.Convert; v != nil && v.Never {
		return p, refuse("[convert] in the household file says never", "write when = \"needed\" under [convert], and deploy")
	}
	if s.Converter.Load() == nil {
		return p, refuse("there is no ffmpeg where the server runs", "install it on this machine, write when = "+
			"\"needed\" under [convert], and deploy")
	}
	if f.Problem != "" || f.Content != string(naming.Video) {
		return p, refuse("it is no film", "name a film, an episode or a recording")
	}
	f, err := s.Tracked(ctx, f)
	if err != nil {
		return p, err
	}
	if p.Height == 0 {
		p.Height = preparedHeight
	}
	plan := preparedPlan(f, p.Height)
	if plan.As == delivery.Refused || f.Duration <= 0 {
		why := "it does not tell how long it is"
		if len(plan.Reasons) > 0 && plan.As == delivery.Refused {
			why = plan.Reasons[0].Text
		}
		return p, refuse(why, "see cozyshelf shelf show --problems")
	}
	p.Length, p.Bytes = f.Duration, f.Size
	if plan.Picture.Do == delivery.Make {
		p.Bytes = int64(f.Duration * float64(plan.Picture.Bitrate+preparedSound) / 8)
	}
	// Counted and added as one, however many ask at once.
	s.prepare.adding.Lock()
	defer s.prepare.adding.Unlock()
	all, err := s.Store.AllPrepared(ctx)
	if err != nil {
		return p, err
	}
	sum, asked := p.Bytes, 0
	for _, o := range all {
		if o.State != store.PreparedFailed {
			sum += o.Bytes
		}
		if o.By == p.By && (o.State == store.PreparedWaiting || o.State == store.PreparedMaking) {
			asked++
		}
	}
	if p.By != "" && asked >= mostAsked {
		return p, &StatusError{Problem: &problem.Problem{What: "no copy is noted", Why: fmt.Sprintf(
			"%d that you asked for are not ready yet", asked), Fix: "ask again when they are"},
			Status: http.StatusTooManyRequests}
	}
	if limit := s.PreparedLimit(); sum > limit {
		return p, refuse(fmt.Sprintf("all copies together would take about %s of %s", humanize.IBytes(uint64(sum)),
			humanize.IBytes(uint64(limit))), "cancel one (cozyshelf prepare list), ask for fewer lines, or raise "+
			"prepared_limit under [convert]")
	}
	// What it takes while it is made, and the copy.
	if free, err := FreeBytes(s.Settings.State); err == nil && free < 2*p.Bytes+leastLeft {
		return p, refuse(fmt.Sprintf("%s are free where the state lies, and it takes up to %s while it is made",
			humanize.IBytes(uint64(free)), humanize.IBytes(uint64(2*p.Bytes))), "make room there, or ask for fewer lines")
	}
	id, err := s.Store.AddPrepared(ctx, f, p)
	switch {
	case errors.Is(err, store.ErrExists):
		return p, refuse(fmt.Sprintf("one of %d lines is there, or on its way", p.Height), "cozyshelf prepare list shows it")
	case errors.Is(err, store.ErrMany):
		return p, refuse("as many are noted as may be", "cancel some: cozyshelf prepare list")
	case err != nil:
		return p, err
	}
	select {
	case s.prepare.kick <- struct{}{}:
	default:
	}
	return s.Store.PreparedByID(ctx, id)
}

// preparing is what is known of the copy that is being made.
type preparing struct {
	kick   chan struct{} // something was added
	adding sync.Mutex
}

// mostAsked is how many copies a member may have asked for that are not ready.
const mostAsked = 20

// CancelPrepared removes a copy, whether it is ready, being made, or wanted.
func (s *Server) CancelPrepared(ctx context.Context, id int64) error {
	if _, err := s.Store.PreparedByID(ctx, id); err != nil {
		return err
	}
	if err := s.Store.RemovePrepared(ctx, id); err != nil {
		return err
	}
	// Whoever makes it sees that it is not wanted any more, with the next piece.
	for _, ending := range []string{".mp4", ".picture", ".sound", ".new"} {
		_ = os.Remove(s.preparedFile(id, ending)) // most of them are not there
	}
	return nil
}

// errUnwanted says that a copy was cancelled.
var errUnwanted = errors.New("it was cancelled")

// Prepare makes copies for as long as the server runs.
func (s *Server) Prepare(ctx context.Context) {
	s.sweepPrepared(ctx)
	text := household.QuietHours
	if q := s.Settings.Quiet; q != nil {
		text = q.Hours
	}
	hours, err := household.ParseHours(text)
	if err != nil {
		s.Log.Error("the quiet hours cannot be read", "why", err) // the tool has read them
		return
	}
	later := map[int64]time.Time{} // those that could not go on, as when their shelf was unplugged
	for ctx.Err() == nil {
		pause := quietLook
		if c := s.Converter.Load(); c != nil {
			quiet := hours.Hold(time.Now().In(s.Zone))
			p, err := s.nextPrepared(ctx, quiet, later)
			if err == nil {
				may := func() bool { return p.Soon || hours.Hold(time.Now().In(s.Zone)) }
				if !s.prepareOne(ctx, c, p, may) {
					later[p.ID] = time.Now().Add(preparedPatient)
				}
				continue
			} else if !errors.Is(err, store.ErrNotFound) && ctx.Err() == nil {
				s.Log.Error("prepared copies cannot be read", "why", err)
			}
		} else {
			pause = time.Second
		}
		select {
		case <-ctx.Done():
		case <-s.prepare.kick:
		case <-time.After(pause):
		}
	}
}

// nextPrepared gives the copy that is to be made next: the oldest, so that what was begun goes on.
func (s *Server) nextPrepared(ctx context.Context, quiet bool, later map[int64]time.Time) (store.Prepared, error) {
	all, err := s.Store.AllPrepared(ctx)
	if err != nil {
		return store.Prepared{}, err
	}
	for _, p := range all {
		if p.State == store.PreparedWaiting && (quiet || p.Soon) && time.Now().After(later[p.ID]) {
			return p, nil
		}
	}
	return store.Prepared{}, store.ErrNotFound
}

// sweepPrepared removes files that belong to no copy, and has those made again that are gone, as after
// a backup was restored.
func (s *Server) sweepPrepared(ctx context.Context) {
	all, err := s.Store.AllPrepared(ctx)
	if err != nil {
		return
	}
	for _, p := range all {
		_, err := os.Stat(s.preparedFile(p.ID, ".mp4"))
		gone := p.State == store.PreparedReady && errors.Is(err, os.ErrNotExist)
		if gone {
			p.Done = 0
		}
		if gone || p.State == store.PreparedMaking {
			p.State = store.PreparedWaiting
			if err := s.Store.SetPrepared(ctx, p); err != nil {
				s.Log.Error("how far a copy is could not be noted", "title", p.Title, "why", err)
			}
		}
	}
	list, err := os.ReadDir(filepath.Join(s.Settings.State, layout.Prepared))
	if err != nil {
		return // there is none yet
	}
	for _, e := range list {
		var id int64
		var ending string
		n, _ := fmt.Sscanf(e.Name(), "%d.%s", &id, &ending)
		if strings.HasPrefix(e.Name(), wordsName) || n == 2 && !slices.ContainsFunc(all,
			func(p store.Prepared) bool { return p.ID == id }) {
			_ = os.Remove(filepath.Join(s.Settings.State, layout.Prepared, e.Name())) // it is tried at each start
		}
	}
}

// prepareOne makes a copy, or as much of it as may be now. It reports whether it came to an end, a good one or
// not.
func (s *Server) prepareOne(ctx context.Context, c *convert.Converter, p store.Prepared, may func() bool) bool {
	p.State = store.PreparedMaking
	if err := s.Store.SetPrepared(ctx, p); err != nil {
		return false
	}
	err := s.preparePieces(ctx, c, &p, may)
	switch {
	case ctx.Err() != nil, errors.Is(err, errUnwanted):
		return ctx.Err() == nil
	case errors.Is(err, errLater):
		p.State = store.PreparedWaiting
		if err := s.Store.SetPrepared(ctx, p); err != nil {
			s.Log.Error("how far a copy is could not be noted", "title", p.Title, "why", err)
		}
		return false
	case err != nil:
		s.Log.Error("a copy could not be prepared", "title", p.Title, "lines", p.Height, "why", err)
		p.State, p.Fault = store.PreparedFailed, err.Error()
		for _, ending := range []string{".picture", ".sound", ".new"} {
			_ = os.Remove(s.preparedFile(p.ID, ending)) // it is begun anew when it is asked for again
		}
	default:
		s.Log.Info("a copy is prepared", "title", p.Title, "lines", p.Height, "bytes", p.Bytes)
		p.State = store.PreparedReady
	}
	if err := s.Store.SetPrepared(ctx, p); err != nil {
		s.Log.Error("how far a copy is could not be noted", "title", p.Title, "why", err)
		return false
	}
	return true
}

// errLater says that the quiet hours are over, or that the shelf is not there now.
var errLater = errors.New("it goes on later")

// preparePieces makes what is missing of a copy, and puts it together.
func (s *Server) preparePieces(ctx context.Context, c *convert.Converter, p *store.Prepared, may func() bool) error {
	_, f, err := s.Store.FileOf(ctx, p.File, 0)
	if err != nil {
		return fmt.Errorf("the film is not on its shelf any more: %w", err)
	}
	if f.Size != p.FileSize || f.Modified.UnixNano() != p.FileMtime {
		return errors.New("the film has changed since the copy was asked for; ask again")
	}
	open := func() (*os.File, error) { return s.Find(f) }
	source, err := open()
	if err != nil {
		return fmt.Errorf("%w: %w", errLater, err)
	}
	defer source.Close()
	if err := os.MkdirAll(filepath.Join(s.Settings.State, layout.Prepared), 0o700); err != nil {
		return err
	}
	start, end, err := s.Span(ctx, f)
	if err != nil {
		return err
	}
	p.Length = end - start
	plan := preparedPlan(f, p.Height)
	picture := ffmpeg.Part{File: source, Track: plan.Picture.Track}
	sound := ffmpeg.Part{File: source, Track: plan.Sound.Track}
	part := func(track int) media.Track { return f.Media.Tracks[track-1] }
	state := FileState(f)
	if plan.Picture.Do == delivery.Make {
		way := encoders.InSoftware.Name()
		if len(c.Ways) > 0 {
			way = c.Ways[0].Name()
		}
		r := convert.Recipe{File: state, Track: plan.Picture.Track, Source: part(plan.Picture.Track),
			Width: plan.Picture.Width, Height: plan.Picture.Height, Bitrate: plan.Picture.Bitrate,
			ToneMap: plan.Picture.ToneMap, Way: way, Quality: encoders.Careful, Start: start, End: end}
		file, err := s.grow(ctx, c, r, p, ".picture", open, may)
		if err != nil {
			return err
		}
		defer file.Close()
		picture = ffmpeg.Part{File: file}
	}
	switch plan.Sound.Do {
	case delivery.Make:
		r := convert.Recipe{File: state, Track: plan.Sound.Track, Source: part(plan.Sound.Track),
			Channels: plan.Sound.Channels, Start: start, End: end}
		file, err := s.grow(ctx, c, r, p, ".sound", open, may)
		if err != nil {
			return err
		}
		defer file.Close()
		sound = ffmpeg.Part{File: file}
	case delivery.None:
		sound = ffmpeg.Part{}
	}
	texts := ffmpeg.Texts{}
	for i, t := range f.Media.Tracks {
		if t.Kind == media.Subtitle && slices.Contains(textSubtitles, t.Codec) && len(texts.Tracks) < preparedText {
			texts.Tracks, texts.Languages = append(texts.Tracks, i+1), append(texts.Languages, t.Language)
		}
	}
	defer func() {
		for _, b := range texts.Beside {
			b.Close()
		}
	}()
	if err := s.addBeside(f, &texts); err != nil {
		return err
	}
	return s.putTogether(ctx, c, p, start, picture, sound, source, texts)
}

// addBeside adds the subtitles beside a film that are text. One that cannot be read keeps the film from nobody.
func (s *Server) addBeside(f store.File, texts *ffmpeg.Texts) error {
	for i, b := range f.Beside {
		if b.Sort != naming.Subtitles || len(texts.Tracks)+len(texts.Beside) >= preparedText {
			continue
		}
		_, file, err := s.OpenBeside(f, i)
		if err != nil {
			continue
		}
		words, err := s.BesideText(f, i, file)
		file.Close()
		if err != nil {
			s.Log.Debug("a subtitle is left out of a copy", "file", b.Name, "why", err)
			continue
		}
		// It has no name: ffmpeg has it by a descriptor.
		t, err := os.CreateTemp(filepath.Join(s.Settings.State, layout.Prepared), wordsName+"*")
		if err != nil {
			return err
		}
		_, err = t.Write(words)
		if err := errors.Join(err, os.Remove(t.Name())); err != nil {
			t.Close()
			return err
		}
		texts.Beside, texts.Languages = append(texts.Beside, t), append(texts.Languages, threeLetters(b.Language))
	}
	return nil
}

// wordsName is what the names of those files begin with, for the moment that they have one.
const wordsName = "words-"

// threeLetters gives a language as ISO 639-2 has it, which is what MP4 holds.
func threeLetters(tag string) string {
	t, err := language.Parse(tag)
	if err != nil {
		return ""
	}
	base, _ := t.Base()
	return base.ISO3()
}

// textSubtitles are those that MP4 can hold as text.
var textSubtitles = []string{"subrip", "webvtt", "ass", "ssa", "mov_text", "text"}

// putTogether writes the copy beside, looks into it, and gives it its name.
func (s *Server) putTogether(ctx context.Context, c *convert.Converter, p *store.Prepared, start float64, picture,
	sound ffmpeg.Part, film *os.File, texts ffmpeg.Texts) error {
	name := s.preparedFile(p.ID, ".new")
	out, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(name) // unless it has its name
	defer out.Close()
	err = c.Tools.Mux(ctx, out, start, picture, sound, film, texts)
	if err != nil && len(texts.Languages) > 0 && ctx.Err() == nil {
		// Subtitles that cannot be read do not keep the film from anybody.
		s.Log.Warn("a copy is prepared without subtitles", "title", p.Title, "why", err)
		err = c.Tools.Mux(ctx, out, start, picture, sound, film, ffmpeg.Texts{})
	}
	if err != nil {
		return err
	}
	st, err := out.Stat()
	if err != nil {
		return err
	}
	if p.Media, err = media.Read(out, st.Size()); err != nil {
		return fmt.Errorf("the copy cannot be read: %w", err)
	}
	if p.Media.Duration < p.Length*0.98-2 {
		return fmt.Errorf("the copy lasts %.0f s, and the film %.0f s", p.Media.Duration, p.Length)
	}
	if err := out.Sync(); err != nil {
		return err
	}
	if _, err := s.Store.PreparedByID(ctx, p.ID); errors.Is(err, store.ErrNotFound) {
		return errUnwanted
	}
	if err := os.Rename(name, s.preparedFile(p.ID, ".mp4")); err != nil {
		return err
	}
	p.Bytes, p.Done = st.Size(), p.Length
	for _, ending := range []string{".picture", ".sound"} {
		_ = os.Remove(s.preparedFile(p.ID, ending)) // it is swept at the next start
	}
	return nil
}

// grow makes what is missing of a track in its file, and gives the file.
func (s *Server) grow(ctx context.Context, c *convert.Converter, r convert.Recipe, p *store.Prepared, ending string,
	open func() (*os.File, error), may func() bool) (*os.File, error) {
	file, err := os.OpenFile(s.preparedFile(p.ID, ending), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	next, size, err := grown(file)
	if err == nil {
		if err = file.Truncate(size); err == nil {
			_, err = file.Seek(size, io.SeekStart)
		}
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	if next >= len(r.Lengths()) {
		return file, nil
	}
	noted, most := time.Now(), 2*p.Bytes+growth
	step, from := r.Step(), next
	err = c.Whole(ctx, r, from, open, func(init []byte) error {
		if size > 0 {
			return nil // it has begun already
		}
		size = int64(len(init))
		_, err := file.Write(init)
		return err
	}, func(n int, b []byte) error {
		if size += int64(len(b)); size > most {
			return fmt.Errorf("it grows beyond %s, twice what was expected", humanize.IBytes(uint64(most)))
		}
		if _, err := file.Write(b); err != nil {
			return err
		}
		if r.Height > 0 {
			p.Done = min(p.Length, float64(n+1)*step)
		}
		if time.Since(noted) > preparedNotes {
			noted = time.Now()
			if _, err := s.Store.PreparedByID(ctx, p.ID); errors.Is(err, store.ErrNotFound) {
				return errUnwanted
			}
			if err := s.Store.SetPrepared(ctx, *p); err != nil {
				return err
			}
			if free, err := FreeBytes(s.Settings.State); err == nil && free < leastLeft/2 {
				return fmt.Errorf("only %s are free where the state lies", humanize.IBytes(uint64(free)))
			}
		}
		if !may() {
			return errLater
		}
		return nil
	})
	if err == nil && size == 0 {
		err = errors.New("ffmpeg made nothing of it")
	}
	if err == nil {
		err = file.Sync()
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// grown looks how much of a file that grows is whole: the number of the next piece, and the bytes up to
// it.
func grown(f *os.File) (next int, size int64, err error) {
	st, err := f.Stat()
	if err != nil {
		return 0, 0, err
	}
	number := 0
	begun := false
	_ = isobmff.Top(f, st.Size(), func(b isobmff.Box) (bool, error) { // the last box may be cut off
		if b.End > st.Size() {
			return true, nil
		}
		switch b.Kind {
		case "moov":
			begun, size = true, b.End
		case "moof":
			head := make([]byte, min(64, b.End-b.Start))
			if _, err := f.ReadAt(head, b.Start); err != nil {
				return true, err
			}
			// Its first box is mfhd: version and flags, then the number.
			if i := bytes.Index(head, []byte("mfhd")); i >= 0 && len(head) >= i+12 {
				number = int(binary.BigEndian.Uint32(head[i+8:]))
			}
		case "mdat":
			next, size = number, b.End
		}
		return false, nil
	})
	if !begun {
		return 0, 0, nil
	}
	return next, size, nil
}

// FileState tells states of files apart.
func FileState(f store.File) string {
	return fmt.Sprintf("%d-%d-%d", f.ID, f.Size, f.Modified.UnixNano())
}

// Span gives from when to when a film goes, as it is made anew.
func (s *Server) Span(ctx context.Context, f store.File) (start, end float64, err error) {
	film, err := s.Film(ctx, f)
	var unfit *repack.Unfit
	if err != nil && !errors.As(err, &unfit) {
		return 0, 0, err
	}
	if err == nil {
		return float64(film.Starts[0]) / 1e9, float64(film.Starts[film.Pieces()]) / 1e9, nil
	}
	c := s.Converter.Load()
	if c == nil {
		return 0, 0, ffmpeg.ErrMissing
	}
	start, length, err := c.Begins(ctx, FileState(f),
		func() (*os.File, error) { return s.Find(f) })
	if err != nil {
		return 0, 0, err
	}
	if end = start + length; length <= 0 {
		end = start + f.Duration
	}
	if end <= start {
		return 0, 0, errors.New("it does not tell how long it is")
	}
	return start, end, nil
}

// PreparedFor gives a copy of a file that a device plays as it is, the largest within bounds.
func (s *Server) PreparedFor(ctx context.Context, f store.File, d delivery.Device, b delivery.Bounds) (store.Prepared,
	delivery.Plan, bool) {
	list, err := s.Store.PreparedOf(ctx, f.ID)
	if err != nil {
		return store.Prepared{}, delivery.Plan{}, false
	}
	for _, p := range list {
		if p.State != store.PreparedReady || p.FileSize != f.Size || p.FileMtime != f.Modified.UnixNano() {
			continue
		}
		plan := delivery.Decide(delivery.File{Media: p.Media, Size: p.Bytes}, d, b, delivery.Wish{}, delivery.Machine{})
		if plan.As == delivery.AsItIs {
			return p, plan, true
		}
	}
	return store.Prepared{}, delivery.Plan{}, false
}
