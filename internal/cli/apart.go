package cli

import (
	"errors"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"slices"
	"strconv"
	"syscall"

	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/storework"

	"golang.org/x/sys/unix"
)

// apartEnv holds the descriptor through which a child tells its exit code.
const apartEnv = "COZYSHELF_CODE_FD"

// within are the commands that are run by this program or an engine, and so need
// no parent to come back in their place.
var within = []string{"serve", "supervise", "healthcheck", "relay", "probe", "look", storework.Command}

// apart runs the command in a child, where network file systems are mounted. One
// that does not answer holds whoever touches it, and no signal ends such a process.
// Then the child is left behind, with all said and done,
// and this process ends in its place. done is false where no child is needed, or this is
// the child: then parent is who hears the exit code.
func apart(args []string) (code int, parent *os.File, done bool) {
	if fd, err := strconv.Atoi(os.Getenv(apartEnv)); err == nil && fd > 2 {
		// We are the child. What we start must not speak for us.
		os.Unsetenv(apartEnv)
		syscall.CloseOnExec(fd)
		return 0, os.NewFile(uintptr(fd), "parent"), false
	}
	if len(args) == 0 || slices.Contains(within, args[0]) || !machine.Remote() {
		return 0, nil, false
	}
	exe, err := os.Executable()
	if err != nil {
		return 0, nil, false
	}
	r, w, err := os.Pipe()
	if err != nil {
		return 0, nil, false
	}
	defer r.Close()
	c := exec.Command(exe, args...)
	c.Stdin, c.Stdout, c.Stderr = os.Stdin, os.Stdout, os.Stderr
	c.ExtraFiles = []*os.File{w}
	c.Env = append(os.Environ(), apartEnv+"=3")
	// The child ends with us, that is with the thread that starts it.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM)
	defer signal.Stop(signals)
	err = c.Start()
	w.Close()
	if err != nil {
		return 0, nil, false
	}
	go func() {
		for s := range signals {
			_ = c.Process.Signal(s) // it may have ended
		}
	}()
	b, _ := io.ReadAll(io.LimitReader(r, 1))
	if len(b) == 1 {
		return int(b[0]), nil, true
	}
	// It ended without a word.
	var ended *exec.ExitError
	if err := c.Wait(); errors.As(err, &ended) {
		if ws, ok := ended.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
			// As if the signal had come to us, for whoever waits for us.
			_ = syscall.Kill(os.Getpid(), ws.Signal())
		}
		if ended.ExitCode() > 0 {
			return ended.ExitCode(), nil, true
		}
	}
	return problem.ExitFailed, nil, true
}

// tell tells the parent, if there is one, the exit code.
func tell(parent *os.File, code int) int {
	if parent != nil {
		// Whoever reads what we said is not to wait for us.
		if null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0); err == nil {
			for fd := range 3 {
				_ = unix.Dup3(int(null.Fd()), fd, 0) // without it they stay open, no more
			}
		}
		_, _ = parent.Write([]byte{byte(code)}) // nobody listens, if it fails
	}
	return code
}
