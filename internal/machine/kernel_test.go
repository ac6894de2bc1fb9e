package machine

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"

	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/testbuild"

	"golang.org/x/sys/unix"
)

// childEnv makes of the test program a child that is asked about paths and
// answers each with a letter: d for a folder it could list and enter, w for one
// it could also create and remove a file in, r for a file it could read, - for
// none of these.
const childEnv = "COZYSHELF_TEST_CHILD"

// TestMain lets the test program be the child that asks the kernel.
func TestMain(m *testing.M) {
	if os.Getenv(childEnv) == "" {
		os.Exit(m.Run())
	}
	// On this thread, where all that follows is done: root is to have no powers.
	runtime.LockOSThread()
	head := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var none [2]unix.CapUserData
	if err := unix.Capset(&head, &none[0]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	in, out := bufio.NewScanner(os.Stdin), bufio.NewWriter(os.Stdout)
	for in.Scan() {
		var p string
		if err := json.Unmarshal(in.Bytes(), &p); err != nil {
			os.Exit(2)
		}
		out.WriteByte(try1(p))
	}
	out.Flush()
	os.Exit(0)
}

// try1 really does what a server would do.
func try1(p string) byte {
	if strings.HasSuffix(p, "/") {
		if d, err := os.ReadDir(p); err != nil || len(d) > 0 && unix.Access(p+d[0].Name(), unix.F_OK) != nil {
			return '-'
		}
		if unix.Access(p+".", unix.F_OK) != nil {
			return '-'
		}
		probe := p + ".probe"
		f, err := os.OpenFile(probe, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return 'd'
		}
		f.Close()
		if os.Remove(probe) != nil {
			return 'd'
		}
		return 'w'
	}
	f, err := os.Open(p)
	if err != nil {
		return '-'
	}
	defer f.Close()
	if n, err := f.Read(make([]byte, 1)); n != 1 || err != nil {
		return '-'
	}
	return 'r'
}

// askKernel asks the kernel about paths, as a child with the account's numbers and no
// capability.
func askKernel(t *testing.T, id permit.Identity, paths []string) []byte {
	t.Helper()
	var in bytes.Buffer
	for _, p := range paths {
		b, err := json.Marshal(p)
		if err != nil {
			t.Fatal(err)
		}
		in.Write(append(b, '\n'))
	}
	exe, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command("/proc/self/fd/3")
	self, err := os.Open(exe)
	if err != nil {
		t.Fatal(err)
	}
	defer self.Close()
	// The child could not pass the folder in which tests are built.
	c.ExtraFiles = []*os.File{self}
	c.Env = []string{childEnv + "=1"}
	c.Stdin = &in
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: id.UID, Gid: id.Groups[0],
		Groups: id.Groups}}
	var said bytes.Buffer
	c.Stderr = &said
	out, err := c.Output()
	if err != nil || len(out) != len(paths) {
		t.Fatalf("the child gave %d answers to %d questions: %v %s", len(out), len(paths), err, said.String())
	}
	return out
}

