package test

import (
	"encoding/json"
	"errors"
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

	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/testbuild"
)

// TestBadInputIsRefusedWithNothingHalfDone tries what people get wrong.
func TestBadInputIsRefusedWithNothingHalfDone(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	whole, err := os.ReadFile(m.path("household.toml"))
	if err != nil {
		t.Fatal(err)
	}
	films := m.path("media/films")
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	takenPort := taken.Addr().(*net.TCPAddr).Port
	if err := os.Symlink(films, m.path("linked")); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		old, new string
		code     int // of check and of deploy
		says     []string
	}{
		"unknown key": {"run_as ", "runas ", 2,
			[]string{"server.runas", "household.toml:13:1", `did you mean "run_as"`}},
		"wrong type": {fmt.Sprintf("port    = %d", m.port), `port = "high"`, 2,
			[]string{"whole number", "household.toml:14:8"}},
		"same shelf twice":    {`name    = "series"`, `name    = "films"`, 2, []string{"two shelves"}},
		"port out of range":   {fmt.Sprintf("= %d", m.port), "= 65536", 2, []string{"out of range"}},
		"nested folders":      {m.path("media/series"), films + "/more", 2, []string{"lies inside"}},
		"missing folder":      {films, m.path("media/none"), 3, []string{"does not exist", "mount its disk"}},
		"a file for a folder": {films, films + "/The Understudy Moon (1996).mp4", 3, []string{"is a file"}},
		"one place by a link": {m.path("media/series"), m.path("linked"), 3, []string{"same place"}},
		"unknown account":     {m.runAs, "no-such-keeper", 3, []string{"no-such-keeper", "useradd"}},
		"port taken": {fmt.Sprintf("= %d", m.port), fmt.Sprintf("= %d", takenPort), 3,
			[]string{"is held by test.test", "port = "}},
		"not our address": {`"localhost"`, `"192.0.2.77"`, 3, []string{"cannot be listened on"}},
		"state is a file": {m.path("state"), m.path("household.toml"), 3, []string{"is a file"}},
	} {
		t.Run(name, func(t *testing.T) {
			m := *m
			m.t = t
			m.edit(c.old, c.new)
			defer func() {
				if err := os.WriteFile(m.path("household.toml"), whole, 0o644); err != nil {
					t.Fatal(err)
				}
			}()
			for _, command := range [][]string{{"check"}, {"deploy", "--yes"}} {
				out, errs, code := m.run("", command...)
				if code != c.code {
					t.Errorf("%s: code %d, want %d\n%s%s", command[0], code, c.code, out, errs)
				}
				for _, s := range c.says {
					if !strings.Contains(out+errs, s) {
						t.Errorf("%s does not say %q:\n%s%s", command[0], s, out, errs)
					}
				}
			}
			if _, err := os.Stat(m.path("state")); err == nil {
				t.Error("the state folder was made")
			}
		})
	}
	t.Run("problems as JSON", func(t *testing.T) {
		_, errs, code := m.run("", "--household", "none.toml", "check", "--json")
		var p struct{ Problem, Where, Why, Fix string }
		if err := json.Unmarshal([]byte(errs), &p); err != nil || code != 2 || p.Where != "none.toml" || p.Fix == "" {
			t.Errorf("code %d, %v\n%s", code, err, errs)
		}
	})
	t.Run("wrong use", func(t *testing.T) {
		for _, args := range [][]string{{"deply"}, {"deploy", "--fast"}, {"member", "add"},
			{"member", "add", "x", "--role", "king"}, {"usage", "history", "--since", "soon"}, {"shelf", "sing"},
			{"logs", "--tail", "-1"}} {
			if out, errs, code := m.run("", args...); code != 2 || !strings.Contains(errs, "problem:") ||
				!strings.Contains(errs, "fix:") {
				t.Errorf("%v: code %d\n%s%s", args, code, out, errs)
			}
		}
	})
	t.Run("new overwrites nothing", func(t *testing.T) {
		if _, errs, code := m.run("", "new", "--name", "x", "--state", "/srv/x", "--run-as", "1:1"); code != 2 ||
			!strings.Contains(errs, "never overwritten") {
			t.Errorf("code %d, %s", code, errs)
		}
		if b, _ := os.ReadFile(m.path("household.toml")); string(b) != string(whole) {
			t.Error("the file changed")
		}
	})
	t.Run("state of another account", func(t *testing.T) {
		if os.Getuid() != 0 {
			testbuild.Missing(t, "root, to make a folder that the run-as account may not use")
		}
		if err := os.Mkdir(m.path("state"), 0o700); err != nil {
			t.Fatal(err)
		}
		for _, command := range [][]string{{"check"}, {"deploy", "--yes"}} {
			if out, errs, code := m.run("", command...); code != 3 ||
				!strings.Contains(out+errs, "cannot be used by the run-as account") ||
				!strings.Contains(out+errs, "chown -R 41500:41500") {
				t.Errorf("%s: code %d\n%s%s", command[0], code, out, errs)
			}
		}
		if err := os.Remove(m.path("state")); err != nil {
			t.Fatal(err) // also where something was put into it
		}
	})
	t.Run("engine refusing", func(t *testing.T) {
		m := *m
		m.t = t
		m.env = append(m.env, "DOCKER_HOST=unix://"+m.path("dead.sock"))
		l, err := net.ListenUnix("unix", &net.UnixAddr{Name: m.path("dead.sock"), Net: "unix"})
		if err != nil {
			t.Fatal(err)
		}
		l.SetUnlinkOnClose(false)
		l.Close()
		m.edit(`"process"`, `"docker"`)
		defer m.edit(`"docker"`, `"process"`)
		if out, _, code := m.run("", "check"); code != 3 || !strings.Contains(out, "nothing listens at") {
			t.Errorf("check: code %d\n%s", code, out)
		}
	})
	t.Run("engine absent", func(t *testing.T) {
		m := *m
		m.t = t
		m.env = append(m.env, "DOCKER_HOST=unix://"+m.path("no.sock"))
		m.edit(`"process"`, `"docker"`)
		defer m.edit(`"docker"`, `"process"`)
		if out, _, code := m.run("", "check"); code != 3 || !strings.Contains(out, "no socket at") {
			t.Errorf("check: code %d\n%s", code, out)
		}
		if _, errs, code := m.run("", "deploy", "--yes"); code != 1 || !strings.Contains(errs, "no socket at") {
			t.Errorf("deploy: code %d\n%s", code, errs)
		}
		m.edit(`"docker"`, `"auto"`)
		defer m.edit(`"auto"`, `"docker"`)
		if out, errs, code := m.run("", "check"); code != 0 || !strings.Contains(out, "process, embedded") ||
			!strings.Contains(out, "no socket at") {
			t.Errorf("auto must fall back and say why: code %d\n%s%s", code, out, errs)
		}
	})
}

