package picture

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"io"
	"strings"
	"time"

	"github.com/bep/imagemeta"
)

// Says is what a picture file says of itself.
type Says struct {
	Format        string // jpeg, png, gif, webp; heic, avif, tiff of those that are not decoded here
	Width, Height int    // pixels as stored; 0 where not known
	Turn          int    // EXIF's orientation, 1 to 8; 0 where it tells none
	Taken         string // when: 2014-08-03T16:21:07, with the zone (+02:00) where it is told
}

// Read reads what a picture says of itself, from its header: its format and size, and
// by EXIF when it was taken and how the camera was held.
func Read(r io.ReadSeeker) (s Says, err error) {
	// A header is read with care by the package that does it; still, it comes from
	// elsewhere.
	defer func() {
		if x := recover(); x != nil {
			s, err = Says{}, fmt.Errorf("its header is damaged: %v", x)
		}
	}()
	var head [32]byte
	n, err := io.ReadFull(r, head[:])
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return s, errors.New("it is no picture: it is too short")
	}
	format, kind, decoded := formatOf(head[:n])
	if format == "" {
		return s, errors.New("it is no JPEG, PNG, GIF, WebP, HEIC, AVIF or TIFF picture")
	}
	s.Format = format
	if decoded {
		if _, err := r.Seek(0, io.SeekStart); err != nil {
			return s, err
		}
		c, _, err := image.DecodeConfig(r)
		if err != nil {
			return s, fmt.Errorf("the %s picture is damaged: %w", format, err)
		}
		s.Width, s.Height = c.Width, c.Height
	}
	if kind == imagemeta.ImageFormatAuto {
		return s, nil
	}
	if _, err := r.Seek(0, io.SeekStart); err != nil {
		return s, err
	}
	tags := map[string]any{}
	_, err = imagemeta.Decode(imagemeta.Options{
		R: r, ImageFormat: kind, Sources: imagemeta.EXIF, Timeout: 2 * time.Second, LimitTagSize: 256,
		ShouldHandleTag: func(t imagemeta.TagInfo) bool {
			return wanted[t.Tag] &&
				!strings.Contains(t.Namespace, "IFD1")
		},
		HandleTag: func(t imagemeta.TagInfo) error {
			if _, known := tags[t.Tag]; !known {
				tags[t.Tag] = t.Value
			}
			return nil
		},
		Warnf: func(string, ...any) {},
	})
	if err != nil {
		return s, nil // what is not understood in it is not told; the picture is one
	}
	switch v := tags["Orientation"].(type) {
	case uint16:
		s.Turn = int(v)
	case uint8:
		s.Turn = int(v)
	}
	if s.Turn < 1 || s.Turn > 8 {
		s.Turn = 0
	}
	for _, by := range [][2]string{{"DateTimeOriginal", "OffsetTimeOriginal"}, {"CreateDate", "OffsetTimeDigitized"},
		{"ModifyDate", "OffsetTime"}} {
		if s.Taken = taken(fmt.Sprint(tags[by[0]]), fmt.Sprint(tags[by[1]])); s.Taken != "" {
			break
		}
	}
	return s, nil
}

var wanted = map[string]bool{
	"Orientation": true, "DateTimeOriginal": true, "CreateDate": true, "ModifyDate": true,
	"OffsetTimeOriginal": true, "OffsetTimeDigitized": true, "OffsetTime": true,
}

// taken reads a moment as EXIF has it: 2014:08:03 16:21:07, and +02:00 apart.
func taken(at, zone string) string {
	t, err := time.Parse("2006:01:02 15:04:05", strings.TrimSpace(strings.Trim(at, "\x00")))
	if err != nil || t.Year() < 1840 || t.Year() > 2199 {
		return ""
	}
	out := t.Format("2006-01-02T15:04:05")
	if z, err := time.Parse("-07:00", strings.TrimSpace(strings.Trim(zone, "\x00"))); err == nil {
		out += z.Format("-07:00")
	}
	return out
}

// formatOf tells a picture by its first bytes, whatever its name: how the format is
// called, what reads its header, and whether it can be decoded here.
func formatOf(b []byte) (string, imagemeta.ImageFormat, bool) {
	is := func(at int, s string) bool { return len(b) >= at+len(s) && string(b[at:at+len(s)]) == s }
	switch {
	case is(0, "\xff\xd8\xff"):
		return "jpeg", imagemeta.JPEG, true
	case is(0, "\x89PNG\r\n\x1a\n"):
		return "png", imagemeta.PNG, true
	case is(0, "GIF8"):
		return "gif", imagemeta.ImageFormatAuto, true
	case is(0, "RIFF") && is(8, "WEBP"):
		return "webp", imagemeta.WebP, true
	case is(4, "ftypavif") || is(4, "ftypavis"):
		return "avif", imagemeta.AVIF, false
	case is(4, "ftyp") && bytes.ContainsAny(b[8:min(12, len(b))], "hm") &&
		(is(8, "hei") || is(8, "hev") || is(8, "mif1") || is(8, "msf1")):
		return "heic", imagemeta.HEIF, false
	case is(0, "II*\x00") || is(0, "MM\x00*"):
		return "tiff", imagemeta.TIFF, false
	}
	return "", 0, false
}

// upright turns a picture as EXIF's orientation says (CIPA DC-008, 4.6.4).
func upright(in *image.RGBA, turn int) *image.RGBA {
	if turn < 2 || turn > 8 {
		return in
	}
	w, h := in.Rect.Dx(), in.Rect.Dy()
	out := image.NewRGBA(image.Rect(0, 0, w, h))
	if turn >= 5 {
		out = image.NewRGBA(image.Rect(0, 0, h, w))
	}
	for y := range h {
		for x := range w {
			to := image.Point{}
			switch turn {
			case 2: // mirrored
				to = image.Pt(w-1-x, y)
			case 3: // upside down
				to = image.Pt(w-1-x, h-1-y)
			case 4: // mirrored, upside down
				to = image.Pt(x, h-1-y)
			case 5: // mirrored along the diagonal
				to = image.Pt(y, x)
			case 6: // to be turned to the right
				to = image.Pt(h-1-y, x)
			case 7: // mirrored along the other diagonal
				to = image.Pt(h-1-y, w-1-x)
			case 8: // to be turned to the left
				to = image.Pt(y, w-1-x)
			}
			copy(out.Pix[out.PixOffset(to.X, to.Y):][:4], in.Pix[in.PixOffset(x, y):][:4])
		}
	}
	return out
}
