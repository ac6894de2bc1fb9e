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
	"image/color"
	_ "image/gif" // formats that are read
	"image/jpeg"
	_ "image/png"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"

	"cozyshelf/internal/atomicfile"

	"golang.org/x/image/draw"
	_ "golang.org/x/image/webp"
)

// Widths are those that are kept, in pixels: of a cover among others, and of one by itself.
var Widths = []int{240, 600}

// Bounds of what is read. What a picture takes while it is decoded is bounded, too, by the
// memory that there is: see Budget.
const (
	MostBytes  = 24 << 20
	MostPixels = 64 << 20
)

// ErrMemory says that a picture would take more memory than there is for it.
var ErrMemory = errors.New("the picture is too large for the memory that there is")

// Budget is how much a picture may take while it is decoded and scaled, in bytes: a third
// of what the process may use, and no more than 192 MiB.
func Budget() int64 {
	const most = 192 << 20
	return min(most, debug.SetMemoryLimit(-1)/3) // -1 only asks
}

// turn lets one picture be decoded at a time, so that the budget is for one.
var turn sync.Mutex

// needs is how many bytes a picture takes while it is decoded, at most.
func needs(b []byte, c image.Config, format string) int64 {
	pixels := int64(c.Width) * int64(c.Height)
	each := int64(4)
	switch c.ColorModel {
	case color.RGBA64Model, color.NRGBA64Model, color.Gray16Model:
		each = 8
	case color.YCbCrModel:
		each = 3
	case color.GrayModel:
		each = 1
	}
	switch {
	case format == "jpeg" && progressive(b):
		each += 12 // the coefficients of all parts are kept until the end, four bytes each
	case format == "png" && len(b) > 28 && b[28] != 0:
		each *= 2 // interlaced
	case format == "webp":
		each += 4 // its two parts
	}
	return pixels * each
}

// progressive reports whether a JPEG is coded so (ISO/IEC 10918-1, B.1.1.3: SOF2).
func progressive(b []byte) bool {
	for at := 2; at+4 <= len(b) && b[at] == 0xff; {
		switch m := b[at+1]; {
		case m == 0xc2:
			return true
		case m == 0xda, m == 0xc0, m == 0xc1: // the scan, or another frame
			return false
		case m == 0xff:
			at++
			continue
		}
		at += 2 + int(b[at+2])<<8 + int(b[at+3])
	}
	return false
}

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
	if n, room := needs(b, c, format), Budget(); n > room {
		return nil, fmt.Errorf("%w: with %d×%d pixels it would take %d MiB, and %d MiB are for one", ErrMemory,
			c.Width, c.Height, n>>20, room>>20)
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
	// The good way to scale takes 32 bytes for each row of the source and column of the
	// outcome; a large picture is brought near its size in a way that takes none.
	if most := 2 * max(lies.Dx(), lies.Dy()); max(r.Dx(), r.Dy()) > 2*most {
		near := image.NewRGBA(image.Rect(0, 0, max(1, r.Dx()*most/max(r.Dx(), r.Dy())),
			max(1, r.Dy()*most/max(r.Dx(), r.Dy()))))
		draw.ApproxBiLinear.Scale(near, near.Bounds(), img, r, draw.Src, nil)
		img, r = near, near.Bounds()
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
	turn.Lock()
	defer turn.Unlock()
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
		if err := atomicfile.Replace(Path(dir, name, w), out, 0o600, nil); err != nil {
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
