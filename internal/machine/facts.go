package machine

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"

	"golang.org/x/sys/unix"
)

// Gather collects the facts for a household. engine is the engine that was
// chosen, account the run-as account as Account finds it; ours tells whether a port that
// somebody holds, by name where that is known, is held for the household's own server.
// counted, unless nil, counts the files that were looked at.
func Gather(h *household.Household, engine facts.Engine, account facts.Account, counted *atomic.Int64,
	ours func(port int, holder string) bool) facts.Facts {
	f := facts.Facts{
		Taken: time.Now(), CallerUID: os.Getuid(), Engine: engine, Account: account, Devices: []facts.Device{},
	}
	hardware(&f)
	for _, d := range h.Mapped() {
		f.Devices = append(f.Devices, Devices(d)...)
	}
	f.Firewall = firewall(h.Server.Port)
	if h.Remote.HTTPS() {
		https := firewall(h.Remote.Certificate.Port)
		f.HTTPSFirewall = &https
	}
	if engine.Root != "" && !engine.Elsewhere {
		var fs unix.Statfs_t
		if unix.Statfs(engine.Root, &fs) == nil {
			f.Engine.RootFree = int64(fs.Bavail) * int64(fs.Bsize)
		}
	}
	// SELinux counts only where the kernel and the engine both have it so.
	f.Engine.Confined = engine.Confined && f.Security.SELinux == "enforcing"
	engine = f.Engine
	if f.Account.Missing {
		f.Account.Proposal = Propose(h)
	}
	bind, _ := h.Server.BindAddr() // checked when the file was read
	for _, l := range h.Listeners() {
		p := Port(bind, l.Port)
		p.Purpose, p.Ours = l.Purpose, !p.Free && ours(l.Port, p.Holder)
		f.Ports = append(f.Ports, p)
	}
	f.State = stateFolder(h.Storage.State, engine)
	audit(&f.State, f, true, counted)
	if h.Storage.Scratch != "memory" {
		f.Scratch = serverFolder(h.Storage.Scratch, f, counted)
	}
	if h.Backup.Folder != "" {
		f.Backups = serverFolder(h.Backup.Folder, f, counted)
	}
	if x := h.Remote.Certificate; len(x.Files()) > 0 {
		d := folder(x.Folder)
		audit(&d, f, false, counted)
		f.Certificate = &d
		for _, name := range x.Files() {
			if st, err := os.Stat(filepath.Join(x.Folder, name)); errors.Is(err, fs.ErrNotExist) ||
				err == nil && !st.Mode().IsRegular() {
				f.CertificateMissing = append(f.CertificateMissing, name)
			}
		}
	}
	f.Notices = noticesOf(h)
	f.Units = Units()
	for _, s := range h.Shelves {
		f.Shelves = append(f.Shelves, shelf(s, f, counted))
	}
	return f
}

// noticesOf looks at what is needed to tell receivers of what happens.
func noticesOf(h *household.Household) (out []facts.Notice) {
	for _, n := range h.Notices {
		f := facts.Notice{Name: n.Name, File: n.Secret}
		switch {
		case n.Secret != "":
			b, err := ReadSecret(n.Secret)
			if f.Secret = len(strings.TrimRight(string(b), "\r\n")); err != nil {
				f.Fault = err.Error()
			} else if f.Secret == 0 {
				f.Fault = "it is empty"
			}
		case n.Program != "":
			f.File = n.Program
			if err := Runnable(n.Program); err != nil {
				f.Fault = plain(err)
			}
		}
		out = append(out, f)
	}
	return out
}

// Runnable says why root cannot run a program of the administrator's: nil where it can. Nobody but root and the caller
// could have put it there.
func Runnable(program string) error {
	f, owner, err := boundary.Config(program)
	if err != nil {
		return err
	}
	defer f.Close()
	if owner != 0 && owner != os.Getuid() {
		return fmt.Errorf("it belongs to uid %d, neither root nor you", owner)
	}
	st, err := f.Stat()
	if err == nil && st.Mode().Perm()&0o111 == 0 {
		err = errors.New("it is not executable")
	}
	return err
}

// stateFolder gives the facts of the folder of the server's state.
func stateFolder(path string, engine facts.Engine) facts.Folder {
	d := folder(path)
	if d.Error == "" && !engine.Elsewhere {
		at := d.Path
		if !d.Exists {
			at = d.Parent
		}
		if err := atomicfile.Locks(at); err != nil {
			d.NoLocks = err.Error()
		}
	}
	if !engine.Elsewhere {
		d.Exposed = exposed(path)
	}
	return d
}

