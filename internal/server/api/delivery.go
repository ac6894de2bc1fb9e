package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/delivery"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/core/repack"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// ticketFor is what the addresses of streams are sealed for, and ticketHolds how long one is good.
const (
	ticketFor   = "stream"
	ticketHolds = 24 * time.Hour
)

// ticket is what the address of a stream tells: which file, for which device, and what becomes of
// its tracks. It is sealed, so that nothing is kept here of a stream before it begins.
type ticket struct {
	File      int64    `json:"f"`
	Device    int64    `json:"d"`
	Until     int64    `json:"e"` // seconds since 1970
	As        string   `json:"a"`
	Why       string   `json:"w,omitempty"`
	Start     float64  `json:"o,omitempty"` // of the film in the file, in seconds, and its end
	End       float64  `json:"z,omitempty"`
	Picture   int      `json:"v,omitempty"` // the track; 0 for none
	Make      *made    `json:"m,omitempty"` // where the picture is made anew
	Sounds    []sound  `json:"s,omitempty"`
	Subtitles []int    `json:"t,omitempty"` // tracks that are sent as text
	Beside    []string `json:"b,omitempty"` // files beside the film
	Prepared  int64    `json:"p,omitempty"` // the copy that is sent instead
}

// made is a picture that is made anew.
type made struct {
	Sizes   []size `json:"l"` // the largest first
	ToneMap bool   `json:"h,omitempty"`
	Burn    int    `json:"u,omitempty"` // the subtitles that are drawn into it
	Text    int    `json:"x,omitempty"` // which of the film's subtitles those are, where they are text
	Way     string `json:"y,omitempty"` // by which it was decided to be made
	Codec   string `json:"c,omitempty"`
}

// size is one that a picture is made in.
type size struct {
	Width   int    `json:"w"`
	Height  int    `json:"h"`
	Bitrate int64  `json:"b"`
	Name    string `json:"n"` // by RFC 6381
}

// sound is a track of sound, and how many channels are made of it; 0 where it is copied.
type sound struct {
	Track    int     `json:"n"`
	Channels int     `json:"c,omitempty"`
	Codec    string  `json:"k,omitempty"`
	Level    bool    `json:"v,omitempty"`
	Gain     float64 `json:"g,omitempty"` // dB
}

// Bounds of what a device may say of itself.
const (
	mostAbilities = 64
	longestName   = 64
)

// device reads what a device says of itself. What is left out means no more than nearly everything
// plays.
func (a *apiAbilities) device() (delivery.Device, error) {
	d, known := delivery.Known(a.Device)
	if !known {
		return d, badAbilities(fmt.Sprintf("%q is none of the sorts of devices that are known: player, television",
			a.Device))
	}
	for _, l := range []struct{ from, to *[]string }{{&a.Containers, &d.Containers}, {&a.Video, &d.Video},
		{&a.Audio, &d.Audio}, {&a.Subtitles, &d.Subtitles}} {
		if *l.from == nil {
			continue
		}
		if len(*l.from) > mostAbilities || slices.ContainsFunc(*l.from,
			func(s string) bool { return len(s) > longestName }) {
			return d, badAbilities(fmt.Sprintf("a list has more than %d names, or a name more than %d letters",
				mostAbilities, longestName))
		}
		*l.to = *l.from
	}
	if a.MaxHeight != nil {
		d.MaxHeight = *a.MaxHeight
	}
	if a.MaxChannels != nil {
		d.MaxChannels = *a.MaxChannels
	}
	if a.HDR != nil {
		d.HDR = *a.HDR
	}
	if d.MaxHeight < 0 || d.MaxChannels < 0 || a.Lines < 0 || a.Sound < 0 || a.Burn < 0 {
		return d, badAbilities("a number is less than 0")
	}
	return d, nil
}

func badAbilities(why string) error {
	return &live.StatusError{Problem: &problem.Problem{What: "what the device plays cannot be taken", Why: why,
		Fix: "see /api/v1/openapi.json"}, Status: http.StatusBadRequest}
}

