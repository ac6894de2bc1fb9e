// Package docker runs containers on a Docker Engine, or on Podman through the
// socket that speaks the same protocol (Engine API 1.41 and later). It finds
// what is ours by label, never by name alone, and touches nothing else.
package docker

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/permit"

	"github.com/moby/moby/client"
)

// Engine is a Docker Engine or Podman.
type Engine struct {
	api      *client.Client
	kind     string // docker or podman
	endpoint string

	asking sync.Mutex
	asked  *nature // once the engine has answered
}

// nature is what the steps of an engine depend on, as it tells of itself.
type nature struct {
	memory, processors, pids bool // limits that its kernel holds
	bounds                   bool // its logs lie in files, which are bounded here; others see to it themselves
}

// nature asks the engine what it is like, once. One that does not answer holds nothing.
func (e *Engine) nature(ctx context.Context) nature {
	e.asking.Lock()
	asked := e.asked
	e.asking.Unlock()
	if asked == nil {
		_, n := e.look(ctx)
		return n
	}
	return *asked
}

// Open prepares to use a Docker Engine where DOCKER_HOST says, or at the usual
// socket. Nothing is asked of it yet.
func Open() (*Engine, error) {
	api, err := client.New(client.FromEnv)
	if err != nil {
		return nil, err
	}
	return &Engine{api: api, kind: "docker", endpoint: api.DaemonHost()}, nil
}

// OpenPodman does the same for Podman: at its socket for the machine or, for
// others than root, at that of the user.
func OpenPodman() (*Engine, error) {
	socket := "/run/podman/podman.sock"
	if uid := os.Getuid(); uid != 0 {
		dir := os.Getenv("XDG_RUNTIME_DIR")
		if dir == "" {
			dir = "/run/user/" + strconv.Itoa(uid)
		}
		socket = dir + "/podman/podman.sock"
	}
	if host := os.Getenv("CONTAINER_HOST"); strings.HasPrefix(host, "unix://") {
		socket = strings.TrimPrefix(host, "unix://")
	}
	api, err := client.New(client.WithHost("unix://" + socket))
	if err != nil {
		return nil, err
	}
	return &Engine{api: api, kind: "podman", endpoint: api.DaemonHost()}, nil
}

// firstAnswer is how long an engine may take to say that it is there: a small machine
// that is busy may need many seconds for it.
const firstAnswer = 15 * time.Second

// Facts says what engine this is and whether it answers, at once or not at all.
func (e *Engine) Facts(ctx context.Context) facts.Engine {
	f, _ := e.look(ctx)
	return f
}

// capabilities is what an engine of this protocol can do.
func (e *Engine) capabilities() facts.Capabilities {
	return facts.Capabilities{Isolates: true, Networks: true, HostNetwork: true, Volumes: true, Limits: true,
		Boots: e.kind == "docker", Becomes: true}
}

// look asks the engine what it is.
func (e *Engine) look(ctx context.Context) (facts.Engine, nature) {
	short, cancel := context.WithTimeout(ctx, firstAnswer)
	defer cancel()
	f := facts.Engine{Kind: e.kind, Can: e.capabilities(), Endpoint: e.endpoint,
		Elsewhere: !strings.HasPrefix(e.endpoint, "unix://")}
	v, err := e.api.ServerVersion(short, client.ServerVersionOptions{})
	if err != nil {
		f.Error, f.Fix, f.Barred = e.silence(err)
		return f, nature{}
	}
	// It answers; then it may take its time, since what it says of ids and limits must not
	// be missing.
	ctx, end := context.WithTimeout(ctx, 20*time.Second)
	defer end()
	f.Version, f.API, f.Arch = v.Version, v.APIVersion, v.Arch
	info, err := e.api.Info(ctx, client.InfoOptions{})
	if err != nil {
		f.Error, f.Fix, f.Barred = e.silence(err)
		return f, nature{}
	}
	f.Answers = true
	f.Storage, f.Root, f.Cgroup = info.Info.Driver, info.Info.DockerRootDir, info.Info.CgroupVersion
	f.NoMemory = !info.Info.MemoryLimit
	f.Logs = info.Info.LoggingDriver
	// A kernel without one of these discards the limit, which is no drift.
	n := nature{memory: info.Info.MemoryLimit, processors: info.Info.CPUCfsQuota, pids: info.Info.PidsLimit,
		bounds: f.Logs == "json-file" || f.Logs == "local"}
	e.shift(&f, info.Info.SecurityOptions, info.Info.DockerRootDir)
	f.IPv6 = e.kind == "docker" && !f.HidesClients && carriesIPv6(v.APIVersion)
	// Docker shares the host's network with no container in a user namespace.
	f.Can.HostNetwork = e.kind != "docker" || !f.Rootless
	if e.kind == "podman" && f.Rootless && (info.Info.CgroupVersion == "1" || info.Info.CgroupDriver != "systemd") {
		// An account may set limits only in a control group that systemd has
		// given it; elsewhere Podman leaves them out.
		n.memory, n.processors, n.pids, f.NoMemory = false, false, false, true
	}
	if nets, err := e.api.NetworkList(ctx, client.NetworkListOptions{}); err == nil {
		for _, one := range nets.Items {
			if one.Labels[blueprint.LabelHousehold] == "" && one.Driver != "host" && one.Driver != "null" {
				f.Networks = append(f.Networks, one.Name)
			}
		}
		slices.Sort(f.Networks)
	}
	e.asking.Lock()
	e.asked = &n
	e.asking.Unlock()
	return f, n
}

