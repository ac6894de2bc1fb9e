package docker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/engine/enginetest"
	"cozyshelf/internal/testbuild"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/client"
)

func TestMain(m *testing.M) {
	code := m.Run()
	testbuild.Clean()
	os.Exit(code)
}

// answering opens the engine that is here.
func answering(t *testing.T) *Engine {
	t.Helper()
	e, err := Open()
	if err != nil {
		t.Fatal(err)
	}
	if f := e.Facts(context.Background()); !f.Answers {
		testbuild.Missing(t, "a Docker Engine: "+f.Error)
	}
	return e
}

func TestDockerDoesWhatAnEngineMust(t *testing.T) {
	e := answering(t)
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give folders to another account")
	}
	enginetest.Run(t, enginetest.Bench{Engine: e, Kind: "docker", Can: enginetest.Containers,
		Program: testbuild.Image(t), Folder: testbuild.Folder(t), UID: 41500, GID: 41501, Port: testbuild.Port(t)})
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
	config, host := describe(nature{}, blueprint.Service{
		UID: 1500, GID: 1500, Groups: []uint32{44}, Tmpfs: 1 << 20, Memory: 1 << 30, Pids: 100, Network: "n",
		Listeners: []blueprint.Listener{{Purpose: blueprint.ForPages, Inside: 26990, Host: "::", Port: 26991}},
		Mounts: []blueprint.Mount{{Role: blueprint.MountShelf, Source: "/srv/films", Target: "/shelves/films/1",
			ReadOnly: true, What: "films"}},
	}, "image")
	if config.User != "1500:1500" || !host.ReadonlyRootfs || len(host.CapDrop) != 1 || host.CapDrop[0] != "ALL" ||
		host.Privileged || len(host.SecurityOpt) != 1 {
		t.Errorf("not closed: %+v %+v", config, host)
	}
	if host.Memory != 1<<30 || *host.PidsLimit != 100 || host.GroupAdd[0] != "44" {
		t.Errorf("limits: %+v", host.Resources)
	}
	_, bound := describe(nature{bounds: true}, blueprint.Service{LogLimit: 4 << 20, NanoCPUs: 1.5e9, Network: "none"},
		"image")
	if bound.NanoCPUs != 1.5e9 || bound.LogConfig.Type != "json-file" ||
		bound.LogConfig.Config["max-size"] != "2097152" || bound.LogConfig.Config["max-file"] != "2" {
		t.Errorf("bounds: %+v %+v", bound.Resources, bound.LogConfig)
	}
	if len(host.LogConfig.Config) != 0 {
		t.Errorf("an engine that sees to its logs itself: %+v", host.LogConfig)
	}
	if m := host.Mounts[0]; !m.ReadOnly || m.Type != mount.TypeBind {
		t.Errorf("mount: %+v", m)
	}
	if m := host.Mounts[1]; m.Type != mount.TypeTmpfs || m.TmpfsOptions.SizeBytes != 1<<20 {
		t.Errorf("scratch: %+v", m)
	}
}

// TestSharesAreVolumesWithExactlyTheirOptions makes a volume on the real engine,
// reads back what it stored, and lets a container ask for it. The password is in
// no message, whether the share can be mounted or not.
func TestSharesAreVolumesWithExactlyTheirOptions(t *testing.T) {
	ctx := context.Background()
	e := answering(t)
	img := testbuild.Image(t)
	if err := e.LoadImage(ctx, img, "0123456789ab"); err != nil {
		t.Fatal(err)
	}
	share, err := household.ParseShare("smb://127.0.0.1:1/media/films")
	if err != nil {
		t.Fatal(err)
	}
	v := blueprint.Volume{Name: fmt.Sprintf("cozyshelf-test-%d", os.Getpid()), Share: share, UID: 41500, GID: 41501}
	want := v.Options(blueprint.Credentials{User: "wren", Password: "pass,word=of wren", Domain: "MILL"})
	house := "test" + v.Name
	t.Cleanup(func() {
		if err := e.RemoveVolume(ctx, v.Name); err != nil {
			t.Errorf("cleaning up: %v", err)
		}
		if o, err := e.Observe(ctx, house); err != nil || len(o.Containers)+len(o.Strays)+len(o.Volumes) != 0 {
			t.Errorf("cleaning up: %+v, %v", o, err)
		}
		if err := e.RemoveImage(ctx, img.Digest, "0123456789ab"); err != nil && !errors.Is(err, engine.ErrInUse) {
			t.Errorf("cleaning up: %v", err)
		}
	})
	if err := e.MakeVolume(ctx, v.Name, house, want); err != nil {
		t.Fatal(err)
	}
	in, err := e.api.VolumeInspect(ctx, v.Name, client.VolumeInspectOptions{})
	if err != nil || !maps.Equal(in.Volume.Options, want) || in.Volume.Driver != "local" ||
		in.Volume.Labels[blueprint.LabelHousehold] != house {
		t.Errorf("the engine stored %+v, %v, want %v", in.Volume, err, want)
	}
	c := blueprint.Service{Household: house, Name: "x", Image: blueprint.Image{Program: img.Digest}, UID: 41500,
		GID: 41501, Pids: 64, Memory: 64 << 20,
		Mounts: []blueprint.Mount{{Role: blueprint.MountShelf, Source: v.Name, Target: "/shelves/films/1",
			ReadOnly: true, What: "films", Volume: true}}}
	_, err = e.Run(ctx, c, []string{"probe"}, io.Discard)
	if err == nil || strings.Contains(err.Error(), "word=of") || !strings.Contains(err.Error(), "mount") {
		t.Errorf("a share that cannot be mounted: got %v", err)
	}
}

