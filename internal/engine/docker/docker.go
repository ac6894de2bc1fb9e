// Package docker runs containers on a Docker Engine, or on Podman through the
// socket that speaks the same protocol (Engine API 1.41 and later). It finds
// what is ours by label, never by name alone, and touches nothing else.
package docker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/pack"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"
	"github.com/moby/sys/mountinfo"
)

// Engine is a Docker Engine or Podman.
type Engine struct {
	api      *client.Client
	bounds   bool   // its logs lie in files, which are bounded here; others see to it themselves
	limits   limits // as far as Facts has asked
	ipv6     bool   // it gives networks IPv6
	kind     string // docker or podman
	endpoint string
}

// limits is which limits the engine's kernel holds.
type limits struct{ memory, processors, pids bool }

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
	short, cancel := context.WithTimeout(ctx, firstAnswer)
	defer cancel()
	f := facts.Engine{Kind: e.kind, Endpoint: e.endpoint, Elsewhere: !strings.HasPrefix(e.endpoint, "unix://")}
	v, err := e.api.ServerVersion(short, client.ServerVersionOptions{})
	if err != nil {
		f.Error, f.Fix = e.silence(err)
		return f
	}
	// It answers; then it may take its time, since what it says of ids and limits must not
	// be missing.
	ctx, end := context.WithTimeout(ctx, 20*time.Second)
	defer end()
	f.Version, f.API, f.Arch = v.Version, v.APIVersion, v.Arch
	info, err := e.api.Info(ctx, client.InfoOptions{})
	if err != nil {
		f.Error, f.Fix = e.silence(err)
		return f
	}
	f.Answers = true
	f.Storage, f.Root, f.Cgroup = info.Info.Driver, info.Info.DockerRootDir, info.Info.CgroupVersion
	f.NoMemory = !info.Info.MemoryLimit
	f.Logs = info.Info.LoggingDriver
	// A kernel without one of these discards the limit, which is no drift.
	e.limits = limits{info.Info.MemoryLimit, info.Info.CPUCfsQuota, info.Info.PidsLimit}
	e.bounds = f.Logs == "json-file" || f.Logs == "local"
	e.shift(&f, info.Info.SecurityOptions, info.Info.DockerRootDir)
	e.ipv6 = e.kind == "docker" && !f.HidesClients && carriesIPv6(v.APIVersion)
	f.IPv6 = e.ipv6
	if e.kind == "podman" && f.Rootless && (info.Info.CgroupVersion == "1" || info.Info.CgroupDriver != "systemd") {
		// An account may set limits only in a control group that systemd has
		// given it; elsewhere Podman leaves them out.
		e.limits, f.NoMemory = limits{}, true
	}
	if nets, err := e.api.NetworkList(ctx, client.NetworkListOptions{}); err == nil {
		for _, n := range nets.Items {
			if n.Labels[blueprint.LabelHousehold] == "" && n.Driver != "host" && n.Driver != "null" {
				f.Networks = append(f.Networks, n.Name)
			}
		}
		slices.Sort(f.Networks)
	}
	return f
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
	if st, err := os.Stat(strings.TrimPrefix(e.endpoint, "unix://")); err == nil && e.kind == "podman" && st.Sys().(*syscall.Stat_t).Uid != 0 {
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

// silence says in words why an engine does not answer.
func (e *Engine) silence(err error) (why, fix string) {
	path := strings.TrimPrefix(e.endpoint, "unix://")
	fix = "start it, or write engine = \"process\" to do without"
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return "no answer at " + e.endpoint + " within " + firstAnswer.String(), fix
	case strings.HasPrefix(e.endpoint, "unix://"):
		if _, serr := os.Stat(path); errors.Is(serr, os.ErrNotExist) {
			return "there is no socket at " + path, fix
		}
		if strings.Contains(err.Error(), "permission denied") {
			return "you may not open " + path, "run as root, or as a member of the group that owns the socket"
		}
		if client.IsErrConnectionFailed(err) {
			return "nothing listens at " + path, fix
		}
	}
	return err.Error(), fix
}

