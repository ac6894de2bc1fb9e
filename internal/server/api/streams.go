package api

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/convert"
	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/delivery"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/repack"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// Names below the address of a stream: the multivariant playlist, and for each rendition its
// playlist, its initialization segment and its segments.
const (
	mainList  = "main.m3u8"
	list      = ".m3u8"
	listType  = "application/vnd.apple.mpegurl"
	videoType = "video/mp4"
	soundType = "audio/mp4"
	textType  = "text/vtt; charset=utf-8"
)

// stream answers for what lies below the address of a stream.
func (s *API) stream(w http.ResponseWriter, r *http.Request) {
	t, err := s.admitted(r)
	if err != nil {
		live.Fail(w, err)
		return
	}
	title, f, err := s.Seen(r, t.File)
	if err == nil {
		err = s.MayWatch(r, f.ID) // before anything is made for it
	}
	if err != nil {
		live.Fail(w, err)
		return
	}
	c := &sending{API: s, w: w, r: r, ticket: t, title: title, file: f}
	if err := c.answer(r.PathValue("name")); err != nil {
		live.Fail(w, err)
	}
}

// admitted reads the ticket of a request, and lets its device in as if it had signed in: the seal
// stands for the token.
func (s *API) admitted(r *http.Request) (*ticket, error) {
	text, ok := s.Known.Signed(ticketFor, r.PathValue("ticket"))
	t := &ticket{}
	if !ok || json.Unmarshal([]byte(text), t) != nil || t.Until < time.Now().Unix() {
		return nil, live.Nothing(r)
	}
	return t, s.IdentifyDevice(r, t.Device)
}

// sending is one request for a part of a stream.
type sending struct {
	*API
	w      http.ResponseWriter
	r      *http.Request
	ticket *ticket
	title  store.Title
	file   store.File
}

// answer answers for a name.
func (c *sending) answer(name string) error {
	if c.ticket.As == string(delivery.AsItIs) {
		viewer := live.VisitorOf(c.r).Viewer()
		viewer.Delivery = c.ticket.As
		if c.ticket.Prepared != 0 && !strings.HasSuffix(name, ".vtt") {
			viewer.Why = c.ticket.Why
			c.preparedCopy(c.w, c.r, c.title, c.file, c.ticket.Prepared, viewer)
			return nil
		}
		if !strings.HasSuffix(name, ".vtt") {
			c.whole(c.w, c.r, c.title, c.file, viewer)
			return nil
		}
	}
	film, err := c.Film(c.r.Context(), c.file)
	var unfit *repack.Unfit
	if err != nil && (!errors.As(err, &unfit) || c.ticket.End == 0) {
		return c.unread(c.file, err)
	}
	if name == mainList {
		return c.send(listType, []byte(c.multivariant(film)))
	}
	stem, ending := strings.TrimSuffix(name, path.Ext(name)), path.Ext(name)
	stem, number, isPiece := strings.Cut(stem, "-")
	piece := repack.Whole
	if isPiece {
		if piece, err = strconv.Atoi(number); err != nil || piece < 0 {
			return live.Nothing(c.r)
		}
	}
	if len(stem) < 2 {
		return live.Nothing(c.r)
	}
	track, err := strconv.Atoi(stem[1:])
	if err != nil {
		return live.Nothing(c.r)
	}
	switch kind := stem[0]; {
	case kind == 'p' || kind == 's' && !c.hasSound(track):
		r, ok := c.recipe(kind, track)
		if !ok {
			return live.Nothing(c.r)
		}
		return c.made(r, stem, piece, ending, isPiece)
	case film == nil || isPiece && piece >= film.Pieces():
		return live.Nothing(c.r)
	case kind == 'v' && c.ticket.Make == nil && track == c.ticket.Picture, kind == 's' && c.hasSound(track):
		return c.copied(film, track, piece, ending, isPiece)
	case kind == 't' && slices.Contains(c.ticket.Subtitles, track):
		return c.text(film, track, piece, ending, isPiece)
	}
	return live.Nothing(c.r)
}

func (c *sending) hasSound(track int) bool {
	return slices.ContainsFunc(c.ticket.Sounds, func(s sound) bool { return s.Track == track && s.Channels == 0 })
}

func (c *sending) lasts(f *repack.Film) float64 {
	return float64(f.Starts[len(f.Starts)-1]-f.Starts[0]) / 1e9
}

// send sends something small.
func (c *sending) send(kind string, b []byte) error {
	h := c.w.Header()
	h.Set("Content-Type", kind)
	h.Set("Cache-Control", "private, max-age=3600")
	h.Set("Content-Length", strconv.Itoa(len(b)))
	_, _ = c.w.Write(b) // the client has gone, if this fails
	return nil
}

