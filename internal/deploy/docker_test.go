package deploy

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/engine/docker"
	"cozyshelf/internal/testbuild"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
)

func TestMain(m *testing.M) {
	code := m.Run()
	testbuild.Clean()
	os.Exit(code)
}

// sleeper packs an image, not one of ours, whose program waits and says its name.
func sleeper(t *testing.T, says string) v1.Image {
	t.Helper()
	dir := t.TempDir()
	source := fmt.Sprintf("package main\nimport (\"fmt\"; \"time\")\n"+
		"func main() { fmt.Println(%q); time.Sleep(time.Hour) }\n",
		says)
	if err := os.WriteFile(filepath.Join(dir, "main.go"), []byte(source), 0o600); err != nil {
		t.Fatal(err)
	}
	c := exec.Command("go", "build", "-o", "bin/sleeper", "main.go")
	c.Dir, c.Env = dir, append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=")
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	tar := exec.Command("tar", "-C", dir, "-cf", filepath.Join(dir, "layer.tar"), "bin/sleeper")
	if out, err := tar.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	layer, err := tarball.LayerFromFile(filepath.Join(dir, "layer.tar"))
	if err != nil {
		t.Fatal(err)
	}
	img, err := mutate.AppendLayers(empty.Image, layer)
	if err != nil {
		t.Fatal(err)
	}
	of, err := img.ConfigFile()
	if err != nil {
		t.Fatal(err)
	}
	of = of.DeepCopy()
	of.Config.Entrypoint, of.OS, of.Architecture = []string{"/bin/sleeper"}, "linux", "amd64"
	if img, err = mutate.ConfigFile(img, of); err != nil {
		t.Fatal(err)
	}
	return img
}

// push puts an image into a registry, as the distribution protocol has it.
func push(t *testing.T, reference string, img v1.Image) {
	t.Helper()
	put := func(method, url, kind string, b []byte) {
		r, err := http.NewRequest(method, url, bytes.NewReader(b))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", kind)
		res, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if res.StatusCode != http.StatusCreated {
			t.Fatalf("%s %s: %s", method, url, res.Status)
		}
	}
	host, rest, _ := strings.Cut(reference, "/")
	repository, tag, _ := strings.Cut(rest, ":")
	at := "http://" + host + "/v2/" + repository
	layers, err := img.Layers()
	if err != nil {
		t.Fatal(err)
	}
	blobs := [][]byte{}
	for _, l := range layers {
		r, err := l.Compressed()
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		blobs = append(blobs, b)
	}
	config, err := img.RawConfigFile()
	if err != nil {
		t.Fatal(err)
	}
	for _, b := range append(blobs, config) {
		put("POST", fmt.Sprintf("%s/blobs/uploads/?digest=sha256:%x", at, sha256.Sum256(b)), "application/octet-stream", b)
	}
	manifest, err := img.RawManifest()
	if err != nil {
		t.Fatal(err)
	}
	kind, err := img.MediaType()
	if err != nil {
		t.Fatal(err)
	}
	put("PUT", at+"/manifests/"+tag, string(kind), manifest)
}