// carriesIPv6 reports whether an engine of a version of the protocol gives networks IPv6 by
// itself, and filters it as IPv4: Docker does since 27, which speaks 1.46.
func carriesIPv6(api string) bool {
	var major, minor int
	_, err := fmt.Sscanf(api, "%d.%d", &major, &minor)
	return err == nil && (major > 1 || major == 1 && minor >= 46)
}

// shift says whether and how the engine shifts ids, and whether SELinux confines
// its containers.
func (e *Engine) shift(f *facts.Engine, security []string, root string) {
	rootless := false
	for _, s := range security {
		switch {
		case strings.Contains(s, "name=rootless"):
			f.Rootless, rootless = true, true
		case strings.Contains(s, "name=userns"):
			f.Rootless = true
		case strings.Contains(s, "name=selinux"):
			f.Confined = true
		}
	}
	if st, err := os.Stat(strings.TrimPrefix(e.endpoint, "unix://")); err == nil && e.kind == "podman" &&
		st.Sys().(*syscall.Stat_t).Uid != 0 {
		// It does not tell in this protocol.
		f.Rootless, rootless = true, true
	}
	f.HidesClients = rootless
	switch {
	case f.Elsewhere || !f.Rootless:
	case rootless:
		// Inside, root is the account that runs the engine, and the others are
		// those that /etc/subuid lends it.
		st, err := os.Stat(strings.TrimPrefix(e.endpoint, "unix://"))
		if err != nil {
			return
		}
		owner := st.Sys().(*syscall.Stat_t)
		f.UIDs = append([]permit.IDRange{{Inside: 0, Host: owner.Uid, Count: 1}}, lent("/etc/subuid", owner.Uid, 1)...)
		f.GIDs = append([]permit.IDRange{{Inside: 0, Host: owner.Gid, Count: 1}}, lent("/etc/subgid", owner.Uid, 1)...)
	default:
		// A daemon that remaps keeps its things in a folder named by the first
		// ids of the range, such as …/100000.100000.
		var uid, gid uint32
		if n, _ := fmt.Sscanf(path.Base(root), "%d.%d", &uid, &gid); n == 2 {
			f.UIDs = []permit.IDRange{{Inside: 0, Host: uid, Count: 65536}}
			f.GIDs = []permit.IDRange{{Inside: 0, Host: gid, Count: 65536}}
		}
	}
}

// lent reads the ids that a file such as /etc/subuid lends an account, numbered
// inside from a first one on.
func lent(file string, uid, inside uint32) []permit.IDRange {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil
	}
	name := ""
	if u, err := user.LookupId(strconv.FormatUint(uint64(uid), 10)); err == nil {
		name = u.Username
	}
	var out []permit.IDRange
	for line := range strings.Lines(string(b)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) != 3 || f[0] != name && f[0] != strconv.FormatUint(uint64(uid), 10) {
			continue
		}
		first, err := strconv.ParseUint(f[1], 10, 32)
		n, nerr := strconv.ParseUint(f[2], 10, 32)
		if err == nil && nerr == nil {
			out = append(out, permit.IDRange{Inside: inside, Host: uint32(first), Count: uint32(n)})
			inside += uint32(n)
		}
	}
	return out
}

// silence says in words why an engine does not answer; barred is that the caller may not ask it.
func (e *Engine) silence(err error) (why, fix string, barred bool) {
	path := strings.TrimPrefix(e.endpoint, "unix://")
	fix = "start it, or write engine = \"process\" to do without"
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return "no answer at " + e.endpoint + " within " + firstAnswer.String(), fix, false
	case strings.HasPrefix(e.endpoint, "unix://"):
		if _, serr := os.Stat(path); errors.Is(serr, os.ErrNotExist) {
			return "there is no socket at " + path, fix, false
		}
		if strings.Contains(err.Error(), "permission denied") {
			return "you may not open " + path, "run as root, or as a member of the group that owns the socket", true
		}
		if client.IsErrConnectionFailed(err) {
			return "nothing listens at " + path, fix, false
		}
	}
	return err.Error(), fix, false
}
