package media

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// forms are files of the forms that have no index of their own, by what ffmpeg is told.
var forms = map[string]string{
	"a.flac":       "-vn -c:a flac -ac 2",
	"mono.flac":    "-vn -c:a flac -ar 22050",
	"tagged.flac":  "-vn -c:a flac -metadata title=Rain",
	"cbr.mp3":      "-vn -c:a libmp3lame -b:a 128k -write_xing 0 -id3v2_version 0",
	"vbr.mp3":      "-vn -c:a libmp3lame -q:a 4 -ac 2",
	"tagged.mp3":   "-vn -c:a libmp3lame -metadata title=Rain -write_id3v1 1",
	"low.mp3":      "-vn -c:a libmp3lame -ar 16000 -b:a 32k",
	"a.mp2":        "-vn -c:a mp2 -b:a 192k",
	"a.ogg":        "-vn -c:a libvorbis",
	"a.opus":       "-vn -c:a libopus -ac 2",
	"flac.oga":     "-vn -c:a flac -f ogg",
	"a.ogv":        "-c:v libtheora -c:a libvorbis",
	"a.wav":        "-vn -c:a pcm_s16le",
	"deep.wav":     "-vn -c:a pcm_s24le -ac 6 -ar 96000",
	"float.wav":    "-vn -c:a pcm_f32le",
	"law.wav":      "-vn -c:a pcm_alaw -ar 8000",
	"a.avi":        "-c:v mpeg4 -vtag XVID -c:a libmp3lame -ar 44100",
	"h264.avi":     "-c:v libx264 -c:a ac3",
	"mjpeg.avi":    "-c:v mjpeg -c:a pcm_s16le",
	"odd.avi":      "-c:v mpeg4 -s 178x98 -an",
	"a.ts":         "-c:v libx264 -c:a aac",
	"mpeg2.ts":     "-c:v mpeg2video -c:a mp2 -ac 2",
	"ac3.ts":       "-c:v libx264 -s 178x98 -c:a ac3 -ac 6",
	"a.m2ts":       "-c:v libx264 -c:a ac3 -mpegts_m2ts_mode 1",
	"private.m2ts": "-c:v libx264 -c:a aac",
	"high.ts":      "-c:v libx264 -profile:v high422 -pix_fmt yuv422p -c:a mp2",
	"a.mpg":        "-c:v mpeg2video -c:a mp2 -f vob",
	"one.mpg":      "-c:v mpeg1video -c:a mp2 -f mpeg",
	"ac3.mpg":      "-c:v mpeg2video -c:a ac3 -f vob",
}

// form makes one of them.
func form(t testing.TB, dir, name string) string {
	t.Helper()
	p := filepath.Join(dir, name)
	cmd := strings.Fields("-nostdin -loglevel error -f lavfi -i testsrc=s=176x144:r=25:d=2 -f lavfi -i sine=440:d=2")
	cmd = append(append(cmd, strings.Fields(forms[name])...), p)
	if out, err := exec.Command("ffmpeg", cmd...).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v\n%s", name, err, out)
	}
	return p
}

func TestFormsWithoutAnIndexReadAsFfprobeReadsThem(t *testing.T) {
	needs(t, "ffmpeg")
	needs(t, "ffprobe")
	dir := t.TempDir()
	for name := range forms {
		judge(t, form(t, dir, name))
	}
}

// TestFormsCutAnywhereDoNoHarm cuts such files short, and spoils them.
func TestFormsCutAnywhereDoNoHarm(t *testing.T) {
	needs(t, "ffmpeg")
	dir := t.TempDir()
	for _, name := range []string{"a.flac", "vbr.mp3", "a.ogv", "deep.wav", "h264.avi", "high.ts", "ac3.mpg"} {
		whole, err := os.ReadFile(form(t, dir, name))
		if err != nil {
			t.Fatal(err)
		}
		read := 0
		for n := 0; n < len(whole); n += 1 + n/9 {
			for _, b := range [][]byte{whole[:n], append(bytes.Clone(whole[:n]), bytes.Repeat([]byte{0xff}, 64)...)} {
				if info, err := Read(bytes.NewReader(b), int64(len(b))); err == nil {
					if read++; info.Duration < 0 || info.Duration > 1e9 || len(info.Tracks) > mostStreams {
						t.Errorf("%s cut at %d: %+v", name, n, info)
					}
				}
			}
		}
		if read == 0 {
			t.Errorf("%s: nothing of it was read, however much there was", name)
		}
	}
}

// FuzzForms reads anything, from the beginnings of such files on.
func FuzzForms(f *testing.F) {
	for _, seed := range []string{
		"fLaC\x00\x00\x00\x22\x10\x00\x10\x00\x00\x00\x00\x00\x00\x00\x0a\xc4\x42\xf0\x00\x05\x62\x20" +
			strings.Repeat("\x00", 16),
		"RIFF\x00\x00\x00\x00WAVEfmt \x10\x00\x00\x00\x01\x00\x02\x00\x44\xac\x00\x00\x10\xb1\x02\x00\x04\x00" +
			"\x10\x00data\x08\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00",
		"OggS\x00\x02\x00\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00" +
			"\x01\x13OpusHead\x01\x02\x38\x01\x80\xbb\x00\x00\x00\x00\x00",
		"\xff\xfb\x90\x64" + strings.Repeat("\x00", 413) + "\xff\xfb\x90\x64" + strings.Repeat("\x00", 413),
		"ID3\x04\x00\x00\x00\x00\x00\x00\xff\xfb\x90\x64",
		"RIFF\x00\x01\x00\x00AVI LIST\x30\x00\x00\x00hdrlLIST\x24\x00\x00\x00strlstrh",
		strings.Repeat("\x47\x40\x00\x10\x00\x00\xb0\x0d\x00\x01\xc1\x00\x00\x00\x01\xe1\x00"+
			strings.Repeat("\xff", 171), 5),
		"\x00\x00\x01\xba\x44\x00\x04\x00\x04\x01\x00\x00\x03\xf8" +
			"\x00\x00\x01\xe0\x00\x20\x80\x80\x05\x21\x00\x01\x00\x01\x00\x00\x01\xb3\x0b\x00\x90" +
			strings.Repeat("\x00", 20),
		"\xff\xf1\x50\x80\x02\x1f\xfc" + strings.Repeat("\x00", 9),
	} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		info, err := Read(bytes.NewReader(b), int64(len(b)))
		if err == nil && (info.Duration < 0 || info.Duration != info.Duration || info.Duration > 1e12 ||
			len(info.Tracks) == 0 || len(info.Tracks) > 4096) {
			t.Errorf("got %+v of %d bytes", info, len(b))
		}
	})
}
