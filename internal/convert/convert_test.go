package convert_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"cozyshelf/internal/convert"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/ffmpeg"
)

// workshop is a converter with a film of 40 seconds, and what it says.
type workshop struct {
	*convert.Converter
	film string
	said *bytes.Buffer
	stop context.CancelFunc
}

func newWorkshop(t *testing.T, tools *ffmpeg.Tools) *workshop {
	t.Helper()
	found, err := ffmpeg.Find()
	if err != nil {
		if os.Getenv("COZYSHELF_TEST_STRICT") != "" {
			t.Fatal(err)
		}
		t.Skip(err)
	}
	if tools == nil {
		tools = &found
	}
	film := filepath.Join(t.TempDir(), "film.mkv")
	out, err := exec.Command("ffmpeg", strings.Fields("-nostdin -v error -f lavfi -i testsrc2=s=320x180:r=25:d=40 -f lavfi "+
		"-i sine=d=40 -c:v mpeg4 -g 25 -c:a ac3 "+film)...).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	w := &workshop{film: film, said: &bytes.Buffer{}}
	w.Converter = &convert.Converter{Tools: *tools, Folder: t.TempDir(), Limit: 64 << 20, Most: 2,
		Log: slog.New(slog.NewTextHandler(w.said, nil))}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); w.Run(ctx) }()
	w.stop = sync.OnceFunc(func() { stop(); <-done })
	t.Cleanup(w.stop)
	time.Sleep(50 * time.Millisecond) // the folder is emptied first
	return w
}

func (w *workshop) open() (*os.File, error) { return os.Open(w.film) }

func picture(height int) convert.Recipe {
	return convert.Recipe{File: "film", Track: 1, Source: media.Track{Kind: media.Video, Codec: "mpeg4", FrameRate: 25},
		Width: height * 16 / 9 &^ 1, Height: height, Bitrate: 400_000, End: 40}
}

func (w *workshop) piece(t *testing.T, r convert.Recipe, number int, viewer string) []byte {
	t.Helper()
	b, err := w.Piece(context.Background(), r, number, viewer, w.open)
	if err != nil {
		t.Fatalf("piece %d: %v", number, err)
	}
	return b
}

// ours counts the runs of ffmpeg that this process has started.
func ours(t *testing.T) (n int) {
	t.Helper()
	list, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, p := range list {
		b, err := os.ReadFile(p)
		if err != nil {
			continue
		}
		_, rest, _ := strings.Cut(string(b), ") ")
		f := strings.Fields(rest)
		if strings.Contains(string(b), "(ffmpeg)") && len(f) > 1 && f[1] == fmt.Sprint(os.Getpid()) && f[0] != "Z" {
			n++
		}
	}
	return n
}

