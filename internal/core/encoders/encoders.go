// Package encoders knows the ways in which ffmpeg makes pictures: in software, or by a graphics
// device. Which of them a machine has is found from its devices and from what its ffmpeg lists;
// whether one works is only known once it was tried.
//
// Graphics devices decode what they can, and encode. Between the two a picture is in memory, where
// the same filters run on it for every way, so that it looks the same by all.
package encoders

import (
	"fmt"
	"slices"
	"strings"
)

// API is what a way goes through.
type API string

// The ways there are, in the order in which they are preferred.
const (
	NVENC    API = "nvenc"    // NVIDIA's encoder
	VAAPI    API = "va-api"   // Video Acceleration API
	QSV      API = "qsv"      // Intel Quick Sync Video
	V4L2     API = "v4l2-m2m" // a memory-to-memory device of Video4Linux
	Software API = "software"
)

// Way is one way to make a picture.
type Way struct {
	API    API    `json:"api"`
	Device string `json:"device,omitempty"`
	Codec  string `json:"codec"` // h264, hevc or av1
}

// InSoftware makes H.264, and is there wherever ffmpeg is.
var InSoftware = Way{API: Software, Codec: "h264"}

// Name tells ways apart, and is shown to people.
func (w Way) Name() string {
	name := string(w.API)
	if w.Device != "" {
		name += " " + w.Device
	}
	if w.Codec != "h264" {
		name += " " + w.Codec
	}
	return name
}

// Hardware reports whether a device does it.
func (w Way) Hardware() bool { return w.API != Software }

// Encoder is ffmpeg's name of the encoder.
func (w Way) Encoder() string {
	switch w.API {
	case NVENC:
		return w.Codec + "_nvenc"
	case VAAPI:
		return w.Codec + "_vaapi"
	case QSV:
		return w.Codec + "_qsv"
	case V4L2:
		return w.Codec + "_v4l2m2m"
	}
	return "libx264"
}

// Device is a device that may make pictures.
type Device struct {
	Path   string
	Driver string // of the kernel, such as i915; empty where it is not known
	Kind   Kind
}

// Kind is which sort of device it is.
type Kind string

// The kinds.
const (
	Render Kind = "render" // a render node of the kernel's graphics (DRM), such as /dev/dri/renderD128
	NVIDIA Kind = "nvidia" // /dev/nvidia0
	M2M    Kind = "m2m"    // /dev/video10 and the like
)

// KindOf tells the kind of a device from its path; empty where it is none that makes pictures.
func KindOf(path string) Kind {
	name := path[strings.LastIndex(path, "/")+1:]
	number := func(prefix string) bool {
		rest, ok := strings.CutPrefix(name, prefix)
		return ok && rest != "" && strings.Trim(rest, "0123456789") == ""
	}
	switch {
	case strings.HasPrefix(path, "/dev/dri/") && number("renderD"):
		return Render
	case strings.HasPrefix(path, "/dev/nvidia") && number("nvidia"):
		return NVIDIA
	case strings.HasPrefix(path, "/dev/video") && number("video"):
		return M2M
	}
	return ""
}

// What a household says of devices.
const (
	Auto = "auto" // every device that is there
	None = "none" // software alone
)

// Candidates gives the ways that a machine may have, the preferred first; software is the last, and
// always among them. want is auto, none, or the path of a device; has reports whether ffmpeg lists
// an encoder.
func Candidates(want string, devices []Device, has func(encoder string) bool) []Way {
	var out []Way
	for _, d := range devices {
		if want == None || want != "" && want != Auto && want != d.Path {
			continue
		}
		var apis []API
		switch d.Kind {
		case NVIDIA:
			apis = []API{NVENC}
		case M2M:
			apis = []API{V4L2}
		case Render:
			if d.Driver == "nvidia" || d.Driver == "nvidia-drm" {
				continue // it encodes through /dev/nvidia0
			}
			apis = []API{VAAPI}
			if d.Driver == "i915" || d.Driver == "xe" || d.Driver == "" {
				apis = append(apis, QSV)
			}
		}
		for _, api := range apis {
			for _, codec := range []string{"h264", "hevc", "av1"} {
				if api == V4L2 && slices.ContainsFunc(out, func(o Way) bool { return o.API == api && o.Codec == codec }) {
					continue // ffmpeg looks for the device itself
				}
				if w := (Way{API: api, Device: d.Path, Codec: codec}); has(w.Encoder()) {
					out = append(out, w)
				}
			}
		}
	}
	rank := []API{NVENC, VAAPI, QSV, V4L2}
	slices.SortStableFunc(out, func(a, b Way) int { return slices.Index(rank, a.API) - slices.Index(rank, b.API) })
	return append(out, InSoftware)
}

