package encoders

import (
	"slices"
	"strings"
	"testing"
)

var every = []Device{
	{"/dev/dri/renderD128", "i915", Render},
	{"/dev/dri/renderD129", "amdgpu", Render},
	{"/dev/dri/renderD130", "nvidia", Render},
	{"/dev/nvidia0", "nvidia", NVIDIA},
	{"/dev/video11", "bcm2835-codec", M2M},
}

func names(list []Way) string {
	var out []string
	for _, w := range list {
		out = append(out, w.Name())
	}
	return strings.Join(out, ", ")
}

func TestCandidates(t *testing.T) {
	h264 := func(e string) bool { return strings.HasPrefix(e, "h264_") }
	for _, c := range []struct {
		what, want string
		devices    []Device
		has        func(string) bool
		ways       string
	}{
		{"nothing there", Auto, nil, h264, "software"},
		{"software alone is wanted", None, every, h264, "software"},
		{"nothing is said", "", every[1:2], h264, "va-api /dev/dri/renderD129, software"},
		{"all", Auto, every, h264, "nvenc /dev/nvidia0, va-api /dev/dri/renderD128, va-api /dev/dri/renderD129, " +
			"qsv /dev/dri/renderD128, v4l2-m2m /dev/video11, software"},
		{"one", "/dev/dri/renderD129", every, h264, "va-api /dev/dri/renderD129, software"},
		{"one that is not there", "/dev/dri/renderD140", every, h264, "software"},
		{"ffmpeg without any of it", Auto, every, func(string) bool { return false }, "software"},
		{"more than H.264", "/dev/dri/renderD129", every, func(e string) bool { return strings.HasSuffix(e, "_vaapi") },
			"va-api /dev/dri/renderD129, va-api /dev/dri/renderD129 hevc, va-api /dev/dri/renderD129 av1, software"},
		{"a driver that is not known", Auto, []Device{{"/dev/dri/renderD128", "", Render}}, h264,
			"va-api /dev/dri/renderD128, qsv /dev/dri/renderD128, software"},
	} {
		if got := names(Candidates(c.want, c.devices, c.has)); got != c.ways {
			t.Errorf("%s: got %s; want %s", c.what, got, c.ways)
		}
	}
}

func TestWorking(t *testing.T) {
	all := Candidates(Auto, every, func(e string) bool { return !strings.HasPrefix(e, "av1") })
	for what, c := range map[string]struct {
		works func(Way) bool
		ways  string
	}{
		"all work":      {func(Way) bool { return true }, "nvenc /dev/nvidia0, nvenc /dev/nvidia0 hevc, software"},
		"software only": {func(w Way) bool { return !w.Hardware() }, "software"},
		"not even that": {func(Way) bool { return false }, ""},
		"the second": {func(w Way) bool { return w.API == VAAPI || !w.Hardware() },
			"va-api /dev/dri/renderD128, va-api /dev/dri/renderD128 hevc, software"},
		"HEVC by another": {func(w Way) bool { return (w.API == QSV) == (w.Codec == "hevc") },
			"nvenc /dev/nvidia0, qsv /dev/dri/renderD128 hevc, software"},
		"only HEVC": {func(w Way) bool { return w.Codec == "hevc" || !w.Hardware() },
			"nvenc /dev/nvidia0 hevc, software"},
	} {
		if got := names(Working(all, c.works)); got != c.ways {
			t.Errorf("%s: got %s; want %s", what, got, c.ways)
		}
	}
}

// TestCommandLines holds the arguments of every way, as ffmpeg's documents have them.
func TestCommandLines(t *testing.T) {
	for _, c := range []struct {
		way                    Way
		before, filter, encode string
	}{
		{InSoftware, "", "format=yuv420p", "-c:v libx264 -preset veryfast -sc_threshold 0 -profile:v high -bf 0 -g 1000 " +
			"-b:v 4000000 -maxrate 6000000 -bufsize 8000000 -bsf:v dump_extra=freq=keyframe"},
		{Way{VAAPI, "/dev/dri/renderD128", "h264"}, "-init_hw_device vaapi=gpu:/dev/dri/renderD128 -filter_hw_device gpu " +
			"-hwaccel vaapi -hwaccel_device gpu", "format=nv12,hwupload", "-c:v h264_vaapi -rc_mode VBR -async_depth 2 " +
			"-profile:v high -bf 0 -g 1000 -b:v 4000000 -maxrate 6000000 -bufsize 8000000 " +
			"-bsf:v dump_extra=freq=keyframe"},
		{Way{VAAPI, "/dev/dri/renderD128", "av1"}, "-init_hw_device vaapi=gpu:/dev/dri/renderD128 -filter_hw_device gpu " +
			"-hwaccel vaapi -hwaccel_device gpu", "format=nv12,hwupload", "-c:v av1_vaapi -rc_mode VBR -async_depth 2 " +
			"-bf 0 -g 1000 -b:v 4000000 -maxrate 6000000 -bufsize 8000000"},
		{Way{QSV, "/dev/dri/renderD129", "hevc"}, "-init_hw_device qsv=gpu:hw_any,child_device=/dev/dri/renderD129 " +
			"-filter_hw_device gpu", "format=nv12,hwupload=extra_hw_frames=16", "-c:v hevc_qsv -preset veryfast " +
			"-look_ahead 0 -forced_idr 1 -async_depth 2 -profile:v main -tag:v hvc1 -bf 0 -g 1000 -b:v 4000000 " +
			"-maxrate 6000000 -bufsize 8000000 -bsf:v dump_extra=freq=keyframe"},
		{Way{NVENC, "/dev/nvidia1", "h264"}, "-hwaccel cuda -hwaccel_device 1", "format=yuv420p", "-c:v h264_nvenc -gpu 1 " +
			"-preset p4 -rc vbr -no-scenecut 1 -forced-idr 1 -profile:v high -bf 0 -g 1000 -b:v 4000000 -maxrate " +
			"6000000 -bufsize 8000000 -bsf:v dump_extra=freq=keyframe"},
		{Way{V4L2, "/dev/video11", "h264"}, "", "format=nv12", "-c:v h264_v4l2m2m -bf 0 -g 1000 -b:v 4000000 -maxrate " +
			"6000000 -bufsize 8000000 -bsf:v dump_extra=freq=keyframe"},
	} {
		for _, x := range [][2]string{{strings.Join(c.way.Before(), " "), c.before}, {c.way.Filter(), c.filter},
			{strings.Join(c.way.Encode(4_000_000, Usual), " "), c.encode}} {
			if x[0] != x[1] {
				t.Errorf("%s:\n got %s\nwant %s", c.way.Name(), x[0], x[1])
			}
		}
	}
}

func TestKinds(t *testing.T) {
	for path, want := range map[string]Kind{"/dev/dri/renderD128": Render, "/dev/dri/card0": "", "/dev/nvidia0": NVIDIA,
		"/dev/nvidiactl": "", "/dev/nvidia-uvm": "", "/dev/video10": M2M, "/dev/videos": "", "/dev/dri": "",
		"/tmp/renderD128": "", "": ""} {
		if got := KindOf(path); got != want {
			t.Errorf("%q is %q, not %q", path, got, want)
		}
	}
	var apis []API
	for _, d := range every {
		apis = append(apis, Candidates(d.Path, every, func(string) bool { return true })[0].API)
	}
	if want := []API{VAAPI, VAAPI, Software, NVENC, V4L2}; !slices.Equal(apis, want) {
		t.Errorf("got %v, want %v", apis, want)
	}
}
