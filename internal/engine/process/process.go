// Package process is the engine where there is none: it runs the server as a
// supervised background process of the run-as account. The supervisor restarts
// a server that crashed, keeps its output, and survives the tool's exit; later
// commands find it among the processes of the machine.
//
// Everything is kept below one folder, which belongs to the administrator:
//
//	programs/<digest>/cozyshelf              copies of the program, as images are elsewhere
//	programs/<digest>/kept-<id>              that household keeps it
//	households/<id>/<name>/container.json    what should run
//	households/<id>/<name>/stopped           somebody stopped it: it stays so when the machine starts
//	households/<id>/<name>/run/              the account's own:
//	    lock                                 held by the supervisor while it lives
//	    run.json                             what the supervisor says of itself
//	    log, log.1                           what the server printed
//
// What should run, and as whom, is only read where nobody but the administrator could
// have written it. What lies in run/ is shown, and decides nothing: which process is the
// supervisor follows from what the kernel says of it.
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
	"regexp"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/pack"

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
	return facts.Engine{Kind: "process", Answers: true, Version: runtime.Version(), Endpoint: e.Root,
		Arch: runtime.GOARCH}
}

// Names of folders below Root.
const (
	programs   = "programs"
	households = "households"
	runFolder  = "run" // in a server's folder: the account's
)

// folder is the path of a server's folder.
func (e *Engine) folder(id string) string {
	return filepath.Join(e.Root, households, filepath.FromSlash(id))
}

// program is the path of a copy of the program. A digest that is none leads nowhere.
func (e *Engine) program(digest string) string {
	return filepath.Join(e.Root, programs, hashOf(digest), programFile)
}

// digestForm is how a digest is written; its second part is the name of a folder.
var digestForm = regexp.MustCompile(`^sha256:([0-9a-f]{64})$`)

func hashOf(digest string) string {
	if m := digestForm.FindStringSubmatch(digest); m != nil {
		return m[1]
	}
	return "not-a-digest"
}

