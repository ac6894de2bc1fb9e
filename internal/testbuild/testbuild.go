// Package testbuild builds the program for tests, once a test run, as it is
// built for people: one static file. It also finds free ports, and says when a
// part that a test needs is missing.
package testbuild

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	mathrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"cozyshelf/internal/pack"
)

// Version is what the built program says of itself.
const Version = "0.0.0-test"

// Variant is how a program for tests differs from the one that people get.
type Variant struct {
	Version string // Version where empty
	Tags    string // build tags
	Newer   bool   // its store has a format that the program itself does not know
	Jumps   bool   // its clock of the wall, not the one that only counts on, is set by the file Clock gives
}

type build struct {
	once  sync.Once
	path  string
	fault error
}

var (
	builds sync.Map // of *build, by Variant
	dirs   struct {
		sync.Mutex
		list []string
	}
)

// Program gives the path of the built program.
func Program(t testing.TB) string { return Variant{}.Program(t) }

// Program gives the path of the program built in this way.
func (v Variant) Program(t testing.TB) string {
	t.Helper()
	if v.Version == "" {
		v.Version = Version
	}
	any, _ := builds.LoadOrStore(v, &build{})
	b := any.(*build)
	b.once.Do(func() { b.path, b.fault = v.build() })
	if b.fault != nil {
		t.Fatal(b.fault)
	}
	return b.path
}

func (v Variant) build() (string, error) {
	// Beside the test binaries' own folders, where accounts without special
	// powers can pass through.
	dir, err := os.MkdirTemp("", "cozyshelf-test-")
	if err != nil {
		return "", err
	}
	dirs.Lock()
	dirs.list = append(dirs.list, dir)
	dirs.Unlock()
	if err := os.Chmod(dir, 0o755); err != nil {
		return "", err
	}
	path := filepath.Join(dir, "cozyshelf")
	args := []string{"build", "-trimpath", "-ldflags", "-s -w -X main.version=" + v.Version, "-o", path}
	if v.Tags != "" {
		args = append(args, "-tags", v.Tags)
	}
	overlay, err := v.overlay(dir)
	if err != nil {
		return "", err
	}
	if len(overlay) > 0 {
		replace := map[string]string{}
		for at, text := range overlay {
			p := filepath.Join(dir, fmt.Sprintf("%d-%s", len(replace), filepath.Base(at)))
			if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
				return "", err
			}
			replace[at] = p
		}
		list, err := json.Marshal(map[string]any{"Replace": replace})
		if err != nil {
			return "", err
		}
		p := filepath.Join(dir, "overlay.json")
		if err := os.WriteFile(p, list, 0o644); err != nil {
			return "", err
		}
		args = append(args, "-overlay", p)
	}
	if v.Jumps { // everything is built anew for it, which is quicker so
		args = append(args, "-gcflags=all=-N -l")
	}
	cmd := exec.Command("go", append(args, "./cmd/cozyshelf")...)
	cmd.Dir = top()
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w\n%s", err, out)
	}
	return path, unlike(path)
}

