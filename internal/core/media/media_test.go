package media

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"cozyshelf/internal/testbuild"
)

const clips = "../../demo/clips"

func open(t testing.TB, path string) (*os.File, int64) {
	t.Helper()
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	st, err := f.Stat()
	if err != nil {
		t.Fatal(err)
	}
	return f, st.Size()
}

func needs(t *testing.T, program string) {
	t.Helper()
	if _, err := exec.LookPath(program); err != nil {
		testbuild.Missing(t, program)
	}
}

// judge asks ffprobe about a file and compares.
func judge(t *testing.T, path string) {
	t.Helper()
	f, size := open(t, path)
	got, err := Read(f, size)
	if err != nil {
		t.Errorf("%s: %v", filepath.Base(path), err)
		return
	}
	out, err := exec.Command("ffprobe", "-v", "error", "-show_format", "-show_streams", "-of", "json", path).Output()
	if err != nil {
		t.Fatal(err)
	}
	var want struct {
		Format  struct{ Duration string }
		Streams []struct {
			CodecName  string `json:"codec_name"`
			CodecType  string `json:"codec_type"`
			Width      int
			Height     int
			Channels   int
			SampleRate string `json:"sample_rate"`
			probed
		}
	}
	if err := json.Unmarshal(out, &want); err != nil {
		t.Fatal(err)
	}
	duration, _ := strconv.ParseFloat(want.Format.Duration, 64)
	if math.Abs(duration-got.Duration) > 0.15 {
		t.Errorf("%s: duration %v, ffprobe says %v", filepath.Base(path), got.Duration, duration)
	}
	if len(got.Tracks) != len(want.Streams) {
		t.Errorf("%s: %d tracks, ffprobe says %d", filepath.Base(path), len(got.Tracks), len(want.Streams))
		return
	}
	for i, w := range want.Streams {
		g := got.Tracks[i]
		if g.Kind != w.CodecType || g.Codec != w.CodecName || g.Width != w.Width || g.Height != w.Height ||
			g.Channels != w.Channels {
			t.Errorf("%s: track %d: got %+v, ffprobe says %+v", filepath.Base(path), i, g, w)
		}
		if w.SampleRate != "" && strconv.Itoa(g.SampleRate) != w.SampleRate {
			t.Errorf("%s: track %d: got %d Hz, ffprobe says %s", filepath.Base(path), i, g.SampleRate, w.SampleRate)
		}
		w.compare(t, filepath.Base(path), got.Container, g)
	}
}

// probed is what ffprobe says of a track's form.
type probed struct {
	Profile   string
	Level     int
	PixFmt    string `json:"pix_fmt"`
	Fields    string `json:"field_order"`
	Rate      string `json:"avg_frame_rate"`
	Shape     string `json:"sample_aspect_ratio"`
	Transfer  string `json:"color_transfer"`
	SideDatas []struct {
		Type     string `json:"side_data_type"`
		Rotation float64
	} `json:"side_data_list"`
}

// compare compares the form of a track with what ffprobe says, as far as each tells.
func (p probed) compare(t *testing.T, name, container string, g Track) {
	t.Helper()
	wrong := func(what string, got, want any) {
		t.Errorf("%s: %s %s: %s is %v, ffprobe says %v", name, g.Kind, g.Codec, what, got, want)
	}
	if container == "avi" || container == "mpeg" || container == "mpegts" || container == "ogg" {
		return // of these only lengths, codecs and sizes are read
	}
	switch {
	case g.Codec == "aac" || g.Codec == "hevc" || g.Codec == "av1" || g.Codec == "h264" ||
		g.Codec == "vp9" && g.Profile != "":
		if g.Profile != p.Profile {
			wrong("profile", g.Profile, p.Profile)
		}
	}
	if g.Kind != Video {
		return
	}
	level := map[string]string{"h264": fmt.Sprintf("%d.%d", p.Level/10, p.Level%10),
		"hevc": fmt.Sprintf("%.1f", float64(p.Level)/30),
		"av1":  fmt.Sprintf("%d.%d", 2+p.Level>>2, p.Level&3)}[g.Codec]
	if level != "" && g.Level != level {
		wrong("level", g.Level, level)
	}
	depth := 8
	for _, d := range []int{10, 12} {
		if strings.Contains(p.PixFmt, fmt.Sprintf("p%dle", d)) || strings.Contains(p.PixFmt, fmt.Sprintf("gray%dle", d)) {
			depth = d
		}
	}
	chroma := ""
	forms := map[string]string{"420": "4:2:0", "422": "4:2:2", "444": "4:4:4", "gbr": "4:4:4", "gray": "4:0:0"}
	for part, form := range forms {
		if strings.Contains(p.PixFmt, part) {
			chroma = form
		}
	}
	if g.BitDepth != 0 && (g.BitDepth != depth || g.Chroma != chroma) {
		wrong("form of pixels", fmt.Sprint(g.BitDepth, g.Chroma), p.PixFmt)
	}
	if g.BitDepth == 0 && g.Codec != "vp8" && g.Codec != "vp9" && g.Codec != "mpeg4" && g.Codec != "mpeg2video" {
		wrong("form of pixels", "not known", p.PixFmt)
	}
	if fields := p.Fields != "" && p.Fields != "progressive" && p.Fields != "unknown"; g.Interlaced != fields {
		wrong("interlaced", g.Interlaced, p.Fields)
	}
	if a, b, ok := strings.Cut(p.Rate, "/"); ok && g.FrameRate != 0 {
		n, _ := strconv.ParseFloat(a, 64)
		d, _ := strconv.ParseFloat(b, 64)
		if d > 0 && math.Abs(n/d-g.FrameRate) > 0.02*n/d {
			wrong("frame rate", g.FrameRate, p.Rate)
		}
	}
	shape := p.Shape
	if shape == "1:1" || shape == "0:1" {
		shape = ""
	}
	if g.PixelShape != shape {
		wrong("shape of pixels", g.PixelShape, p.Shape)
	}
	if want := map[string]string{"smpte2084": PQ, "arib-std-b67": HLG}[p.Transfer]; g.HDR != want {
		wrong("HDR", g.HDR, p.Transfer)
	}
	for _, d := range p.SideDatas {
		if want := (360 - int(d.Rotation)) % 360; d.Type == "Display Matrix" && g.Rotation != want {
			wrong("rotation", g.Rotation, d.Rotation)
		}
	}
}

