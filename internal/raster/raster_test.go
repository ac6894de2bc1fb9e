package raster

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/usage"
)

var ground = color.NRGBA{0xf8, 0xf0, 0xe5, 0xff}

func drawn(t *testing.T, svg string) image.Image {
	t.Helper()
	b, err := PNG(usage.Standalone(svg))
	if err != nil {
		t.Fatal(err)
	}
	p, err := png.Decode(bytes.NewReader(b))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// is reports whether a pixel has a colour; the drawing's corner lies 16 pixels from the left and 42 from above.
func is(p image.Image, x, y float64, want color.NRGBA) bool {
	r, g, b, a := p.At(int((x+16)*scale), int((y+42)*scale)).RGBA()
	near := func(a uint32, b uint8) bool { return max(a>>8, uint32(b))-min(a>>8, uint32(b)) <= 1 }
	return near(r, want.R) && near(g, want.G) && near(b, want.B) && a == 0xffff
}

func say(v float64) string { return fmt.Sprintf("%.0f <min>", v) }

func TestBarsAreWhereTheyBelong(t *testing.T) {
	day := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	list := []usage.Column{
		{Name: "2026-11-23", Begins: day, Value: 4, Split: map[string]float64{"wren": 3, "<ozan> & pip": 1}},
		{Name: "2026-11-24", Begins: day.AddDate(0, 0, 1), Value: 2, Split: map[string]float64{"wren": 2}},
		{Name: "2026-11-25", Begins: day.AddDate(0, 0, 2)}}
	p := drawn(t, usage.DrawBars(list, "watched", say))
	colours := usage.GroupColours()
	wren, ozan := must(t, colours[0]), must(t, colours[1])
	// A bar is 14 wide, 18 apart, and 120 high for the most.
	for _, c := range []struct {
		x, y float64
		want color.NRGBA
	}{{7, 119, wren}, {7, 31, wren}, {7, 29, ozan}, {7, 1, ozan}, {7, -4, ground}, {16, 60, ground},
		{25, 119, wren}, {25, 61, wren}, {25, 59, ground}, {43, 118, ground}, {-10, 10, ground},
		{6, 120 + 18 + 9, wren}, {6, 120 + 18 + 20 + 9, ozan}} {
		if !is(p, c.x, c.y, c.want) {
			t.Errorf("at %g, %g: %v instead of %v", c.x, c.y, p.At(int((c.x+16)*scale), int((c.y+16)*scale)), c.want)
		}
	}
	// Names are written below the bars.
	ink := 0
	for x := range 40 {
		for y := 122; y < 138; y++ {
			if !is(p, float64(x), float64(y), ground) {
				ink++
			}
		}
	}
	if ink < 20 || ink > 500 {
		t.Errorf("%d pixels of a name", ink)
	}
}

func must(t *testing.T, s string) color.NRGBA {
	t.Helper()
	c, err := hex(s)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestHoursAreTheDarkerTheMore(t *testing.T) {
	heat := make([][]float64, 7)
	for d := range heat {
		heat[d] = make([]float64, 24)
	}
	heat[0][0], heat[3][20] = 10, 5
	p := drawn(t, usage.DrawHeat(heat, "watched", say))
	full := must(t, usage.GroupColours()[0])
	mix := func(share float64) color.NRGBA {
		m := func(a, b uint8) uint8 { return uint8(float64(a)*(1-share) + float64(b)*share + 0.5) }
		return color.NRGBA{m(ground.R, full.R), m(ground.G, full.G), m(ground.B, full.B), 0xff}
	}
	for _, c := range []struct {
		day, hour int
		share     float64
	}{{0, 0, 1}, {3, 20, 0.53}, {6, 23, 0.06}, {2, 5, 0.06}} {
		x, y := float64(42+c.hour*22+10), float64(18+c.day*22+10)
		if !is(p, x, y, mix(c.share)) {
			t.Errorf("day %d, hour %d: %v instead of %v", c.day, c.hour, p.At(int((x+16)*scale), int((y+42)*scale)),
				mix(c.share))
		}
	}
}

func TestWhatIsNoDrawingIsRefused(t *testing.T) {
	for _, s := range []string{"", "<svg", "<svg/>", `<svg viewBox="0 0 99999 99999"></svg>`,
		`<svg viewBox="0 0 -1 5"></svg>`,
		`<rect x="1"/>`, `<text x="1" y="1">a</text>`, `<svg viewBox="0 0 9 9"><rect x="a"/></svg>`,
		`<svg viewBox="0 0 9 9"><rect style="fill:red"/></svg>`, `<svg viewBox="0 0 9 9"><text>a</text></svg>`} {
		if b, err := PNG(s); err == nil || len(b) > 0 {
			t.Errorf("%s: %d bytes", s, len(b))
		}
	}
}

func FuzzPNG(f *testing.F) {
	f.Add(usage.Standalone(usage.DrawBars([]usage.Column{{Name: "a", Value: 1}}, "x", say)))
	f.Add(`<svg viewBox="0 0 9 9"><rect x="1e308" width="1e308" height="NaN" rx="Inf"/></svg>`)
	f.Fuzz(func(t *testing.T, s string) {
		if len(s) > 4000 || strings.Count(s, "0000") > 3 {
			return
		}
		if b, err := PNG(s); err == nil {
			if _, err := png.DecodeConfig(bytes.NewReader(b)); err != nil {
				t.Error(err)
			}
		}
	})
}
