package ffmpeg

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"strconv"
	"strings"

	"cozyshelf/internal/core/media"
)

// mostTracks bounds how many tracks of a file are taken.
const mostTracks = 64

// said is what ffprobe writes of a file.
type said struct {
	Format struct {
		Name     string `json:"format_name"`
		Duration string
	}
	Streams []saidStream
}

type saidStream struct {
	Type      string `json:"codec_type"`
	Codec     string `json:"codec_name"`
	Width     int
	Height    int
	Channels  int
	Rate      string `json:"sample_rate"`
	Shape     string `json:"sample_aspect_ratio"`
	FrameRate string `json:"avg_frame_rate"`
	Field     string `json:"field_order"`
	Pixels    string `json:"pix_fmt"`
	Transfer  string `json:"color_transfer"`
	Profile   string
	Tags      struct{ Language string }
	Beside    []struct{ Rotation float64 } `json:"side_data_list"`
	Use       struct {
		Attached int `json:"attached_pic"`
	} `json:"disposition"`
}

// Tracks tells what a file holds that our own readers do not open. Its codecs have no names by RFC
// 6381: nothing is known to play them as they are.
func (t Tools) Tracks(ctx context.Context, f *os.File) (media.Info, error) {
	args := append([]string{"-v", "error"}, input...)
	out, _, err := run(ctx, f, t.FFprobe, append(args, "-show_format", "-show_streams", "-of", "json")...)
	if err != nil {
		return media.Info{}, err
	}
	var s said
	if err := json.Unmarshal(out, &s); err != nil {
		return media.Info{}, fmt.Errorf("what ffprobe says of its tracks cannot be read: %w", err)
	}
	return s.info()
}

// info takes what makes sense of it.
func (s said) info() (media.Info, error) {
	first, _, _ := strings.Cut(s.Format.Name, ",")
	info := media.Info{Container: word(first)}
	if d, err := strconv.ParseFloat(s.Format.Duration, 64); err == nil && d > 0 && d < 1e7 {
		info.Duration = d
	}
	playable := false
	for _, st := range s.Streams[:min(len(s.Streams), mostTracks)] {
		t := st.track()
		info.Tracks = append(info.Tracks, t)
		playable = playable || t.Kind == media.Audio || t.Kind == media.Video
	}
	if !playable {
		return media.Info{}, fmt.Errorf("there is neither picture nor sound in it")
	}
	return info, nil
}

func (st saidStream) track() media.Track {
	t := media.Track{Kind: media.Data, Codec: word(st.Codec), Language: word(st.Tags.Language)}
	switch st.Type {
	case "audio":
		t.Kind, t.Channels = media.Audio, within(st.Channels, 64)
		rate, _ := strconv.Atoi(st.Rate) // 0 where it does not tell
		t.SampleRate = within(rate, 1<<20)
	case "subtitle":
		t.Kind = media.Subtitle
	case "video":
		t.Kind, t.Width, t.Height = media.Video, within(st.Width, 1<<16), within(st.Height, 1<<16)
		if st.Use.Attached != 0 {
			t.Kind = media.Picture
			return t
		}
		t.Profile = word(st.Profile)
		t.FrameRate = rate(st.FrameRate)
		t.Interlaced = st.Field != "" && st.Field != "progressive" && st.Field != "unknown"
		t.BitDepth, t.Chroma = pixels(st.Pixels)
		t.HDR = map[string]string{"smpte2084": "pq", "arib-std-b67": "hlg"}[st.Transfer]
		var w, h int
		if n, _ := fmt.Sscanf(st.Shape, "%d:%d", &w, &h); n == 2 && w > 0 && h > 0 && w != h {
			t.PixelShape = fmt.Sprintf("%d:%d", w, h)
		}
		for _, b := range st.Beside { // counted the other way round
			if r := math.Mod(-b.Rotation+720, 360); r == 90 || r == 180 || r == 270 {
				t.Rotation = int(r)
			}
		}
	}
	return t
}

// rate reads a fraction such as 30000/1001.
func rate(s string) float64 {
	over, under, _ := strings.Cut(s, "/")
	a, _ := strconv.ParseFloat(over, 64)
	b, err := strconv.ParseFloat(under, 64)
	if err != nil {
		b = 1
	}
	if r := a / b; r > 0 && r < 1000 {
		return math.Round(r*1000) / 1000
	}
	return 0
}

// pixels reads a pixel format such as yuv420p10le.
func pixels(s string) (depth int, chroma string) {
	if s == "" {
		return 0, ""
	}
	depth = 8
	for _, d := range []int{9, 10, 12, 14, 16} {
		if strings.Contains(s, fmt.Sprintf("p%d", d)) {
			depth = d
		}
	}
	for sign, c := range map[string]string{"420": "4:2:0", "422": "4:2:2", "444": "4:4:4", "gray": "4:0:0"} {
		if strings.Contains(s, sign) {
			chroma = c
		}
	}
	return depth, chroma
}

// word takes what may stand in a name.
func word(s string) string {
	s = strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' || r == '-' {
			return r
		}
		return -1
	}, s)
	return s[:min(len(s), 32)]
}

func within(n, most int) int {
	if n < 0 || n > most {
		return 0
	}
	return n
}
