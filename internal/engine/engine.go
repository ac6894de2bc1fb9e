// Package engine says what is wanted of an engine: the thing that runs
// containers. Docker and Podman are reached over their socket (package docker);
// package process runs the server as a supervised process where there is no
// engine. Every provider passes the suite in package enginetest.
//
// An engine carries out single steps and reports what is there. What should be
// there, and in which order it is brought about, is decided elsewhere.
package engine

import (
	"context"
	"errors"
	"io"
	"net"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/pack"
)

// What steps may fail with, beside errors of their own. Found with errors.Is.
var (
	ErrNotFound = errors.New("not on the engine")
	ErrInUse    = errors.New("in use")
	ErrNone     = errors.New("this engine has none of it")
)

// Engine runs containers. Steps that make something succeed where it is there
// already; steps that remove something succeed where it is gone already, except
// that Start, Stop and Logs of a missing container give ErrNotFound.
type Engine interface {
	// Facts says what engine this is and whether it answers.
	Facts(ctx context.Context) facts.Engine

	// Observe gives everything of one household, and the images of ours.
	Observe(ctx context.Context, household string) (blueprint.Observed, error)

	// LoadImage gives the engine a program, unless it has it, and keeps it for a
	// household.
	LoadImage(ctx context.Context, img pack.Image, household string) error
	// RemoveImage removes an image that a household no longer keeps. It gives ErrInUse
	// where a container still uses it, or another household keeps it: each keeps the
	// images that it loaded or made containers from, until it has them removed.
	RemoveImage(ctx context.Context, digest, household string) error

	MakeNetwork(ctx context.Context, name, household string) error
	RemoveNetwork(ctx context.Context, name string) error

	// MakeVolume makes a volume that the engine mounts with these options: type,
	// device and o, as for mount(8). An engine that mounts nothing gives ErrNone.
	MakeVolume(ctx context.Context, name, household string, options map[string]string) error
	// RemoveVolume removes it, not what lies on the share.
	RemoveVolume(ctx context.Context, name string) error

	// Create makes a container but does not start it. Its image must be there.
	Create(ctx context.Context, c blueprint.Container) (id string, err error)
	Start(ctx context.Context, id string) error
	// PutBack takes away what somebody changed by hand about a container, as far as
	// Observe tells of it, without interrupting it.
	PutBack(ctx context.Context, id string, c blueprint.Container) error
	// Stop asks the container to end and kills it after the grace. One that
	// does not run is left alone.
	Stop(ctx context.Context, id string, grace time.Duration) error
	// Remove removes a container that does not run.
	Remove(ctx context.Context, id string) error

	// Run runs a command of the program once, to its end, as a throw-away
	// container that has the same account, shelves, limits and nothing else of
	// the container: neither state nor scratch nor network. It writes what the
	// command prints, and gives its exit code. Nothing of it is left, also when
	// the context ends.
	Run(ctx context.Context, c blueprint.Container, command []string, out io.Writer) (code int, err error)

	// Logs writes what the container printed, oldest first, each line with
	// its time in front (RFC 3339).
	Logs(ctx context.Context, id string, o LogOptions, w io.Writer) error
}

// LogOptions says which lines are wanted.
type LogOptions struct {
	Since  time.Time // zero for all that is kept
	Follow bool      // go on until the context ends or the container stops
	Tail   int       // the last lines only; 0 for all
}

// Sweeper is an engine on which a command that was cut off may leave something half made
// that Observe does not tell of. Sweep removes it.
type Sweeper interface{ Sweep() }

// Neighbours is an engine that tells what it runs of all households.
type Neighbours interface {
	Neighbours(ctx context.Context) ([]blueprint.Container, error)
}

// Dialer is an engine that can run a command inside a container and connect to
// its standard input and output. It serves administrators who may use the
// engine but not open the state folder.
type Dialer interface {
	Dial(ctx context.Context, id string, command ...string) (net.Conn, error)
}