// copied answers for a track that is copied: its playlist, its initialization segment, or a piece.
func (c *sending) copied(film *repack.Film, track, piece int, ending string, isPiece bool) error {
	t := film.Track(track)
	if t == nil || t.Entry == nil {
		return live.Nothing(c.r)
	}
	// A bound may be newer than the address.
	if most := c.Bounds(c.r).Height; most > 0 && min(t.Info.Width, t.Info.Height) > most {
		return live.Nothing(c.r)
	}
	kind, letter := videoType, "v"
	if t.Info.Kind == media.Audio {
		kind, letter = soundType, "s"
	}
	switch {
	case ending == list && !isPiece:
		return c.send(listType, []byte(repack.Playlist(fmt.Sprintf("%s%d.mp4", letter, track), film.Lengths(),
			func(i int) string { return fmt.Sprintf("%s%d-%d.m4s", letter, track, i) })))
	case ending == ".mp4" && !isPiece:
		b, err := film.Init(track)
		if err != nil {
			return err
		}
		return c.send(kind, b)
	case ending != ".m4s" || !isPiece:
		return live.Nothing(c.r)
	}
	file, err := c.Find(c.file)
	if err != nil {
		c.unsent(c.w, c.file, err)
		return nil
	}
	defer file.Close()
	seg, err := film.Segment(file, track, piece)
	if err != nil {
		return c.unread(c.file, err)
	}
	lasts := c.lasts(film)
	if isPiece {
		lasts = film.Lengths()[piece]
	}
	return c.deliver(kind, lasts, seg.Size(), seg)
}

// recipe gives what is to be made for a rendition: a picture of so many lines, or a track of sound.
func (c *sending) recipe(kind byte, number int) (r convert.Recipe, ok bool) {
	r = convert.Recipe{File: live.FileState(c.file), Start: c.ticket.Start, End: c.ticket.End}
	source := func(track int) bool {
		r.Track, r.Source = track, c.source(track)
		return r.Source.Kind != ""
	}
	if kind == 's' {
		for _, s := range c.ticket.Sounds {
			if s.Track == number && s.Channels > 0 && source(number) {
				r.Channels, r.Level, r.Gain = s.Channels, s.Level, s.Gain
				return r, true
			}
		}
		return r, false
	}
	if c.ticket.Make == nil || !source(c.ticket.Picture) {
		return r, false
	}
	for _, s := range c.ticket.Make.Sizes {
		if most := c.Bounds(c.r).Height; s.Height == number && (most == 0 || min(s.Width, s.Height) <= most) {
			r.Width, r.Height, r.Bitrate = s.Width, s.Height, s.Bitrate
			r.ToneMap, r.Burn = c.ticket.Make.ToneMap, c.ticket.Make.Burn
			r.BurnText = c.ticket.Make.Text
			r.Way, r.Codec = c.ticket.Make.Way, c.ticket.Make.Codec
			return r, true
		}
	}
	return r, false
}

// source gives a track of the file as it is now.
func (c *sending) source(track int) media.Track {
	if track < 1 || track > len(c.file.Media.Tracks) {
		return media.Track{}
	}
	return c.file.Media.Tracks[track-1]
}

// made answers for a track that is made anew.
func (c *sending) made(r convert.Recipe, stem string, piece int, ending string, isPiece bool) error {
	kind := videoType
	if r.Height == 0 {
		kind = soundType
	}
	conv := c.Converter.Load()
	viewer := fmt.Sprint(c.ticket.Device)
	lengths := r.Lengths()
	switch {
	case conv == nil:
		return c.unmade(errors.New("the server has no ffmpeg to convert with"))
	case ending == list && !isPiece:
		return c.send(listType, []byte(repack.Playlist(stem+".mp4", lengths,
			func(i int) string { return fmt.Sprintf("%s-%d.m4s", stem, i) })))
	case ending == ".mp4" && !isPiece:
		b, err := conv.Init(c.r.Context(), r, viewer, c.opener(c.file))
		if err != nil {
			return c.unmade(err)
		}
		return c.send(kind, b)
	case ending != ".m4s" || !isPiece || piece >= len(lengths):
		return live.Nothing(c.r)
	}
	b, err := conv.Piece(c.r.Context(), r, piece, viewer, c.opener(c.file))
	if errors.Is(err, io.EOF) {
		return live.Nothing(c.r) // the film is shorter than its header says
	}
	if err != nil {
		return c.unmade(err)
	}
	return c.deliver(kind, lengths[piece], int64(len(b)), bytes.NewReader(b))
}

// unmade answers for what could not be made.
func (c *sending) unmade(err error) error {
	if c.r.Context().Err() != nil {
		return err // nobody waits any more
	}
	if !errors.Is(err, convert.ErrBusy) {
		c.Log.Error("a film cannot be converted", "shelf", c.file.Shelf, "file", c.file.Path, "why", err)
	}
	return &live.StatusError{Problem: &problem.Problem{What: "the film cannot be converted now", Where: c.file.Path,
		Why: convert.Reason(err), Fix: "try again, or choose a device that plays it as it is"},
		Status: http.StatusServiceUnavailable, Wait: 5 * time.Second}
}