// TestFormsOfPicturesReadAsFfprobeReadsThem makes pictures of every form that devices differ in.
func TestFormsOfPicturesReadAsFfprobeReadsThem(t *testing.T) {
	needs(t, "ffmpeg")
	needs(t, "ffprobe")
	dir := t.TempDir()
	const hdr = " -color_primaries bt2020 -colorspace bt2020nc -color_trc "
	for name, args := range map[string]string{
		"base":       "-c:v libx264 -profile:v baseline -pix_fmt yuv420p",
		"main":       "-c:v libx264 -profile:v main -pix_fmt yuv420p -level 4.1",
		"high10":     "-c:v libx264 -pix_fmt yuv420p10le",
		"high422":    "-c:v libx264 -pix_fmt yuv422p10le",
		"high444":    "-c:v libx264 -pix_fmt yuv444p",
		"fields":     "-c:v libx264 -pix_fmt yuv420p -flags +ilme+ildct -x264-params tff=1",
		"wide":       "-c:v libx264 -pix_fmt yuv420p -vf setsar=64/45",
		"odd":        "-c:v libx264 -pix_fmt yuv420p -vf setsar=4/3 -r 24000/1001",
		"hevc":       "-c:v libx265 -x265-params log-level=error -pix_fmt yuv420p",
		"main10-pq":  "-c:v libx265 -x265-params log-level=error -pix_fmt yuv420p10le" + hdr + "smpte2084",
		"main10-hlg": "-c:v libx265 -x265-params log-level=error -pix_fmt yuv420p10le" + hdr + "arib-std-b67",
		"rext":       "-c:v libx265 -x265-params log-level=error -pix_fmt yuv422p10le",
		"av1":        "-c:v libaom-av1 -cpu-used 8 -pix_fmt yuv420p",
		"av1-10":     "-c:v libaom-av1 -cpu-used 8 -pix_fmt yuv420p10le" + hdr + "smpte2084",
		"vp9":        "-c:v libvpx-vp9 -deadline realtime -pix_fmt yuv420p",
		"vp9-10":     "-c:v libvpx-vp9 -deadline realtime -pix_fmt yuv420p10le",
	} {
		for _, ext := range []string{".mp4", ".mkv"} {
			p := filepath.Join(dir, name+ext)
			cmd := append(strings.Fields("-nostdin -loglevel error -f lavfi -i testsrc=s=192x144:r=12:d=1 -f lavfi -i "+
				"sine=440:d=1"), append(strings.Fields(args), "-c:a", "aac", p)...)
			if out, err := exec.Command("ffmpeg", cmd...).CombinedOutput(); err != nil {
				t.Fatalf("%s: %v\n%s", name, err, out)
			}
			judge(t, p)
		}
	}
	for _, turn := range []string{"90", "180", "270"} {
		p := filepath.Join(dir, "turned"+turn+".mp4")
		if out, err := exec.Command("ffmpeg", "-nostdin", "-loglevel", "error", "-display_rotation", turn, "-i",
			filepath.Join(dir, "main.mp4"), "-c", "copy", p).CombinedOutput(); err != nil {
			// Older ones take it as a tag.
			if out2, err := exec.Command("ffmpeg", "-nostdin", "-loglevel", "error", "-i", filepath.Join(dir, "main.mp4"),
				"-c", "copy", "-metadata:s:v:0", "rotate="+turn, p).CombinedOutput(); err != nil {
				t.Fatalf("%v\n%s%s", err, out, out2)
			}
		}
		judge(t, p)
	}
}