// serverFolder gives the facts of a further folder that the server writes to.
func serverFolder(path string, f facts.Facts, counted *atomic.Int64) *facts.Folder {
	d := folder(path)
	d.Exposed = exposed(path)
	audit(&d, f, true, counted)
	return &d
}

// shelf gives the facts of a shelf's folders.
func shelf(s household.Shelf, f facts.Facts, counted *atomic.Int64) facts.Shelf {
	write := s.Access == household.Change
	out := facts.Shelf{Name: s.Name, Write: write}
	for _, p := range s.Folders {
		if household.IsShare(p) {
			out.Folders = append(out.Folders, facts.Folder{Path: p, Share: share(p, s.Credentials)})
			continue
		}
		d := folder(p)
		if !d.Silent && !f.Engine.Elsewhere {
			reach := func() (struct{}, error) { return struct{}{}, boundary.Reach(p) }
			if _, err := Patiently(reach); errors.Is(err, boundary.ErrLink) {
				d.Error = linked(err)
			}
		}
		audit(&d, f, write, counted)
		out.Folders = append(out.Folders, d)
	}
	return out
}

// audit finds out what the account may do in a folder, if both are known.
func audit(d *facts.Folder, f facts.Facts, write bool, counted *atomic.Int64) {
	if !d.IsFolder || !f.Account.Known || f.Engine.Elsewhere {
		return
	}
	id, need := f.Engine.Asks(f.Account, write)
	need.Counted = counted
	r, err := Audit(d.Real, id, need)
	if err != nil {
		d.Error, d.Silent = plain(err), errors.Is(err, ErrSilent)
		return
	}
	d.Access = &r
	d.Remedies = Remedies(r, id, Who(f.Account), need)
}

// exposed gives the first folder above one of the server's own that others may write to.
// It is empty where there is none, and where this is not root: then what runs this and the
// server are one account.
func exposed(path string) string {
	if os.Geteuid() != 0 {
		return ""
	}
	err := boundary.Safe(filepath.Dir(filepath.Clean(path)))
	var pe *os.PathError
	if errors.As(err, &pe) && (errors.Is(err, boundary.ErrOpen) || errors.Is(err, boundary.ErrLink)) {
		return pe.Path
	}
	return ""
}

// linked says which link leads to a folder of a shelf.
func linked(err error) string {
	var pe *os.PathError
	if errors.As(err, &pe) {
		return pe.Path + " is a link that others could have made; name the folder that is meant"
	}
	return err.Error()
}

// folder collects the facts of one folder.
func folder(path string) facts.Folder {
	silent := facts.Folder{Path: path, Error: ErrSilent.Error(), Silent: true}
	if Silent(path) {
		return silent
	}
	// A cache may have answered for it.
	f, err := Patiently(func() (facts.Folder, error) { return folderNow(path), nil })
	if err != nil {
		return silent
	}
	return f
}

func folderNow(path string) facts.Folder {
	f := facts.Folder{Path: path}
	st, err := os.Stat(path)
	switch {
	case err == nil:
		f.Exists, f.IsFolder = true, st.IsDir()
		f.Real, err = filepath.EvalSymlinks(path)
	case errors.Is(err, os.ErrNotExist):
		err = nil
	}
	if err != nil {
		f.Error = plain(err)
	}
	at := path
	for f.Parent = filepath.Dir(path); !f.Exists; f.Parent = filepath.Dir(f.Parent) {
		if st, err := os.Stat(f.Parent); err == nil {
			at = f.Parent
			f.Creatable = st.IsDir() && unix.Faccessat(unix.AT_FDCWD, f.Parent, unix.W_OK|unix.X_OK,
				unix.AT_EACCESS) == nil
			break
		}
		if f.Parent == "/" {
			break
		}
	}
	var fs unix.Statfs_t
	if unix.Statfs(at, &fs) == nil {
		f.Free, f.Total = int64(fs.Bavail)*int64(fs.Bsize), int64(fs.Blocks)*int64(fs.Bsize)
		f.Inodes, f.InodesAll = int64(fs.Ffree), int64(fs.Files)
		f.ReadOnly = fs.Flags&unix.ST_RDONLY != 0
	}
	if real, err := filepath.EvalSymlinks(at); err == nil {
		disk(&f, real)
	}
	f.Unmounted = Unmounted(path)
	return f
}

