package machine

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/testbuild"

	"golang.org/x/sys/unix"
)

func must(t *testing.T, errs ...error) {
	t.Helper()
	if err := errors.Join(errs...); err != nil {
		t.Fatal(err)
	}
}

func TestOddNamesAndLoopsOfLinksAreCountedAndNotFollowed(t *testing.T) {
	dir := filepath.Join(testbuild.Folder(t), "shelf")
	outside := filepath.Join(testbuild.Folder(t), "outside")
	long := strings.Repeat("n", 255)
	for _, d := range []string{outside, filepath.Join(dir, long), filepath.Join(dir, "new\nline"),
		filepath.Join(dir, "\xff\xfe")} {
		must(t, os.MkdirAll(d, 0o755), os.WriteFile(filepath.Join(d, long[:200]+"\n\xff"), nil, 0o600))
	}
	must(t,
		os.Symlink(outside, filepath.Join(dir, "away")), os.Symlink("loop", filepath.Join(dir, "loop")),
		os.Symlink("..", filepath.Join(dir, long, "up")), os.Symlink(filepath.Join(dir, "b"), filepath.Join(dir, "a")),
		os.Symlink(filepath.Join(dir, "a"), filepath.Join(dir, "b")),
		unix.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	other := permit.Identity{UID: 41001, Groups: []uint32{41001}}
	r, err := Audit(dir, other, permit.Need{Each: true})
	if err != nil || r.Files != 3 || r.Folders != 4 || r.Links != 5 || len(r.Problems) != 3 {
		t.Fatalf("got %+v, %v", r, err)
	}
	for _, p := range r.Problems {
		if !permit.Below(p.Path, dir) {
			t.Errorf("%q lies outside", p.Path)
		}
	}
	if _, err := json.Marshal(r); err != nil {
		t.Error(err)
	}
	if r, err := Audit(dir, other, permit.Need{Aside: long}); err != nil || r.Files != 2 || r.Folders != 3 ||
		r.Failing != 2 {
		t.Errorf("with one left out: %+v, %v", r, err)
	}
	// A shelf that is itself a link is looked at where it leads to.
	link := filepath.Join(filepath.Dir(dir), "link")
	must(t, os.Symlink(dir, link))
	if r, err := Audit(link, other, permit.Need{}); err != nil || r.Files != 3 || r.Folder != dir {
		t.Errorf("through a link: %+v, %v", r, err)
	}
	if _, err := Audit(filepath.Join(dir, "loop"), other, permit.Need{}); err == nil {
		t.Error("a loop of links was audited")
	}
}

func TestFilesThatVanishMeanwhileAreNoProblem(t *testing.T) {
	dir := filepath.Join(testbuild.Folder(t), "shelf")
	must(t, os.Mkdir(dir, 0o755))
	var stop atomic.Bool
	done := make(chan struct{})
	go func() {
		defer close(done)
		for i := 0; !stop.Load(); i++ {
			d := filepath.Join(dir, fmt.Sprint(i%50))
			_ = os.Mkdir(d, 0o755) // made and removed under the other's eyes
			_ = os.WriteFile(filepath.Join(d, "f"), nil, 0o644)
			_ = os.RemoveAll(filepath.Join(dir, fmt.Sprint((i+25)%50)))
		}
	}()
	for deadline := time.Now().Add(time.Second); time.Now().Before(deadline); {
		r, err := Audit(dir, permit.Identity{UID: 41001, Groups: []uint32{41001}}, permit.Need{})
		if err != nil || len(r.Problems) != 0 {
			t.Errorf("got %+v, %v", r.Problems, err)
			break
		}
	}
	stop.Store(true)
	<-done
}

// TestWhatWeMayNotLookAtIsToldAsSuch asks as an account without powers about
// another one.
func TestWhatWeMayNotLookAtIsToldAsSuch(t *testing.T) {
	if testbuild.AsOther(t) {
		return
	}
	dir := filepath.Join(testbuild.Folder(t), "shelf")
	must(t, os.MkdirAll(filepath.Join(dir, "shut/below"), 0o755), os.Mkdir(filepath.Join(dir, "blind"), 0o755),
		os.WriteFile(filepath.Join(dir, "blind/f"), nil, 0o644),
		os.Chmod(filepath.Join(dir, "shut"), 0o011), os.Chmod(filepath.Join(dir, "blind"), 0o444))
	t.Cleanup(func() {
		must(t, os.Chmod(filepath.Join(dir, "shut"), 0o755), os.Chmod(filepath.Join(dir, "blind"), 0o755))
	})
	me := permit.Identity{UID: uint32(os.Getuid()), Groups: []uint32{uint32(os.Getgid())}}
	r, err := Audit(dir, permit.Identity{UID: 41001, Groups: []uint32{41001}}, permit.Need{Each: true})
	if err != nil {
		t.Fatal(err)
	}
	unknown := 0
	for _, p := range r.Problems {
		if p.Cause == permit.CauseUnknown {
			unknown++
		}
	}
	if unknown == 0 && r.Failing < 2 {
		t.Errorf("got %+v", r)
	}
	for _, m := range Remedies(r, me, permit.Who{}, permit.Need{}) {
		if m.Reaches <= 0 {
			t.Errorf("a remedy for what nobody knows: %+v", m)
		}
	}
}

// TestAFolderOfVeryManyFilesTakesNoRoom watches the memory of an audit.
func TestAFolderOfVeryManyFilesTakesNoRoom(t *testing.T) {
	dir := filepath.Join(testbuild.Folder(t), "shelf")
	must(t, os.Mkdir(dir, 0o755))
	const n = 50000
	for i := range n {
		fd, err := unix.Open(filepath.Join(dir, fmt.Sprintf("%06d", i)), unix.O_CREAT|unix.O_WRONLY|unix.O_CLOEXEC,
			0o640)
		must(t, err, unix.Close(fd))
	}
	var most atomic.Uint64
	stop := make(chan struct{})
	sampled := make(chan struct{})
	go func() {
		defer close(sampled)
		for {
			select {
			case <-stop:
				return
			case <-time.After(5 * time.Millisecond):
				runtime.GC()
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				most.Store(max(most.Load(), m.HeapAlloc))
			}
		}
	}()
	runtime.GC()
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	r, err := Audit(dir, permit.Identity{UID: 41001, Groups: []uint32{41001}}, permit.Need{})
	close(stop)
	<-sampled
	if err != nil || r.Files != n || len(r.Problems) != 1 || r.Problems[0].Count != n ||
		r.Problems[0].Path != filepath.Join(dir, "000000") {
		t.Fatalf("got %d files, %+v, %v", r.Files, r.Problems, err)
	}
	if grown := int64(most.Load()) - int64(before.HeapAlloc); grown > 4<<20 {
		t.Errorf("%d bytes were in use at once for %d files", grown, n)
	}
}

func TestFlagsAreSeenAndTakenAway(t *testing.T) {
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to set flags")
	}
	dir := filepath.Join(testbuild.Folder(t), "shelf")
	must(t, os.Mkdir(dir, 0o755), os.Chown(dir, 41001, 41001))
	h, err := Hold(dir)
	must(t, err)
	defer h.Close()
	plainState, err := h.State()
	must(t, err)
	fixed := plainState
	fixed.Fixed = "immutable"
	if err := h.Set(plainState, fixed); err != nil {
		testbuild.Missing(t, "a file system with flags: "+err.Error())
	}
	defer func() { must(t, h.Set(fixed, plainState)) }()
	id := permit.Identity{UID: 41001, Groups: []uint32{41001}}
	r, err := Audit(dir, id, permit.Need{Write: true})
	if err != nil || len(r.Problems) != 1 || r.Problems[0].Cause != permit.CauseFixed {
		t.Fatalf("got %+v, %v", r, err)
	}
	if list := Remedies(r, id, permit.Who{UID: 41001}, permit.Need{Write: true}); len(list) == 0 ||
		list[0].Kind != permit.Unfix {
		t.Errorf("remedies: %+v", list)
	}
}

