package boundary

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"
)

// foreign makes a folder of another account below a closed one; the test needs root.
func foreign(t *testing.T) (closed, theirs string) {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("needs root, to give folders away")
	}
	closed = t.TempDir()
	theirs = filepath.Join(closed, "theirs")
	if err := os.Mkdir(theirs, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Chown(theirs, 4321, 4321); err != nil {
		t.Fatal(err)
	}
	return closed, theirs
}

func must(t *testing.T, errs ...error) {
	t.Helper()
	if err := errors.Join(errs...); err != nil {
		t.Fatal(err)
	}
}

// link makes a link as another account would.
func link(t *testing.T, to, at string) {
	t.Helper()
	must(t, os.Symlink(to, at), os.Lchown(at, 4321, 4321))
}

func TestLinksAreFollowedOnlyWhereNobodyElseCouldHaveMadeThem(t *testing.T) {
	closed, theirs := foreign(t)
	target := filepath.Join(closed, "target")
	must(t, os.Mkdir(target, 0o700), os.WriteFile(filepath.Join(target, "file"), []byte("secret"), 0o600))
	must(t, os.Symlink(target, filepath.Join(closed, "mine")), os.Symlink("mine", filepath.Join(closed, "chain")))
	link(t, target, filepath.Join(theirs, "link"))
	link(t, "../target", filepath.Join(theirs, "relative"))
	link(t, target, filepath.Join(closed, "given")) // in a closed folder, but theirs
	must(t, os.Symlink(target, filepath.Join(theirs, "of-root")))
	open := filepath.Join(closed, "open")
	must(t, os.Mkdir(open, 0o777), os.Chmod(open, 0o777), os.Symlink(target, filepath.Join(open, "link")))
	sticky := filepath.Join(closed, "sticky")
	must(t, os.Mkdir(sticky, 0o777), os.Chmod(sticky, 0o777|fs.ModeSticky),
		os.Symlink(target, filepath.Join(sticky, "mine")))
	link(t, target, filepath.Join(sticky, "theirs"))
	must(t, os.Symlink("loop", filepath.Join(closed, "loop")))
	for _, c := range []struct {
		path string
		want error
	}{
		{"mine", nil}, {"chain", nil}, {"chain/../target", nil}, {"sticky/mine", nil}, {"theirs", nil}, {"target", nil},
		{"theirs/link", ErrLink}, {"theirs/relative", ErrLink}, {"theirs/of-root", ErrLink}, {"given", ErrLink},
		{"open/link", ErrLink}, {"sticky/theirs", ErrLink}, {"loop", unix.ELOOP}, {"none", fs.ErrNotExist},
		{"target/file", unix.ENOTDIR},
	} {
		// Not joined: what is lexically shorter is another question.
		d, err := Open(closed + "/" + c.path)
		if !errors.Is(err, c.want) || c.want == nil && err != nil {
			t.Errorf("Open(%s): got %v, want %v", c.path, err, c.want)
		}
		if err == nil {
			d.Close()
		}
	}
	for _, c := range []struct {
		path string
		want error
	}{
		{"mine", nil}, {"target", nil}, {"theirs", ErrOpen}, {"open", ErrOpen}, {"sticky", nil},
		{"theirs/link", ErrOpen},
	} {
		d, err := OpenOwn(closed + "/" + c.path)
		if !errors.Is(err, c.want) || c.want == nil && err != nil {
			t.Errorf("OpenOwn(%s): got %v, want %v", c.path, err, c.want)
		}
		if err == nil {
			d.Close()
		}
	}
}

