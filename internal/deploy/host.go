package deploy

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/core/blueprint"
)

// Host looks at what Compare needs to know of the host.
func Host(bp blueprint.Blueprint) (blueprint.Host, error) {
	var h blueprint.Host
	there := func(p string) (bool, error) {
		_, err := os.Stat(p)
		if errors.Is(err, os.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
			return false, nil
		}
		return err == nil, err
	}
	var err error
	if h.StateExists, err = there(bp.State); err != nil {
		return h, err
	}
	if bp.Scratch != "" {
		if h.ScratchExists, err = there(bp.Scratch); err != nil {
			return h, err
		}
	}
	if bp.Backups != "" {
		if h.BackupsExist, err = there(bp.Backups); err != nil {
			return h, err
		}
	}
	h.StoreExists, _ = there(filepath.Join(bp.State, backup.Store)) // where it cannot be seen, the backup tells
	if bp.Backup != "" {
		h.BackupExists, _ = there(bp.Backup)
	}
	h.Unit, h.UnitEnabled = Unit(bp.Household, bp.Unit)
	h.SettingsExists, err = there(filepath.Join(bp.State, bp.SettingsFile()))
	if errors.Is(err, os.ErrPermission) {
		// The state folder is closed to us. If a container made from these
		// settings is there, so are they; the comparison shows the rest.
		h.SettingsExists, err = true, nil
	}
	return h, err
}
