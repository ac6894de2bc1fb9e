package test

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"cozyshelf/internal/demo"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/testbuild"
)

// spoilt is how a step is spoilt: it fails, or the program ends by SIGKILL before or
// after it. Several ways, with a plus between, come one after the other.
type spoilt struct {
	how  string
	step int
}

func (s spoilt) String() string { return fmt.Sprintf("%s:%d", s.how, s.step) }

// spoil runs a command whose step is spoilt, and reports whether it came to that.
// putBack, unless nil, looks at what is there after a step that failed.
func (m *mill) spoil(s spoilt, putBack func(errs string), args ...string) bool {
	m.t.Helper()
	came := false
	for how := range strings.SplitSeq(s.how, "+") {
		one := spoilt{how, s.step}
		c := m.command(args...)
		c.Env = append(c.Env, "COZYSHELF_CRASHPOINT="+one.String())
		var out bytes.Buffer
		c.Stdout, c.Stderr = &out, &out
		err := c.Run()
		var ended *exec.ExitError
		switch {
		case err == nil:
			return came
		case !errors.As(err, &ended):
			m.t.Fatal(err)
		case how == "fail":
			if ended.ExitCode() != 1 || !strings.Contains(out.String(), "made to fail") {
				m.t.Fatalf("%s at %s: %v\n%s", args[0], one, err, out.String())
			}
			if putBack != nil {
				putBack(out.String())
			}
		case ended.Sys().(syscall.WaitStatus).Signal() != syscall.SIGKILL:
			m.t.Fatalf("%s at %s: %v\n%s", args[0], one, err, out.String())
		}
		came = true
	}
	return came
}

