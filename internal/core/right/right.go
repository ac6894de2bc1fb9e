// Package right names what a key of another system may do. A key has no member: it sees figures of the whole
// house, and nothing that is anybody's own.
package right

import (
	"fmt"
	"slices"
	"strings"
)

// Right is something that a key may do.
type Right string

// The rights.
const (
	ReadFigures    Right = "read-figures"    // who watches what, now and before
	ReadLibrary    Right = "read-library"    // what is on the shelves, in figures
	ControlStreams Right = "control-streams" // end a stream
	Metrics        Right = "metrics"         // the server's measurements
)

// All are all of them.
var All = []Right{ReadFigures, ReadLibrary, ControlStreams, Metrics}

// Read reads rights as they are written; each once, in the order of All.
func Read(texts []string) ([]Right, error) {
	var out []Right
	for _, t := range texts {
		if !slices.Contains(All, Right(t)) {
			return nil, fmt.Errorf("a key may %s; %q is none of these", Words(All), t)
		}
	}
	for _, r := range All {
		if slices.Contains(texts, string(r)) {
			out = append(out, r)
		}
	}
	return out, nil
}

// Words writes rights as a list.
func Words(list []Right) string {
	var texts []string
	for _, r := range list {
		texts = append(texts, string(r))
	}
	return strings.Join(texts, ", ")
}