// TestAServerThatCannotStartIsPutBack lets the new server meet a store that it
// cannot open, and mends that afterwards.
func TestAServerThatCannotStartIsPutBack(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		m.must("deploy", "--yes")
		m.add(demo.People[0])
		// A store that cannot be opened: only the new server meets it.
		good, bad := m.path("state/store.db"), m.path("state/store.db.kept")
		m.must("stop")
		if err := os.Rename(good, bad); err != nil {
			t.Fatal(err)
		}
		if err := os.Mkdir(good, 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.Chown(good, m.uid, m.uid); err != nil && os.Getuid() == 0 {
			t.Fatal(err)
		}
		m.edit(fmt.Sprintf("= %d", m.port), fmt.Sprintf("= %d", testbuild.Port(t)))
		began := time.Now()
		_, errs, code := m.run("", "deploy", "--yes")
		if code != 1 || !strings.Contains(errs, "store") || !strings.Contains(errs, "last lines of its log") {
			t.Errorf("code %d after %s\n%s", code, time.Since(began), errs)
		}
		if err := os.Remove(good); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(bad, good); err != nil {
			t.Fatal(err)
		}
		m.must("deploy", "--yes")
		var members []struct{ Name string }
		if m.document(&members, "member", "list"); len(members) != 1 {
			t.Errorf("members after all: %+v", members)
		}
	})
}