// delivery decides how a file reaches a device, and gives the address.
func (s *API) delivery(r *http.Request) (any, error) {
	var in apiAbilities
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	_, f, err := s.FileOf(r)
	if err != nil {
		return nil, err
	}
	d, err := in.device()
	if err != nil {
		return nil, err
	}
	if f.Problem != "" || f.Content == string(naming.Picture) {
		return nil, &live.StatusError{Problem: &problem.Problem{What: "the file cannot be played", Where: f.Path,
			Why: cmp.Or(f.Problem, "it is a picture"), Fix: "ask for its content"}, Status: http.StatusConflict}
	}
	if err := s.MayWatch(r, f.ID); err != nil {
		return nil, err
	}
	if f, err = s.Tracked(r.Context(), f); err != nil {
		return nil, s.unread(f, err)
	}
	wish := delivery.Wish{Sound: in.Sound, Burn: in.Burn, Lines: in.Lines, Night: in.Night}
	return s.decide(r, f, d, wish)
}

// decide makes the plan, and a ticket for it. A file whose segments cannot be had from our own code
// is decided about once more.
func (s *API) decide(r *http.Request, f store.File, d delivery.Device, wish delivery.Wish) (any, error) {
	file := delivery.File{Media: f.Media, Size: f.Size}
	machine := s.Machine()
	bounds := s.Bounds(r)
	p := delivery.Decide(file, d, bounds, wish, machine)
	var film *repack.Film
	switch {
	case p.As == delivery.AsItIs && slices.ContainsFunc(p.Subtitles,
		func(t delivery.Text) bool { return t.Do == delivery.Apart }):
		film, _ = s.Film(r.Context(), f) // without its subtitles it plays all the same
	case p.As == delivery.Repacked || p.As == delivery.Converted:
		var err error
		if film, err = s.Film(r.Context(), f); err != nil {
			var unfit *repack.Unfit
			if !errors.As(err, &unfit) {
				return nil, s.unread(f, err)
			}
			// What our own code cannot take apart is made anew.
			film, file.Closed = nil, true
			p = delivery.Decide(file, d, bounds, wish, machine)
		}
	}
	if p.As == delivery.Refused {
		err := refusedDelivery(f, p)
		s.Refused(live.VisitorOf(r).Member, f, err)
		return nil, err
	}
	if p.As == delivery.Converted && wish == (delivery.Wish{}) {
		if copied, plan, ok := s.PreparedFor(r.Context(), f, d, bounds); ok {
			return s.offerPrepared(copied, plan, p, s.ticketOf(r, f, d, p, film))
		}
	}
	t := s.ticketOf(r, f, d, p, film)
	if t.made() {
		if err := s.times(r, f, &t); err != nil {
			return nil, err
		}
	}
	name := "film" + strings.ToLower(path.Ext(f.Path))
	if p.As != delivery.AsItIs {
		name = mainList
	}
	return s.offer(deliveryOf(p), t, name)
}

// offer gives the addresses of what was decided.
func (s *API) offer(out apiDelivery, t ticket, name string) (any, error) {
	b, err := json.Marshal(t)
	if err != nil {
		return nil, err
	}
	base := "/api/v1/streams/" + s.Known.Sign(ticketFor, string(b)) + "/"
	out.URL = base + name
	for i := range out.Subtitles {
		if n := out.Subtitles[i].Track; slices.Contains(t.Subtitles, n) {
			out.Subtitles[i].URL = fmt.Sprintf("%st%d.vtt", base, n)
		}
	}
	return out, nil
}

// offerPrepared gives the address of a copy that was prepared: it is sent as it is. Its subtitles are
// those of the film.
func (s *API) offerPrepared(copied store.Prepared, as, film delivery.Plan, t ticket) (any, error) {
	why := fmt.Sprintf("a copy of %d lines was prepared, which this device plays as it is", copied.Height)
	out := deliveryOf(as)
	out.Subtitles, out.Reasons = deliveryOf(film).Subtitles, []apiReason{{Code: string(delivery.PreparedCopy), Text: why}}
	return s.offer(out, ticket{File: t.File, Device: t.Device, Until: t.Until, Subtitles: t.Subtitles,
		As: string(delivery.AsItIs), Why: why, Prepared: copied.ID}, "film.mp4")
}

