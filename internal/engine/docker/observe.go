package docker

import (
	"context"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/blueprint"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/client"
)

func label(key, value string) client.Filters {
	if value != "" {
		key += "=" + value
	}
	return client.Filters{}.Add("label", key)
}

// Observe gives everything of one household, and the images of ours.
func (e *Engine) Observe(ctx context.Context, id string) (blueprint.Observed, error) {
	var out blueprint.Observed
	list, err := e.api.ContainerList(ctx,
		client.ContainerListOptions{All: true, Filters: label(blueprint.LabelHousehold, id)})
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
		seen := blueprint.Container{ID: c.ID, Name: strings.TrimPrefix(in.Container.Name, "/"),
			Key: blueprint.KeyOf(c.Labels), Restarts: in.Container.RestartCount}
		if spec, ok := blueprint.FromLabels(c.Labels); ok {
			seen.Service, seen.Digest = spec, spec.Digest()
		}
		if st := in.Container.State; st != nil {
			seen.Running, seen.Waiting, seen.ExitCode = st.Running, st.Restarting, st.ExitCode
			seen.Started, _ = time.Parse(time.RFC3339Nano, st.StartedAt)
			if st.Health != nil {
				seen.Health = string(st.Health.Status)
			}
		}
		if seen.Digest != "" && in.Container.HostConfig != nil {
			seen.Drift = drift(e.nature(ctx), seen.Service, in.Container)
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
	return out, e.observeImages(ctx, id, &out)
}

// observeImages adds the images: programs of ours, and all others by their names.
func (e *Engine) observeImages(ctx context.Context, id string, out *blueprint.Observed) error {
	images, names, others, err := e.imagesAndNames(ctx)
	if err != nil {
		return err
	}
	out.Images = others
	used, err := e.used(ctx)
	if err != nil {
		return err
	}
	for digest := range images {
		out.Images = append(out.Images, digest)
		if !used[digest] && !slices.ContainsFunc(names[digest], func(n string) bool {
			return strings.Contains(n, keptName)
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
	return nil
}

// Neighbours gives what runs of all households.
func (e *Engine) Neighbours(ctx context.Context) ([]blueprint.Service, error) {
	return e.ofAll(ctx, false)
}

// ofAll gives the containers of all households: those that run, or those that are stopped, too.
func (e *Engine) ofAll(ctx context.Context, stopped bool) ([]blueprint.Service, error) {
	list, err := e.api.ContainerList(ctx, client.ContainerListOptions{All: stopped,
		Filters: label(blueprint.LabelHousehold, "")})
	if err != nil {
		return nil, wrap(err)
	}
	var out []blueprint.Service
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
		out[c.Image.Program] = true
	}
	return out, nil
}
