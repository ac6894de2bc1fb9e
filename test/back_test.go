package test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/testbuild"
)

// cut runs a command that ends before its nth step.
func (m *mill) cut(n int, args ...string) {
	m.t.Helper()
	env := m.env
	m.env = append(env, fmt.Sprintf("COZYSHELF_CRASHPOINT=before:%d", n))
	out, errs, code := m.run("", args...)
	m.env = env
	if code == 0 {
		m.t.Fatalf("cozyshelf %s was not cut off at step %d\n%s%s", strings.Join(args, " "), n, out, errs)
	}
}

// runs is the version of the program that runs.
func (m *mill) runs() string {
	m.t.Helper()
	var s struct{ Version string }
	m.document(&s, "status")
	return s.Version
}

func (m *mill) outcome(id int) string {
	m.t.Helper()
	list, _, err := ledger.Read(m.path("state"))
	if err != nil {
		m.t.Fatal(err)
	}
	for _, e := range list {
		if e.ID == id {
			return e.Outcome
		}
	}
	return ""
}

func (m *mill) lastDeployment() ledger.Entry {
	m.t.Helper()
	list := m.deployments()
	if len(list) == 0 {
		m.t.Fatal("there is none")
	}
	return list[len(list)-1]
}

// TestWhatCanBeGoneBackToFollowsFromWhatRan goes forth and back, with commands cut off in
// between.
func TestWhatCanBeGoneBackToFollowsFromWhatRan(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	old, newer := testbuild.Variant{Version: "1.0.0", Tags: "crashpoint"}.Program(t),
		testbuild.Variant{Version: "2.0.0", Tags: "crashpoint", Newer: true}.Program(t)
	with := func(program string) { m.program = program }
	with(old)
	m.must("deploy", "--yes")
	m.add(demo.People[0])

	// An upgrade that was cut off before the program was even loaded is not done, whatever
	// comes after it.
	with(newer)
	m.cut(1, "upgrade", "--yes")
	upgrade := m.lastDeployment()
	with(old)
	if out := m.must("deploy", "--yes"); !strings.Contains(out, "Nothing to do") {
		t.Errorf("deploy by the program that runs:\n%s", out)
	}
	if got := m.outcome(upgrade.ID); !strings.HasPrefix(got, "cut off") || m.runs() != "1.0.0" {
		t.Errorf("the upgrade that was cut off is %q, and %s runs", got, m.runs())
	}
	// The next one, and the way back from it, go as ever.
	with(newer)
	m.must("upgrade", "--yes")
	m.must("rollback", "--yes")
	if m.runs() != "1.0.0" {
		t.Fatalf("%s runs", m.runs())
	}
	// What undid the rollback can be gone back from.
	m.must("undo", fmt.Sprint(m.lastDeployment().ID), "--yes")
	if m.runs() != "2.0.0" {
		t.Fatalf("after undoing the rollback %s runs", m.runs())
	}
	m.must("rollback", "--yes")
	if m.runs() != "1.0.0" {
		t.Fatalf("after the second rollback %s runs", m.runs())
	}
	if _, errs, code := m.run("", "rollback", "--yes"); code != 1 ||
		!strings.Contains(errs, "no upgrade to go back from") {
		t.Errorf("a third one: code %d, %s", code, errs)
	}
	// A rollback that was cut off early, and taken back, is ended.
	with(newer)
	m.must("upgrade", "--yes")
	m.cut(1, "rollback", "--yes")
	back := m.lastDeployment()
	m.must("undo", fmt.Sprint(back.ID), "--yes")
	if got := m.outcome(back.ID); got == ledger.Open {
		t.Error("the rollback that was taken back is open still")
	}
	if m.runs() != "2.0.0" {
		t.Errorf("%s runs", m.runs())
	}
	m.must("rollback", "--yes")
	if m.runs() != "1.0.0" || len(m.names()) != 1 {
		t.Errorf("%s runs, with %v", m.runs(), m.names())
	}
	// What was changed in the household file since stays, however often one goes forth and back.
	m.program = newer
	m.must("upgrade", "--yes")
	m.edit(`"256 MiB"`, `"288 MiB"`)
	m.must("deploy", "--yes")
	for _, args := range [][]string{{"rollback", "--yes"}, {"undo", "", "--yes"}, {"rollback", "--yes"}} {
		if args[0] == "undo" {
			args[1] = fmt.Sprint(m.lastDeployment().ID)
		}
		m.must(args...)
		b, err := os.ReadFile(m.path("household.toml"))
		if err != nil || !strings.Contains(string(b), `"288 MiB"`) {
			t.Fatalf("after %v the household file is, %v,\n%s", args, err, b)
		}
	}
	if m.runs() != "1.0.0" {
		t.Errorf("%s runs", m.runs())
	}
}

// TestARestoreThatWasCutOffEarlyIsTakenBack cuts it off at each of its first steps.
func TestARestoreThatWasCutOffEarlyIsTakenBack(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.program = testbuild.Variant{Version: "1.0.0", Tags: "crashpoint"}.Program(t)
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	saved := m.path("saved.tar.zst")
	m.must("backup", "--to", saved)
	m.add(demo.People[1])
	for n := 1; n <= 3; n++ {
		m.cut(n, "restore", saved, "--yes")
		list, _, err := ledger.Read(m.path("state"))
		if err != nil {
			t.Fatal(err)
		}
		id := 0
		for _, e := range list {
			if e.Action == "restore" && e.Of == 0 {
				id = e.ID
			}
		}
		m.must("undo", fmt.Sprint(id), "--yes")
		if m.health() != "ready" || len(m.names()) != 2 {
			t.Fatalf("cut off before step %d and taken back: %s, %v", n, m.health(), m.names())
		}
		if got := m.outcome(id); got == ledger.Open {
			t.Errorf("step %d: the entry is open still", n)
		}
	}
}

