package testbuild

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/jpeg"
	"strings"
	"testing"
)

// Photo is a JPEG of 96×64 pixels in four colours, one a quarter, with EXIF as cameras
// write it: how the camera was held, when, and perhaps in which zone.
func Photo(t testing.TB, turn int, taken string, zone ...string) []byte {
	t.Helper()
	img := image.NewRGBA(image.Rect(0, 0, 96, 64))
	for y := range 64 {
		for x := range 96 {
			img.Set(x, y, quarters[x/48+2*(y/32)])
		}
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, img, &jpeg.Options{Quality: 95}); err != nil {
		t.Fatal(err)
	}
	out := append([]byte{}, b.Bytes()[:2]...)
	body := append([]byte("Exif\x00\x00"), EXIF(turn, taken, strings.Join(zone, ""))...)
	out = append(out, 0xff, 0xe1)
	out = binary.BigEndian.AppendUint16(out, uint16(len(body)+2))
	return append(append(out, body...), b.Bytes()[2:]...)
}

var quarters = []color.RGBA{{200, 30, 30, 255}, {30, 160, 40, 255}, {40, 40, 190, 255}, {230, 210, 40, 255}}

// EXIF makes a TIFF structure with the orientation in its first directory and the moment
// in the one below.
func EXIF(turn int, taken, zone string) []byte {
	le := binary.LittleEndian
	b := []byte("II*\x00\x08\x00\x00\x00")
	entry := func(tag, kind uint16, n, v uint32) {
		b = le.AppendUint32(le.AppendUint32(le.AppendUint16(le.AppendUint16(b, tag), kind), n), v)
	}
	b = le.AppendUint16(b, 2)
	entry(0x0112, 3, 1, uint32(turn))
	sub := uint32(8 + 2 + 24 + 4)
	entry(0x8769, 4, 1, sub)
	b = le.AppendUint32(b, 0)
	b = le.AppendUint16(b, 2)
	texts := sub + 2 + 24 + 4
	entry(0x9003, 2, uint32(len(taken)+1), texts)
	entry(0x9011, 2, uint32(len(zone)+1), texts+uint32(len(taken)+1))
	b = le.AppendUint32(b, 0)
	return append(b, taken+"\x00"+zone+"\x00\x00\x00"...)
}
