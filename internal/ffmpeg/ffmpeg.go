// Package ffmpeg has ffmpeg look into files: for a picture, for chapters, for loudness.
// Files come from anywhere, so it is given one open file and no names, may read nothing
// else, gives way to all else on the machine, and is ended when it takes too long or says
// too much.
package ffmpeg

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/machine"
)

// Tools is how ffmpeg and ffprobe are started: a program, and what comes before the
// other arguments.
type Tools struct{ FFmpeg, FFprobe []string }

// ErrMissing says that ffmpeg is not where the server runs.
var ErrMissing = errors.New("there is no ffmpeg where the server runs")

// Find finds both in the image, if this is one that has them, else on the PATH.
func Find() (Tools, error) {
	if t, err := In(blueprint.FFmpegInside); err == nil {
		return t, nil
	}
	ffmpeg, err := exec.LookPath("ffmpeg")
	if err != nil {
		return Tools{}, fmt.Errorf("%w: %w", ErrMissing, err)
	}
	ffprobe, err := exec.LookPath("ffprobe")
	if err != nil {
		return Tools{}, fmt.Errorf("%w: %w", ErrMissing, err)
	}
	return Tools{[]string{ffmpeg}, []string{ffprobe}}, nil
}

// In finds both in a folder that package pack made a layer of.
func In(folder string) (t Tools, err error) {
	at := func(name string) string { return filepath.Join(folder, name) }
	for _, name := range []string{"ffmpeg", "ffprobe"} {
		if _, err := os.Stat(at(name)); err != nil {
			return t, err
		}
	}
	loader := at(path.Base(blueprint.FFmpegLoader))
	if _, err := os.Stat(loader); errors.Is(err, os.ErrNotExist) { // both are static
		return Tools{[]string{at("ffmpeg")}, []string{at("ffprobe")}}, nil
	} else if err != nil {
		return t, err
	}
	// An engine that brings a graphics device puts its libraries where a distribution would.
	libraries := at("lib") + ":/usr/lib/x86_64-linux-gnu:/usr/lib/aarch64-linux-gnu:/usr/lib64"
	with := func(name string) []string { return []string{loader, "--library-path", libraries, at(name)} }
	return Tools{with("ffmpeg"), with("ffprobe")}, nil
}

// environment is that of a program, and all of it.
func environment(program []string) []string {
	env := []string{"PATH=/usr/local/bin:/usr/bin:/bin", "LC_ALL=C"}
	drivers := filepath.Join(filepath.Dir(program[0]), "lib", "dri")
	if st, err := os.Stat(drivers); err == nil && st.IsDir() {
		env = append(env, "LIBVA_DRIVERS_PATH="+drivers)
	}
	return env
}

// Bounds of what one run may take and say.
const (
	longest  = 30 * time.Minute
	mostSaid = 32 << 20
)

// formats are those that are opened: none that names other files.
const formats = "matroska,webm,mov,mp4,m4a,3gp,3g2,mj2,avi,mpegts,mpeg,flac,mp3,ogg,wav,aac,ac3,asf,flv"

// input is how the open file is named to ffmpeg.
var input = []string{"-protocol_whitelist", "file", "-format_whitelist", formats, "-i", "/proc/self/fd/3"}

// run runs a program on an open file, gently, and gives what it writes.
func run(ctx context.Context, f *os.File, program []string, args ...string) (out, errs []byte, err error) {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	done := make(chan struct{})
	go func() {
		defer close(done)
		machine.Gently() // what it starts inherits that
		c := exec.CommandContext(ctx, program[0], slices.Concat(program[1:], args)...)
		c.ExtraFiles = []*os.File{f}
		c.Env = environment(program)
		c.WaitDelay = 5 * time.Second
		var o, e bounded
		c.Stdout, c.Stderr = &o, &e
		err = start(c)
		out, errs = o.b.Bytes(), e.b.Bytes()
	}()
	<-done
	if ctx.Err() != nil {
		return out, errs, context.Cause(ctx)
	}
	var ended *exec.ExitError
	if errors.As(err, &ended) {
		if s, ok := ended.Sys().(syscall.WaitStatus); ok && s.Signaled() {
			return out, errs, fmt.Errorf("ffmpeg was ended (%s); where the kernel did that for want of memory, a "+
				"larger [server] memory helps", s.Signal())
		}
		lines := strings.Split(strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(string(errs)),
			"Conversion failed!")), "\n")
		return out, errs, fmt.Errorf("ffmpeg could not read it: %s",
			strings.ReplaceAll(strings.ToValidUTF8(lines[len(lines)-1], "?"), "/proc/self/fd/3", "the file"))
	}
	return out, errs, err
}

