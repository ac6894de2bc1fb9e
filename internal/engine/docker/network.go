package docker

import (
	"context"
	"fmt"
	"strings"

	"cozyshelf/internal/core/blueprint"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/client"
)

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
	_, err := e.api.VolumeCreate(ctx, client.VolumeCreateOptions{Name: name, Driver: "local", DriverOpts: options,
		Labels: map[string]string{blueprint.LabelHousehold: id}})
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
