// Package pack makes the running program into a container image, from nothing:
// one layer that holds the program and the empty folders it mounts things on, and, where
// the household wants work done that needs it, a layer below with this machine's ffmpeg.
// All times and owners are fixed, so the same program always gives the same
// image. No registry, base image or network is needed.
package pack

import (
	"archive/tar"
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"runtime"
	"time"

	"cozyshelf/internal/core/blueprint"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/static"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// LabelDigest, on an image of ours, holds the digest of the program in it.
const LabelDigest = "cozyshelf.program.digest"

// Image is the program as an image.
type Image struct {
	Digest  string // of the program's bytes, or of them and ffmpeg: "sha256:…"
	Version string
	Program string // path of the program on the host
	Size    int64  // of the program, in bytes

	program string // digest of the program's bytes, where Digest is of more
	ffmpeg  *FFmpeg
}

// Open describes the program at a path. It must be a static Linux program; the
// running one is /proc/self/exe.
func Open(path, version string) (Image, error) {
	f, err := os.Open(path)
	if err != nil {
		return Image{}, err
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	if err != nil {
		return Image{}, err
	}
	return Image{Digest: "sha256:" + hex.EncodeToString(h.Sum(nil)), Version: version, Program: path, Size: n}, nil
}

// Tag is the name under which an engine lists the image.
func (i Image) Tag() string { return "cozyshelf:" + i.Digest[len("sha256:"):][:12] }

// Write writes the image as an archive that engines load: under its own name, which is for
// people, since the image is found by its label; and under others that it is to have from
// the first moment.
func (i Image) Write(w io.Writer, others ...string) error {
	img, err := i.build()
	if err != nil {
		return fmt.Errorf("packing the program: %w", err)
	}
	names := map[name.Reference]v1.Image{}
	for _, n := range append(others, i.Tag()) {
		ref, err := name.NewTag(n)
		if err != nil {
			return err
		}
		names[ref] = img
	}
	return tarball.MultiRefWrite(names, w)
}

func (i Image) build() (v1.Image, error) {
	layer, err := i.layer()
	if err != nil {
		return nil, err
	}
	layers := []v1.Layer{static.NewLayer(layer, types.DockerUncompressedLayer)}
	if i.ffmpeg != nil { // below the program, so that the next program shares it
		f, err := i.ffmpeg.layer()
		if err != nil {
			return nil, err
		}
		layers = []v1.Layer{f, layers[0]}
	}
	img, err := mutate.AppendLayers(empty.Image, layers...)
	if err != nil {
		return nil, err
	}
	return mutate.ConfigFile(img, &v1.ConfigFile{
		Architecture: runtime.GOARCH, OS: runtime.GOOS, Created: v1.Time{Time: time.Unix(0, 0).UTC()},
		RootFS: v1.RootFS{Type: "layers", DiffIDs: diffIDs(img)},
		Config: v1.Config{
			Entrypoint: []string{blueprint.Program},
			Cmd:        []string{"serve", "--help"},
			User:       "65534:65534", // nobody, until a blueprint says who
			WorkingDir: "/",
			Labels:     map[string]string{blueprint.LabelProgram: i.Version, LabelDigest: i.Digest},
		},
	})
}

func diffIDs(img v1.Image) []v1.Hash {
	c, err := img.ConfigFile()
	if err != nil {
		return nil
	}
	return c.RootFS.DiffIDs
}

// layer is the one layer, as an uncompressed tar: the program is loaded from
// this machine to this machine, so compressing it would only cost time.
func (i Image) layer() ([]byte, error) {
	f, err := os.Open(i.Program)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var b bytes.Buffer
	b.Grow(int(i.Size) + 1<<16)
	w := tar.NewWriter(&b)
	for _, dir := range []string{"state/", "scratch/", "shelves/", "tmp/"} {
		mode := int64(0o755)
		if dir == "scratch/" {
			mode = 0o1777 // memory that is mounted there takes the mode of what it covers, whatever was asked for
		}
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: dir, Mode: mode, Format: tar.FormatPAX,
			ModTime: time.Unix(0, 0)}); err != nil {
			return nil, err
		}
	}
	if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: blueprint.Program[1:], Mode: 0o755, Size: i.Size,
		Format: tar.FormatPAX, ModTime: time.Unix(0, 0)}); err != nil {
		return nil, err
	}
	h := sha256.New()
	if _, err := io.Copy(io.MultiWriter(w, h), f); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	if got := "sha256:" + hex.EncodeToString(h.Sum(nil)); got != cmp.Or(i.program, i.Digest) {
		return nil, fmt.Errorf("%s changed while it was packed", i.Program)
	}
	return b.Bytes(), nil
}
