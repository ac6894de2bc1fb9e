package pack

import (
	"io"

	v1 "github.com/google/go-containerregistry/pkg/v1"
)

// For the tests outside of this package.

func (f *FFmpeg) WriteLayer(w io.Writer) error { return f.write(w) }
func (f *FFmpeg) AsLayer() (v1.Layer, error)   { return f.layer() }

// Of gives one of a single library.
func Of(name, from string, size int64) *FFmpeg { return &FFmpeg{files: []packed{{name, from, size}}} }

var Identity = identity
