package test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"cozyshelf/internal/testbuild"

	moby "github.com/moby/moby/client"
	"golang.org/x/sys/unix"
)

// TestAnAccountOfItsOwnIsProposedMadeAndTakenBack lets check make an account that
// there is not, with the group that a shelf needs.
func TestAnAccountOfItsOwnIsProposedMadeAndTakenBack(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to make accounts")
	}
	if _, err := exec.LookPath("useradd"); err != nil {
		testbuild.Missing(t, "useradd")
	}
	m := newMill(t, "process")
	name := fmt.Sprintf("cozytest%d", os.Getpid())
	group := name + "g"
	if out, err := exec.Command("groupadd", "--system", group).CombinedOutput(); err != nil {
		t.Fatalf("groupadd: %s", out)
	}
	t.Cleanup(func() {
		_ = exec.Command("userdel", name).Run() // undone, if all went well
		if out, err := exec.Command("groupdel", group).CombinedOutput(); err != nil {
			t.Errorf("groupdel: %s", out)
		}
	})
	films := m.path("media/films")
	for _, args := range [][]string{{"chgrp", "-R", group, films}, {"chmod", "-R", "u=rwX,g=rX,o=", films}} {
		if out, err := exec.Command(args[0], args[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", args, out)
		}
	}
	m.edit(fmt.Sprintf("run_as  = %q", m.runAs), fmt.Sprintf("run_as  = %q", name))
	out, _, code := m.run("", "check")
	if code != 3 || !strings.Contains(out, "useradd") || !strings.Contains(out, "--groups "+group) ||
		!strings.Contains(out, "no login and no home") {
		t.Fatalf("check: code %d\n%s", code, out)
	}
	if _, err := user.Lookup(name); err == nil {
		t.Fatal("it was made without being asked for")
	}
	if _, _, code := m.run("", "check", "--mend"); code != 4 {
		t.Errorf("without --yes: code %d", code)
	}
	if out, errs, code := m.run("", "check", "--mend", "--yes"); code != 0 || !strings.Contains(errs, "undo 1") {
		t.Fatalf("check --mend: code %d\n%s%s", code, out, errs)
	}
	u, err := user.Lookup(name)
	if err != nil {
		t.Fatal(err)
	}
	line, err := exec.Command("getent", "passwd", name).Output()
	if err != nil || !strings.Contains(string(line), ":/nonexistent:") || !strings.Contains(string(line), "nologin") {
		t.Errorf("the account is %s, %v", line, err)
	}
	gids, err := u.GroupIds()
	if g, gerr := user.LookupGroup(group); gerr != nil || err != nil || len(gids) != 2 ||
		!slices.Contains(gids, g.Gid) {
		t.Errorf("its groups are %v, %v", gids, err)
	}
	m.must("deploy", "--yes")
	if d := m.access("films", "--prove"); d.Folders[0].Proof.Read != d.Folders[0].Files || d.Folders[0].Files == 0 {
		t.Errorf("as the new account: %+v", d.Folders[0])
	}
	if _, errs, code := m.run("", "undo", "1", "--yes"); code != 1 || !strings.Contains(errs, "is in use") {
		t.Errorf("while the server runs as it: code %d, %s", code, errs)
	}
	m.must("stop")
	m.must("undo", "1", "--yes")
	if exec.Command("getent", "passwd", name).Run() == nil {
		t.Error("the account is still there")
	}
	// Taking that back makes the account again, with the same numbers.
	list := m.entries()
	m.must("undo", fmt.Sprint(list[len(list)-1].ID), "--yes")
	if again, err := user.Lookup(name); err != nil || again.Uid != u.Uid || again.Gid != u.Gid {
		t.Errorf("made again: %+v, %v, want %s:%s", again, err, u.Uid, u.Gid)
	}
	list = m.entries()
	m.must("undo", fmt.Sprint(list[len(list)-1].ID), "--yes")
	if exec.Command("getent", "passwd", name).Run() == nil {
		t.Error("the account is still there, after it was made again and removed")
	}
	// So that cleaning up finds its numbers.
	m.edit(fmt.Sprintf("run_as  = %q", name), fmt.Sprintf("run_as  = \"%s:%s\"", u.Uid, u.Gid))
}

// TestDevicesComeWithTheirGroups maps a device into the container.
func TestDevicesComeWithTheirGroups(t *testing.T) {
	t.Parallel()
	needsDocker(t)
	m := newMill(t, "docker")
	// Devices stand below /dev; this one is harmless, a twin of /dev/null.
	device := fmt.Sprintf("/dev/cozyshelf-test-%d", os.Getpid())
	if err := unix.Mknod(device, unix.S_IFCHR|0o660, int(unix.Mkdev(1, 3))); err != nil {
		testbuild.Missing(t, "devices: "+err.Error())
	}
	t.Cleanup(func() { os.Remove(device) })
	if err := errors.Join(os.Chown(device, 0, 41044), os.Chmod(device, 0o660)); err != nil {
		t.Fatal(err)
	}
	m.edit("port    =", fmt.Sprintf("devices = [%q]\nport    =", device))
	if out := m.must("check"); !strings.Contains(out, "group 41044") {
		t.Errorf("check says:\n%s", out)
	}
	m.must("deploy", "--yes")
	api, err := moby.New(moby.FromEnv)
	if err != nil {
		t.Fatal(err)
	}
	list, err := api.ContainerList(context.Background(),
		moby.ContainerListOptions{Filters: moby.Filters{}.Add("label", "cozyshelf.name=Fernhollow Mill")})
	if err != nil {
		t.Fatal(err)
	}
	found := false
	for _, c := range list.Items {
		in, err := api.ContainerInspect(context.Background(), c.ID, moby.ContainerInspectOptions{})
		if err != nil {
			continue // another test's, gone meanwhile
		}
		h := in.Container.HostConfig
		if len(h.Devices) == 1 && h.Devices[0].PathOnHost == device {
			found = slices.Contains(h.GroupAdd, "41044")
		}
	}
	if !found {
		t.Error("no container has the device with its group")
	}
	m.edit(filepath.Base(device), "cozyshelf-no-such-device")
	if out, _, code := m.run("", "check"); code != 3 || !strings.Contains(out, "is not there") {
		t.Errorf("a device that is not there: code %d\n%s", code, out)
	}
}
