package test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/demo"
	"cozyshelf/internal/testbuild"

	"golang.org/x/sys/unix"
)

// mount mounts something, to be unmounted in the end.
func mount(t *testing.T, point, fstype, source string, flags uintptr, data string) {
	t.Helper()
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to mount")
	}
	if err := unix.Mount(source, point, fstype, flags, data); err != nil {
		t.Fatalf("mounting on %s: %v", point, err)
	}
	t.Cleanup(func() { _ = unix.Unmount(point, unix.MNT_DETACH) }) // the test may have done it
}

// unplugged gives what the server says is unplugged, by shelf.
func (m *mill) unplugged() map[string][]string {
	m.t.Helper()
	var list []struct {
		Name      string
		Unplugged []struct{ Folder, Why string }
	}
	m.document(&list, "shelf", "list")
	out := map[string][]string{}
	for _, s := range list {
		for _, a := range s.Unplugged {
			out[s.Name] = append(out[s.Name], a.Folder)
		}
	}
	return out
}

// titles gives how many titles a shelf has.
func (m *mill) titles(shelf string) int {
	m.t.Helper()
	var list []struct {
		Name   string
		Titles int
	}
	m.document(&list, "shelf", "list")
	for _, s := range list {
		if s.Name == shelf {
			return s.Titles
		}
	}
	m.t.Fatalf("there is no shelf %s", shelf)
	return 0
}

func until(t *testing.T, what string, most time.Duration, is func() bool) {
	t.Helper()
	for deadline := time.Now().Add(most); !is(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("not within %s: %s", most, what)
		}
	}
}

// TestADiskThatComesAndGoesIsNoticed mounts and unmounts below a shelf, and over
// one, while the server runs. Nothing is restarted and nothing is asked for.
func TestADiskThatComesAndGoesIsNoticed(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		// As on most machines, the shelves lie on a shared mount.
		media := m.path("media")
		mount(t, media, "", media, unix.MS_BIND, "")
		if err := unix.Mount("", media, "", unix.MS_SHARED, ""); err != nil {
			t.Fatal(err)
		}
		usb := m.path("media/films/usb")
		if err := os.Mkdir(usb, 0o755); err != nil {
			t.Fatal(err)
		}
		m.must("deploy", "--yes")
		until(t, "the first scan", 20*time.Second,
			func() bool { return m.titles("films") > 0 && m.titles("series") > 0 })
		films, series := m.titles("films"), m.titles("series")
		plug := func() {
			mount(t, usb, "tmpfs", "tmpfs", 0, "")
			b := read(m.path("media/films/A Ferry to Somewhere (1987).mkv"))
			if err := os.WriteFile(filepath.Join(usb, "Borrowed Light (2001).mkv"), b, 0o644); err != nil ||
				len(b) == 0 {
				t.Fatalf("%d bytes, %v", len(b), err)
			}
		}
		plug()
		until(t, "the new disk's film", 20*time.Second, func() bool {
			if m.titles("films") == films+1 {
				return true
			}
			m.must("shelf", "scan", "films") // the film came after the disk
			return false
		})
		if err := unix.Unmount(usb, 0); err != nil {
			t.Fatal(err)
		}
		until(t, "the disk's going", 20*time.Second, func() bool { return len(m.unplugged()["films"]) == 1 })
		if got := m.unplugged()["films"][0]; got != usb || m.titles("films") != films+1 {
			t.Errorf("unplugged: %s, %d titles", got, m.titles("films"))
		}
		plug()
		until(t, "the disk's return", 20*time.Second, func() bool { return len(m.unplugged()["films"]) == 0 })
		if err := unix.Unmount(usb, 0); err != nil {
			t.Fatal(err)
		}
		until(t, "the disk's second going", 20*time.Second, func() bool { return len(m.unplugged()["films"]) == 1 })
		// It is gone for good.
		m.must("shelf", "scan", "films", "--emptied")
		if m.titles("films") != films || len(m.unplugged()) != 0 {
			t.Errorf("after all: %d titles, unplugged %v", m.titles("films"), m.unplugged())
		}
		// Something empty over a whole shelf does not look like all deleted.
		mount(t, m.path("media/series"), "tmpfs", "tmpfs", 0, "")
		until(t, "the shelf's going", 20*time.Second, func() bool { return len(m.unplugged()["series"]) == 1 })
		if n := m.titles("series"); n != series {
			t.Errorf("%d titles are known of the shelf that is unplugged, want %d", n, series)
		}
		if out := m.must("shelf", "scan", "series"); !strings.Contains(out, "--emptied") {
			t.Errorf("shelf scan says:\n%s", out)
		}
		if err := unix.Unmount(m.path("media/series"), 0); err != nil {
			t.Fatal(err)
		}
		until(t, "the shelf's return", 20*time.Second, func() bool { return len(m.unplugged()) == 0 })
	})
}

