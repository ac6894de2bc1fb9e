package delivery_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"cozyshelf/internal/core/delivery"
	"cozyshelf/internal/core/media"
)

// devices of the table.
var devices = map[string]delivery.Device{
	"unknown":    delivery.Unknown(),
	"television": delivery.Television(),
	"player":     delivery.PlainPlayer(),
	"page": {Containers: []string{"mp4", "webm"}, Video: []string{"avc1.640033", "vp09.00.51.08", "av01.0.13M.10",
		"vp8"}, Audio: []string{"mp4a.40.2", "mp4a.40.5", "opus", "vorbis", "flac", "mp3"}, MaxChannels: 2},
	"tablet": {Containers: []string{"mp4"}, Video: []string{"avc1.640034", "hvc1.2.4.L153.B0"},
		Audio: []string{"mp4a.40.2", "ac-3", "ec-3", "alac", "flac", "opus"}, MaxChannels: 6, HDR: true},
	"phone": {Containers: []string{"mp4"}, Video: []string{"avc1.42E01E"}, Audio: []string{"mp4a.40.2"}, MaxHeight: 480,
		MaxChannels: 2},
	"webm": {Containers: []string{"webm"}, Video: []string{"vp09.00.41.08", "vp8"}, Audio: []string{"opus", "vorbis"},
		MaxChannels: 2},
}

// machines of the table.
var machines = map[string]delivery.Machine{
	"none":     {},
	"never":    {Never: true, Sound: true, Ways: []delivery.Way{software(1e12)}},
	"software": {Sound: true, Ways: []delivery.Way{software(1e12)}},
	"both": {Sound: true, Ways: []delivery.Way{software(1e12), {Name: "vaapi", Hardware: true, Codec: "h264",
		Room: 1e12}}},
	"busy":  {Sound: true, Ways: []delivery.Way{software(0)}},
	"small": {Sound: true, Ways: []delivery.Way{software(852 * 480 * 25)}},
}

func software(room float64) delivery.Way {
	return delivery.Way{Name: "software", Codec: "h264", Room: room}
}

// TestDecideTable holds decisions against a table that was written from what devices play, not from
// the code.
func TestDecideTable(t *testing.T) {
	b, err := os.ReadFile("testdata/rows.tsv")
	if err != nil {
		t.Fatal(err)
	}
	rows, wrong := 0, 0
	for line := range strings.Lines(string(b)) {
		c := strings.Split(strings.TrimRight(line, "\n"), "\t")
		if strings.HasPrefix(line, "#") || len(c) != 11 {
			continue
		}
		rows++
		lines, _ := strconv.Atoi(c[5])
		rate, _ := strconv.ParseInt(c[6], 10, 64)
		p := delivery.Decide(fileOf(c[1], c[2], c[3]), devices[c[0]],
			delivery.Bounds{Height: lines, Bitrate: rate * 1000}, delivery.Wish{}, machines[c[4]])
		picture, sound := pictureOf(p), soundOf(p)
		if p.As == delivery.Refused {
			picture, sound = "-", "-"
		}
		if got, want := fmt.Sprint(p.As, picture, sound, codesOf(p)), fmt.Sprint(c[7], c[8], c[9], c[10]); got != want {
			if wrong++; wrong < 20 {
				t.Errorf("%s\n got  %s | %s | %s | %s\n want %s", strings.Join(c[:7], " | "), p.As, picture, sound,
					codesOf(p), strings.Join(c[7:], " | "))
			}
		}
	}
	if rows < 400 || wrong > 0 {
		t.Errorf("%d of %d rows are wrong", wrong, rows)
	}
}

func fileOf(container, picture, sound string) delivery.File {
	f := delivery.File{Media: media.Info{Container: container, Duration: 600}, Size: 600 * 1_000_000}
	if p := strings.Fields(picture); len(p) > 1 {
		t := media.Track{Kind: media.Video, Codec: p[0], FrameRate: 25}
		if p[1] != "-" {
			t.RFC6381 = p[1]
		}
		fmt.Sscanf(p[2], "%dx%d", &t.Width, &t.Height)
		t.BitDepth, _ = strconv.Atoi(p[3])
		if len(p) > 4 {
			if strings.Contains(p[4], ":") {
				t.PixelShape = p[4]
			} else {
				t.HDR = p[4]
			}
		}
		f.Media.Tracks = append(f.Media.Tracks, t)
	}
	if s := strings.Fields(sound); len(s) > 1 {
		n, _ := strconv.Atoi(s[2])
		f.Media.Tracks = append(f.Media.Tracks, media.Track{Kind: media.Audio, Codec: s[0], RFC6381: s[1], Channels: n})
	}
	return f
}

