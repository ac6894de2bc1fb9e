package docker

import (
	"regexp"
	"strings"

	"cozyshelf/internal/engine"

	"github.com/containerd/errdefs"
)

// wrap turns an engine's error into one of package engine. This is the one place that reads
// its sentences.
func wrap(err error) error {
	if err == nil {
		return nil
	}
	says := strings.TrimPrefix(err.Error(), "Error response from daemon: ")
	r := &engine.Refusal{Says: says, Err: err}
	if strings.Contains(says, "password=") {
		// What could not be mounted is told with its options.
		r.Says, r.Err = secrets.ReplaceAllString(says, "password=…$1"), nil
	}
	switch {
	case strings.Contains(says, mountFailed):
		r.Kind = engine.ErrMount
		_, r.Says, _ = strings.Cut(r.Says, mountFailed)
		if strings.HasSuffix(r.Says, "no such device") {
			r.Says += "; the kernel of the engine's machine has no client for it"
		}
	case strings.Contains(says, "port is already allocated"), strings.Contains(says, "address already in use"):
		r.Kind = engine.ErrPort
	case errdefs.IsNotFound(err):
		r.Kind = engine.ErrNotFound
	case errdefs.IsConflict(err):
		r.Kind = engine.ErrInUse
	default:
		if r.Err != nil {
			return err
		}
	}
	return r
}

// mountFailed goes before what the kernel says of a volume that it could not mount.
const mountFailed = "failed to mount local volume: "

// secrets finds a password among mount options, up to the comma that ends it, or
// the next option that we would have written.
var secrets = regexp.MustCompile(`(?s)password=.*?(,domain=|,uid=|$)`)
