// Package process is the engine where there is none: it runs the server as a
// supervised background process of the run-as account. The supervisor restarts
// a server that crashed, keeps its output, and survives the tool's exit; later
// commands find it by a lock that it holds as long as it lives.
//
// Everything is kept below one folder:
//
//	programs/<digest>/cozyshelf              copies of the program, as images are elsewhere
//	programs/<digest>/kept-<id>              that household keeps it
//	households/<id>/<name>/container.json    what should run
//	households/<id>/<name>/lock              held by the supervisor while it lives
//	households/<id>/<name>/run.json          its process id, and the server's
//	households/<id>/<name>/log, log.1        what the server printed
//	households/<id>/<name>/stopped           somebody stopped it: it stays so when the machine starts
package process

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/whole"

	"golang.org/x/sys/unix"
)

// Engine runs servers as processes. Root is the folder that it keeps.
type Engine struct{ Root string }

// Open gives the engine of this machine: for root one for the whole machine,
// for others one of their own. COZYSHELF_PROCESS_ROOT names another folder.
func Open() *Engine {
	if dir := os.Getenv("COZYSHELF_PROCESS_ROOT"); dir != "" {
		return &Engine{dir}
	}
	if os.Getuid() == 0 {
		return &Engine{"/var/lib/cozyshelf"}
	}
	dir := os.Getenv("XDG_STATE_HOME")
	if dir == "" {
		home, _ := os.UserHomeDir()
		dir = filepath.Join(home, ".local", "state")
	}
	return &Engine{filepath.Join(dir, "cozyshelf")}
}

// Facts says that the engine is there: it is part of the program.
func (e *Engine) Facts(context.Context) facts.Engine {
	return facts.Engine{Kind: "process", Answers: true, Version: runtime.Version(), Endpoint: e.Root, Arch: runtime.GOARCH}
}

func (e *Engine) programs() string   { return filepath.Join(e.Root, "programs") }
func (e *Engine) households() string { return filepath.Join(e.Root, "households") }
func (e *Engine) folder(id string) string {
	return filepath.Join(e.households(), filepath.FromSlash(id))
}
func (e *Engine) program(digest string) string {
	_, hash, _ := strings.Cut(digest, ":")
	return filepath.Join(e.programs(), hash, "cozyshelf")
}

// stoppedFile lies in the folder of a server that somebody stopped.
const stoppedFile = "stopped"

// keptPrefix begins the names of files that say which households keep a program.
const keptPrefix = "kept-"

func (e *Engine) keptFile(digest, household string) string {
	return filepath.Join(filepath.Dir(e.program(digest)), keptPrefix+household)
}

// run is the content of run.json.
type run struct {
	Supervisor int       `json:"supervisor"` // process ids
	Server     int       `json:"server"`
	Started    time.Time `json:"started"`
	Restarts   int       `json:"restarts"`
	ExitCode   int       `json:"exit_code"` // of the last server that ended
}

func readJSON(path string, v any) error {
	b, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	return json.Unmarshal(b, v)
}

func writeJSON(path string, v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return whole.Replace(path, append(b, '\n'), 0o644, nil)
}

// alive reports whether the supervisor of a folder lives.
func alive(dir string) bool {
	f, err := os.Open(filepath.Join(dir, "lock"))
	if err != nil {
		return false
	}
	defer f.Close()
	err = unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB)
	return errors.Is(err, unix.EWOULDBLOCK)
}

// Observe gives everything of one household, and the programs kept.
func (e *Engine) Observe(_ context.Context, id string) (blueprint.Observed, error) {
	var out blueprint.Observed
	list, err := os.ReadDir(filepath.Join(e.households(), id))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return out, err
	}
	for _, d := range list {
		dir := filepath.Join(e.households(), id, d.Name())
		seen := blueprint.Seen{ID: id + "/" + d.Name(), Name: d.Name()}
		var labels map[string]string
		if err := readJSON(filepath.Join(dir, "container.json"), &labels); errors.Is(err, os.ErrNotExist) {
			continue // being made or being removed
		}
		if c, ok := blueprint.FromLabels(labels); ok {
			seen.Container, seen.Digest = c, c.Digest()
		}
		var r run
		if err := readJSON(filepath.Join(dir, "run.json"), &r); err == nil {
			seen.Started, seen.Restarts, seen.ExitCode = r.Started, r.Restarts, r.ExitCode
		}
		seen.Running = alive(dir)
		out.Containers = append(out.Containers, seen)
	}
	programs, err := os.ReadDir(e.programs())
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return out, err
	}
	for _, p := range programs {
		if !strings.HasPrefix(p.Name(), ".") {
			digest := "sha256:" + p.Name()
			out.Images = append(out.Images, digest)
			if _, err := os.Stat(e.keptFile(digest, id)); err == nil {
				out.Kept = append(out.Kept, digest)
			}
		}
	}
	return out, nil
}

