// Package backup is the form of a backup: one archive, a tar compressed with
// Zstandard (RFC 8878), with the store, the settings, the household file, the
// ledger and the pictures of one household. Its last entry is a manifest with the
// size and SHA-256 sum of every other, so an archive that was cut off has none. It
// may be encrypted with a passphrase, in the format of age (age-encryption.org/v1).
package backup

import (
	"archive/tar"
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
)

// Names in an archive.
const (
	ManifestName = "manifest.json"
	Store        = "store.db"
	Household    = "household.toml"
	Settings     = "settings.json"
	Ledger       = "ledger.jsonl"
	Pictures     = "pictures/"
)

// Manifest says what an archive holds.
type Manifest struct {
	Format      int       `json:"format"` // 1
	Made        time.Time `json:"made"`
	ID          string    `json:"household"` // the household's id
	Name        string    `json:"household_name"`
	Version     string    `json:"version"`      // of the program that made it
	StoreFormat int       `json:"store_format"` // number of the store's last migration
	Files       []File    `json:"files"`
}

// File is one file of an archive.
type File struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`   // bytes
	SHA256 string `json:"sha256"` // in hexadecimal
}

// Size is that of all files together, in bytes.
func (m Manifest) Size() int64 {
	n := int64(0)
	for _, f := range m.Files {
		n += f.Size
	}
	return n
}

// Errors of reading. Found with errors.Is.
var (
	ErrDamaged    = errors.New("the backup is damaged or was cut off")
	ErrPassphrase = errors.New("the passphrase does not open it")
	ErrEncrypted  = errors.New("it is encrypted, and there is no passphrase")
)

// Part is a file that goes into an archive.
type Part struct {
	Name string // in the archive
	Path string // where it lies
}

// Write writes an archive of the parts. Manifest.Files is filled in.
func Write(w io.Writer, m Manifest, parts []Part) (Manifest, error) {
	m.Format, m.Files = 1, []File{}
	z, err := zstd.NewWriter(w, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return m, err
	}
	defer z.Close()
	t := tar.NewWriter(z)
	for _, p := range parts {
		f, err := put(t, m, p)
		if err != nil {
			return m, fmt.Errorf("%s: %w", p.Path, err)
		}
		m.Files = append(m.Files, f)
	}
	b, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return m, err
	}
	if err := t.WriteHeader(header(m, ManifestName, int64(len(b)))); err != nil {
		return m, err
	}
	if _, err := t.Write(b); err != nil {
		return m, err
	}
	return m, errors.Join(t.Close(), z.Close())
}

func header(m Manifest, name string, size int64) *tar.Header {
	return &tar.Header{Typeflag: tar.TypeReg, Name: name, Size: size, Mode: 0o600, ModTime: m.Made, Format: tar.FormatPAX}
}

func put(t *tar.Writer, m Manifest, p Part) (File, error) {
	f, err := os.Open(p.Path)
	if err != nil {
		return File{}, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return File{}, err
	}
	out := File{Name: p.Name, Size: st.Size()}
	if err := t.WriteHeader(header(m, p.Name, out.Size)); err != nil {
		return out, err
	}
	h := sha256.New()
	// A file that grows meanwhile, as the ledger may, is taken as it was.
	n, err := io.Copy(io.MultiWriter(t, h), io.LimitReader(f, out.Size))
	if err == nil && n < out.Size {
		err = errors.New("it became shorter while it was read")
	}
	out.SHA256 = hex.EncodeToString(h.Sum(nil))
	return out, err
}

// Encrypt gives a writer that encrypts for a passphrase what goes to w. The end is
// written by its Close.
func Encrypt(w io.Writer, passphrase string) (io.WriteCloser, error) {
	to, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, err
	}
	return age.Encrypt(w, to)
}

// ageMagic is how a file in the format of age begins.
var ageMagic = []byte("age-encryption.org/v1\n")

// Encrypted reports whether an archive is encrypted. It reads nothing away.
func Encrypted(r *bufio.Reader) bool {
	b, _ := r.Peek(len(ageMagic))
	return bytes.Equal(b, ageMagic)
}

// IsEncrypted reports whether the archive that a reader begins with is encrypted.
func IsEncrypted(r io.Reader) bool { return Encrypted(bufio.NewReaderSize(r, 64)) }

// The bounds of what is read: more memory or more entries are no backup of ours.
const (
	mostWindow  = 64 << 20
	mostEntries = 1_000_000
	mostText    = 16 << 20
)

// Read reads every byte of an archive and compares it with the manifest. Its files
// are unpacked into a folder unless that is empty. An error that the archive is to
// blame for is ErrDamaged, ErrPassphrase or ErrEncrypted. Nothing is written
// outside of the folder, whatever the archive says.
func Read(r io.Reader, passphrase, folder string) (Manifest, error) {
	var m Manifest
	in := bufio.NewReaderSize(r, 64<<10)
	var src io.Reader = in
	if Encrypted(in) {
		if passphrase == "" {
			return m, ErrEncrypted
		}
		id, err := age.NewScryptIdentity(passphrase)
		if err != nil {
			return m, fmt.Errorf("%w: %w", ErrPassphrase, err)
		}
		src, err = age.Decrypt(in, id)
		var none *age.NoIdentityMatchError
		if errors.As(err, &none) {
			return m, ErrPassphrase
		}
		if err != nil {
			return m, fmt.Errorf("%w: %w", ErrDamaged, err)
		}
	}
	z, err := zstd.NewReader(src, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(mostWindow), zstd.WithDecoderLowmem(true))
	if err != nil {
		return m, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	defer z.Close()
	t := tar.NewReader(z)
	have := map[string]File{}
	for {
		h, err := t.Next()
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = errors.New("it has no manifest at its end")
			}
			return m, fmt.Errorf("%w: %w", ErrDamaged, err)
		}
		if h.Typeflag != tar.TypeReg || !known(h.Name) || len(have) > mostEntries {
			return m, fmt.Errorf("%w: %q does not belong into a backup", ErrDamaged, h.Name)
		}
		if h.Name == ManifestName {
			if err := manifest(t, h.Size, &m); err != nil {
				return m, err
			}
			break
		}
		if _, twice := have[h.Name]; twice {
			return m, fmt.Errorf("%w: %q is in it twice", ErrDamaged, h.Name)
		}
		f, err := unpack(t, h, folder)
		if err != nil {
			return m, err
		}
		have[h.Name] = f
	}
	// What comes after the manifest is its end, and belongs to what is checked.
	if _, err := t.Next(); !errors.Is(err, io.EOF) {
		return m, fmt.Errorf("%w: something follows the manifest", ErrDamaged)
	}
	if _, err := io.Copy(io.Discard, z); err != nil {
		return m, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return m, agree(m, have)
}

func agree(m Manifest, have map[string]File) error {
	if m.Format != 1 {
		return fmt.Errorf("it is of format %d, this program reads 1", m.Format)
	}
	for _, f := range m.Files {
		got, ok := have[f.Name]
		if !ok {
			return fmt.Errorf("%w: %s is missing", ErrDamaged, f.Name)
		}
		if got != f {
			return fmt.Errorf("%w: %s is not what the manifest says", ErrDamaged, f.Name)
		}
	}
	if len(m.Files) != len(have) {
		return fmt.Errorf("%w: it holds files that the manifest does not name", ErrDamaged)
	}
	return nil
}

func manifest(r io.Reader, size int64, m *Manifest) error {
	if size > mostText {
		return fmt.Errorf("%w: the manifest is too large", ErrDamaged)
	}
	b, err := io.ReadAll(r)
	if err == nil {
		err = json.Unmarshal(b, m)
	}
	if err != nil {
		return fmt.Errorf("%w: the manifest: %w", ErrDamaged, err)
	}
	return nil
}

var pictureName = regexp.MustCompile(`^pictures/[A-Za-z0-9._-]+(/[A-Za-z0-9._-]+)*$`)

func known(name string) bool {
	return slices.Contains([]string{ManifestName, Store, Household, Settings, Ledger}, name) ||
		pictureName.MatchString(name) && path.Clean(name) == name && !strings.Contains(name, "..")
}

// unpack reads one file, into the folder unless that is empty.
func unpack(r io.Reader, h *tar.Header, folder string) (File, error) {
	out := File{Name: h.Name, Size: h.Size}
	sum := sha256.New()
	var to io.Writer = sum
	var f *os.File
	if folder != "" {
		p := filepath.Join(folder, filepath.FromSlash(h.Name))
		if err := os.MkdirAll(filepath.Dir(p), 0o700); err != nil {
			return out, err
		}
		var err error
		if f, err = os.OpenFile(p, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600); err != nil {
			return out, err
		}
		defer f.Close()
		to = io.MultiWriter(f, sum)
	}
	err := copySum(&out, to, r, f, sum)
	return out, err
}

// writeError tells trouble with the disk from trouble with the archive.
type writeError struct{ error }

func (e writeError) Unwrap() error { return e.error }

type telling struct{ io.Writer }

func (t telling) Write(b []byte) (int, error) {
	n, err := t.Writer.Write(b)
	if err != nil {
		err = writeError{err}
	}
	return n, err
}

func copySum(out *File, to io.Writer, r io.Reader, f *os.File, sum hash.Hash) error {
	_, err := io.Copy(telling{to}, r)
	var we writeError
	switch {
	case errors.As(err, &we):
		return err
	case err != nil:
		return fmt.Errorf("%w: %s: %w", ErrDamaged, out.Name, err)
	}
	out.SHA256 = hex.EncodeToString(sum.Sum(nil))
	if f == nil {
		return nil
	}
	return f.Sync()
}

// stamp is how a time stands in a backup's name, in UTC.
const stamp = "20060102-150405"

// FileName is the name of a household's backup: readable, and sorted by time.
func FileName(slug, id string, at time.Time) string {
	return fmt.Sprintf("%s-%s-%s.tar.zst", slug, id, at.UTC().Format(stamp))
}

var fileName = regexp.MustCompile(`^[a-z0-9-]+-([0-9a-f]{12})-([0-9]{8}-[0-9]{6})\.tar\.zst(\.age)?$`)

// ParseName reads such a name; ok is false for others.
func ParseName(name string) (id string, at time.Time, ok bool) {
	m := fileName.FindStringSubmatch(name)
	if m == nil {
		return "", time.Time{}, false
	}
	at, err := time.Parse(stamp, m[2])
	return m[1], at, err == nil
}

// Found is a backup in a folder.
type Found struct {
	Path string    `json:"path"`
	Made time.Time `json:"made"`
	Size int64     `json:"size"`
}

// List gives a household's backups in a folder, the oldest first. A folder that is
// missing has none.
func List(folder, id string) ([]Found, error) {
	list, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []Found
	for _, d := range list {
		of, at, ok := ParseName(d.Name())
		if !ok || of != id || !d.Type().IsRegular() {
			continue
		}
		st, err := d.Info()
		if err != nil {
			continue // gone between the two questions
		}
		out = append(out, Found{filepath.Join(folder, d.Name()), at, st.Size()})
	}
	slices.SortFunc(out, func(a, b Found) int { return a.Made.Compare(b.Made) })
	return out, nil
}

// Thin removes the oldest of a household's backups in a folder and keeps the last
// so many.
func Thin(folder, id string, keep int) (removed []string, err error) {
	list, err := List(folder, id)
	if err != nil {
		return nil, err
	}
	for _, f := range list[:max(0, len(list)-keep)] {
		if err := os.Remove(f.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return removed, err
		}
		removed = append(removed, f.Path)
	}
	return removed, nil
}
