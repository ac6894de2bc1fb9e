package deploy

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/problem"
)

// folder makes a folder for the run-as account.
func (d *Carrier) folder(path string) error {
	return MakeFolder(path, d.owner())
}

// MakeFolder makes a folder for an account, mode 0700, and those above it that are missing;
// nil is for the caller. One that is
// there already stays the account's, or is given to it where it is empty and the caller's:
// that is how a command that was cut off leaves it.
func MakeFolder(path string, owner *atomicfile.Owner) error {
	above, err := boundary.MakeAll(filepath.Dir(path), 0o755)
	if err != nil {
		return err
	}
	defer above.Close()
	made, err := above.Mkdir(filepath.Base(path), 0o700, owner)
	if err == nil {
		return errors.Join(made.Close(), above.Sync())
	}
	if !errors.Is(err, os.ErrExist) || owner == nil {
		return ignore(err, os.ErrExist)
	}
	there, err := above.Sub(filepath.Base(path))
	if err != nil {
		return err
	}
	defer there.Close()
	now, err := there.Owner()
	if err != nil || now == *owner {
		return err
	}
	names, err := there.Names()
	if err != nil {
		return err
	}
	if now.UID != os.Geteuid() || len(names) > 0 {
		return &problem.Problem{What: "the folder belongs to somebody else", Where: path,
			Why: fmt.Sprintf("it belongs to uid %d, not to %d, and holds %d things", now.UID, owner.UID, len(names)),
			Fix: fmt.Sprintf("see what it is; chown %d:%d %s gives it to the run-as account", owner.UID, owner.GID,
				path)}
	}
	return there.Chown(*owner)
}