func TestOnlyPlainFilesOfWhomTheyHaveToBeAreOpened(t *testing.T) {
	closed, theirs := foreign(t)
	secret := filepath.Join(closed, "secret")
	must(t, os.WriteFile(secret, []byte("secret"), 0o600))
	at := func(n string) string { return filepath.Join(theirs, n) }
	must(t, os.WriteFile(at("own"), []byte("own"), 0o600), os.Chown(at("own"), 4321, 4321))
	must(t, os.WriteFile(at("of-root"), []byte("r"), 0o600))
	must(t, os.Link(secret, at("hard")))
	link(t, secret, at("link"))
	must(t, syscall.Mkfifo(at("pipe"), 0o600), os.Mkdir(at("folder"), 0o700))
	if err := syscall.Mknod(at("device"), syscall.S_IFCHR|0o600, int(unix.Mkdev(1, 3))); err != nil {
		t.Fatal(err)
	}
	d, err := Open(theirs)
	must(t, err)
	defer d.Close()
	for _, c := range []struct {
		name   string
		owners []int
		want   error
	}{
		{"own", []int{4321}, nil}, {"own", []int{0}, ErrForeign}, {"own", nil, nil}, {"of-root", []int{0}, nil},
		{"hard", []int{0, 4321}, ErrForeign}, {"hard", nil, ErrForeign}, {"link", nil, ErrLink},
		{"pipe", nil, ErrForeign},
		{"folder", nil, unix.EISDIR}, {"device", nil, ErrForeign}, {"none", nil, fs.ErrNotExist},
		{"../secret", nil, nil}, {"folder/../own", nil, nil},
	} {
		f, err := d.File(c.name, c.owners)
		if strings.Contains(c.name, "..") {
			if err == nil {
				t.Errorf("File(%s) was opened", c.name)
			}
			continue
		}
		if !errors.Is(err, c.want) || c.want == nil && err != nil {
			t.Errorf("File(%s, %v): got %v, want %v", c.name, c.owners, err, c.want)
		}
		if err == nil {
			f.Close()
		}
	}
	if _, err := d.Read("own", 2, nil); !errors.Is(err, ErrForeign) {
		t.Errorf("a file that is too large: %v", err)
	}
	for _, c := range []struct {
		path string
		want error
	}{{secret, nil}, {at("link"), ErrLink}, {at("hard"), ErrForeign}, {at("own"), nil}} {
		f, err := PlainFile(c.path)
		if !errors.Is(err, c.want) || c.want == nil && err != nil {
			t.Errorf("PlainFile(%s): got %v, want %v", c.path, err, c.want)
		}
		if err == nil {
			f.Close()
		}
	}
}

// What is written into a folder that another account changes all the time is either what
// was written, or nothing; and nothing outside of it changes.
func TestWritingBesideAnAttacker(t *testing.T) {
	closed, theirs := foreign(t)
	secret := filepath.Join(closed, "secret")
	must(t, os.WriteFile(secret, []byte("secret"), 0o600))
	script := `cd "$0" || exit 1
while :; do
 for f in .new-* file sub; do
  [ "$f" = ".new-*" ] || { rm -rf "$f"; ln -s "$1" "$f"; } 2>/dev/null
 done
done`
	attacker := exec.Command("sh", "-c", script, theirs, secret)
	attacker.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 4321, Gid: 4321},
		Pdeathsig: syscall.SIGKILL}
	must(t, attacker.Start())
	defer func() {
		_ = attacker.Process.Kill()
		_ = attacker.Wait()
	}()
	d, err := Open(theirs)
	must(t, err)
	defer d.Close()
	done := 0
	for range 400 {
		err := d.Replace("file", []byte("ours"), 0o640, &Owner{4321, 4321})
		if err == nil {
			done++
		}
		if sub, err := d.Mkdir("sub", 0o700, &Owner{4321, 4321}); err == nil {
			_ = sub.Replace("below", []byte("ours"), 0o600, nil)
			sub.Close()
		}
		_ = d.RemoveAll("sub")
	}
	if done == 0 {
		t.Error("nothing could be written at all")
	}
	var st unix.Stat_t
	must(t, unix.Lstat(secret, &st))
	if b, err := os.ReadFile(secret); err != nil || string(b) != "secret" || st.Uid != 0 || st.Mode&0o777 != 0o600 {
		t.Errorf("the file outside: %q, uid %d, mode %o, %v", b, st.Uid, st.Mode&0o777, err)
	}
	if list, _ := os.ReadDir(closed); len(list) != 2 {
		t.Errorf("made outside: %v", list)
	}
}

func TestRemoveAllFollowsNothing(t *testing.T) {
	closed, theirs := foreign(t)
	keep := filepath.Join(closed, "keep")
	must(t, os.MkdirAll(filepath.Join(keep, "sub"), 0o755),
		os.WriteFile(filepath.Join(keep, "sub", "file"), nil, 0o644))
	must(t, os.MkdirAll(filepath.Join(theirs, "a", "b"), 0o755))
	link(t, keep, filepath.Join(theirs, "a", "b", "out"))
	d, err := Open(theirs)
	must(t, err)
	defer d.Close()
	must(t, d.RemoveAll("a"))
	if _, err := os.Stat(filepath.Join(keep, "sub", "file")); err != nil {
		t.Error(err)
	}
	if d.Exists("a") {
		t.Error("it is still there")
	}
}