// wrap turns an engine's error into the ones of package engine.
func wrap(err error) error {
	switch {
	case err == nil:
		return nil
	case strings.Contains(err.Error(), "password="):
		// What could not be mounted is told with its options.
		return errors.New(secrets.ReplaceAllString(err.Error(), "password=…$1"))
	case errdefs.IsNotFound(err):
		return fmt.Errorf("%w: %w", engine.ErrNotFound, err)
	case errdefs.IsConflict(err):
		return fmt.Errorf("%w: %w", engine.ErrInUse, err)
	}
	return err
}

// secrets finds a password among mount options, up to the comma that ends it, or
// the next option that we would have written.
var secrets = regexp.MustCompile(`(?s)password=.*?(,domain=|,uid=|$)`)

func label(key, value string) client.Filters {
	if value != "" {
		key += "=" + value
	}
	return client.Filters{}.Add("label", key)
}

// Observe gives everything of one household, and the images of ours.
func (e *Engine) Observe(ctx context.Context, id string) (blueprint.Observed, error) {
	var out blueprint.Observed
	list, err := e.api.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: label(blueprint.LabelHousehold, id)})
	if err != nil {
		return out, wrap(err)
	}
	for _, c := range list.Items {
		in, err := e.api.ContainerInspect(ctx, c.ID, client.ContainerInspectOptions{})
		if errdefs.IsNotFound(err) {
			continue // gone between the two questions
		}
		if err != nil {
			return out, wrap(err)
		}
		seen := blueprint.Seen{ID: c.ID, Name: strings.TrimPrefix(in.Container.Name, "/"), Restarts: in.Container.RestartCount}
		if spec, ok := blueprint.FromLabels(c.Labels); ok {
			seen.Container, seen.Digest = spec, spec.Digest()
		}
		if st := in.Container.State; st != nil {
			seen.Running, seen.Waiting, seen.ExitCode = st.Running, st.Restarting, st.ExitCode
			seen.Started, _ = time.Parse(time.RFC3339Nano, st.StartedAt)
			if st.Health != nil {
				seen.Health = string(st.Health.Status)
			}
		}
		if seen.Digest != "" && in.Container.HostConfig != nil {
			seen.Drift = drift(e.limits, seen.Container, in.Container)
		}
		if c.Labels[blueprint.LabelOnce] != "" {
			out.Strays = append(out.Strays, seen)
			continue
		}
		out.Containers = append(out.Containers, seen)
	}
	nets, err := e.api.NetworkList(ctx, client.NetworkListOptions{Filters: label(blueprint.LabelHousehold, id)})
	if err != nil {
		return out, wrap(err)
	}
	for _, n := range nets.Items {
		out.Networks = append(out.Networks, n.Name)
	}
	volumes, err := e.api.VolumeList(ctx, client.VolumeListOptions{Filters: label(blueprint.LabelHousehold, id)})
	if err != nil {
		return out, wrap(err)
	}
	for _, v := range volumes.Items {
		out.Volumes = append(out.Volumes, v.Name)
	}
	slices.Sort(out.Volumes)
	images, names, err := e.imagesAndNames(ctx)
	if err != nil {
		return out, err
	}
	used, err := e.used(ctx)
	if err != nil {
		return out, err
	}
	for digest := range images {
		out.Images = append(out.Images, digest)
		if !used[digest] && !slices.ContainsFunc(names[digest], func(n string) bool {
			return strings.Contains(n,
				keptName)
		}) {
			out.Unkept = append(out.Unkept, digest)
		}
		if slices.ContainsFunc(names[digest], func(n string) bool { return strings.HasSuffix(n, kept(id, digest)) }) {
			out.Kept = append(out.Kept, digest)
		}
	}
	slices.Sort(out.Images)
	slices.Sort(out.Kept)
	slices.Sort(out.Unkept)
	return out, nil
}

// Neighbours gives what runs of all households.
func (e *Engine) Neighbours(ctx context.Context) ([]blueprint.Container, error) {
	return e.ofAll(ctx, false)
}

