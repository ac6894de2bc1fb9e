package pack_test

import (
	"bytes"
	"context"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/ffmpeg"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/testbuild"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/validate"
)

func found(t *testing.T) *pack.FFmpeg {
	t.Helper()
	if _, err := exec.LookPath("ffprobe"); err != nil {
		testbuild.Missing(t, "ffmpeg")
	}
	f, err := pack.FindFFmpeg(context.Background(), nil)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// TestFFmpegRunsFromItsLayerAlone unpacks the layer with tar and runs what is in it where
// there is nothing else.
func TestFFmpegRunsFromItsLayerAlone(t *testing.T) {
	f := found(t)
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to change the root folder")
	}
	root := t.TempDir()
	unpack := exec.Command("tar", "-x", "-C", root)
	in, err := unpack.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := unpack.Start(); err != nil {
		t.Fatal(err)
	}
	if err := f.WriteLayer(in); err != nil {
		t.Fatal(err)
	}
	in.Close()
	if err := unpack.Wait(); err != nil {
		t.Fatal(err)
	}
	tools, err := ffmpeg.In(filepath.Join(root, blueprint.FFmpegInside))
	if err != nil {
		t.Fatal(err)
	}
	for name, command := range map[string][]string{"ffmpeg": tools.FFmpeg, "ffprobe": tools.FFprobe} {
		args := []string{root}
		for _, a := range command {
			args = append(args, strings.TrimPrefix(a, root))
		}
		out, err := exec.Command("chroot", append(args, "-version")...).CombinedOutput()
		if err != nil || !strings.HasPrefix(string(out), name+" version "+f.Version+" ") {
			t.Errorf("%s: %v\n%.500s", name, err, out)
		}
	}
}

func TestTheImageWithFFmpegIsTheSameEachTime(t *testing.T) {
	f, again := found(t), found(t)
	if f.Digest != again.Digest || f.Size < 1<<20 || f.Version == "" {
		t.Fatalf("got %+v and %+v", f, again)
	}
	p := filepath.Join(t.TempDir(), "program")
	if err := os.WriteFile(p, bytes.Repeat([]byte("program "), 4096), 0o755); err != nil {
		t.Fatal(err)
	}
	plain, err := pack.Open(p, "0.1.0")
	if err != nil {
		t.Fatal(err)
	}
	with := plain.With(f)
	if with.Digest == plain.Digest || with.Digest != plain.With(again).Digest || with.FFmpeg() != f.Version ||
		plain.FFmpeg() != "" {
		t.Fatalf("digests: %s, %s", plain.Digest, with.Digest)
	}
	// The rest with little in it: to look through the whole takes a while.
	few := filepath.Join(t.TempDir(), "lib.so")
	if err := os.WriteFile(few, bytes.Repeat([]byte("library "), 4096), 0o644); err != nil {
		t.Fatal(err)
	}
	f = pack.Of("lib/lib.so", few, 8*4096)
	with = plain.With(f)
	archive := filepath.Join(t.TempDir(), "image.tar")
	w, err := os.Create(archive)
	if err != nil {
		t.Fatal(err)
	}
	if err := with.Write(w); err != nil {
		t.Fatal(err)
	}
	w.Close()
	img, err := tarball.ImageFromPath(archive, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := validate.Image(img); err != nil {
		t.Error(err)
	}
	c, err := img.ConfigFile()
	if err != nil {
		t.Fatal(err)
	}
	layer, err := f.AsLayer()
	if err != nil {
		t.Fatal(err)
	}
	// It lies below the program, which another image of the same ffmpeg then shares.
	if id, _ := layer.DiffID(); len(c.RootFS.DiffIDs) != 2 || c.RootFS.DiffIDs[0] != id ||
		c.Config.Labels[pack.LabelDigest] != with.Digest {
		t.Errorf("got %+v", c)
	}
}

func TestWhatIsNoFFmpegIsNotPacked(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	ask := func(want string) {
		t.Helper()
		if f, err := pack.FindFFmpeg(context.Background(), nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("got %+v, %v, want %q", f, err, want)
		}
	}
	t.Setenv("PATH", dir)
	ask("not found")
	put("ffprobe", "#!/bin/sh\n")
	put("ffmpeg", "#!/bin/sh\nexit 3\n")
	ask("exit status 3")
	put("ffmpeg", "#!/bin/sh\necho hello\n")
	ask("does not say which it is")
	put("ffmpeg", "#!/bin/sh\necho ffmpeg version 1.2\n") // what wraps another cannot be packed
	ask("no program that can be packed")
}

func TestALibraryThatChangesWhilePackedIsRefused(t *testing.T) {
	p := filepath.Join(t.TempDir(), "lib.so")
	if err := os.WriteFile(p, make([]byte, 100), 0o644); err != nil {
		t.Fatal(err)
	}
	a, size, err := pack.Identity(p)
	if err != nil || size != 100 {
		t.Fatal(size, err)
	}
	f := pack.Of("lib/lib.so", p, size)
	var b bytes.Buffer
	if err := f.WriteLayer(&b); err != nil {
		t.Fatal(err)
	}
	l, err := f.AsLayer()
	if err != nil {
		t.Fatal(err)
	}
	got, _, _ := v1.SHA256(bytes.NewReader(b.Bytes()))
	if h, _ := l.DiffID(); h != got {
		t.Errorf("digest %s, of the bytes %s", h, got)
	}
	for _, n := range []int{99, 101} {
		if err := os.WriteFile(p, make([]byte, n), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := f.WriteLayer(io.Discard); err == nil {
			t.Errorf("%d bytes were taken for 100", n)
		}
	}
	if c, _, err := pack.Identity(p); err != nil || c == a {
		t.Errorf("the same identity for other bytes, %v", err)
	}
}
