package docker

import (
	"context"
	"os"
	"strings"
	"testing"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/engine/enginetest"
	"cozyshelf/internal/testbuild"

	"github.com/moby/moby/api/types/mount"
)

func TestMain(m *testing.M) {
	code := m.Run()
	testbuild.Clean()
	os.Exit(code)
}

func TestDockerDoesWhatAnEngineMust(t *testing.T) {
	e, err := Open()
	if err != nil {
		t.Fatal(err)
	}
	if f := e.Facts(context.Background()); !f.Answers {
		testbuild.Missing(t, "a Docker Engine: "+f.Error)
	}
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give folders to another account")
	}
	enginetest.Run(t, enginetest.Bench{Engine: e, Site: "docker", Program: testbuild.Image(t), Folder: testbuild.Folder(t), UID: 41500, GID: 41501, Port: testbuild.Port(t)})
}

func TestSilentEnginesSayWhy(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("DOCKER_HOST", "unix://"+dir+"/none.sock")
	e, err := Open()
	if err != nil {
		t.Fatal(err)
	}
	if f := e.Facts(context.Background()); f.Answers || !strings.Contains(f.Error, "no socket") || f.Fix == "" {
		t.Errorf("without a socket: got %+v", f)
	}
	t.Setenv("DOCKER_HOST", "tcp://127.0.0.1:1")
	if e, err = Open(); err != nil {
		t.Fatal(err)
	}
	if f := e.Facts(context.Background()); f.Answers || !f.Elsewhere || f.Error == "" {
		t.Errorf("refusing: got %+v", f)
	}
}

func TestContainersAreClosed(t *testing.T) {
	config, host := (&Engine{}).describe(blueprint.Container{
		UID: 1500, GID: 1500, Groups: []uint32{44}, Tmpfs: 1 << 20, Memory: 1 << 30, Pids: 100, Host: "::", Port: 26991, Network: "n",
		Mounts: []blueprint.Mount{{Source: "/srv/films", Target: "/shelves/films/1", ReadOnly: true, What: "films"}},
	}, "image")
	if config.User != "1500:1500" || !host.ReadonlyRootfs || len(host.CapDrop) != 1 || host.CapDrop[0] != "ALL" || host.Privileged || len(host.SecurityOpt) != 1 {
		t.Errorf("not closed: %+v %+v", config, host)
	}
	if host.Memory != 1<<30 || *host.PidsLimit != 100 || host.GroupAdd[0] != "44" {
		t.Errorf("limits: %+v", host.Resources)
	}
	if m := host.Mounts[0]; !m.ReadOnly || m.Type != mount.TypeBind {
		t.Errorf("mount: %+v", m)
	}
	if m := host.Mounts[1]; m.Type != mount.TypeTmpfs || m.TmpfsOptions.SizeBytes != 1<<20 {
		t.Errorf("scratch: %+v", m)
	}
}
