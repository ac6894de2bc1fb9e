package hostile

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/engine/docker"
	"cozyshelf/internal/testbuild"

	"golang.org/x/sys/unix"
)

// account is the number of the account that attacks, and of its group.
const account = 41600

func TestMain(m *testing.M) {
	if os.Getenv(planEnv) != "" {
		attack()
		os.Exit(0)
	}
	code := m.Run()
	testbuild.Clean()
	os.Exit(code)
}

// marker is in every file that only root may read.
const marker = "root-only-7f3a9c41"

// house is a household whose server was taken over.
type house struct {
	t       *testing.T
	dir     string
	engine  string
	program string
	port    int
	env     []string
	plan    plan
	victims []*exec.Cmd
}

func newHouse(t *testing.T, engine string, seed uint64) *house {
	t.Helper()
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, which is what is attacked")
	}
	h := &house{t: t, dir: testbuild.Folder(t), engine: engine, program: testbuild.Variant{Tags: "crashpoint"}.Program(t),
		port: testbuild.Port(t)}
	h.env = append(os.Environ(), "COZYSHELF_PROCESS_ROOT="+h.path("process"), "NO_COLOR=1", "TZ=UTC")
	h.media()
	h.outside()
	h.must("new", "--name", "Fernhollow Mill", "--timezone", "Europe/Riga", "--engine", engine, "--run-as",
		fmt.Sprintf("%d:%d", account, account), "--bind", "localhost",
		"--port", fmt.Sprint(h.port), "--memory", "256 MiB", "--scratch-limit", "32 MiB", "--state", h.path("state"),
		"--shelf", "films=films:"+h.path("media/films"), "--shelf", "series=series:"+h.path("media/series"))
	text, err := os.ReadFile(h.path("household.toml"))
	h.check(err)
	h.check(os.WriteFile(h.path("household.toml"),
		bytes.Replace(text, []byte(`access  = "read"`), []byte(`access  = "change"`), 1), 0o644))
	h.plan = plan{Seed: seed, State: h.path("state"), Engine: h.path("process"),
		Shelves: []string{h.path("media/films")}, Outside: h.path("outside"), Evil: h.path("evil.sh"),
		Victim: h.victims[0].Process.Pid}
	t.Cleanup(func() {
		if _, errs, code := h.run("", "retire", "--erase", "--yes"); code != 0 && !strings.Contains(errs, "not ours") {
			t.Errorf("cleaning up: code %d, %s", code, errs)
		}
	})
	return h
}

func (h *house) path(p string) string { return filepath.Join(h.dir, p) }

func (h *house) check(err error) {
	h.t.Helper()
	if err != nil {
		h.t.Fatal(err)
	}
}

// outside makes what must not change: files and folders of root's, a store, a program, and
// processes of root and of another account.
func (h *house) outside() {
	h.t.Helper()
	for _, d := range []string{"outside", "outside/private", "outside/empty", "outside/private/pictures"} {
		h.check(os.Mkdir(h.path(d), 0o755))
	}
	h.check(os.Chmod(h.path("outside/private"), 0o700))
	for name, mode := range map[string]fs.FileMode{"secret": 0o600, "private/notes": 0o600,
		"private/household.toml": 0o600, "private/pictures/a.jpg": 0o600, "store.db": 0o600, "program": 0o700} {
		h.check(os.WriteFile(h.path("outside/"+name), []byte("SQLite format 3\x00 "+marker+"\n"), mode))
		h.check(os.Chmod(h.path("outside/"+name), mode))
	}
	h.check(os.Mkdir(h.path("ran"), 0o777))
	h.check(os.Chmod(h.path("ran"), 0o777|fs.ModeSticky))
	h.check(os.WriteFile(h.path("evil.sh"), []byte(fmt.Sprintf("#!/bin/sh\nid -u > %s/$$\n", h.path("ran"))), 0o755))
	sleep, err := exec.LookPath("sleep")
	h.check(err)
	for _, id := range []uint32{0, 41601} {
		c := &exec.Cmd{Path: sleep, Args: []string{"cozyshelf", "600"},
			SysProcAttr: &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: id, Gid: id},
				Pdeathsig: syscall.SIGKILL}}
		h.check(c.Start())
		h.t.Cleanup(func() {
			_ = c.Process.Kill()
			_ = c.Wait()
		})
		h.victims = append(h.victims, c)
	}
}