// TestANetworkFileSystemThatStopsAnsweringHoldsNobody mounts a shelf over ssh and
// stops the other side. Every command ends, the other shelf plays on, and the
// server names what is unplugged.
func TestANetworkFileSystemThatStopsAnsweringHoldsNobody(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	far := m.sshfs("far", m.path("media/films"), "allow_other", "dir_cache=no", "attr_timeout=0", "entry_timeout=0")
	m.must("shelf", "add", "far", "--kind", "films", "--folder", far.point, "--yes")
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	until(t, "the first scan", 20*time.Second, func() bool { return m.titles("far") > 0 && m.titles("films") > 0 })
	token := m.token(demo.People[0].Name)
	file := func(shelf string) string {
		var s struct {
			Contents []struct {
				Files []struct {
					ID      int64
					Problem string
				}
			}
		}
		m.document(&s, "shelf", "show", shelf)
		for _, c := range s.Contents {
			for _, f := range c.Files {
				if f.Problem == "" {
					return fmt.Sprintf("/api/v1/files/%d/content", f.ID)
				}
			}
		}
		t.Fatalf("nothing on %s", shelf)
		return ""
	}
	near, distant := file("films"), file("far")
	play := func(path string, want int) {
		t.Helper()
		if res, body := m.get("GET", path, "", "Authorization", "Bearer "+token, "Range",
			"bytes=0-99"); res.StatusCode != want {
			t.Errorf("%s: %s, want %d: %.200s", path, res.Status, want, body)
		}
	}
	play(near, http.StatusPartialContent)
	play(distant, http.StatusPartialContent)

	far.stop()
	within := func(code int, words string, args ...string) {
		t.Helper()
		began := time.Now()
		out, errs, got := m.run("", args...)
		if took := time.Since(began); took > 30*time.Second || got != code || !strings.Contains(out+errs, words) {
			t.Errorf("%v: code %d after %s, want %d and %q:\n%s%s", args, got, took, code, words, out, errs)
		}
	}
	within(0, "unplugged", "shelf", "scan", "far")
	within(0, "unplugged: "+far.point, "shelf", "list")
	within(0, "films", "shelf", "scan", "films")
	within(0, "healthy", "status")
	within(3, "does not answer", "check")
	within(3, "does not answer", "access")
	within(1, "does not answer", "access", "far", "--prove")
	m.edit(fmt.Sprintf("port    = %d", m.port), fmt.Sprintf("port    = %d", testbuild.Port(t)))
	within(3, "does not answer", "deploy", "--yes")
	play(near, http.StatusPartialContent)
	play(distant, http.StatusServiceUnavailable)
	if n := m.titles("far"); n == 0 {
		t.Error("what was known of the shelf is gone")
	}
	far.cont()
	until(t, "the shelf's return", 60*time.Second, func() bool { return len(m.unplugged()) == 0 })
	play(distant, http.StatusPartialContent)
}

// TestACacheThatAnswersForAWhileHoldsNobodyEither stops the other side of a file
// system that keeps answering some questions by itself.
func TestACacheThatAnswersForAWhileHoldsNobodyEither(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	far := m.sshfs("far", m.path("media/films"), "allow_other")
	m.must("shelf", "add", "far", "--kind", "films", "--folder", far.point, "--yes")
	m.must("access", "far")
	far.stop()
	for _, args := range [][]string{{"check"}, {"access"}, {"access", "far"}, {"deploy", "--dry-run"}} {
		began := time.Now()
		m.run("", args...)
		if took := time.Since(began); took > 40*time.Second {
			t.Errorf("%v ended after %s", args, took)
		}
	}
	far.cont()
}

