package deploy

import (
	"os"
	"path/filepath"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/machine"
)

// Unit looks at a household's unit of systemd: its text, empty where there is none,
// and whether what is wanted is started with the machine.
func Unit(household string, want *blueprint.Unit) (text string, enabled bool) {
	dir := machine.Units()
	if dir == "" {
		return "", false
	}
	b, err := os.ReadFile(filepath.Join(dir, blueprint.UnitName(household)))
	if err != nil {
		return "", false
	}
	return string(b), want != nil && machine.UnitEnabled(dir, want.Name, want.Target)
}

// unit writes the unit of systemd and has it wanted.
func (d *Carrier) unit() error {
	u := d.Blueprint.Unit
	if err := os.MkdirAll(u.Dir, 0o755); err != nil {
		return err
	}
	if err := atomicfile.Replace(u.Path(), []byte(u.Text), 0o644, nil); err != nil {
		return err
	}
	return machine.EnableUnit(u.Dir, u.Name, u.Target, true)
}

// RemoveUnit takes a unit of ours from systemd.
func RemoveUnit(name string) error {
	dir := machine.Units()
	if dir == "" {
		return nil
	}
	for _, target := range []string{"multi-user.target", "default.target"} {
		if err := machine.EnableUnit(dir, name, target, false); err != nil {
			return err
		}
	}
	return ignore(os.Remove(filepath.Join(dir, name)), os.ErrNotExist)
}