// patience is how long a command may take beside the attacker.
const patience = 6 * time.Minute

func (h *house) run(stdin string, args ...string) (out, errs string, code int) {
	h.t.Helper()
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	c := exec.CommandContext(ctx, h.program, args...)
	c.Dir, c.Env, c.Stdin = h.dir, h.env, strings.NewReader(stdin)
	var o, e bytes.Buffer
	c.Stdout, c.Stderr = &o, &e
	// What holds it is to be seen.
	c.Cancel, c.WaitDelay = func() error { return c.Process.Signal(syscall.SIGQUIT) }, 5*time.Second
	began := time.Now()
	err := c.Run()
	if took := time.Since(began); took > 10*time.Second {
		h.t.Logf("cozyshelf %s took %s: code %d", strings.Join(args, " "), took.Round(time.Second),
			c.ProcessState.ExitCode())
	}
	if ctx.Err() != nil {
		h.t.Errorf("cozyshelf %s did not end within %s\n%s%s", strings.Join(args, " "), patience, o.String(),
			e.String())
	}
	if c.ProcessState == nil {
		h.t.Fatal(err)
	}
	return o.String(), e.String(), c.ProcessState.ExitCode()
}

func (h *house) must(args ...string) string {
	h.t.Helper()
	out, errs, code := h.run("", args...)
	if code != 0 {
		h.t.Fatalf("cozyshelf %s: code %d\n%s%s", strings.Join(args, " "), code, out, errs)
	}
	return out
}

// attacked runs a command with the attacker at work, and looks what came of it.
func (h *house) attacked(args ...string) {
	h.t.Helper()
	before := h.look()
	p, err := json.Marshal(h.plan)
	h.check(err)
	h.check(os.WriteFile(h.path("plan.json"), p, 0o644))
	exe, err := os.Executable()
	h.check(err)
	// The hook is a program of the tool's caller; what it runs has given root up.
	mine := h.path("attacker")
	if _, err := os.Stat(mine); err != nil {
		b, err := os.ReadFile(exe)
		h.check(err)
		h.check(os.WriteFile(mine, b, 0o755))
	}
	hook := h.path("hook.sh")
	h.check(os.WriteFile(hook, []byte(fmt.Sprintf("#!/bin/sh\n%s=%s exec setpriv --reuid %d --regid %d "+
		"--clear-groups -- "+
		"%s \"$@\"\n", planEnv, h.path("plan.json"), account, account, mine)), 0o755))
	racer := h.plan
	racer.Racing = true
	b, err := json.Marshal(racer)
	h.check(err)
	h.check(os.WriteFile(h.path("race.json"), b, 0o644))
	race := exec.Command(mine)
	race.Env = append(os.Environ(), planEnv+"="+h.path("race.json"))
	race.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: account, Gid: account},
		Pdeathsig: syscall.SIGKILL}
	h.check(race.Start())
	env := h.env
	h.env = append(env, "COZYSHELF_CRASHPOINT=hook:"+hook)
	out, errs, code := h.run("", args...)
	h.env = env
	_ = race.Process.Kill()
	_ = race.Wait()
	h.plan.Seed++
	said := fmt.Sprintf("cozyshelf %s (seed %d): code %d\n%s%s", strings.Join(args, " "), h.plan.Seed-1, code, out,
		errs)
	// The server may end, and its log is shown; the command itself may not break down.
	if code == 2 && strings.Contains(errs, "goroutine ") && !strings.Contains(errs, "problem:") {
		h.t.Errorf("it broke down: %s", said)
	}
	for name, was := range before {
		if now := h.look()[name]; now != was {
			h.t.Errorf("%s was %s, is %s\nafter %s", name, was, now, said)
		}
	}
	for name := range h.look() {
		if _, ok := before[name]; !ok {
			h.t.Errorf("%s was made\nafter %s", name, said)
		}
	}
	for _, v := range h.victims {
		if v.Process.Signal(syscall.Signal(0)) != nil {
			h.t.Errorf("process %d was ended\nafter %s", v.Process.Pid, said)
		}
	}
	list, err := os.ReadDir(h.path("ran"))
	h.check(err)
	for _, d := range list {
		if b, _ := os.ReadFile(h.path("ran/" + d.Name())); strings.TrimSpace(string(b)) != strconv.Itoa(account) {
			h.t.Errorf("the attacker's program ran as uid %s\nafter %s", b, said)
		}
	}
	h.leaks(said)
}