// plain gives the cause of an error without the call's name.
func plain(err error) string {
	var pe *os.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// memory gives the machine's memory and what of it is available, in bytes.
func memory() (total, available int64) {
	f, err := os.Open("/proc/meminfo")
	if err != nil {
		return 0, 0
	}
	defer f.Close()
	for s := bufio.NewScanner(f); s.Scan(); {
		fields := strings.Fields(s.Text())
		if len(fields) < 2 {
			continue
		}
		n, _ := strconv.ParseInt(fields[1], 10, 64)
		switch fields[0] {
		case "MemTotal:":
			total = n << 10
		case "MemAvailable:":
			available = n << 10
		}
	}
	return total, available
}

// Timezone gives the machine's IANA time zone, or nothing where it is not told.
func Timezone() string {
	if tz := strings.TrimPrefix(os.Getenv("TZ"), ":"); tz != "" && tz[0] != '/' {
		if _, err := time.LoadLocation(tz); err == nil {
			return tz
		}
	}
	if p, err := filepath.EvalSymlinks("/etc/localtime"); err == nil {
		if _, zone, ok := strings.Cut(p, "zoneinfo/"); ok {
			if zone == "Etc/UTC" {
				return "UTC"
			}
			return zone
		}
	}
	if b, err := os.ReadFile("/etc/timezone"); err == nil {
		zone := strings.TrimSpace(string(b))
		if zone == "Etc/UTC" {
			return "UTC"
		}
		if _, err := time.LoadLocation(zone); err == nil {
			return zone
		}
	}
	return ""
}

// Port finds out whether a port can be listened on.
func Port(bind netip.Addr, port int) facts.Port {
	p := facts.Port{Number: port, Address: ListenAddress(bind, port)}
	err := try(bind, port)
	switch {
	case err == nil:
		p.Free = true
	case errors.Is(err, syscall.EADDRINUSE):
		p.Holder = holder(port)
		p.Next = NextPort(bind, port+1)
	default:
		p.Error = plainNet(err)
	}
	return p
}

// ListenAddress writes address and port as net.Listen takes them: for every
// address of the machine, none.
func ListenAddress(bind netip.Addr, port int) string {
	if bind.IsUnspecified() {
		return ":" + strconv.Itoa(port)
	}
	return netip.AddrPortFrom(bind, uint16(port)).String()
}

// NextPort gives the first free port from one on, within a hundred; 0 where
// there is none.
func NextPort(bind netip.Addr, from int) int {
	for p := from; p < from+100 && p <= 65535; p++ {
		if try(bind, p) == nil {
			return p
		}
	}
	return 0
}

func try(bind netip.Addr, port int) error {
	l, err := net.Listen("tcp", ListenAddress(bind, port))
	if err != nil {
		return err
	}
	return l.Close()
}

func plainNet(err error) string {
	var se syscall.Errno
	if errors.As(err, &se) {
		return se.Error()
	}
	return err.Error()
}

// holder says which program listens on a port, as far as we may know.
func holder(port int) string {
	inodes := map[string]bool{}
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		b, err := os.ReadFile(table)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(b)) {
			f := strings.Fields(line)
			// local address and port in hex, state 0A for listening
			if len(f) > 9 && f[3] == "0A" && strings.HasSuffix(f[1], fmt.Sprintf(":%04X", port)) {
				inodes["socket:["+f[9]+"]"] = true
			}
		}
	}
	fds, _ := filepath.Glob("/proc/[0-9]*/fd/*")
	for _, fd := range fds {
		if to, err := os.Readlink(fd); err == nil && inodes[to] {
			pid := strings.Split(fd, "/")[2]
			name, _ := os.ReadFile("/proc/" + pid + "/comm")
			return fmt.Sprintf("%s (pid %s)", strings.TrimSpace(string(name)), pid)
		}
	}
	return ""
}

// Addresses gives the addresses under which other machines may reach this one:
// those that are up, not loopback and not of an engine's bridges.
func Addresses() []string {
	var out []string
	list, err := net.Interfaces()
	if err != nil {
		return nil
	}
	for _, i := range list {
		if i.Flags&net.FlagUp == 0 || i.Flags&net.FlagLoopback != 0 {
			continue
		}
		if _, err := os.Stat("/sys/class/net/" + i.Name + "/bridge"); err == nil {
			continue
		}
		addrs, err := i.Addrs()
		if err != nil {
			continue
		}
		for _, a := range addrs {
			if n, ok := a.(*net.IPNet); ok && n.IP.To4() != nil {
				out = append(out, n.IP.String())
			}
		}
	}
	return out
}
