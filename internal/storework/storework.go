// Package storework lets root look into a store, and settle it, without touching it as
// root. The server's account owns the store, so its bytes are whatever somebody who took
// the server over made of them, and SQLite writes beside what it opens. So the work is
// done by a child that is shut into the folder of the store (chroot(2)) and has become
// the account before it opens anything: it can reach nothing else, and do nothing that
// the account could not do by itself. Whoever is not root does the work as who they are.
package storework

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/store"

	"golang.org/x/sys/unix"
)

// Command is the hidden command of the program that is the child.
const Command = "store-work"

// nobody is the account that looks into a store of which no account is known.
var nobody = boundary.Owner{UID: 65534, GID: 65534}

// Work is a store in an open folder, and the account that it is looked at with.
type Work struct {
	Dir   *boundary.Dir
	Name  string          // of the store in it
	Owner *boundary.Owner // nil where none is known
}

// answer is what the child says.
type answer struct {
	Facts store.Facts `json:"facts"`
	Since store.Since `json:"since"`
	Error string      `json:"error,omitempty"`
	Kind  string      `json:"kind,omitempty"`
}

// kinds are the errors that are told apart.
var kinds = map[string]error{
	"damaged": store.ErrDamaged, "newer": store.ErrNewer, "full": store.ErrFull, "no-locks": store.ErrNoLocks,
	"missing": fs.ErrNotExist,
}

// fault is an error that the child had.
type fault struct {
	text string
	kind error
}

func (f *fault) Error() string { return f.text }
func (f *fault) Unwrap() error { return f.kind }

// Inspect does what store.Inspect does.
func (w Work) Inspect(ctx context.Context, whole bool) (store.Facts, error) {
	op := "inspect"
	if whole {
		op = "inspect-whole"
	}
	a, err := w.do(ctx, op)
	return a.Facts, err
}

// Settle does what store.Settle does.
func (w Work) Settle(ctx context.Context) error {
	_, err := w.do(ctx, "settle")
	return err
}

// LookSince does what store.LookSince does.
func (w Work) LookSince(ctx context.Context, t time.Time) (store.Since, error) {
	a, err := w.do(ctx, "since", t.Format(time.RFC3339Nano))
	return a.Since, err
}

// How long a child may take: for a question, and for every page of a store.
const (
	mostTime  = 2 * time.Minute
	mostWhole = 30 * time.Minute
)

// do has something done, by a child where this is root.
func (w Work) do(ctx context.Context, op string, more ...string) (answer, error) {
	// A pipe or a device would keep the child for ever.
	f, err := w.Dir.File(w.Name, nil)
	if err != nil {
		return answer{}, err
	}
	f.Close()
	if os.Geteuid() != 0 {
		a := work(ctx, filepath.Join(w.Dir.Path(), w.Name), op, more)
		return a, a.err()
	}
	who := nobody
	if w.Owner != nil {
		who = *w.Owner
	}
	// A store may hold what looks for its end for ever.
	patience := mostTime
	if op == "inspect-whole" {
		patience = mostWhole
	}
	asked := ctx
	ctx, stop := context.WithTimeout(ctx, patience)
	defer stop()
	cmd, done, err := child(ctx, append([]string{Command, op, w.Name, strconv.Itoa(who.UID), strconv.Itoa(who.GID)},
		more...), w.Dir)
	if err != nil {
		return answer{}, err
	}
	defer done()
	out, err := cmd.StdoutPipe()
	if err != nil {
		return answer{}, err
	}
	var said strings.Builder
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		return answer{}, fmt.Errorf("starting a child to look into the store: %w", err)
	}
	b, rerr := io.ReadAll(io.LimitReader(out, 1<<20))
	_, _ = io.Copy(io.Discard, out)
	err = cmd.Wait()
	if asked.Err() != nil {
		return answer{}, asked.Err()
	}
	if ctx.Err() != nil {
		return answer{}, &fault{fmt.Sprintf("looking into the store took more than %s", patience), store.ErrDamaged}
	}
	var a answer
	if err = errors.Join(rerr, err); err == nil {
		err = json.Unmarshal(b, &a)
	}
	if err != nil {
		return a, fmt.Errorf("the child that looks into the store said %q: %w", strings.TrimSpace(said.String()), err)
	}
	return a, a.err()
}