func TestShippedClipsReadAsFfprobeReadsThem(t *testing.T) {
	needs(t, "ffprobe")
	n := 0
	err := filepath.WalkDir(clips, func(p string, d fs.DirEntry, err error) error {
		if ext := filepath.Ext(p); err == nil && (ext == ".mp4" || ext == ".mkv" || ext == ".webm" || ext == ".m4a") {
			n++
			judge(t, p)
		}
		return err
	})
	if err != nil || n < 15 {
		t.Fatalf("%d clips, %v", n, err)
	}
}

// TestOddFormsReadAsFfprobeReadsThem makes files of the forms that the shipped
// clips do not have: fragments, no duration, index at the end, further codecs.
func TestOddFormsReadAsFfprobeReadsThem(t *testing.T) {
	needs(t, "ffmpeg")
	needs(t, "ffprobe")
	dir := t.TempDir()
	for name, args := range map[string]string{
		"end.mp4":        "-c:v libx264 -c:a aac",
		"fragmented.mp4": "-c:v libx264 -c:a aac -movflags frag_keyframe+empty_moov+default_base_moof -g 12",
		"live.mkv":       "-c:v libx264 -c:a libopus -f matroska -live 1",
		"hevc.mp4":       "-c:v libx265 -x265-params log-level=error -tag:v hvc1 -c:a ac3",
		"mp3.mp4":        "-c:v mpeg4 -c:a libmp3lame -ac 2",
		"vp9.webm":       "-c:v libvpx-vp9 -deadline realtime -c:a libvorbis -ar 48000",
		"flac.mkv":       "-c:v libx264 -c:a flac",
		"opus.mp4":       "-c:v libx264 -c:a libopus",
		"quick.mov":      "-c:v libx264 -c:a aac -movflags +faststart",
	} {
		p := filepath.Join(dir, name)
		cmd := append(strings.Fields("-nostdin -loglevel error -f lavfi -i testsrc=s=176x144:r=12:d=5 -f lavfi -i "+
			"sine=440:d=5"), append(strings.Fields(args), p)...)
		if out, err := exec.Command("ffmpeg", cmd...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
		if name == "live.mkv" {
			// The duration is measured to the start of the last block, which
			// is a frame short of what ffprobe estimates.
			f, size := open(t, p)
			info, err := Read(f, size)
			if err != nil || info.Duration < 4.8 || info.Duration > 5.2 {
				t.Errorf("%s: got %v s, %v, want about 5", name, info.Duration, err)
			}
			continue
		}
		judge(t, p)
	}
}

// TestTagsAreReadAsFfmpegWroteThem has ffmpeg write tags and a cover.
func TestTagsAreReadAsFfmpegWroteThem(t *testing.T) {
	needs(t, "ffmpeg")
	dir := t.TempDir()
	film := func(name, args string) (io.ReaderAt, int64) {
		t.Helper()
		p := filepath.Join(dir, name)
		if out, err := exec.Command("sh", "-c",
			"cd \"$1\" && ffmpeg -nostdin -v error -f lavfi -i testsrc=s=64x48:d=0.3 "+args+" \"$2\"", "sh", dir,
			name).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
		return open(t, p)
	}
	film("cover.png", "-frames:v 1")
	const said = " -metadata title='The Paper Lighthouse' -metadata DIRECTOR='Mirela Vant' -metadata SUMMARY='A " +
		"keeper folds ships.' -metadata GENRE=drama -metadata DATE_RELEASED=2014-05-02"
	f, size := film("film.mkv", "-attach cover.png -metadata:s:t mimetype=image/png"+said)
	got, err := ReadTags(f, size)
	if err != nil || got.Name != "The Paper Lighthouse" || !slices.Equal(got.Director, []string{"Mirela Vant"}) ||
		got.Summary != "A keeper folds ships." || !slices.Equal(got.Genres, []string{"drama"}) || got.Year != 2014 {
		t.Errorf("got %+v, %v", got, err)
	}
	if want, err := os.ReadFile(filepath.Join(dir, "cover.png")); err != nil || !bytes.Equal(got.Cover, want) {
		t.Errorf("the cover has %d bytes, want %d, %v", len(got.Cover), len(want), err)
	}
	f, size = film("film.mp4", "-metadata description='Short.' -metadata synopsis='A keeper folds ships.'")
	if got, err := ReadTags(f, size); err != nil || got.Summary != "A keeper folds ships." {
		t.Errorf("got %+v, %v", got, err)
	}
	// What a track says of itself is not said of the film.
	f, size = film("track.mkv", "-metadata:s:v:0 title='Left eye'")
	if got, err := ReadTags(f, size); err != nil || got.Name != "" {
		t.Errorf("got %+v, %v", got, err)
	}
	// Cut anywhere, it is read without harm.
	whole, err := os.ReadFile(filepath.Join(dir, "film.mkv"))
	if err != nil {
		t.Fatal(err)
	}
	for n := 0; n < len(whole); n += 97 {
		if got, err := ReadTags(bytes.NewReader(whole[:n]), int64(n)); err == nil && len(got.Cover) > len(whole) {
			t.Errorf("cut at %d: a cover of %d bytes", n, len(got.Cover))
		}
	}
}

func FuzzTags(f *testing.F) {
	for _, name := range []string{"films/A Ferry to Somewhere (1987).mkv", "films/The Understudy Moon (1996).mp4"} {
		if b, err := os.ReadFile(filepath.Join(clips, name)); err == nil {
			f.Add(b[:4000])
		}
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		got, err := ReadTags(bytes.NewReader(b), int64(len(b)))
		if err == nil && (len(got.Cover) > len(b) || len(got.Name) > len(b)+len(b)*3 || got.Year < 0) {
			t.Errorf("got %+v of %d bytes", got, len(b))
		}
	})
}

