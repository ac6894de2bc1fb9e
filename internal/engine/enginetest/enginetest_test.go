package enginetest

import (
	"context"
	"os"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/pack"
	"cozyshelf/internal/testbuild"
)

// bench is what an engine in memory is tested with.
func bench(t *testing.T, bend string) Bench {
	t.Helper()
	return Bench{Engine: &Memory{Serves: true, Bend: bend}, Kind: "memory", Can: Containers,
		Program: pack.Image{Digest: "sha256:" + strings.Repeat("a", 64), Version: "1"}, Folder: t.TempDir(),
		UID: uint32(os.Getuid()) + 1, GID: uint32(os.Getgid()) + 1, Port: testbuild.Port(t),
		Patience: 100 * time.Millisecond, Moment: 50 * time.Millisecond}
}

// TestAnEngineThatDoesAllPasses runs the suite on one in memory.
func TestAnEngineThatDoesAllPasses(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root may give files to another account")
	}
	if err := Test(context.Background(), bench(t, "")); err != nil {
		t.Error(err)
	}
}

// TestMisbehaviourIsFound has engines misbehave in one way each: the suite names what was
// asked, and continues with the rest.
func TestMisbehaviourIsFound(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("only root may give files to another account")
	}
	for bend, says := range map[string]string{
		"is silent":                        "facts",
		"is of another kind":               "facts",
		"cannot do what it should":         "facts",
		"hides where it is":                "facts",
		"cannot be observed":               "observe",
		"hides what runs":                  "observe what was started",
		"says that all runs":               "it runs",
		"forgets digests":                  "observe its digest",
		"names wrongly":                    "observe its name",
		"mixes services up":                "observe which service it is of",
		"forgets when it started":          "observe when it started",
		"hides images":                     "the image among them",
		"forgets who keeps":                "among those that are kept",
		"loads once only":                  "load image",
		"keeps images for ever":            "observe after the image is removed",
		"removes what is used":             "ErrInUse",
		"removes what others keep":         "ErrInUse",
		"makes networks once only":         "make network",
		"makes no networks":                "observe",
		"keeps networks":                   "observe after all is removed",
		"loses volumes":                    "the volume alone",
		"keeps volumes":                    "no volume",
		"removes volumes once only":        "remove volume",
		"needs no image":                   "create without the image",
		"makes it twice":                   "create the same again",
		"takes what is not there for well": "start what is not there",
		"starts once only":                 "start again",
		"starts nothing":                   "the server's health",
		"logs without times":               "the time of a line",
		"logs backwards":                   "the order of lines",
		"writes as somebody else":          "belongs to",
		"stops once only":                  "stop again",
		"stops nothing":                    "the server's health after it was stopped",
		"removes once only":                "remove",
		"removes what runs":                "remove a container that runs",
		"keeps containers":                 "observe after all is removed",
		"leaves what it ran":               "after throw-away runs",
		"mounts all to be written to":      "write on a shelf",
		"runs without the shelves":         "run probe",
		"runs beyond its end":              "beyond the end of the context",
		"hides codes":                      "run a command that there is not",
		"passes over since":                "logs since",
		"passes over tail":                 "the last line",
		"does not follow":                  "follow the log",
		"hides its neighbours":             "neighbours",
	} {
		t.Run(bend, func(t *testing.T) {
			t.Parallel()
			err := Test(context.Background(), bench(t, bend))
			if err == nil {
				t.Fatal("it passes")
			}
			if !strings.Contains(err.Error(), says) || !strings.Contains(err.Error(), "expected:") {
				t.Errorf("it says\n%v\nwant %q in it", err, says)
			}
		})
	}
}
