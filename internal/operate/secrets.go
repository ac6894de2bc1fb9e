package operate

import (
	"encoding/json"
	"path/filepath"
	"strings"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
)

// giveSecrets puts into the state folder what the server needs to send notices and to keep its name: it cannot read
// the files of the administrator that the household file names. It is written anew each time, so that a secret that
// was changed counts after the next deploy.
func (h *House) giveSecrets() error {
	if h.Household == nil {
		return nil
	}
	given := map[string]string{}
	give := func(name, what, file string) error {
		if file == "" {
			return nil
		}
		b, err := machine.ReadSecret(file)
		if err != nil {
			return &problem.Problem{What: "the secret for " + what + " cannot be used", Where: file,
				Why: err.Error(), Fix: "make it a file of root with mode 0600, and run cozyshelf deploy again", Err: err}
		}
		given[name] = strings.TrimRight(string(b), "\r\n")
		return nil
	}
	for _, n := range h.Household.Notices {
		if err := give(n.Name, "the notices to "+n.Name, n.Secret); err != nil {
			return err
		}
	}
	if err := give(layout.SecretOfName, "the name's record", h.Household.Remote.Name.Secret); err != nil {
		return err
	}
	if len(given) == 0 {
		dir, err := boundary.Open(h.State())
		if err != nil {
			return nil // there is nothing that could be left
		}
		defer dir.Close()
		return dir.RemoveAll(layout.Secrets)
	}
	text, err := json.Marshal(given)
	if err != nil {
		return err
	}
	return atomicfile.Replace(filepath.Join(h.State(), layout.Secrets), text, 0o600, h.Owner())
}
