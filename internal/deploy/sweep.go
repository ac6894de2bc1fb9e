package deploy

import (
	"path/filepath"
	"strings"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/machine"
)

// SweepLeft removes what a command that was cut off left half-written. Whoever calls it
// holds the lock of the household. What the server itself writes in parts is its own to
// remove.
func SweepLeft(state string) {
	boundary.Sweep(state)
	if dir := machine.Units(); dir != "" {
		unit := blueprint.UnitName(blueprint.ID(state))
		atomicfile.Sweep(dir, func(name string) bool { return name == unit })
	}
	sweep(state, func(name string) bool {
		rest, ok := strings.CutPrefix(name, boundary.Unfinished)
		return ok && !strings.HasPrefix(rest, "backup-")
	})
}

// SweepSettings removes settings files that no longer count: all but that of what is
// deployed.
func SweepSettings(bp blueprint.Blueprint) {
	sweep(bp.State, func(name string) bool {
		ok, _ := filepath.Match(layout.Settings, name) // the pattern is sound
		return ok && name != bp.SettingsFile()
	})
}

// mostSwept is how many names of the state folder are looked at; it is the server's.
const mostSwept = 100_000

// sweep removes names from the state folder.
func sweep(state string, goes func(name string) bool) {
	dir, err := boundary.Open(state)
	if err != nil {
		return
	}
	defer dir.Close()
	names, _ := dir.Some(mostSwept)
	for _, n := range names {
		if goes(n) {
			_ = dir.RemoveAll(n) // it stays until the next time
		}
	}
}