// TestMountsThatRule looks at a real file system without owners, where the kernel
// has one, and at one that is mounted read-only.
func TestMountsThatRule(t *testing.T) {
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to mount")
	}
	dir := testbuild.Folder(t)
	point := filepath.Join(dir, "disk")
	must(t, os.Mkdir(point, 0o755))
	must(t, unix.Mount("tmpfs", point, "tmpfs", 0, "mode=0777"))
	t.Cleanup(func() { _ = unix.Unmount(point, unix.MNT_DETACH) })
	must(t, os.WriteFile(filepath.Join(point, "a"), nil, 0o644),
		unix.Mount("", point, "", unix.MS_REMOUNT|unix.MS_RDONLY|unix.MS_BIND, ""))
	id := permit.Identity{UID: 41001, Groups: []uint32{41001}}
	// The mount lies below the shelf's folder.
	r, err := Audit(dir, id, permit.Need{Write: true})
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(r.Problems, func(p permit.Obstacle) bool { return p.Cause == permit.CauseReadOnly })
	if i < 0 || r.Problems[i].Path != point || len(r.Mounts) != 2 {
		t.Errorf("got %+v, %+v", r.Problems, r.Mounts)
	}
	if f := folder(point); !f.ReadOnly || f.FSType != "tmpfs" || f.Point != point {
		t.Errorf("facts: %+v", f)
	}
	if below, err := MountsBelow(dir); err != nil || !slices.Equal(below, []string{"disk"}) {
		t.Errorf("mounts below: %v, %v", below, err)
	}
}

