package deploy

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/problem"
)

// EraseState removes a state folder: what we know to be ours, and the folder
// once it is empty; and the administrator's folder beside it. Anything else in it
// stays, and is named in the error.
func EraseState(ctx context.Context, dir string) error {
	let, err := idle(ctx, dir)
	if errors.Is(err, os.ErrNotExist) {
		return eraseAdmin(dir)
	}
	if err != nil {
		return err
	}
	defer let()
	above, err := boundary.Open(filepath.Dir(dir))
	if err != nil {
		return err
	}
	defer above.Close()
	state, err := above.Sub(filepath.Base(dir))
	if errors.Is(err, boundary.ErrLink) { // to a folder elsewhere, as the administrator made it
		state, err = boundary.Open(dir)
	}
	if err != nil {
		return err
	}
	defer state.Close()
	names, err := state.Names()
	if err != nil {
		return err
	}
	var left []string
	for _, n := range names {
		if _, ours := layout.Find(layout.State, n); !ours {
			left = append(left, n)
			continue
		}
		if err := state.RemoveAll(n); err != nil {
			return err
		}
	}
	if len(left) > 0 {
		slices.Sort(left)
		return &problem.Problem{What: "the state folder holds things that are not ours",
			Where: filepath.Join(dir, left[0]),
			Why:   fmt.Sprintf("%d of them are left where they are; what was ours is gone", len(left)),
			Fix:   "look at them, and remove the folder by hand"}
	}
	if err := above.RemoveDir(filepath.Base(dir)); err != nil && !errors.Is(err, syscall.ENOTDIR) {
		return err
	}
	return eraseAdmin(dir)
}

// eraseAdmin removes the administrator's folder of a household.
func eraseAdmin(state string) error {
	path := boundary.Admin(state)
	above, err := boundary.OpenOwn(filepath.Dir(path))
	if err != nil {
		return ignore(err, os.ErrNotExist)
	}
	defer above.Close()
	return above.RemoveAll(filepath.Base(path))
}
