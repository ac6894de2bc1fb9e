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
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"math"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/layout"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sys/unix"
)

// Names in an archive.
const (
	ManifestName = "manifest.json"
	Store        = layout.Store
	Household    = layout.Household
	Settings     = "settings.json"
	Ledger       = layout.Ledger
	Pictures     = layout.Pictures + "/"

	mostKeys = 16
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
	// Open gives what it holds, and how many bytes that are.
	Open func() (io.ReadCloser, int64, error)
}

// Text is a part that is known already.
func Text(name string, b []byte) Part {
	return Part{name, func() (io.ReadCloser, int64, error) {
		return io.NopCloser(bytes.NewReader(b)), int64(len(b)),
			nil
	}}
}

// In is a plain file below a folder that belongs to one of the owners; nil is for files
// of the caller's own folders.
func In(d *boundary.Dir, name string, owners []int) Part {
	return Part{name, func() (io.ReadCloser, int64, error) {
		f, err := d.File(name, owners)
		if err != nil {
			return nil, 0, err
		}
		st, err := f.Stat()
		if err != nil {
			f.Close()
			return nil, 0, err
		}
		return f, st.Size(), nil
	}}
}

// PicturesOf gives the pictures in a state folder that belong to one of the owners.
func PicturesOf(d *boundary.Dir, owners []int) ([]Part, error) {
	var out []Part
	err := d.Walk(strings.TrimSuffix(Pictures, "/"), func(name string, st unix.Stat_t) error {
		if st.Mode&unix.S_IFMT == unix.S_IFREG && known(name) {
			out = append(out, In(d, name, owners))
		}
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return out, err
}

// KeysOf gives the keys in a state folder that belong to one of the owners: without them no password of the
// store can be checked, and no device trusts the server's certificate.
func KeysOf(d *boundary.Dir, owners []int) ([]Part, error) {
	names, err := d.Names()
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	var out []Part
	for _, name := range names {
		if !layout.Secret(name) || len(out) >= mostKeys {
			continue
		}
		if st, err := d.Lstat(name); err == nil && st.Mode&unix.S_IFMT == unix.S_IFREG && st.Size <= mostKey {
			out = append(out, In(d, name, owners))
		}
	}
	return out, nil
}

// Write writes an archive of the parts. Manifest.Files is filled in.
func Write(ctx context.Context, w io.Writer, m Manifest, parts []Part) (Manifest, error) {
	a, err := begin(contextWriter{ctx, w}, m)
	if err != nil {
		return m, err
	}
	defer a.z.Close()
	for _, p := range parts {
		if err := a.put(p); err != nil {
			return a.m, fmt.Errorf("%s: %w", p.Name, err)
		}
	}
	return a.m, a.end()
}

// Merge writes an archive of what another one holds of the server's, the store and the
// pictures, and of the parts. The other one is read to its end and checked.
func Merge(ctx context.Context, w io.Writer, from io.Reader, parts []Part) (Manifest, error) {
	var a *archive
	m, err := read(from, "", func(m Manifest, h *tar.Header, r io.Reader) (File, error) {
		out := File{Name: h.Name, Size: h.Size}
		if a == nil {
			var err error
			if a, err = begin(contextWriter{ctx, w}, Manifest{Made: h.ModTime}); err != nil {
				return out, err
			}
		}
		if h.Name != Store && !layout.Secret(h.Name) && !strings.HasPrefix(h.Name, Pictures) {
			sum := sha256.New()
			return out, copySum(&out, sum, r, nil, sum)
		}
		return a.copy(h.Name, r, h.Size)
	})
	if a != nil {
		defer a.z.Close()
	}
	if err == nil && a == nil {
		err = fmt.Errorf("%w: there is no store in it", ErrDamaged)
	}
	if err != nil {
		return m, err
	}
	files := a.m.Files
	a.m = m
	a.m.Format, a.m.Files = 1, files
	for _, p := range parts {
		if err := a.put(p); err != nil {
			return a.m, fmt.Errorf("%s: %w", p.Name, err)
		}
	}
	return a.m, a.end()
}

// archive is one that is being written.
type archive struct {
	z *zstd.Encoder
	t *tar.Writer
	m Manifest
}

func begin(w io.Writer, m Manifest) (*archive, error) {
	m.Format, m.Files = 1, []File{}
	z, err := zstd.NewWriter(w, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	return &archive{z, tar.NewWriter(z), m}, nil
}

func (a *archive) put(p Part) error {
	f, size, err := p.Open()
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = a.copy(p.Name, f, size)
	return err
}

// copy puts a file of a size into it. One that grows meanwhile is taken as it was.
func (a *archive) copy(name string, r io.Reader, size int64) (File, error) {
	out := File{Name: name, Size: size}
	if err := a.t.WriteHeader(header(a.m, name, size)); err != nil {
		return out, err
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(a.t, h), io.LimitReader(r, size))
	if err == nil && n < size {
		err = errors.New("it became shorter while it was read")
	}
	out.SHA256 = hex.EncodeToString(h.Sum(nil))
	a.m.Files = append(a.m.Files, out)
	return out, err
}

func (a *archive) end() error {
	b, err := json.MarshalIndent(a.m, "", "  ")
	if err != nil {
		return err
	}
	if err := a.t.WriteHeader(header(a.m, ManifestName, int64(len(b)))); err != nil {
		return err
	}
	if _, err := a.t.Write(b); err != nil {
		return err
	}
	return errors.Join(a.t.Close(), a.z.Close())
}

func header(m Manifest, name string, size int64) *tar.Header {
	return &tar.Header{Typeflag: tar.TypeReg, Name: name, Size: size, Mode: 0o600, ModTime: m.Made,
		Format: tar.FormatPAX}
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

// The bounds of what is read: more memory, more entries or larger ones are no backup of
// ours. What is unpacked leaves Reserve free on the disk.
const (
	mostWindow  = 64 << 20
	mostEntries = 200_000
	mostPicture = 64 << 20
	mostKey     = 16 << 10
	mostLedger  = 256 << 20
	MostText    = 16 << 20 // of the household file, the settings and the manifest
	Reserve     = 8 << 20
)

// ErrRoom says that what an archive holds does not fit where it is to be unpacked.
var ErrRoom = fmt.Errorf("there is not enough room to unpack it: %w", syscall.ENOSPC)

// Read reads every byte of an archive and compares it with the manifest. Its files
// are unpacked into a folder unless that is nil. An error that the archive is to
// blame for is ErrDamaged, ErrPassphrase or ErrEncrypted. Nothing is written
// outside of the folder, whatever the archive says.
func Read(r io.Reader, passphrase string, folder *boundary.Dir) (Manifest, error) {
	room := int64(math.MaxInt64)
	if folder != nil {
		var st unix.Statfs_t
		if err := unix.Fstatfs(folder.Fd(), &st); err == nil {
			room = int64(st.Bavail)*int64(st.Bsize) - Reserve
		}
	}
	return read(r, passphrase, func(_ Manifest, h *tar.Header, r io.Reader) (File, error) {
		if room -= h.Size; room < 0 {
			return File{}, fmt.Errorf("%w: %s has %d bytes", ErrRoom, h.Name, h.Size)
		}
		return unpack(r, h, folder)
	})
}

// read reads an archive, giving each file to take before it is compared with the manifest.
func read(r io.Reader, passphrase string,
	take func(Manifest, *tar.Header, io.Reader) (File, error)) (Manifest, error) {
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
	z, err := zstd.NewReader(src, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(mostWindow),
		zstd.WithDecoderLowmem(true))
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
		if h.Typeflag != tar.TypeReg || !known(h.Name) || len(have) >= mostEntries || h.Size > mostOf(h.Name) {
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
		f, err := take(m, h, t)
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
	if size > MostText {
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
	return slices.Contains([]string{ManifestName, Store, Household, Settings, Ledger}, name) || layout.Secret(name) ||
		pictureName.MatchString(name) && path.Clean(name) == name && !strings.Contains(name, "..")
}

// mostOf is how many bytes an entry may have. The store has as many as there is room.
func mostOf(name string) int64 {
	switch {
	case name == Store:
		return math.MaxInt64
	case layout.Secret(name):
		return mostKey
	case name == Ledger:
		return mostLedger
	case strings.HasPrefix(name, Pictures):
		return mostPicture
	}
	return MostText
}

// unpack reads one file, into the folder unless that is nil.
func unpack(r io.Reader, h *tar.Header, folder *boundary.Dir) (File, error) {
	out := File{Name: h.Name, Size: h.Size}
	sum := sha256.New()
	var to io.Writer = sum
	var f *os.File
	if folder != nil {
		in, err := folder.MkdirAll(path.Dir(h.Name), 0o700, nil)
		if err != nil {
			return out, err
		}
		defer in.Close()
		if f, err = in.Create(path.Base(h.Name), 0o600); err != nil {
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
	Made time.Time `json:"made_at"`
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