func TestDisksThatAreNotMountedAreFoundInTheTable(t *testing.T) {
	table := "# a comment\nUUID=1 / ext4 defaults 0 1\nUUID=2 /srv/media ext4 defaults 0 2\nUUID=3 " +
		"/srv/my\\040disk ext4 defaults 0 2\nUUID=4 none swap sw 0 0\nbad\n"
	mounted := func(p string) bool { return p == "/srv/media" }
	for folder, want := range map[string]string{"/srv/media/films": "", "/srv/my disk/films": "/srv/my disk",
		"/srv/my disk": "/srv/my disk", "/srv/other": "", "/": ""} {
		if got := unmounted(table, folder, mounted); got != want {
			t.Errorf("%s: got %q, want %q", folder, got, want)
		}
	}
}

func TestFoldersThatAreNotThereSayWhy(t *testing.T) {
	dir := testbuild.Folder(t)
	must(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o644))
	for path, want := range map[string]string{dir: "", filepath.Join(dir, "none"): "it is not there",
		filepath.Join(dir, "file"): "it is a file, not a folder"} {
		if got := Presence(path, time.Second); got != want {
			t.Errorf("%s: got %q, want %q", path, got, want)
		}
	}
	block := make(chan struct{})
	defer close(block)
	old := patience
	patience = 20 * time.Millisecond
	defer func() { patience = old }()
	if _, err := Patiently(func() (int, error) { <-block; return 1, nil }); !errors.Is(err, ErrSilent) {
		t.Errorf("got %v, want ErrSilent", err)
	}
	if n, err := Patiently(func() (int, error) { return 7, nil }); n != 7 || err != nil {
		t.Errorf("got %d, %v", n, err)
	}
}

func TestCredentialsMustBePrivate(t *testing.T) {
	p := filepath.Join(testbuild.Folder(t), "cred")
	must(t, os.WriteFile(p, []byte("username=wren\npassword=x\n"), 0o600))
	if c, err := ReadCredentials(p); err != nil || c.User != "wren" {
		t.Errorf("got %+v, %v", c, err)
	}
	before := Stamp(p)
	for _, mode := range []os.FileMode{0o640, 0o604, 0o644} {
		must(t, os.Chmod(p, mode))
		if _, err := ReadCredentials(p); err == nil {
			t.Errorf("mode %o was taken", mode)
		}
	}
	must(t, os.Chmod(p, 0o600), os.WriteFile(p, []byte("username=wren\npassword=longer\n"), 0o600))
	if Stamp(p) == before || Stamp(p) == "" || Stamp(p+"x") != "" {
		t.Errorf("stamps: %q, %q", before, Stamp(p))
	}
	if _, err := ReadCredentials(filepath.Dir(p)); err == nil {
		t.Error("a folder was taken")
	}
}

func TestAProposedAccountHasTheGroupsThatTheShelvesNeed(t *testing.T) {
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give files to others")
	}
	dir := filepath.Join(testbuild.Folder(t), "shelf")
	open := filepath.Join(testbuild.Folder(t), "open")
	must(t, os.Mkdir(dir, 0o750), os.Chown(dir, 0, 41017), os.WriteFile(filepath.Join(dir, "a"), nil, 0o640),
		os.Chown(filepath.Join(dir, "a"), 0, 41018), os.Mkdir(open, 0o755))
	h := &household.Household{Shelves: []household.Shelf{{Name: "films", Folders: []string{dir, open}}}}
	p := Propose(h)
	if p.Name != household.DefaultAccount || !slices.Equal(p.Groups, []uint32{41017, 41018}) ||
		!slices.Equal(p.Nameless, p.Groups) || len(p.Commands) == 0 {
		t.Errorf("got %+v", p)
	}
	// The programs that make accounts know groups by name only, so these are left out; one
	// that has a name is not.
	if c := strings.Join(makeAccount("x", []uint32{41017, 0}), " "); strings.Contains(c, "41017") ||
		!strings.Contains(c, "root") {
		t.Errorf("commands: %s", c)
	}
}

// TestWhereThereAreNoACLsNoneAreOffered uses a file system without them.
func TestWhereThereAreNoACLsNoneAreOffered(t *testing.T) {
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to mount")
	}
	dir := filepath.Join(testbuild.Folder(t), "ram")
	must(t, os.Mkdir(dir, 0o755), unix.Mount("ramfs", dir, "ramfs", 0, ""))
	t.Cleanup(func() { _ = unix.Unmount(dir, unix.MNT_DETACH) })
	must(t, os.WriteFile(filepath.Join(dir, "a"), nil, 0o600))
	id := permit.Identity{UID: 41001, Groups: []uint32{41001}}
	r, err := Audit(dir, id, permit.Need{})
	must(t, err)
	list := Remedies(r, id, permit.Who{UID: 41001, Groups: id.Groups}, permit.Need{})
	if len(list) != 2 || list[0].Kind != permit.OwnGroup || list[1].Kind != permit.Open {
		t.Errorf("got %+v", list)
	}
}