// look describes all that lies outside: kind, owner, mode, size, when it was changed, and
// what is in it.
func (h *house) look() map[string]string {
	h.t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(h.path("outside"), func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		var st unix.Stat_t
		if err := unix.Lstat(p, &st); err != nil {
			return err
		}
		sum := ""
		if d.Type().IsRegular() {
			b, err := os.ReadFile(p)
			if err != nil {
				return err
			}
			s := sha256.Sum256(b)
			sum = hex.EncodeToString(s[:4])
		}
		out[p] = fmt.Sprintf("mode %o, %d:%d, %d bytes, %d links, changed %d, %s", st.Mode, st.Uid, st.Gid, st.Size,
			st.Nlink, st.Ctim.Nano(), sum)
		return nil
	})
	h.check(err)
	return out
}

// leaks looks for what only root may read in all that the account can.
func (h *house) leaks(said string) {
	h.t.Helper()
	for _, top := range []string{"state", "state.admin", "process", "media"} {
		_ = filepath.WalkDir(h.path(top), func(p string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return nil
			}
			st, err := d.Info()
			if err != nil {
				return nil
			}
			sys := st.Sys().(*syscall.Stat_t)
			if sys.Uid != account && sys.Gid != account && st.Mode().Perm()&0o004 == 0 || st.Size() > 64<<20 {
				return nil
			}
			if b, err := os.ReadFile(p); err == nil && bytes.Contains(b, []byte(marker)) {
				h.t.Errorf("%s (uid %d, mode %o) holds what only root may read\nafter %s", p, sys.Uid,
					st.Mode().Perm(), said)
			}
			return nil
		})
	}
}

// mend gives the household a state that commands can work with again, as an administrator
// would: the media and the state as they were.
func (h *house) mend() {
	h.t.Helper()
	h.run("", "stop")
	for _, dir := range []string{h.path("state"), h.path("media/films")} {
		saved := dir + ".saved"
		if _, err := os.Stat(saved); err != nil {
			continue
		}
		if out, err := exec.Command("sh", "-c", `find "$1" -mindepth 1 -delete && cp -a "$2/." "$1/"`, "sh", dir,
			saved).CombinedOutput(); err != nil {
			h.t.Fatalf("%v %s", err, out)
		}
	}
}

func (h *house) save() {
	h.t.Helper()
	h.run("", "stop")
	for _, dir := range []string{h.path("state"), h.path("media/films")} {
		if out, err := exec.Command("cp", "-a", dir, dir+".saved").CombinedOutput(); err != nil {
			h.t.Fatalf("%v %s", err, out)
		}
		h.check(os.Chmod(h.path("media"), 0o755))
	}
}

