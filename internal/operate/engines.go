package operate

import (
	"context"
	"fmt"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/engine/docker"
	"cozyshelf/internal/engine/process"
	"cozyshelf/internal/problem"
)

// Engines opens engines by the words of the household file.
type Engines interface {
	// Kinds are all, in the order in which they are preferred. The last is the embedded one,
	// which always answers.
	Kinds() []string
	Open(kind string) (engine.Engine, error)
}

// machines are the engines that a machine may have.
type machines struct{}

func (machines) Kinds() []string { return []string{"docker", "podman", "process"} }

func (machines) Open(kind string) (engine.Engine, error) {
	switch kind {
	case "docker":
		return docker.Open()
	case "podman":
		return docker.OpenPodman()
	}
	return process.Open(), nil
}

// Choose finds the engine that a household asks for; engines is nil for those of this machine.
// The facts say which and why, also when it does not answer.
func Choose(ctx context.Context, engines Engines, h *household.Household) (engine.Engine, facts.Engine, error) {
	if engines == nil {
		engines = machines{}
	}
	if h.Server.Engine != "auto" {
		e, err := engines.Open(h.Server.Engine)
		if err != nil {
			return nil, facts.Engine{}, &problem.Problem{What: "the engine cannot be used", Where: h.Server.Engine,
				Why: err.Error(), Fix: "correct DOCKER_HOST, or choose another engine under [server]", Err: err}
		}
		f := e.Facts(ctx)
		f.Asked, f.Why = h.Server.Engine, "as the household file says"
		return e, f, nil
	}
	kinds := engines.Kinds()
	// A household that runs on the embedded engine already stays there: otherwise the
	// arrival of another engine would leave it behind.
	own, err := engines.Open(kinds[len(kinds)-1])
	if err != nil {
		return nil, facts.Engine{}, err
	}
	if o, err := own.Observe(ctx, blueprint.ID(h.Storage.State)); err == nil && len(o.Containers) > 0 {
		f := own.Facts(ctx)
		f.Asked, f.Why = "auto", "the household is deployed on it already"
		return own, f, nil
	}
	silent := ""
	var passed []facts.Passed
	for _, kind := range kinds[:len(kinds)-1] {
		e, err := engines.Open(kind)
		if err != nil {
			silent += fmt.Sprintf("%s: %s; ", kind, err)
			continue
		}
		f := e.Facts(ctx)
		if f.Answers {
			f.Asked, f.Why, f.PassedOver = "auto", "it answers at "+f.Endpoint, passed
			return e, f, nil
		}
		if f.Barred {
			passed = append(passed, facts.Passed{Kind: f.Kind, Endpoint: f.Endpoint, Why: f.Error, Fix: f.Fix})
		}
		silent += fmt.Sprintf("%s: %s; ", kind, f.Error)
	}
	f := own.Facts(ctx)
	f.Asked, f.Why, f.PassedOver = "auto", silent+"so the embedded engine is taken", passed
	return own, f, nil
}

// Others finds other engines than the household's on which it is deployed. One that does
// not answer at once is passed over, and so is one on another machine: what has the same path
// there is another folder.
func (h *House) Others(ctx context.Context) []facts.Other {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	var out []facts.Other
	for _, kind := range h.Engines.Kinds() {
		e, err := h.Engines.Open(kind)
		if kind == h.Facts.Kind || err != nil {
			continue
		}
		f := e.Facts(ctx)
		if !f.Answers || f.Elsewhere != h.Facts.Elsewhere || f.Kind == h.Facts.Kind ||
			f.Endpoint != "" && f.Endpoint == h.Facts.Endpoint {
			continue
		}
		have, err := e.Observe(ctx, h.ID)
		if err != nil {
			continue
		}
		if c, ok := have.Current(); ok {
			out = append(out, facts.Other{Kind: kind, Container: c.Name, Running: c.Running})
		}
	}
	return out
}

// Here refuses what would change the state under a server on another engine.
func (h *House) Here(ctx context.Context) error {
	for _, o := range h.Others(ctx) {
		return &problem.Problem{What: "the household is deployed on another engine", Where: o.Kind,
			Why: fmt.Sprintf("the household file names %s, and %s is on %s", h.Facts.Kind, o.Container, o.Kind),
			Fix: fmt.Sprintf("write engine = %q under [server], and try again", o.Kind)}
	}
	return nil
}

// neighbour finds another household of ours whose server has a port.
func (h *House) neighbour(ctx context.Context, port int) *facts.Neighbour {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	for _, kind := range h.Engines.Kinds() {
		e, err := h.Engines.Open(kind)
		all, can := e.(engine.Neighbours)
		if err != nil || !can || !e.Facts(ctx).Answers {
			continue
		}
		list, err := all.Neighbours(ctx)
		if err != nil {
			continue
		}
		for _, c := range list {
			if c.Household == h.ID || c.Port() != port {
				continue
			}
			n := &facts.Neighbour{Name: c.Name, Engine: kind}
			for _, m := range c.Mounts {
				if m.Role == blueprint.MountState {
					n.State = m.Source
				}
			}
			return n
		}
	}
	return nil
}