func TestTheAdministratorsFolderIsNobodyElses(t *testing.T) {
	closed, theirs := foreign(t)
	if d, err := OpenAdmin(filepath.Join(theirs, "state"), true); !errors.Is(err, ErrOpen) {
		t.Errorf("beside a folder of the account's: %v, %v", d, err)
	}
	state := filepath.Join(closed, "state")
	if _, err := OpenAdmin(state, false); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("none yet: %v", err)
	}
	d, err := OpenAdmin(state, true)
	must(t, err)
	d.Close()
	must(t, os.Chown(Admin(state), 4321, 4321))
	if _, err := OpenAdmin(state, true); !errors.Is(err, ErrOpen) {
		t.Errorf("one that was given away: %v", err)
	}
	must(t, os.Remove(Admin(state)))
	link(t, theirs, Admin(state))
	if _, err := OpenAdmin(state, true); !errors.Is(err, ErrLink) {
		t.Errorf("a link in its place: %v", err)
	}
}

func TestAWorkFolderGoesWithItsEnd(t *testing.T) {
	state := filepath.Join(t.TempDir(), "state")
	must(t, os.Mkdir(state, 0o700))
	d, end, err := Work(state)
	must(t, err)
	sub, err := d.MkdirAll("a/b", 0o700, nil)
	must(t, err, sub.WriteNew("file", 0o600, nil,
		func(w io.Writer) error { _, err := w.Write([]byte("x")); return err }))
	if err := sub.WriteNew("file", 0o600, nil, func(io.Writer) error { return nil }); !errors.Is(err, fs.ErrExist) {
		t.Errorf("a second one of the name: %v", err)
	}
	must(t, sub.Rename("file", d, "moved"), sub.Close())
	if b, err := d.Read("moved", 10, []int{os.Getuid()}); err != nil || string(b) != "x" {
		t.Errorf("got %q, %v", b, err)
	}
	end()
	if list, _ := os.ReadDir(Admin(state)); len(list) != 0 {
		t.Errorf("left: %v", list)
	}
	// One that was cut off is swept.
	d, _, err = Work(state)
	must(t, err, d.Replace("half", nil, 0o600, nil))
	Sweep(state)
	if _, err := os.Stat(filepath.Join(Admin(state), WorkName)); err != nil {
		t.Error("one that somebody is at work in was swept")
	}
	d.Close() // as with the end of a process
	Sweep(state)
	if list, _ := os.ReadDir(Admin(state)); len(list) != 0 {
		t.Errorf("left after a sweep: %v", list)
	}
}

func FuzzNamesStayBelow(f *testing.F) {
	for _, s := range []string{"a", "a/b", "../a", "/a", "a//b", "a/./b", ".", "..", "", "a\x00b", "\xff"} {
		f.Add(s)
	}
	top := f.TempDir()
	if err := os.MkdirAll(filepath.Join(top, "in", "a"), 0o755); err != nil {
		f.Fatal(err)
	}
	d, err := Open(filepath.Join(top, "in"))
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, name string) {
		if sub, err := d.Sub(name); err == nil {
			defer sub.Close()
			real, err := os.Readlink(sub.Proc())
			if err != nil || real != filepath.Join(top, "in") &&
				!strings.HasPrefix(real, filepath.Join(top, "in")+"/") {
				t.Errorf("%q led to %s, %v", name, real, err)
			}
		}
	})
}

// TestWhatIsHalfWrittenIsSwept leaves files as they are left where a file system has none
// without names: those that are still written, and those of others, stay.
func TestWhatIsHalfWrittenIsSwept(t *testing.T) {
	dir := t.TempDir()
	d, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	left, busy, foreign := nameFor("household.toml"), nameFor("household.toml"), nameFor("other.toml")
	for _, n := range []string{left, busy, foreign, Unfinished + "x", "household.toml"} {
		must(t, os.WriteFile(filepath.Join(dir, n), nil, 0o600))
	}
	f, err := os.Open(filepath.Join(dir, busy))
	must(t, err)
	defer f.Close()
	must(t, unix.Flock(int(f.Fd()), unix.LOCK_EX))
	d.SweepUnfinished(func(name string) bool { return name == "household.toml" })
	for n, stays := range map[string]bool{left: false, busy: true, foreign: true, Unfinished + "x": true,
		"household.toml": true} {
		if _, err := os.Lstat(filepath.Join(dir, n)); (err == nil) != stays {
			t.Errorf("%s: %v, want it there: %v", n, err, stays)
		}
	}
	// A name of the longest that there can be is still written.
	long := strings.Repeat("x", 255)
	must(t, d.Replace(long, []byte("1"), 0o600, nil))
	if names, err := d.Names(); err != nil || len(names) != 5 {
		t.Errorf("%d names, %v", len(names), err)
	}
}