// ofAll gives the containers of all households: those that run, or those that are stopped, too.
func (e *Engine) ofAll(ctx context.Context, stopped bool) ([]blueprint.Container, error) {
	list, err := e.api.ContainerList(ctx, client.ContainerListOptions{All: stopped,
		Filters: label(blueprint.LabelHousehold, "")})
	if err != nil {
		return nil, wrap(err)
	}
	var out []blueprint.Container
	for _, u := range list.Items {
		if c, ok := blueprint.FromLabels(u.Labels); ok {
			out = append(out, c)
		}
	}
	return out, nil
}

// used gives the programs that containers of any household are made from.
func (e *Engine) used(ctx context.Context) (map[string]bool, error) {
	list, err := e.ofAll(ctx, true)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for _, c := range list {
		out[c.Image] = true
	}
	return out, nil
}

// drift says what an engine's container has otherwise than it was made.
func drift(can limits, want blueprint.Container, have container.InspectResponse) []string {
	var out []string
	say := func(what, made, now string) {
		if made != now {
			out = append(out, fmt.Sprintf("%s %s → %s", what, made, now))
		}
	}
	size := func(n int64) string {
		if n <= 0 {
			return "none"
		}
		return household.Size(n).String()
	}
	h := have.HostConfig
	if can.memory {
		say("memory limit", size(want.Memory), size(h.Memory))
	}
	if can.processors {
		say("processors", fmt.Sprintf("%g", float64(want.NanoCPUs)/1e9), fmt.Sprintf("%g", float64(h.NanoCPUs)/1e9))
	}
	if can.pids {
		pids := int64(0)
		if h.PidsLimit != nil {
			pids = *h.PidsLimit
		}
		say("process limit", fmt.Sprint(want.Pids), fmt.Sprint(pids))
	}
	say("start policy", string(policy(want.Start)), string(h.RestartPolicy.Name))
	say("name", want.EngineName(), strings.TrimPrefix(have.Name, "/"))
	if want.Network != "host" && want.Network != "none" && have.NetworkSettings != nil {
		var names []string
		for n := range have.NetworkSettings.Networks {
			names = append(names, n)
		}
		slices.Sort(names)
		now := strings.Join(names, ", ")
		if now == "" {
			now = "none"
		}
		say("network", want.Network, now)
	}
	return out
}

// policy is the engine's word for when a container is started unasked.
func policy(s household.Start) container.RestartPolicyMode {
	switch s {
	case household.StartCrash:
		return container.RestartPolicyOnFailure
	case household.StartNever:
		return container.RestartPolicyDisabled
	}
	return container.RestartPolicyUnlessStopped
}

// Boot says how systemd starts a container of Podman, which has no service of its
// own that would. Docker's does it by itself.
func (e *Engine) Boot(c blueprint.Container) (blueprint.Boot, bool) {
	podman, err := exec.LookPath("podman")
	if e.kind != "podman" || err != nil {
		return blueprint.Boot{}, false
	}
	return blueprint.Boot{Start: []string{podman, "start", "--attach", c.EngineName()}, Stop: []string{podman, "stop", "--ignore", "--time", "10", c.EngineName()}, Tells: true}, true
}