func (a answer) err() error {
	if a.Error == "" {
		return nil
	}
	kind := kinds[a.Kind]
	if kind == nil {
		kind = errors.New(a.Error)
	}
	return &fault{a.Error, kind}
}

// child makes this program's child, with a folder as descriptor 3.
func child(ctx context.Context, args []string, dir *boundary.Dir) (*exec.Cmd, func(), error) {
	held, err := unix.FcntlInt(uintptr(dir.Fd()), unix.F_DUPFD_CLOEXEC, 3)
	if err != nil {
		return nil, nil, err
	}
	f := os.NewFile(uintptr(held), dir.Path())
	cmd := exec.CommandContext(ctx, "/proc/self/exe", args...)
	cmd.Env = []string{"PATH=/usr/local/bin:/usr/bin:/bin", "HOME=/"}
	cmd.Dir = "/"
	cmd.ExtraFiles = []*os.File{f}
	cmd.WaitDelay = time.Second
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	return cmd, func() { f.Close() }, nil
}

// Main is the child: the whole of the hidden command. It has the folder as descriptor 3.
func Main(ctx context.Context, args []string, out io.Writer) error {
	if len(args) < 4 || filepath.Base(args[1]) != args[1] {
		return errors.New("this command is for the program itself")
	}
	uid, uerr := strconv.Atoi(args[2])
	gid, gerr := strconv.Atoi(args[3])
	if err := errors.Join(uerr, gerr); err != nil {
		return err
	}
	if err := become(uid, gid); err != nil {
		return err
	}
	return json.NewEncoder(out).Encode(work(ctx, "/"+args[1], args[0], args[4:]))
}

// become shuts this process into the folder and makes it the account, for good.
func become(uid, gid int) error {
	const dir = 3
	if err := unix.Fchdir(dir); err != nil {
		return fmt.Errorf("entering the folder: %w", err)
	}
	unix.Close(dir)
	if err := unix.Chroot("."); err != nil {
		return fmt.Errorf("being shut into the folder: %w", err)
	}
	if err := unix.Chdir("/"); err != nil {
		return err
	}
	// All threads of the process change.
	if err := syscall.Setgroups([]int{gid}); err != nil {
		return err
	}
	if err := syscall.Setgid(gid); err != nil {
		return err
	}
	if err := syscall.Setuid(uid); err != nil {
		return err
	}
	if uid != 0 && syscall.Setuid(0) == nil {
		return errors.New("it could become root again")
	}
	return nil
}

func work(ctx context.Context, path, op string, more []string) (a answer) {
	err := store.Beside(path)
	switch {
	case err != nil:
	case op == "inspect", op == "inspect-whole":
		a.Facts, err = store.Inspect(ctx, path, op == "inspect-whole")
	case op == "settle":
		err = store.Settle(ctx, path)
	case op == "since":
		var t time.Time
		if len(more) != 1 {
			more = []string{""}
		}
		if t, err = time.Parse(time.RFC3339Nano, more[0]); err == nil {
			a.Since, err = store.LookSince(ctx, path, t)
		}
	default:
		err = fmt.Errorf("%q is nothing that is done with a store", op)
	}
	if err != nil {
		a.Error = err.Error()
		for name, kind := range kinds {
			if errors.Is(err, kind) {
				a.Kind = name
			}
		}
	}
	return a
}

// Test lets a test binary be the child. It belongs at the beginning of TestMain.
func Test() {
	if len(os.Args) > 1 && os.Args[1] == Command {
		if err := Main(context.Background(), os.Args[2:], os.Stdout); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
}
