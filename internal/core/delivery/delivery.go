// Package delivery decides how a file reaches a device: as it is, repacked, or converted.
//
// What goes in is the file with its tracks, what the device plays (Device), what its member may be
// sent (Bounds), and what the machine can convert (Machine). What comes out is a Plan: for the
// picture, the sound and the subtitles each whether they are copied or made anew, with a Reason
// for everything that is not sent as it is.
//
// The rules, in this order:
//
//  1. A device is never given what it does not play. What is not known of a track counts against it.
//  2. Nothing is made anew that need not be, and the picture before all is copied.
//  3. Making anew falls from graphics hardware to software, to a smaller picture, to sending a
//     picture that is only larger than wished for, to a refusal that says what would help.
//
// The package only computes. Package repack puts tracks into another container, and package
// convert makes them anew.
package delivery

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"cozyshelf/internal/core/media"
)

// As is how a file reaches a device.
type As string

// The three deliveries, and their refusal.
const (
	AsItIs    As = "as-it-is"
	Repacked  As = "repacked"
	Converted As = "converted"
	Refused   As = "refused"
)

// File is what is to be delivered.
type File struct {
	Media media.Info
	Size  int64 // in bytes; with the duration it gives the bitrate
	// Closed is that its tracks cannot be taken out as they are: they are sent in the file, or made
	// anew. All files are that package repack does not read.
	Closed bool
}

// closed reports whether tracks cannot be taken out of a file.
func (f File) closed() bool { return f.Closed || !slices.Contains(readHere, f.Media.Container) }

// bitrate is in bits a second, 0 where it is not known.
func (f File) bitrate() int64 {
	if f.Media.Duration <= 0 {
		return 0
	}
	return int64(float64(f.Size) * 8 / f.Media.Duration)
}

// Device is what a device plays. Video and Audio hold names of RFC 6381 with profile and level,
// each of which stands for all that a decoder of it must play, or the common name of a codec
// (hevc, mpeg2video, vorbis) for all of that.
type Device struct {
	Containers  []string // as media.Info names them
	Video       []string
	Audio       []string
	MaxHeight   int // lines of the picture; 0 for any
	MaxChannels int // of sound; 0 for any
	HDR         bool
	Subtitles   []string // forms of text that it shows by itself: webvtt, subrip, ass
}

// Bounds is what a member may be sent, here and now. Zeros bound nothing.
type Bounds struct {
	Height  int   // lines of the picture
	Bitrate int64 // bits a second
}

// Wish is what somebody has chosen; zeros choose nothing. Tracks count from 1, in the file's order.
type Wish struct {
	Sound int  // a track of sound
	Burn  int  // a track of subtitles that is to be drawn into the picture
	Lines int  // lines of the picture, at most
	Night bool // sound whose loud parts are not much louder than its quiet ones
}

// Machine is what may be done besides sending bytes.
type Machine struct {
	Never bool  // the household says that nothing is converted
	Ways  []Way // to make a picture; none where there is no ffmpeg
	// Ladder holds the heights of pictures that are made, in lines; none for those of the package.
	Ladder []int
	Sound  bool // sound can be made anew
}

// Way is one way in which the machine makes a picture.
type Way struct {
	Name     string  // software, or the graphics interface: vaapi, qsv, nvenc, v4l2
	Hardware bool    // by a graphics device
	Codec    string  // what it makes: h264, hevc or av1
	Room     float64 // pixels a second that it can still make
	// What decoding a pixel, and narrowing its range, costs beside making one.
	Decode, ToneMap float64
}

// Do is what is done with a track.
type Do string

// What can be done with a track.
const (
	Copy  Do = "copied"
	Make  Do = "converted"
	None  Do = "none"  // there is no such track
	Drawn Do = "drawn" // subtitles: into the picture
	Apart Do = "apart" // subtitles: sent beside the film as WebVTT
)

