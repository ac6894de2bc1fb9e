package test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/demo"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/testbuild"
)

// TestTheEngineGoesInTheMidstOfADeployment ends the engine, as its service does, at
// many moments of a deployment. Once it is back, the next deployment gets to the end.
// (Ended by SIGKILL in the midst of a start, an engine of that age may keep half a
// container that it can never start again.)
func TestTheEngineGoesInTheMidstOfADeployment(t *testing.T) {
	t.Parallel()
	d := testbuild.OwnDocker(t)
	host := "DOCKER_HOST=" + d.Host
	m := millOf(t, "docker", nil, host)
	m.edit(`network = "own"`, `network = "host"`) // this engine makes no bridges
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	port := m.port
	for i, after := range []time.Duration{30, 200, 350, 500, 700, 900, 1200} {
		next := testbuild.Port(t)
		m.edit(fmt.Sprintf("= %d", port), fmt.Sprintf("= %d", next))
		port, m.port = next, next
		c := m.command("deploy", "--yes")
		var out strings.Builder
		c.Stdout, c.Stderr = &out, &out
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(after * time.Millisecond)
		d.End(syscall.SIGTERM)
		ended := make(chan error, 1)
		go func() { ended <- c.Wait() }()
		select {
		case err := <-ended:
			if err != nil && !strings.Contains(out.String(), "problem:") {
				t.Errorf("round %d: %v without a word\n%s", i, err, out.String())
			}
		case <-time.After(90 * time.Second):
			_ = c.Process.Kill()
			t.Errorf("round %d: the tool waits for an engine that is gone\n%s", i, out.String())
			<-ended
		}
		d.Start()
		m.must("deploy", "--yes")
		if again := m.must("deploy", "--yes"); !strings.Contains(again, "Nothing to do") {
			t.Errorf("round %d: there is something left to do:\n%s", i, again)
		}
		if m.health() != "ready" || len(m.names()) != 1 {
			t.Errorf("round %d: %s, %v", i, m.health(), m.names())
		}
		m.tidy(fmt.Sprint("round ", i))
	}
	list := exec.Command("docker", "ps", "-aq")
	list.Env = append(os.Environ(), host)
	if got, err := list.Output(); err != nil || len(strings.Fields(string(got))) != 1 {
		t.Errorf("containers: %q, %v", got, err)
	}
}

// TestPodmanGoesTheWholeWay deploys on a Podman of its own, changes, watches, upgrades,
// goes back, backs up and retires.
// TestAHouseholdMovesToAnotherEngine does it too soon first: two servers must never work
// on one state folder.
func TestAHouseholdMovesToAnotherEngine(t *testing.T) {
	t.Parallel()
	needsDocker(t)
	m := newMill(t, "docker")
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	port := testbuild.Port(t)
	m.edit(`engine  = "docker"`, `engine  = "process"`)
	m.edit(fmt.Sprintf("= %d", m.port), fmt.Sprintf("= %d", port))
	if out, errs, code := m.run("", "deploy", "--yes"); code != problem.ExitFound ||
		!strings.Contains(errs, "is deployed on docker already") || !strings.Contains(errs, "cozyshelf retire") {
		t.Errorf("too soon: code %d\n%s%s", code, out, errs)
	}
	var st struct{ Why, Fix string }
	if m.document(&st, "status"); !strings.Contains(st.Why, "deployed on docker") || st.Fix == "" {
		t.Errorf("status: %+v", st)
	}
	saved := m.path("saved.tar.zst")
	m.must("backup", "--to", saved)
	for _, args := range [][]string{{"retire", "--erase", "--yes"}, {"restore", saved, "--yes"}} {
		if _, errs, code := m.run("", args...); code != 1 || !strings.Contains(errs, "deployed on another engine") {
			t.Errorf("%v under a server on another engine: code %d, %s", args, code, errs)
		}
	}
	// Nor does a server that somebody starts by hand.
	settings, err := filepath.Glob(m.path("state/settings-*.json"))
	if err != nil || len(settings) != 1 {
		t.Fatal(settings, err)
	}
	by := m.path("by-hand.json")
	text := strings.ReplaceAll(string(read(settings[0])), `"/state"`, fmt.Sprintf("%q", m.path("state")))
	if err := errors.Join(os.WriteFile(by, []byte(text), 0o600), os.Chown(by, m.uid, m.uid)); err != nil &&
		os.Getuid() == 0 {
		t.Fatal(err)
	}
	c := m.command("serve", "--settings", by)
	if os.Getuid() == 0 {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(m.uid), Gid: uint32(m.uid)}}
	}
	if out, err := c.CombinedOutput(); err == nil ||
		!strings.Contains(string(out), "another server works on this state folder") {
		t.Errorf("a second server: %v, %s", err, out)
	}
	m.edit(`engine  = "process"`, `engine  = "docker"`)
	m.must("retire", "--yes")
	m.edit(`engine  = "docker"`, `engine  = "process"`)
	m.must("deploy", "--yes")
	if m.port = port; m.health() != "ready" || len(m.names()) != 1 {
		t.Errorf("moved: %s, %v", m.health(), m.names())
	}
	m.engine = "process"
}