// hashes gives the content, mode and owner of every file below a folder.
func hashes(t testing.TB, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		st, err := d.Info()
		if err != nil {
			return err
		}
		sys := st.Sys().(*syscall.Stat_t)
		text := fmt.Sprintf("%v %d:%d", st.Mode(), sys.Uid, sys.Gid)
		if d.Type().IsRegular() {
			b, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			text += fmt.Sprintf(" %x", sha256.Sum256(b))
		}
		out[p] = text
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// onEngine lists everything of ours that the engine has, of this household or of none
// that is named.
func (m *mill) onEngine() []string {
	m.t.Helper()
	if m.engine == "process" {
		list, err := filepath.Glob(m.path("process/*/*/*"))
		if err != nil {
			m.t.Fatal(err)
		}
		return list
	}
	var all []string
	for _, args := range [][]string{{"ps", "-aq"}, {"network", "ls", "-q"}, {"volume", "ls", "-q"}} {
		out, err := exec.Command("docker",
			append(args, "--filter", "label=cozyshelf.household="+household(m))...).Output()
		if err != nil {
			m.t.Fatal(err)
		}
		all = append(all, strings.Fields(string(out))...)
	}
	return all
}

// whole looks whether all is as it should be after a command was finished: one
// server, the members that there were, a ledger that is sound, nothing half-written.
func (m *mill) whole(where string, members ...string) {
	m.t.Helper()
	out := m.must("deploy", "--yes")
	for range 3 {
		// A program that another test is about to keep belongs to nobody for a moment.
		if !strings.Contains(out, "no household uses it") || strings.Count(out, "• ") != strings.Count(out,
			"no household uses it") {
			break
		}
		out = m.must("deploy", "--yes")
	}
	if !strings.Contains(out, "Nothing to do") {
		m.t.Errorf("%s: there is something left to do:\n%s", where, out)
	}
	var list []struct{ Name string }
	m.document(&list, "member", "list")
	var names []string
	for _, x := range list {
		names = append(names, x.Name)
	}
	if !slices.Equal(names, members) {
		m.t.Errorf("%s: members %v, want %v", where, names, members)
	}
	m.tidy(where)
	n := 0
	for _, x := range m.onEngine() {
		if m.engine == "docker" || strings.Contains(x, "/households/") {
			n++
		}
	}
	if want := map[string]int{"docker": 2, "process": 1}[m.engine]; n != want {
		m.t.Errorf("%s: %d things on the engine, want %d: %v", where, n, want, m.onEngine())
	}
}

// tidy looks that nothing half-written lies about and nothing is left open.
func (m *mill) tidy(where string) {
	m.t.Helper()
	for _, p := range []string{"state/.new-*", "state/*/.new-*", "process/programs/.new-*"} {
		if left, _ := filepath.Glob(m.path(p)); len(left) > 0 {
			m.t.Errorf("%s: left behind: %v", where, left)
		}
	}
	entries, damaged, err := ledger.Read(m.path("state"))
	if err != nil || damaged > 0 {
		m.t.Errorf("%s: ledger: %d damaged, %v", where, damaged, err)
	}
	for _, e := range entries {
		if e.Outcome == ledger.Open {
			m.t.Errorf("%s: entry %d is open: %+v", where, e.ID, e)
		}
	}
	if _, wrong, err := ledger.Verify(m.path("state")); err != nil || wrong > 0 {
		m.t.Errorf("%s: line %d of the ledger does not follow, %v", where, wrong, err)
	}
}

// modes are the ways in which every step is spoilt. To be ended after a step and
// before the next one differ by a line of the ledger only, so the slow engine is
// spared one of them.
func modes(engine string) []string {
	if engine == "docker" {
		return []string{"fail+after"}
	}
	return []string{"fail+after", "before"}
}

// each runs something for steps of a command and every way to spoil them, until there is no
// such step: each second one, each third with Docker, from a random one on; each with
// COZYSHELF_TORTURE.
func each(t *testing.T, engine string, do func(s spoilt) (came bool)) {
	t.Helper()
	pace := 2
	switch {
	case everyStep():
		pace = 1
	case engine == "docker":
		pace = 3
	}
	some(t, engine, 1+rand.IntN(pace), pace, do)
}

// everyStep reports whether each step is to be spoilt, not every second or third from a random one on.
func everyStep() bool { return os.Getenv("COZYSHELF_TORTURE") != "" }

// some is each for one step in a few, from the first on.
func some(t *testing.T, engine string, first, pace int, do func(s spoilt) (came bool)) {
	t.Helper()
	for _, how := range modes(engine) {
		n := first
		for ; do(spoilt{how, n}); n += pace {
			if n > 40 {
				t.Fatal("the steps never end")
			}
		}
		if n < 3 {
			t.Errorf("%s: there were only %d steps", how, n-1)
		}
	}
}

// survivor is a household whose program obeys the tests, with two members and a film
// that one of them has begun.
func survivor(t *testing.T, engine string) *mill {
	m := newMill(t, engine)
	m.program = testbuild.Variant{Version: "1.0.0", Tags: "crashpoint"}.Program(t)
	m.env = append(m.env, "COZYSHELF_UNITS="+m.path("units"))
	return m
}

func TestEveryStepOfDeployAndRetireMayFailOrBeCutOff(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := survivor(t, engine)
		media := hashes(t, m.path("media"))
		each(t, engine, func(s spoilt) bool {
			where := "first deployment, " + s.String()
			came := m.spoil(s, nil, "deploy", "--yes")
			m.must("deploy", "--yes")
			m.whole(where)
			m.spoil(s, nil, "retire", "--erase", "--yes")
			m.must("retire", "--erase", "--yes")
			if left := m.onEngine(); len(left) > 0 {
				t.Errorf("retire, %s: left on the engine: %v", s, left)
			}
			if _, err := os.Stat(m.path("state")); !errors.Is(err, os.ErrNotExist) {
				t.Errorf("retire, %s: the state folder: %v", s, err)
			}
			if left, _ := filepath.Glob(m.path("units/*")); len(left) > 0 {
				t.Errorf("retire, %s: units: %v", s, left)
			}
			return came
		})
		if now := hashes(t, m.path("media")); !maps.Equal(now, media) {
			t.Error("media were changed")
		}
	})
}

func TestEveryStepOfAChangeMayFailOrBeCutOff(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := survivor(t, engine)
		m.must("deploy", "--yes")
		m.add(demo.People[0])
		ports := []int{m.port, testbuild.Port(t)}
		each(t, engine, func(s spoilt) bool {
			m.edit(fmt.Sprintf("= %d", ports[0]), fmt.Sprintf("= %d", ports[1]))
			came := m.spoil(s, func(errs string) {
				if late(errs) {
					return
				}
				// What was there runs as before, at its old port.
				m.port = ports[0]
				if res, _ := m.get("GET", "/healthz", ""); res.StatusCode != 200 {
					t.Errorf("%s: the old server answers %s", s, res.Status)
				}
			}, "deploy", "--yes")
			m.port = ports[1]
			m.must("deploy", "--yes")
			m.whole(s.String(), "wren")
			if res, _ := m.get("GET", "/healthz", ""); res.StatusCode != 200 {
				t.Errorf("%s: %s", s, res.Status)
			}
			slices.Reverse(ports)
			return came
		})
	})
}

// late reports whether a deployment failed after its server was healthy: then that one
// runs.
func late(errs string) bool {
	return strings.Contains(errs, "removing … failed") || strings.Contains(errs, "removing the image … failed") ||
		strings.Contains(errs, "removing the old server … failed") ||
		strings.Contains(errs, "removing the copy of the program … failed") ||
		strings.Contains(errs, "unit of systemd … failed")
}

