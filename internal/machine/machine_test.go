package machine

import (
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/testbuild"

	"golang.org/x/sys/unix"
)

// TestDecisionsAgreeWithTheKernel makes files with random owners, modes and
// ACLs, and compares what is computed with what the kernel tells a child that
// has the account's numbers and no capability.
func TestDecisionsAgreeWithTheKernel(t *testing.T) {
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give files to others")
	}
	if _, err := exec.LookPath("setfacl"); err != nil {
		testbuild.Missing(t, "setfacl")
	}
	dir := t.TempDir()
	for d := dir; d != "/"; d = filepath.Dir(d) {
		if st, err := os.Stat(d); err != nil || st.Mode().Perm()&0o001 == 0 {
			if err := os.Chmod(d, st.Mode().Perm()|0o011); err != nil {
				t.Fatal(err)
			}
		}
	}
	r := rand.New(rand.NewPCG(20261123, 1))
	ids := []int{41001, 41002, 41003}
	pick := func() int { return ids[r.IntN(len(ids))] }
	var paths []string
	var acls strings.Builder
	for i := range 400 {
		p := filepath.Join(dir, fmt.Sprintf("f%03d", i))
		if err := os.WriteFile(p, []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chown(p, pick(), pick()); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(p, os.FileMode(r.IntN(512))); err != nil {
			t.Fatal(err)
		}
		if r.IntN(2) == 0 {
			// setfacl --restore takes many files at once.
			perm := func() string { return permit.Perm(r.IntN(8)).String() }
			fmt.Fprintf(&acls, "# file: %s\n", p)
			fmt.Fprintf(&acls, "user::%s\ngroup::%s\nother::%s\nmask::%s\n", perm(), perm(), perm(), perm())
			used := map[string]bool{}
			for range r.IntN(4) {
				e := fmt.Sprintf("%s:%d", []string{"user", "group"}[r.IntN(2)], pick())
				if !used[e] {
					used[e] = true
					fmt.Fprintf(&acls, "%s:%s\n", e, perm())
				}
			}
			acls.WriteString("\n")
		}
		paths = append(paths, p)
	}
	cmd := exec.Command("setfacl", "--restore=-")
	cmd.Stdin = strings.NewReader(acls.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("setfacl: %v\n%s", err, out)
	}
	checked, wrong := 0, 0
	for range 12 {
		id := permit.Identity{UID: uint32(pick())}
		for range 1 + r.IntN(2) {
			id.Groups = append(id.Groups, uint32(pick()))
		}
		// test(1) asks the kernel with faccessat and the effective ids.
		child := exec.Command("sh", "-c",
			`for f; do for p in r w x; do [ -$p "$f" ] && printf 1 || printf 0; done; done`, "sh")
		child.Args = append(child.Args, paths...)
		child.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: id.UID, Gid: id.Groups[0],
			Groups: id.Groups}}
		out, err := child.Output()
		if err != nil || len(out) != 3*len(paths) {
			t.Fatalf("the child said %d letters, %v", len(out), err)
		}
		for i, p := range paths {
			it, err := (&Tree{}).Item(p)
			if err != nil {
				t.Fatal(err)
			}
			for j, want := range []permit.Perm{permit.Read, permit.Write, permit.Exec} {
				checked++
				d := permit.Decide(id, it.Attrs, want)
				if d.Granted != (out[3*i+j] == '1') {
					if wrong++; wrong > 8 {
						continue
					}
					t.Errorf("%s for %+v, %s: computed %+v, the kernel says %c; %+v", p, id, want, d, out[3*i+j],
						it.Attrs)
				}
			}
		}
	}
	if checked < 10000 {
		t.Errorf("only %d decisions were compared", checked)
	}
}

