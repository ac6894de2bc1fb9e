package delivery

import (
	"fmt"
	"strings"

	"cozyshelf/internal/core/media"
)

// Code names a reason for programs.
type Code string

// The reasons.
const (
	Container        Code = "container"         // the device does not open the file's container
	PictureCodec     Code = "picture-codec"     // the device does not play the picture's codec
	PictureProfile   Code = "picture-profile"   // nor this profile, level or depth of it
	PictureHDR       Code = "picture-hdr"       // nor shows a high dynamic range
	PictureContainer Code = "picture-container" // what it plays cannot be carried to it
	DeviceHeight     Code = "device-height"     // the device wants a smaller picture
	WishedHeight     Code = "wished-height"     // the viewer does
	BoundHeight      Code = "bound-height"      // the member may not have one so large
	BoundBitrate     Code = "bound-bitrate"     // nor so many bits a second
	BoundTooLow      Code = "bound-too-low"     // no picture fits into what the member may have
	PictureCopied    Code = "picture-copied"    // the picture goes as it is
	SoundCodec       Code = "sound-codec"       // the device does not play the sound's codec
	SoundChannels    Code = "sound-channels"    // nor so many channels
	SoundContainer   Code = "sound-container"   // what it plays cannot be carried to it
	SoundChosen      Code = "sound-chosen"      // another sound than the first was chosen
	SoundLevelled    Code = "sound-levelled"    // loud parts are to be no louder than others
	SubtitlesDrawn   Code = "subtitles-drawn"   // subtitles are to be drawn into the picture
	Smaller          Code = "smaller"           // smaller than it could be, since the machine is busy
	Larger           Code = "larger"            // larger than wished for, since nothing smaller can be made
	PreparedCopy     Code = "prepared-copy"     // a copy was prepared, and goes instead
	Busy             Code = "busy"              // the machine converts as much as it can
	NoConverter      Code = "no-converter"      // there is no ffmpeg
	ConvertingOff    Code = "converting-off"    // the household converts nothing
	NothingInCommon  Code = "nothing-in-common" // the device plays nothing that can be made
	NoPlaylist       Code = "no-playlist"       // the device takes no MP4
	Unreadable       Code = "unreadable"        // it is not known what is in the file
)

// Reason says why something is not sent as it is.
type Reason struct {
	Code Code   `json:"code"`
	Text string `json:"text"` // for the member
}

// spoken gives the name by which people know a codec.
func spoken(codec string) string {
	if s := spokenCodecs[codec]; s != "" {
		return s
	}
	if codec == "" {
		return "of a kind that is not known"
	}
	return strings.ToUpper(codec)
}

var spokenCodecs = map[string]string{"h264": "H.264", "hevc": "HEVC", "av1": "AV1", "vp9": "VP9", "vp8": "VP8",
	"mpeg4": "MPEG-4 Part 2", "mpeg2video": "MPEG-2", "mpeg1video": "MPEG-1", "theora": "Theora",
	"mjpeg": "Motion JPEG", "prores": "ProRes", "wmv3": "Windows Media Video", "wmv2": "Windows Media Video",
	"wmv1": "Windows Media Video",
	"flv1": "Sorenson H.263", "vp6f": "VP6", "wmav2": "Windows Media Audio", "wmav1": "Windows Media Audio",
	"wmapro": "Windows Media Audio", "vc1": "VC-1", "aac": "AAC",
	"ac3": "AC-3", "eac3": "E-AC-3", "dts": "DTS", "truehd": "TrueHD", "opus": "Opus", "vorbis": "Vorbis",
	"flac": "FLAC", "mp3": "MP3", "mp2": "MPEG Layer II", "alac": "ALAC", "pcm": "PCM", "pcm_s16le": "PCM",
	"pcm_s16be": "PCM", "pcm_u8": "PCM"}

func spokenContainer(c string) string {
	if s := map[string]string{"mp4": "MP4", "matroska": "Matroska", "webm": "WebM", "avi": "AVI",
		"mpegts": "MPEG transport streams", "mpeg": "MPEG programme streams", "flac": "FLAC", "mp3": "MP3", "ogg": "Ogg",
		"wav": "WAV", "adts": "ADTS", "asf": "Windows Media", "flv": "Flash Video"}[c]; s != "" {
		return s
	}
	if c == "" {
		return "files of this kind"
	}
	return c
}

// described tells profile, level and depth of a picture.
func described(t media.Track) string {
	out := spoken(t.Codec)
	if t.Profile != "" {
		out += " " + t.Profile
	}
	if t.Level != "" {
		out += " at level " + t.Level
	}
	if t.BitDepth > 8 && !strings.Contains(t.Profile, fmt.Sprint(t.BitDepth)) {
		out += fmt.Sprintf(" with %d bits", t.BitDepth)
	}
	if t.Chroma != "" && t.Chroma != "4:2:0" && !strings.Contains(t.Profile, t.Chroma) {
		out += " " + t.Chroma
	}
	return out
}

func megabits(bits int64) string {
	return strings.TrimSuffix(fmt.Sprintf("%.1f", float64(bits)/1e6), ".0") + " Mbit/s"
}

func list(names []string) string {
	if len(names) == 0 {
		return "what it did not say"
	}
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = spokenContainer(n)
	}
	return strings.Join(out, ", ")
}
