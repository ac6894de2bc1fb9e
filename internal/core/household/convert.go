package household

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"cozyshelf/internal/core/encoders"
)

// Convert is [convert]: making anew what a device does not play.
type Convert struct {
	When   string `toml:"when"`    // auto, needed or never
	Device string `toml:"device"`  // auto, none, or the path of a device
	AtOnce AtOnce `toml:"at_once"` // pictures made at once; 0 for half the processors
	Ladder []int  `toml:"ladder"`  // heights of pictures that are made, in lines; none for all
	// PreparedLimit bounds the copies that are prepared, in bytes.
	PreparedLimit Size `toml:"prepared_limit"`
}

// When something is converted.
const (
	ConvertAuto   = "auto" // where an ffmpeg is there anyway
	ConvertNeeded = "needed"
	ConvertNever  = "never"
)

// AtOnce is how many pictures are made at once, or that it is as many as were measured.
type AtOnce int

// AsMeasured stands for as many as were measured.
const AsMeasured AtOnce = -1

// measured is how that is written.
const measured = "measured"

// UnmarshalText reads a number, or the word.
func (n *AtOnce) UnmarshalText(b []byte) error {
	if string(b) == measured {
		*n = AsMeasured
		return nil
	}
	v, err := strconv.Atoi(string(b))
	if err != nil || v == int(AsMeasured) {
		return fmt.Errorf("%q is neither a number nor %q", b, measured)
	}
	*n = AtOnce(v)
	return nil
}

// String writes it as the household file has it.
func (n AtOnce) String() string {
	if n == AsMeasured {
		return quote(measured)
	}
	return strconv.Itoa(int(n))
}

// WantsFFmpeg reports whether the server is to have an ffmpeg.
func (h *Household) WantsFFmpeg() bool {
	return len(h.Quiet.Work) > 0 || h.Convert.When == ConvertNeeded
}

// Converts reports whether anything of [convert] is other than where it is left out.
func (h Household) Converts() bool {
	v := h.Convert
	return v.AtOnce != 0 || len(v.Ladder) > 0 || v.When != "" && v.When != ConvertAuto ||
		v.Device != "" && v.Device != encoders.Auto || v.PreparedLimit != 0 && v.PreparedLimit != DefaultPrepare
}

// Mapped gives the devices that the server may use.
func (h *Household) Mapped() []string {
	out := slices.Clone(h.Server.Devices)
	if d := h.Convert.Device; strings.HasPrefix(d, "/") && h.Convert.When != ConvertNever &&
		!slices.ContainsFunc(out, func(in string) bool { return d == in || strings.HasPrefix(d, in+"/") }) {
		out = append(out, d)
	}
	return out
}

// Bounds of [convert].
const (
	mostAtOnce     = 64
	leastLines     = 120
	mostLines      = 4320
	mostRungs      = 12
	leastPrepared  = 100 << 20
	DefaultPrepare = Size(20 << 30) // prepared_limit where it is left out
)

func (h *Household) judgeConvert(c *complaints, given func(key string) bool) {
	v := &h.Convert
	if n := v.AtOnce; n != AsMeasured && (n < 0 || n > mostAtOnce || n == 0 && given("convert.at_once")) {
		c.bad("convert.at_once", "leave it out, write a number from 1 to 64, or \"measured\"",
			"%d pictures cannot be made at once", int(n))
	}
	if d := v.Device; d != encoders.Auto && d != encoders.None && d != "" &&
		(encoders.KindOf(d) == "" || path.Clean(d) != d) {
		c.bad("convert.device", "write auto, none, or a device such as /dev/dri/renderD128, /dev/nvidia0 or /dev/video10",
			"%q is no device that makes pictures", d)
	}
	if len(v.Ladder) > mostRungs {
		c.bad("convert.ladder", "leave some out", "%d heights are more than %d", len(v.Ladder), mostRungs)
	}
	for i, n := range v.Ladder {
		if n < leastLines || n > mostLines || n%2 != 0 {
			c.bad(fmt.Sprintf("convert.ladder[%d]", i), "write even numbers of lines, such as [1080, 720, 480]",
				"a picture of %d lines cannot be made", n)
		}
	}
	if n := v.PreparedLimit; n != 0 && n < leastPrepared || n == 0 && given("convert.prepared_limit") {
		c.bad("convert.prepared_limit", "leave it out, or write at least 100 MiB", "%s are too little for a film", n)
	}
}
