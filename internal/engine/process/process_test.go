package process

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

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
		enginetest.Run(t, enginetest.Bench{Engine: &Engine{filepath.Join(dir, "root")}, Site: "process", Program: testbuild.Image(t), Folder: dir, UID: uid, GID: gid, Port: testbuild.Port(t)})
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
	set := blueprint.Settings{Format: 1, Household: "h", State: state, Listen: fmt.Sprintf("127.0.0.1:%d", testbuild.Port(t))}
	if err := os.WriteFile(filepath.Join(dir, "settings.json"), set.JSON(), 0o644); err != nil {
		t.Fatal(err)
	}
	e := &Engine{filepath.Join(dir, "root")}
	if err := e.LoadImage(ctx, img, "0123456789ab"); err != nil {
		t.Fatal(err)
	}
	id, err := e.Create(ctx, blueprint.Container{Household: "h", Name: "x", Image: img.Digest, UID: uid, GID: gid, Command: []string{"serve", "--settings", filepath.Join(dir, "settings.json")}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = e.Stop(ctx, id, time.Second) })
	if err := e.Start(ctx, id); err != nil {
		t.Fatal(err)
	}
	server := func(not int) int {
		t.Helper()
		for range 3000 {
			var r run
			if readJSON(filepath.Join(e.folder(id), "run.json"), &r) == nil && r.Server != 0 && r.Server != not {
				return r.Server
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
		for _, want := range []string{fmt.Sprintf("Uid:\t%d\t%d\t%d\t%d", uid, uid, uid, uid), fmt.Sprintf("Gid:\t%d\t%d\t%d\t%d", gid, gid, gid, gid), "CapEff:\t0000000000000000", "NoNewPrivs:\t1"} {
			if !strings.Contains(string(st), want) {
				t.Errorf("the server's status has no %q:\n%s", want, st)
			}
		}
	}
	if err := syscall.Kill(first, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	second := server(first)
	o, err := e.Observe(ctx, "h")
	if err != nil || len(o.Containers) != 1 || o.Containers[0].Restarts != 1 || !o.Containers[0].Running {
		t.Errorf("got %+v, %v", o, err)
	}
	// A supervisor that is killed takes its server along: nothing is left over.
	var r run
	if err := readJSON(filepath.Join(e.folder(id), "run.json"), &r); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(r.Supervisor, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	for range 300 {
		if syscall.Kill(second, 0) != nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", second)); err == nil && !strings.Contains(string(b), ") Z ") {
		t.Errorf("the server outlived its supervisor: %s", b)
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
	labels := blueprint.Container{Household: "h"}.Labels()
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
