package machine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"cozyshelf/internal/core/permit"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"
)

// MountsBelow gives the mounts below a folder, as paths below it.
func MountsBelow(folder string) ([]string, error) {
	list, err := mountinfo.GetMounts(nil)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, m := range list {
		if m.Mountpoint == folder || !permit.Below(m.Mountpoint, folder) {
			continue
		}
		rel, err := filepath.Rel(folder, m.Mountpoint)
		if err == nil && !slices.Contains(out, rel) {
			out = append(out, rel)
		}
	}
	slices.Sort(out)
	return out, nil
}

// MountsAt describes what a folder lies on and what is mounted below it, so that
// a change shows.
func MountsAt(folder string) string {
	list, err := mountinfo.GetMounts(nil)
	if err != nil {
		return ""
	}
	var b strings.Builder
	if m := over(list, folder); m != nil {
		fmt.Fprintf(&b, "%d %s %s", m.ID, m.FSType, m.Source)
	}
	for _, m := range list {
		if m.Mountpoint != folder && permit.Below(m.Mountpoint, folder) {
			fmt.Fprintf(&b, "; %d %s", m.ID, m.Mountpoint)
		}
	}
	return b.String()
}

// MountPoints gives what is mounted below a folder, as paths that begin with the folder as it is
// named.
func MountPoints(folder string) []string {
	real, err := Patiently(func() (string, error) { return filepath.EvalSymlinks(folder) })
	if err != nil {
		return nil
	}
	below, err := MountsBelow(real)
	if err != nil {
		return nil
	}
	for i, rel := range below {
		below[i] = filepath.Join(folder, rel)
	}
	return below
}

// WatchMounts calls do once at the start, and whenever something is mounted or
// unmounted, until the context ends. The kernel tells (proc(5), /proc/self/mounts), but was seen to
// pass over a mount that followed an unmount; so the list is also compared every
// second.
func WatchMounts(ctx context.Context, do func()) error {
	f, err := os.Open("/proc/self/mountinfo")
	if err != nil {
		return err
	}
	defer f.Close()
	was := ""
	fds := []unix.PollFd{{Fd: int32(f.Fd()), Events: unix.POLLPRI}}
	for ctx.Err() == nil {
		b, err := os.ReadFile("/proc/self/mountinfo")
		if err != nil {
			return err
		}
		if now := string(b); now != was {
			was = now
			do()
		}
		if _, err := unix.Poll(fds, 1000); err != nil && !errors.Is(err, unix.EINTR) {
			return err
		}
	}
	return nil
}

// Unmounted gives the place at or above a folder where /etc/fstab would have
// something mounted, and nothing is; nothing where all is as it says.
func Unmounted(folder string) string {
	b, err := os.ReadFile("/etc/fstab")
	if err != nil {
		return ""
	}
	mounts, err := mountinfo.GetMounts(nil)
	if err != nil {
		return ""
	}
	return unmounted(string(b), folder, func(p string) bool {
		return slices.ContainsFunc(mounts, func(m *mountinfo.Info) bool { return m.Mountpoint == p })
	})
}

func unmounted(fstab, folder string, mounted func(string) bool) string {
	for line := range strings.Lines(fstab) {
		f := strings.Fields(line)
		if len(f) < 3 || strings.HasPrefix(f[0], "#") || f[2] == "swap" || !strings.HasPrefix(f[1], "/") ||
			f[1] == "/" {
			continue
		}
		// Spaces are written as \040 (fstab(5)).
		point := filepath.Clean(strings.NewReplacer(`\040`, " ", `\011`, "\t", `\134`, `\`).Replace(f[1]))
		if permit.Below(folder, point) && !mounted(point) {
			return point
		}
	}
	return ""
}
