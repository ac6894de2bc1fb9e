package repack_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/repack"
)

// ffmpeg runs it and gives what it writes.
func ffmpeg(t *testing.T, args ...string) []byte {
	t.Helper()
	c := exec.Command("ffmpeg", append([]string{"-nostdin", "-v", "error", "-y"}, args...)...)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	if err := c.Run(); err != nil {
		t.Fatalf("ffmpeg %s: %v\n%s", strings.Join(args, " "), err, errs.String())
	}
	return out.Bytes()
}

func needsFFmpeg(t *testing.T) {
	t.Helper()
	if _, err := exec.LookPath("ffmpeg"); err != nil {
		if os.Getenv("COZYSHELF_TEST_STRICT") != "" {
			t.Fatal(err)
		}
		t.Skip(err)
	}
}

// Sources, and how each part of a film is made.
var (
	pictureArgs = map[string]string{
		"h264":   "-c:v libx264 -preset veryfast -g 50 -bf 3",
		"h264-o": "-c:v libx264 -preset veryfast -g 40 -bf 3 -x264-params open-gop=1:bframes=3:b-pyramid=2",
		"hevc":   "-c:v libx265 -preset ultrafast -x265-params log-level=none:keyint=60:open-gop=1:bframes=4",
		"av1":    "-c:v libsvtav1 -preset 12 -g 48 -svtav1-params lookahead=0",
		"vp9":    "-c:v libvpx-vp9 -deadline realtime -cpu-used 8 -g 45",
	}
	soundArgs = map[string]string{
		"aac": "-c:a aac", "ac3": "-c:a ac3", "eac3": "-c:a eac3", "opus": "-c:a libopus",
		"flac": "-c:a flac -sample_fmt s16",
		"mp3":  "-c:a libmp3lame", "alac": "-c:a alac",
	}
)

type form struct{ picture, sound, ending, more string }

// forms are combinations of pictures and sounds with the containers that take them, and then some
// that are out of the ordinary. A run has a fifth of the combinations, another one each time, in which
// every picture and every sound is; with COZYSHELF_LONG set it has all.
func forms(turn int) (out []form) {
	sounds := []string{"aac", "ac3", "eac3", "opus", "flac", "mp3", "alac"}
	for i, p := range []string{"h264", "h264-o", "hevc", "av1", "vp9"} {
		for j, s := range sounds {
			if (i+j)%5 != turn && os.Getenv("COZYSHELF_LONG") == "" {
				continue
			}
			out = append(out, form{p, s, "mkv", ""})
			if (i+3*j)%2 == 0 {
				out = append(out, form{p, s, "mp4", ""})
			}
		}
	}
	return append(out,
		form{"vp9", "opus", "webm", ""}, form{"av1", "opus", "webm", ""}, form{"h264", "aac", "mov", ""},
		form{"h264", "alac", "mov", ""}, form{"hevc", "aac", "mov", ""}, form{"h264", "mp3", "mov", ""},
		form{"h264", "aac", "mp4", "-movflags +frag_keyframe+empty_moov"},
		form{"h264-o", "ac3", "mp4", "-movflags +frag_keyframe+delay_moov+default_base_moof -frag_duration 700000"},
		form{"hevc", "opus", "mp4", "-movflags +delay_moov+frag_keyframe"},
		form{"h264", "aac", "mp4", "-movflags +faststart"},
		form{"h264", "aac", "mkv", "-live 1"}, form{"vp9", "opus", "webm", "-live 1"},
		form{"h264", "aac", "mkv", "-cluster_time_limit 300"},
		form{"h264", "aac", "mp4", "-output_ts_offset 1.5"},
		form{"h264", "aac", "mkv", "-output_ts_offset 1.5"},
		form{"h264", "aac", "mkv", "-vf select='not(mod(n\\,7))+not(mod(n\\,3))' -fps_mode vfr"},
		form{"h264", "aac", "mp4", "-vf select='not(mod(n\\,7))+not(mod(n\\,3))' -fps_mode vfr"},
		form{"", "aac", "m4a", ""}, form{"", "opus", "mka", ""}, form{"", "flac", "mka", ""}, form{"", "mp3", "mka", ""},
		form{"h264", "", "mp4", ""}, form{"hevc", "", "mkv", ""}, form{"", "alac", "m4a", ""})
}

// parts holds pictures and sounds by themselves, made once.
type parts struct {
	folder string
	mu     sync.Mutex
}

func (p *parts) part(t *testing.T, name, source, args string) string {
	t.Helper()
	p.mu.Lock()
	defer p.mu.Unlock()
	at := filepath.Join(p.folder, name+".mkv")
	if _, err := os.Stat(at); err != nil {
		ffmpeg(t, append(append([]string{"-f", "lavfi", "-i", source}, strings.Fields(args)...), at)...)
	}
	return at
}