// TestImagesOfOthersRunOnDocker deploys companions from an archive and from a registry on the
// real engine, changes one, and removes both.
func TestImagesOfOthersRunOnDocker(t *testing.T) {
	ctx := context.Background()
	e, err := docker.Open()
	if err != nil {
		t.Fatal(err)
	}
	if f := e.Facts(ctx); !f.Answers {
		testbuild.Missing(t, "a Docker Engine: "+f.Error)
	}
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give folders to another account")
	}
	// The archive calls its image something else; that must not count.
	archive := filepath.Join(testbuild.Folder(t), "cards.tar")
	wrong, err := name.NewTag("busybox:latest")
	if err != nil {
		t.Fatal(err)
	}
	if err := tarball.WriteToFile(archive, wrong, sleeper(t, "cards")); err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(archive)
	if err != nil {
		t.Fatal(err)
	}
	digest := fmt.Sprintf("sha256:%x", sha256.Sum256(b))

	shop := httptest.NewServer(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	defer shop.Close()
	reference := strings.TrimPrefix(shop.URL, "http://") + "/cozyshelf-test/notes:1"
	push(t, reference, sleeper(t, "notes"))
	before := dockerImages(t)
	t.Cleanup(func() {
		for _, n := range []string{reference, reference[:len(reference)-1] + "2", blueprint.ArchiveName(digest)} {
			_ = exec.Command("docker", "image", "rm", "--force", n).Run() // it may be gone
		}
	})

	h := household.Household{Format: 1}
	h.Household.Name = "Fernhollow Mill"
	h.Server.RunAs = "41500:41501"
	h.Server.Port = testbuild.Port(t)
	h.Storage.State = filepath.Join(testbuild.Folder(t), "state")
	checked, err := household.Decode("h", household.Compose(h))
	if err != nil {
		t.Fatal(err)
	}
	img := testbuild.Image(t)
	var services []blueprint.Service
	household := ""
	deploy := func(cards, notes blueprint.Service) ([]blueprint.Change, error) {
		bp := blueprint.Draw(checked, blueprint.Site{Engine: "docker", Can: e.Facts(ctx).Can, UID: 41500, GID: 41501,
			Image: img.Digest, Version: testbuild.Version})
		host, err := Host(bp)
		if err != nil {
			t.Fatal(err)
		}
		household = bp.Household
		services = bp.Services
		for _, more := range []blueprint.Service{cards, notes} {
			if more.Key == "" {
				continue
			}
			more.Household, more.Name, more.UID, more.GID = bp.Household, "Fernhollow Mill", 41500, 41501
			more.Memory, more.LogLimit, more.Start = 64<<20, 1<<20, services[0].Start
			services = append(services, more)
		}
		bp = bp.With(services...)
		have, err := e.Observe(ctx, bp.Household)
		if err != nil {
			t.Fatal(err)
		}
		changes := blueprint.Compare(bp, have, host)
		c := Carrier{Engine: e, Blueprint: bp, Image: img, Patience: 30 * time.Second, Command: "deploy",
			Health: func(context.Context) error { return nil }}
		return changes, c.Carry(ctx, changes)
	}
	defer func() {
		o, err := e.Observe(ctx, household)
		if err != nil {
			t.Error(err)
		}
		for _, s := range o.Containers {
			if err := e.Stop(ctx, s.ID, 0); err != nil {
				t.Error(err)
			}
			if err := e.Remove(ctx, s.ID); err != nil {
				t.Error(err)
			}
		}
		for _, d := range o.Images {
			_ = e.RemoveImage(ctx, d, household) // it may be another's
		}
		for _, n := range o.Networks {
			if err := e.RemoveNetwork(ctx, n); err != nil {
				t.Error(err)
			}
		}
	}()
	cards := blueprint.Service{Key: "cards", Role: blueprint.RoleCompanion,
		Image: blueprint.Image{Archive: archive, Digest: digest}}
	notes := blueprint.Service{Key: "notes", Role: blueprint.RoleCompanion, Image: blueprint.Image{Reference: reference},
		After: []string{"server"}}

	spoilt := cards
	spoilt.Image.Digest = "sha256:" + strings.Repeat("0", 64)
	if _, err := deploy(spoilt, blueprint.Service{}); err == nil || !strings.Contains(err.Error(), digest) {
		t.Errorf("an archive with another digest: %v", err)
	}
	missing := notes
	missing.Image.Reference += "0"
	if _, err := deploy(blueprint.Service{}, missing); err == nil ||
		!strings.Contains(err.Error(), missing.Image.Reference) {
		t.Errorf("an image that nobody has: %v", err)
	}
	if _, err := deploy(cards, notes); err != nil {
		t.Fatal(err)
	}
	if again, err := deploy(cards, notes); err != nil || len(again) != 0 {
		t.Fatalf("once more: %v, %v", again, err)
	}
	for key, says := range map[string]string{"cards": "cards", "notes": "notes"} {
		s := running(t, e, household, key)
		out, err := exec.Command("docker", "logs", s.ID).CombinedOutput()
		if err != nil || strings.TrimSpace(string(out)) != says {
			t.Errorf("%s says %q, %v", key, out, err)
		}
	}
	for _, n := range dockerImages(t) {
		if n == "busybox:latest" && !slices.Contains(before, n) {
			t.Error("the archive's own name was taken")
		}
	}
	server, former := running(t, e, household, "server").ID, running(t, e, household, "notes").ID
	notes.Memory = 0
	notes.Image.Reference = strings.TrimSuffix(reference, ":1") + ":2"
	push(t, notes.Image.Reference, sleeper(t, "further notes"))
	if _, err := deploy(cards, notes); err != nil {
		t.Fatal(err)
	}
	if running(t, e, household, "server").ID != server || running(t, e, household, "notes").ID == former {
		t.Error("only the notes were to be replaced")
	}
	if _, err := deploy(blueprint.Service{}, blueprint.Service{}); err != nil {
		t.Fatal(err)
	}
	if o, err := e.Observe(ctx, household); err != nil || len(o.Containers) != 1 {
		t.Errorf("without companions: %+v, %v", o.Containers, err)
	}
}

// running gives the container of a service, which must run.
func running(t *testing.T, e *docker.Engine, household, key string) blueprint.Container {
	t.Helper()
	o, err := e.Observe(context.Background(), household)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range o.Containers {
		if s.Key == key && s.Running {
			return s
		}
	}
	t.Fatalf("%s does not run: %+v", key, o.Containers)
	return blueprint.Container{}
}

// dockerImages gives the names of all images.
func dockerImages(t *testing.T) []string {
	t.Helper()
	out, err := exec.Command("docker", "image", "ls", "--format", "{{.Repository}}:{{.Tag}}").Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.Fields(string(out))
}