// TestATakenOverServerGetsNoFurther attacks every command that changes something, and
// those that read what the account owns.
func TestATakenOverServerGetsNoFurther(t *testing.T) {
	rounds := 1
	if n, err := strconv.Atoi(os.Getenv("COZYSHELF_HOSTILE_ROUNDS")); err == nil {
		rounds = n
	}
	for _, engine := range []string{"process", "docker"} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			if engine == "docker" {
				e, err := docker.Open()
				if err != nil {
					t.Fatal(err)
				}
				if f := e.Facts(context.Background()); !f.Answers {
					testbuild.Missing(t, "a Docker Engine: "+f.Error)
				}
			}
			seed := uint64(time.Now().UnixNano())
			if n, err := strconv.ParseUint(os.Getenv("COZYSHELF_HOSTILE_SEED"), 10, 64); err == nil {
				seed = n
			}
			t.Logf("seed %d (COZYSHELF_HOSTILE_SEED repeats it)", seed)
			h := newHouse(t, engine, seed)
			h.attacked("deploy", "--yes")
			h.run("", "deploy", "--yes")
			h.mendFirst()
			h.must("deploy", "--yes")
			h.must("restart")
			for _, who := range demo.People[:2] {
				if _, errs, code := h.run(who.Name+" by the millpond\n", "member", "add", who.Name, "--role",
					string(who.Role)); code != 0 {
					t.Fatal(errs)
				}
			}
			h.must("backup", "--to", h.path("kept.tar.zst"))
			h.save()
			source := h.path("card")
			h.check(os.Mkdir(source, 0o755))
			clip, err := os.ReadFile(firstClip(t, h.path("media/films.saved")))
			h.check(err)
			h.check(os.WriteFile(filepath.Join(source, "the.clockwork.heron.(2024).mp4"), append(clip, "more"...),
				0o644))
			commands := [][]string{
				{"start"}, {"restart"}, {"status"}, {"logs", "--tail", "20"}, {"check"}, {"ledger"},
				{"ledger", "verify"},
				{"backup", "--to", h.path("b.tar.zst")}, {"restore", h.path("kept.tar.zst"), "--yes"},
				{"deploy", "--yes"},
				{"access", "--mend", "--yes"}, {"access", "films", "--prove"}, {"tidy", "films", "--all", "--yes"},
				{"intake", "copy", source, "--onto", "films", "--yes"},
				{"intake", "copy", source, "--onto", "films", "--move", "--yes"},
				{"intake", "list"}, {"undo", "last", "--yes"}, {"shelf", "scan"}, {"stop"}, {"upgrade", "--yes"},
				{"rollback", "--yes"}, {"usage", "now"}, {"capacity", "--last"},
				{"prepare", "add", "Paper", "--height", "240"},
			}
			if engine == "docker" { // what the engine has a part in
				commands = [][]string{{"restart"}, {"status"}, {"backup", "--to", h.path("b.tar.zst")},
					{"restore", h.path("kept.tar.zst"), "--yes"}, {"deploy", "--yes"},
					{"intake", "copy", source, "--onto", "films", "--yes"}, {"undo", "last", "--yes"}}
			}
			for range rounds {
				for _, c := range commands {
					h.mend()
					h.run("", "start")
					_ = os.Remove(h.path("b.tar.zst"))
					if c[0] == "undo" {
						c = []string{"undo", h.lastUndo(), "--yes"}
					}
					if len(c) > 1 && c[1] == "copy" && c[len(c)-2] == "--move" {
						h.check(os.WriteFile(filepath.Join(source, "the.clockwork.heron.(2024).mp4"),
							append(clip, "more"...), 0o644))
					}
					h.attacked(c...)
					if t.Failed() {
						return
					}
				}
			}
			h.mend()
			h.attacked("retire", "--erase", "--yes")
			h.mendFirst()
		})
	}
}

// mendFirst removes what an attack on the first deployment left, so that it can begin.
func (h *house) mendFirst() {
	h.t.Helper()
	h.run("", "retire", "--erase", "--yes")
	h.check(os.RemoveAll(h.path("state")))
	h.media()
}

// media makes the media, and gives the films to the account.
func (h *house) media() {
	h.t.Helper()
	h.check(os.RemoveAll(h.path("media")))
	h.check(demo.Media(h.path("media")))
	h.check(filepath.WalkDir(h.path("media/films"), func(p string, _ fs.DirEntry, err error) error {
		if err == nil {
			err = os.Chown(p, account, account)
		}
		return err
	}))
}

func (h *house) lastUndo() string {
	out, _, _ := h.run("", "ledger", "--json")
	var list []struct {
		ID   int
		Undo *struct{ Kind string }
	}
	_ = json.Unmarshal([]byte(out), &list) // none, then
	id := "1"
	for _, e := range list {
		if e.Undo != nil {
			id = strconv.Itoa(e.ID)
		}
	}
	return id
}