// PutBack takes away what drift tells of.
func (e *Engine) PutBack(ctx context.Context, id string, c blueprint.Container) error {
	in, err := e.api.ContainerInspect(ctx, id, client.ContainerInspectOptions{})
	if err != nil {
		return wrap(err)
	}
	_, host := e.describe(c, "")
	if _, err := e.api.ContainerUpdate(ctx, id, client.ContainerUpdateOptions{
		Resources:     &container.Resources{Memory: host.Memory, MemorySwap: host.MemorySwap, NanoCPUs: host.NanoCPUs, PidsLimit: host.PidsLimit},
		RestartPolicy: &host.RestartPolicy,
	}); err != nil && !(e.kind == "podman" && errdefs.IsNotFound(err)) { // an older Podman changes no limits of a container that is there
		return wrap(err)
	}
	if strings.TrimPrefix(in.Container.Name, "/") != c.EngineName() {
		if _, err := e.api.ContainerRename(ctx, id, client.ContainerRenameOptions{NewName: c.EngineName()}); err != nil {
			return wrap(err)
		}
	}
	if c.Network == "host" || c.Network == "none" || in.Container.NetworkSettings == nil {
		return nil
	}
	there := false
	for n := range in.Container.NetworkSettings.Networks {
		if n == c.Network {
			there = true
			continue
		}
		if _, err := e.api.NetworkDisconnect(ctx, n, client.NetworkDisconnectOptions{Container: id}); err != nil {
			return wrap(err)
		}
	}
	if !there {
		_, err = e.api.NetworkConnect(ctx, c.Network, client.NetworkConnectOptions{Container: id})
	}
	return wrap(err)
}

// kept is the name under which a household keeps an image.
func kept(household, digest string) string {
	_, hash, _ := strings.Cut(digest, ":")
	return keptName + household + "-" + hash[:min(12, len(hash))]
}

const keptName = "cozyshelf-kept:"

// images maps the digests of programs to the ids of the images that hold them.
func (e *Engine) images(ctx context.Context) (map[string]string, error) {
	ids, _, err := e.imagesAndNames(ctx)
	return ids, err
}

// imagesAndNames also gives the names of each.
func (e *Engine) imagesAndNames(ctx context.Context) (ids map[string]string, names map[string][]string, err error) {
	list, err := e.api.ImageList(ctx, client.ImageListOptions{Filters: label(pack.LabelDigest, "")})
	if err != nil {
		return nil, nil, wrap(err)
	}
	ids, names = map[string]string{}, map[string][]string{}
	for _, i := range list.Items {
		if d := i.Labels[pack.LabelDigest]; d != "" {
			ids[d], names[d] = i.ID, i.RepoTags
		}
	}
	return ids, names, nil
}

// LoadImage packs the program and loads it.
func (e *Engine) LoadImage(ctx context.Context, img pack.Image, household string) error {
	have, err := e.images(ctx)
	if err != nil {
		return err
	}
	if have[img.Digest] != "" {
		return e.keep(ctx, have[img.Digest], img.Digest, household)
	}
	r, w := io.Pipe()
	defer r.Close() // lets the packing end where loading fails
	go func() { w.CloseWithError(img.Write(w, kept(household, img.Digest))) }()
	res, err := e.api.ImageLoad(ctx, r, client.ImageLoadWithQuiet(true))
	if err != nil {
		return wrap(err)
	}
	defer res.Close()
	said, err := io.ReadAll(io.LimitReader(res, 1<<16))
	if err != nil {
		return err
	}
	if have, err = e.images(ctx); err != nil {
		return err
	}
	if have[img.Digest] == "" {
		return fmt.Errorf("the engine took the image but does not list it; it said: %s", strings.TrimSpace(string(said)))
	}
	return e.keep(ctx, have[img.Digest], img.Digest, household)
}

// keep gives an image the name under which a household keeps it.
func (e *Engine) keep(ctx context.Context, id, digest, household string) error {
	_, err := e.api.ImageTag(ctx, client.ImageTagOptions{Source: id, Target: kept(household, digest)})
	return wrap(err)
}