// Picture is what becomes of the picture.
type Picture struct {
	Do      Do     `json:"do"`
	Track   int    `json:"track,omitempty"` // in the file, counted from 1
	Codec   string `json:"codec,omitempty"` // as it arrives
	Name    string `json:"rfc6381,omitempty"`
	Width   int    `json:"width,omitempty"` // as it arrives, upright, with square pixels where it is made anew
	Height  int    `json:"height,omitempty"`
	Bitrate int64  `json:"bitrate,omitempty"` // bits a second that are aimed at
	Way     string `json:"way,omitempty"`     // Way.Name
	ToneMap bool   `json:"tone_map,omitempty"`
}

// Sound is what becomes of the sound.
type Sound struct {
	Do       Do     `json:"do"`
	Track    int    `json:"track,omitempty"`
	Codec    string `json:"codec,omitempty"`
	Name     string `json:"rfc6381,omitempty"`
	Channels int    `json:"channels,omitempty"`
	Level    bool   `json:"level,omitempty"` // loud and quiet parts are brought together
}

// Text is what becomes of one track of subtitles.
type Text struct {
	Do       Do     `json:"do"`
	Track    int    `json:"track"`
	Codec    string `json:"codec"`
	Language string `json:"language,omitempty"`
}

// Plan is how a file is delivered.
type Plan struct {
	As        As
	Picture   Picture
	Sound     Sound
	Subtitles []Text
	Reasons   []Reason
}

// Decide makes the plan.
func Decide(f File, d Device, b Bounds, w Wish, m Machine) Plan {
	c := &choice{file: f, device: d, bounds: b, wish: w, machine: m}
	if len(f.Media.Tracks) == 0 {
		c.because(Unreadable, "it is not known what is in the file")
		return c.refused()
	}
	c.subtitles()
	c.sound()
	c.picture()
	if c.plan.As == Refused {
		return c.plan
	}
	if c.file.closed() && c.plan.Picture.Do == Make && c.plan.Sound.Do == Copy {
		c.because(SoundContainer, "its sound cannot be taken out of %s as it is", spokenContainer(f.Media.Container))
		c.makeSound()
	}
	switch copied := c.plan.Picture.Do != Make && c.plan.Sound.Do != Make; {
	case !copied:
		c.plan.As = Converted
		c.opened()
	case c.carried():
		c.plan.As = AsItIs
	default:
		c.plan.As = Repacked
		c.opened()
	}
	return c.plan
}

// choice is a decision being made.
type choice struct {
	file    File
	device  Device
	bounds  Bounds
	wish    Wish
	machine Machine
	plan    Plan
}

func (c *choice) because(code Code, text string, args ...any) {
	c.plan.Reasons = append(c.plan.Reasons, Reason{Code: code, Text: fmt.Sprintf(text, args...)})
}

func (c *choice) refused() Plan {
	c.plan.As = Refused
	return c.plan
}

// track gives a track by its number, or the first of a kind.
func (c *choice) track(number int, kind string) (media.Track, int) {
	if n := number - 1; n >= 0 && n < len(c.file.Media.Tracks) && c.file.Media.Tracks[n].Kind == kind {
		return c.file.Media.Tracks[n], number
	}
	for i, t := range c.file.Media.Tracks {
		if t.Kind == kind && !cover(t) {
			return t, i + 1
		}
	}
	return media.Track{}, 0
}

// cover reports whether a track of pictures is a still one, such as that of an album.
func cover(t media.Track) bool { return t.Kind == media.Video && slices.Contains(stills, t.Codec) }

var stills = []string{"png", "gif", "bmp", "webp"}

// subtitles decides about each track of subtitles.
func (c *choice) subtitles() {
	for i, t := range c.file.Media.Tracks {
		if t.Kind != media.Subtitle {
			continue
		}
		s := Text{Do: None, Track: i + 1, Codec: t.Codec, Language: t.Language}
		switch {
		case c.wish.Burn == i+1:
			s.Do = Drawn
			c.because(SubtitlesDrawn, "the subtitles are drawn into the picture, as was asked for")
		case slices.Contains(Texts, t.Codec):
			s.Do = Apart
		}
		c.plan.Subtitles = append(c.plan.Subtitles, s)
	}
}

// Texts are the forms of subtitles that are text.
var Texts = []string{"subrip", "webvtt", "ass", "mov_text"}

