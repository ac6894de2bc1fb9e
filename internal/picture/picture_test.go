package picture

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"os"
	"strings"
	"testing"
)

func sample(t testing.TB, w, h int) []byte {
	t.Helper()
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.Set(x, y, color.RGBA{uint8(x), uint8(y), 128, 255})
		}
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestPicturesAreScaledOnce(t *testing.T) {
	dir := t.TempDir()
	name, err := Keep(dir, sample(t, 900, 1200))
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range Widths {
		f, err := os.Open(Path(dir, name, w))
		if err != nil {
			t.Fatal(err)
		}
		c, err := jpeg.DecodeConfig(f)
		f.Close()
		if err != nil || c.Width != w || c.Height != w*4/3 {
			t.Errorf("width %d: got %d×%d, %v", w, c.Width, c.Height, err)
		}
	}
	small, err := Keep(dir, sample(t, 30, 20))
	if err != nil {
		t.Fatal(err)
	}
	b, _ := os.ReadFile(Path(dir, small, Widths[1]))
	if c, err := jpeg.DecodeConfig(bytes.NewReader(b)); err != nil || c.Width != 30 {
		t.Errorf("a small one is made larger: %+v, %v", c, err)
	}
	if strings.ContainsAny(Path("", "../x", 1), "/") {
		t.Error("a name leaves the folder")
	}
}

// huge is a PNG that says it is very large, in few bytes.
func huge() []byte {
	b := bytes.NewBufferString("\x89PNG\r\n\x1a\n")
	head := binary.BigEndian.AppendUint32(nil, 100000)
	head = binary.BigEndian.AppendUint32(head, 100000)
	head = append(head, 8, 2, 0, 0, 0)
	_ = binary.Write(b, binary.BigEndian, uint32(len(head))) // a buffer takes everything
	data := append([]byte("IHDR"), head...)
	b.Write(data)
	_ = binary.Write(b, binary.BigEndian, crc32.ChecksumIEEE(data)) // a buffer takes everything
	return b.Bytes()
}

func TestAbsurdPicturesAreRefused(t *testing.T) {
	whole := sample(t, 50, 50)
	for name, b := range map[string][]byte{"nothing": nil, "text": []byte("hello"), "a huge one": huge(),
		"half of one": whole[:len(whole)/2], "too many bytes": make([]byte, MostBytes+1)} {
		if _, err := Decode(b); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(sample(f, 3, 3))
	f.Add(huge())
	f.Fuzz(func(t *testing.T, b []byte) {
		img, err := Decode(b)
		if err != nil {
			return
		}
		if r := img.Bounds(); r.Dx()*r.Dy() > MostPixels {
			t.Errorf("%v", r)
		}
		if r := img.Bounds(); r.Dx() < 300 && r.Dy() < 300 {
			if _, err := Scale(img, 6, 10); err != nil {
				t.Error(err)
			}
		}
	})
}
