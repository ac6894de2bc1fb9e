package pack

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"debug/elf"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/encoders"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// FFmpeg is this machine's ffmpeg and ffprobe with every library they load, as a layer of
// the image. The server starts them through the loader that lies beside them, so nothing
// of the machine they run on is needed.
type FFmpeg struct {
	Digest  string // of what it consists of: names, sizes and build ids (or contents, where there is none)
	Version string // as it says itself
	Size    int64  // of all files, in bytes

	files []packed
}

// packed is one file of the layer.
type packed struct {
	name, from string
	size       int64
}

// FindFFmpeg finds both on the PATH, and what they load, as the machine's own loader says. For
// graphics devices come the drivers that are opened by name.
func FindFFmpeg(ctx context.Context, devices []string) (*FFmpeg, error) {
	var version string
	var all [2]map[string]string
	var errs [3]error
	var looking sync.WaitGroup // each is a program that takes a while to load
	names := []string{"ffmpeg", "ffprobe"}
	var programs [2]string
	for i, name := range names {
		program, err := exec.LookPath(name)
		if err != nil {
			return nil, err
		}
		if programs[i], err = filepath.EvalSymlinks(program); err != nil {
			return nil, err
		}
	}
	for i, program := range programs {
		if i == 0 {
			looking.Go(func() { version, errs[0] = versionOf(ctx, program) })
		}
		looking.Go(func() { all[i], errs[i+1] = filesOf(ctx, names[i], program) })
	}
	looking.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}
	files := all[0]
	maps.Copy(files, all[1])
	if slices.ContainsFunc(devices, func(d string) bool {
		return strings.HasPrefix(d+"/", "/dev/dri/")
	}) {
		if err := addDrivers(ctx, files, programs[0]); err != nil {
			return nil, err
		}
	}
	for _, font := range fonts {
		if _, err := os.Stat(font); err == nil {
			files["fonts/"+filepath.Base(font)] = font
			break // subtitles that bring no font of their own need one
		}
	}
	out := &FFmpeg{Version: version}
	sum := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(files)) {
		id, size, err := identity(files[name])
		if err != nil {
			return nil, err
		}
		fmt.Fprintf(sum, "%s %d %s\n", name, size, id)
		out.files, out.Size = append(out.files, packed{name, files[name], size}), out.Size+size
	}
	out.Digest = "sha256:" + hex.EncodeToString(sum.Sum(nil))
	return out, nil
}

// filesOf gives what a program consists of, by name in the layer.
func filesOf(ctx context.Context, name, program string) (map[string]string, error) {
	loader, err := loaderOf(program)
	if err != nil {
		return nil, fmt.Errorf("%s is no program that can be packed: %w", program, err)
	}
	if loader == "" {
		return map[string]string{name: program}, nil // it needs nothing else
	}
	files, err := loads(ctx, loader, program)
	if err != nil {
		return nil, err
	}
	files[name], files[path.Base(blueprint.FFmpegLoader)] = program, loader
	return files, nil
}

// fonts are those that subtitles may be drawn with, the preferred first: where distributions put them.
var fonts = []string{"/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf",
	"/usr/share/fonts/dejavu-sans-fonts/DejaVuSans.ttf",
	"/usr/share/fonts/TTF/DejaVuSans.ttf", "/usr/share/fonts/truetype/noto/NotoSans-Regular.ttf",
	"/usr/share/fonts/truetype/liberation/LiberationSans-Regular.ttf"}

// libraryFolders are where the drivers of graphics devices lie.
var libraryFolders = []string{"/usr/lib/*-linux-gnu*", "/usr/lib64", "/usr/lib"}

// addDrivers adds the drivers of graphics devices to the files of the layer, with what they load.
func addDrivers(ctx context.Context, files map[string]string, program string) error {
	loader, err := loaderOf(program)
	if err != nil || loader == "" {
		return err // a static program opens no drivers
	}
	for _, folder := range libraryFolders {
		for _, pattern := range encoders.Drivers {
			found, err := filepath.Glob(filepath.Join(folder, pattern))
			if err != nil {
				return err
			}
			for _, driver := range found {
				real, err := filepath.EvalSymlinks(driver)
				if err != nil {
					continue // a link to what is not installed
				}
				name := path.Join("lib", filepath.Base(driver))
				if strings.HasPrefix(pattern, "dri/") {
					name = path.Join("lib/dri", filepath.Base(driver))
				}
				if files[name] != "" {
					continue
				}
				more, err := loads(ctx, loader, real)
				if err != nil {
					continue // of a package that is not whole: it does not work on this machine, either
				}
				for n, from := range more {
					if files[n] == "" {
						files[n] = from
					}
				}
				files[name] = real
			}
		}
	}
	return nil
}

// versionOf gives the version in the first line of what it says of itself.
func versionOf(ctx context.Context, program string) (string, error) {
	out, err := exec.CommandContext(ctx, program, "-version").Output()
	if err != nil {
		return "", fmt.Errorf("%s -version: %w", program, err)
	}
	words := strings.Fields(string(out))
	if len(words) < 3 || words[1] != "version" {
		return "", fmt.Errorf("%s -version does not say which it is", program)
	}
	return words[2], nil
}