func firstClip(t *testing.T, dir string) string {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(dir, "*", "*.mp4"))
	more, _ := filepath.Glob(filepath.Join(dir, "*.mp4"))
	if list = append(list, more...); err != nil || len(list) == 0 {
		t.Fatalf("no clip in %s: %v", dir, err)
	}
	return list[0]
}

// TestAHouseholdFileOfOthersIsRefused tries each way in which others could write what root
// obeys.
func TestAHouseholdFileOfOthersIsRefused(t *testing.T) {
	h := newHouse(t, "process", 1)
	file := h.path("household.toml")
	mode := func(at string, to os.FileMode) func() error { return func() error { return os.Chmod(at, to) } }
	owner := func(at string, uid, gid int) func() error { return func() error { return os.Chown(at, uid, gid) } }
	both := func(one, two func() error) func() error { return func() error { return errorsJoin(one(), two()) } }
	nothing := func() error { return nil }
	const alone = "not yours alone"
	for name, c := range map[string]struct {
		do, back func() error
		want     string
	}{
		"others may write it": {mode(file, 0o666), mode(file, 0o644), alone},
		"its group may write it": {both(owner(file, 0, account), mode(file, 0o664)),
			both(owner(file, 0, 0), mode(file, 0o644)), alone},
		"it belongs to the account": {owner(file, account, account), owner(file, 0, 0),
			alone + "|belongs to the server's account"},
		"others may write its folder":  {mode(h.dir, 0o777), mode(h.dir, 0o755), alone},
		"its folder is the account's":  {owner(h.dir, account, account), owner(h.dir, 0, 0), alone},
		"it is another person's":       {owner(file, 41601, 41601), owner(file, 0, 0), "belongs to uid 41601"},
		"nothing is wrong with it now": {nothing, nothing, ""},
	} {
		h.check(c.do())
		_, errs, code := h.run("", "check")
		h.check(c.back())
		found := false
		for want := range strings.SplitSeq(c.want, "|") {
			found = found || strings.Contains(errs, want)
		}
		if !found || strings.Contains(c.want, "alone") && code != 1 {
			t.Errorf("%s: code %d, %s", name, code, errs)
		}
	}
}

func errorsJoin(list ...error) error {
	for _, err := range list {
		if err != nil {
			return err
		}
	}
	return nil
}

// TestOnlyTheServersSocketIsAsked puts other sockets in its place.
func TestOnlyTheServersSocketIsAsked(t *testing.T) {
	h := newHouse(t, "process", 1)
	h.must("deploy", "--yes")
	other := h.path("other.sock")
	l, err := new(netListen).listen(other)
	h.check(err)
	defer l.Close()
	h.check(os.Remove(h.path("state/control.sock")))
	h.check(os.Symlink(other, h.path("state/control.sock")))
	if out, errs, code := h.run("", "member", "list"); code == 0 || !strings.Contains(errs, "socket") {
		t.Errorf("a link to another socket was asked: code %d, %s%s", code, out, errs)
	}
	if n := l.asked(); n != 0 {
		t.Errorf("the other one was asked %d times", n)
	}
}

// TestAStateFolderThatCanBeReplacedIsRefused has the account own what lies above.
func TestAStateFolderThatCanBeReplacedIsRefused(t *testing.T) {
	h := newHouse(t, "process", 1)
	h.check(os.Mkdir(h.path("theirs"), 0o755))
	h.check(os.Chown(h.path("theirs"), account, account))
	text, err := os.ReadFile(h.path("household.toml"))
	h.check(err)
	h.check(os.WriteFile(h.path("household.toml"),
		bytes.ReplaceAll(text, []byte(h.path("state")), []byte(h.path("theirs/state"))), 0o644))
	_, errs, code := h.run("", "deploy", "--yes")
	if code == 0 || !strings.Contains(errs, "others may write to") {
		t.Errorf("code %d, %s", code, errs)
	}
	if _, err := os.Stat(boundary.Admin(h.path("theirs/state"))); err == nil {
		t.Error("the administrator's folder was made there")
	}
	h.check(os.WriteFile(h.path("household.toml"), text, 0o644))
}