// dice makes a random tree and gives its paths, folders ending in "/".
func dice(t *testing.T, r *rand.Rand, root string, ids []uint32) []string {
	t.Helper()
	type node struct {
		path   string
		folder bool
	}
	nodes := []node{{root, true}}
	if err := os.Mkdir(root, 0o755); err != nil {
		t.Fatal(err)
	}
	for i := range 3 + r.IntN(12) {
		var up node
		for up = nodes[r.IntN(len(nodes))]; !up.folder; up = nodes[r.IntN(len(nodes))] {
			continue
		}
		if r.IntN(3) > 0 {
			up = nodes[0] // sometimes deep, mostly not
			for j := len(nodes) - 1; j >= 0 && r.IntN(2) == 0; j-- {
				if nodes[j].folder {
					up = nodes[j]
				}
			}
		}
		n := node{filepath.Join(up.path, fmt.Sprintf("%d", i)), r.IntN(5) < 2}
		var err error
		if n.folder {
			err = os.Mkdir(n.path, 0o755)
		} else {
			err = os.WriteFile(n.path, []byte("x"), 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
		nodes = append(nodes, n)
	}
	pick := func() uint32 { return ids[r.IntN(len(ids))] }
	var paths []string
	for i := len(nodes) - 1; i >= 0; i-- {
		n := nodes[i]
		if err := os.Chown(n.path, int(pick()), int(pick())); err != nil {
			t.Fatal(err)
		}
		mode := uint32(r.IntN(0o1000))
		if r.IntN(2) == 0 { // half of them likely
			mode = []uint32{0o755, 0o750, 0o700, 0o775, 0o711, 0o644, 0o640, 0o777, 0o555}[r.IntN(9)]
		}
		if n.folder && r.IntN(4) == 0 {
			mode |= unix.S_ISGID
		}
		if n.folder && r.IntN(6) == 0 {
			mode |= unix.S_ISVTX
		}
		if err := unix.Chmod(n.path, mode); err != nil {
			t.Fatal(err)
		}
		for _, kind := range []string{aclAccess, aclDefault} {
			if r.IntN(3) > 0 || kind == aclDefault && !n.folder {
				continue
			}
			perm := func() permit.Perm { a, b := permit.Perm(r.IntN(8)), permit.Perm(r.IntN(8)); return a | b }
			list := []permit.Entry{{Tag: permit.UserObj, Perm: perm()}, {Tag: permit.GroupObj, Perm: perm()},
				{Tag: permit.Other, Perm: perm()}, {Tag: permit.Mask, Perm: perm()}}
			used := map[permit.Entry]bool{}
			for range r.IntN(5) {
				e := permit.Entry{Tag: []permit.Tag{permit.User, permit.Group}[r.IntN(2)], ID: pick()}
				if !used[e] {
					used[e] = true
					list = append(list, permit.Entry{Tag: e.Tag, ID: e.ID, Perm: perm()})
				}
			}
			if err := unix.Setxattr(n.path, kind, permit.FormatACL(list), 0); err != nil {
				t.Fatalf("setting an ACL on %s: %v", n.path, err)
			}
		}
		if n.folder {
			paths = append(paths, n.path+"/")
		} else {
			paths = append(paths, n.path)
		}
	}
	return paths
}

// TestAuditsOfWholeTreesAgreeWithTheKernel makes thousands of random trees and
// compares what is computed for random accounts, uid 0 among them, with what a
// child with those numbers really can list, read and write.
func TestAuditsOfWholeTreesAgreeWithTheKernel(t *testing.T) {
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give files to others")
	}
	trees := 3000
	if testing.Short() {
		trees = 300
	}
	r := rand.New(rand.NewPCG(20261123, 7))
	ids := []uint32{0, 41001, 41002, 41003, 41004}
	dir := testbuild.Folder(t)
	roots := make([]string, trees)
	paths := make([][]string, trees)
	var all []string
	for i := range roots {
		roots[i] = filepath.Join(dir, fmt.Sprint(i))
		paths[i] = dice(t, r, roots[i], ids)
		all = append(all, paths[i]...)
	}
	wrong, compared := 0, 0
	var granted [3]int
	for range 6 {
		id := permit.Identity{UID: ids[r.IntN(len(ids))]}
		for range 1 + r.IntN(3) {
			id.Groups = append(id.Groups, ids[r.IntN(len(ids))])
		}
		said := askKernel(t, id, all)
		for i, root := range roots {
			need := permit.Need{Write: true, Each: true, Workers: 1 + r.IntN(2)}
			report, err := permit.Audit(&Tree{}, root, id, need)
			if err != nil {
				t.Fatal(err)
			}
			fails := map[string]bool{}
			for _, p := range report.Problems {
				fails[p.Need+" "+p.Path] = true
			}
			// A server finds only what it can list its way to.
			found := map[string]bool{}
			for j, p := range paths[i] {
				found[p] = said[j] == 'd' || said[j] == 'w'
			}
			reached := func(p string) bool {
				for up := filepath.Dir(strings.TrimSuffix(p, "/")); len(up) >= len(root); up = filepath.Dir(up) {
					if !found[up+"/"] {
						return false
					}
				}
				return true
			}
			var counts [3]int
			for _, p := range paths[i] {
				got := said[0]
				said = said[1:]
				if !reached(p) {
					got = '-'
				}
				clean, folder := strings.TrimSuffix(p, "/"), strings.HasSuffix(p, "/")
				for j, need := range []string{"list", "write", "read"} {
					if folder == (need == "read") {
						continue
					}
					kernel := got == []byte("dwr")[j] || need == "list" && got == 'w'
					computed := !fails[need+" "+clean]
					if need == "write" {
						computed = computed && !fails["list "+clean]
					}
					compared++
					if kernel {
						counts[j]++
						granted[j]++
					}
					if kernel != computed {
						if wrong++; wrong < 10 {
							it, _ := (&Tree{}).Item(clean)
							t.Errorf("%s %s for %+v: computed %v, the kernel says %v: %+v", need, p, id, computed,
								kernel, it)
						}
					}
				}
			}
			if counts != [3]int{report.ListableFolders, report.WritableFolders, report.ReadableFiles} {
				t.Errorf("%s for %+v: the kernel counts %v, the report says %d listable, %d writable, %d readable",
					root, id, counts, report.ListableFolders, report.WritableFolders, report.ReadableFiles)
			}
		}
	}
	t.Logf("%d trees, %d answers compared, granted: %v", trees, compared, granted)
	if compared < trees*6*5 || granted[0] == 0 || granted[1] == 0 || granted[2] == 0 {
		t.Errorf("the dice were dull: %d compared, granted %v", compared, granted)
	}
}