// sound decides about the sound.
func (c *choice) sound() {
	t, n := c.track(c.wish.Sound, media.Audio)
	c.plan.Sound = Sound{Do: None}
	if n == 0 {
		return
	}
	c.plan.Sound = Sound{Do: Copy, Track: n, Codec: t.Codec, Name: t.RFC6381, Channels: t.Channels}
	switch {
	case !c.device.playsSound(t):
		c.because(SoundCodec, "the sound is %s, which this device does not play", spoken(t.Codec))
	case c.device.MaxChannels > 0 && t.Channels > c.device.MaxChannels:
		c.because(SoundChannels, "the sound has %d channels, and this device takes %d", t.Channels,
			c.device.MaxChannels)
	case c.container() == "" && c.file.closed():
		c.because(SoundContainer, "its sound cannot be taken out of %s as it is", spokenContainer(c.file.Media.Container))
	case c.container() == "" && !slices.Contains(packedSound, t.Codec):
		c.because(SoundContainer, "%s cannot be sent to this device in a container that it takes", spoken(t.Codec))
	default:
		_, first := c.track(0, media.Audio)
		switch {
		case n != first && c.file.closed():
			c.because(SoundChosen, "another sound was chosen than the first in the file")
		case c.wish.Night && c.machine.Sound && !c.machine.Never:
			c.because(SoundLevelled, "the sound is evened out for the night, as was asked for")
		default:
			return
		}
	}
	c.makeSound()
}

// makeSound has the sound made anew.
func (c *choice) makeSound() {
	n := c.plan.Sound.Track
	t := c.file.Media.Tracks[n-1]
	codec, name := c.device.soundToMake()
	channels := cmp.Or(t.Channels, 2)
	if most := cmp.Or(c.device.MaxChannels, 6); channels > most {
		channels = most
	}
	if channels > 2 && channels < 6 {
		channels = 2 // between stereo and 5.1 there is nothing that all devices take
	}
	c.plan.Sound = Sound{Do: Make, Track: n, Codec: codec, Name: name, Channels: min(channels, 6), Level: c.wish.Night}
}

// container gives the file's own container, if the device takes it, else "".
func (c *choice) container() string {
	if has(c.device.Containers, c.file.Media.Container) {
		return c.file.Media.Container
	}
	return ""
}

// What package repack puts into CMAF.
var (
	packedPictures = []string{"h264", "hevc", "av1", "vp9"}
	packedSound    = []string{"aac", "ac3", "eac3", "opus", "flac", "mp3", "alac"}
	readHere       = []string{"mp4", "matroska", "webm"}
)

// carried reports whether the file can go as it is, once its tracks are copied.
func (c *choice) carried() bool {
	if c.container() == "" {
		c.because(Container, "this device does not open %s", spokenContainer(c.file.Media.Container))
		return false
	}
	if _, first := c.track(0, media.Audio); c.plan.Sound.Track != first {
		c.because(SoundChosen, "another sound was chosen than the first in the file")
		return false
	}
	return true
}

// opened notes who opens the file to repack it, and refuses where nobody can.
func (c *choice) opened() {
	p := &c.plan
	if !has(c.device.Containers, "mp4") {
		c.because(NoPlaylist, "this device takes nothing but %s, and repacked films are sent in MP4",
			list(c.device.Containers))
		p.As = Refused
		return
	}
	made := p.Picture.Do == Make || p.Sound.Do == Make
	switch {
	case made && c.machine.Never:
		c.because(ConvertingOff, "this household converts nothing; the administrator can write when = \"needed\" "+
			"under [convert]")
		p.As = Refused
	case made && !c.machine.Sound:
		c.because(NoConverter, "the server has no ffmpeg to convert with; the administrator can have it packed")
		p.As = Refused
	case p.Sound.Do == Make && p.Sound.Codec == "":
		c.because(NothingInCommon, "this device plays no sound that the server can make; a device that plays AAC can "+
			"have it")
		p.As = Refused
	case p.Picture.Do == Copy:
		c.because(PictureCopied, "the picture goes as it is")
	}
}

func has(list []string, one string) bool {
	return one != "" && slices.ContainsFunc(list, func(s string) bool { return strings.EqualFold(s, one) })
}
