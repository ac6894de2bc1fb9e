package machine

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"cozyshelf/internal/core/encoders"
	"cozyshelf/internal/core/facts"

	"github.com/moby/sys/mountinfo"
	"golang.org/x/sys/unix"
)

// hardware fills in what the machine is.
func hardware(f *facts.Facts) {
	f.OS, f.Arch, f.CPUs = runtime.GOOS, runtime.GOARCH, runtime.NumCPU()
	f.WordBits = int(unsafe.Sizeof(uintptr(0))) * 8
	f.Processor = processor()
	var u unix.Utsname
	if unix.Uname(&u) == nil {
		f.Kernel = unix.ByteSliceToString(u.Release[:])
		f.Machine = unix.ByteSliceToString(u.Machine[:])
	}
	f.Memory, f.MemoryAvailable = memory()
	f.SharedMemory = sizeOf("/dev/shm")
	f.Timezone = Timezone()
	f.Clock = clock()
	f.Graphics = append([]facts.Device{}, Devices("/dev/dri")...)
	f.Cgroup = cgroup()
	f.Security = security()
}

// Encoders gives the devices here that may make pictures.
func Encoders() (out []encoders.Device) {
	for _, pattern := range []string{"/dev/dri/renderD*", "/dev/nvidia[0-9]*", "/dev/video[0-9]*"} {
		found, _ := filepath.Glob(pattern) // the pattern is a good one
		for _, p := range found {
			for _, d := range Devices(p) {
				if kind := encoders.KindOf(d.Path); kind != "" {
					out = append(out, encoders.Device{Path: d.Path, Driver: d.Driver, Kind: kind})
				}
			}
		}
	}
	return out
}

// processor gives the processor's name as the kernel has it.
func processor() string {
	f, err := os.Open("/proc/cpuinfo")
	if err != nil {
		return ""
	}
	defer f.Close()
	name := ""
	for s := bufio.NewScanner(f); s.Scan(); {
		key, value, _ := strings.Cut(s.Text(), ":")
		switch strings.TrimSpace(key) {
		case "model name":
			return strings.TrimSpace(value)
		case "Hardware", "Model", "cpu model":
			name = strings.TrimSpace(value)
		}
	}
	if b, err := os.ReadFile("/proc/device-tree/model"); err == nil && name == "" {
		name = strings.TrimRight(string(b), "\x00")
	}
	return name
}

// sizeOf gives the size of the file system at a path, in bytes.
func sizeOf(path string) int64 {
	var fs unix.Statfs_t
	if unix.Statfs(path, &fs) != nil {
		return 0
	}
	return int64(fs.Blocks) * int64(fs.Bsize)
}

// clock says whether the clock is kept right by something (adjtimex(2)).
func clock() facts.Clock {
	c := facts.Clock{Now: time.Now()}
	var t unix.Timex
	state, err := unix.Adjtimex(&t)
	c.Known = err == nil
	c.Synchronised = err == nil && state != unix.TIME_ERROR
	return c
}

// cgroup says which version of control groups there is, and whether memory can
// be limited by them.
func cgroup() facts.Cgroup {
	if b, err := os.ReadFile("/sys/fs/cgroup/cgroup.controllers"); err == nil {
		list := strings.Fields(string(b))
		c := facts.Cgroup{Version: 2, Known: true}
		for _, name := range list {
			c.Memory = c.Memory || name == "memory"
			c.Pids = c.Pids || name == "pids"
		}
		return c
	}
	b, err := os.ReadFile("/proc/cgroups")
	if err != nil {
		return facts.Cgroup{}
	}
	c := facts.Cgroup{Version: 1, Known: true}
	for line := range strings.Lines(string(b)) {
		f := strings.Fields(line)
		if len(f) == 4 && f[3] == "1" {
			c.Memory = c.Memory || f[0] == "memory"
			c.Pids = c.Pids || f[0] == "pids"
		}
	}
	return c
}

// security says which of the kernel's guards are at work.
func security() facts.Security {
	s := facts.Security{UserNamespaces: true}
	if b, err := os.ReadFile("/sys/fs/selinux/enforce"); err == nil {
		s.SELinux = map[string]string{"1": "enforcing", "0": "permissive"}[strings.TrimSpace(string(b))]
	}
	if b, err := os.ReadFile("/sys/module/apparmor/parameters/enabled"); err == nil {
		s.AppArmor = strings.TrimSpace(string(b)) == "Y"
	}
	if b, err := os.ReadFile("/proc/sys/user/max_user_namespaces"); err == nil {
		n, _ := strconv.Atoi(strings.TrimSpace(string(b)))
		s.UserNamespaces = n > 0
	}
	return s
}

// firewall reads what the packet filter says of a TCP port, and changes nothing.
func firewall(port int) facts.Firewall {
	if os.Getuid() != 0 {
		return facts.Firewall{Why: "only root can read its rules"}
	}
	if has("ufw") {
		if out := ask("ufw", "status"); strings.Contains(out, "Status: active") {
			return facts.UFW(out, port)
		}
	}
	if !has("nft") {
		return facts.Firewall{Why: "there is no nft to read its rules with"}
	}
	out, err := exec.Command("nft", "-j", "list", "ruleset").Output()
	if err != nil {
		return facts.Firewall{Why: "its rules cannot be read: " + err.Error()}
	}
	return facts.NFTables(out, port)
}

// disk says what a path lies on.
func disk(f *facts.Folder, at string) {
	mounts, err := mountinfo.GetMounts(nil)
	if err != nil {
		return
	}
	m := over(mounts, at)
	if m == nil {
		return
	}
	f.FSType, f.Point, f.Source = m.FSType, m.Mountpoint, m.Source
	g := (&Tree{}).Mount(at)
	f.Network, f.Ruled = g.Server, g.Ruled
	f.ReadOnly = f.ReadOnly || g.ReadOnly
	f.Private = !handsOn(m)
	f.Removable = removable(m.Major, m.Minor)
	f.ACLs = aclsWork(at)
}

// removable asks sysfs about the disk behind a partition.
func removable(major, minor int) bool {
	dir, err := filepath.EvalSymlinks(fmt.Sprintf("/sys/dev/block/%d:%d", major, minor))
	if err != nil {
		return false
	}
	for _, d := range []string{dir, filepath.Dir(dir)} {
		if b, err := os.ReadFile(filepath.Join(d, "removable")); err == nil {
			return strings.TrimSpace(string(b)) == "1" || strings.Contains(dir, "/usb")
		}
	}
	return strings.Contains(dir, "/usb")
}

// aclsWork reports whether a file system has POSIX ACLs: asking for one that is
// not there gives another answer where there are none at all.
func aclsWork(path string) bool {
	_, err := unix.Getxattr(path, aclAccess, make([]byte, 1024))
	return err != syscall.ENOTSUP
}

// Spread reports whether a folder lies on a shared mount (mount_namespaces(7)), so that a
// container sees what is mounted below it later, too.
func Spread(folder string) bool {
	if real, err := Patiently(func() (string, error) { return filepath.EvalSymlinks(folder) }); err == nil {
		folder = real
	}
	mounts, err := mountinfo.GetMounts(nil)
	if err != nil {
		return false
	}
	m := over(mounts, folder)
	return m != nil && handsOn(m)
}

func handsOn(m *mountinfo.Info) bool {
	return strings.Contains(m.Optional, "shared:") || strings.Contains(m.Optional, "master:")
}