// TestWhereAProgramJudgesProvingFindsOut mounts a shelf for root alone: modes say
// that everybody may read, and nobody but root can.
func TestWhereAProgramJudgesProvingFindsOut(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	far := m.sshfs("far", m.path("media/films"))
	m.must("shelf", "add", "far", "--kind", "films", "--folder", far.point, "--yes")
	d := m.access("far")
	if f := d.Folders[0]; f.ReadableFiles != 0 || len(f.Problems) == 0 || f.Problems[0].Cause != "mount options" ||
		!strings.Contains(f.Problems[0].Detail, "allow_other") || len(f.Remedies) == 0 ||
		f.Remedies[0].ID != "mount-options" {
		t.Errorf("computed: %+v", f)
	}
	d = m.access("far", "--prove")
	if p := d.Folders[0].Proof; p == nil || p.Read != 0 || len(p.Disagreements) != 0 {
		t.Errorf("proven: %+v", d.Folders[0])
	}
}

// far is a folder mounted over ssh from this machine itself.
type farFolder struct {
	point string
	pids  []int
	t     *testing.T
}

func (f *farFolder) signal(s syscall.Signal) {
	for _, pid := range f.pids {
		_ = syscall.Kill(pid, s) // it may have ended
	}
}

func (f *farFolder) stop() { f.t.Helper(); f.signal(syscall.SIGSTOP) }
func (f *farFolder) cont() { f.t.Helper(); f.signal(syscall.SIGCONT) }

// sshfs starts an sshd of its own and mounts a folder through it.
func (m *mill) sshfs(name, folder string, options ...string) *farFolder {
	t := m.t.(*testing.T)
	t.Helper()
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to mount")
	}
	for _, p := range []string{"sshfs", "ssh-keygen", "fusermount3", "/usr/sbin/sshd"} {
		if _, err := exec.LookPath(p); err != nil {
			testbuild.Missing(t, p)
		}
	}
	if _, err := os.Stat("/dev/fuse"); err != nil {
		testbuild.Missing(t, "/dev/fuse")
	}
	dir := m.path("ssh-" + name)
	f := &farFolder{point: m.path("far-" + name), t: t}
	for _, d := range []string{dir, f.point, "/run/sshd"} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	port := testbuild.Port(t)
	for _, key := range []string{"host", "key"} {
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
			filepath.Join(dir, key)).CombinedOutput(); err != nil {
			t.Fatalf("ssh-keygen: %v %s", err, out)
		}
	}
	conf := fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %s/host\nAuthorizedKeysFile "+
		"%s/key.pub\nStrictModes no\nPidFile none\nSubsystem sftp internal-sftp\nUsePAM no\nPermitRootLogin yes\n",
		port, dir, dir)
	if err := os.WriteFile(filepath.Join(dir, "conf"), []byte(conf), 0o600); err != nil {
		t.Fatal(err)
	}
	var said bytes.Buffer
	sshd := exec.Command("/usr/sbin/sshd", "-D", "-e", "-f", filepath.Join(dir, "conf"))
	sshd.Stderr = &said
	if err := sshd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		f.cont()
		_ = exec.Command("fusermount3", "-u", "-z", f.point).Run() // not mounted, if it failed before
		_ = sshd.Process.Kill()
		_ = sshd.Wait()
	})
	all := append([]string{"IdentityFile=" + dir + "/key", "UserKnownHostsFile=/dev/null", "StrictHostKeyChecking=no",
		fmt.Sprintf("Port=%d", port)}, options...)
	var out []byte
	var err error
	for range 50 {
		if out, err = exec.Command("sshfs", "-o", strings.Join(all, ","), "root@127.0.0.1:"+folder,
			f.point).CombinedOutput(); err == nil {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	if err != nil {
		t.Fatalf("sshfs: %v %s", err, out)
	}
	f.pids = children(sshd.Process.Pid)
	if len(f.pids) == 0 {
		t.Fatal("no session was found below sshd")
	}
	return f
}

// children gives all processes below one.
func children(pid int) []int {
	var out []int
	list, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, p := range list {
		var child, parent int
		var state string
		b := read(p)
		end := bytes.LastIndexByte(b, ')')
		if end < 0 {
			continue
		}
		fmt.Sscan(strings.Split(p, "/")[2], &child)
		fmt.Sscan(string(b[end+1:]), &state, &parent)
		if parent == pid {
			out = append(append(out, child), children(child)...)
		}
	}
	return out
}
