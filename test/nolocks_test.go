package test

import (
	"context"
	"os"
	"strings"
	"sync"
	"syscall"
	"testing"

	"cozyshelf/internal/demo"
	"cozyshelf/internal/testbuild"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
)

// lockless is a file of a folder that is mounted without locks, as shares without a
// lock service are: fcntl(2) and flock(2) give ENOLCK.
type lockless struct{ fs.LoopbackNode }

func (*lockless) Getlk(context.Context, fs.FileHandle, uint64, *fuse.FileLock, uint32, *fuse.FileLock) syscall.Errno {
	return syscall.ENOLCK
}

func (*lockless) Setlk(context.Context, fs.FileHandle, uint64, *fuse.FileLock, uint32) syscall.Errno {
	return syscall.ENOLCK
}

func (*lockless) Setlkw(context.Context, fs.FileHandle, uint64, *fuse.FileLock, uint32) syscall.Errno {
	return syscall.ENOLCK
}

// WrapChild makes what lies below such as well.
func (n *lockless) WrapChild(_ context.Context, ops fs.InodeEmbedder) fs.InodeEmbedder {
	return &lockless{fs.LoopbackNode{RootData: n.RootData}}
}

// noLocks mounts a folder onto another, without locks.
func noLocks(t *testing.T, from, onto string) (unmount func()) {
	t.Helper()
	if f, err := os.OpenFile("/dev/fuse", os.O_RDWR, 0); err != nil || os.Getuid() != 0 {
		testbuild.Missing(t, "root and /dev/fuse")
	} else {
		f.Close()
	}
	var st syscall.Stat_t
	if err := syscall.Stat(from, &st); err != nil {
		t.Fatal(err)
	}
	root := &fs.LoopbackRoot{Path: from, Dev: uint64(st.Dev)}
	top := &lockless{fs.LoopbackNode{RootData: root}}
	root.RootNode = top
	server, err := fs.Mount(onto, top, &fs.Options{MountOptions: fuse.MountOptions{AllowOther: true, EnableLocks: true,
		DirectMount: true, FsName: "lockless", Name: "lockless", Options: []string{"default_permissions"}}})
	if err != nil {
		t.Fatal(err)
	}
	unmount = sync.OnceFunc(func() {
		if err := server.Unmount(); err != nil {
			t.Errorf("unmounting: %v", err)
		}
	})
	t.Cleanup(unmount)
	return unmount
}

// TestAStateFolderWithoutLocks has the state on a file system that knows no locks.
func TestAStateFolderWithoutLocks(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		from := testbuild.Folder(t)
		m := newMill(t, engine)
		for _, d := range []string{from, m.path("state")} {
			if err := os.MkdirAll(d, 0o700); err != nil {
				t.Fatal(err)
			}
			if err := os.Chown(d, m.uid, m.uid); err != nil {
				t.Fatal(err)
			}
		}
		noLocks(t, from, m.path("state"))
		_, errs, code := m.run("", "deploy", "--yes")
		if code == 0 || !strings.Contains(errs, "does not lock files") || !strings.Contains(errs, "fix:") {
			t.Errorf("deploy: code %d\n%s", code, errs)
		}
		if left, err := os.ReadDir(from); err != nil || len(left) > 0 {
			t.Errorf("left in the state folder: %v, %v", left, err)
		}
	})
}

// TestAServerWhoseStateLosesItsLocks has a server restart on a state folder that was
// moved to where there are none.
func TestAServerWhoseStateLosesItsLocks(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	m.must("stop")
	at := m.path("state")
	if err := os.Rename(at, at+"-moved"); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(at, 0o700); err != nil {
		t.Fatal(err)
	}
	before := hashes(t, at+"-moved")
	unmount := noLocks(t, at+"-moved", at)
	_, errs, code := m.run("", "start")
	if code == 0 || !strings.Contains(errs, "the file system has no locks") ||
		!strings.Contains(errs, "on a disk of the machine") {
		t.Errorf("start: code %d\n%s", code, errs)
	}
	m.until("no-store")
	m.must("stop")
	unmount()
	for p, h := range hashes(t, at+"-moved") {
		if strings.Contains(p, "store") && before[p] != h {
			t.Errorf("%s was written to without locks", p)
		}
	}
	if err := os.Remove(at); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(at+"-moved", at); err != nil {
		t.Fatal(err)
	}
	m.must("start")
	if m.until("ready"); len(m.names()) != 1 {
		t.Errorf("members: %v", m.names())
	}
}