// halves runs a test on each engine, for the odd steps or for the even ones; with
// COZYSHELF_TORTURE for both at the same time.
func halves(t *testing.T, do func(t *testing.T, engine string, first int)) {
	engines(t, func(t *testing.T, engine string) {
		one := rand.IntN(2)
		for i, which := range []string{"odd", "even"} {
			if i != one && !everyStep() {
				continue
			}
			t.Run(which, func(t *testing.T) {
				t.Parallel()
				do(t, engine, 1+i)
			})
		}
	})
}

// TestEveryStepOfUpgradeAndRollbackMayFailOrBeCutOff goes to a program whose store
// the former does not know, and back, over and over.
func TestEveryStepOfUpgradeAndRollbackMayFailOrBeCutOff(t *testing.T) {
	t.Parallel()
	halves(t, func(t *testing.T, engine string, first int) {
		m := survivor(t, engine)
		old, newer := m.program, testbuild.Variant{Version: "2.0.0", Tags: "crashpoint", Newer: true}.Program(t)
		m.must("deploy", "--yes")
		m.add(demo.People[0])
		running := func(where, version string) {
			t.Helper()
			var st struct {
				Healthy bool
				Version string
			}
			if m.document(&st, "status"); !st.Healthy || st.Version != version {
				t.Errorf("%s: got %+v, want %s healthy", where, st, version)
			}
		}
		// Twice as many steps as elsewhere, so one round of them.
		some(t, "docker", first, 2, func(s spoilt) bool {
			m.program = newer
			came := m.spoil(s, func(errs string) {
				if !late(errs) {
					running("upgrade, "+s.String()+": put back", "1.0.0")
				}
			}, "upgrade", "--yes")
			m.must("upgrade", "--yes")
			running("upgrade, "+s.String(), "2.0.0")
			m.whole("upgrade, "+s.String(), "wren")
			m.add(demo.People[1])

			back := m.spoil(s, nil, "rollback", "--yes")
			if back {
				// It goes on from there; or all was done but the last word of it.
				if _, errs, code := m.run("", "rollback", "--yes"); code != 0 &&
					!strings.Contains(errs, "no upgrade to go back from") {
					t.Fatalf("rollback once more after %s: code %d, %s", s, code, errs)
				}
			}
			m.program = old
			running("rollback, "+s.String(), "1.0.0")
			m.whole("rollback, "+s.String(), "wren")
			return came || back
		})
	})
}

func TestEveryStepOfRestoreMayFailOrBeCutOff(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := survivor(t, engine)
		m.must("deploy", "--yes")
		m.add(demo.People[0])
		m.must("backup", "--to", m.path("one.tar.zst"))
		m.add(demo.People[1])
		m.must("backup", "--to", m.path("two.tar.zst"))
		files := []string{m.path("one.tar.zst"), m.path("two.tar.zst")}
		have := [][]string{{"wren"}, {"wren", "ozan"}}
		each(t, engine, func(s spoilt) bool {
			came := m.spoil(s, func(string) { m.whole("restore, "+s.String()+": put back", have[1]...) }, "restore",
				files[0], "--yes")
			m.must("restore", files[0], "--yes")
			m.whole("restore, "+s.String(), have[0]...)
			slices.Reverse(files)
			slices.Reverse(have)
			return came
		})
	})
}

func TestEveryStepOfMendingMayFailOrBeCutOff(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give files to others")
	}
	m := survivor(t, "process")
	m.must("deploy", "--yes")
	films := m.path("media/films")
	spoilModes := func() {
		list, err := filepath.Glob(films + "/*")
		if err != nil || len(list) < 4 {
			t.Fatal(list, err)
		}
		for _, p := range append(list[:4], films) {
			if err := exec.Command("setfacl", "-b", p).Run(); err != nil {
				testbuild.Missing(t, "setfacl")
			}
			if err := os.Chmod(p, 0o700); err != nil {
				t.Fatal(err)
			}
		}
	}
	readable := func(where string) {
		t.Helper()
		var doc struct {
			Folders []struct {
				Problems []any
			}
		}
		out, _, _ := m.run("", "access", "films", "--json")
		if err := json.Unmarshal([]byte(out), &doc); err != nil || len(doc.Folders) != 1 ||
			len(doc.Folders[0].Problems) != 0 {
			t.Errorf("%s: %v\n%s", where, err, out)
		}
	}
	// Each step mends in the same way, so every other one.
	some(t, "process", 1, 2, func(s spoilt) bool {
		spoilModes()
		came := m.spoil(s, nil, "access", "films", "--mend", "--yes")
		m.must("access", "films", "--mend", "--yes")
		readable("mend, " + s.String())
		m.must("deploy", "--yes")
		m.tidy("mend, " + s.String())
		return came
	})
}
