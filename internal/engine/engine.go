// Package engine says what is wanted of an engine: the thing that runs
// services. Docker and Podman are reached over their socket (package docker);
// package process runs the server as a supervised process where there is no
// engine.
//
// An engine carries out single steps and reports what is there. What should be
// there, and in which order it is brought about, is decided elsewhere.
//
// # What every engine does, and what some can
//
// [Engine] is what every engine does. Whatever only some have is a further small interface,
// which a caller asks for by a type assertion, as with those of io/fs: [Networks], [Volumes],
// [PutsBack], [Archives], [References], [Boots], [Sweeper], [Neighbours], [Dialer]. What a
// household may expect of an engine is told by its facts (facts.Capabilities); nobody asks for
// an engine by its name.
//
// # Rules
//
// Steps that make something succeed where it is there already; steps that remove something
// succeed where it is gone already. Start, Stop and Logs of a container that is not there give
// [ErrNotFound]. A refusal of the engine is a [Refusal], which says of what kind it is.
//
// Every provider passes the suite in package enginetest.
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
	ErrPort     = errors.New("the port is taken")
	ErrMount    = errors.New("a share cannot be mounted")
)

// Refusal is a step that an engine refused.
type Refusal struct {
	Kind error  // one of the errors above; nil where it is of no such kind
	Says string // why, in the engine's words, without its own preface and without secrets
	Err  error  // as the engine gave it; nil where that holds a secret
}

// Error gives the engine's words.
func (r *Refusal) Error() string { return r.Says }

// Unwrap gives the kind and the engine's own error.
func (r *Refusal) Unwrap() []error {
	var out []error
	for _, err := range []error{r.Kind, r.Err} {
		if err != nil {
			out = append(out, err)
		}
	}
	return out
}

// Engine runs services.
type Engine interface {
	// Facts says what engine this is, what it can do, and whether it answers.
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

	// Create makes a container but does not start it. Its image must be there.
	Create(ctx context.Context, s blueprint.Service) (id string, err error)
	Start(ctx context.Context, id string) error
	// Stop asks the container to end and kills it after the grace. One that
	// does not run is left alone.
	Stop(ctx context.Context, id string, grace time.Duration) error
	// Remove removes a container that does not run.
	Remove(ctx context.Context, id string) error

	// Run runs a command of the program once, to its end, as a throw-away
	// container that has the same account, shelves, limits and nothing else of
	// the service: neither state nor scratch nor network. It writes what the
	// command prints, and gives its exit code. Nothing of it is left, also when
	// the context ends.
	Run(ctx context.Context, s blueprint.Service, command []string, out io.Writer) (code int, err error)

	// Logs writes what the container printed, oldest first, each line with
	// its time in front (RFC 3339).
	Logs(ctx context.Context, id string, o LogOptions, w io.Writer) error
}

// LogOptions says which lines are wanted.
type LogOptions struct {
	Since  time.Time // zero for all that is kept
	Follow bool      // until the context ends or the container stops
	Tail   int       // the last lines only; 0 for all
}

// Networks is an engine that makes networks.
type Networks interface {
	MakeNetwork(ctx context.Context, name, household string) error
	RemoveNetwork(ctx context.Context, name string) error
}

// Volumes is an engine that mounts shares of other machines.
type Volumes interface {
	// MakeVolume makes a volume that the engine mounts with these options: type,
	// device and o, as for mount(8).
	MakeVolume(ctx context.Context, name, household string, options map[string]string) error
	// RemoveVolume removes it, not what lies on the share.
	RemoveVolume(ctx context.Context, name string) error
}

// PutsBack is an engine on which something can be changed by hand about a container.
type PutsBack interface {
	// PutBack takes away what somebody changed, as far as Observe tells of it, without
	// interrupting the container.
	PutBack(ctx context.Context, id string, s blueprint.Service) error
}

// Archives is an engine that runs images from archive files.
type Archives interface {
	// LoadArchive loads the image of an archive, as engines save them, and names it. The
	// archive's bytes must have the digest.
	LoadArchive(ctx context.Context, path, digest, name string) error
}

// References is an engine that fetches images by name.
type References interface {
	Fetch(ctx context.Context, reference string) error
}

// Boots is an engine for which systemd can start a service with the machine.
type Boots interface {
	// Boot says how; ok is false where the engine sees to it by itself.
	Boot(s blueprint.Service) (b blueprint.Boot, ok bool)
}

// Sweeper is an engine on which a command that was cut off may leave something half made
// that Observe does not tell of. Sweep removes it.
type Sweeper interface{ Sweep() }

// Neighbours is an engine that tells what it runs of all households.
type Neighbours interface {
	Neighbours(ctx context.Context) ([]blueprint.Service, error)
}

// Dialer is an engine that can run a command inside a container and connect to
// its standard input and output. It serves administrators who may use the
// engine but not open the state folder.
type Dialer interface {
	Dial(ctx context.Context, id string, command ...string) (net.Conn, error)
}
