package process

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/engine/enginetest"
	"cozyshelf/internal/testbuild"
)

func TestMain(m *testing.M) {
	code := m.Run()
	testbuild.Clean()
	os.Exit(code)
}

// account gives numbers to run as: for root those of nobody in particular.
func account() (uid, gid uint32) {
	if os.Getuid() == 0 {
		return 41500, 41501
	}
	return uint32(os.Getuid()), uint32(os.Getgid())
}

func TestProcessDoesWhatAnEngineMust(t *testing.T) {
	uid, gid := account()
	dir := testbuild.Folder(t)
	t.Run("suite", func(t *testing.T) {
		enginetest.Run(t, enginetest.Bench{Engine: &Engine{filepath.Join(dir, "root")}, Kind: "process",
			Program: testbuild.Image(t), Folder: dir, UID: uid, GID: gid, Port: testbuild.Port(t)})
	})
	if _, err := os.Stat(filepath.Join(dir, "root")); !os.IsNotExist(err) {
		t.Errorf("after all is removed the engine's folder is still there: %v", err)
	}
}

// TestACrashedServerIsStartedAgain kills the server, and sees another one come.
func TestACrashedServerIsStartedAgain(t *testing.T) {
	ctx := context.Background()
	uid, gid := account()
	dir := testbuild.Folder(t)
	state := filepath.Join(dir, "state")
	if err := os.Mkdir(state, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.Chown(state, int(uid), int(gid)); err != nil {
		t.Fatal(err)
	}
	img := testbuild.Image(t)
	set := blueprint.Settings{Format: 1, Household: "h", State: state,
		Listeners: []blueprint.SettingsListener{{Purpose: blueprint.ForPages,
			Address: fmt.Sprintf("127.0.0.1:%d", testbuild.Port(t))}}}
	if err := os.WriteFile(filepath.Join(dir, "settings.json"), set.JSON(), 0o644); err != nil {
		t.Fatal(err)
	}
	e := &Engine{filepath.Join(dir, "root")}
	if err := e.LoadImage(ctx, img, "0123456789ab"); err != nil {
		t.Fatal(err)
	}
	id, err := e.Create(ctx, blueprint.Service{Household: "h", Name: "x", Key: blueprint.ServerKey,
		Image: blueprint.Image{Program: img.Digest}, UID: uid, GID: gid,
		Command: []string{"serve", "--settings", filepath.Join(dir, "settings.json")}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = e.Stop(ctx, id, time.Second) })
	if err := e.Start(ctx, id); err != nil {
		t.Fatal(err)
	}
	_, c, err := e.container(id)
	if err != nil {
		t.Fatal(err)
	}
	supervisor := func() running {
		t.Helper()
		var list []running
		for range 200 {
			// A server that was only just forked looks like its supervisor until it has
			// become what it is to be.
			if list = e.supervisors(c, e.folder(id)); len(list) == 1 {
				return list[0]
			}
			time.Sleep(5 * time.Millisecond)
		}
		t.Fatalf("supervisors: %v", list)
		return running{}
	}
	server := func(not int) int {
		t.Helper()
		for range 3000 {
			for _, p := range e.children(c, supervisor()) {
				if p.pid != not {
					return p.pid
				}
			}
			time.Sleep(10 * time.Millisecond)
		}
		var log bytes.Buffer
		_ = e.Logs(ctx, id, engine.LogOptions{}, &log)
		t.Fatalf("no other server came\n%s", log.String())
		return 0
	}
	first := server(0)
	// Once it says that it serves, it has given its powers up.
	for range 500 {
		var log bytes.Buffer
		if e.Logs(ctx, id, engine.LogOptions{}, &log) == nil && strings.Contains(log.String(), "serving") {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if st, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", first)); err == nil && os.Getuid() == 0 {
		for _, want := range []string{fmt.Sprintf("Uid:\t%d\t%d\t%d\t%d", uid, uid, uid, uid),
			fmt.Sprintf("Gid:\t%d\t%d\t%d\t%d", gid, gid, gid, gid), "CapEff:\t0000000000000000", "NoNewPrivs:\t1"} {
			if !strings.Contains(string(st), want) {
				t.Errorf("the server's status has no %q:\n%s", want, st)
			}
		}
	}
	if err := syscall.Kill(first, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	server(first)
	o, err := e.Observe(ctx, "h")
	if err != nil || len(o.Containers) != 1 || o.Containers[0].Restarts != 1 || !o.Containers[0].Running {
		t.Errorf("got %+v, %v", o, err)
	}
	// One that crashes again and again is tried more seldom; whoever starts it does not wait.
	for n := range 4 {
		pid := server(0)
		if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		for syscall.Kill(pid, 0) == nil {
			time.Sleep(time.Millisecond)
		}
		if n < 3 {
			if err := e.Start(ctx, id); err != nil {
				t.Fatal(err)
			}
		}
		server(pid)
	}
	second := server(0)
	// A supervisor that is killed takes its server along: nothing is left over.
	supervisor().signal(syscall.SIGKILL)
	for range 300 {
		if syscall.Kill(second, 0) != nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", second)); err == nil && !strings.Contains(string(b), ") Z ") {
		t.Errorf("the server outlived its supervisor: %s", b)
	}
	// What somebody has put in the place of its own files is put aside.
	run := filepath.Join(e.folder(id), runFolder)
	if err := errors.Join(os.Remove(filepath.Join(run, "log")), os.Remove(filepath.Join(run, "run.json")),
		syscall.Mkfifo(filepath.Join(run, "log"), 0o666), os.MkdirAll(filepath.Join(run, "run.json", "below"), 0o777),
		os.Chown(filepath.Join(run, "run.json"), int(uid), int(gid))); err != nil {
		t.Fatal(err)
	}
	if err := e.Start(ctx, id); err != nil {
		t.Fatal(err)
	}
	server(second)
	for n := 0; ; n++ {
		if st, err := os.Lstat(filepath.Join(run, "log")); err == nil && st.Mode().IsRegular() {
			break // the server has said something
		} else if n == 1000 {
			t.Fatalf("the log is %v, %v", st, err)
		}
		time.Sleep(10 * time.Millisecond)
	}
	if o, err = e.Observe(ctx, "h"); err != nil || len(o.Containers) != 1 || !o.Containers[0].Running {
		t.Errorf("got %+v, %v", o, err)
	}
}

func TestLogsAreBounded(t *testing.T) {
	dir := t.TempDir()
	l := &logFile{path: filepath.Join(dir, "log"), most: maxLog}
	line := strings.Repeat("x", 4096)
	for range 3 * maxLog / 4096 {
		l.line(line)
	}
	l.Close()
	var total int64
	list, err := os.ReadDir(dir)
	if err != nil || len(list) != 2 {
		t.Fatalf("got %v, %v", list, err)
	}
	for _, d := range list {
		st, err := d.Info()
		if err != nil {
			t.Fatal(err)
		}
		total += st.Size()
	}
	if total > 2*maxLog+8192 {
		t.Errorf("the logs have %d bytes", total)
	}
}

func TestDamagedNotesAreNotBelieved(t *testing.T) {
	e := &Engine{t.TempDir()}
	dir := e.folder("h/x")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	labels := blueprint.Service{Household: "h"}.Labels()
	labels[blueprint.LabelContainer] = `{"household":"h","command":["evil"]}`
	b, _ := json.Marshal(labels)
	if err := os.WriteFile(filepath.Join(dir, "container.json"), b, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := e.Start(context.Background(), "h/x"); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("got %v", err)
	}
	o, err := e.Observe(context.Background(), "h")
	if err != nil || len(o.Containers) != 1 || o.Containers[0].Digest != "" {
		t.Errorf("got %+v, %v", o, err)
	}
}

// TestOnlyTheSupervisorIsEnded has processes that say they are the supervisor, in every
// way that the account could: none of them is ended.
func TestOnlyTheSupervisorIsEnded(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root, to run processes as others")
	}
	ctx := context.Background()
	dir := testbuild.Folder(t)
	e := &Engine{filepath.Join(dir, "root")}
	img := testbuild.Image(t)
	if err := e.LoadImage(ctx, img, "0123456789ab"); err != nil {
		t.Fatal(err)
	}
	id, err := e.Create(ctx, blueprint.Service{Household: "h", Name: "x", Key: blueprint.ServerKey,
		Image: blueprint.Image{Program: img.Digest}, UID: 41500, GID: 41501, Command: []string{"serve"}})
	if err != nil {
		t.Fatal(err)
	}
	at := e.folder(id)
	run := filepath.Join(at, runFolder)
	begin := func(uid uint32, path string, words ...string) *exec.Cmd {
		t.Helper()
		c := &exec.Cmd{Path: path, Args: words,
			SysProcAttr: &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}}
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			_ = c.Process.Kill()
			_ = c.Wait()
		})
		return c
	}
	sleep, err := exec.LookPath("sleep")
	if err != nil {
		t.Fatal(err)
	}
	others := []*exec.Cmd{
		begin(41500, sleep, "supervise", "60"),           // of the account, another program
		begin(0, sleep, "cozyshelf", "60"),               // of root
		begin(41500, sleep, e.program(img.Digest), "60"), // under our name
	}
	lock, err := os.Create(filepath.Join(run, "lock"))
	if err != nil {
		t.Fatal(err)
	}
	defer lock.Close()
	if err := errors.Join(os.Chown(lock.Name(), 41500, 41501),
		syscall.Flock(int(lock.Fd()), syscall.LOCK_EX)); err != nil {
		t.Fatal(err)
	}
	for i, c := range others {
		// The account writes into its folder whatever it likes.
		note := fmt.Sprintf(`{"supervisor":%d,"server":%d,"started":"2026-11-27T12:00:00Z"}`, c.Process.Pid,
			c.Process.Pid)
		if err := os.WriteFile(filepath.Join(run, "run.json"), []byte(note), 0o644); err != nil {
			t.Fatal(err)
		}
		if err := e.Stop(ctx, id, 10*time.Millisecond); err != nil {
			t.Errorf("case %d: %v", i, err)
		}
		if err := e.Start(ctx, id); err == nil || !strings.Contains(err.Error(), "not the supervisor") {
			t.Errorf("case %d: started beside whoever holds the lock: %v", i, err)
		}
	}
	for i, c := range others {
		if err := c.Process.Signal(syscall.Signal(0)); err != nil {
			t.Errorf("case %d was ended: %v", i, err)
		}
	}
}

