package media

import (
	"encoding/binary"
	"fmt"
	"math"
	mathbits "math/bits"
	"strings"
)

// Kinds of high dynamic range, by the transfer characteristics (ITU-T H.273).
const (
	PQ  = "pq"  // perceptual quantizer, as SMPTE ST 2084 has it
	HLG = "hlg" // hybrid log-gamma, as ARIB STD-B67 has it
)

// transferKind tells high dynamic range by the number of the transfer characteristics.
func transferKind(n int) string {
	switch n {
	case 16:
		return PQ
	case 18:
		return HLG
	}
	return ""
}

// chromas are the forms of chroma subsampling by chroma_format_idc.
var chromas = []string{"4:0:0", "4:2:0", "4:2:2", "4:4:4"}

// avcConfig reads an AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3).
func (t *Track) avcConfig(entry string, b []byte) {
	if len(b) < 7 || b[0] != 1 {
		return
	}
	t.avcName(entry, b[1], b[2], b[3])
	t.BitDepth, t.Chroma = 8, "4:2:0"
	n := int(binary.BigEndian.Uint16(b[6:]))
	if b[5]&31 > 0 && len(b) >= 8+n && n > 4 {
		t.h264(h264Set(b[9 : 8+n]))
	}
}

// avcName names a stream of H.264 by the three bytes with which its parameters begin.
func (t *Track) avcName(entry string, profile, constraints, level byte) {
	t.RFC6381 = fmt.Sprintf("%s.%02X%02X%02X", entry, profile, constraints, level)
	t.Profile = map[byte]string{66: "Baseline", 77: "Main", 88: "Extended", 100: "High", 110: "High 10",
		122: "High 4:2:2", 244: "High 4:4:4 Predictive"}[profile]
	if profile == 66 && constraints&0x40 != 0 {
		t.Profile = "Constrained Baseline"
	}
	t.Level = fmt.Sprintf("%d.%d", level/10, level%10)
}

// h264 takes what a sequence parameter set tells.
func (t *Track) h264(s h264Parameters) {
	if !s.whole {
		return
	}
	t.Chroma, t.BitDepth, t.Interlaced, t.HDR = chromas[s.chroma&3], int(s.depth), s.fields, transferKind(s.transfer)
	t.shape(s.shape[0], s.shape[1])
}

// shape notes the shape of pixels that are not square.
func (t *Track) shape(w, h int) {
	if w <= 0 || h <= 0 || w == h || w > 1<<16 || h > 1<<16 {
		return
	}
	a, b := w, h
	for b != 0 {
		a, b = b, a%b
	}
	t.PixelShape = fmt.Sprintf("%d:%d", w/a, h/a)
}

// shapeOf notes the shape of pixels by two numbers that may be large.
func (t *Track) shapeOf(w, h int) {
	a, b := w, h
	for b != 0 {
		a, b = b, a%b
	}
	t.shape(w/a, h/a)
}

// hevcConfig reads an HEVCDecoderConfigurationRecord (ISO/IEC 14496-15, 8.3.3), and names the
// stream as Annex E of it does.
func (t *Track) hevcConfig(entry string, b []byte) {
	if len(b) < 23 || b[0] != 1 {
		return
	}
	space, tier, profile := b[1]>>6, b[1]>>5&1, b[1]&31
	name := entry + "."
	if space > 0 {
		name += string('A' + rune(space) - 1)
	}
	name += fmt.Sprintf("%d.%X.%c%d", profile, mathbits.Reverse32(binary.BigEndian.Uint32(b[2:])), "LH"[tier], b[12])
	constraints := b[6:12]
	for len(constraints) > 0 && constraints[len(constraints)-1] == 0 {
		constraints = constraints[:len(constraints)-1]
	}
	for _, c := range constraints {
		name += fmt.Sprintf(".%X", c)
	}
	t.RFC6381 = name
	t.Profile = map[byte]string{1: "Main", 2: "Main 10", 3: "Main Still Picture", 4: "Rext"}[profile]
	t.Level = levelOf(float64(b[12]) / 30)
	t.Chroma, t.BitDepth = chromas[b[16]&3], int(b[17]&7)+8
}

// levelOf writes a level such as 3.1, or 4.
func levelOf(n float64) string {
	return strings.TrimSuffix(fmt.Sprintf("%.1f", n), ".0") + map[bool]string{true: ".0"}[n == math.Trunc(n)]
}

