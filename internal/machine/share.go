package machine

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"

	"golang.org/x/sys/unix"
)

// ReadCredentials reads a credentials file.
func ReadCredentials(path string) (blueprint.Credentials, error) {
	b, err := ReadSecret(path)
	if err != nil {
		return blueprint.Credentials{}, err
	}
	return blueprint.ParseCredentials(b)
}

// ReadSecret reads a file with a secret, up to 64 KiB. It must be a plain file that nobody
// but its owner can read, and the owner must be root or whoever runs this.
func ReadSecret(path string) ([]byte, error) {
	f, _, err := boundary.Config(path)
	if errors.Is(err, boundary.ErrForeign) {
		return nil, errors.New("it is not a plain file")
	}
	if err != nil {
		return nil, errors.New(plain(err))
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	owner := st.Sys().(*syscall.Stat_t).Uid
	switch {
	case !st.Mode().IsRegular():
		return nil, errors.New("it is not a plain file")
	case st.Mode().Perm()&0o077 != 0:
		return nil, fmt.Errorf("its mode is %04o, so others may read it", st.Mode().Perm())
	case owner != 0 && int(owner) != os.Getuid():
		return nil, fmt.Errorf("it belongs to uid %d, neither root nor you", owner)
	}
	return io.ReadAll(io.LimitReader(f, 64<<10))
}

// Stamp changes when a file does, without telling what is in it.
func Stamp(path string) string {
	var st unix.Stat_t
	if err := unix.Stat(path, &st); err != nil {
		return ""
	}
	return fmt.Sprintf("%d-%d-%d", st.Ino, st.Size, st.Mtim.Nano())
}

// share finds out about a share without mounting it: whether its host answers at
// the protocol's port, and whether the credentials can be used.
func share(path, credentials string) *facts.Share {
	s, err := household.ParseShare(path)
	if err != nil {
		return &facts.Share{Error: err.Error()}
	}
	f := &facts.Share{Kind: s.Kind, Host: s.Host}
	port := s.Port
	if port == "" {
		port = map[string]string{"nfs": "2049", "smb": "445"}[s.Kind]
	}
	c, err := net.DialTimeout("tcp", net.JoinHostPort(s.Host, port), 2*time.Second)
	if err != nil {
		f.Error = plainNet(err)
	} else {
		f.Answers = true
		c.Close()
	}
	if s.Kind == "smb" && credentials != "" {
		if _, err := ReadCredentials(credentials); err != nil {
			f.Credentials = err.Error()
		}
	}
	return f
}

// DeviceGroups gives the groups that own the devices, or those in a folder of
// devices, and may use them. Root's group is left out.
func DeviceGroups(devices []string) []uint32 {
	var out []uint32
	for _, d := range devices {
		for _, x := range Devices(d) {
			if x.GID != 0 && x.Mode&0o060 == 0o060 && !slices.Contains(out, x.GID) {
				out = append(out, x.GID)
			}
		}
	}
	return out
}

// Devices gives a device, or those in a folder such as /dev/dri.
func Devices(path string) []facts.Device {
	st, err := os.Stat(path)
	if err != nil {
		return nil
	}
	if st.IsDir() {
		var out []facts.Device
		list, _ := os.ReadDir(path) // what cannot be listed holds nothing for us
		for _, e := range list {
			if !e.IsDir() {
				out = append(out, Devices(path+"/"+e.Name())...)
			}
		}
		return out
	}
	if st.Mode()&os.ModeCharDevice == 0 {
		return nil
	}
	sys := st.Sys().(*syscall.Stat_t)
	d := facts.Device{Path: path, Mode: uint16(sys.Mode & 0o777), UID: sys.Uid, GID: sys.Gid, Group: GroupName(sys.Gid)}
	major, minor := unix.Major(uint64(sys.Rdev)), unix.Minor(uint64(sys.Rdev))
	if to, err := os.Readlink(fmt.Sprintf("/sys/dev/char/%d:%d/device/driver", major, minor)); err == nil {
		d.Driver = filepath.Base(to)
	}
	return []facts.Device{d}
}
