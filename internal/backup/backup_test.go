package backup

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/testbuild"

	"github.com/klauspost/compress/zstd"
)

// sample is an archive of some files.
func sample(t testing.TB) ([]byte, map[string]string) {
	t.Helper()
	dir := t.TempDir()
	content := map[string]string{
		Store: strings.Repeat("page ", 900), Household: "format = 1\n", Settings: "{}", Ledger: "",
		"pictures/a1/The_Paper-Lighthouse.jpg": "\xff\xd8 a picture",
	}
	var parts []Part
	for _, name := range []string{Store, Household, Settings, Ledger, "pictures/a1/The_Paper-Lighthouse.jpg"} {
		p := filepath.Join(dir, filepath.Base(name))
		if err := os.WriteFile(p, []byte(content[name]), 0o600); err != nil {
			t.Fatal(err)
		}
		parts = append(parts, Part{name, p})
	}
	var b bytes.Buffer
	m, err := Write(&b, Manifest{Made: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), ID: "0123456789ab", Name: "Fernhollow Mill", StoreFormat: 2}, parts)
	if err != nil || len(m.Files) != len(parts) {
		t.Fatalf("%+v, %v", m, err)
	}
	return b.Bytes(), content
}

func TestWhatIsWrittenIsReadBack(t *testing.T) {
	b, content := sample(t)
	to := t.TempDir()
	m, err := Read(bytes.NewReader(b), "", to)
	if err != nil || m.Name != "Fernhollow Mill" || m.StoreFormat != 2 || len(m.Files) != len(content) {
		t.Fatalf("got %+v, %v", m, err)
	}
	for name, want := range content {
		got, err := os.ReadFile(filepath.Join(to, name))
		if err != nil || string(got) != want {
			t.Errorf("%s: got %q, %v", name, got, err)
		}
	}
	// Other programs read it too.
	file := filepath.Join(to, "b.tar.zst")
	if err := os.WriteFile(file, b, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, part := range []string{"tar", "zstd"} {
		if _, err := exec.LookPath(part); err != nil {
			testbuild.Missing(t, part)
		}
	}
	out, err := exec.Command("tar", "--zstd", "-xOf", file, Store).Output()
	if err != nil || string(out) != content[Store] {
		t.Errorf("tar: %v, %d bytes", err, len(out))
	}
}

// TestNoFlippedOrMissingByteIsPassedOver changes every byte in turn, and cuts the
// archive off at every length.
func TestNoFlippedOrMissingByteIsPassedOver(t *testing.T) {
	b, _ := sample(t)
	plain := func(b []byte) []byte {
		z, err := zstd.NewReader(bytes.NewReader(b), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil
		}
		defer z.Close()
		out, _ := io.ReadAll(z) // compared as far as it goes
		return out
	}
	whole := plain(b)
	for i := range b {
		spoilt := bytes.Clone(b)
		spoilt[i] ^= 0x41
		// A few bits of the compressed form carry nothing.
		if _, err := Read(bytes.NewReader(spoilt), "", ""); err == nil && !bytes.Equal(plain(spoilt), whole) {
			t.Errorf("byte %d of %d changed: it was taken", i, len(b))
		}
		if _, err := Read(bytes.NewReader(b[:i]), "", ""); !errors.Is(err, ErrDamaged) {
			t.Errorf("cut off after %d of %d bytes: got %v", i, len(b), err)
		}
	}
}

func TestEncryption(t *testing.T) {
	b, _ := sample(t)
	var enc bytes.Buffer
	w, err := Encrypt(&enc, "an old mill by the water")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Write(b); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if bytes.Contains(enc.Bytes(), b[:64]) {
		t.Error("it is not encrypted")
	}
	if m, err := Read(bytes.NewReader(enc.Bytes()), "an old mill by the water", ""); err != nil || m.Name != "Fernhollow Mill" {
		t.Errorf("got %+v, %v", m, err)
	}
	if _, err := Read(bytes.NewReader(enc.Bytes()), "another", ""); !errors.Is(err, ErrPassphrase) {
		t.Errorf("a wrong passphrase: %v", err)
	}
	if _, err := Read(bytes.NewReader(enc.Bytes()), "", ""); !errors.Is(err, ErrEncrypted) {
		t.Errorf("no passphrase: %v", err)
	}
	if _, err := Read(bytes.NewReader(enc.Bytes()[:enc.Len()-1]), "an old mill by the water", ""); !errors.Is(err, ErrDamaged) {
		t.Errorf("cut off: %v", err)
	}
}

// archive writes any tar.
func archive(t testing.TB, entries ...*tar.Header) []byte {
	t.Helper()
	var b bytes.Buffer
	z, err := zstd.NewWriter(&b)
	if err != nil {
		t.Fatal(err)
	}
	w := tar.NewWriter(z)
	for _, h := range entries {
		body := []byte(h.Linkname)
		if h.Typeflag == tar.TypeReg {
			h.Size, h.Linkname = int64(len(body)), ""
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if h.Typeflag == tar.TypeReg {
			if _, err := w.Write(body); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := errors.Join(w.Close(), z.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestArchivesThatMeanHarmAreRefused(t *testing.T) {
	file := func(name, body string) *tar.Header {
		return &tar.Header{Typeflag: tar.TypeReg, Name: name, Linkname: body, Mode: 0o600}
	}
	end := file(ManifestName, `{"format":1,"files":[]}`)
	for name, b := range map[string][]byte{
		"out of the folder":   archive(t, file("../store.db", "x"), end),
		"out by pictures":     archive(t, file("pictures/../../x", "x"), end),
		"an absolute name":    archive(t, file("/etc/x", "x"), end),
		"a link":              archive(t, &tar.Header{Typeflag: tar.TypeSymlink, Name: Store, Linkname: "/etc/passwd"}, end),
		"a file twice":        archive(t, file(Store, "x"), file(Store, "y"), end),
		"an unnamed file":     archive(t, file(Store, "x"), end),
		"a missing file":      archive(t, file(ManifestName, `{"format":1,"files":[{"name":"store.db","size":1}]}`)),
		"something after":     archive(t, end, file(Store, "x")),
		"a manifest of noise": archive(t, file(ManifestName, "no")),
		"a newer format":      archive(t, file(ManifestName, `{"format":2,"files":[]}`)),
		"no archive":          []byte("the gravel choir"),
		"nothing":             nil,
	} {
		outer := t.TempDir()
		in := filepath.Join(outer, "in")
		if err := os.Mkdir(in, 0o700); err != nil {
			t.Fatal(err)
		}
		if m, err := Read(bytes.NewReader(b), "", in); err == nil {
			t.Errorf("%s: it was taken: %+v", name, m)
		}
		if list, _ := os.ReadDir(outer); len(list) != 1 {
			t.Errorf("%s: something was written outside: %v", name, list)
		}
	}
}

func TestOldBackupsGoAndOthersStay(t *testing.T) {
	dir := t.TempDir()
	at := time.Date(2026, 11, 1, 3, 30, 0, 0, time.UTC)
	var names []string
	for i := range 9 {
		names = append(names, FileName("fernhollow-mill", "0123456789ab", at.AddDate(0, 0, i)))
	}
	others := []string{FileName("fernhollow-mill", "ba9876543210", at), "holiday.tar.zst", "fernhollow-mill-0123456789ab-soon.tar.zst"}
	for _, n := range append(names, others...) {
		if err := os.WriteFile(filepath.Join(dir, n), []byte(n), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	gone, err := Thin(dir, "0123456789ab", 7)
	if err != nil || fmt.Sprint(gone) != fmt.Sprint([]string{filepath.Join(dir, names[0]), filepath.Join(dir, names[1])}) {
		t.Errorf("removed %v, %v", gone, err)
	}
	if left, err := List(dir, "0123456789ab"); err != nil || len(left) != 7 || !left[6].Made.Equal(at.AddDate(0, 0, 8)) {
		t.Errorf("left %v, %v", left, err)
	}
	for _, n := range others {
		if _, err := os.Stat(filepath.Join(dir, n)); err != nil {
			t.Error(err)
		}
	}
	if list, err := List(filepath.Join(dir, "none"), "0123456789ab"); err != nil || list != nil {
		t.Errorf("a folder that is missing: %v, %v", list, err)
	}
}

func FuzzRead(f *testing.F) {
	b, _ := sample(f)
	f.Add(b)
	f.Add(b[:len(b)/2])
	f.Fuzz(func(t *testing.T, in []byte) {
		dir := t.TempDir()
		m, err := Read(bytes.NewReader(in), "", dir)
		if err != nil {
			return
		}
		// What is taken can be written again from what was unpacked.
		var parts []Part
		for _, x := range m.Files {
			parts = append(parts, Part{x.Name, filepath.Join(dir, x.Name)})
		}
		if _, err := Write(&bytes.Buffer{}, m, parts); err != nil {
			t.Error(err)
		}
	})
}
