package deploy

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/ledger"
)

// Deployed is what was deployed: enough to deploy it once more, also by another
// version of the program.
type Deployed struct {
	At      time.Time         `json:"at"`
	Version string            `json:"version"`
	Labels  map[string]string `json:"labels"` // of the server
	// Others are the labels of what else runs.
	Others    []map[string]string `json:"others,omitempty"`
	Settings  string              `json:"settings"`  // the settings file's text
	Household string              `json:"household"` // the text of the household file that it was made from
	// File is the household file's own text, where that was another: it had been changed since,
	// and stayed so when a deployment was taken back.
	File   string   `json:"file,omitempty"`
	Images []string `json:"images"` // programs that this household used, the latest first
}

// FileText is what the household file said at that time.
func (d *Deployed) FileText() string {
	if d.File != "" {
		return d.File
	}
	return d.Household
}

// Server is the server that ran.
func (d *Deployed) Server() (blueprint.Service, error) {
	s, ok := blueprint.FromLabels(d.Labels)
	if !ok {
		return s, errors.New("the record of the deployment is damaged")
	}
	return s, nil
}

// Services is all that ran.
func (d *Deployed) Services() ([]blueprint.Service, error) {
	s, err := d.Server()
	out := []blueprint.Service{s}
	for _, l := range d.Others {
		other, ok := blueprint.FromLabels(l)
		if !ok {
			err = errors.New("the record of the deployment is damaged")
		}
		out = append(out, other)
	}
	return out, err
}

// Describe writes down what a blueprint deploys.
func Describe(bp blueprint.Blueprint) *Deployed {
	d := &Deployed{At: time.Now(), Version: bp.Server().Version, Settings: string(bp.SettingsJSON())}
	for _, s := range bp.Services {
		if s.Key == blueprint.ServerKey {
			d.Labels = s.Labels()
		} else {
			d.Others = append(d.Others, s.Labels())
		}
	}
	return d
}

// Record is what is kept to undo a deployment.
type Record struct {
	Former *Deployed `json:"former"`
	New    *Deployed `json:"new"`
	Backup string    `json:"backup,omitempty"` // of the store as the former left it, where the program changed
}

// ReadDeployed reads what was deployed last. It is nil where that is not known, or
// where somebody else wrote it.
func ReadDeployed(state string) *Deployed {
	var d Deployed
	if readKept(state, ledger.Deployed, &d) != nil {
		return nil
	}
	return &d
}

// WriteDeployed notes down what is deployed now.
func WriteDeployed(state string, d *Deployed) error {
	b, err := json.Marshal(d)
	if err != nil {
		return err
	}
	dir, err := ledger.OpenFolder(state)
	if err != nil {
		return err
	}
	defer dir.Close()
	return dir.Replace(ledger.Deployed, b, 0o600, nil)
}

// ForgetDeployed notes down that nothing is deployed any more.
func ForgetDeployed(state string) error {
	dir, err := boundary.OpenAdmin(state, false)
	if err != nil {
		return ignore(err, os.ErrNotExist)
	}
	defer dir.Close()
	return dir.Remove(ledger.Kept + "/" + ledger.Deployed)
}

// Keep writes a record for the ledger to name.
func (r Record) Keep(state string) (name string, err error) {
	f, err := ledger.Keep(state, ledger.Deployment)
	if err != nil {
		return "", err
	}
	err = json.NewEncoder(f).Encode(r)
	// One that is not whole is named by no entry.
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return "", err
	}
	return filepath.Base(f.Name()), nil
}

// ReadRecord reads such a record.
func ReadRecord(state, name string) (Record, error) {
	var r Record
	err := readKept(state, name, &r)
	if err == nil && (r.Former == nil || r.New == nil) {
		err = fmt.Errorf("%s is no record of a deployment", name)
	}
	return r, err
}

func readKept(state, name string, v any) error {
	f, err := ledger.OpenKept(state, name)
	if err != nil {
		return err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, 16<<20))
	if err != nil {
		return err
	}
	return json.Unmarshal(b, v)
}

// Remember puts a program in front of those that a household used, and gives the ones that
// are kept: the last two.
func Remember(images []string, now string) []string {
	kept := []string{now}
	for _, i := range images {
		if i != now && len(kept) < keptImages {
			kept = append(kept, i)
		}
	}
	return kept
}

// keptImages is how many programs are kept: the one that runs, and the one to go
// back to.
const keptImages = 2