// film makes a film of 21 seconds, with moving pictures and a changing tone.
func (p *parts) film(t *testing.T, folder string, f form) string {
	t.Helper()
	name := filepath.Join(folder, "film."+f.ending)
	var in []string
	out := []string{"-c", "copy", "-strict", "-2"}
	if f.picture != "" {
		args := pictureArgs[f.picture] + " -pix_fmt yuv420p"
		kind := f.picture
		if strings.Contains(f.more, "-vf ") { // uneven times are made when it is encoded
			args, kind, f.more = args+" "+f.more, kind+" uneven", ""
		}
		in = append(in, "-i", p.part(t, kind, "testsrc2=s=320x180:r=24000/1001:d=21", args))
	}
	if f.sound != "" {
		in = append(in, "-i", p.part(t, f.sound,
			"aevalsrc=sin(2*PI*t*(300+20*t))|0.5*sin(2*PI*t*200):s=48000:d=21", soundArgs[f.sound]))
	}
	ffmpeg(t, append(append(append(in, out...), strings.Fields(f.more)...), name)...)
	return name
}

func open(t *testing.T, name string) (*repack.Film, *os.File) {
	t.Helper()
	file, err := os.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { file.Close() })
	st, err := file.Stat()
	if err != nil {
		t.Fatal(err)
	}
	f, err := repack.Open(file, st.Size())
	if err != nil {
		t.Fatalf("%s: %v", filepath.Base(name), err)
	}
	// It must be the same after it was kept in a store.
	b, err := json.Marshal(f)
	if err != nil {
		t.Fatal(err)
	}
	kept := &repack.Film{}
	if err := json.Unmarshal(b, kept); err != nil {
		t.Fatal(err)
	}
	return kept, file
}

// written writes the pieces of a track from one on, with the initialization segment before them.
func written(t *testing.T, f *repack.Film, file *os.File, track, from, to int) []byte {
	t.Helper()
	var b bytes.Buffer
	init, err := f.Init(track)
	if err != nil {
		t.Fatal(err)
	}
	b.Write(init)
	for i := from; i < to; i++ {
		s, err := f.Segment(file, track, i)
		if err != nil {
			t.Fatalf("track %d, piece %d: %v", track, i, err)
		}
		at := b.Len()
		if n, err := s.WriteTo(&b); err != nil || n != s.Size() || int64(b.Len()-at) != n {
			t.Fatalf("track %d, piece %d: %d of %d bytes, %v", track, i, n, s.Size(), err)
		}
	}
	return b.Bytes()
}

// frame is a decoded picture, or a frame of sound.
type frame struct {
	at  float64
	sum string
}

// decoded gives what ffmpeg decodes of a stream, of what is shown.
func decoded(t *testing.T, name string, stream int) (out []frame) {
	t.Helper()
	return frames(t, "-copyts", "-i", name, "-map", fmt.Sprintf("0:%d", stream), "-fps_mode", "passthrough", "-f",
		"framemd5", "-")
}

// stored gives the frames of a stream as they are stored.
func stored(t *testing.T, name string, stream int) (out []frame) {
	t.Helper()
	return frames(t, "-copyts", "-i", name, "-map", fmt.Sprintf("0:%d", stream), "-c", "copy", "-f", "framemd5", "-")
}

func frames(t *testing.T, args ...string) (out []frame) {
	t.Helper()
	unit := 0.0
	for line := range strings.Lines(string(ffmpeg(t, args...))) {
		if rest, ok := strings.CutPrefix(line, "#tb 0: "); ok {
			num, den, _ := strings.Cut(strings.TrimSpace(rest), "/")
			a, _ := strconv.ParseFloat(num, 64)
			b, _ := strconv.ParseFloat(den, 64)
			unit = a / b
		}
		c := strings.Split(line, ",")
		if strings.HasPrefix(line, "#") || len(c) < 6 {
			continue
		}
		at, err := strconv.ParseFloat(strings.TrimSpace(c[2]), 64)
		if err != nil {
			t.Fatal(err)
		}
		if at >= 0 {
			out = append(out, frame{at * unit, strings.TrimSpace(c[5])})
		}
	}
	return out
}