// RemoveImage removes the image of a program, unless others keep it.
func (e *Engine) RemoveImage(ctx context.Context, digest, household string) error {
	have, names, err := e.imagesAndNames(ctx)
	if err != nil || have[digest] == "" {
		return err
	}
	users, err := e.api.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: label(blueprint.LabelHousehold, "")})
	if err != nil {
		return wrap(err)
	}
	others := 0
	for _, u := range users.Items {
		if c, ok := blueprint.FromLabels(u.Labels); !ok || c.Image != digest {
			continue
		}
		if others++; u.Labels[blueprint.LabelHousehold] == household {
			return fmt.Errorf("%w: container %s is made from the image", engine.ErrInUse, u.ID)
		}
	}
	ours := ""
	for _, name := range names[digest] {
		switch {
		case strings.HasSuffix(name, kept(household, digest)):
			ours = name
		case strings.Contains(name, keptName):
			others++
		}
	}
	if others > 0 {
		if ours != "" {
			if _, err := e.api.ImageRemove(ctx, ours, client.ImageRemoveOptions{}); err != nil && !errdefs.IsNotFound(err) {
				return wrap(err)
			}
		}
		return fmt.Errorf("%w: another household uses or keeps the image", engine.ErrInUse)
	}
	// All its names go at once, so that nobody meets one that is kept by none.
	_, err = e.api.ImageRemove(ctx, have[digest], client.ImageRemoveOptions{Force: true, PruneChildren: true})
	if errdefs.IsNotFound(err) {
		return nil
	}
	return wrap(err)
}

// MakeNetwork makes a bridge network of the household's own.
func (e *Engine) MakeNetwork(ctx context.Context, name, id string) error {
	list, err := e.api.NetworkList(ctx, client.NetworkListOptions{Filters: label(blueprint.LabelHousehold, id)})
	if err != nil {
		return wrap(err)
	}
	for _, n := range list.Items {
		if n.Name == name {
			return nil
		}
	}
	o := client.NetworkCreateOptions{Driver: "bridge", Labels: map[string]string{blueprint.LabelHousehold: id}}
	if strings.HasSuffix(name, blueprint.NetworkIPv6) {
		yes := true
		o.EnableIPv6 = &yes // the engine finds a network of unique local addresses for it
	}
	_, err = e.api.NetworkCreate(ctx, name, o)
	return wrap(err)
}

// RemoveNetwork removes a network, if it is ours.
func (e *Engine) RemoveNetwork(ctx context.Context, name string) error {
	in, err := e.api.NetworkInspect(ctx, name, client.NetworkInspectOptions{})
	if errdefs.IsNotFound(err) {
		return nil
	}
	if err != nil {
		return wrap(err)
	}
	if in.Network.Labels[blueprint.LabelHousehold] == "" {
		return fmt.Errorf("network %s is not ours", name)
	}
	_, err = e.api.NetworkRemove(ctx, in.Network.ID, client.NetworkRemoveOptions{})
	if errdefs.IsNotFound(err) {
		return nil
	}
	return wrap(err)
}

// MakeVolume makes a volume of the local driver.
func (e *Engine) MakeVolume(ctx context.Context, name, id string, options map[string]string) error {
	// The engine takes a volume of that name for the same, whatever its options;
	// the name carries their digest.
	_, err := e.api.VolumeCreate(ctx, client.VolumeCreateOptions{Name: name, Driver: "local", DriverOpts: options, Labels: map[string]string{blueprint.LabelHousehold: id}})
	return wrap(err)
}

// RemoveVolume removes a volume, if it is ours.
func (e *Engine) RemoveVolume(ctx context.Context, name string) error {
	in, err := e.api.VolumeInspect(ctx, name, client.VolumeInspectOptions{})
	if errdefs.IsNotFound(err) {
		return nil
	}
	if err != nil {
		return wrap(err)
	}
	if in.Volume.Labels[blueprint.LabelHousehold] == "" {
		return fmt.Errorf("volume %s is not ours", name)
	}
	_, err = e.api.VolumeRemove(ctx, name, client.VolumeRemoveOptions{})
	if errdefs.IsNotFound(err) {
		return nil
	}
	return wrap(err)
}

