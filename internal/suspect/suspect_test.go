package suspect

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// crashEnv has the test binary be a server with a decoder that ends it for one file.
const crashEnv = "COZYSHELF_TEST_SUSPECT"

func TestMain(m *testing.M) {
	if path := os.Getenv(crashEnv); path != "" {
		b, _, err := Open(path)
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		var wg sync.WaitGroup
		for _, name := range []string{"one.png", "two.png", "evil.png", "three.png"} {
			wg.Go(func() {
				err := b.Do("picture", name, "1", func() error {
					time.Sleep(50 * time.Millisecond) // all are at work at once
					if name == "evil.png" {
						_ = syscall.Kill(os.Getpid(), syscall.SIGKILL) // as the kernel does when memory is short
						select {}
					}
					return nil
				})
				fmt.Println(name, err)
			})
		}
		wg.Wait()
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func TestAFileThatEndsTheServerIsPassedOver(t *testing.T) {
	path := filepath.Join(t.TempDir(), "trying")
	run := func() string {
		c := exec.Command(os.Args[0])
		c.Env = append(os.Environ(), crashEnv+"="+path)
		out, _ := c.CombinedOutput()
		return string(out)
	}
	run() // all four were at work
	run() // each by itself, as far as it comes
	last := ""
	for range 3 {
		if last = run(); strings.Contains(last, "evil.png") {
			break
		}
	}
	if !strings.Contains(last, "evil.png "+ErrPassedOver.Error()) {
		t.Errorf("after the crashes:\n%s", last)
	}
	for _, name := range []string{"one.png", "two.png", "three.png"} {
		if !strings.Contains(last, name+" <nil>") {
			t.Errorf("%s is passed over, too:\n%s", name, last)
		}
	}
	b, _, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	// Another file of that name, or the same one changed, is opened.
	if err := b.Do("picture", "evil.png", "2", func() error { return nil }); err != nil {
		t.Error(err)
	}
}

func TestWhatEndsWellIsForgotten(t *testing.T) {
	path := filepath.Join(t.TempDir(), "trying")
	b, guilty, err := Open(path)
	if err != nil || len(guilty) != 0 {
		t.Fatal(guilty, err)
	}
	fault := errors.New("damaged")
	var wg sync.WaitGroup
	for i := range 500 {
		wg.Go(func() {
			if err := b.Do("film", fmt.Sprint(i), "1", func() error { return fault }); !errors.Is(err, fault) {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if err := b.Do("film", strings.Repeat("long/", 1000)+"a.mkv", "1", func() error { return nil }); err != nil {
		t.Error(err)
	}
	_, guilty, err = Open(path)
	if err != nil || len(guilty) != 0 {
		t.Error(guilty, err)
	}
	if _, err := os.Stat(path + ".json"); err == nil {
		t.Error("somebody is suspected")
	}
	if err := (*Book)(nil).Do("film", "a", "1", func() error { return fault }); !errors.Is(err, fault) {
		t.Error(err)
	}
}

func BenchmarkDo(b *testing.B) {
	book, _, err := Open(filepath.Join(b.TempDir(), "trying"))
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		_ = book.Do("film", "/shelves/films/0/The Paper Lighthouse (2014).mp4", "1234-5678",
			func() error { return nil })
	}
}