func until(t *testing.T, what string, is func() bool) {
	t.Helper()
	for range 400 {
		if is() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("it did not come about that %s", what)
}

// TestWhoIsNearSharesARun has three viewers watch, two of them together.
func TestWhoIsNearSharesARun(t *testing.T) {
	w := newWorkshop(t, nil)
	r := picture(180)
	first := w.piece(t, r, 0, "wren")
	if !bytes.Equal(first, w.piece(t, r, 0, "ozan")) {
		t.Error("two viewers are sent different pieces")
	}
	w.piece(t, r, 1, "ozan")
	if w.Streams() > 1 {
		t.Errorf("%d runs for two who are near", w.Streams())
	}
	// It waits when it is far enough ahead, without ending and without work.
	until(t, "it is 30 s ahead", func() bool { list, _ := filepath.Glob(w.Folder + "/convert/*"); return len(list) >= 30 })
	time.Sleep(300 * time.Millisecond)
	if list, _ := filepath.Glob(w.Folder + "/convert/*"); len(list) > 34 || w.Streams() != 1 {
		t.Errorf("%d pieces are made with nobody beyond the second, and %d runs are left", len(list), w.Streams())
	}
	init, err := w.Init(context.Background(), r, "wren", w.open)
	if err != nil || w.Codec(r) != "avc1.64000C" && !strings.HasPrefix(w.Codec(r), "avc1.6400") {
		t.Errorf("the beginning: %d bytes, %s, %v", len(init), w.Codec(r), err)
	}
	w.stop()
	until(t, "every run has ended", func() bool { return ours(t) == 0 })
	if list, _ := filepath.Glob(w.Folder + "/convert/*"); len(list) != 0 {
		t.Errorf("%d pieces are left in the scratch folder", len(list))
	}
}

// TestSeek asks for pieces here and there: they are those that would come anyway.
func TestSeek(t *testing.T) {
	w := newWorkshop(t, nil)
	sound := convert.Recipe{File: "film", Track: 2, Source: media.Track{Kind: media.Audio, Codec: "ac3", Channels: 1},
		Channels: 2, End: 40}
	for _, r := range []convert.Recipe{picture(90), sound} {
		lengths := r.Lengths()
		whole := map[int]int{}
		for i := range lengths {
			whole[i] = samples(w.piece(t, r, i, "wren"))
		}
		other := r
		other.File = "the same, asked in another order"
		for _, i := range []int{len(lengths) - 1, 4, 0, 7, len(lengths) - 2} {
			if got := samples(w.piece(t, other, i, "ozan")); got != whole[i] || got == 0 {
				t.Errorf("piece %d of %d has %d samples when it is asked for first, and %d else", i, len(lengths), got,
					whole[i])
			}
		}
	}
	if _, err := w.Piece(context.Background(), picture(90), 60, "wren", w.open); !errors.Is(err, io.EOF) {
		t.Errorf("a piece behind the end gives %v", err)
	}
}

// samples counts those of a segment.
func samples(b []byte) int {
	i := bytes.Index(b, []byte("trun"))
	if i < 0 {
		return 0
	}
	return int(b[i+8])<<24 | int(b[i+9])<<16 | int(b[i+10])<<8 | int(b[i+11])
}

// TestScratchIsBounded gives it little room.
func TestScratchIsBounded(t *testing.T) {
	w := newWorkshop(t, nil)
	w.Limit = 200_000
	r := picture(180)
	for i := range 8 {
		w.piece(t, r, i, "wren")
		var sum int64
		list, _ := os.ReadDir(w.Folder + "/convert")
		for _, e := range list {
			if st, err := e.Info(); err == nil {
				sum += st.Size()
			}
		}
		if sum > w.Limit+150_000 {
			t.Fatalf("%d bytes lie in scratch", sum)
		}
	}
	// It was thrown away, and is made again at once, though its run has gone on.
	began := time.Now()
	w.piece(t, r, 0, "wren")
	if took := time.Since(began); took > 15*time.Second {
		t.Errorf("a piece that was thrown away is there after %s", took)
	}
}

// TestTroubles lets ffmpeg crash, hang, say nonsense and be killed, and takes the folder and the film
// away. Each ends in a reason.
func TestTroubles(t *testing.T) {
	real, err := exec.LookPath("ffmpeg")
	if err != nil {
		t.Skip(err)
	}
	probe, err := exec.LookPath("ffprobe")
	if err != nil {
		t.Skip(err)
	}
	tool := func(script string) *ffmpeg.Tools {
		name := filepath.Join(t.TempDir(), "tool")
		if err := os.WriteFile(name, []byte("#!/bin/sh\n"+script+"\n"), 0o700); err != nil {
			t.Fatal(err)
		}
		return &ffmpeg.Tools{FFmpeg: []string{name}, FFprobe: []string{probe}}
	}
	for _, c := range []struct{ name, script, says string }{
		{"crashes", "echo 'it is broken' >&2; exit 3", "it is broken"},
		{"says nonsense", "head -c 100000 /dev/zero", "box of 0 bytes"},
		{"says nothing", "exit 0", "EOF"},
		{"is killed", "kill -9 $$", "for want of memory"},
		{"ends in the midst", real + ` "$@" | head -c 20000`, ""},
	} {
		w := newWorkshop(t, tool(c.script))
		_, err := w.Piece(context.Background(), picture(180), 5, "wren", w.open)
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("it %s: %v", c.name, err)
		}
		until(t, "nothing runs", func() bool { return w.Streams() == 0 })
	}
	w := newWorkshop(t, tool("sleep 60"))
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if _, err := w.Piece(ctx, picture(180), 0, "wren", w.open); err == nil {
		t.Error("it hangs, and gives a piece")
	}
	// What nobody waits for does not hold others up for ever.
	w.Patience = time.Second
	if err := w.Whole(context.Background(), picture(90), 0, w.open, func([]byte) error { return nil },
		func(int, []byte) error { return nil }); err == nil || !strings.Contains(err.Error(), "makes nothing for 1s") {
		t.Errorf("it hangs, and nobody waits: %v", err)
	}
	w.stop()
	until(t, "what hangs is ended", func() bool { return ours(t) == 0 })

	w = newWorkshop(t, nil)
	if err := os.WriteFile(w.Folder+"/convert", nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := w.Piece(context.Background(), picture(180), 0, "wren", w.open); !errors.Is(err, convert.ErrScratch) ||
		!strings.Contains(convert.Reason(err), "scratch_limit") {
		t.Errorf("with no folder: %v", err)
	}
	_ = os.Remove(w.Folder + "/convert")
	w.piece(t, picture(180), 0, "wren")
	if _, err := w.Piece(context.Background(), picture(90), 0, "wren",
		func() (*os.File, error) { return nil, os.ErrNotExist }); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("with no film: %v", err)
	}
	// Others want to, while as much is made as may be.
	busy := newWorkshop(t, nil)
	busy.Most = 1
	busy.piece(t, picture(180), 0, "wren")
	other := picture(180)
	other.File = "another"
	if _, err := busy.Piece(context.Background(), other, 0, "ozan", busy.open); !errors.Is(err, convert.ErrBusy) {
		t.Errorf("when it is busy: %v", err)
	}
	// Another size of the same film takes the place of the first.
	busy.piece(t, picture(90), 0, "wren")
}

