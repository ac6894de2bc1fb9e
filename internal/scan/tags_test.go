package scan

import (
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/testbuild"
)

// TestTracksAreWhatTheySay has ffmpeg write tags, and reads them back in five formats.
func TestTracksAreWhatTheySay(t *testing.T) {
	if _, err := exec.LookPath("ffmpeg"); err != nil {
		testbuild.Missing(t, "ffmpeg")
	}
	dir := t.TempDir()
	write(t, filepath.Join(dir, "Somewhere", "old name", "x.txt"), nil)
	for ext, codec := range map[string]string{".mp3": "libmp3lame", ".flac": "flac", ".m4a": "aac",
		".ogg": "libvorbis", ".mka": "libopus"} {
		out, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "sine=duration=0.3", "-ac", "2", "-c:a",
			codec,
			"-metadata", "title=Departure", "-metadata", "artist=Mirela Vant", "-metadata",
			"album_artist=The Gravel Choir", "-metadata", "album=Songs for Slow Trains", "-metadata", "date=1999",
			"-metadata", "track=3/9",
			filepath.Join(dir, "Somewhere", "old name", "track"+ext)).CombinedOutput()
		if err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	copyClip(t, "../music/../films/Copper Kite (2003).mkv",
		filepath.Join(dir, "Mirela Vant", "Tin Roof Nocturnes (2012)", "01 Rain.mka"))
	s, sh := open(t), shelf(dir)
	sh.Name, sh.Kind = "music", household.Music
	run(t, s, sh)
	titles, err := s.Titles(ctx, "music")
	if err != nil || len(titles) != 2 {
		t.Fatalf("got %+v, %v", titles, err)
	}
	// Five copies of one track are one part.
	if a := titles[0]; a.Name != "Songs for Slow Trains" || a.By != "The Gravel Choir" || a.Year != 1999 ||
		a.Parts != 1 {
		t.Errorf("got %+v", a)
	}
	if b := titles[1]; b.Name != "Tin Roof Nocturnes" || b.By != "Mirela Vant" || b.Year != 2012 {
		t.Errorf("without tags: got %+v", b)
	}
	files, err := s.Files(ctx, titles[0].ID, 0)
	for _, f := range files {
		if err != nil || f.Episode != 3 || f.Part != "Departure (Mirela Vant)" {
			t.Errorf("%s: got %+v, %v", f.Path, f, err)
		}
	}
}

// TestRecordingsAndPhotosTellTheirDate has ffmpeg write the moment of a recording, and
// reads photos whose names tell none, or a wrong one.
func TestRecordingsAndPhotosTellTheirDate(t *testing.T) {
	if _, err := exec.LookPath("ffmpeg"); err != nil {
		testbuild.Missing(t, "ffmpeg")
	}
	dir := t.TempDir()
	for name, at := range map[string]string{"harvest.mp4": "2016-09-24T12:30:00Z",
		"harvest.mkv": "2016-09-24T12:30:00Z", "2011-05-01 picnic.mp4": "2016-09-24T12:30:00Z",
		"no clock.mp4": "1970-01-01T00:00:00Z"} {
		out, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc=s=64x48:d=0.2", "-c:v",
			"mpeg4", "-metadata", "creation_time="+at, filepath.Join(dir, name)).CombinedOutput()
		if err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	here := time.Date(2016, 9, 24, 12, 30, 0, 0, time.UTC).Local().Format("2006-01-02T15:04:05")
	s, sh := open(t), shelf(dir)
	sh.Name, sh.Kind = "recordings", household.Recordings
	run(t, s, sh)
	list, err := s.ShelfFiles(ctx, "recordings")
	if err != nil || len(list) != 4 {
		t.Fatalf("got %+v, %v", list, err)
	}
	want := map[string]string{"harvest.mp4": here, "harvest.mkv": here, "2011-05-01 picnic.mp4": "2011-05-01",
		"no clock.mp4": ""}
	for _, f := range list {
		if w, ok := want[f.Path]; !ok || f.Date != w {
			t.Errorf("%s: got %q, want %q", f.Path, f.Date, w)
		}
	}

	dir = t.TempDir()
	for name, b := range map[string][]byte{
		"Mill Pond/IMG_0001.jpg":     testbuild.Photo(t, 6, "2014:08:03 16:21:07"),
		"Mill Pond/2010-01-01 b.jpg": testbuild.Photo(t, 1, "2013:08:03 16:21:07"),
		"Mill Pond/2012-02-02 c.jpg": testbuild.Photo(t, 1, ""),
		"Mill Pond/notes.jpg":        []byte("PK\x03\x04 no picture at all, whatever its name says"),
	} {
		write(t, filepath.Join(dir, name), b)
	}
	s, sh = open(t), shelf(dir)
	sh.Name, sh.Kind = "photos", household.Photos
	run(t, s, sh)
	list, err = s.ShelfFiles(ctx, "photos")
	if err != nil || len(list) != 4 {
		t.Fatalf("got %+v, %v", list, err)
	}
	wanted := []struct{ part, date, problem string }{
		{"notes", "", "it is no JPEG, PNG, GIF, WebP, HEIC, AVIF or TIFF picture"}, {"2012-02-02 c", "2012-02-02", ""},
		{"2010-01-01 b", "2013-08-03T16:21:07", ""}, {"IMG_0001", "2014-08-03T16:21:07", ""},
	}
	for i, w := range wanted {
		if f := list[i]; f.Part != w.part || f.Date != w.date || f.Problem != w.problem {
			t.Errorf("photo %d: got %q %q %q, want %q", i, f.Part, f.Date, f.Problem, w)
		}
	}
	if m := list[3].Media; m.Turn != 6 || m.First(media.Picture).Width != 96 || m.Container != "jpeg" {
		t.Errorf("got %+v", m)
	}
}
