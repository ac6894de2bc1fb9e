package permit

import (
	"fmt"
	"path"
	"strings"
)

// Mount is the file system under a path, as it is mounted here, as far as it
// has a say in who may do what.
type Mount struct {
	Point    string `json:"point"`     // where it is mounted
	Type     string `json:"type"`      // as the kernel names it: ext4, btrfs, vfat, nfs4, fuse.sshfs
	Source   string `json:"source"`    // what is mounted: a device, an export
	ReadOnly bool   `json:"read_only"` // mounted read-only
	// The options that rule in place of stored owners and modes; empty where none do.
	Ruled string  `json:"ruled"`
	Only  *uint32 `json:"only,omitempty"`
	// Daemon is true where a program in user space judges each access by
	// itself, and modes are only shown.
	Daemon bool `json:"daemon"`
	NoACL  bool `json:"no_acl"` // it has no POSIX ACLs
	// Server is true where another machine has the last word.
	Server bool `json:"server"`
}

// MountOf judges a mount by its type and options. fs and super are the options
// of the mount and of the file system, as /proc/self/mountinfo has them.
func MountOf(point, fstype, source, fs, super string) Mount {
	g := Mount{Point: point, Type: fstype, Source: source}
	options := map[string]string{}
	for _, list := range []string{super, fs} {
		for _, o := range strings.Split(list, ",") {
			k, v, _ := strings.Cut(o, "=")
			options[k] = v
		}
	}
	_, g.ReadOnly = options["ro"]
	pick := func(names ...string) string {
		var out []string
		for _, n := range names {
			if v, ok := options[n]; ok {
				out = append(out, strings.TrimSuffix(n+"="+v, "="))
			}
		}
		return strings.Join(out, ",")
	}
	switch {
	case fstype == "vfat" || fstype == "msdos" || fstype == "exfat" || fstype == "ntfs3" || fstype == "ntfs" ||
		fstype == "hfs" || fstype == "iso9660" || fstype == "udf":
		g.Ruled = pick("uid", "gid", "umask", "fmask", "dmask")
		if g.Ruled == "" {
			g.Ruled = "defaults"
		}
	case fstype == "cifs" || fstype == "smb3":
		g.Server = true
		if _, posix := options["posix"]; !posix {
			g.Ruled = pick("uid", "forceuid", "gid", "forcegid", "file_mode", "dir_mode", "noperm")
			if g.Ruled == "" {
				g.Ruled = "defaults"
			}
		}
	case fstype == "nfs" || fstype == "nfs4" || fstype == "ceph" || fstype == "9p" || fstype == "afs":
		g.Server = true
	case fstype == "fuse" || fstype == "fuseblk" || strings.HasPrefix(fstype, "fuse."):
		if _, all := options["allow_other"]; !all {
			var uid uint32
			fmt.Sscan(options["user_id"], &uid)
			g.Only = &uid
		}
		_, kernel := options["default_permissions"]
		g.Daemon = !kernel
		g.Server = strings.HasPrefix(fstype, "fuse.")
		if fstype == "fuseblk" {
			g.Ruled = pick("user_id", "group_id", "default_permissions")
		}
	}
	return g
}

// IDRange maps a run of ids inside a user namespace to ids of the host.
type IDRange struct {
	Inside uint32 `json:"inside"`
	Host   uint32 `json:"host"`
	Count  uint32 `json:"count"`
}

// OnHost gives the host's id for one inside; ok is false where none is mapped.
// No ranges mean that nothing is shifted.
func OnHost(ranges []IDRange, id uint32) (host uint32, ok bool) {
	if len(ranges) == 0 {
		return id, true
	}
	for _, r := range ranges {
		if id >= r.Inside && id-r.Inside < r.Count {
			return r.Host + (id - r.Inside), true
		}
	}
	return 0, false
}

// confined are the SELinux types that a confined container may read; those
// that it may also write come first.
var confined = []string{"container_file_t", "svirt_sandbox_file_t", "container_ro_file_t", "container_share_t",
	"public_content_t", "usr_t"}

// labelled reports whether a confined container may use a file of an SELinux
// label, such as "system_u:object_r:container_file_t:s0". A label with
// categories belongs to one container alone.
func labelled(label string, write bool) bool {
	parts := strings.SplitN(label, ":", 4)
	if len(parts) < 3 {
		return label == ""
	}
	if len(parts) == 4 && strings.Contains(parts[3], "c") {
		return false
	}
	allowed := confined
	if write {
		allowed = confined[:2]
	}
	for _, t := range allowed {
		if parts[2] == t {
			return true
		}
	}
	return false
}

// Below reports whether p is root or lies below it.
func Below(p, root string) bool {
	return p == root || strings.HasPrefix(p, strings.TrimSuffix(path.Clean(root), "/")+"/")
}