// LoadImage keeps a copy of the program.
func (e *Engine) LoadImage(_ context.Context, img pack.Image, household string) error {
	to := e.program(img.Digest)
	if _, err := os.Stat(to); err != nil {
		if err := e.copyProgram(img, to); err != nil {
			return err
		}
	}
	return os.WriteFile(e.keptFile(img.Digest, household), nil, 0o644)
}

func (e *Engine) copyProgram(img pack.Image, to string) error {
	b, err := os.ReadFile(img.Program)
	if err != nil {
		return err
	}
	if sum := sha256.Sum256(b); "sha256:"+hex.EncodeToString(sum[:]) != img.Digest {
		return fmt.Errorf("%s changed while it was copied", img.Program)
	}
	// The folder appears under its name only when the program in it is whole.
	if err := os.MkdirAll(e.programs(), 0o755); err != nil {
		return err
	}
	tmp, err := os.MkdirTemp(e.programs(), ".new-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(tmp)
	if err := os.Chmod(tmp, 0o755); err != nil {
		return err
	}
	if err := whole.Replace(filepath.Join(tmp, "cozyshelf"), b, 0o755, nil); err != nil {
		return err
	}
	if err := os.Rename(tmp, filepath.Dir(to)); err != nil && !errors.Is(err, os.ErrExist) && !errors.Is(err, unix.ENOTEMPTY) {
		return err
	}
	return nil
}

// RemoveImage removes a copy of the program.
func (e *Engine) RemoveImage(ctx context.Context, digest, household string) error {
	all, err := filepath.Glob(filepath.Join(e.households(), "*", "*", "container.json"))
	if err != nil {
		return err
	}
	used := ""
	for _, p := range all {
		var labels map[string]string
		if readJSON(p, &labels) == nil {
			if c, ok := blueprint.FromLabels(labels); ok && c.Image == digest {
				if used = filepath.Dir(p); c.Household == household {
					return fmt.Errorf("%w: %s", engine.ErrInUse, used)
				}
			}
		}
	}
	if err := os.Remove(e.keptFile(digest, household)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if others, _ := filepath.Glob(filepath.Join(filepath.Dir(e.program(digest)), keptPrefix+"*")); used != "" || len(others) > 0 {
		return fmt.Errorf("%w: another household keeps the program", engine.ErrInUse)
	}
	if err := os.RemoveAll(filepath.Dir(e.program(digest))); err != nil {
		return err
	}
	e.sweep()
	return nil
}

// sweep removes our folders where they are empty, so that nothing of ours is
// left after the last household retires.
func (e *Engine) sweep() {
	for _, d := range []string{e.programs(), e.households(), e.Root} {
		if os.Remove(d) != nil {
			continue // not empty, or not there: either is fine
		}
	}
}

// MakeNetwork has nothing to do: a process uses the host's network.
func (e *Engine) MakeNetwork(context.Context, string, string) error { return nil }

// RemoveNetwork has nothing to do either.
func (e *Engine) RemoveNetwork(context.Context, string) error { return nil }

// MakeVolume cannot be done: a process sees what the host has mounted.
func (e *Engine) MakeVolume(context.Context, string, string, map[string]string) error {
	return fmt.Errorf("%w: the process engine mounts no shares; mount it on the host, and name that folder", engine.ErrNone)
}

// RemoveVolume has nothing to do.
func (e *Engine) RemoveVolume(context.Context, string) error { return nil }

// Create notes down what should run.
func (e *Engine) Create(_ context.Context, c blueprint.Container) (string, error) {
	if _, err := os.Stat(e.program(c.Image)); err != nil {
		return "", fmt.Errorf("%w: program %s", engine.ErrNotFound, c.Image)
	}
	if os.Getuid() != 0 && uint32(os.Getuid()) != c.UID {
		return "", fmt.Errorf("you are uid %d and cannot start a process as uid %d", os.Getuid(), c.UID)
	}
	id := c.Household + "/" + c.EngineName()
	dir := e.folder(id)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	// The supervisor is the run-as account and writes here.
	if os.Getuid() == 0 {
		if err := os.Chown(dir, int(c.UID), int(c.GID)); err != nil {
			return "", err
		}
	}
	return id, writeJSON(filepath.Join(dir, "container.json"), c.Labels())
}

func (e *Engine) container(id string) (blueprint.Container, error) {
	var labels map[string]string
	err := readJSON(filepath.Join(e.folder(id), "container.json"), &labels)
	if errors.Is(err, os.ErrNotExist) {
		return blueprint.Container{}, fmt.Errorf("%w: %s", engine.ErrNotFound, id)
	}
	if err != nil {
		return blueprint.Container{}, err
	}
	c, ok := blueprint.FromLabels(labels)
	if !ok {
		return c, fmt.Errorf("%s: container.json is damaged", e.folder(id))
	}
	return c, nil
}

// Start starts the supervisor and waits until it has taken its lock.
func (e *Engine) Start(ctx context.Context, id string) error {
	c, err := e.container(id)
	if err != nil {
		return err
	}
	dir := e.folder(id)
	if err := os.Remove(filepath.Join(dir, stoppedFile)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if alive(dir) {
		return nil
	}
	cmd := exec.Command(e.program(c.Image), "supervise", dir)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin", "HOME=/"}
	for k, v := range c.Env {
		cmd.Env = append(cmd.Env, k+"="+v)
	}
	cmd.SysProcAttr = e.as(c)
	var said bytes.Buffer
	cmd.Stderr = &limited{&said, 4096}
	// The supervisor closes its standard error once it stands; until then its
	// complaints are ours to show.
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting the supervisor as %d:%d: %w", c.UID, c.GID, err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); {
		select {
		case err := <-ended:
			return fmt.Errorf("the supervisor ended at once: %v %s", err, strings.TrimSpace(said.String()))
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
			if alive(dir) {
				return nil
			}
		}
	}
	return errors.New("the supervisor did not come up within 10 s")
}

// Boot says how systemd starts a server: as this engine does, unless somebody has
// stopped it by hand.
func (e *Engine) Boot(c blueprint.Container) (blueprint.Boot, bool) {
	return blueprint.Boot{Start: []string{e.program(c.Image), "supervise", "--boot", e.folder(c.Household + "/" + c.EngineName())}, AsAccount: true}, true
}

// Run runs a command of the program as a child with the account's numbers.
func (e *Engine) Run(ctx context.Context, c blueprint.Container, command []string, out io.Writer) (int, error) {
	if _, err := os.Stat(e.program(c.Image)); err != nil {
		return 0, fmt.Errorf("%w: program %s", engine.ErrNotFound, c.Image)
	}
	cmd := exec.CommandContext(ctx, e.program(c.Image), command...)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin", "HOME=/"}
	cmd.WaitDelay = 2 * time.Second
	cmd.SysProcAttr = e.as(c)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = out, &limited{&said, 4096}
	err := cmd.Run()
	if ctx.Err() != nil {
		return 0, ctx.Err()
	}
	var ended *exec.ExitError
	if errors.As(err, &ended) {
		err = nil
		if said.Len() > 0 {
			err = errors.New(strings.TrimSpace(said.String()))
		}
		return ended.ExitCode(), err
	}
	if err != nil {
		return 0, fmt.Errorf("starting a child as %d:%d: %w", c.UID, c.GID, err)
	}
	return 0, nil
}

// as lets a child be the account of a container, in a session of its own.
func (e *Engine) as(c blueprint.Container) *syscall.SysProcAttr {
	a := &syscall.SysProcAttr{Setsid: true}
	if os.Getuid() == 0 {
		a.Credential = &syscall.Credential{Uid: c.UID, Gid: c.GID, Groups: c.Groups}
	}
	return a
}

// limited keeps the first n bytes and passes over the rest.
type limited struct {
	w *bytes.Buffer
	n int
}

func (l *limited) Write(b []byte) (int, error) {
	if room := l.n - l.w.Len(); room > 0 {
		l.w.Write(b[:min(room, len(b))])
	}
	return len(b), nil
}

// PutBack has nothing to do: nothing can be changed about a process by hand.
func (e *Engine) PutBack(context.Context, string, blueprint.Container) error { return nil }

// Stop asks the supervisor to end, and kills it and the server after the grace.
func (e *Engine) Stop(ctx context.Context, id string, grace time.Duration) error {
	if _, err := e.container(id); err != nil {
		return err
	}
	dir := e.folder(id)
	// Somebody wants it stopped, so it is not started with the machine either.
	if err := os.WriteFile(filepath.Join(dir, stoppedFile), nil, 0o644); err != nil {
		return err
	}
	signal := func(s syscall.Signal, server bool) {
		var r run
		// The lock is held, so the process ids are those of living processes.
		if alive(dir) && readJSON(filepath.Join(dir, "run.json"), &r) == nil {
			if server && r.Server > 1 {
				_ = syscall.Kill(r.Server, s) // it may have ended by itself
			}
			if r.Supervisor > 1 {
				_ = syscall.Kill(r.Supervisor, s)
			}
		}
	}
	signal(syscall.SIGTERM, false)
	killed := false
	for start := time.Now(); alive(dir); {
		if time.Since(start) > grace && !killed {
			killed = true
			signal(syscall.SIGKILL, true)
		}
		if time.Since(start) > grace+5*time.Second {
			return errors.New("the server did not end, even when killed")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
	return nil
}

// Remove forgets a container that does not run.
func (e *Engine) Remove(_ context.Context, id string) error {
	dir := e.folder(id)
	if !slices.Contains(strings.Split(id, "/"), "..") && alive(dir) {
		return fmt.Errorf("%w: %s still runs", engine.ErrInUse, id)
	}
	if _, err := e.container(id); errors.Is(err, engine.ErrNotFound) {
		return nil
	}
	// container.json goes first: without it the rest is nothing.
	if err := os.Remove(filepath.Join(dir, "container.json")); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if os.Remove(filepath.Dir(dir)) == nil {
		e.sweep()
	}
	return nil
}