// unread answers for a film that could not be looked through.
func (s *API) unread(f store.File, err error) error {
	var st *live.StatusError
	if errors.As(err, &st) {
		return err
	}
	s.Log.Error("a film cannot be looked through", "shelf", f.Shelf, "file", f.Path, "why", err)
	return &live.StatusError{Problem: &problem.Problem{What: "the film cannot be looked through", Where: f.Path,
		Why: err.Error(), Fix: "try again later; if it stays so, the file is damaged or its shelf is unplugged"},
		Status: http.StatusServiceUnavailable, Wait: 10 * time.Second}
}

// refusedDelivery says why a file cannot be played on a device.
func refusedDelivery(f store.File, p delivery.Plan) error {
	var why []string
	for _, r := range p.Reasons {
		why = append(why, r.Text)
	}
	return &live.StatusError{Problem: &problem.Problem{What: "this device cannot be sent the film", Where: f.Path,
		Why: strings.Join(why, "; "), Fix: "play it on a device that plays more, or with a player program"},
		Status: http.StatusConflict}
}

// ticketOf writes down what was decided.
func (s *API) ticketOf(r *http.Request, f store.File, d delivery.Device, p delivery.Plan, film *repack.Film) ticket {
	v := live.VisitorOf(r)
	t := ticket{File: f.ID, Device: v.Device.ID, Until: time.Now().Add(ticketHolds).Unix(), As: string(p.As)}
	for _, reason := range p.Reasons {
		if reason.Code != delivery.PictureCopied {
			t.Why = cmp.Or(t.Why, reason.Text)
		}
	}
	for _, text := range p.Subtitles {
		if text.Do == delivery.Apart && film != nil && film.Track(text.Track) != nil &&
			film.Track(text.Track).Cannot == "" && len(t.Subtitles) < mostSubtitles {
			t.Subtitles = append(t.Subtitles, text.Track)
		}
	}
	if p.As == delivery.AsItIs {
		return t
	}
	t.Picture = p.Picture.Track
	if p.Picture.Do == delivery.Make {
		t.Make = makeOf(f, d, p, s.Machine().Ladder)
	}
	if p.Sound.Track > 0 {
		chosen := sound{Track: p.Sound.Track}
		if p.Sound.Do == delivery.Make {
			chosen.Channels, chosen.Codec = p.Sound.Channels, p.Sound.Codec
			if p.Sound.Level {
				chosen.Level, chosen.Gain = true, s.nightGain(r.Context(), f)
			}
		}
		t.Sounds = append(t.Sounds, chosen)
	}
	t.otherSounds(f, d, film, s.Machine())
	return t
}

// otherSounds adds the sounds that were not chosen: as they are where that can be, else made anew, which
// costs nothing until somebody listens.
func (t *ticket) otherSounds(f store.File, d delivery.Device, film *repack.Film, machine delivery.Machine) {
	made := 0
	for i, track := range f.Media.Tracks {
		n := i + 1
		if track.Kind != media.Audio || len(t.Sounds) >= mostSounds ||
			slices.ContainsFunc(t.Sounds, func(s sound) bool { return s.Track == n }) {
			continue
		}
		// As if it were alone in a file that the device opens.
		alone := delivery.File{Media: media.Info{Container: "mp4", Tracks: []media.Track{track}}}
		switch p := delivery.Decide(alone, d, delivery.Bounds{}, delivery.Wish{}, machine); {
		case p.As == delivery.AsItIs && film != nil && sendable(film, n):
			t.Sounds = append(t.Sounds, sound{Track: n})
		case p.As == delivery.Converted && p.Sound.Do == delivery.Make && made < mostMadeSounds:
			made++
			t.Sounds = append(t.Sounds, sound{Track: n, Channels: p.Sound.Channels, Codec: p.Sound.Codec})
		}
	}
}

// made reports whether anything of it is made anew.
func (t *ticket) made() bool {
	return t.As == string(delivery.Converted) ||
		slices.ContainsFunc(t.Sounds, func(s sound) bool { return s.Channels > 0 })
}

// mostSizes is how many sizes of a picture that is made are offered.
const mostSizes = 3