// TestRemediesMendWhatTheySay carries out the commands of the ACL remedy on
// random trees: afterwards nothing may be left to mend, also for what comes later.
func TestRemediesMendWhatTheySay(t *testing.T) {
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give files to others")
	}
	if _, err := exec.LookPath("setfacl"); err != nil {
		testbuild.Missing(t, "setfacl")
	}
	r := rand.New(rand.NewPCG(20261123, 2))
	id := permit.Identity{UID: 41001, Groups: []uint32{41001}}
	for round := range 12 {
		dir := filepath.Join(t.TempDir(), "it's a shelf")
		var folders []string
		for i := range 12 {
			at := dir
			if i > 0 {
				at = filepath.Join(folders[r.IntN(len(folders))], fmt.Sprint("d", i))
			}
			folders = append(folders, at)
			if err := os.Mkdir(at, 0o755); err != nil {
				t.Fatal(err)
			}
			for j := range 3 {
				p := filepath.Join(at, fmt.Sprint("f", j))
				if err := os.WriteFile(p, nil, 0o600); err != nil {
					t.Fatal(err)
				}
				if err := os.Chmod(p, os.FileMode(r.IntN(512))); err != nil {
					t.Fatal(err)
				}
				if err := os.Chown(p, 41002+r.IntN(2), 41002+r.IntN(2)); err != nil {
					t.Fatal(err)
				}
			}
		}
		for _, at := range folders {
			if err := os.Chmod(at, os.FileMode(r.IntN(512))); err != nil {
				t.Fatal(err)
			}
		}
		need := permit.Need{Write: round%2 == 0}
		before, err := permit.Audit(&Tree{}, dir, id, need)
		if err != nil || len(before.Problems) == 0 {
			t.Fatalf("round %d: nothing to mend: %+v, %v", round, before, err)
		}
		whole := false
		for _, m := range permit.Remedies(&Tree{}, before, id, permit.Who{UID: id.UID, Groups: id.Groups}, need) {
			if m.ID != "acl-user" {
				continue
			}
			whole = m.Targets[0].Path == dir
			for _, c := range m.Commands {
				if out, err := exec.Command("sh", "-c", c).CombinedOutput(); err != nil {
					t.Fatalf("round %d: %s: %v\n%s", round, c, err, out)
				}
			}
		}
		files := before.Files
		if whole {
			if files++; os.WriteFile(filepath.Join(dir, "later"), nil, 0o640) != nil {
				t.Fatal("the file that comes later could not be made")
			}
		}
		after, err := permit.Audit(&Tree{}, dir, id, need)
		if err != nil || len(after.Problems) != 0 || after.ReadableFiles != files || after.Files != files {
			t.Errorf("round %d: after mending: %+v, %v", round, after, err)
		}
	}
}

func TestPortsInUseNameTheirHolderAndTheNextFree(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	port := l.Addr().(*net.TCPAddr).Port
	lo := netip.MustParseAddr("127.0.0.1")
	p := Port(lo, port)
	if p.Free || !strings.Contains(p.Holder, fmt.Sprint(os.Getpid())) || p.Next <= port {
		t.Errorf("got %+v, want it held by pid %d", p, os.Getpid())
	}
	if p := Port(netip.MustParseAddr("192.0.2.77"), port); p.Error == "" {
		t.Errorf("an address that is not ours: got %+v", p)
	}
	if n := NextPort(lo, port); n == port || n == 0 {
		t.Errorf("next free: got %d", n)
	}
}