// idForm is how a server's id is written: household and name.
var idForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*/[A-Za-z0-9][A-Za-z0-9._-]*$`)

// open opens the engine's folder, making it if wished.
func (e *Engine) open(make bool) (*boundary.Dir, error) {
	if make {
		d, err := boundary.MakeAll(e.Root, 0o755)
		if err != nil {
			return nil, err
		}
		d.Close()
	}
	return boundary.OpenOwn(e.Root)
}

// server opens the folder of a server. It is ErrNotFound where there is none.
func (e *Engine) server(id string) (*boundary.Dir, error) {
	missing := fmt.Errorf("%w: %s", engine.ErrNotFound, id)
	if !idForm.MatchString(id) {
		return nil, missing
	}
	d, err := boundary.OpenOwn(e.folder(id))
	if errors.Is(err, os.ErrNotExist) {
		return nil, missing
	}
	return d, err
}

// Names of files in these folders.
const (
	programFile   = "cozyshelf"
	containerFile = "container.json"
	stoppedFile   = "stopped" // somebody stopped it
)

// mostJSON is how large a description may be.
const mostJSON = 1 << 20

// own is whose files of the administrator's have to be.
func own() []int { return []int{0, os.Geteuid()} }

// keptPrefix begins the names of files that say which households keep a program.
const keptPrefix = "kept-"

func keptFile(digest, household string) string {
	return filepath.Join(programs, hashOf(digest), keptPrefix+household)
}

// says is the content of run.json: what a supervisor says of itself.
type says struct {
	Started  time.Time `json:"started"`
	Restarts int       `json:"restarts"`
	ExitCode int       `json:"exit_code"` // of the last server that ended
}

// description reads what should run in a server's folder.
func description(d *boundary.Dir) (blueprint.Service, error) {
	b, err := d.Read(containerFile, mostJSON, own())
	if errors.Is(err, os.ErrNotExist) {
		return blueprint.Service{}, fmt.Errorf("%w: %s", engine.ErrNotFound, d.Path())
	}
	if err != nil {
		return blueprint.Service{}, err
	}
	var labels map[string]string
	if err := json.Unmarshal(b, &labels); err != nil {
		return blueprint.Service{}, fmt.Errorf("%s/%s: %w", d.Path(), containerFile, err)
	}
	c, ok := blueprint.FromLabels(labels)
	if !ok {
		return c, fmt.Errorf("%s/%s is damaged", d.Path(), containerFile)
	}
	return c, nil
}

// supervisorSays reads what the supervisor says of itself. It is for people to read.
func supervisorSays(d *boundary.Dir, c blueprint.Service) says {
	var r says
	if b, err := d.Read(runFolder+"/run.json", 1<<16, []int{int(c.UID)}); err == nil {
		_ = json.Unmarshal(b, &r) // what cannot be read says nothing
	}
	return r
}

// Observe gives everything of one household, and the programs kept.
func (e *Engine) Observe(_ context.Context, id string) (blueprint.Observed, error) {
	var out blueprint.Observed
	root, err := e.open(false)
	if errors.Is(err, os.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	defer root.Close()
	names, err := list(root, households+"/"+id)
	if err != nil {
		return out, err
	}
	for _, n := range names {
		seen := blueprint.Container{ID: id + "/" + n, Name: n, Key: blueprint.ServerKey}
		d, err := e.server(seen.ID)
		if errors.Is(err, engine.ErrNotFound) {
			continue
		}
		if err != nil {
			return out, err
		}
		c, err := description(d)
		if errors.Is(err, engine.ErrNotFound) {
			d.Close()
			out.Strays = append(out.Strays, seen) // half made or half removed: nothing runs from it
			continue
		}
		if err == nil {
			seen.Service, seen.Digest, seen.Key = c, c.Digest(), c.Key
			r := supervisorSays(d, c)
			seen.Started, seen.Restarts, seen.ExitCode = r.Started, r.Restarts, r.ExitCode
			seen.Running, seen.Waiting = e.state(c, d.Path())
		}
		d.Close()
		out.Containers = append(out.Containers, seen)
	}
	copies, err := list(root, programs)
	if err != nil {
		return out, err
	}
	for _, p := range copies {
		if digest := "sha256:" + p; digestForm.MatchString(digest) {
			out.Images = append(out.Images, digest)
			keepers, err := list(root, programs+"/"+p)
			if err != nil {
				return out, err
			}
			if slices.Contains(keepers, keptPrefix+id) {
				out.Kept = append(out.Kept, digest)
			} else if !slices.ContainsFunc(keepers, func(n string) bool { return strings.HasPrefix(n, keptPrefix) }) {
				if used, _, err := e.uses(root, digest, id); err == nil && used == "" {
					out.Unkept = append(out.Unkept, digest)
				}
			}
		}
	}
	return out, nil
}

// list gives the names in a folder, sorted; none where there is no such folder.
func list(d *boundary.Dir, name string) ([]string, error) {
	sub, err := d.Sub(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer sub.Close()
	names, err := sub.Names()
	slices.Sort(names)
	return names, err
}

// LoadImage keeps a copy of the program.
func (e *Engine) LoadImage(_ context.Context, img pack.Image, household string) error {
	if !digestForm.MatchString(img.Digest) {
		return fmt.Errorf("%q is no digest of a program", img.Digest)
	}
	root, err := e.open(true)
	if err != nil {
		return err
	}
	defer root.Close()
	sweepPrograms(root)
	if !root.Exists(filepath.Join(programs, hashOf(img.Digest), programFile)) {
		if err := copyProgram(root, img, household); err != nil {
			return err
		}
	}
	return root.Replace(keptFile(img.Digest, household), nil, 0o644, nil)
}

func copyProgram(root *boundary.Dir, img pack.Image, household string) error {
	b, err := os.ReadFile(img.Program)
	if err != nil {
		return err
	}
	if sum := sha256.Sum256(b); "sha256:"+hex.EncodeToString(sum[:]) != img.Digest {
		return fmt.Errorf("%s changed while it was copied", img.Program)
	}
	all, err := root.MkdirAll(programs, 0o755, nil)
	if err != nil {
		return err
	}
	defer all.Close()
	// The folder appears under its name only when the program in it is whole.
	tmp := boundary.NewName()
	d, err := all.Mkdir(tmp, 0o755, nil)
	if err != nil {
		return err
	}
	defer all.RemoveAll(tmp)
	defer d.Close()
	_ = unix.Flock(d.Fd(), unix.LOCK_EX|unix.LOCK_NB) // so that nobody sweeps it
	if err := d.Replace(programFile, b, 0o755, nil); err != nil {
		return err
	}
	if err := d.Replace(keptPrefix+household, nil, 0o644, nil); err != nil {
		return err
	}
	err = all.Rename(tmp, all, hashOf(img.Digest))
	if errors.Is(err, os.ErrExist) || errors.Is(err, unix.ENOTEMPTY) {
		return nil
	}
	return err
}

// Sweep removes what commands that were cut off left half made.
func (e *Engine) Sweep() {
	root, err := e.open(false)
	if err != nil {
		return // there is nothing
	}
	defer root.Close()
	sweepPrograms(root)
}

// sweepPrograms removes copies that were being made when a command was ended, of whichever
// household. Those that are still being made are locked.
func sweepPrograms(root *boundary.Dir) {
	all, err := root.Sub(programs)
	if err != nil {
		return // there is none
	}
	defer all.Close()
	names, _ := all.Names() // the next command tries again
	for _, n := range names {
		if !strings.HasPrefix(n, boundary.Unfinished) {
			continue
		}
		d, err := all.Sub(n)
		if err != nil {
			continue
		}
		if unix.Flock(d.Fd(), unix.LOCK_EX|unix.LOCK_NB) == nil {
			_ = all.RemoveAll(n)
		}
		d.Close()
	}
}

// RemoveImage removes a copy of the program.
func (e *Engine) RemoveImage(_ context.Context, digest, household string) error {
	root, err := e.open(false)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer root.Close()
	used, own, err := e.uses(root, digest, household)
	if err != nil {
		return err
	}
	if own {
		return fmt.Errorf("%w: %s", engine.ErrInUse, used)
	}
	at := filepath.Join(programs, hashOf(digest))
	names, err := list(root, at)
	if err != nil {
		return err
	}
	kept := slices.ContainsFunc(names, func(n string) bool {
		return strings.HasPrefix(n, keptPrefix) && n != keptPrefix+household
	})
	if used != "" || kept {
		if err := root.Remove(keptFile(digest, household)); err != nil {
			return err
		}
		return fmt.Errorf("%w: another household keeps the program", engine.ErrInUse)
	}
	sweepPrograms(root)
	all, err := root.Sub(programs)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer all.Close()
	// It goes at once, so that nobody meets one that is kept by none.
	tmp := boundary.NewName()
	err = all.Rename(hashOf(digest), all, tmp)
	if err == nil {
		err = all.RemoveAll(tmp)
	} else if errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	if err != nil {
		return err
	}
	e.sweep()
	return nil
}

// Neighbours gives what runs of all households.
func (e *Engine) Neighbours(ctx context.Context) ([]blueprint.Service, error) {
	root, err := e.open(false)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer root.Close()
	all, err := list(root, households)
	if err != nil {
		return nil, err
	}
	var out []blueprint.Service
	for _, h := range all {
		o, err := e.Observe(ctx, h)
		if err != nil {
			continue // it is being changed
		}
		for _, s := range o.Containers {
			if s.Running && s.Service.Household == h {
				out = append(out, s.Service)
			}
		}
	}
	return out, nil
}

// uses finds a server that is made from a program, one of the household's first.
func (e *Engine) uses(root *boundary.Dir, digest, household string) (folder string, own bool, err error) {
	all, err := list(root, households)
	if err != nil {
		return "", false, err
	}
	for _, h := range all {
		names, err := list(root, households+"/"+h)
		if err != nil {
			return "", false, err
		}
		for _, n := range names {
			d, err := e.server(h + "/" + n)
			if err != nil {
				continue // it is being removed
			}
			c, err := description(d)
			d.Close()
			if err != nil || c.Image.Program != digest {
				continue
			}
			if folder = d.Path(); h == household {
				return folder, true, nil
			}
		}
	}
	return folder, false, nil
}

// sweep removes our folders where they are empty, so that nothing of ours is
// left after the last household retires.
func (e *Engine) sweep() {
	for _, d := range []string{filepath.Join(e.Root, programs), filepath.Join(e.Root, households), e.Root} {
		if os.Remove(d) != nil {
			continue // not empty, or not there: either is fine
		}
	}
}

// Create notes down what should run.
func (e *Engine) Create(_ context.Context, c blueprint.Service) (string, error) {
	if c.Image.Reference != "" || c.Image.Archive != "" {
		return "", fmt.Errorf("%w: it runs this program only, not %s", engine.ErrNone, c.Image)
	}
	if !digestForm.MatchString(c.Image.Program) {
		return "", fmt.Errorf("%w: %q is no digest of a program", engine.ErrNotFound, c.Image.Program)
	}
	if os.Getuid() != 0 && uint32(os.Getuid()) != c.UID {
		return "", fmt.Errorf("you are uid %d and cannot start a process as uid %d", os.Getuid(), c.UID)
	}
	id := c.Household + "/" + c.EngineName()
	if !idForm.MatchString(id) {
		return "", fmt.Errorf("%q is no name for a server", id)
	}
	root, err := e.open(true)
	if err != nil {
		return "", err
	}
	defer root.Close()
	if !root.Exists(filepath.Join(programs, hashOf(c.Image.Program), programFile)) {
		return "", fmt.Errorf("%w: program %s", engine.ErrNotFound, c.Image.Program)
	}
	d, err := root.MkdirAll(households+"/"+id, 0o755, nil)
	if err != nil {
		return "", err
	}
	defer d.Close()
	// The supervisor is the run-as account and writes here.
	var owner *boundary.Owner
	if os.Getuid() == 0 {
		owner = &boundary.Owner{UID: int(c.UID), GID: int(c.GID)}
	}
	made, err := d.MkdirAll(runFolder, 0o750, owner)
	if err != nil {
		return "", err
	}
	made.Close()
	b, err := json.MarshalIndent(c.Labels(), "", "  ")
	if err != nil {
		return "", err
	}
	return id, d.Replace(containerFile, append(b, '\n'), 0o644, nil)
}

// container opens a server's folder and reads what should run. The caller closes it.
func (e *Engine) container(id string) (*boundary.Dir, blueprint.Service, error) {
	d, err := e.server(id)
	if err != nil {
		return nil, blueprint.Service{}, err
	}
	c, err := description(d)
	if err != nil {
		d.Close()
		return nil, c, err
	}
	return d, c, nil
}

// held reports whether somebody holds the supervisor's lock.
func held(d *boundary.Dir, c blueprint.Service) bool {
	f, err := d.File(runFolder+"/lock", []int{int(c.UID)})
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB), unix.EWOULDBLOCK)
}

// Start starts the supervisor and waits until it has taken its lock.
func (e *Engine) Start(ctx context.Context, id string) error {
	d, c, err := e.container(id)
	if err != nil {
		return err
	}
	defer d.Close()
	if err := d.Remove(stoppedFile); err != nil {
		return err
	}
	if list := e.supervisors(c, d.Path()); len(list) > 0 {
		// It may wait before it tries again to start a server that crashed.
		for _, p := range list {
			if held(d, c) {
				p.signal(syscall.SIGUSR1)
			}
			p.close()
		}
		return nil
	}
	if held(d, c) {
		return fmt.Errorf("%s is held by a process that is not the supervisor; end what runs as uid %d and is not "+
			"yours, and try again", filepath.Join(d.Path(), runFolder, "lock"), c.UID)
	}
	dir := d.Path()
	cmd := exec.Command(e.program(c.Image.Program), "supervise", dir)
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
			if held(d, c) {
				return nil
			}
		}
	}
	return errors.New("the supervisor did not come up within 10 s")
}

// Boot says how systemd starts a server: as this engine does, unless somebody has
// stopped it by hand.
func (e *Engine) Boot(c blueprint.Service) (blueprint.Boot, bool) {
	return blueprint.Boot{Start: []string{e.program(c.Image.Program), "supervise", "--boot",
		e.folder(c.Household + "/" + c.EngineName())}, AsAccount: true}, true
}

// Run runs a command of the program as a child with the account's numbers.
func (e *Engine) Run(ctx context.Context, c blueprint.Service, command []string, out io.Writer) (int, error) {
	if _, err := os.Stat(e.program(c.Image.Program)); err != nil {
		return 0, fmt.Errorf("%w: program %s", engine.ErrNotFound, c.Image.Program)
	}
	cmd := exec.CommandContext(ctx, e.program(c.Image.Program), command...)
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
func (e *Engine) as(c blueprint.Service) *syscall.SysProcAttr {
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

// Stop asks the supervisor to end, and kills it and the server after the grace.
func (e *Engine) Stop(ctx context.Context, id string, grace time.Duration) error {
	d, c, err := e.container(id)
	if err != nil {
		return err
	}
	defer d.Close()
	// Somebody wants it stopped, so it is not started with the machine either.
	if err := d.Replace(stoppedFile, nil, 0o644, nil); err != nil {
		return err
	}
	asked := map[int]bool{}
	killed := false
	for start := time.Now(); ; {
		list := e.supervisors(c, d.Path())
		if len(list) == 0 {
			return nil
		}
		late := time.Since(start) > grace
		for _, p := range list {
			if late && !killed {
				for _, server := range e.children(c, p) {
					server.signal(syscall.SIGKILL)
					server.close()
				}
				p.signal(syscall.SIGKILL)
			} else if !asked[p.pid] {
				asked[p.pid] = true
				p.signal(syscall.SIGTERM)
			}
			p.close()
		}
		killed = killed || late
		if time.Since(start) > grace+5*time.Second {
			return errors.New("the server did not end, even when killed")
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// Remove forgets a container that does not run.
func (e *Engine) Remove(_ context.Context, id string) error {
	d, err := e.server(id)
	if errors.Is(err, engine.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Close()
	// One that is damaged cannot have been started.
	if c, err := description(d); err == nil && e.runs(c, d.Path()) {
		return fmt.Errorf("%w: %s still runs", engine.ErrInUse, id)
	}
	// Its description goes first: without it the rest is nothing.
	if err := d.Remove(containerFile); err != nil {
		return err
	}
	root, err := e.open(false)
	if err != nil {
		return err
	}
	defer root.Close()
	at := filepath.Join(households, filepath.FromSlash(id))
	if err := root.RemoveAll(at); err != nil {
		return err
	}
	if root.RemoveDir(filepath.Dir(at)) == nil {
		e.sweep()
	}
	return nil
}
