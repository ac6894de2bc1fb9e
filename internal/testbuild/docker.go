package testbuild

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Docker is a Docker Engine of a test's own, with its own storage and a bridge of its
// own, which can be ended and started again as often as wanted. (Told to do without a
// bridge, an engine takes away the one that others use.)
type Docker struct {
	bridge string
	Host   string // for DOCKER_HOST
	t      testing.TB
	dir    string
	cmd    *exec.Cmd
}

// OwnDocker starts one. It ends with the test, and all that it stored goes.
func OwnDocker(t testing.TB) *Docker {
	t.Helper()
	if os.Getuid() != 0 {
		Missing(t, "root, to start a Docker Engine")
	}
	if _, err := exec.LookPath("dockerd"); err != nil {
		Missing(t, "dockerd")
	}
	d := &Docker{t: t, dir: Folder(t)}
	d.Host = "unix://" + filepath.Join(d.dir, "d.sock")
	if err := os.WriteFile(filepath.Join(d.dir, "c.json"), []byte("{}"), 0o600); err != nil {
		t.Fatal(err)
	}
	d.bridge = fmt.Sprintf("cozyt%d", os.Getpid())
	if err := bridge(d.bridge, true); err != nil {
		Missing(t, "a network bridge: "+err.Error())
	}
	t.Cleanup(func() {
		if err := bridge(d.bridge, false); err != nil {
			t.Logf("the bridge %s: %v", d.bridge, err)
		}
	})
	// What holds the containers outlives the engine, as it does elsewhere.
	p := func(name string) string { return filepath.Join(d.dir, name) }
	if err := os.WriteFile(p("containerd.toml"),
		[]byte("version = 2\ndisabled_plugins = [\"io.containerd.grpc.v1.cri\"]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	holder := exec.Command("containerd", "--config", p("containerd.toml"), "--address", p("containerd.sock"), "--root",
		p("held"), "--state", p("holding"))
	holder.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := holder.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = holder.Process.Kill() // it may have ended by itself
		_ = holder.Wait()
		endAll(func(_ uint32, command string) bool { return strings.Contains(command, d.dir+"/") })
	})
	t.Cleanup(func() {
		if d.cmd == nil {
			return
		}
		ids, _ := d.docker("ps", "-aq").Output()
		for id := range strings.FieldsSeq(string(ids)) {
			if out, err := d.docker("rm", "-f", id).CombinedOutput(); err != nil {
				t.Logf("clearing the engine: %v\n%s", err, out)
			}
		}
		d.End(syscall.SIGTERM)
		for _, at := range []string{"exec/netns/default", "data"} {
			_ = syscall.Unmount(p(at), syscall.MNT_DETACH) // it may be gone
		}
	})
	d.Start()
	return d
}

func (d *Docker) docker(args ...string) *exec.Cmd {
	c := exec.Command("docker", args...)
	c.Env = append(os.Environ(), "DOCKER_HOST="+d.Host)
	return c
}

// Start starts the engine and waits until it answers.
func (d *Docker) Start() {
	d.t.Helper()
	p := func(name string) string { return filepath.Join(d.dir, name) }
	log, err := os.OpenFile(p("log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		d.t.Fatal(err)
	}
	defer log.Close()
	// One that was killed leaves the number of its process behind.
	os.Remove(p("pid"))
	d.cmd = exec.Command("dockerd", "--config-file", p("c.json"), "-H", d.Host, "--data-root", p("data"),
		"--exec-root", p("exec"), "--pidfile", p("pid"),
		"--bridge", d.bridge, "--iptables=false", "--ip-masq=false", "--storage-driver=vfs", "--containerd",
		p("containerd.sock"))
	d.cmd.Stdout, d.cmd.Stderr = log, log
	d.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := d.cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	for began := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		if c, err := net.Dial("unix", filepath.Join(d.dir, "d.sock")); err == nil {
			c.Close()
			if d.docker("version").Run() == nil {
				return
			}
		}
		if time.Since(began) > 60*time.Second {
			text, _ := os.ReadFile(p("log"))
			d.t.Fatalf("the engine does not answer\n%s", text[max(0, len(text)-2000):])
		}
	}
}

// End ends the engine with a signal.
func (d *Docker) End(s syscall.Signal) {
	_ = d.cmd.Process.Signal(s) // it may have ended
	_ = d.cmd.Wait()
	d.cmd = nil
}

// bridge makes or removes a network bridge (linux/sockios.h).
func bridge(name string, make bool) error {
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	var to [unix.IFNAMSIZ]byte
	copy(to[:unix.IFNAMSIZ-1], name)
	request := uintptr(unix.SIOCBRADDBR)
	if !make {
		// It must be down to go.
		if r, err := unix.NewIfreq(name); err == nil {
			_ = unix.IoctlIfreq(s, unix.SIOCSIFFLAGS, r) // no flags; removing it tells
		}
		request = unix.SIOCBRDELBR
	}
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, uintptr(s), request, uintptr(unsafe.Pointer(&to))); e != 0 {
		return e
	}
	return nil
}
