package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/engine/docker"
	"cozyshelf/internal/engine/process"
	"cozyshelf/internal/intake"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/problem"
)

// openEngine opens an engine of a kind.
func openEngine(kind string) (engine.Engine, error) {
	switch kind {
	case "docker":
		return docker.Open()
	case "podman":
		return docker.OpenPodman()
	}
	return process.Open(), nil
}

// others finds other engines than the household's on which it is deployed. One that does
// not answer at once is passed over, and so is one on another machine: what has the same path
// there is another folder.
func (s *site) others(ctx context.Context) []facts.Other {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	var out []facts.Other
	for _, kind := range []string{"docker", "podman", "process"} {
		e, err := openEngine(kind)
		if kind == s.facts.Kind || err != nil {
			continue
		}
		f := e.Facts(ctx)
		if !f.Answers || f.Elsewhere != s.facts.Elsewhere || f.Kind == s.facts.Kind || f.Endpoint != "" && f.Endpoint == s.facts.Endpoint {
			continue
		}
		have, err := e.Observe(ctx, s.id)
		if err != nil {
			continue
		}
		if c, ok := have.Current(); ok {
			out = append(out, facts.Other{Kind: kind, Container: c.Name, Running: c.Running})
		}
	}
	return out
}

// neighbour finds another household of ours whose server has a port.
func (s *site) neighbour(ctx context.Context, port int) *facts.Neighbour {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	for _, kind := range []string{"docker", "podman", "process"} {
		e, err := openEngine(kind)
		all, can := e.(engine.Neighbours)
		if err != nil || !can || !e.Facts(ctx).Answers {
			continue
		}
		list, err := all.Neighbours(ctx)
		if err != nil {
			continue
		}
		for _, c := range list {
			if c.Port != port || c.Household == s.id {
				continue
			}
			n := &facts.Neighbour{Name: c.Name, Engine: kind}
			for _, m := range c.Mounts {
				if m.Role() == blueprint.RoleState {
					n.State = m.Source
				}
			}
			return n
		}
	}
	return nil
}

// here refuses what would change the state under a server on another engine.
func (s *site) here(ctx context.Context) error {
	for _, o := range s.others(ctx) {
		return &problem.Problem{What: "the household is deployed on another engine", Where: o.Kind, Why: fmt.Sprintf("the household file names %s, and %s is on %s", s.facts.Kind, o.Container, o.Kind), Fix: fmt.Sprintf("write engine = %q under [server], and try again", o.Kind)}
	}
	return nil
}

// choose finds the engine that a household asks for. The facts say which and
// why, also when it does not answer.
func choose(ctx context.Context, h *household.Household) (engine.Engine, facts.Engine, error) {
	if h.Server.Engine != "auto" {
		e, err := openEngine(h.Server.Engine)
		if err != nil {
			return nil, facts.Engine{}, &problem.Problem{What: "the engine cannot be used", Where: h.Server.Engine, Why: err.Error(), Fix: "correct DOCKER_HOST, or choose another engine under [server]", Err: err}
		}
		f := e.Facts(ctx)
		f.Asked, f.Why = h.Server.Engine, "as the household file says"
		return e, f, nil
	}
	// A household that runs as a process already goes on so: otherwise the
	// arrival of another engine would leave it behind.
	own := process.Open()
	if o, err := own.Observe(ctx, blueprint.ID(h.Storage.State)); err == nil && len(o.Containers) > 0 {
		f := own.Facts(ctx)
		f.Asked, f.Why = "auto", "the household is deployed on it already"
		return own, f, nil
	}
	silent := ""
	for _, kind := range []string{"docker", "podman"} {
		e, err := openEngine(kind)
		if err != nil {
			silent += fmt.Sprintf("%s: %s; ", kind, err)
			continue
		}
		f := e.Facts(ctx)
		if f.Answers {
			f.Asked, f.Why = "auto", "it answers at "+f.Endpoint
			return e, f, nil
		}
		silent += fmt.Sprintf("%s: %s; ", kind, f.Error)
	}
	f := own.Facts(ctx)
	f.Asked, f.Why = "auto", silent+"so the embedded engine is taken"
	return own, f, nil
}

// site is a household at its engine.
type site struct {
	h         *household.Household
	engine    engine.Engine
	facts     facts.Engine
	id        string
	account   facts.Account
	image     pack.Image
	blueprint blueprint.Blueprint
}

// open loads the household file and finds its engine, which must answer.
func (a *app) open(ctx context.Context) (*site, error) {
	h, err := a.load()
	if err != nil {
		return nil, err
	}
	e, f, err := choose(ctx, h)
	if err != nil {
		return nil, err
	}
	if !f.Answers {
		return nil, &problem.Problem{What: f.Kind + " does not answer", Where: f.Endpoint, Why: f.Error, Fix: f.Fix}
	}
	return &site{h: h, engine: e, facts: f, id: blueprint.ID(h.Storage.State)}, nil
}

