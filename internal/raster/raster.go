// Package raster makes PNG pictures of the drawings of package core/usage: of the little of SVG that those are made
// of, which is boxes and lines of text.
package raster

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"regexp"
	"strconv"
	"strings"

	"cozyshelf/internal/core/usage"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"
)

// Bounds of a picture, in pixels.
const (
	scale    = 2 // pixels for each of the drawing
	mostSide = 20_000
	mostArea = 64 << 20
)

// textColour is that of names and figures, as usage.DrawingStyle has it.
var textColour = color.NRGBA{0x6d, 0x5f, 0x52, 0xff}

// PNG makes a picture of a drawing that stands by itself (usage.Standalone).
func PNG(svg string) ([]byte, error) {
	d := xml.NewDecoder(strings.NewReader(svg))
	var to *canvas
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("the drawing cannot be read: %w", err)
		}
		e, ok := token.(xml.StartElement)
		if !ok {
			continue
		}
		at := map[string]string{}
		for _, a := range e.Attr {
			at[a.Name.Local] = a.Value
		}
		switch e.Name.Local {
		case "svg":
			if to, err = newCanvas(at); err != nil {
				return nil, err
			}
		case "rect":
			err = to.box(at)
		case "text":
			var text string
			if text, err = content(d); err == nil {
				err = to.text(at, text)
			}
		case "style", "title":
			_, err = content(d)
		}
		if err != nil {
			return nil, err
		}
	}
	if to == nil {
		return nil, errors.New("there is no drawing")
	}
	var out bytes.Buffer
	err := png.Encode(&out, to.pixels)
	return out.Bytes(), err
}

// content reads the text of an element up to its end.
func content(d *xml.Decoder) (string, error) {
	var b strings.Builder
	for {
		t, err := d.Token()
		if err != nil {
			return "", err
		}
		switch t := t.(type) {
		case xml.CharData:
			b.Write(t)
		case xml.EndElement:
			return b.String(), nil
		}
	}
}

// canvas is a picture that is being made.
type canvas struct {
	pixels   *image.RGBA
	left, up float64 // of the drawing, at the picture's corner
	face     font.Face
}

func newCanvas(at map[string]string) (*canvas, error) {
	var left, up, wide, high float64
	if _, err := fmt.Sscanf(at["viewBox"], "%g %g %g %g", &left, &up, &wide, &high); err != nil {
		return nil, fmt.Errorf("the drawing has no size: %w", err)
	}
	w, h := int(wide*scale), int(high*scale)
	if w < 1 || h < 1 || w > mostSide || h > mostSide || w*h > mostArea {
		return nil, fmt.Errorf("a picture of %d × %d pixels cannot be made", w, h)
	}
	f, err := opentype.Parse(goregular.TTF)
	if err != nil {
		return nil, err
	}
	face, err := opentype.NewFace(f, &opentype.FaceOptions{Size: 12 * scale, DPI: 72, Hinting: font.HintingFull})
	if err != nil {
		return nil, err
	}
	return &canvas{image.NewRGBA(image.Rect(0, 0, w, h)), left, up, face}, nil
}

var groupClass = regexp.MustCompile(`^g(\d+)$`)

// box fills a box.
func (c *canvas) box(at map[string]string) error {
	if c == nil {
		return errors.New("a box stands outside of the drawing")
	}
	x, y, w, h, rx := 0.0, 0.0, 0.0, 0.0, 0.0
	for name, v := range map[string]*float64{"x": &x, "y": &y, "width": &w, "height": &h, "rx": &rx} {
		if at[name] == "" {
			continue
		}
		var err error
		if *v, err = strconv.ParseFloat(at[name], 64); err != nil {
			return err
		}
	}
	colours := usage.GroupColours()
	fill := colours[0]
	if m := groupClass.FindStringSubmatch(at["class"]); m != nil {
		if n, err := strconv.Atoi(m[1]); err == nil && n < len(colours) {
			fill = colours[n]
		}
	}
	for rule := range strings.SplitSeq(at["style"], ";") {
		if v, ok := strings.CutPrefix(rule, "fill:"); ok {
			fill = v
		}
	}
	paint, err := hex(fill)
	if err != nil {
		return err
	}
	if o, err := strconv.ParseFloat(at["fill-opacity"], 64); err == nil {
		paint.A = uint8(min(max(o, 0), 1)*255 + 0.5)
	}
	c.rounded((x-c.left)*scale, (y-c.up)*scale, w*scale, h*scale, rx*scale, paint)
	return nil
}

// hex reads a colour as #rrggbb.
func hex(s string) (color.NRGBA, error) {
	n, err := strconv.ParseUint(strings.TrimPrefix(s, "#"), 16, 32)
	if err != nil || len(s) != 7 {
		return color.NRGBA{}, fmt.Errorf("%q is no colour", s)
	}
	return color.NRGBA{uint8(n >> 16), uint8(n >> 8), uint8(n), 0xff}, nil
}

// rounded fills a box whose corners are round.
func (c *canvas) rounded(x, y, w, h, r float64, paint color.NRGBA) {
	area := image.Rect(int(x)-1, int(y)-1, int(x+w)+2, int(y+h)+2).Intersect(c.pixels.Bounds())
	if area.Empty() {
		return
	}
	r = min(r, w/2, h/2)
	z := vector.NewRasterizer(area.Dx(), area.Dy())
	ox, oy := float64(area.Min.X), float64(area.Min.Y)
	p := func(px, py float64) (float32, float32) { return float32(px - ox), float32(py - oy) }
	move := func(px, py float64) { a, b := p(px, py); z.MoveTo(a, b) }
	line := func(px, py float64) { a, b := p(px, py); z.LineTo(a, b) }
	round := func(qx, qy, px, py float64) {
		a, b := p(qx, qy)
		d, e := p(px, py)
		z.QuadTo(a, b, d, e)
	}
	move(x+r, y)
	line(x+w-r, y)
	round(x+w, y, x+w, y+r)
	line(x+w, y+h-r)
	round(x+w, y+h, x+w-r, y+h)
	line(x+r, y+h)
	round(x, y+h, x, y+h-r)
	line(x, y+r)
	round(x, y, x+r, y)
	z.ClosePath()
	z.Draw(c.pixels, area, image.NewUniform(paint), image.Point{})
}

// text writes a line of text.
func (c *canvas) text(at map[string]string, text string) error {
	if c == nil {
		return errors.New("a text stands outside of the drawing")
	}
	x, errX := strconv.ParseFloat(at["x"], 64)
	y, errY := strconv.ParseFloat(at["y"], 64)
	if err := errors.Join(errX, errY); err != nil {
		return err
	}
	w := font.Drawer{Dst: c.pixels, Src: image.NewUniform(textColour), Face: c.face,
		Dot: fixed.Point26_6{X: fixed.Int26_6((x - c.left) * scale * 64), Y: fixed.Int26_6((y - c.up) * scale * 64)}}
	w.DrawString(text)
	return nil
}
