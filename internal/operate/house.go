// Package operate does what the commands are for: it gathers what has to be known, once;
// draws an immutable plan; and carries the plan out. It knows no flags, asks nobody and prints
// nothing: what is to be shown it gives as values, or tells while it works.
//
// # Gather
//
// A [House] is a household at its engine, found by [Find]: the household file with its text,
// the engine and what it can do, the run-as account. Nothing of it is looked up a second time.
//
// # Plan
//
// [House.Deploy], [House.Undo], [House.Restore] and [House.Retire] give a [Plan]: the changes,
// who would be interrupted, and what is kept to take it back. A plan is a value; nothing in it
// changes after it was drawn, and drawing it touches nothing.
//
// # Carry out
//
// [Plan.Carry] does what the plan says, through package deploy, and tells a [Telling] how it
// goes. Cut off anywhere, the same command continues from there.
package operate

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"sync/atomic"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/problem"
)

// Setting is what a command is run with.
type Setting struct {
	Version string // of this program
	Who     string // who runs it, for the ledger
	File    string // path of the household file
	// Program gives this program as an image.
	Program func() (pack.Image, error)
	// Engines gives the engines that there may be; those of this machine where nil.
	Engines Engines
	// Health asks the server whether it is well; by its socket where nil.
	Health func(context.Context) error
	// Files counts the files that were looked at, Bytes those of backups that were written; for
	// whoever shows how far it is. Nil counts nothing.
	Files, Bytes *atomic.Int64
}

// House is a household at its engine.
type House struct {
	Setting
	Household *household.Household
	Text      []byte // of the household file
	Engine    engine.Engine
	Facts     facts.Engine
	ID        string
	Account   facts.Account // the run-as account
}

// Find finds the engine and the account of a household, whose file was read. An engine that
// does not answer is no error: its facts say why.
func Find(ctx context.Context, s Setting, h *household.Household, text []byte) (*House, error) {
	if s.Engines == nil {
		s.Engines = machines{}
	}
	e, f, err := Choose(ctx, s.Engines, h)
	if err != nil {
		return nil, err
	}
	return &House{Setting: s, Household: h, Text: text, Engine: e, Facts: f, ID: blueprint.ID(h.Storage.State),
		Account: machine.Account(h.Server)}, nil
}

// Answering gives an error where the engine does not answer.
func (h *House) Answering() error {
	f := h.Facts
	if f.Answers {
		return nil
	}
	return &problem.Problem{What: f.Kind + " does not answer", Where: f.Endpoint, Why: f.Error, Fix: f.Fix}
}

// State is the state folder.
func (h *House) State() string { return h.Household.Storage.State }

// Name is the household's name.
func (h *House) Name() string { return h.Household.Household.Name }

// Observe asks the engine what is there.
func (h *House) Observe(ctx context.Context) (blueprint.Observed, error) {
	o, err := h.Engine.Observe(ctx, h.ID)
	if err != nil {
		return o, &problem.Problem{What: "the engine cannot be asked what is there", Where: h.Facts.Endpoint,
			Why: err.Error(), Fix: "see whether " + h.Facts.Kind + " is well", Err: err}
	}
	return o, nil
}

// ErrNotDeployed is that the engine has nothing of the household.
var ErrNotDeployed = errors.New("not deployed")

// Deployed gives the server that the household has. Where the engine that was asked for may
// not be asked, nobody knows whether it has one.
func (h *House) Deployed(ctx context.Context) (blueprint.Container, error) {
	o, err := h.Observe(ctx)
	if err != nil {
		return blueprint.Container{}, err
	}
	if seen, ok := o.Current(); ok {
		return seen, nil
	}
	if p := h.Facts.PassedOver; len(p) > 0 {
		return blueprint.Container{}, &problem.Problem{What: "it cannot be told whether " + h.Name() + " is deployed",
			Where: p[0].Endpoint, Why: fmt.Sprintf("%s is there, and %s", p[0].Kind, p[0].Why),
			Fix: p[0].Fix + "; or write engine = \"" + h.Facts.Kind + "\" under [server], if it is meant"}
	}
	return blueprint.Container{}, &problem.Problem{What: h.Name() + " is not deployed", Where: h.Facts.Kind,
		Why: "the engine has nothing of this household", Fix: "cozyshelf deploy", Err: ErrNotDeployed}
}

// Client gives a client for the household's server: by its socket, or, where
// that may not be opened, through a command inside the container.
func (h *House) Client() *control.Client {
	state := h.State()
	return control.Through(state+"/"+control.Socket, func(ctx context.Context) (net.Conn, error) {
		conn, err := control.Dialed(ctx, state)
		d, can := h.Engine.(engine.Dialer)
		if err == nil || !errors.Is(err, os.ErrPermission) || !can {
			return conn, err
		}
		o, oerr := h.Engine.Observe(ctx, h.ID)
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

// health asks the server whether it is well.
func (h *House) health(ctx context.Context) error {
	if h.Health != nil {
		return h.Health(ctx)
	}
	return h.Client().Health(ctx)
}

// Owner is who files in the state folder belong to; nil where that is who runs this.
func (h *House) Owner() *atomicfile.Owner {
	if os.Getuid() != 0 {
		return nil
	}
	if h.Account.Known {
		host := h.Facts.Identity(h.Account)
		return &atomicfile.Owner{UID: int(host.UID), GID: int(host.Groups[0])}
	}
	return atomicfile.OwnerOf(h.State())
}

// Address is where people open the household's page.
func (h *House) Address() string {
	host := ""
	switch bind, _ := h.Household.Server.BindAddr(); {
	case h.Household.Server.Bind == "lan" || bind.IsUnspecified():
		host = "localhost"
		if list := machine.Addresses(); len(list) > 0 {
			slices.Sort(list)
			host = list[0]
		}
	default:
		host = bind.String()
	}
	return "http://" + net.JoinHostPort(host, fmt.Sprint(h.Household.Server.Port))
}

// Sweep removes what a command that was cut off left half made on the engine. Whoever calls
// it holds the lock of the household.
func (h *House) Sweep() {
	if e, ok := h.Engine.(engine.Sweeper); ok {
		e.Sweep()
	}
}
