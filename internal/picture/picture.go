// Package picture reads pictures from elsewhere, within bounds, and scales them once into
// the sizes that pages need. What is no picture, or an absurd one, is refused before it is
// decoded.
package picture

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	_ "image/gif" // formats that are read
	"image/jpeg"
	_ "image/png"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/image/draw"
	_ "golang.org/x/image/webp"

	"cozyshelf/internal/whole"
)

// Widths are those that are kept, in pixels: of a cover among others, and of one by itself.
var Widths = []int{240, 600}

// Bounds of what is read.
const (
	MostBytes  = 24 << 20
	MostPixels = 64 << 20
)

// Decode decodes a picture (JPEG, PNG, GIF, WebP) within bounds.
func Decode(b []byte) (image.Image, error) {
	if len(b) > MostBytes {
		return nil, fmt.Errorf("the picture has more than %d MiB", MostBytes>>20)
	}
	c, format, err := image.DecodeConfig(bytes.NewReader(b))
	if err != nil {
		return nil, errors.New("it is no JPEG, PNG, GIF or WebP picture")
	}
	if c.Width < 1 || c.Height < 1 || int64(c.Width)*int64(c.Height) > MostPixels {
		return nil, fmt.Errorf("the picture says that it has %d×%d pixels, which is not taken", c.Width, c.Height)
	}
	img, _, err := image.Decode(bytes.NewReader(b))
	if err != nil {
		return nil, fmt.Errorf("the %s picture is damaged: %w", format, err)
	}
	return img, nil
}

// Scale turns a picture upright (turn is EXIF's orientation, 0 or 1 for one that is),
// scales it to a width, never up, and writes it as JPEG on white.
func Scale(img image.Image, turn, width int) ([]byte, error) {
	r := img.Bounds()
	w, h := r.Dx(), r.Dy()
	if turn >= 5 {
		w, h = h, w
	}
	if w > width {
		w, h = width, max(1, h*width/w)
	}
	if h > 4*width { // a strip is not a cover
		h = 4 * width
	}
	lies := image.Rect(0, 0, w, h)
	if turn >= 5 {
		lies = image.Rect(0, 0, h, w)
	}
	out := image.NewRGBA(lies)
	draw.Draw(out, lies, image.White, image.Point{}, draw.Src)
	draw.CatmullRom.Scale(out, lies, img, r, draw.Over, nil)
	out = upright(out, turn)
	var b bytes.Buffer
	err := jpeg.Encode(&b, out, &jpeg.Options{Quality: 84})
	return b.Bytes(), err
}

// Keep decodes a picture and keeps it in a folder in every width. It gives the name to ask
// for it by, which follows from its content.
func Keep(dir string, b []byte) (name string, err error) {
	img, err := Decode(b)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(b)
	name = hex.EncodeToString(sum[:12])
	said, err := Read(bytes.NewReader(b))
	if err != nil {
		said = Says{} // it can be seen all the same
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	for _, w := range Widths {
		out, err := Scale(img, said.Turn, w)
		if err != nil {
			return "", err
		}
		if err := whole.Replace(Path(dir, name, w), out, 0o600, nil); err != nil {
			return "", err
		}
	}
	return name, nil
}

// Path is where a picture lies in a width.
func Path(dir, name string, width int) string {
	return filepath.Join(dir, fmt.Sprintf("%s-%d.jpg", strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' || r >= 'a' && r <= 'f' {
			return r
		}
		return -1
	}, name), width))
}