func TestFoldersAreToldAsTheyAre(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(dir, filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	if f := folder(file); !f.Exists || f.IsFolder {
		t.Errorf("a file: got %+v", f)
	}
	if f := folder(filepath.Join(dir, "link")); !f.IsFolder || f.Real != dir {
		t.Errorf("a link: got %+v", f)
	}
	if f := folder(filepath.Join(dir, "a", "b")); f.Exists || f.Parent != dir || !f.Creatable || f.Free == 0 {
		t.Errorf("a missing folder: got %+v", f)
	}
	if f := folder(filepath.Join(file, "below")); f.IsFolder || f.Creatable {
		t.Errorf("below a file: got %+v", f)
	}
}

func TestAccountsAreFoundByNameAndNumber(t *testing.T) {
	if a := Account(household.Server{RunAs: "root"}); !a.Known || a.UID != 0 || a.Name != "root" {
		t.Errorf("root: got %+v", a)
	}
	if a := Account(household.Server{RunAs: "61234:61235"}); !a.Known || a.UID != 61234 || a.GID != 61235 ||
		a.Name != "" {
		t.Errorf("numbers: got %+v", a)
	}
	if a := Account(household.Server{RunAs: "61234:61235",
		Groups: []string{"44", "root", "61235"}}); !slices.Equal(a.Groups, []uint32{61235, 44, 0}) {
		t.Errorf("with groups: got %+v", a)
	}
	if a := Account(household.Server{RunAs: "61234:61235", Groups: []string{"no-such-group"}}); a.Known || a.Why == "" {
		t.Errorf("an unknown group: got %+v", a)
	}
	if a := Account(household.Server{RunAs: "no-such-keeper"}); a.Known || a.Why == "" {
		t.Errorf("nobody: got %+v", a)
	}
}

// TestAccountsOfDirectoryServicesAreFound lets getent and id answer for a service
// that this machine does not have.
func TestAccountsOfDirectoryServicesAreFound(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"getent": "case $1-$3 in passwd-dirwren|passwd-41888) echo dirwren:x:41888:41889::/home/x:/bin/sh;; " +
			"group-millers|group-41890) echo millers:x:41890:dirwren;; *) exit 2;; esac",
		"id": "echo 41889 41890",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"+text+"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	if a := Account(household.Server{RunAs: "dirwren"}); !a.Known || a.UID != 41888 || a.GID != 41889 ||
		!slices.Equal(a.Groups, []uint32{41889, 41890}) {
		t.Errorf("got %+v", a)
	}
	if a := Account(household.Server{RunAs: "41888:7", Groups: []string{"millers"}}); !a.Known ||
		a.Name != "dirwren" || !slices.Equal(a.Groups, []uint32{7, 41890}) {
		t.Errorf("got %+v", a)
	}
	if got := GroupName(41890); got != "millers" {
		t.Errorf("got %q", got)
	}
	if a := Account(household.Server{RunAs: "nobody-there"}); a.Known || !a.Missing {
		t.Errorf("got %+v", a)
	}
}

// TestWhatMayBeFar looks for what could be held by another machine on the way to a folder.
func TestWhatMayBeFar(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	near := filepath.Join(dir, "near", "films")
	if err := os.MkdirAll(near, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("near", filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	for p, want := range map[string]bool{
		near: false, "/": false, filepath.Join(near, "none"): false,
		filepath.Join(dir, "link"): true, filepath.Join(dir, "link", "films"): true, "films": true,
	} {
		if got := Far(p); got != want {
			t.Errorf("%s: %v, want %v", p, got, want)
		}
	}
	if os.Getuid() != 0 {
		return
	}
	// overlay and tmpfs are this machine's own; a disk of another machine is not. One that
	// nobody serves does not even answer.
	point := filepath.Join(dir, "far")
	if err := os.MkdirAll(point, 0o755); err != nil {
		t.Fatal(err)
	}
	fuse, err := os.OpenFile("/dev/fuse", os.O_RDWR, 0)
	if err != nil {
		testbuild.Missing(t, "/dev/fuse")
	}
	defer fuse.Close()
	if err := unix.Mount("nobody", point, "fuse.nobody", 0,
		fmt.Sprintf("fd=%d,rootmode=40000,user_id=0,group_id=0,allow_other", fuse.Fd())); err != nil {
		testbuild.Missing(t, "mounting by FUSE: "+err.Error())
	}
	defer unix.Unmount(point, unix.MNT_DETACH)
	for _, p := range []string{point, filepath.Join(point, "films")} {
		if !Far(p) { // or this would wait for ever
			t.Errorf("%s is taken for near", p)
		}
	}
	if Far(near) {
		t.Error("what lies beside it is taken for far")
	}
}