// TestAPortTakenAtTheLastMomentIsNamed takes the port while the server is
// stopped; nothing looks at it before the start.
func TestAPortTakenAtTheLastMomentIsNamed(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		m.must("deploy", "--yes")
		m.must("stop")
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", m.port))
		if err != nil {
			t.Fatal(err)
		}
		defer l.Close()
		if _, errs, code := m.run("", "start"); code != 1 || !strings.Contains(errs, "address already in use") ||
			!strings.Contains(errs, "fix:") {
			t.Errorf("code %d\n%s", code, errs)
		}
		if out, _, code := m.run("", "check"); code != 3 || !strings.Contains(out, "is held by test.test") {
			t.Errorf("check: code %d\n%s", code, out)
		}
		l.Close()
		m.must("start")
	})
}

// TestAToolKilledInTheMiddleIsFinishedByTheNext kills deploy at many moments.
func TestAToolKilledInTheMiddleIsFinishedByTheNext(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		port := m.port
		for i, after := range []time.Duration{20, 60, 120, 250, 400, 600, 800, 1100} {
			next := testbuild.Port(t)
			m.edit(fmt.Sprintf("= %d", port), fmt.Sprintf("= %d", next))
			port, m.port = next, next
			c := m.command("deploy", "--yes")
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			time.Sleep(after * time.Millisecond)
			_ = c.Process.Kill() // it may be done already
			_ = c.Wait()
			m.must("deploy", "--yes")
			if out := m.must("deploy", "--yes"); !strings.Contains(out, "Nothing to do") {
				t.Errorf("round %d: there is still something to do:\n%s", i, out)
			}
			if res, _ := m.get("GET", "/healthz", ""); res.StatusCode != 200 {
				t.Errorf("round %d: %s", i, res.Status)
			}
		}
		if engine == "docker" {
			out, err := exec.Command("docker", "ps", "-aq", "--filter", "label=cozyshelf.household="+
				household(m)).Output()
			if err != nil || len(strings.Fields(string(out))) != 1 {
				t.Errorf("containers: %q, %v", out, err)
			}
		}
	})
}

// serverPID finds the server's process on this machine.
func serverPID(m *mill) int {
	m.t.Helper()
	if m.engine == "docker" {
		ids, err := exec.Command("docker", "ps", "-q", "--filter", "label=cozyshelf.household="+household(m)).Output()
		if err != nil {
			m.t.Fatal(err)
		}
		out, err := exec.Command("docker", "inspect", "-f", "{{.State.Pid}}", strings.TrimSpace(string(ids))).Output()
		if err != nil {
			return 0
		}
		pid, _ := strconv.Atoi(strings.TrimSpace(string(out)))
		return pid
	}
	list, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		m.t.Fatal(err)
	}
	for _, p := range list {
		b, err := os.ReadFile(p)
		words := strings.Split(string(b), "\x00")
		if err == nil && len(words) > 2 && words[1] == "serve" && strings.Contains(string(b), m.path("state")+"/") {
			pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(p)))
			return pid
		}
	}
	return 0
}

// TestWhatWasAcknowledgedSurvivesKill9 kills the server while a client reports
// positions, and looks that none that was answered is lost.
func TestWhatWasAcknowledgedSurvivesKill9(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		m.must("deploy", "--yes")
		m.add(demo.People[0])
		token := m.token("wren")
		auth := "Bearer " + token
		rounds := 4 // each pause before a crashed server is started is longer
		position, acknowledged := 0.0, 0.0
		report := func() bool {
			position += 0.001
			r, err := call("PUT", m.address()+"/api/v1/files/1/position", auth,
				fmt.Sprintf(`{"position":%.3f,"state":"playing"}`, position))
			if err != nil || r != 200 {
				return false
			}
			acknowledged = position
			return true
		}
		for round := range rounds {
			for range 40 + 7*round {
				if !report() {
					t.Fatalf("round %d: a report failed while the server runs", round)
				}
			}
			pid := serverPID(m)
			if pid < 2 {
				t.Fatalf("the server's process is %d", pid)
			}
			killed := make(chan error, 1)
			go func() {
				time.Sleep(time.Duration(round) * 3 * time.Millisecond)
				killed <- syscall.Kill(pid, syscall.SIGKILL)
			}()
			for report() {
				time.Sleep(time.Microsecond)
			}
			if err := <-killed; err != nil {
				t.Fatal(err)
			}
			last := acknowledged
			deadline := time.Now().Add(120 * time.Second)
			for {
				if r, err := call("GET", m.address()+"/healthz", auth, ""); err == nil && r == 200 {
					break
				}
				if time.Now().After(deadline) {
					t.Fatal("the server did not come back")
				}
				time.Sleep(20 * time.Millisecond)
			}
			var plays []usage.Play
			for range 50 {
				out, _, code := m.run("", "usage", "history", "--json")
				if code == 0 && json.Unmarshal([]byte(out), &plays) == nil {
					break
				}
				time.Sleep(100 * time.Millisecond)
			}
			if len(plays) != 1 || plays[0].Position < last-0.0005 {
				t.Fatalf("round %d: %.3f was acknowledged, got %+v", round, last, plays)
			}
		}
	})
}