// start runs a command that ends with us. The signal goes with the thread that started
// it, which therefore waits for it.
func start(c *exec.Cmd) error {
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := c.Start(); err != nil {
		return err
	}
	// Where memory runs out it is the first to go, not the server. A kernel that does not
	// let us say so decides by itself.
	_ = os.WriteFile(fmt.Sprintf("/proc/%d/oom_score_adj", c.Process.Pid), []byte("1000"), 0)
	return c.Wait()
}

type bounded struct{ b bytes.Buffer }

func (w *bounded) Write(b []byte) (int, error) {
	if w.b.Len()+len(b) > mostSaid {
		return 0, errors.New("it says too much")
	}
	return w.b.Write(b)
}

// Frame gives a picture of a film at a moment, in seconds, as PNG: of the second that
// follows, the one that is most like the others.
func (t Tools) Frame(ctx context.Context, f *os.File, at float64) ([]byte, error) {
	args := append([]string{"-nostdin", "-v", "error", "-threads", "1", "-ss", strconv.FormatFloat(at, 'f', 3, 64)},
		input...)
	out, _, err := run(ctx, f, t.FFmpeg, append(args, "-map", "0:v:0", "-an", "-sn", "-dn", "-vf",
		"thumbnail=24,scale='min(1280,iw)':-2", "-frames:v", "1", "-f", "image2pipe", "-c:v", "png", "-")...)
	if err == nil && len(out) == 0 {
		err = errors.New("there is no picture at that moment")
	}
	return out, err
}

// Chapters gives the chapters that a file names; none is no error.
func (t Tools) Chapters(ctx context.Context, f *os.File) ([]media.Chapter, error) {
	args := append([]string{"-v", "error"}, input...)
	out, _, err := run(ctx, f, t.FFprobe, append(args, "-show_chapters", "-of", "json")...)
	if err != nil {
		return nil, err
	}
	var said struct {
		Chapters []struct {
			Start string `json:"start_time"`
			Tags  struct{ Title string }
		}
	}
	if err := json.Unmarshal(out, &said); err != nil {
		return nil, fmt.Errorf("what ffprobe says of its chapters cannot be read: %w", err)
	}
	list := []media.Chapter{}
	for _, c := range said.Chapters {
		at, err := strconv.ParseFloat(c.Start, 64)
		if err != nil || at < 0 || math.IsInf(at, 0) || math.IsNaN(at) || len(list) == mostChapters {
			continue
		}
		name := strings.Join(strings.Fields(strings.ToValidUTF8(c.Tags.Title, "")), " ")
		list = append(list, media.Chapter{At: at, Name: name[:min(len(name), 300)]})
	}
	return list, nil
}

// mostChapters bounds how many chapters of a file are taken.
const mostChapters = 200

// Loudness measures how loud the first track of sound is.
func (t Tools) Loudness(ctx context.Context, f *os.File) (media.Loud, error) {
	args := append([]string{"-nostdin", "-hide_banner", "-nostats", "-threads", "1"}, input...)
	_, errs, err := run(ctx, f, t.FFmpeg,
		append(args, "-map", "0:a:0", "-vn", "-sn", "-dn", "-af", "ebur128=peak=true:framelog=verbose", "-f", "null",
			"-")...)
	if err != nil {
		return media.Loud{}, err
	}
	return media.ReadLoud(string(errs))
}