// loaderOf gives the loader that a program names; none where it is static.
func loaderOf(program string) (string, error) {
	f, err := elf.Open(program)
	if err != nil {
		return "", err
	}
	defer f.Close()
	for _, p := range f.Progs {
		if p.Type == elf.PT_INTERP && p.Filesz < 4096 {
			b, err := io.ReadAll(p.Open())
			return string(bytes.TrimRight(b, "\x00")), err
		}
	}
	return "", nil
}

// loads asks the loader which libraries a program loads: each line has the name that is
// asked for, an arrow, the path, and an address.
func loads(ctx context.Context, loader, program string) (map[string]string, error) {
	out, err := exec.CommandContext(ctx, loader, "--list", program).Output()
	if err != nil {
		return nil, fmt.Errorf("what %s loads: %w", program, err)
	}
	list := map[string]string{}
	for line := range strings.Lines(string(out)) {
		name, to, ok := strings.Cut(strings.TrimSpace(line), " => ")
		if !ok {
			continue // the loader itself, or what the kernel brings
		}
		file, _, _ := strings.Cut(to, " (")
		if !strings.HasPrefix(file, "/") {
			return nil, fmt.Errorf("%s needs %s, which is not there", program, name)
		}
		if strings.Contains(name, "/") {
			continue // asked for by its path: the loader
		}
		list["lib/"+name] = file
	}
	return list, nil
}

// identity tells contents apart: by the id of its build, which reads little, else by its
// bytes.
func identity(file string) (id string, size int64, err error) {
	f, err := os.Open(file)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", 0, err
	}
	if e, err := elf.NewFile(f); err == nil {
		if s := e.Section(".note.gnu.build-id"); s != nil && s.Size < 4096 {
			if note, err := s.Data(); err == nil {
				return hex.EncodeToString(note), info.Size(), nil
			}
		}
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", 0, err
	}
	return hex.EncodeToString(sum.Sum(nil)), info.Size(), nil
}

// write writes the layer as a tar. All times and owners are fixed.
func (f *FFmpeg) write(to io.Writer) error {
	w := tar.NewWriter(to)
	root := strings.TrimPrefix(blueprint.FFmpegInside, "/") + "/"
	folders := []string{root, root + "lib/"}
	for _, dir := range []string{"lib/dri/", "fonts/"} {
		if slices.ContainsFunc(f.files, func(p packed) bool { return strings.HasPrefix(p.name, dir) }) {
			folders = append(folders, root+dir)
		}
	}
	for _, dir := range folders {
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: dir, Mode: 0o755, Format: tar.FormatPAX,
			ModTime: time.Unix(0, 0)}); err != nil {
			return err
		}
	}
	for _, p := range f.files {
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: root + p.name, Mode: 0o755, Size: p.size,
			Format: tar.FormatPAX, ModTime: time.Unix(0, 0)}); err != nil {
			return err
		}
		if err := p.copy(w); err != nil {
			return err
		}
	}
	return w.Close()
}

func (p packed) copy(w io.Writer) error {
	f, err := os.Open(p.from)
	if err != nil {
		return err
	}
	defer f.Close()
	n, err := io.Copy(w, f)
	if err == nil && n != p.size {
		err = errors.New("it is shorter")
	}
	if err != nil {
		return fmt.Errorf("%s changed while it was packed: %w", p.from, err)
	}
	return nil
}

// layer is the layer: it is written whenever it is read, since it is too large to hold.
func (f *FFmpeg) layer() (v1.Layer, error) {
	sum := sha256.New()
	n := counter(0)
	if err := f.write(io.MultiWriter(sum, &n)); err != nil {
		return nil, err
	}
	return written{f.write, v1.Hash{Algorithm: "sha256", Hex: hex.EncodeToString(sum.Sum(nil))}, int64(n)}, nil
}

type counter int64

func (c *counter) Write(b []byte) (int, error) { *c += counter(len(b)); return len(b), nil }

// written is an uncompressed layer that is written anew each time.
type written struct {
	write func(io.Writer) error
	hash  v1.Hash
	size  int64
}

func (l written) Digest() (v1.Hash, error)            { return l.hash, nil }
func (l written) DiffID() (v1.Hash, error)            { return l.hash, nil }
func (l written) Size() (int64, error)                { return l.size, nil }
func (l written) MediaType() (types.MediaType, error) { return types.DockerUncompressedLayer, nil }
func (l written) Compressed() (io.ReadCloser, error)  { return l.Uncompressed() }
func (l written) Uncompressed() (io.ReadCloser, error) {
	r, w := io.Pipe()
	go func() { w.CloseWithError(l.write(w)) }()
	return r, nil
}

// FFmpeg is the version of the ffmpeg in the image; empty where there is none.
func (i Image) FFmpeg() string {
	if i.ffmpeg == nil {
		return ""
	}
	return i.ffmpeg.Version
}

// With gives the image of the program with ffmpeg in it.
func (i Image) With(f *FFmpeg) Image {
	sum := sha256.Sum256([]byte(cmp.Or(i.program, i.Digest) + "\n" + f.Digest))
	i.program, i.Digest, i.ffmpeg = cmp.Or(i.program, i.Digest), "sha256:"+hex.EncodeToString(sum[:]), f
	return i
}
