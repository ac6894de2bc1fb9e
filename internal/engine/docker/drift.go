package docker

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
)

// drift says what an engine's container has otherwise than it was made.
func drift(can nature, want blueprint.Service, have container.InspectResponse) []string {
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
	if want.Network != "host" && want.NetworkName() != "none" && have.NetworkSettings != nil {
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

// PutBack takes away what drift tells of.
func (e *Engine) PutBack(ctx context.Context, id string, c blueprint.Service) error {
	in, err := e.api.ContainerInspect(ctx, id, client.ContainerInspectOptions{})
	if err != nil {
		return wrap(err)
	}
	_, host := describe(e.nature(ctx), c, "")
	if _, err := e.api.ContainerUpdate(ctx, id, client.ContainerUpdateOptions{
		Resources: &container.Resources{Memory: host.Memory, MemorySwap: host.MemorySwap, NanoCPUs: host.NanoCPUs,
			PidsLimit: host.PidsLimit},
		RestartPolicy: &host.RestartPolicy,
	}); err != nil && !(e.kind == "podman" &&
		errdefs.IsNotFound(err)) { // an older Podman changes no limits of a container that is there
		return wrap(err)
	}
	if strings.TrimPrefix(in.Container.Name, "/") != c.EngineName() {
		if _, err := e.api.ContainerRename(ctx, id,
			client.ContainerRenameOptions{NewName: c.EngineName()}); err != nil {
			return wrap(err)
		}
	}
	if c.Network == "host" || c.NetworkName() == "none" || in.Container.NetworkSettings == nil {
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