func keep(t *testing.T, b []byte) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "track.mp4")
	if err := os.WriteFile(name, b, 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

// TestTheSameIsDecoded has ffmpeg decode what was repacked, and what it was made of.
func TestTheSameIsDecoded(t *testing.T) {
	needsFFmpeg(t)
	made := &parts{folder: t.TempDir()}
	turn := rand.IntN(5)
	t.Logf("combinations %d of 5", turn+1)
	for _, form := range forms(turn) {
		t.Run(strings.Trim(strings.Join([]string{form.picture, form.sound, form.ending, form.more}, " "), " "),
			func(t *testing.T) {
				t.Parallel()
				name := made.film(t, t.TempDir(), form)
				f, file := open(t, name)
				if f.Pieces() < 3 || f.Pieces() > 6 {
					t.Fatalf("21 seconds are parted into %d pieces: %v", f.Pieces(), f.Starts)
				}
				for i := range f.Tracks {
					track := f.Tracks[i]
					if track.Cannot != "" {
						t.Fatalf("track %d: %s", track.Number, track.Cannot)
					}
					want := decoded(t, name, track.Number-1)
					all := keep(t, written(t, f, file, track.Number, 0, f.Pieces()))
					same(t, decoded(t, all, 0), want, track.Info.Kind)
					// Sound that was decoded depends on what was before; what is stored does not.
					look := decoded
					if track.Info.Kind == media.Audio {
						look = stored
						want = stored(t, name, track.Number-1)
					}
					for range 1 + len(os.Getenv("COZYSHELF_LONG")) {
						from := rand.IntN(f.Pieces())
						part := keep(t, written(t, f, file, track.Number, from, min(from+2, f.Pieces())))
						within(t, look(t, part, 0), want, f, from)
					}
				}
			})
	}
}

// same compares whole tracks.
func same(t *testing.T, got, want []frame, kind string) {
	t.Helper()
	if len(got) != len(want) {
		t.Errorf("%s: %d frames, should be %d; they begin %v, should %v, and end %v, should %v", kind, len(got), len(want),
			got[:min(3, len(got))], want[:min(3, len(want))], got[max(0, len(got)-2):], want[max(0, len(want)-2):])
		return
	}
	if kind == media.Audio && len(got) > 0 {
		got = got[:len(got)-1] // of its last frame Matroska may tell that less is played
	}
	for i := range got {
		if got[i].sum != want[i].sum || math.Abs(got[i].at-want[i].at) > 0.00101 {
			t.Errorf("%s: frame %d of %d is at %.4f with %s, should be at %.4f with %s", kind, i, len(got), got[i].at,
				got[i].sum, want[i].at, want[i].sum)
			return
		}
	}
}

// within compares a part with the whole: each of its frames is one of the whole's, at the same time,
// but for pictures that are shown before their key frame.
func within(t *testing.T, got, want []frame, f *repack.Film, from int) {
	t.Helper()
	at := map[int64]string{}
	for _, w := range want {
		at[int64(math.Round(w.at*1000))] = w.sum
	}
	first, bad, counted := float64(f.Starts[from])/1e9, 0, 0
	for _, g := range got {
		if g.at < first {
			continue
		}
		counted++
		ms := int64(math.Round(g.at * 1000))
		if at[ms] != g.sum && at[ms-1] != g.sum && at[ms+1] != g.sum {
			bad++
		}
	}
	if bad > 0 || counted < 5 {
		t.Errorf("from piece %d: %d of %d frames are none of the film's", from, bad, counted)
	}
}

// TestSubtitles asks for subtitles of both containers by pieces.
func TestSubtitles(t *testing.T) {
	needsFFmpeg(t)
	folder := t.TempDir()
	srt := filepath.Join(folder, "lines.srt")
	lines := "1\n00:00:01,000 --> 00:00:03,500\nThe <i>first</i> line & more\n\n" +
		"2\n00:00:05,000 --> 00:00:09,000\nOver the edge\nof a piece\n\n" +
		"3\n00:00:15,250 --> 00:00:16,000\n1 < 2\n"
	if err := os.WriteFile(srt, []byte(lines), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ codec, ending string }{{"srt", "mkv"}, {"webvtt", "mkv"}, {"ass", "mkv"},
		{"mov_text", "mp4"}, {"mov_text", "mov"}} {
		name := filepath.Join(folder, c.codec+"."+c.ending)
		ffmpeg(t, "-f", "lavfi", "-i", "testsrc2=s=160x90:r=25:d=18", "-i", srt, "-c:v", "libx264", "-g", "50", "-preset",
			"ultrafast", "-c:s", c.codec, "-metadata:s:s:0", "language=dut", name)
		f, file := open(t, name)
		if f.Pieces() != 3 || f.Track(2) == nil || f.Track(2).Cannot != "" ||
			c.ending != "mov" && f.Track(2).Info.Language != "dut" {
			t.Fatalf("%s in %s: %d pieces, %+v", c.codec, c.ending, f.Pieces(), f.Track(2))
		}
		for piece, want := range []string{"1.000>3.500The <i>first</i> line &amp; more|5.000>9.000Over the edge/of a piece",
			"5.000>9.000Over the edge/of a piece", "15.250>16.000 1 &lt; 2"} {
			b, err := f.Text(file, 2, piece)
			if err != nil {
				t.Fatal(err)
			}
			head, rest, _ := strings.Cut(string(b), "\n\n")
			if head != "WEBVTT\nX-TIMESTAMP-MAP=LOCAL:00:00:00.000,MPEGTS:0" {
				t.Errorf("it begins with %q", head)
			}
			var got []string
			for part := range strings.SplitSeq(strings.TrimSpace(rest), "\n\n") {
				got = append(got, strings.ReplaceAll(strings.Replace(strings.Replace(strings.ReplaceAll(part, "00:00:", ""),
					" --> ", ">", 1), "\n", "", 1), "\n", "/"))
			}
			clean := func(s string) string {
				return strings.NewReplacer("<i>", "", "</i>", "", " ", "", "01.", "1.", "03.", "3.", "05.", "5.", "09.",
					"9.").Replace(s)
			}
			if c.codec == "webvtt" { // as it was written into the file
				want = strings.NewReplacer("&amp;", "&", "&lt;", "<").Replace(want)
			}
			if clean(strings.Join(got, "|")) != clean(want) {
				t.Errorf("%s in %s, piece %d: %q, should be %q", c.codec, c.ending, piece, got, want)
			}
		}
	}
}

// FuzzOpen gives it what was damaged.
func FuzzOpen(f *testing.F) {
	folder := f.TempDir()
	for i, args := range []string{"-c:a aac -ac 1 a.mp4", "-c:a libopus a.mka",
		"-c:a aac -movflags +frag_keyframe+empty_moov a.mov"} {
		if _, err := exec.LookPath("ffmpeg"); err != nil {
			continue
		}
		parts := strings.Fields(args)
		name := filepath.Join(folder, fmt.Sprint(i)+parts[len(parts)-1])
		c := exec.Command("ffmpeg", append(append([]string{"-v", "error", "-f", "lavfi", "-i", "sine=d=7",
			"-f", "lavfi", "-i", "testsrc2=s=32x32:r=5:d=7", "-c:v", "libx264"}, parts[:len(parts)-1]...), name)...)
		if out, err := c.CombinedOutput(); err != nil {
			f.Fatalf("%v\n%s", err, out)
		}
		b, err := os.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		film, err := repack.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		for _, track := range film.Tracks {
			for piece := range min(film.Pieces(), 4) {
				if s, err := film.Segment(bytes.NewReader(b), track.Number, piece); err == nil {
					n, err := s.WriteTo(io.Discard)
					if err == nil && n != s.Size() {
						t.Fatalf("%d bytes instead of %d", n, s.Size())
					}
				}
				_, _ = film.Text(bytes.NewReader(b), track.Number, piece) // it must only end
			}
		}
	})
}

