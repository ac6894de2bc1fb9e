package test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"
)

// tree makes many films in a folder beside the shelves: links to real clips, so that each
// has its own name, and real headers.
func (m *mill) tree(n int) string {
	m.t.Helper()
	clips, err := filepath.Glob(m.path("media/films/*.m*"))
	if err != nil || len(clips) < 4 {
		m.t.Fatalf("%v, %v", clips, err)
	}
	tree := m.path("tree")
	for i := range n {
		dir := fmt.Sprintf("%s/%03d", tree, i/100)
		if i%100 == 0 {
			if err := os.MkdirAll(dir, 0o755); err != nil {
				m.t.Fatal(err)
			}
		}
		clip := clips[i%len(clips)]
		if err := os.Link(clip, fmt.Sprintf("%s/Film %d (%d)%s", dir, i, 1950+i%75, filepath.Ext(clip))); err != nil {
			m.t.Fatal(err)
		}
	}
	return tree
}

// TestAHundredThousandFilesArriveAtOnce puts them on a shelf in one go, and takes them away
// again. The server sees both by itself, and serves meanwhile.
func TestAHundredThousandFilesArriveAtOnce(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	within(t, 20*time.Second, "the first scan", func() bool { return m.files("films") == 6 })
	tree, at := m.tree(100000), m.path("media/films/tree")
	slowest := time.Duration(0)
	for _, rush := range []struct {
		from, to string
		files    int
	}{{tree, at, 100006}, {at, tree, 6}} {
		if err := os.Rename(rush.from, rush.to); err != nil {
			t.Fatal(err)
		}
		within(t, 4*time.Minute, fmt.Sprintf("%d files", rush.files), func() bool {
			began := time.Now()
			if res, body := m.get("GET", "/healthz", ""); res.StatusCode != http.StatusOK {
				t.Fatalf("the server, after %s: %s %s", time.Since(began), res.Status, body)
			}
			slowest = max(slowest, time.Since(began))
			return m.files("films") == rush.files
		})
	}
	t.Logf("slowest answer %s, %s", slowest, resident(t, serverPID(m)))
	if slowest > 10*time.Second { // what waits for the whole scan, waits longer
		t.Errorf("an answer took %s", slowest)
	}
}

// files gives how many files a shelf has.
func (m *mill) files(shelf string) int {
	m.t.Helper()
	var list []struct {
		Name  string
		Files int
	}
	m.document(&list, "shelf", "list")
	for _, s := range list {
		if s.Name == shelf {
			return s.Files
		}
	}
	return -1
}