func pictureOf(p delivery.Plan) string {
	if p.Picture.Do != delivery.Make {
		return string(p.Picture.Do)
	}
	return fmt.Sprintf("%s %d %s", p.Picture.Do, p.Picture.Height, p.Picture.Way)
}

func soundOf(p delivery.Plan) string {
	if p.Sound.Do != delivery.Make {
		return string(p.Sound.Do)
	}
	return fmt.Sprintf("%s %s %d", p.Sound.Do, p.Sound.Codec, p.Sound.Channels)
}

func codesOf(p delivery.Plan) string {
	var out []string
	for _, r := range p.Reasons {
		if !slices.Contains(out, string(r.Code)) {
			out = append(out, string(r.Code))
		}
	}
	slices.Sort(out)
	return strings.Join(out, ",")
}

// Pools from which random files and devices are drawn.
var (
	pictures = []string{"h264 avc1.640028 1920x1080 8", "h264 avc1.640033 3840x2160 8", "h264 avc1.6E0028 1920x1080 10",
		"h264 avc1.42C00D 320x240 8", "hevc hvc1.1.6.L120.90 1920x1080 8", "hevc hvc1.2.4.H153.B0 3840x1608 10 pq",
		"hevc hvc1.4.10.L120.B8.8 1920x1080 8", "av1 av01.0.08M.10 1920x1080 10 hlg", "vp9 vp9 1280x720 0",
		"vp9 vp09.02.40.10 1920x1080 10", "mpeg4 - 720x576 0 64:45", "mpeg2video - 720x480 0 32:27", "vp8 vp8 640x480 0",
		"prores - 1080x1920 10", "h264 - 1280x720 0", "-"}
	sounds = []string{"aac mp4a.40.2 2", "aac mp4a.40.29 2", "ac3 ac-3 6", "eac3 ec-3 8", "dts dtsc 6", "opus opus 2",
		"vorbis vorbis 2", "flac flac 1", "mp3 mp4a.6B 2", "alac alac 2", "pcm_s16le - 2", "truehd - 8", "-"}
	videoNames = []string{"avc1.640028", "avc1.42E01E", "avc1.640034", "avc1.6E0033", "hvc1.1.6.L93.90",
		"hvc1.2.4.L153.B0", "hvc1.2.4.H153.B0", "av01.0.08M.08", "av01.0.13M.10", "vp09.00.41.08", "vp09.02.51.10", "vp8",
		"mpeg2video", "mp4v.20.9", "nonsense", "avc1", "avc1.xyz", "hvc1..", "av01", "vp09.", ""}
	audioNames = []string{"mp4a.40.2", "mp4a.40.5", "mp4a.40.29", "ac-3", "ec-3", "opus", "flac", "mp3", "mp4a.69",
		"vorbis", "alac", "mp4a", "mp4a.", "dts", ""}
	containers = []string{"mp4", "matroska", "webm", "avi", "mpegts", "ogg", ""}
)

func some(r *rand.Rand, from []string) (out []string) {
	for _, s := range from {
		if r.IntN(4) == 0 {
			out = append(out, s)
		}
	}
	return out
}

// TestDecideAlways holds decisions about files and devices that nobody thought of against the rules.
func TestDecideAlways(t *testing.T) {
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 1))
	counted := map[delivery.As]int{}
	for range 60_000 {
		f := fileOf(containers[r.IntN(len(containers))], pictures[r.IntN(len(pictures))], sounds[r.IntN(len(sounds))])
		d := delivery.Device{Containers: some(r, containers), Video: some(r, videoNames), Audio: some(r, audioNames),
			MaxHeight: []int{0, 0, 240, 720, 1080}[r.IntN(5)], MaxChannels: []int{0, 1, 2, 6}[r.IntN(4)],
			HDR: r.IntN(2) == 0}
		b := delivery.Bounds{Height: []int{0, 0, 480, 1080}[r.IntN(4)], Bitrate: []int64{0, 0, 1e5, 2e6, 2e7}[r.IntN(5)]}
		var m delivery.Machine
		if r.IntN(4) > 0 {
			m.Sound = true
			for _, w := range []delivery.Way{software(0), {Name: "vaapi", Hardware: true, Codec: "h264"},
				{Name: "vaapi", Hardware: true, Codec: "hevc"}, {Name: "nvenc", Hardware: true, Codec: "av1"}} {
				if r.IntN(2) == 0 {
					w.Room = r.Float64() * 1e8
					m.Ways = append(m.Ways, w)
				}
			}
			m.Never = r.IntN(8) == 0
		}
		p := delivery.Decide(f, d, b, delivery.Wish{}, m)
		counted[p.As]++
		for _, broken := range rulesBroken(f, d, b, m, p) {
			t.Errorf("seed %d: %s\nfile %+v\ndevice %+v\nbounds %+v\nmachine %+v\nplan %+v", seed, broken, f, d, b, m, p)
		}
		if t.Failed() {
			return
		}
	}
	for _, as := range []delivery.As{delivery.AsItIs, delivery.Repacked, delivery.Converted, delivery.Refused} {
		if counted[as] < 50 {
			t.Errorf("only %d of the random ones are %s", counted[as], as)
		}
	}
}