// TestTheControlSocketIsClosedToOthers tries it as another account.
func TestTheControlSocketIsClosedToOthers(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to become another account")
	}
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	st, err := os.Lstat(m.path("state/control.sock"))
	if err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("mode %v, %v", st.Mode(), err)
	}
	c := m.command("member", "list")
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 41777, Gid: 41777}}
	out, err := c.CombinedOutput()
	var ended *exec.ExitError
	if !errors.As(err, &ended) || !strings.Contains(string(out), "may not open its control socket") {
		t.Errorf("another account: %v\n%s", err, out)
	}
}

// TestAnAdministratorOfTheEngineGetsInThroughIt closes the state folder to the
// tool and sees that commands go through the container.
func TestAnAdministratorOfTheEngineGetsInThroughIt(t *testing.T) {
	t.Parallel()
	needsDocker(t)
	m := newMill(t, "docker")
	m.must("deploy", "--yes")
	group := dockerGroup(t)
	c := m.command("member", "add", "wren", "--role", "admin")
	c.Stdin = strings.NewReader("a long password\n")
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 41777, Gid: 41777,
		Groups: []uint32{group}}}
	if out, err := c.CombinedOutput(); err != nil || !strings.Contains(string(out), "Added wren") {
		t.Errorf("%v\n%s", err, out)
	}
}

func dockerGroup(t *testing.T) uint32 {
	t.Helper()
	st, err := os.Stat("/var/run/docker.sock")
	if err != nil {
		t.Fatal(err)
	}
	return st.Sys().(*syscall.Stat_t).Gid
}

// TestARealBrowserPlaysAndResumes signs in on the page, watches, and comes back.
func TestARealBrowserPlaysAndResumes(t *testing.T) {
	t.Parallel()
	m, b, f, step := signedIn(t)
	page := fmt.Sprintf("%s/play/%d", m.address(), f.ID)
	step("play page", b.Go(page))
	step("play", b.Eval(`document.querySelector("video").play()`, nil))
	step("it runs", b.Until(`document.querySelector("video").currentTime > 6`))
	var now []usage.Play
	if m.document(&now, "usage", "now"); len(now) != 1 || now[0].Title != "The Paper Lighthouse" ||
		now[0].Device != "browser on Linux" {
		t.Errorf("now: got %+v", now)
	}
	step("leave", b.Go(m.address()+"/"))
	// The page that is left tells where it was when it goes.
	for range 100 {
		if m.document(&now, "usage", "history"); len(now) == 1 && !now[0].Ended.IsZero() {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if len(now) != 1 || now[0].Ended.IsZero() || now[0].Position < 6 {
		t.Errorf("after leaving: got %+v", now)
	}
	step("look again", b.Go(m.address()+"/?again"))
	step("it can be gone on with", b.Until(`document.body.textContent.includes("Go on watching")`))
	step("come back", b.Go(page))
	// To open a page is not to watch.
	step("it waits", b.Until(`document.querySelector("video").paused`))
	time.Sleep(300 * time.Millisecond)
	if m.document(&now, "usage", "now"); len(now) != 0 {
		t.Errorf("opening the page counts as watching: %+v", now)
	}
	step("play again", b.Eval(`document.querySelector("video").play()`, nil))
	step("it goes on", b.Until(`document.querySelector("video").currentTime > 5.5`))
	// Nothing that the page asked for was refused by its own policy.
	for _, s := range b.Said {
		t.Errorf("the page complained: %s", s)
	}
}