// TestFilesCutShortAreNamedAsSuch cuts a clip at many places: reading either
// works, or says in words what is missing.
func TestFilesCutShortAreNamedAsSuch(t *testing.T) {
	for _, name := range []string{"films/The Understudy Moon (1996).mp4", "films/A Ferry to Somewhere (1987).mkv"} {
		whole, err := os.ReadFile(filepath.Join(clips, name))
		if err != nil {
			t.Fatal(err)
		}
		failed := 0
		for n := 0; n < len(whole); n += max(1, n/20) {
			if _, err := Read(bytes.NewReader(whole[:n]), int64(n)); err != nil {
				failed++
				if err.Error() == "EOF" || err.Error() == "" {
					t.Errorf("%s cut at %d: %q tells nothing", name, n, err)
				}
			}
		}
		if failed < 10 {
			t.Errorf("%s: only %d cuts were noticed", name, failed)
		}
		// Both tell how long they are, so a cut anywhere is noticed.
		if _, err := Read(bytes.NewReader(whole[:len(whole)-100]), int64(len(whole)-100)); err == nil {
			t.Errorf("%s: the end of it is missing, and nothing is said", name)
		}
	}
}

func TestLyingLengthsAreRefusedWithoutReadingThem(t *testing.T) {
	var b bytes.Buffer
	b.WriteString("\x00\x00\x00\x10ftypisom\x00\x00\x00\x00")
	b.WriteString("\x00\x00\x00\x01moov")
	binary.Write(&b, binary.BigEndian, uint64(1)<<59)
	if _, err := Read(bytes.NewReader(b.Bytes()), int64(b.Len())); err == nil ||
		!strings.Contains(err.Error(), "cannot be") {
		t.Errorf("got %v", err)
	}
	if _, err := Read(bytes.NewReader([]byte("PK\x03\x04 an archive posing as a film")), 34); err != ErrUnknown {
		t.Errorf("an archive: got %v", err)
	}
}

func FuzzMP4(f *testing.F)      { fuzz(f, "films/The Understudy Moon (1996).mp4", readMP4) }
func FuzzMatroska(f *testing.F) { fuzz(f, "films/A Ferry to Somewhere (1987).mkv", readMatroska) }

func fuzz(f *testing.F, seed string, read func(r io.ReaderAt, size int64) (Info, error)) {
	whole, err := os.ReadFile(filepath.Join(clips, seed))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(whole[:4096])
	f.Add(whole[:200])
	f.Fuzz(func(t *testing.T, b []byte) {
		info, err := read(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		if info.Duration < 0 || math.IsNaN(info.Duration) || math.IsInf(info.Duration, 0) || len(info.Tracks) == 0 {
			t.Fatalf("impossible reading: %+v", info)
		}
	})
}

func BenchmarkRead(b *testing.B) {
	for _, name := range []string{"films/The Understudy Moon (1996).mp4", "films/A Ferry to Somewhere (1987).mkv"} {
		b.Run(filepath.Ext(name), func(b *testing.B) {
			f, size := open(b, filepath.Join(clips, name))
			for b.Loop() {
				if _, err := Read(f, size); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
