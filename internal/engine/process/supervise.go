package process

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"

	"golang.org/x/sys/unix"
)

// How long to wait before a crashed server is started again: after one that lived for a
// while the first pause; after one that died young twice as long each time, up to the last.
const (
	firstPause = 250 * time.Millisecond
	lastPause  = time.Minute
	settled    = 10 * time.Second
	stopGrace  = 10 * time.Second
)

// Supervise runs the server of one folder until it is told to end. It is the
// whole of the hidden command "supervise". At the start of the machine nothing is
// done where somebody has stopped the server.
func Supervise(dir string, boot bool) error {
	d, err := boundary.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	if boot && d.Exists(stoppedFile) {
		return nil
	}
	c, err := description(d)
	if err != nil {
		return err
	}
	// Somebody may not want to wait for the next try. Who holds the lock is told so.
	now := make(chan os.Signal, 1)
	signal.Notify(now, syscall.SIGUSR1)
	run := filepath.Join(dir, runFolder)
	for _, name := range []string{"lock", "run.json", "log", "log.1"} {
		if err := putAside(filepath.Join(run, name)); err != nil {
			return err
		}
	}
	lock, err := os.OpenFile(filepath.Join(run, "lock"), os.O_CREATE|os.O_RDWR|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0o644)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := take(lock); err != nil {
		return err
	}
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, syscall.SIGTERM, syscall.SIGINT)
	signal.Ignore(syscall.SIGHUP)
	log := &logFile{path: filepath.Join(run, "log"), most: maxLog}
	if c.LogLimit > 0 {
		log.most = c.LogLimit / 2 // and as much in the one before it
	}
	defer log.Close()
	// From here on there is nobody to read our standard error.
	if null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0); err == nil {
		for fd := range 3 {
			_ = unix.Dup3(int(null.Fd()), fd, 0) // without it the streams stay open, no more
		}
		null.Close()
	}
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	// The server dies with the thread that started it, so that thread stays.
	runtime.LockOSThread()
	var state says
	pause := firstPause
	for {
		state.Started = time.Now()
		state.write(run, log)
		code, asked := once(exe, c, log, stop)
		state.ExitCode = code
		if !asked {
			state.Restarts++
			if time.Since(state.Started) > settled {
				pause = firstPause
			}
			next := "is started again in " + pause.String()
			if c.Start == household.StartNever {
				next = "stays so, as the household file has it"
			}
			log.line(fmt.Sprintf("supervisor: the server ended with code %d; it %s", code, next))
		}
		state.write(run, log)
		if asked || c.Start == household.StartNever {
			return nil
		}
		select {
		case <-stop:
			return nil
		case <-now:
			pause = firstPause / 2 // and is doubled below
		case <-time.After(pause):
		}
		pause = min(2*pause, lastPause)
	}
}

// putAside moves what stands in the place of a file and is none: a folder could not be replaced, and
// a pipe would hold whoever opens it.
func putAside(name string) error {
	st, err := os.Lstat(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil || st.Mode().IsRegular() {
		return err
	}
	return os.Rename(name, fmt.Sprintf("%s.aside-%d", name, time.Now().UnixNano()))
}

// write notes down what the supervisor says of itself.
func (s says) write(folder string, log *logFile) {
	b, err := json.MarshalIndent(s, "", "  ")
	if err == nil {
		err = atomicfile.Replace(filepath.Join(folder, "run.json"), append(b, '\n'), 0o644, nil)
	}
	if err != nil {
		log.line("supervisor: " + err.Error())
	}
}

// take takes the lock; somebody who looks whether it is held may hold it for a
// moment.
func take(lock *os.File) error {
	for range 200 {
		err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		if err == nil {
			return nil
		}
		if !errors.Is(err, unix.EWOULDBLOCK) {
			return err
		}
		time.Sleep(5 * time.Millisecond)
	}
	return errors.New("another supervisor runs already")
}

// once runs the server until it ends. asked says that we were asked to end it.
func once(exe string, c blueprint.Service, log *logFile, stop <-chan os.Signal) (code int, asked bool) {
	r, w, err := os.Pipe()
	if err != nil {
		log.line("supervisor: " + err.Error())
		return -1, false
	}
	cmd := exec.Command(exe, c.Command...)
	cmd.Dir = "/"
	cmd.Stdout, cmd.Stderr = w, w
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		w.Close()
		r.Close()
		log.line("supervisor: the server cannot be started: " + err.Error())
		return -1, false
	}
	w.Close()
	copied := make(chan struct{})
	go func() { defer close(copied); log.copy(r) }()
	ended, watched := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(watched)
		select {
		case <-stop:
			asked = true
			_ = cmd.Process.Signal(syscall.SIGTERM) // it may have ended just now
			select {
			case <-ended:
			case <-time.After(stopGrace):
				_ = cmd.Process.Kill()
			}
		case <-ended:
		}
	}()
	_ = cmd.Wait() // the code below tells
	close(ended)
	<-watched // the watcher has let go of asked
	<-copied  // all output is written
	r.Close()
	return cmd.ProcessState.ExitCode(), asked
}

// maxLog is how large a log may grow before it is put aside; one older one is kept.
const maxLog = 8 << 20

// logFile takes lines and puts the time in front.
type logFile struct {
	path string
	most int64 // how large it may grow before it is put aside
	f    *os.File
	size int64
}

func (l *logFile) line(s string) {
	if l.f == nil || l.size > l.most {
		l.Close()
		if l.size > l.most {
			_ = os.Rename(l.path, l.path+".1") // if it fails, the log grows on
		}
		err := putAside(l.path)
		if err != nil {
			return
		}
		f, err := os.OpenFile(l.path, os.O_CREATE|os.O_APPEND|os.O_WRONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0o640)
		if err != nil {
			return // nowhere to tell it
		}
		l.f = f
		l.size, _ = f.Seek(0, io.SeekEnd)
	}
	n, _ := fmt.Fprintf(l.f, "%s %s\n", time.Now().UTC().Format(stamp), s)
	l.size += int64(n)
}

// stamp is RFC 3339 with as many digits in every line, so that lines sort.
const stamp = "2006-01-02T15:04:05.000000000Z07:00"

func (l *logFile) copy(r io.Reader) {
	b := bufio.NewReaderSize(r, 64<<10)
	for {
		s, err := b.ReadSlice('\n')
		if n := len(s); n > 0 {
			if s[n-1] == '\n' {
				s = s[:n-1]
			}
			l.line(string(s))
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return
		}
	}
}

func (l *logFile) Close() error {
	if l.f == nil {
		return nil
	}
	err := l.f.Close()
	l.f = nil
	return err
}