// Create makes a container, closed by default.
func (e *Engine) Create(ctx context.Context, c blueprint.Container) (string, error) {
	images, err := e.images(ctx)
	if err != nil {
		return "", err
	}
	if images[c.Image] == "" {
		return "", fmt.Errorf("%w: image of program %s", engine.ErrNotFound, c.Image)
	}
	list, err := e.api.ContainerList(ctx, client.ContainerListOptions{All: true, Filters: label(blueprint.LabelDigest, c.Digest())})
	if err != nil {
		return "", wrap(err)
	}
	for _, have := range list.Items {
		if have.Labels[blueprint.LabelHousehold] == c.Household {
			return have.ID, nil
		}
	}
	config, host := e.describe(c, images[c.Image])
	for _, m := range host.Mounts {
		// The newer form of mounts gives this error by itself, the engine's
		// message for it is less plain.
		if _, err := os.Stat(m.Source); m.Type == mount.TypeBind && errors.Is(err, os.ErrNotExist) && strings.HasPrefix(e.endpoint, "unix://") {
			return "", fmt.Errorf("%s does not exist", m.Source)
		}
	}
	made, err := e.api.ContainerCreate(ctx, client.ContainerCreateOptions{Config: config, HostConfig: host, Name: c.EngineName()})
	return made.ID, wrap(err)
}

func (e *Engine) describe(c blueprint.Container, image string) (*container.Config, *container.HostConfig) {
	pids := c.Pids
	config := &container.Config{
		Image: image, Cmd: c.Command, User: fmt.Sprintf("%d:%d", c.UID, c.GID), Labels: c.Labels(),
		Healthcheck: &container.HealthConfig{
			Test:     []string{"CMD", blueprint.Program, "healthcheck", "--state", blueprint.StateInside},
			Interval: 15 * time.Second, Timeout: 5 * time.Second, StartPeriod: 10 * time.Second, Retries: 3,
		},
	}
	for k, v := range c.Env {
		config.Env = append(config.Env, k+"="+v)
	}
	slices.Sort(config.Env)
	host := &container.HostConfig{
		ReadonlyRootfs: true, CapDrop: []string{"ALL"}, SecurityOpt: []string{"no-new-privileges"},
		NetworkMode:   container.NetworkMode(c.Network),
		RestartPolicy: container.RestartPolicy{Name: policy(c.Start)},
		Resources:     container.Resources{Memory: c.Memory, MemorySwap: c.Memory, PidsLimit: &pids},
	}
	host.NanoCPUs = c.NanoCPUs
	for _, d := range c.DNS {
		if a, err := netip.ParseAddr(d); err == nil {
			host.DNS = append(host.DNS, a)
		}
	}
	for _, h := range c.Hosts {
		name, addr, _ := strings.Cut(h, "=")
		host.ExtraHosts = append(host.ExtraHosts, name+":"+addr)
	}
	if e.bounds && c.LogLimit > 0 {
		// Half in the file that is written, half in the one before it.
		host.LogConfig = container.LogConfig{Type: "json-file", Config: map[string]string{"max-size": strconv.FormatInt(c.LogLimit/2, 10), "max-file": "2"}}
	}
	for _, g := range c.Groups {
		host.GroupAdd = append(host.GroupAdd, strconv.FormatUint(uint64(g), 10))
	}
	for _, d := range c.Devices {
		host.Devices = append(host.Devices, container.DeviceMapping{PathOnHost: d, PathInContainer: d, CgroupPermissions: "rw"})
	}
	for _, m := range c.Mounts {
		if m.Volume {
			host.Mounts = append(host.Mounts, mount.Mount{Type: mount.TypeVolume, Source: m.Source, Target: m.Target, ReadOnly: m.ReadOnly, VolumeOptions: &mount.VolumeOptions{NoCopy: true}})
			continue
		}
		host.Mounts = append(host.Mounts, mount.Mount{
			Type: mount.TypeBind, Source: m.Source, Target: m.Target, ReadOnly: m.ReadOnly,
			BindOptions: &mount.BindOptions{Propagation: propagation(m)},
		})
	}
	if c.Tmpfs > 0 {
		// tmpfs mounts take no owner here, so anyone inside may write; there
		// is nobody else inside.
		host.Mounts = append(host.Mounts, mount.Mount{
			Type: mount.TypeTmpfs, Target: blueprint.ScratchInside,
			TmpfsOptions: &mount.TmpfsOptions{SizeBytes: c.Tmpfs, Mode: 0o1777},
		})
	}
	if c.Network != "host" && c.Network != "none" {
		inside, _ := network.PortFrom(uint16(household.DefaultPort), network.TCP)
		binding := network.PortBinding{HostPort: strconv.Itoa(c.Port)}
		if a, err := netip.ParseAddr(c.Host); err == nil {
			binding.HostIP = a
		}
		config.ExposedPorts = network.PortSet{inside: {}}
		host.PortBindings = network.PortMap{inside: {binding}}
	}
	return config, host
}