// makeOf says in which sizes a picture is made: as it was decided, and smaller for a line that carries
// less.
func makeOf(f store.File, d delivery.Device, p delivery.Plan, ladder []int) *made {
	source := f.Media.Tracks[p.Picture.Track-1]
	out := &made{ToneMap: p.Picture.ToneMap, Way: p.Picture.Way, Codec: p.Picture.Codec,
		Sizes: []size{{p.Picture.Width, p.Picture.Height, p.Picture.Bitrate, p.Picture.Name}}}
	for _, t := range p.Subtitles {
		if t.Do == delivery.Drawn {
			out.Burn = t.Track
			out.Text = textNumber(f.Media.Tracks, t.Track)
		}
	}
	if p.Picture.Codec != "h264" {
		return out // another codec is made for a device that wants exactly it
	}
	if len(ladder) == 0 {
		ladder = delivery.Ladder
	}
	for _, lines := range ladder {
		w, h := delivery.Fit(source, lines)
		last := out.Sizes[len(out.Sizes)-1]
		if name := d.H264(w, h, source.FrameRate); name != "" && w*h*3 < last.Width*last.Height*2 &&
			len(out.Sizes) < mostSizes {
			out.Sizes = append(out.Sizes, size{w, h, min(delivery.BitrateFor(w, h, source.FrameRate), last.Bitrate/2), name})
		}
	}
	return out
}

// nightLoudness is how loud a film is made on the whole where its loudness is known (LUFS, EBU R 128), and
// mostGain by how much it is changed for that (dB).
const (
	nightLoudness = -20
	mostGain      = 12
)

// nightGain gives by how much a film is to be made louder, from what quiet hours found out.
func (s *API) nightGain(ctx context.Context, f store.File) float64 {
	_, loud, err := s.Findings(ctx, f.ID)
	if err != nil || loud == nil || loud.Integrated < -70 {
		return 0
	}
	return max(-mostGain, min(mostGain, nightLoudness-loud.Integrated))
}

// textNumber gives which of the subtitles of a file a track is, counted from 1; 0 where it is pictures.
func textNumber(tracks []media.Track, track int) (n int) {
	for i, t := range tracks {
		if t.Kind == media.Subtitle {
			n++
		}
		if i+1 == track {
			if slices.Contains(delivery.Texts, t.Codec) {
				return n
			}
			return 0
		}
	}
	return 0
}

// times notes from when to when a film goes that is made anew.
func (s *API) times(r *http.Request, f store.File, t *ticket) error {
	var err error
	if t.Start, t.End, err = s.Span(r.Context(), f); err != nil {
		return s.unread(f, err)
	}
	return nil
}

// opener opens a file whenever it is needed.
func (s *API) opener(f store.File) func() (*os.File, error) {
	return func() (*os.File, error) { return s.Find(f) }
}

// How many sounds and subtitles are offered of a film.
const (
	mostSounds = 16
	// Some players open all that are offered at once, and each that is made anew is a conversion.
	mostMadeSounds = 3
	mostSubtitles  = 32
)

// sendable reports whether a track can be sent in segments.
func sendable(f *repack.Film, track int) bool {
	t := f.Track(track)
	return t != nil && t.Cannot == "" && t.Entry != nil
}

// deliveryOf turns a plan into a document.
func deliveryOf(p delivery.Plan) apiDelivery {
	out := apiDelivery{As: string(p.As),
		Picture: apiPicture{As: string(p.Picture.Do), Codec: p.Picture.Codec, RFC6381: p.Picture.Name,
			Width: p.Picture.Width, Height: p.Picture.Height, Way: p.Picture.Way},
		Sound: apiSound{As: string(p.Sound.Do), Track: p.Sound.Track, Codec: p.Sound.Codec, RFC6381: p.Sound.Name,
			Channels: p.Sound.Channels},
		Subtitles: []apiText{}, Reasons: []apiReason{}}
	for _, t := range p.Subtitles {
		out.Subtitles = append(out.Subtitles, apiText{As: string(t.Do), Track: t.Track, Codec: t.Codec,
			Language: t.Language})
	}
	for _, r := range p.Reasons {
		out.Reasons = append(out.Reasons, apiReason{Code: string(r.Code), Text: r.Text})
	}
	return out
}