func TestPodmanGoesTheWholeWay(t *testing.T) {
	t.Parallel()
	for who, account := range map[string]*syscall.Credential{"root": nil, "an account": {Uid: 41610, Gid: 41610}} {
		t.Run(who, func(t *testing.T) { podmanGoesTheWholeWay(t, account) })
	}
}

func podmanGoesTheWholeWay(t *testing.T, account *syscall.Credential) {
	socket, _ := testbuild.Podman(t, account)
	m := millOf(t, "podman", account)
	m.env = append(m.env, "COZYSHELF_UNITS="+m.path("units"), "CONTAINER_HOST=unix://"+socket)
	media := hashes(t, m.path("media"))
	m.must("deploy", "--yes")
	m.add(demo.People...)
	if res, _ := m.get("GET", "/api/v1/files/1/content", "", "Authorization", "Bearer "+
		m.token("wren")); res.StatusCode != 200 {
		t.Errorf("a film: %s", res.Status)
	}
	m.edit(`memory  = "256 MiB"`, `memory  = "300 MiB"`)
	if out := m.must("deploy", "--yes"); !strings.Contains(out, "memory limit") {
		t.Errorf("deploy:\n%s", out)
	}
	var st struct {
		Healthy bool
		Drift   []string
		Boot    string
	}
	if m.document(&st, "status"); !st.Healthy || len(st.Drift) > 0 || !strings.Contains(st.Boot, "with the machine") {
		t.Errorf("status: %+v", st)
	}
	if out, err := exec.Command("systemd-analyze", "verify",
		m.path("units/cozyshelf-"+household(m)+".service")).CombinedOutput(); err != nil {
		t.Errorf("the unit: %v\n%s", err, out)
	}
	usual := m.program
	m.program = testbuild.Variant{Version: "2.0.0", Newer: true, Tags: "crashpoint"}.Program(t)
	m.must("upgrade", "--yes")
	m.must("rollback", "--yes")
	m.program = usual
	if m.health() != "ready" || len(m.names()) != len(demo.People) {
		t.Errorf("after all: %s, %v", m.health(), m.names())
	}
	m.must("access", "films", "--prove")
	m.must("stop")
	m.must("start")
	m.must("backup", "--to", m.path("b.tar.zst"))
	m.must("restore", m.path("b.tar.zst"), "--yes")
	m.must("retire", "--erase", "--yes")
	now := hashes(t, m.path("media"))
	for p, h := range media {
		if now[p] != h {
			t.Errorf("%s was changed", p)
		}
	}
}

func TestStatusIsWatched(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	c := m.command("status", "--watch", "--pause", "200ms")
	file, err := os.Create(m.path("watched"))
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	c.Stdout = file
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	for began := time.Now(); time.Since(began) < 30*time.Second && bytes.Count(read(file.Name()), []byte("\n")) < 2; {
		time.Sleep(50 * time.Millisecond)
	}
	if err := c.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	if err := c.Wait(); err != nil {
		t.Errorf("ended by Ctrl-C: %v", err)
	}
	out := string(read(file.Name()))
	lines := strings.Split(strings.TrimSpace(out), "\n")
	if len(lines) < 2 || !strings.Contains(lines[len(lines)-1], "healthy, 0 streams") || strings.Contains(out, "\x1b") {
		t.Errorf("got %q", lines)
	}
}