// rulesBroken looks at a plan from outside, by asking again about what would be sent.
func rulesBroken(f delivery.File, d delivery.Device, b delivery.Bounds, m delivery.Machine,
	p delivery.Plan) (broken []string) {
	say := func(text string) { broken = append(broken, text) }
	if p.As == delivery.Refused {
		if len(p.Reasons) == 0 {
			say("refused without a reason")
		}
		return broken
	}
	// What arrives, as a file of its own: the device must take it as it is, with no machine to help.
	arrives := delivery.File{Media: media.Info{Container: f.Media.Container, Duration: f.Media.Duration}}
	if p.As != delivery.AsItIs {
		arrives.Media.Container = "mp4"
	}
	if p.Picture.Do != delivery.None {
		t := f.Media.First(media.Video)
		if p.Picture.Do == delivery.Make {
			t = media.Track{Kind: media.Video, Codec: p.Picture.Codec, RFC6381: p.Picture.Name, BitDepth: 8,
				Width: p.Picture.Width, Height: p.Picture.Height, FrameRate: t.FrameRate}
		}
		arrives.Media.Tracks = append(arrives.Media.Tracks, t)
	}
	if p.Sound.Do != delivery.None {
		t := f.Media.First(media.Audio)
		if p.Sound.Do == delivery.Make {
			t = media.Track{Kind: media.Audio, Codec: p.Sound.Codec, RFC6381: p.Sound.Name, Channels: p.Sound.Channels}
		}
		arrives.Media.Tracks = append(arrives.Media.Tracks, t)
	}
	again := delivery.Decide(arrives, d, delivery.Bounds{Height: b.Height}, delivery.Wish{}, delivery.Machine{})
	if again.As != delivery.AsItIs {
		say("the device does not take what is sent: " + codesOf(again))
	}
	plain := delivery.Decide(f, d, b, delivery.Wish{}, delivery.Machine{})
	if plain.As == delivery.AsItIs && p.As != delivery.AsItIs && codesOf(plain) == "" {
		say("something is done to what plays as it is")
	}
	taken := slices.Contains([]string{"mp4", "matroska", "webm"}, f.Media.Container)
	if p.As != delivery.AsItIs && !taken && (p.Picture.Do == delivery.Copy || p.Sound.Do == delivery.Copy) {
		say("a track is taken out of a container that is not read")
	}
	if p.As == delivery.Converted && m.Never {
		say("converted where the household converts nothing")
	}
	if p.Picture.Do == delivery.Make {
		if len(p.Reasons) == 0 {
			say("a picture is made without a reason")
		}
		w, h := p.Picture.Width, p.Picture.Height
		if w%2+h%2 != 0 || w*h == 0 {
			say("a picture with an odd size")
		}
		room := 0.0
		for _, way := range m.Ways {
			if way.Name == p.Picture.Way && way.Codec == p.Picture.Codec {
				room = max(room, way.Room)
			}
		}
		cost := float64(w*h) * 25
		if cost > 40e6 {
			cost *= 0.6 // of many pixels each costs less
		}
		if cost > room {
			say("more is made than there is room for")
		}
	}
	if b.Bitrate > 0 && p.Picture.Do == delivery.Make && p.Picture.Bitrate >= b.Bitrate {
		say("more bits than the member may have")
	}
	if p.Picture.Do == delivery.Copy && b.Bitrate > 0 && f.Size*8/600 > b.Bitrate {
		say("a file of more bits than the member may have is copied")
	}
	return broken
}