// TestTheAccountsFolderIsNotBelieved puts forged things where the account can.
func TestTheAccountsFolderIsNotBelieved(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root, to give files away")
	}
	ctx := context.Background()
	dir := testbuild.Folder(t)
	e := &Engine{filepath.Join(dir, "root")}
	img := testbuild.Image(t)
	if err := e.LoadImage(ctx, img, "0123456789ab"); err != nil {
		t.Fatal(err)
	}
	c := blueprint.Service{Household: "h", Name: "x", Key: blueprint.ServerKey,
		Image: blueprint.Image{Program: img.Digest}, UID: 41500, GID: 41501, Command: []string{"serve"}}
	id, err := e.Create(ctx, c)
	if err != nil {
		t.Fatal(err)
	}
	secret := filepath.Join(dir, "secret")
	if err := os.WriteFile(secret, []byte("of root only"), 0o600); err != nil {
		t.Fatal(err)
	}
	run := filepath.Join(e.folder(id), runFolder)
	// A terabyte with a line at its end: only the end is read.
	huge := filepath.Join(run, "log")
	if err := errors.Join(os.WriteFile(huge, nil, 0o640), os.Truncate(huge, 1<<40),
		os.Chown(huge, 41500, 41501)); err != nil {
		t.Fatal(err)
	}
	var end bytes.Buffer
	within, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	read := make(chan error, 1)
	go func() { read <- e.Logs(within, id, engine.LogOptions{Tail: 1}, &end) }()
	select {
	case err := <-read:
		if err != nil || end.Len() > 2*mostLine {
			t.Errorf("a log of a terabyte: %d bytes, %v", end.Len(), err)
		}
	case <-within.Done():
		t.Fatal("a log of a terabyte is read as a whole")
	}
	for _, name := range []string{"log", "log.1", "run.json", "lock"} {
		_ = os.Remove(filepath.Join(run, name))
		if err := os.Symlink(secret, filepath.Join(run, name)); err != nil {
			t.Fatal(err)
		}
	}
	var log bytes.Buffer
	if err := e.Logs(ctx, id, engine.LogOptions{}, &log); err == nil || strings.Contains(log.String(), "root only") {
		t.Errorf("a link in place of the log: %q, %v", log.String(), err)
	}
	for _, do := range []func() error{
		func() error { _, err := e.Observe(ctx, "h"); return err },
		func() error { return e.Stop(ctx, id, time.Second) },
	} {
		if err := do(); err != nil {
			t.Error(err)
		}
	}
	// A folder that was given to the account is none of ours.
	if err := os.Chown(e.folder(id), 41500, 41501); err != nil {
		t.Fatal(err)
	}
	if err := e.Start(ctx, id); !errors.Is(err, boundary.ErrOpen) {
		t.Errorf("a folder of the account's: %v", err)
	}
	for _, digest := range []string{"sha256:../../evil", "sha256:" + strings.Repeat("a", 63), "evil", "", "sha256:" +
		strings.Repeat("A", 64)} {
		c.Image.Program = digest
		if _, err := e.Create(ctx, c); err == nil {
			t.Errorf("the digest %q was taken", digest)
		}
	}
	if b, err := os.ReadFile(secret); err != nil || string(b) != "of root only" {
		t.Errorf("the file outside: %q, %v", b, err)
	}
}

func FuzzLogLines(f *testing.F) {
	f.Add([]byte("2026-11-27T12:00:00.000000000Z one\ntwo"), 3)
	f.Fuzz(func(t *testing.T, b []byte, n int) {
		total := 0
		rest, err := lines(bytes.NewReader(b), func(l []byte) error {
			if len(l) == 0 || l[len(l)-1] != '\n' || len(l) > mostLine+1 {
				t.Errorf("a line of %d bytes", len(l))
			}
			total += len(l)
			return nil
		})
		if err != nil || total+len(rest) < len(b) {
			t.Errorf("%d of %d bytes, %v", total+len(rest), len(b), err)
		}
	})
}
