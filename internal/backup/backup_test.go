package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/testbuild"

	"github.com/klauspost/compress/zstd"
)

// folder opens a folder of the test.
func folder(t testing.TB, path string) *boundary.Dir {
	t.Helper()
	d, err := boundary.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

// sample is an archive of some files.
func sample(t testing.TB) ([]byte, map[string]string) {
	t.Helper()
	content := map[string]string{
		Store: strings.Repeat("page ", 900), Household: "format = 1\n", Settings: "{}", Ledger: "",
		"pictures/a1/The_Paper-Lighthouse.jpg": "\xff\xd8 a picture",
	}
	var parts []Part
	for _, name := range []string{Store, Household, Settings, Ledger, "pictures/a1/The_Paper-Lighthouse.jpg"} {
		parts = append(parts, Text(name, []byte(content[name])))
	}
	var b bytes.Buffer
	m, err := Write(context.Background(), &b,
		Manifest{Made: time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), ID: "0123456789ab", Name: "Fernhollow Mill",
			StoreFormat: 2}, parts)
	if err != nil || len(m.Files) != len(parts) {
		t.Fatalf("%+v, %v", m, err)
	}
	return b.Bytes(), content
}

func TestWhatIsWrittenIsReadBack(t *testing.T) {
	b, content := sample(t)
	to := t.TempDir()
	m, err := Read(bytes.NewReader(b), "", folder(t, to))
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
		if _, err := Read(bytes.NewReader(spoilt), "", nil); err == nil && !bytes.Equal(plain(spoilt), whole) {
			t.Errorf("byte %d of %d changed: it was taken", i, len(b))
		}
		if _, err := Read(bytes.NewReader(b[:i]), "", nil); !errors.Is(err, ErrDamaged) {
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
	if m, err := Read(bytes.NewReader(enc.Bytes()), "an old mill by the water", nil); err != nil ||
		m.Name != "Fernhollow Mill" {
		t.Errorf("got %+v, %v", m, err)
	}
	if _, err := Read(bytes.NewReader(enc.Bytes()), "another", nil); !errors.Is(err, ErrPassphrase) {
		t.Errorf("a wrong passphrase: %v", err)
	}
	if _, err := Read(bytes.NewReader(enc.Bytes()), "", nil); !errors.Is(err, ErrEncrypted) {
		t.Errorf("no passphrase: %v", err)
	}
	if _, err := Read(bytes.NewReader(enc.Bytes()[:enc.Len()-1]), "an old mill by the water", nil); !errors.Is(err,
		ErrDamaged) {
		t.Errorf("cut off: %v", err)
	}
}

// tarOf writes any tar.
func tarOf(t testing.TB, entries ...*tar.Header) []byte {
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
		"out of the folder": tarOf(t, file("../store.db", "x"), end),
		"out by pictures":   tarOf(t, file("pictures/../../x", "x"), end),
		"an absolute name":  tarOf(t, file("/etc/x", "x"), end),
		"a link": tarOf(t, &tar.Header{Typeflag: tar.TypeSymlink, Name: Store, Linkname: "/etc/passwd"},
			end),
		"a file twice":        tarOf(t, file(Store, "x"), file(Store, "y"), end),
		"an unnamed file":     tarOf(t, file(Store, "x"), end),
		"a missing file":      tarOf(t, file(ManifestName, `{"format":1,"files":[{"name":"store.db","size":1}]}`)),
		"something after":     tarOf(t, end, file(Store, "x")),
		"a manifest of noise": tarOf(t, file(ManifestName, "no")),
		"a newer format":      tarOf(t, file(ManifestName, `{"format":2,"files":[]}`)),
		"no archive":          []byte("the gravel choir"),
		"nothing":             nil,
	} {
		outer := t.TempDir()
		in := filepath.Join(outer, "in")
		if err := os.Mkdir(in, 0o700); err != nil {
			t.Fatal(err)
		}
		if m, err := Read(bytes.NewReader(b), "", folder(t, in)); err == nil {
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
	others := []string{FileName("fernhollow-mill", "ba9876543210", at), "holiday.tar.zst",
		"fernhollow-mill-0123456789ab-soon.tar.zst"}
	for _, n := range append(names, others...) {
		if err := os.WriteFile(filepath.Join(dir, n), []byte(n), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	gone, err := Thin(dir, "0123456789ab", 7)
	if err != nil || fmt.Sprint(gone) != fmt.Sprint([]string{filepath.Join(dir, names[0]),
		filepath.Join(dir, names[1])}) {
		t.Errorf("removed %v, %v", gone, err)
	}
	if left, err := List(dir, "0123456789ab"); err != nil || len(left) != 7 ||
		!left[6].Made.Equal(at.AddDate(0, 0, 8)) {
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
		m, err := Read(bytes.NewReader(in), "", folder(t, dir))
		if err != nil {
			return
		}
		// What is taken can be written again from what was unpacked.
		var parts []Part
		for _, x := range m.Files {
			parts = append(parts, In(folder(t, dir), x.Name, nil))
		}
		if _, err := Write(context.Background(), &bytes.Buffer{}, m, parts); err != nil {
			t.Error(err)
		}
	})
}

// Merge keeps what is the server's, byte for byte, and puts the administrator's beside it;
// what the server says of the administrator's is left out.
func TestMergeKeepsWhatIsTheServers(t *testing.T) {
	b, content := sample(t)
	var out bytes.Buffer
	m, err := Merge(context.Background(), &out, bytes.NewReader(b),
		[]Part{Text(Household, []byte("of the administrator")), Text(Ledger, []byte("{}"))})
	if err != nil || m.Name != "Fernhollow Mill" {
		t.Fatalf("%+v, %v", m, err)
	}
	to := t.TempDir()
	got, err := Read(bytes.NewReader(out.Bytes()), "", folder(t, to))
	if err != nil || len(got.Files) != 4 || got.ID != m.ID {
		t.Fatalf("%+v, %v", got, err)
	}
	want := map[string]string{Household: "of the administrator", Ledger: "{}", Store: content[Store],
		"pictures/a1/The_Paper-Lighthouse.jpg": content["pictures/a1/The_Paper-Lighthouse.jpg"]}
	for name, text := range want {
		if b, err := os.ReadFile(filepath.Join(to, name)); err != nil || string(b) != text {
			t.Errorf("%s: %q, %v", name, b, err)
		}
	}
	for cut := range b {
		if _, err := Merge(context.Background(), io.Discard, bytes.NewReader(b[:cut]), nil); err == nil {
			t.Fatalf("one that was cut off after %d bytes was taken", cut)
		}
	}
}

// What is too large for what it says it is goes nowhere.
func TestEntriesAreBounded(t *testing.T) {
	for _, name := range []string{Household, Settings, "pictures/a.jpg", Ledger} {
		var raw bytes.Buffer
		z, _ := zstd.NewWriter(&raw)
		w := tar.NewWriter(z)
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: mostOf(name) + 1,
			Mode: 0o600}); err != nil {
			t.Fatal(err)
		}
		z.Close()
		to := t.TempDir()
		if _, err := Read(bytes.NewReader(raw.Bytes()), "", folder(t, to)); !errors.Is(err, ErrDamaged) {
			t.Errorf("%s: %v", name, err)
		}
		if list, _ := os.ReadDir(to); len(list) > 0 {
			t.Errorf("%s: unpacked %v", name, list)
		}
	}
	var raw bytes.Buffer
	z, _ := zstd.NewWriter(&raw)
	w := tar.NewWriter(z)
	if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: Store, Size: 1 << 50, Mode: 0o600}); err != nil {
		t.Fatal(err)
	}
	z.Close()
	if _, err := Read(bytes.NewReader(raw.Bytes()), "", folder(t, t.TempDir())); !errors.Is(err, ErrRoom) {
		t.Errorf("a store larger than the disk: %v", err)
	}
}
