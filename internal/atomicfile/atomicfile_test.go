package atomicfile

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

func TestReadersSeeOneContentOrTheOther(t *testing.T) {
	dir := t.TempDir()
	p := filepath.Join(dir, "file")
	a, b := strings.Repeat("a", 1<<16), strings.Repeat("b", 1<<15)
	if err := Create(p, []byte(a), 0o640, nil); err != nil {
		t.Fatal(err)
	}
	stop := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			got, err := os.ReadFile(p)
			if s := string(got); err != nil || s != a && s != b {
				t.Errorf("a reader saw %d bytes, %v", len(got), err)
				return
			}
			select {
			case <-stop:
				return
			default:
			}
		}
	})
	for i := range 30 {
		if err := Replace(p, []byte([]string{b, a}[i%2]), 0o600, nil); err != nil {
			t.Error(err)
		}
	}
	close(stop)
	wg.Wait()
	if st, _ := os.Stat(p); st.Mode().Perm() != 0o600 {
		t.Errorf("mode %o", st.Mode().Perm())
	}
	if list, _ := os.ReadDir(dir); len(list) != 1 {
		t.Errorf("left over: %v", list)
	}
}

func TestCreateNeverReplaces(t *testing.T) {
	p := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(p, []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Create(p, []byte("yours"), 0o600, nil); !errors.Is(err, fs.ErrExist) {
		t.Errorf("got %v", err)
	}
	if b, _ := os.ReadFile(p); string(b) != "mine" {
		t.Errorf("got %q", b)
	}
	if err := Replace(filepath.Join(p, "below"), nil, 0o600, nil); err == nil {
		t.Error("a file was written below a file")
	}
}
