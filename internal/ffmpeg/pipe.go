package ffmpeg

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// niceness is how much what is watched now gives way to the rest of the machine.
const niceness = 5

// Pipe runs ffmpeg on an open file for as long as take reads what it writes. before come before the
// input among its arguments, after behind it. It ends with take, with the context, and with us.
func (t Tools) Pipe(ctx context.Context, f *os.File, before, after []string, take func(io.Reader) error) error {
	_, err := t.Timed(ctx, f, before, after, take)
	return err
}

// Used is what a run took.
type Used struct {
	Wall, Processor time.Duration
	Memory          int64 // at most, in bytes
}

// Timed is Pipe, and tells what the run took.
func (t Tools) Timed(ctx context.Context, f *os.File, before, after []string, take func(io.Reader) error) (used Used,
	err error) {
	done := make(chan error, 1)
	began := time.Now()
	go func() {
		// The signal that ends it when we end goes with this thread.
		runtime.LockOSThread()
		done <- t.pipe(ctx, f, before, after, take, &used)
	}()
	err = <-done
	used.Wall = time.Since(began)
	return used, err
}

func (t Tools) pipe(ctx context.Context, f *os.File, before, after []string, take func(io.Reader) error,
	used *Used) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	args := slices.Concat(t.FFmpeg[1:], []string{"-nostdin", "-v", "error"}, before, input, after, []string{"pipe:1"})
	c := exec.CommandContext(ctx, t.FFmpeg[0], args...)
	c.ExtraFiles = []*os.File{f}
	c.Env = environment(t.FFmpeg)
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	c.WaitDelay = 2 * time.Second
	said := &tail{}
	c.Stderr = said
	if err := c.Start(); err != nil {
		return err
	}
	// Both as well as they can be had: it gives way, and is the first to go where memory runs out.
	_ = syscall.Setpriority(syscall.PRIO_PROCESS, c.Process.Pid, niceness)
	_ = os.WriteFile(fmt.Sprintf("/proc/%d/oom_score_adj", c.Process.Pid), []byte("1000"), 0)
	taken := take(out)
	byItself := errors.Is(taken, io.EOF) || errors.Is(taken, io.ErrUnexpectedEOF)
	if !byItself {
		cancel()
	}
	ended := c.Wait()
	if s := c.ProcessState; s != nil {
		used.Processor = s.UserTime() + s.SystemTime()
		if u, ok := s.SysUsage().(*syscall.Rusage); ok {
			used.Memory = int64(u.Maxrss) << 10
		}
	}
	var exit *exec.ExitError
	if errors.As(ended, &exit) && byItself && ctx.Err() == nil && !exit.Exited() {
		return fmt.Errorf("ffmpeg was ended (%s); where the kernel did that for want of memory, a larger [server] "+
			"memory helps", exit)
	}
	if errors.As(ended, &exit) && exit.Exited() && exit.ExitCode() != 0 {
		return fmt.Errorf("ffmpeg ended with %d: %s", exit.ExitCode(), said.last())
	}
	if taken != nil && errors.Is(taken, io.ErrUnexpectedEOF) && said.last() != "" {
		return fmt.Errorf("%w: ffmpeg says: %s", taken, said.last())
	}
	return taken
}

// tail keeps the end of what a program says.
type tail struct{ b bytes.Buffer }

func (t *tail) Write(b []byte) (int, error) {
	if t.b.Len() > 16<<10 {
		t.b.Next(t.b.Len() - 4<<10)
	}
	return t.b.Write(b)
}

func (t *tail) last() string {
	lines := strings.Split(strings.TrimSpace(strings.ToValidUTF8(t.b.String(), "?")), "\n")
	return strings.ReplaceAll(lines[len(lines)-1], "/proc/self/fd/3", "the file")
}

// Begins gives the moment, in seconds, from which ffmpeg counts in a file, and how long it is.
func (t Tools) Begins(ctx context.Context, f *os.File) (start, length float64, err error) {
	args := append([]string{"-v", "error"}, input...)
	out, _, err := run(ctx, f, t.FFprobe, append(args, "-show_entries", "format=start_time,duration", "-of", "json")...)
	if err != nil {
		return 0, 0, err
	}
	var said struct {
		Format struct {
			Start    string `json:"start_time"`
			Duration string
		}
	}
	if err := json.Unmarshal(out, &said); err != nil {
		return 0, 0, fmt.Errorf("what ffprobe says cannot be read: %w", err)
	}
	start, _ = strconv.ParseFloat(said.Format.Start, 64) // where it does not tell, it is 0
	length, _ = strconv.ParseFloat(said.Format.Duration, 64)
	if !(start > -1e6 && start < 1e7) || !(length >= 0 && length < 1e7) {
		return 0, 0, errors.New("what ffprobe says of its times makes no sense")
	}
	return start, length, nil
}