// pack gives the image of this program as the household wants it: with ffmpeg in it
// where there is work for it. Without ffmpeg on this machine there is none in the image:
// check says so before, and status afterwards.
func (a *app) pack(ctx context.Context, s *site) (pack.Image, error) {
	exe, err := os.Executable()
	if err != nil {
		return pack.Image{}, err
	}
	st, err := os.Stat(exe)
	if err == nil && (a.own == nil || !os.SameFile(st, a.ownIs) || !st.ModTime().Equal(a.ownIs.ModTime())) {
		var own pack.Image
		own, err = pack.Open(exe, a.version)
		a.own, a.ownIs = &own, st
	}
	if err != nil {
		a.own = nil
		return pack.Image{}, &problem.Problem{What: "the program cannot read itself", Where: exe, Why: err.Error(),
			Fix: "install it again", Err: err}
	}
	image := *a.own
	if s.facts.Kind != "process" && len(s.h.Quiet.Work) > 0 {
		if f, err := pack.FindFFmpeg(ctx); err == nil {
			image = image.With(f)
		}
	}
	return image, nil
}

// draw draws the blueprint.
func (a *app) draw(ctx context.Context, s *site) error {
	s.account = machine.Account(s.h.Server)
	if !s.account.Known {
		return &problem.Problem{What: "the run-as account is not known", Where: s.account.Asked, Why: s.account.Why, Fix: "make the account, or write run_as = \"uid:gid\" in the household file"}
	}
	var err error
	if s.image, err = a.pack(ctx, s); err != nil {
		return err
	}
	s.blueprint = blueprint.Draw(s.h, blueprint.Site{Engine: s.facts.Kind, UID: s.account.UID, GID: s.account.GID, Groups: slices.Concat(s.account.Groups, machine.DeviceGroups(s.h.Server.Devices)), Stamp: machine.Stamp, Image: s.image.Digest, Version: a.version, FFmpeg: s.image.FFmpeg(),
		Names: machine.Names(), HidesClients: s.facts.HidesClients, IPv6: s.facts.IPv6})
	host := s.facts.Identity(s.account)
	s.blueprint.OwnerUID, s.blueprint.OwnerGID = host.UID, host.Groups[0]
	s.unit()
	return nil
}

func (s *site) observe(ctx context.Context) (blueprint.Observed, error) {
	o, err := s.engine.Observe(ctx, s.id)
	if err != nil {
		return o, &problem.Problem{What: "the engine cannot be asked what is there", Where: s.facts.Endpoint, Why: err.Error(), Fix: "see whether " + s.facts.Kind + " is well", Err: err}
	}
	return o, nil
}

// client gives a client for the household's server: by its socket, or, where
// that may not be opened, through a command inside the container.
func (s *site) client() *control.Client {
	state := s.h.Storage.State
	return control.Through(state+"/"+control.Socket, func(ctx context.Context) (net.Conn, error) {
		conn, err := control.Dialed(ctx, state)
		d, can := s.engine.(engine.Dialer)
		if err == nil || !errors.Is(err, os.ErrPermission) || !can {
			return conn, err
		}
		o, oerr := s.engine.Observe(ctx, s.id)
		if oerr != nil {
			return nil, errors.Join(err, oerr)
		}
		running, ok := o.Running()
		if !ok {
			return nil, os.ErrNotExist
		}
		return d.Dial(ctx, running.ID, blueprint.Program, "relay", "--state", blueprint.StateInside)
	})
}

// server opens the household and gives a client for its server.
func (a *app) server(ctx context.Context) (*control.Client, error) {
	s, err := a.open(ctx)
	if err != nil {
		return nil, err
	}
	return s.client(), nil
}

// who names the account that runs this command, for the ledger.
func who() string {
	name := fmt.Sprint("uid ", os.Getuid())
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	if sudo := os.Getenv("SUDO_USER"); sudo != "" && sudo != name {
		name += " (for " + sudo + ")"
	}
	return name
}

// address is where people open the household's page.
func (s *site) address() string {
	host := ""
	switch bind, _ := s.h.Server.BindAddr(); {
	case s.h.Server.Bind == "lan" || bind.IsUnspecified():
		host = "localhost"
		if list := machine.Addresses(); len(list) > 0 {
			slices.Sort(list)
			host = list[0]
		}
	default:
		host = bind.String()
	}
	return "http://" + net.JoinHostPort(host, fmt.Sprint(s.h.Server.Port))
}

// left lists what commands that were cut off left behind: all that the next deployment
// removes.
func (s *site) left(ctx context.Context) []string {
	var out []string
	if o, err := s.engine.Observe(ctx, s.id); err == nil {
		for _, x := range o.Strays {
			if !x.Running {
				out = append(out, "half a server on "+s.facts.Kind+": "+x.Name)
			}
		}
		for _, i := range o.Unkept {
			out = append(out, "a program that no household uses: "+i)
		}
		if was := deploy.ReadDeployed(s.h.Storage.State); was != nil {
			for _, i := range o.Kept {
				if !slices.Contains(was.Images, i) {
					out = append(out, "a program that this household no longer needs: "+i)
				}
			}
		}
	}
	for _, n := range boundary.Left(s.h.Storage.State) {
		out = append(out, "half-made: "+filepath.Join(boundary.Admin(s.h.Storage.State), boundary.WorkName, n))
	}
	for _, sh := range s.h.Shelves {
		for _, folder := range sh.Folders {
			if household.IsShare(folder) || machine.Far(folder) {
				continue
			}
			for _, p := range intake.Left(folder) {
				out = append(out, "a job that is over: "+p)
			}
		}
	}
	return out
}

// sweep removes what a command that was cut off left half made on the engine. Whoever calls
// it holds the lock of the household.
func (s *site) sweep() {
	if e, ok := s.engine.(engine.Sweeper); ok {
		e.Sweep()
	}
}