// TestWhatIsHalfMadeBlocksNobody leaves what a command leaves that is killed while it writes.
func TestWhatIsHalfMadeBlocksNobody(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, whose files they are")
	}
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	admin := m.path("state.admin")
	for _, p := range []string{m.path("state/.new-ABCDEFGHIJKLMNOP"),
		filepath.Join(admin, "work", ".new-QRSTUVWXYZABCDEF", "store.db"),
		filepath.Join(admin, blueprint.Backups, ".new-ABCDEFGHIJKLMNOP")} {
		if err := os.MkdirAll(filepath.Dir(p), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte("half"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	text, _ := os.ReadFile(m.path("household.toml"))
	if !strings.Contains(string(text), "300 MiB") {
		if err := os.WriteFile(m.path("household.toml"),
			[]byte(strings.Replace(string(text), "256 MiB", "300 MiB", 1)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	m.must("deploy", "--yes")
	err := filepath.WalkDir(m.dir, func(p string, d os.DirEntry, err error) error {
		if strings.HasPrefix(filepath.Base(p), ".new-") {
			t.Errorf("%s is there still", p)
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
	if st, err := os.Stat(m.path("state")); err != nil || int(st.Sys().(*syscall.Stat_t).Uid) != m.uid {
		t.Error("the state folder is not the account's")
	}
}

// TestACrashedServerIsStartedAtOnce ends the server by SIGKILL until the engine waits before
// it tries again.
func TestACrashedServerIsStartedAtOnce(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		m.must("deploy", "--yes")
		for command, says := range map[string]string{"deploy": "Ready after", "start": "is running"} {
			var st struct {
				Healthy  bool
				Why, Fix string
			}
			// Each pause is twice as long as the one before. On a busy machine it may be over before the
			// command looks, and then the server is killed once more.
			for kills, tries, began := 0, 0, time.Now(); ; time.Sleep(20 * time.Millisecond) {
				if time.Since(began) > 3*time.Minute {
					t.Fatalf("the engine does not wait: %+v", st)
				}
				if pid := m.server(); pid != 0 {
					if err := syscall.Kill(pid, syscall.SIGKILL); err != nil && !errors.Is(err, syscall.ESRCH) {
						t.Fatal(err)
					}
					kills++
				}
				if kills < 6 {
					continue
				}
				if m.document(&st, "status"); !strings.Contains(st.Why, "it crashed") {
					continue
				}
				if st.Healthy || !strings.Contains(st.Fix, "cozyshelf start") {
					t.Errorf("while it waits: %+v", st)
				}
				args := []string{command}
				if command == "deploy" {
					args = append(args, "--yes")
				}
				out := m.must(args...)
				if strings.Contains(out, says) {
					break
				}
				if tries++; tries == 4 {
					t.Errorf("%s while the engine waits:\n%s", command, out)
					break
				}
			}
			if m.health() != "ready" {
				t.Errorf("after %s it is not ready", command)
			}
		}
	})
}

// server is the process of the household's server, 0 where none runs just now.
func (m *mill) server() int {
	m.t.Helper()
	if m.engine == "docker" {
		out, err := exec.Command("docker", "ps", "-q", "--filter", "label=cozyshelf.household="+household(m)).Output()
		if err != nil || len(out) == 0 {
			return 0
		}
		out, _ = exec.Command("docker", "inspect", "-f", "{{.State.Pid}}",
			strings.TrimSpace(string(out))).Output() // it may be gone
		pid, _ := strconv.Atoi(strings.TrimSpace(string(out)))
		return pid
	}
	all, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		m.t.Fatal(err)
	}
	for _, p := range all {
		b, err := os.ReadFile(p)
		words := strings.Split(string(b), "\x00")
		if err != nil || len(words) < 2 || words[1] != "serve" || !strings.Contains(string(b), m.path("state")+"/") {
			continue
		}
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(p)))
		if err != nil {
			m.t.Fatal(err)
		}
		return pid
	}
	return 0
}

// TestATakingBackThatWasCutOffIsTakenAgain cuts a rollback off, and then its undoing.
func TestATakingBackThatWasCutOffIsTakenAgain(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	old := testbuild.Variant{Version: "1.0.0", Tags: "crashpoint"}.Program(t)
	newer := testbuild.Variant{Version: "2.0.0", Tags: "crashpoint", Newer: true}.Program(t)
	m.program = old
	m.must("deploy", "--yes")
	m.add(demo.People[0])
	m.program = newer
	m.must("upgrade", "--yes")
	for n := 2; n <= 6; n += 2 {
		m.cut(n, "rollback", "--yes")
		id := fmt.Sprint(m.lastDeployment().ID)
		for step := 1; step <= 2; step++ {
			env := m.env
			m.env = append(env, fmt.Sprintf("COZYSHELF_CRASHPOINT=before:%d", step))
			m.run("", "undo", id, "--yes") // it may have fewer steps
			m.env = env
		}
		if _, errs, code := m.run("", "undo", id, "--yes"); code != 0 && !strings.Contains(errs, "taken back already") {
			t.Fatalf("rollback cut off before step %d, and undone: code %d, %s", n, code, errs)
		}
		m.whole(fmt.Sprintf("rollback cut off before step %d, its undoing twice", n), "wren")
		if v := m.runs(); v != "2.0.0" {
			t.Fatalf("rollback cut off before step %d, and undone: %s runs", n, v)
		}
	}
}
