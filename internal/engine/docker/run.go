package docker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/engine"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
)

// Run runs a command in a throw-away container.
func (e *Engine) Run(ctx context.Context, c blueprint.Service, command []string, out io.Writer) (int, error) {
	image, err := e.find(ctx, c.Image)
	if err != nil {
		return 0, err
	}
	c = c.Once(command)
	config, host := describe(e.nature(ctx), c, image)
	config.Healthcheck = &container.HealthConfig{Test: []string{"NONE"}}
	config.Labels = map[string]string{blueprint.LabelHousehold: c.Household, blueprint.LabelName: c.Name,
		blueprint.LabelOnce: command[0]}
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
		_, _ = e.api.ContainerRemove(ctx, made.ID,
			client.ContainerRemoveOptions{Force: true,
				RemoveVolumes: true}) // what stays is removed by the next deployment
	}()
	att, err := e.api.ContainerAttach(ctx, made.ID,
		client.ContainerAttachOptions{Stream: true, Stdout: true, Stderr: true})
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
