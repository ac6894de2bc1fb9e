package pack

import (
	"archive/tar"
	"bytes"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/validate"
)

func sample(t *testing.T) Image {
	t.Helper()
	p := filepath.Join(t.TempDir(), "program")
	if err := os.WriteFile(p, bytes.Repeat([]byte("program "), 4096), 0o755); err != nil {
		t.Fatal(err)
	}
	img, err := Open(p, "0.1.0")
	if err != nil {
		t.Fatal(err)
	}
	return img
}

func TestTheSameProgramGivesTheSameBytes(t *testing.T) {
	img := sample(t)
	var a, b bytes.Buffer
	if err := img.Write(&a); err != nil {
		t.Fatal(err)
	}
	later := time.Now().Add(time.Hour)
	if err := os.Chtimes(img.Program, later, later); err != nil {
		t.Fatal(err)
	}
	if err := img.Write(&b); err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(a.Bytes(), b.Bytes()) {
		t.Error("two packings of one program differ")
	}
	got, err := tarball.Image(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(a.Bytes())), nil },
		nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := validate.Image(got); err != nil {
		t.Error(err)
	}
	c, err := got.ConfigFile()
	if err != nil {
		t.Fatal(err)
	}
	if c.Config.Labels[LabelDigest] != img.Digest || c.Config.User != "65534:65534" {
		t.Errorf("got %+v", c.Config)
	}
}

func TestAProgramThatChangesWhilePackedIsRefused(t *testing.T) {
	img := sample(t)
	if err := os.WriteFile(img.Program, bytes.Repeat([]byte("changed "), 4096), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := img.Write(io.Discard); err == nil {
		t.Error("a changed program was packed under the old digest")
	}
}

// TestScratchIsForAll looks at the folder over which memory is mounted: an engine may give it this
// folder's mode, and the account must be able to write there.
func TestScratchIsForAll(t *testing.T) {
	b, err := sample(t).layer()
	if err != nil {
		t.Fatal(err)
	}
	for r := tar.NewReader(bytes.NewReader(b)); ; {
		h, err := r.Next()
		if err != nil {
			t.Fatal("there is no scratch folder in the image: ", err)
		}
		if h.Name == "scratch/" {
			if h.Mode != 0o1777 {
				t.Errorf("it has mode %o", h.Mode)
			}
			return
		}
	}
}
