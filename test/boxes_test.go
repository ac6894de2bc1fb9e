package test

import (
	"encoding/binary"
	"slices"
	"strings"
	"testing"

	"cozyshelf/internal/core/isobmff"
)

// boxes gives the payloads of boxes, by their paths: moov/trak/mdia.
func boxes(b []byte, below string, into map[string][][]byte) map[string][][]byte {
	inner := []string{"moov", "trak", "mdia", "minf", "stbl", "mvex", "moof", "traf", "edts"}
	isobmff.Each(b, func(kind string, p []byte) {
		at := strings.TrimPrefix(below+"/"+kind, "/")
		into[at] = append(into[at], p)
		if slices.Contains(inner, kind) {
			boxes(p, at, into)
		}
	})
	return into
}

// checkInit holds an initialization segment against ISO/IEC 23000-19, 7.3.1, and gives its units a
// second.
func checkInit(t *testing.T, b []byte) (scale uint32) {
	t.Helper()
	in := boxes(b, "", map[string][][]byte{})
	if f := in["ftyp"]; len(f) != 1 || !strings.Contains(string(f[0]), "cmfc") {
		t.Errorf("the initialization segment is of the kind %q", f)
	}
	if len(in["moov/trak"]) != 1 || len(in["moov/mvex/trex"]) != 1 || len(in["moof"])+len(in["mdat"]) != 0 {
		t.Errorf("an initialization segment has one track and no media")
	}
	for _, table := range []string{"stts", "stsc", "stco"} {
		if p := in["moov/trak/mdia/minf/stbl/"+table]; len(p) != 1 || binary.BigEndian.Uint32(p[0][4:]) != 0 {
			t.Errorf("%s is not empty", table)
		}
	}
	mdhd := in["moov/trak/mdia/mdhd"]
	if len(mdhd) != 1 {
		t.Fatal("it tells no units of time")
	}
	return binary.BigEndian.Uint32(mdhd[0][12:])
}

// checkSegment holds a segment against ISO/IEC 23000-19, 7.3.2, and gives when its decoding begins
// and ends.
func checkSegment(t *testing.T, name string, b []byte, scale uint32, picture bool) (from, to float64, samples int) {
	t.Helper()
	in := boxes(b, "", map[string][][]byte{})
	if len(in["styp"]) != 1 || len(in["moof"]) != 1 || len(in["mdat"]) != 1 || len(in["moof/traf"]) != 1 {
		t.Fatalf("%s is no segment of one fragment", name)
	}
	tfhd, tfdt, trun := in["moof/traf/tfhd"][0], in["moof/traf/tfdt"][0], in["moof/traf/trun"][0]
	if binary.BigEndian.Uint32(tfhd)&0x20001 != 0x20000 {
		t.Errorf("%s: its data is not placed by its moof", name)
	}
	at := binary.BigEndian.Uint64(tfdt[4:])
	n := int(binary.BigEndian.Uint32(trun[4:]))
	offset := int(binary.BigEndian.Uint32(trun[8:]))
	head := len(b) - len(in["mdat"][0])
	styp := len(in["styp"][0]) + 8
	if offset+styp != head {
		t.Errorf("%s: its data is said to lie at byte %d, and lies at %d", name, offset+styp, head)
	}
	sum, end := 0, at
	for i := range n {
		s := trun[12+16*i:]
		end += uint64(binary.BigEndian.Uint32(s))
		sum += int(binary.BigEndian.Uint32(s[4:]))
		if key := binary.BigEndian.Uint32(s[8:])&0x10000 == 0; picture && key != (i == 0) && i == 0 {
			t.Errorf("%s does not begin with a key frame", name)
		}
		if picture && int32(binary.BigEndian.Uint32(s[12:])) < 0 {
			t.Errorf("%s: picture %d is shown before it is decoded", name, i)
		}
	}
	if sum != len(in["mdat"][0]) {
		t.Errorf("%s: %d samples of %d bytes, and %d bytes of data", name, n, sum, len(in["mdat"][0]))
	}
	return float64(at) / float64(scale), float64(end) / float64(scale), n
}
