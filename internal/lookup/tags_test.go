package lookup

import (
	"bytes"
	"os"
	"testing"
)

func FuzzTags(f *testing.F) {
	f.Add([]byte("ID3\x03\x00\x00\x00\x00\x00\x15TIT2\x00\x00\x00\x0b\x00\x00\x00Departure\x00"))
	f.Add([]byte("fLaC\x84\x00\x00\x04\xff\xff\xff\xff"))
	f.Add([]byte("OggS"))
	if b, err := os.ReadFile("../demo/clips/films/The Understudy Moon (1996).mp4"); err == nil {
		f.Add(b[:4000])
	}
	if b, err := os.ReadFile("../demo/clips/films/A Ferry to Somewhere (1987).mkv"); err == nil {
		f.Add(b[:4000])
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		d, err := Tags(bytes.NewReader(b), int64(len(b)))
		if err == nil && (d.Track < 0 || d.Year < 0) {
			t.Errorf("got %+v", d)
		}
	})
}
