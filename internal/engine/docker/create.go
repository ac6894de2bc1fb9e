package docker

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"

	"cozyshelf/internal/core/blueprint"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"
)

// Create makes a container, closed by default.
func (e *Engine) Create(ctx context.Context, c blueprint.Service) (string, error) {
	image, err := e.find(ctx, c.Image)
	if err != nil {
		return "", err
	}
	list, err := e.api.ContainerList(ctx,
		client.ContainerListOptions{All: true, Filters: label(blueprint.LabelDigest, c.Digest())})
	if err != nil {
		return "", wrap(err)
	}
	for _, have := range list.Items {
		if have.Labels[blueprint.LabelHousehold] == c.Household {
			return have.ID, nil
		}
	}
	config, host := describe(e.nature(ctx), c, image)
	for _, m := range host.Mounts {
		// The newer form of mounts gives this error by itself, the engine's
		// message for it is less plain.
		if _, err := os.Stat(m.Source); m.Type == mount.TypeBind && errors.Is(err, os.ErrNotExist) &&
			strings.HasPrefix(e.endpoint, "unix://") {
			return "", fmt.Errorf("%s does not exist", m.Source)
		}
	}
	made, err := e.api.ContainerCreate(ctx,
		client.ContainerCreateOptions{Config: config, HostConfig: host, Name: c.EngineName()})
	return made.ID, wrap(err)
}

// describe says in the engine's words what a service is.
func describe(n nature, c blueprint.Service, image string) (*container.Config, *container.HostConfig) {
	config := &container.Config{
		Image: image, Cmd: c.Command, User: fmt.Sprintf("%d:%d", c.UID, c.GID), Labels: c.Labels(),
		Healthcheck: health(c.Health),
	}
	for k, v := range c.Env {
		config.Env = append(config.Env, k+"="+v)
	}
	slices.Sort(config.Env)
	host := &container.HostConfig{
		NetworkMode:   container.NetworkMode(c.NetworkName()),
		RestartPolicy: container.RestartPolicy{Name: policy(c.Start)},
		Resources:     container.Resources{Memory: c.Memory, MemorySwap: c.Memory, NanoCPUs: c.NanoCPUs},
	}
	if c.Pids > 0 {
		pids := c.Pids
		host.PidsLimit = &pids
	}
	harden(host, c.Hardening)
	for _, d := range c.DNS {
		if a, err := netip.ParseAddr(d); err == nil {
			host.DNS = append(host.DNS, a)
		}
	}
	for _, h := range c.Hosts {
		name, addr, _ := strings.Cut(h, "=")
		host.ExtraHosts = append(host.ExtraHosts, name+":"+addr)
	}
	if n.bounds && c.LogLimit > 0 {
		// Half in the file that is written, half in the one before it.
		host.LogConfig = container.LogConfig{Type: "json-file", Config: map[string]string{
			"max-size": strconv.FormatInt(c.LogLimit/2, 10), "max-file": "2"}}
	}
	for _, g := range c.Groups {
		host.GroupAdd = append(host.GroupAdd, strconv.FormatUint(uint64(g), 10))
	}
	for _, d := range c.Devices {
		host.Devices = append(host.Devices,
			container.DeviceMapping{PathOnHost: d, PathInContainer: d, CgroupPermissions: "rw"})
	}
	if len(c.GPUs) > 0 {
		host.DeviceRequests = []container.DeviceRequest{{Driver: "nvidia", DeviceIDs: c.GPUs,
			Capabilities: [][]string{{"gpu", "video", "compute"}}}}
	}
	host.Mounts = mounts(c)
	publish(c, config, host)
	return config, host
}

// health says how the engine finds out whether a service is well; nil leaves it to the image,
// which for ours is nothing.
func health(h blueprint.Health) *container.HealthConfig {
	if len(h.Command) == 0 {
		return nil
	}
	return &container.HealthConfig{Test: append([]string{"CMD"}, h.Command...), Interval: h.Interval,
		Timeout: h.Timeout, StartPeriod: h.Start, Retries: h.Retries}
}

// harden forbids all that a service is not allowed.
func harden(host *container.HostConfig, h blueprint.Hardening) {
	host.ReadonlyRootfs = !h.WritableRoot
	host.CapDrop, host.CapAdd = []string{"ALL"}, h.Capabilities
	if !h.NewPrivileges {
		host.SecurityOpt = []string{"no-new-privileges"}
	}
}

// mounts are the folders, secrets and scratch of a service.
func mounts(c blueprint.Service) []mount.Mount {
	var out []mount.Mount
	for _, m := range c.Mounts {
		if m.Volume {
			out = append(out, mount.Mount{Type: mount.TypeVolume, Source: m.Source, Target: m.Target,
				ReadOnly: m.ReadOnly, VolumeOptions: &mount.VolumeOptions{NoCopy: true}})
			continue
		}
		// A disk mounted below a shelf later becomes visible inside where the folder lies on a
		// shared mount; the engine refuses to ask for it elsewhere.
		spread := mount.PropagationRPrivate
		if m.Spread {
			spread = mount.PropagationRSlave
		}
		out = append(out, mount.Mount{Type: mount.TypeBind, Source: m.Source, Target: m.Target, ReadOnly: m.ReadOnly,
			BindOptions: &mount.BindOptions{Propagation: spread}})
	}
	for _, s := range c.Secrets {
		out = append(out, mount.Mount{Type: mount.TypeBind, Source: s.File, Target: s.Inside(), ReadOnly: true,
			BindOptions: &mount.BindOptions{Propagation: mount.PropagationRPrivate}})
	}
	if c.Tmpfs > 0 {
		// tmpfs mounts take no owner here, so anyone inside may write; there
		// is nobody else inside.
		out = append(out, mount.Mount{Type: mount.TypeTmpfs, Target: blueprint.ScratchInside,
			TmpfsOptions: &mount.TmpfsOptions{SizeBytes: c.Tmpfs, Mode: 0o1777}})
	}
	return out
}

// publish opens the ports of a service on the machine, where it has a network of its own.
func publish(c blueprint.Service, config *container.Config, host *container.HostConfig) {
	if c.Network == "host" || c.NetworkName() == "none" || len(c.Listeners) == 0 {
		return
	}
	config.ExposedPorts, host.PortBindings = network.PortSet{}, network.PortMap{}
	for _, l := range c.Listeners {
		inside, ok := network.PortFrom(uint16(l.Inside), network.TCP)
		if !ok {
			continue
		}
		binding := network.PortBinding{HostPort: strconv.Itoa(l.Port)}
		if a, err := netip.ParseAddr(l.Host); err == nil {
			binding.HostIP = a
		}
		config.ExposedPorts[inside] = struct{}{}
		host.PortBindings[inside] = append(host.PortBindings[inside], binding)
	}
}

// Boot says how systemd starts a container of Podman, which has no service of its
// own that would. Docker's does it by itself.
func (e *Engine) Boot(c blueprint.Service) (blueprint.Boot, bool) {
	podman, err := exec.LookPath("podman")
	if e.kind != "podman" || err != nil {
		return blueprint.Boot{}, false
	}
	return blueprint.Boot{Start: []string{podman, "start", "--attach", c.EngineName()},
		Stop: []string{podman, "stop", "--ignore", "--time", "10", c.EngineName()}, Tells: true}, true
}