// TestLooks has pictures and sound of odd sorts made, and looks at what comes out, beside what
// ffmpeg makes of the same in another way.
func TestLooks(t *testing.T) {
	w := newWorkshop(t, nil)
	for _, c := range []struct {
		name, made string // how the film is made
		ending     string
		source     media.Track
		recipe     convert.Recipe
		like       string  // a filter that makes the same of the film
		least      float64 // dB
	}{
		{"turned", "-c:v libx264 -preset ultrafast -pix_fmt yuv420p", ".mp4", media.Track{Codec: "h264", Rotation: 90},
			convert.Recipe{Width: 180, Height: 320}, "null", 30},
		{"interlaced", "-vf tinterlace=interleave_top,fieldorder=tff -flags +ildct+ilme -c:v mpeg2video -q:v 2", ".mkv",
			media.Track{Codec: "mpeg2video", Interlaced: true}, convert.Recipe{Width: 320, Height: 180},
			"yadif=deint=interlaced", 28},
		{"of high dynamic range", "-vf format=yuv420p10le -c:v libx265 -preset ultrafast -x265-params " +
			"log-level=none:colorprim=bt2020:transfer=smpte2084:colormatrix=bt2020nc", ".mkv",
			media.Track{Codec: "hevc", HDR: media.PQ}, convert.Recipe{Width: 320, Height: 180, ToneMap: true},
			"zscale=t=linear:npl=100,format=gbrpf32le,zscale=p=bt709,tonemap=hable:desat=0," +
				"zscale=t=bt709:m=bt709:r=tv,format=yuv420p", 28},
		{"of 10 bits in 4:4:4", "-pix_fmt yuv444p10le -c:v libx265 -preset ultrafast -x265-params log-level=none",
			".mkv", media.Track{Codec: "hevc"}, convert.Recipe{Width: 320, Height: 180}, "null", 30},
		{"of odd pixels", "-vf scale=240:180,setsar=4/3 -c:v mpeg4 -q:v 2", ".avi", media.Track{Codec: "mpeg4"},
			convert.Recipe{Width: 320, Height: 180}, "scale=320:180", 28},
	} {
		film := filepath.Join(t.TempDir(), "film"+c.ending)
		args := append([]string{"-nostdin", "-v", "error", "-f", "lavfi", "-i", "testsrc2=s=320x180:r=25:d=4"},
			strings.Fields(c.made)...)
		if out, err := exec.Command("ffmpeg", append(args, film)...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", c.name, err, out)
		}
		if c.source.Rotation != 0 {
			turned := filepath.Join(t.TempDir(), "turned.mp4")
			if out, err := exec.Command("ffmpeg", "-nostdin", "-v", "error", "-i", film, "-c", "copy", "-metadata:s:v",
				"rotate=90", turned).CombinedOutput(); err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
			film = turned
		}
		r := c.recipe
		r.File, r.Track, r.Source, r.Bitrate, r.End = c.name, 1, c.source, 2_000_000, 4
		r.Source.FrameRate = 25
		open := func() (*os.File, error) { return os.Open(film) }
		init, err := w.Init(context.Background(), r, "wren", open)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		made := bytes.NewBuffer(init)
		for i := range r.Lengths() {
			b, err := w.Piece(context.Background(), r, i, "wren", open)
			if err != nil {
				t.Fatalf("%s: %v", c.name, err)
			}
			made.Write(b)
		}
		name := filepath.Join(t.TempDir(), "made.mp4")
		if err := os.WriteFile(name, made.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command("ffmpeg", "-nostdin", "-i", name, "-i", film, "-lavfi", fmt.Sprintf(
			"[1:v]%s,scale=%d:%d,setsar=1,format=yuv420p,setpts=PTS-STARTPTS[b];[0:v]setsar=1,format=yuv420p,"+
				"setpts=PTS-STARTPTS[a];[a][b]psnr=shortest=1", c.like, r.Width, r.Height), "-f", "null", "-").CombinedOutput()
		_, rest, found := strings.Cut(string(out), "average:")
		var db float64
		if _, err2 := fmt.Sscanf(rest, "%g", &db); err != nil || !found || err2 != nil || db < c.least {
			t.Errorf("a picture %s is like the film by %.1f dB, %v\n%s", c.name, db, err, out)
		}
	}
}

// TestSpeechStaysClear makes stereo of 5.1: what comes from the middle is as loud as before beside the
// rest.
func TestSpeechStaysClear(t *testing.T) {
	w := newWorkshop(t, nil)
	film := filepath.Join(t.TempDir(), "film.mkv")
	if out, err := exec.Command("ffmpeg", strings.Fields("-nostdin -v error -f lavfi -i "+
		"aevalsrc=0.02*sin(2*PI*t*100)|0.02*sin(2*PI*t*100)|0.5*sin(2*PI*t*1000)|0|0.5*sin(2*PI*t*3000)|0.5*sin(2*PI*t*3000)"+
		":s=48000:d=8:c=5.1 -c:a flac "+film)...).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	r := convert.Recipe{File: "speech", Track: 1, Source: media.Track{Kind: media.Audio, Codec: "flac", Channels: 6},
		Channels: 2, End: 8}
	open := func() (*os.File, error) { return os.Open(film) }
	init, err := w.Init(context.Background(), r, "wren", open)
	if err != nil {
		t.Fatal(err)
	}
	made := bytes.NewBuffer(init)
	for i := range r.Lengths() {
		b, err := w.Piece(context.Background(), r, i, "wren", open)
		if err != nil {
			t.Fatal(err)
		}
		made.Write(b)
	}
	name := filepath.Join(t.TempDir(), "made.mp4")
	if err := os.WriteFile(name, made.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	level := func(filter string) (db float64) {
		out, err := exec.Command("ffmpeg", "-nostdin", "-i", name, "-af", filter+",volumedetect", "-f", "null", "-").
			CombinedOutput()
		_, rest, _ := strings.Cut(string(out), "mean_volume: ")
		if _, err2 := fmt.Sscanf(rest, "%g", &db); err != nil || err2 != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		return db
	}
	speech, rest := level("bandpass=f=1000:w=300"), level("bandpass=f=3000:w=600")
	if speech < -22 || speech-rest < 5 {
		t.Errorf("speech has %.1f dB, and what comes from behind %.1f", speech, rest)
	}
}

// film has ffmpeg make one.
func film(t *testing.T, ending string, args ...string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "film"+ending)
	if out, err := exec.Command("ffmpeg", append(append([]string{"-nostdin", "-v", "error"}, args...), name)...).
		CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return name
}

// made has all of a recipe made, the pieces in an order of one's own, and gives it as a file.
func (w *workshop) made(t *testing.T, r convert.Recipe, film string, first ...int) string {
	t.Helper()
	open := func() (*os.File, error) { return os.Open(film) }
	init, err := w.Init(context.Background(), r, "wren", open)
	if err != nil {
		t.Fatal(err)
	}
	pieces := make([][]byte, len(r.Lengths()))
	get := func(i int) {
		if pieces[i] == nil {
			if pieces[i], err = w.Piece(context.Background(), r, i, "wren", open); err != nil {
				t.Fatal(err)
			}
		}
	}
	for _, i := range first {
		get(i)
	}
	for i := range pieces {
		get(i)
	}
	name := filepath.Join(t.TempDir(), "made.mp4")
	if err := os.WriteFile(name, append(init, bytes.Join(pieces, nil)...), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

// TestNightBringsLoudAndQuietTogether levels a film that whispers for ten seconds and shouts for ten.
func TestNightBringsLoudAndQuietTogether(t *testing.T) {
	w := newWorkshop(t, nil)
	source := film(t, ".mkv", "-f", "lavfi", "-i", "aevalsrc='if(lt(t,10),0.02,0.7)*sin(2*PI*t*500)':s=48000:d=20", "-c:a",
		"flac")
	level := func(name string, from int) (db float64) {
		out, err := exec.Command("ffmpeg", "-nostdin", "-ss", fmt.Sprint(from), "-t", "7", "-i", name, "-af", "volumedetect",
			"-f", "null", "-").CombinedOutput()
		_, rest, _ := strings.Cut(string(out), "mean_volume: ")
		if _, err2 := fmt.Sscanf(rest, "%g", &db); err != nil || err2 != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		return db
	}
	r := convert.Recipe{File: "plain", Track: 1, Source: media.Track{Kind: media.Audio, Codec: "flac", Channels: 1},
		Channels: 2, End: 20}
	plain := w.made(t, r, source)
	r.File, r.Level, r.Gain = "night", true, 6
	night := w.made(t, r, source, 3, 1) // pieces that were made apart fit, too
	was, is := level(plain, 12)-level(plain, 1), level(night, 12)-level(night, 1)
	if was < 25 || is > was-10 || level(night, 1) < level(plain, 1)+5 || level(night, 12) > level(plain, 12)+1 {
		t.Errorf("loud and quiet were %.1f dB apart, and are %.1f; quiet went from %.1f to %.1f, loud from %.1f to %.1f", was,
			is, level(plain, 1), level(night, 1), level(plain, 12), level(night, 12))
	}
}

// TestTextIsDrawn draws styled subtitles into a picture, from the middle of the film on, too.
func TestTextIsDrawn(t *testing.T) {
	w := newWorkshop(t, nil)
	words := filepath.Join(t.TempDir(), "words.ass")
	if err := os.WriteFile(words, []byte(`[Script Info]
ScriptType: v4.00+
PlayResX: 320
PlayResY: 180

[V4+ Styles]
Format: Name, Fontname, Fontsize, PrimaryColour, SecondaryColour, OutlineColour, BackColour, Bold, Italic, Underline, StrikeOut, ScaleX, ScaleY, Spacing, Angle, BorderStyle, Outline, Shadow, Alignment, MarginL, MarginR, MarginV, Encoding
Style: Default,Sans,20,&H000000FF,&H000000FF,&H00000000,&H00000000,0,0,0,0,100,100,0,0,1,0,0,5,0,0,0,1

[Events]
Format: Layer, Start, End, Style, Name, MarginL, MarginR, MarginV, Effect, Text
Dialogue: 0,0:00:06.00,0:00:09.00,Default,,0,0,0,,{\p1}m 0 0 l 200 0 200 100 0 100{\p0}
`), 0o600); err != nil {
		t.Fatal(err)
	}
	source := film(t, ".mkv", "-f", "lavfi", "-i", "color=black:s=320x180:r=25:d=12", "-i", words, "-c:v", "libx264",
		"-preset", "ultrafast", "-c:s", "ass")
	r := convert.Recipe{File: "words", Track: 1, Source: media.Track{Kind: media.Video, Codec: "h264", FrameRate: 25},
		Width: 320, Height: 180, Bitrate: 400_000, End: 12, Burn: 2, BurnText: 1}
	made := w.made(t, r, source, 5) // from 7.5 s on first
	red := func(at string) bool {
		out, err := exec.Command("ffmpeg", "-nostdin", "-v", "error", "-ss", at, "-i", made, "-frames:v", "1", "-vf",
			"crop=2:2:159:89,format=rgb24", "-f", "rawvideo", "-").Output()
		if err != nil || len(out) < 3 {
			t.Fatalf("%v, %d bytes", err, len(out))
		}
		return out[0] > 150 && out[1] < 90 && out[2] < 90
	}
	for at, want := range map[string]bool{"5.5": false, "6.5": true, "7": true, "8": true, "8.8": true, "9.5": false} {
		if red(at) != want {
			t.Errorf("at %s s the subtitle is there: %t", at, !want)
		}
	}
}