// deliver sends a segment that lasts so many seconds, and keeps account of it.
func (c *sending) deliver(kind string, lasts float64, size int64, from io.WriterTo) error {
	end, err := c.Cuts.Begin(c.w, live.VisitorOf(c.r))
	if err != nil {
		return err
	}
	defer end()
	viewer := live.VisitorOf(c.r).Viewer()
	viewer.Delivery, viewer.Why = c.ticket.As, c.ticket.Why
	count, err := c.sending(c.r, viewer, c.title, c.file)
	if err != nil {
		return err
	}
	h := c.w.Header()
	h.Set("Content-Type", kind)
	h.Set("Cache-Control", "private, max-age=3600")
	h.Set("Content-Length", strconv.FormatInt(size, 10))
	if c.r.Method == http.MethodHead {
		return nil
	}
	// Of picture and sound only one counts.
	if kind == videoType || c.ticket.Picture == 0 {
		c.Charge(viewer.Member, allowance.Meter{Fetched: seconds(lasts)})
	}
	n, err := from.WriteTo(c.w)
	count(n)
	if err != nil && c.r.Context().Err() == nil && n == 0 {
		c.Log.Warn("a segment could not be sent", "file", c.file.Path, "why", err)
	}
	return nil
}

// text answers for subtitles that are in the film.
func (c *sending) text(film *repack.Film, track, piece int, ending string, isPiece bool) error {
	switch {
	case ending == list && !isPiece:
		return c.send(listType, []byte(repack.Playlist("", film.Lengths(), func(i int) string {
			return fmt.Sprintf("t%d-%d.vtt", track, i)
		})))
	case ending != ".vtt":
		return live.Nothing(c.r)
	}
	file, err := c.Find(c.file)
	if err != nil {
		c.unsent(c.w, c.file, err)
		return nil
	}
	defer file.Close()
	end, err := c.Cuts.Begin(c.w, live.VisitorOf(c.r))
	if err != nil {
		return err
	}
	defer end()
	b, err := film.Text(file, track, piece)
	if err != nil {
		return c.unread(c.file, err)
	}
	return c.send(textType, b)
}

// multivariant writes the playlist that names all renditions.
func (c *sending) multivariant(film *repack.Film) string {
	var pictures, sounds, texts []repack.Rendition
	if c.ticket.Make != nil {
		rate := c.source(c.ticket.Picture).FrameRate
		for _, s := range c.ticket.Make.Sizes {
			pictures = append(pictures, repack.Rendition{Address: fmt.Sprintf("p%d%s", s.Height, list), Codec: s.Name,
				Peak: s.Bitrate * 3 / 2, Average: s.Bitrate, Width: s.Width, Height: s.Height, Rate: rate, Range: "SDR"})
		}
	} else if t := trackOf(film, c.ticket.Picture); t != nil {
		w, h := delivery.Fit(t.Info, 0)
		pictures = append(pictures, repack.Rendition{Address: fmt.Sprintf("v%d%s", t.Number, list), Codec: t.Info.RFC6381,
			Peak: t.Peak, Average: c.average(film, t), Width: w, Height: h, Rate: t.Info.FrameRate,
			Range: strings.ToUpper(cmp.Or(t.Info.HDR, "SDR"))})
	}
	for i, s := range c.ticket.Sounds {
		if s.Channels > 0 {
			source := c.source(s.Track)
			sounds = append(sounds, repack.Rendition{Address: fmt.Sprintf("s%d%s", s.Track, list), Codec: "mp4a.40.2",
				Language: source.Language, Name: c.named(source, "Sound", i), Default: i == 0, Channels: s.Channels,
				Peak: 400_000, Average: 160_000})
		} else if t := trackOf(film, s.Track); t != nil {
			sounds = append(sounds, repack.Rendition{Address: fmt.Sprintf("s%d%s", t.Number, list), Codec: t.Info.RFC6381,
				Language: t.Info.Language, Name: c.named(t.Info, "Sound", i), Default: i == 0,
				Channels: max(1, t.Info.Channels), Peak: t.Peak, Average: c.average(film, t)})
		}
	}
	for i, n := range c.ticket.Subtitles {
		if t := trackOf(film, n); t != nil {
			texts = append(texts, repack.Rendition{Address: fmt.Sprintf("t%d%s", n, list), Language: t.Info.Language,
				Name: c.named(t.Info, "Subtitles", i)})
		}
	}
	start := c.ticket.Start
	if film != nil {
		start = float64(film.Starts[0]) / 1e9
	}
	return repack.Multivariant(start, pictures, sounds, texts)
}

// trackOf gives a track of a film, if there is one.
func trackOf(f *repack.Film, number int) *repack.Track {
	if f == nil {
		return nil
	}
	return f.Track(number)
}

// named gives a rendition a name that no other has.
func (c *sending) named(t media.Track, kind string, i int) string {
	return fmt.Sprintf("%s %d%s", kind, i+1, map[bool]string{true: " (" + t.Language + ")"}[t.Language != ""])
}

// average gives the bits a second of a track.
func (c *sending) average(film *repack.Film, t *repack.Track) int64 {
	return int64(float64(t.Bytes) * 8 / max(1, c.lasts(film)))
}