// Working keeps, of ways in the order of Candidates, the first that works for each codec, and
// software.
func Working(tried []Way, works func(Way) bool) (out []Way) {
	for _, w := range tried {
		if w.Hardware() && slices.ContainsFunc(out, func(o Way) bool { return o.Codec == w.Codec }) {
			continue
		}
		if works(w) {
			out = append(out, w)
		}
	}
	return out
}

// Before are ffmpeg's arguments before the input: the device, and that it decodes what it can.
func (w Way) Before() []string {
	switch w.API {
	case NVENC:
		return []string{"-hwaccel", "cuda", "-hwaccel_device", w.number()}
	case VAAPI:
		return []string{"-init_hw_device", "vaapi=gpu:" + w.Device, "-filter_hw_device", "gpu", "-hwaccel", "vaapi",
			"-hwaccel_device", "gpu"}
	case QSV:
		return []string{"-init_hw_device", "qsv=gpu:hw_any,child_device=" + w.Device, "-filter_hw_device", "gpu"}
	}
	return nil
}

// Filter is what follows the filters, to hand a picture of 8 bits to the encoder.
func (w Way) Filter() string {
	switch w.API {
	case VAAPI:
		return "format=nv12,hwupload"
	case QSV:
		return "format=nv12,hwupload=extra_hw_frames=16"
	case V4L2:
		return "format=nv12"
	}
	return "format=yuv420p"
}

// Quality is how much work an encoder in software does.
type Quality string

// What Encode is told of it.
const (
	Quick   Quality = "superfast"
	Usual   Quality = "veryfast"
	Careful Quality = "medium" // where nobody waits
)

// Encode are ffmpeg's arguments for the encoder. Pictures come out in their order, a key frame stands
// only where it is asked for, and every key frame brings what a decoder must know, so that one way
// can go on where another ended.
func (w Way) Encode(bitrate int64, q Quality) []string {
	out := []string{"-c:v", w.Encoder()}
	switch w.API {
	case NVENC:
		out = append(out, "-gpu", w.number(), "-preset", "p4", "-rc", "vbr", "-no-scenecut", "1", "-forced-idr", "1")
	case VAAPI:
		out = append(out, "-rc_mode", "VBR", "-async_depth", "2")
	case QSV:
		out = append(out, "-preset", "veryfast", "-look_ahead", "0", "-forced_idr", "1", "-async_depth", "2")
	case Software:
		out = append(out, "-preset", string(q), "-sc_threshold", "0")
	}
	switch {
	case w.API == V4L2:
	case w.Codec == "h264":
		out = append(out, "-profile:v", "high")
	case w.Codec == "hevc":
		out = append(out, "-profile:v", "main", "-tag:v", "hvc1")
	}
	out = append(out, "-bf", "0", "-g", "1000", "-b:v", fmt.Sprint(bitrate), "-maxrate", fmt.Sprint(bitrate*3/2),
		"-bufsize", fmt.Sprint(bitrate*2))
	if w.Codec != "av1" {
		out = append(out, "-bsf:v", "dump_extra=freq=keyframe")
	}
	return out
}

// Moov is how ffmpeg's file begins: an encoder of Video4Linux tells what a decoder must know only
// with its first picture.
func (w Way) Moov() string {
	if w.API == V4L2 {
		return "delay_moov"
	}
	return "empty_moov"
}

// number is that of a device, such as 1 for /dev/nvidia1.
func (w Way) number() string {
	if n := w.Device[strings.LastIndexFunc(w.Device, func(r rune) bool { return r < '0' || r > '9' })+1:]; n != "" {
		return n
	}
	return "0"
}

// Drivers are the names of what VA-API and QSV need of this machine's libraries at run time: they are
// opened by name, so nothing that lists what a program loads tells of them. Each is a pattern within a
// folder of libraries.
var Drivers = []string{"dri/*_drv_video.so", "libmfx-gen.so.1*", "libmfxhw64.so.1*", "libigfxcmrt.so.*"}