func TestPasswordsAreCutOutOfMessages(t *testing.T) {
	for text, want := range map[string]string{
		"mount //x: data: addr=1,username=u,password=a,b=c,uid=1,gid=2: no such device": "mount //x: data: " +
			"addr=1,username=u,password=…,uid=1,gid=2: no such device",
		"o='username=u,password=geheim'":     "o='username=u,password=…",
		"password=x,domain=M,uid=1: refused": "password=…,domain=M,uid=1: refused",
	} {
		if got := wrap(errors.New(text)); got.Error() != want {
			t.Errorf("got %s, want %s", got, want)
		}
	}
}

func TestTheShiftOfIdsIsFound(t *testing.T) {
	e := &Engine{endpoint: "unix:///nowhere"}
	var f facts.Engine
	e.shift(&f, []string{"name=seccomp,profile=default", "name=userns"}, "/var/lib/docker/100000.200000")
	id := f.Identity(facts.Account{UID: 1500, GID: 1501, Groups: []uint32{1501, 44}})
	if !f.Rootless || id.UID != 101500 || id.Groups[0] != 201501 || id.Groups[2] != 200044 {
		t.Errorf("remapped: got %+v, %+v", f, id)
	}
	f = facts.Engine{}
	e.shift(&f, []string{"name=selinux"}, "/var/lib/docker")
	if f.Rootless || !f.Confined || len(f.UIDs) != 0 {
		t.Errorf("confined: got %+v", f)
	}
	file := filepath.Join(t.TempDir(), "subuid")
	me := strconv.Itoa(os.Getuid())
	if err := os.WriteFile(file, []byte("somebody:1:2\n"+me+":100000:65536\nbad\n"+me+":300000:10\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	if got := lent(file, uint32(os.Getuid()), 1); !slices.Equal(got,
		[]permit.IDRange{{Inside: 1, Host: 100000, Count: 65536}, {Inside: 65537, Host: 300000, Count: 10}}) {
		t.Errorf("lent: got %+v", got)
	}
}

// TestWhatIsChangedByHandIsSeenAndPutBack changes a real container as somebody
// would with the engine's own tool.
func TestWhatIsChangedByHandIsSeenAndPutBack(t *testing.T) {
	ctx := context.Background()
	e := answering(t)
	img := testbuild.Image(t)
	house := fmt.Sprintf("testdrift%d", os.Getpid())
	c := blueprint.Service{Household: house, Name: "drift", Image: blueprint.Image{Program: img.Digest}, UID: 41500,
		GID: 41500, Pids: 64, Memory: 64 << 20, NanoCPUs: 5e8, LogLimit: 2 << 20,
		Command: []string{"serve", "--settings", "/none"}, Network: "cozyshelf-" + house, OwnNet: true,
		Key: blueprint.ServerKey, Role: blueprint.RoleServer,
		Listeners: []blueprint.Listener{{Purpose: blueprint.ForPages, Inside: 26990, Host: "127.0.0.1",
			Port: testbuild.Port(t)}}}
	other := "cozyshelf-other-" + house
	t.Cleanup(func() {
		o, err := e.Observe(ctx, house)
		if err != nil {
			t.Errorf("cleaning up: %v", err)
		}
		for _, s := range o.Containers {
			_ = e.Stop(ctx, s.ID, time.Second) // it may not run
			if err := e.Remove(ctx, s.ID); err != nil {
				t.Errorf("cleaning up: %v", err)
			}
		}
		for _, n := range o.Networks {
			if err := e.RemoveNetwork(ctx, n); err != nil {
				t.Errorf("cleaning up: %v", err)
			}
		}
		if err := e.RemoveImage(ctx, img.Digest, "0123456789ab"); err != nil && !errors.Is(err, engine.ErrInUse) {
			t.Errorf("cleaning up: %v", err)
		}
	})
	step := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	step(e.LoadImage(ctx, img, "0123456789ab"))
	step(e.MakeNetwork(ctx, c.Network, house))
	step(e.MakeNetwork(ctx, other, house))
	id, err := e.Create(ctx, c)
	step(err)
	drift := func() []string {
		t.Helper()
		o, err := e.Observe(ctx, house)
		step(err)
		if len(o.Containers) != 1 {
			t.Fatalf("got %+v", o.Containers)
		}
		return o.Containers[0].Drift
	}
	if d := drift(); len(d) != 0 {
		t.Fatalf("as it was made, it has drifted: %q", d)
	}
	pids := int64(999)
	_, err = e.api.ContainerUpdate(ctx, id, client.ContainerUpdateOptions{
		Resources:     &container.Resources{Memory: 128 << 20, MemorySwap: 128 << 20, NanoCPUs: 1e9, PidsLimit: &pids},
		RestartPolicy: &container.RestartPolicy{Name: container.RestartPolicyDisabled},
	})
	step(err)
	_, err = e.api.ContainerRename(ctx, id, client.ContainerRenameOptions{NewName: "renamed-" + house})
	step(err)
	_, err = e.api.NetworkConnect(ctx, other, client.NetworkConnectOptions{Container: id})
	step(err)
	said := strings.Join(drift(), "; ")
	for _, want := range []string{"memory limit 64 MiB → 128 MiB", "processors 0.5 → 1", "process limit 64 → 999",
		"start policy unless-stopped → no", "→ renamed-", other} {
		if !strings.Contains(said, want) {
			t.Errorf("drift: %s, want %q in it", said, want)
		}
	}
	for range 2 {
		step(e.PutBack(ctx, id, c))
	}
	if d := drift(); len(d) != 0 {
		t.Errorf("put back, it has drifted: %q", d)
	}
}

// podman is what Podman can do: it does not start containers with the machine.
var podman = func() facts.Capabilities {
	can := enginetest.Containers
	can.Boots = false
	return can
}()

func TestPodmanDoesWhatAnEngineMust(t *testing.T) {
	socket, _ := testbuild.Podman(t, nil)
	t.Setenv("CONTAINER_HOST", "unix://"+socket)
	e, err := OpenPodman()
	if err != nil {
		t.Fatal(err)
	}
	enginetest.Run(t, enginetest.Bench{Engine: e, Kind: "podman", Can: podman, Program: testbuild.Image(t),
		Folder: testbuild.Folder(t), UID: 41500, GID: 41501, Port: testbuild.Port(t)})
}

func TestRootlessPodmanDoesWhatAnEngineMust(t *testing.T) {
	account := &syscall.Credential{Uid: 41600, Gid: 41600}
	socket, _ := testbuild.Podman(t, account)
	t.Setenv("CONTAINER_HOST", "unix://"+socket)
	e, err := OpenPodman()
	if err != nil {
		t.Fatal(err)
	}
	if f := e.Facts(context.Background()); !f.Rootless || len(f.UIDs) == 0 || f.UIDs[0].Host != account.Uid {
		t.Errorf("facts: got %+v, want ids shifted, with %d for root", f, account.Uid)
	}
	// Inside, 1500 is the one thousand five hundredth of the ids that are lent.
	host := testbuild.FirstLent + 1500 - 1
	enginetest.Run(t, enginetest.Bench{Engine: e, Kind: "podman", Can: podman, Program: testbuild.Image(t),
		Folder: testbuild.Folder(t), UID: 1500, GID: 1500, Port: testbuild.Port(t), OwnerUID: host, OwnerGID: host})
}
