// Package testbuild builds the program for tests, once a test run, as it is
// built for people: one static file. It also finds free ports, and says when a
// part that a test needs is missing.
package testbuild

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"syscall"
	"testing"

	"cozyshelf/internal/pack"
)

// Version is what the built program says of itself.
const Version = "0.0.0-test"

var (
	once  sync.Once
	built string
	fault error
)

// Program gives the path of the built program.
func Program(t testing.TB) string {
	t.Helper()
	once.Do(func() {
		// Beside the test binaries' own folders, where accounts without
		// special powers can pass through.
		dir, err := os.MkdirTemp("", "cozyshelf-test-")
		if err != nil {
			fault = err
			return
		}
		if err := os.Chmod(dir, 0o755); err != nil {
			fault = err
			return
		}
		built = filepath.Join(dir, "cozyshelf")
		cmd := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w -X main.version="+Version, "-o", built, "./cmd/cozyshelf")
		cmd.Dir = top()
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := cmd.CombinedOutput(); err != nil {
			fault = fmt.Errorf("%w\n%s", err, out)
		}
	})
	if fault != nil {
		t.Fatal(fault)
	}
	return built
}

// Clean removes what was built; for TestMain.
func Clean() {
	if built != "" {
		os.RemoveAll(filepath.Dir(built))
	}
}

// top is the folder of the project.
func top() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Join(filepath.Dir(file), "..", "..")
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

// Port finds a free port.
func Port(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", ":0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
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
