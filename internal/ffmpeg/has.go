package ffmpeg

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/machine"
)

// patience is how long ffmpeg may take to say what it is and has.
const patience = 20 * time.Second

// ask has ffmpeg say something of itself.
func (t Tools) ask(ctx context.Context, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	args = slices.Concat(t.FFmpeg[1:], []string{"-nostdin", "-hide_banner"}, args)
	c := exec.CommandContext(ctx, t.FFmpeg[0], args...)
	c.Env = environment(t.FFmpeg)
	var said bounded
	c.Stdout = &said
	c.WaitDelay = time.Second
	if err := start(c); err != nil {
		return "", fmt.Errorf("ffmpeg %s: %w", strings.Join(args, " "), err)
	}
	return said.b.String(), nil
}

// Version is which ffmpeg it is, as it says itself.
func (t Tools) Version(ctx context.Context) (string, error) {
	out, err := t.ask(ctx, "-version")
	words := strings.Fields(out)
	if err == nil && (len(words) < 3 || words[1] != "version") {
		err = fmt.Errorf("ffmpeg -version does not say which it is")
	}
	if err != nil {
		return "", err
	}
	return words[2], nil
}

// Encoders gives the names of the encoders that it lists.
func (t Tools) Encoders(ctx context.Context) ([]string, error) {
	out, err := t.ask(ctx, "-encoders")
	return Listed(out), err
}

// Listed reads what ffmpeg lists: below a line of dashes, a line for each, with flags and the name.
func Listed(text string) (names []string) {
	_, list, _ := strings.Cut(text, " ------\n")
	for line := range strings.Lines(list) {
		if words := strings.Fields(line); len(words) >= 2 {
			names = append(names, words[1])
		}
	}
	return names
}

// Film has ffmpeg make a film of its own, from a source that it draws, into an open file: Matroska.
func (t Tools) Film(ctx context.Context, to *os.File, source string, args ...string) error {
	args = slices.Concat([]string{"-nostdin", "-v", "error", "-y", "-f", "lavfi", "-i", source}, args,
		[]string{"-f", "matroska", "/proc/self/fd/3"})
	_, _, err := run(ctx, to, t.FFmpeg, args...)
	return err
}

// Mux puts tracks together, as they are, into an MP4 file whose index is at its beginning: the picture
// and the sound, each the first of its kind in a file or the one whose number is given (counted from
// 1), and subtitles as MP4's own sort: those of the film, and then WebVTT that lies beside it, whose times are from
// where
// the film begins. All keep their times, less that at which the film begins (seconds), so that they stay together. out
// must be open for writing.
func (t Tools) Mux(ctx context.Context, out *os.File, begins float64, picture, sound Part, film *os.File,
	texts Texts) error {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	files := []*os.File{out}
	args := []string{"-nostdin", "-v", "error", "-y", "-copyts"}
	var maps []string
	add := func(p Part, kind string) {
		files = append(files, p.File)
		args = append(args, "-protocol_whitelist", "file", "-format_whitelist", formats, "-i",
			fmt.Sprintf("/proc/self/fd/%d", len(files)+2))
		which := kind
		if p.Track > 0 {
			which = fmt.Sprint(p.Track - 1)
		}
		maps = append(maps, "-map", fmt.Sprintf("%d:%s", len(files)-2, which))
	}
	if picture.File != nil {
		add(picture, "v:0")
	}
	if sound.File != nil {
		add(sound, "a:0")
	}
	if len(texts.Tracks) > 0 {
		files = append(files, film)
		args = append(args, "-protocol_whitelist", "file", "-format_whitelist", formats, "-i",
			fmt.Sprintf("/proc/self/fd/%d", len(files)+2))
		for _, n := range texts.Tracks {
			maps = append(maps, "-map", fmt.Sprintf("%d:%d", len(files)-2, n-1))
		}
	}
	for _, f := range texts.Beside {
		files = append(files, f)
		args = append(args, "-protocol_whitelist", "file", "-format_whitelist", "webvtt", "-f", "webvtt", "-itsoffset",
			strconv.FormatFloat(begins, 'f', 6, 64), "-i", fmt.Sprintf("/proc/self/fd/%d", len(files)+2))
		maps = append(maps, "-map", fmt.Sprintf("%d:s:0", len(files)-2))
	}
	args = slices.Concat(args, maps, []string{"-c", "copy", "-c:s", "mov_text", "-map_metadata", "-1", "-map_chapters",
		"-1", "-output_ts_offset", strconv.FormatFloat(-begins, 'f', 6, 64), "-movflags", "+faststart", "-f", "mp4"})
	for i, l := range texts.Languages {
		if l != "" {
			args = append(args, fmt.Sprintf("-metadata:s:s:%d", i), "language="+l)
		}
	}
	args = append(args, "/proc/self/fd/3")
	var ended error
	done := make(chan struct{})
	go func() {
		defer close(done)
		machine.Gently() // what it starts inherits that
		c := exec.CommandContext(ctx, t.FFmpeg[0], slices.Concat(t.FFmpeg[1:], args)...)
		c.ExtraFiles = files
		c.Env = environment(t.FFmpeg)
		c.WaitDelay = 5 * time.Second
		said := &tail{}
		c.Stderr = said
		if err := start(c); err != nil {
			ended = fmt.Errorf("%w: ffmpeg says: %s", err, said.last())
		}
	}()
	<-done
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return ended
}

// Texts are the subtitles of a film: tracks of its own, counted from 1, and open files of WebVTT beside it.
type Texts struct {
	Tracks    []int
	Beside    []*os.File
	Languages []string // of all of them, in that order, as ISO 639-2 has them; empty where they are not known
}

// Part is a track of a file, by its number counted from 1; 0 for the first of its kind.
type Part struct {
	File  *os.File
	Track int
}