// unlike makes a program another than that of any test that runs beside this one: engines know an
// image by the program in it, and one that two tests share is kept by one while the other removes it.
// What follows the last section of a program is never read.
func unlike(program string) error {
	f, err := os.OpenFile(program, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	if _, err := f.WriteString(rand.Text()); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// Clock is the file that sets the clock of a program that Jumps: seconds that are
// added to the machine's.
func Clock(program string) string { return filepath.Join(filepath.Dir(program), "clock") }

// overlay gives the files, by path, that are other than those of the project.
func (v Variant) overlay(dir string) (map[string]string, error) {
	out := map[string]string{}
	if v.Newer {
		out[filepath.Join(top(), "internal", "store", "migrations", "99999_later.sql")] = laterMigration
	}
	if !v.Jumps {
		return out, nil
	}
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return nil, err
	}
	at := filepath.Join(strings.TrimSpace(string(root)), "src", "time", "time.go")
	text, err := os.ReadFile(at)
	if err != nil {
		return nil, err
	}
	const reads = "	sec, nsec, mono := runtimeNow()\n	if mono == 0 {"
	if strings.Count(string(text), reads) != 1 {
		return nil, fmt.Errorf("%s: time.Now does not read the clock as it did", at)
	}
	out[at] = strings.Replace(string(text), reads, strings.Replace(reads, "\n", "\n	sec += Jump.Load()\n", 1), 1) +
		"\n// Jump is added to the clock of the wall.\nvar Jump jump\n\ntype jump struct{ seconds int64 }\n\n" +
		"func (j *jump) Load() int64   { return j.seconds }\nfunc (j *jump) Store(s int64) { j.seconds = s }\n"
	out[filepath.Join(top(), "cmd", "cozyshelf", "jumps.go")] = fmt.Sprintf(jumps, filepath.Join(dir, "clock"))
	return out, nil
}

// jumps lets a file set the clock.
const jumps = `package main

import (
	"os"
	"strconv"
	"strings"
	"time"
)

func init() {
	go func() {
		for ; ; time.Sleep(20 * time.Millisecond) {
			b, err := os.ReadFile(%q)
			if n, perr := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64); err == nil && perr == nil {
				time.Jump.Store(n)
			}
		}
	}()
}
`

// laterMigration brings the store to a format that only the newer program knows.
const laterMigration = `-- +goose Up
CREATE TABLE later (x INTEGER) STRICT;
-- +goose Down
DROP TABLE later;
`

// Clean removes what was built; for TestMain.
func Clean() {
	dirs.Lock()
	defer dirs.Unlock()
	for _, d := range dirs.list {
		os.RemoveAll(d)
	}
}

// top is the folder of the project: tests run in their package's, which lies in it.
func top() string {
	dir, err := os.Getwd()
	if err != nil {
		return "."
	}
	for at := dir; ; at = filepath.Dir(at) {
		if _, err := os.Stat(filepath.Join(at, "go.mod")); err == nil {
			return at
		}
		if at == filepath.Dir(at) {
			return dir
		}
	}
}

// Image gives the built program as an image.
func Image(t testing.TB) pack.Image {
	t.Helper()
	img, err := pack.Open(Program(t), Version)
	if err != nil {
		t.Fatal(err)
	}
	return img
}

// Port finds a port that is free, and that no other test of this machine is given until this one is over:
// it may take a while until something listens there. Those from which the kernel takes ports of connections
// are left out.
func Port(t testing.TB) int {
	t.Helper()
	const first, last = 11_000, 30_000
	for range 1000 {
		port := first + mathrand.IntN(last-first)
		held, err := os.OpenFile(filepath.Join(os.TempDir(), fmt.Sprintf("cozyshelf-test-port-%d", port)),
			os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			continue // another account's
		}
		if syscall.Flock(int(held.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
			held.Close()
			continue
		}
		l, err := net.Listen("tcp", fmt.Sprintf(":%d", port))
		if err != nil {
			held.Close()
			continue
		}
		l.Close()
		t.Cleanup(func() {
			_ = os.Remove(held.Name()) // an empty file that is left over does no harm
			held.Close()
		})
		return port
	}
	t.Fatal("no port is free")
	return 0
}

// Missing ends a test because a part is missing: as skipped, or as failed where
// nothing may be missing.
func Missing(t testing.TB, what string) {
	t.Helper()
	if os.Getenv("COZYSHELF_TEST_STRICT") == "1" {
		t.Fatalf("missing: %s", what)
	}
	t.Skipf("missing: %s", what)
}

// Folder gives a temporary folder that any account can pass through.
func Folder(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "cozyshelf-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := os.RemoveAll(dir); err != nil {
			t.Error(err)
		}
	})
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

// AsOther runs the test once more as an account without powers, where this one
// has them. It reports whether it did: then all is done.
func AsOther(t *testing.T) bool {
	t.Helper()
	if os.Getuid() != 0 {
		return false
	}
	exe, err := os.Open("/proc/self/exe")
	if err != nil {
		t.Fatal(err)
	}
	defer exe.Close()
	// The other account could not pass the folder in which tests are built.
	c := exec.Command("/proc/self/fd/3", "-test.run", "^"+t.Name()+"$", "-test.v")
	c.ExtraFiles = []*os.File{exe}
	c.Env = append(os.Environ(), "HOME=/")
	c.Dir = "/"
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 41009, Gid: 41009}}
	out, err := c.CombinedOutput()
	if err != nil {
		t.Fatalf("as uid 41009: %v\n%s", err, out)
	}
	return true
}
