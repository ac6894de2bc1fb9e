package media

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
)

// pictureTags are the codecs of pictures in AVI files, by their four letters, in capitals.
var pictureTags = map[string]string{
	"XVID": "mpeg4", "DIVX": "mpeg4", "DX50": "mpeg4", "FMP4": "mpeg4", "MP4V": "mpeg4",
	"MP4S": "mpeg4", "H264": "h264", "X264": "h264", "AVC1": "h264",
	"HEVC": "hevc", "H265": "hevc", "HVC1": "hevc", "MJPG": "mjpeg",
	"DIV3": "msmpeg4v3", "DIV4": "msmpeg4v3", "MP43": "msmpeg4v3", "MP42": "msmpeg4v2",
	"MPG1": "mpeg1video", "MPG2": "mpeg2video", "WMV1": "wmv1", "WMV2": "wmv2", "WMV3": "wmv3",
	"WVC1": "vc1", "VP80": "vp8", "VP90": "vp9", "AV01": "av1",
	"DVSD": "dvvideo", "FFV1": "ffv1", "CVID": "cinepak",
}

// readAVI reads the list of headers of an AVI file.
func readAVI(r io.ReaderAt, size int64) (Info, error) {
	info := Info{Container: "avi"}
	f := &riff{r: r}
	err := f.chunks(12, size, func(id string, at, n int64) (bool, error) {
		if id != "LIST" {
			return true, nil
		}
		kind, err := window(r, at, 4, size, "a list's head")
		if err != nil {
			return false, err
		}
		if string(kind) != "hdrl" {
			return string(kind) != "movi", nil
		}
		if at+n > size {
			return false, fmt.Errorf("the file ends inside its headers: %d bytes are missing", at+n-size)
		}
		return true, f.chunks(at+4, at+n, func(id string, at, n int64) (bool, error) {
			if id != "LIST" || n < 4 {
				return true, nil
			}
			if kind, err := window(r, at, 4, size, "a list's head"); err != nil || string(kind) != "strl" {
				return true, err
			}
			return len(info.Tracks) < 64, aviStream(f, at+4, min(at+n, size), &info)
		})
	})
	if err == nil && len(info.Tracks) == 0 {
		err = errors.New("it has no headers of streams")
	}
	return info, err
}

// aviStream reads the headers of one stream.
func aviStream(f *riff, from, to int64, info *Info) error {
	var head []byte
	return f.chunks(from, to, func(id string, at, n int64) (bool, error) {
		switch {
		case id == "strh" && n >= 48:
			b, err := window(f.r, at, 48, to, "a stream's head")
			head = b
			return true, err
		case id == "strf" && head != nil:
			b, err := window(f.r, at, min(n, 64), to, "a stream's format")
			if err != nil {
				return false, err
			}
			info.add(head, b)
			return false, nil
		}
		return true, nil
	})
}

// add adds a stream by its two headers.
func (i *Info) add(head, format []byte) {
	scale, rate := binary.LittleEndian.Uint32(head[20:]), binary.LittleEndian.Uint32(head[24:])
	length := binary.LittleEndian.Uint32(head[32:])
	switch kind := string(head[:4]); {
	case kind == "vids" && len(format) >= 20:
		tag := strings.ToUpper(string(format[16:20]))
		t := Track{Kind: Video, Codec: pictureTags[tag], Width: int(binary.LittleEndian.Uint32(format[4:]) & 0xffff),
			Height: int(int32(binary.LittleEndian.Uint32(format[8:])))}
		if t.Height < 0 { // it is stored from the top
			t.Height = -t.Height
		}
		t.Height &= 0xffff
		if t.Codec == "" {
			t.Codec = clean(tag)
		}
		i.Tracks = append(i.Tracks, t)
	case kind == "auds" && len(format) >= 16:
		t, _ := waveFormat(format)
		i.Tracks = append(i.Tracks, t)
	case kind == "txts":
		i.Tracks = append(i.Tracks, Track{Kind: Subtitle, Codec: "text"})
	default:
		return
	}
	if rate > 0 && scale > 0 {
		i.Duration = max(i.Duration, float64(length)*float64(scale)/float64(rate))
	}
}

// clean keeps letters and figures of a codec's name.
func clean(s string) string {
	s = strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' {
			return r
		}
		return -1
	}, s)
	if s == "" {
		return "rawvideo"
	}
	return strings.ToLower(s)
}
