package repack

import (
	"fmt"
	"math"
	"strings"
)

// Rendition is one choice that a playlist offers: a picture, a sound or subtitles.
type Rendition struct {
	Address  string // of its own playlist, relative to the multivariant one
	Codec    string // by RFC 6381
	Language string // BCP 47 or ISO 639
	Name     string // for people
	Default  bool
	Forced   bool // subtitles: only what is spoken in another language
	Hearing  bool // subtitles: for people who hear badly
	Channels int
	Peak     int64 // bits a second of its largest segment
	Average  int64
	Width    int
	Height   int
	Rate     float64 // pictures a second
	Range    string  // SDR, PQ or HLG
}

// StartID is the name under which a multivariant playlist tells the time, in seconds, with which its
// media begins.
const StartID = "arpa.home.start"

// Multivariant writes the playlist that names the renditions (RFC 8216, 4.3.4), of media that begins
// at a time in seconds. Pictures may be empty, and then the sounds are variants.
func Multivariant(start float64, pictures, sounds, subtitles []Rendition) string {
	var b strings.Builder
	b.WriteString("#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-INDEPENDENT-SEGMENTS\n")
	if start > 0 {
		fmt.Fprintf(&b, "#EXT-X-SESSION-DATA:DATA-ID=\"%s\",VALUE=\"%.3f\"\n", StartID, start)
	}
	var peak, average int64
	var codecs []string
	if len(pictures) > 0 {
		for _, s := range sounds {
			fmt.Fprintf(&b, "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"sound\",%s,CHANNELS=\"%d\",URI=\"%s\"\n", s.named(),
				s.Channels, s.Address)
			peak, average = max(peak, s.Peak), max(average, s.Average)
			codecs = add(codecs, s.Codec)
		}
	}
	for _, s := range subtitles {
		forced := ""
		if s.Forced {
			forced = ",FORCED=YES"
		}
		if s.Hearing {
			forced += `,CHARACTERISTICS="public.accessibility.transcribes-spoken-dialog,` +
				`public.accessibility.describes-music-and-sound"`
		}
		fmt.Fprintf(&b, "#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID=\"text\",%s%s,URI=\"%s\"\n", s.named(), forced, s.Address)
	}
	variants := pictures
	if len(pictures) == 0 {
		variants = sounds
	}
	for _, v := range variants {
		fmt.Fprintf(&b, "#EXT-X-STREAM-INF:BANDWIDTH=%d,AVERAGE-BANDWIDTH=%d,CODECS=\"%s\"", max(1, v.Peak+peak),
			max(1, v.Average+average), strings.Join(append([]string{v.Codec}, codecs...), ","))
		if v.Width > 0 {
			fmt.Fprintf(&b, ",RESOLUTION=%dx%d", v.Width, v.Height)
		}
		if v.Rate > 0 {
			fmt.Fprintf(&b, ",FRAME-RATE=%.3f", v.Rate)
		}
		if v.Range != "" {
			fmt.Fprintf(&b, ",VIDEO-RANGE=%s", v.Range)
		}
		if len(pictures) > 0 && len(sounds) > 0 {
			b.WriteString(`,AUDIO="sound"`)
		}
		if len(subtitles) > 0 {
			b.WriteString(`,SUBTITLES="text"`)
		}
		fmt.Fprintf(&b, "\n%s\n", v.Address)
	}
	return b.String()
}

// named writes what sounds and subtitles have in common.
func (r Rendition) named() string {
	out := `NAME="` + quoted(r.Name) + `"`
	if r.Language != "" {
		out += `,LANGUAGE="` + quoted(r.Language) + `"`
	}
	if r.Default {
		return out + ",DEFAULT=YES,AUTOSELECT=YES"
	}
	return out + ",DEFAULT=NO,AUTOSELECT=YES"
}

// quoted leaves out what a quoted string may not have.
func quoted(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '"' || r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, s)
}

func add(list []string, one string) []string {
	for _, s := range list {
		if s == one {
			return list
		}
	}
	return append(list, one)
}

// Playlist writes the playlist of one rendition: its initialization segment, unless it has none,
// and segments of the given lengths in seconds.
func Playlist(init string, lengths []float64, address func(piece int) string) string {
	target := 1.0
	for _, l := range lengths {
		target = max(target, math.Round(l))
	}
	var b strings.Builder
	fmt.Fprintf(&b, "#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-TARGETDURATION:%.0f\n#EXT-X-PLAYLIST-TYPE:VOD\n"+
		"#EXT-X-MEDIA-SEQUENCE:0\n#EXT-X-INDEPENDENT-SEGMENTS\n", target)
	if init != "" {
		fmt.Fprintf(&b, "#EXT-X-MAP:URI=\"%s\"\n", init)
	}
	for i, l := range lengths {
		fmt.Fprintf(&b, "#EXTINF:%.6f,\n%s\n", l, address(i))
	}
	b.WriteString("#EXT-X-ENDLIST\n")
	return b.String()
}

// Lengths gives how long the pieces last, in seconds.
func (f *Film) Lengths() []float64 {
	out := make([]float64, f.Pieces())
	for i := range out {
		out[i] = f.Length(i)
	}
	return out
}
