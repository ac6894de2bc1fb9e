package testbuild

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// podmanConf lets Podman run inside a container, too: without systemd, and with
// limits that need no further powers.
const podmanConf = `[containers]
default_ulimits = ["nofile=1024:1024", "nproc=512:512"]
[engine]
runtime = "runc"
cgroup_manager = "cgroupfs"
events_logger = "file"
`

// FirstLent is the first of the ids that a Podman without root is lent.
const FirstLent uint32 = 300000

// asOther runs a command as an account that only this command's mounts know, with ids
// that are lent to it and a device for its network.
const asOther = `set -e
dir=$1 uid=$2 lent=$3
shift 3
mkdir -p "$dir/etc"
for f in passwd group; do cp /etc/$f "$dir/etc/$f"; done
echo "lender:x:$uid:$uid::$dir:/bin/sh" >>"$dir/etc/passwd"
echo "lender:x:$uid:" >>"$dir/etc/group"
echo "lender:$lent:65536" >"$dir/etc/subuid"
cp "$dir/etc/subuid" "$dir/etc/subgid"
for f in passwd group subuid subgid; do
  [ -e /etc/$f ] && mount --bind "$dir/etc/$f" /etc/$f
done
mount -t tmpfs none /dev/net
mknod -m 0666 /dev/net/tun c 10 200
exec setpriv --reuid "$uid" --regid "$uid" --clear-groups "$@"
`

// Podman starts a Podman of its own, with its storage in a new folder, and gives the
// path of its socket and the environment in which it runs. It ends with the test, and
// what it stored goes. account is whose it is: nil for root.
func Podman(t testing.TB, account *syscall.Credential) (socket string, env []string) {
	t.Helper()
	if os.Getuid() != 0 {
		Missing(t, "root, to start a Podman")
	}
	for _, p := range []string{"podman", "runc"} {
		if _, err := exec.LookPath(p); err != nil {
			Missing(t, p)
		}
	}
	dir := Folder(t)
	write := func(name, text string) string {
		p := filepath.Join(dir, name)
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return p
	}
	env = append(os.Environ(), "CONTAINERS_CONF="+write("containers.conf", podmanConf),
		"CONTAINERS_STORAGE_CONF="+write("storage.conf",
			fmt.Sprintf("[storage]\ndriver = \"vfs\"\nrunroot = %q\ngraphroot = %q\n", dir+"/run", dir+"/graph")),
		"HOME="+dir, "XDG_RUNTIME_DIR="+dir)
	socket = filepath.Join(dir, "podman.sock")
	command := func(args ...string) *exec.Cmd {
		c := exec.Command("podman", args...)
		if account != nil {
			c = exec.Command("unshare", append([]string{"--mount", "sh", write("as.sh", asOther), dir,
				fmt.Sprint(account.Uid), fmt.Sprint(FirstLent), "podman"}, args...)...)
		}
		c.Dir, c.Env = dir, env
		c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
		return c
	}
	if account != nil {
		for _, p := range []string{"newuidmap", "slirp4netns", "unshare", "setpriv"} {
			if _, err := exec.LookPath(p); err != nil {
				Missing(t, p)
			}
		}
		if err := os.Chown(dir, int(account.Uid), int(account.Gid)); err != nil {
			t.Fatal(err)
		}
	}
	log, err := os.Create(filepath.Join(dir, "service.log"))
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	service := command("system", "service", "--time=0", "unix://"+socket)
	service.Stdout, service.Stderr = log, log
	if err := service.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if out, err := command("rm", "--all", "--force", "--time=1").CombinedOutput(); err != nil {
			t.Logf("clearing Podman: %v\n%s", err, out)
		}
		_ = service.Process.Kill() // it may have ended by itself
		_ = service.Wait()
		// Without root it leaves a process behind that holds its namespaces. Nobody but
		// this test runs anything as that account, or with that folder.
		endAll(func(uid uint32, command string) bool {
			return account != nil && uid == account.Uid || strings.Contains(command, dir+"/")
		})
		var err error
		for range 20 {
			if err = os.RemoveAll(dir); err == nil {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Logf("what Podman stored: %v", err)
	})
	for began := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		c, err := net.Dial("unix", socket)
		if err == nil {
			c.Close()
			return socket, env
		}
		if time.Since(began) > 30*time.Second {
			text, _ := os.ReadFile(log.Name())
			t.Fatalf("Podman does not listen: %v\n%s", err, text)
		}
	}
}

// endAll ends the processes that are meant, by their account and command line.
func endAll(meant func(uid uint32, command string) bool) {
	list, _ := filepath.Glob("/proc/[0-9]*")
	for _, p := range list {
		pid, err := strconv.Atoi(filepath.Base(p))
		if err != nil || pid == os.Getpid() {
			continue
		}
		st, err := os.Stat(p)
		command, cerr := os.ReadFile(p + "/cmdline")
		if err != nil || cerr != nil || !meant(st.Sys().(*syscall.Stat_t).Uid, string(command)) {
			continue
		}
		_ = syscall.Kill(pid, syscall.SIGKILL) // it may have ended
	}
}