// Run runs a command in a throw-away container.
func (e *Engine) Run(ctx context.Context, c blueprint.Container, command []string, out io.Writer) (int, error) {
	images, err := e.images(ctx)
	if err != nil {
		return 0, err
	}
	if images[c.Image] == "" {
		return 0, fmt.Errorf("%w: image of program %s", engine.ErrNotFound, c.Image)
	}
	c = c.Once(command)
	config, host := e.describe(c, images[c.Image])
	config.Healthcheck = &container.HealthConfig{Test: []string{"NONE"}}
	config.ExposedPorts, host.PortBindings = nil, nil
	config.Labels = map[string]string{blueprint.LabelHousehold: c.Household, blueprint.LabelName: c.Name, blueprint.LabelOnce: command[0]}
	host.RestartPolicy = container.RestartPolicy{Name: container.RestartPolicyDisabled}
	host.LogConfig = container.LogConfig{Type: "none"}
	host.AutoRemove = true // also when we are killed meanwhile
	until := container.WaitConditionRemoved
	if e.kind == "podman" {
		// It forgets the exit code of what removes itself. What is left when we are
		// killed is a stray, which the next deployment removes.
		host.AutoRemove, until = false, container.WaitConditionNextExit
	}
	made, err := e.api.ContainerCreate(ctx, client.ContainerCreateOptions{Config: config, HostConfig: host})
	if err != nil {
		return 0, wrap(err)
	}
	defer func() {
		// Also when the context has ended.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer cancel()
		_, _ = e.api.ContainerRemove(ctx, made.ID, client.ContainerRemoveOptions{Force: true, RemoveVolumes: true}) // what stays is removed by the next deployment
	}()
	att, err := e.api.ContainerAttach(ctx, made.ID, client.ContainerAttachOptions{Stream: true, Stdout: true, Stderr: true})
	if err != nil {
		// Podman prepares the container for it, and does not say what it lacks.
		if _, serr := e.api.ContainerStart(ctx, made.ID, client.ContainerStartOptions{}); serr != nil {
			err = serr
		}
		return 0, wrap(err)
	}
	defer att.Close()
	stop := context.AfterFunc(ctx, func() { att.Close() })
	defer stop()
	wait := e.api.ContainerWait(ctx, made.ID, client.ContainerWaitOptions{Condition: until})
	if _, err := e.api.ContainerStart(ctx, made.ID, client.ContainerStartOptions{}); err != nil {
		return 0, wrap(err)
	}
	var said strings.Builder
	_, cerr := stdcopy.StdCopy(out, &said, att.Reader)
	select {
	case r := <-wait.Result:
		if r.StatusCode != 0 && said.Len() > 0 {
			return int(r.StatusCode), errors.New(strings.TrimSpace(said.String()))
		}
		return int(r.StatusCode), cerr
	case err := <-wait.Error:
		return 0, errors.Join(wrap(err), cerr)
	case <-ctx.Done():
		return 0, ctx.Err()
	}
}

// propagation lets a disk mounted below a shelf later become visible inside. An
// engine refuses that where the folder lies on a private mount; then only what
// is mounted at the start is seen.
func propagation(m blueprint.Mount) mount.Propagation {
	if m.Role() != blueprint.RoleShelf {
		return mount.PropagationRPrivate
	}
	over, err := mountinfo.GetMounts(mountinfo.ParentsFilter(m.Source))
	if err != nil || len(over) == 0 {
		return mount.PropagationRPrivate
	}
	deepest := slices.MaxFunc(over, func(a, b *mountinfo.Info) int { return len(a.Mountpoint) - len(b.Mountpoint) })
	if strings.Contains(deepest.Optional, "shared:") || strings.Contains(deepest.Optional, "master:") {
		return mount.PropagationRSlave
	}
	return mount.PropagationRPrivate
}