// av1Config reads an AV1CodecConfigurationRecord, and names the stream as the AV1 binding to
// ISOBMFF does (section 5).
func (t *Track) av1Config(b []byte) {
	if len(b) < 4 || b[0] != 0x81 {
		return
	}
	profile, level := b[1]>>5, b[1]&31
	t.BitDepth = 8
	switch {
	case b[2]&0x40 != 0 && profile == 2 && b[2]&0x20 != 0:
		t.BitDepth = 12
	case b[2]&0x40 != 0:
		t.BitDepth = 10
	}
	t.RFC6381 = fmt.Sprintf("av01.%d.%02d%c.%02d", profile, level, "MH"[b[2]>>7], t.BitDepth)
	t.Profile = []string{"Main", "High", "Professional"}[min(profile, 2)]
	t.Level = fmt.Sprintf("%d.%d", 2+level>>2, level&3)
	switch {
	case b[2]&0x10 != 0:
		t.Chroma = chromas[0]
	case b[2]&0x0c == 0x0c:
		t.Chroma = chromas[1]
	case b[2]&0x08 != 0:
		t.Chroma = chromas[2]
	default:
		t.Chroma = chromas[3]
	}
}

// vpConfig reads a VPCodecConfigurationRecord (VP Codec ISO Media File Format Binding), without
// the version in front.
func (t *Track) vpConfig(entry string, b []byte) {
	if len(b) < 8 {
		return
	}
	t.vp(entry, int(b[0]), int(b[1]), int(b[2]>>4), int(b[2]>>1&7))
	t.HDR = transferKind(int(b[4]))
}

// vp names a stream of VP8 or VP9. chroma is 0 and 1 for 4:2:0, 2 for 4:2:2, 3 for 4:4:4.
func (t *Track) vp(entry string, profile, level, depth, chroma int) {
	if depth != 8 && depth != 10 && depth != 12 || profile > 3 || level > 62 {
		return
	}
	t.RFC6381 = fmt.Sprintf("%s.%02d.%02d.%02d", entry, profile, level, depth)
	t.Profile, t.BitDepth, t.Chroma = fmt.Sprintf("Profile %d", profile), depth, chromas[min(max(chroma, 1), 3)]
	if level > 0 {
		t.Level = fmt.Sprintf("%d.%d", level/10, level%10)
	}
}

// vpFeatures reads the features of VP9 in a WebM file's CodecPrivate: id, length and value of each.
func (t *Track) vpFeatures(b []byte) {
	v := map[byte]int{2: 0, 3: 8, 4: 1}
	for len(b) >= 3 && b[1] == 1 {
		v[b[0]], b = int(b[2]), b[3:]
	}
	if profile, ok := v[1]; ok { // else only the pictures themselves tell
		t.vp("vp09", profile, v[2], v[3], v[4])
	} else {
		t.RFC6381 = "vp9"
	}
}

// aacConfig names AAC by its audio object type, from an AudioSpecificConfig.
func (t *Track) aacConfig(b []byte) {
	if t.Codec != "aac" || len(b) < 2 {
		return
	}
	kind := int(b[0] >> 3)
	if kind == 31 {
		kind = 32 + int(b[0]&7)<<3 + int(b[1]>>5)
	}
	t.RFC6381 = fmt.Sprintf("mp4a.40.%d", kind)
	t.Profile = map[int]string{1: "Main", 2: "LC", 3: "SSR", 4: "LTP", 5: "HE-AAC", 29: "HE-AACv2", 42: "xHE-AAC"}[kind]
}

// soundNames are the names of sound that has no configuration in them.
var soundNames = map[string]string{"ac3": "ac-3", "eac3": "ec-3", "opus": "opus", "flac": "flac", "alac": "alac",
	"vorbis": "vorbis", "mp3": "mp4a.6B", "dts": "dtsc", "aac": "mp4a.40.2"}

// named gives a track the name of its codec where no configuration told one.
func (t *Track) named() {
	if t.RFC6381 == "" && t.Kind == Audio {
		t.RFC6381 = soundNames[t.Codec]
	}
}

// rate notes how many pictures a second there are, as far as that can be.
func (t *Track) rate(r float64) {
	if r > 0 && r <= 1000 && !math.IsNaN(r) {
		t.FrameRate = math.Round(r*1000) / 1000
	}
}
