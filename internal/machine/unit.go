package machine

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// Units gives the folder where systemd reads this account's units, and nothing
// where there is no systemd. COZYSHELF_UNITS names another folder.
func Units() string {
	if dir := os.Getenv("COZYSHELF_UNITS"); dir != "" {
		return dir
	}
	// sd_booted(3): this folder is there where systemd runs the machine.
	if _, err := os.Stat("/run/systemd/system"); err != nil {
		return ""
	}
	if os.Getuid() == 0 {
		return "/etc/systemd/system"
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(dir, "systemd", "user")
}

// EnableUnit lets systemd start a unit with the machine, or, unwanted, no longer.
// It makes the same link that systemctl enable makes, and asks systemd to read its
// units again where it runs.
func EnableUnit(dir, name, target string, wanted bool) error {
	wants := filepath.Join(dir, target+".wants")
	link := filepath.Join(wants, name)
	if !wanted {
		if err := os.Remove(link); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		_ = os.Remove(wants) // it stays where others are in it
	} else {
		if err := os.MkdirAll(wants, 0o755); err != nil {
			return err
		}
		if err := os.Symlink(filepath.Join(dir, name), link); err != nil && !errors.Is(err, os.ErrExist) {
			return err
		}
	}
	return reload()
}

// UnitEnabled reports whether systemd starts a unit with the machine.
func UnitEnabled(dir, name, target string) bool {
	to, err := os.Readlink(filepath.Join(dir, target+".wants", name))
	return err == nil && to == filepath.Join(dir, name)
}

func reload() error {
	if _, err := os.Stat("/run/systemd/system"); err != nil || os.Getenv("COZYSHELF_UNITS") != "" {
		return nil
	}
	args := []string{"daemon-reload"}
	if os.Getuid() != 0 {
		args = []string{"--user", "daemon-reload"}
	}
	c := exec.Command("systemctl", args...)
	c.WaitDelay = 10 * time.Second
	if out, err := c.CombinedOutput(); err != nil {
		return errors.New("systemctl " + strings.Join(args, " ") + ": " + strings.TrimSpace(string(out)))
	}
	return nil
}