// BenchmarkSegment measures a core: a film of 8 Mbit/s, all its pieces.
func BenchmarkSegment(b *testing.B) {
	if _, err := exec.LookPath("ffmpeg"); err != nil {
		b.Skip(err)
	}
	for _, ending := range []string{"mkv", "mp4"} {
		name := filepath.Join(b.TempDir(), "film."+ending)
		c := exec.Command("ffmpeg", strings.Fields("-v error -f lavfi -i testsrc2=s=1280x720:r=25:d=60 -f lavfi -i "+
			"sine=d=60 -c:v libx264 -preset ultrafast -g 50 -b:v 20M -minrate 20M -maxrate 20M -bufsize 10M "+
			"-x264-params nal-hrd=cbr -c:a aac "+name)...)
		if out, err := c.CombinedOutput(); err != nil {
			b.Fatalf("%v\n%s", err, out)
		}
		file, err := os.Open(name)
		if err != nil {
			b.Fatal(err)
		}
		defer file.Close()
		st, _ := file.Stat()
		b.Run("open "+ending, func(b *testing.B) {
			for b.Loop() {
				if _, err := repack.Open(file, st.Size()); err != nil {
					b.Fatal(err)
				}
			}
		})
		f, err := repack.Open(file, st.Size())
		if err != nil {
			b.Fatal(err)
		}
		b.Run("pieces "+ending, func(b *testing.B) {
			b.SetBytes(st.Size())
			b.ReportAllocs()
			for b.Loop() {
				for _, t := range f.Tracks {
					for i := range f.Pieces() {
						s, err := f.Segment(file, t.Number, i)
						if err != nil {
							b.Fatal(err)
						}
						if _, err := s.WriteTo(io.Discard); err != nil {
							b.Fatal(err)
						}
					}
				}
			}
		})
	}
}