// Start starts a container.
func (e *Engine) Start(ctx context.Context, id string) error {
	in, err := e.api.ContainerInspect(ctx, id, client.ContainerInspectOptions{})
	if err == nil && in.Container.State != nil && in.Container.State.Restarting {
		// For the engine it runs, though it waits before it tries again; so it does it now.
		at := 0
		_, err = e.api.ContainerRestart(ctx, id, client.ContainerRestartOptions{Timeout: &at})
		return wrap(err)
	}
	_, err = e.api.ContainerStart(ctx, id, client.ContainerStartOptions{})
	return wrap(err)
}

// Stop stops a container.
func (e *Engine) Stop(ctx context.Context, id string, grace time.Duration) error {
	seconds := int(grace.Round(time.Second).Seconds())
	_, err := e.api.ContainerStop(ctx, id, client.ContainerStopOptions{Timeout: &seconds})
	return wrap(err)
}

// Remove removes a container that does not run, if it is ours.
func (e *Engine) Remove(ctx context.Context, id string) error {
	in, err := e.api.ContainerInspect(ctx, id, client.ContainerInspectOptions{})
	if errdefs.IsNotFound(err) {
		return nil
	}
	if err != nil {
		return wrap(err)
	}
	if in.Container.Config == nil || in.Container.Config.Labels[blueprint.LabelHousehold] == "" {
		return fmt.Errorf("container %s is not ours", id)
	}
	_, err = e.api.ContainerRemove(ctx, in.Container.ID, client.ContainerRemoveOptions{RemoveVolumes: true})
	if errdefs.IsNotFound(err) {
		return nil
	}
	return wrap(err)
}

// Logs writes what the container printed.
func (e *Engine) Logs(ctx context.Context, id string, o engine.LogOptions, w io.Writer) error {
	opts := client.ContainerLogsOptions{ShowStdout: true, ShowStderr: true, Timestamps: true, Follow: o.Follow}
	if !o.Since.IsZero() {
		opts.Since = fmt.Sprintf("%d.%09d", o.Since.Unix(), o.Since.Nanosecond())
	}
	if o.Tail > 0 {
		opts.Tail = strconv.Itoa(o.Tail)
	}
	r, err := e.api.ContainerLogs(ctx, id, opts)
	if err != nil {
		return wrap(err)
	}
	defer r.Close()
	_, err = stdcopy.StdCopy(w, w, r)
	if ctx.Err() != nil {
		return nil // the reader had enough
	}
	return err
}

// Dial runs a command inside a container and connects to it.
func (e *Engine) Dial(ctx context.Context, id string, command ...string) (net.Conn, error) {
	made, err := e.api.ExecCreate(ctx, id, client.ExecCreateOptions{Cmd: command, AttachStdin: true, AttachStdout: true, AttachStderr: true})
	if err != nil {
		return nil, wrap(err)
	}
	att, err := e.api.ExecAttach(ctx, made.ID, client.ExecAttachOptions{})
	if err != nil {
		return nil, wrap(err)
	}
	r, w := io.Pipe()
	go func() {
		var said strings.Builder
		_, err := stdcopy.StdCopy(w, &said, att.Reader)
		if err == nil && said.Len() > 0 {
			err = errors.New(strings.TrimSpace(said.String()))
		}
		w.CloseWithError(err)
	}()
	return &execConn{att.Conn, r}, nil
}

// execConn writes to the command's standard input and reads its output.
type execConn struct {
	net.Conn
	out *io.PipeReader
}

func (c *execConn) Read(b []byte) (int, error) { return c.out.Read(b) }

func (c *execConn) Close() error {
	c.out.Close()
	return c.Conn.Close()
}