func TestWishes(t *testing.T) {
	f := fileOf("mp4", "h264 avc1.640028 1920x1080 8", "aac mp4a.40.2 2")
	f.Media.Tracks = append(f.Media.Tracks,
		media.Track{Kind: media.Audio, Codec: "aac", RFC6381: "mp4a.40.2", Channels: 2},
		media.Track{Kind: media.Subtitle, Codec: "subrip", Language: "nl"},
		media.Track{Kind: media.Subtitle, Codec: "hdmv_pgs_subtitle"})
	decide := func(w delivery.Wish) delivery.Plan {
		return delivery.Decide(f, delivery.Unknown(), delivery.Bounds{}, w, machines["software"])
	}
	if p := decide(delivery.Wish{Sound: 3}); p.As != delivery.Repacked || p.Sound.Track != 3 {
		t.Errorf("another sound gives %+v", p)
	}
	if p := decide(delivery.Wish{Sound: 1}); p.As != delivery.AsItIs || p.Sound.Track != 2 {
		t.Errorf("a number of no sound gives %+v", p)
	}
	if p := decide(delivery.Wish{Lines: 480}); p.As != delivery.Converted || p.Picture.Height != 480 ||
		p.Picture.Width != 852 {
		t.Errorf("480 lines give %+v", p)
	}
	p := decide(delivery.Wish{Burn: 5})
	for _, c := range []struct {
		ladder []int
		wish   int
		height int
	}{{[]int{720, 480}, 0, 720}, {[]int{480, 2160}, 0, 1080}, {[]int{480}, 1000, 480}, {[]int{480, 240}, 300, 300},
		{[]int{1080}, 300, 300}, {nil, 500, 500}} {
		m := delivery.Machine{Sound: true, Ladder: c.ladder, Ways: []delivery.Way{software(1e12)}}
		hevc := fileOf("matroska", "hevc hvc1.1.6.L120.90 1920x1080 8", "aac mp4a.40.2 2")
		p := delivery.Decide(hevc, delivery.Unknown(), delivery.Bounds{}, delivery.Wish{Lines: c.wish}, m)
		if p.Picture.Height != c.height {
			t.Errorf("a ladder of %v and a wish for %d lines give %+v", c.ladder, c.wish, p.Picture)
		}
	}
	night := delivery.Decide(f, delivery.Unknown(), delivery.Bounds{}, delivery.Wish{Night: true}, machines["software"])
	if night.Sound.Do != delivery.Make || !night.Sound.Level || night.Picture.Do == delivery.Make {
		t.Errorf("at night: %+v", night)
	}
	for _, m := range []string{"never", "none"} {
		quiet := delivery.Decide(f, delivery.Unknown(), delivery.Bounds{}, delivery.Wish{Night: true}, machines[m])
		if quiet.Sound.Do == delivery.Make {
			t.Errorf("at night, on a machine that makes no sound: %+v", quiet)
		}
	}
	if p.As != delivery.Converted || p.Subtitles[1].Do != delivery.Drawn || p.Subtitles[0].Do != delivery.Apart {
		t.Errorf("drawn subtitles give %+v", p)
	}
	if p := decide(delivery.Wish{}); p.Subtitles[1].Do != delivery.None || p.As != delivery.AsItIs {
		t.Errorf("subtitles that are pictures give %+v", p)
	}
}

func TestFit(t *testing.T) {
	for _, c := range []struct {
		track media.Track
		most  int
		w, h  int
	}{
		{media.Track{Width: 1920, Height: 1080}, 720, 1280, 720},
		{media.Track{Width: 1920, Height: 800}, 1080, 1920, 800},
		{media.Track{Width: 1920, Height: 800}, 720, 1280, 532},
		{media.Track{Width: 3840, Height: 2160, Rotation: 90}, 1080, 1080, 1920},
		{media.Track{Width: 720, Height: 576, PixelShape: "64:45"}, 1080, 1024, 576},
		{media.Track{Width: 720, Height: 576, PixelShape: "64:45"}, 480, 852, 480},
		{media.Track{Width: 641, Height: 481}, 0, 640, 480},
		{media.Track{}, 480, 2, 2},
	} {
		if w, h := delivery.Fit(c.track, c.most); w != c.w || h != c.h {
			t.Errorf("%dx%d within %d is %dx%d, should be %dx%d", c.track.Width, c.track.Height, c.most, w, h, c.w, c.h)
		}
	}
}

// A film whose sound an unknown device does not play.
func ExampleDecide() {
	f := delivery.File{Size: 900e6, Media: media.Info{Container: "matroska", Duration: 3600, Tracks: []media.Track{
		{Kind: media.Video, Codec: "h264", RFC6381: "avc1.640028", Width: 1920, Height: 1080},
		{Kind: media.Audio, Codec: "ac3", RFC6381: "ac-3", Channels: 6},
	}}}
	p := delivery.Decide(f, delivery.Unknown(), delivery.Bounds{}, delivery.Wish{}, delivery.Machine{Sound: true})
	fmt.Println(p.As, p.Picture.Do, p.Sound.Do, p.Sound.Codec)
	for _, r := range p.Reasons {
		fmt.Println(r.Text)
	}
	// Output:
	// converted copied converted aac
	// the sound is AC-3, which this device does not play
	// the picture goes as it is
}

func BenchmarkDecide(b *testing.B) {
	f := fileOf("matroska", "hevc hvc1.2.4.L153.B0 3840x2160 10 pq", "ac3 ac-3 6")
	for b.Loop() {
		delivery.Decide(f, devices["page"], delivery.Bounds{}, delivery.Wish{}, machines["both"])
	}
}
