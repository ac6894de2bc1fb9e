// Package enginetest tests that an engine does what package engine asks of it.
// Any provider is run through Run, in the manner of testing/fstest.
package enginetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/pack"
)

// Bench is what a provider is tested with.
type Bench struct {
	Engine  engine.Engine
	Site    string     // docker, podman or process
	Program pack.Image // the built program
	Folder  string     // an empty folder that the run-as account can pass through
	UID     uint32
	GID     uint32
	Port    int // a free one
	// OwnerUID and OwnerGID are the account as this machine numbers it, where the
	// engine shifts ids.
	OwnerUID, OwnerGID uint32
}

// Run runs the suite. What it makes on the engine it removes, also on failure.
func Run(t *testing.T, b Bench) {
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	if b.OwnerUID == 0 {
		b.OwnerUID, b.OwnerGID = b.UID, b.GID
	}
	state, films := filepath.Join(b.Folder, "state"), filepath.Join(b.Folder, "films")
	for _, d := range []string{state, films} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			t.Fatal(err)
		}
		if os.Getuid() == 0 {
			if err := os.Chown(d, int(b.OwnerUID), int(b.OwnerGID)); err != nil {
				t.Fatal(err)
			}
		}
	}
	h := household.Household{Format: 1}
	h.Household.Name = "Fernhollow Mill"
	h.Server.RunAs = fmt.Sprintf("%d:%d", b.UID, b.GID)
	h.Server.Port, h.Server.Bind = b.Port, "localhost"
	h.Storage.State = state
	h.Shelves = []household.Shelf{{Name: "films", Kind: household.Films, Folders: []string{films}}}
	checked, err := household.Decode("household.toml", household.Compose(h))
	if err != nil {
		t.Fatal(err)
	}
	bp := blueprint.Draw(checked, blueprint.Site{Engine: b.Site, UID: b.UID, GID: b.GID, Groups: []uint32{60001}, Image: b.Program.Digest, Version: b.Program.Version})
	c := bp.Container
	if err := os.WriteFile(filepath.Join(state, bp.Settings.File()), bp.Settings.JSON(), 0o644); err != nil {
		t.Fatal(err)
	}
	e := b.Engine
	t.Cleanup(func() {
		ctx := context.WithoutCancel(ctx)
		o, err := e.Observe(ctx, c.Household)
		if err != nil {
			t.Errorf("cleaning up: %v", err)
		}
		for _, s := range o.Containers {
			_ = e.Stop(ctx, s.ID, time.Second)
			if err := e.Remove(ctx, s.ID); err != nil {
				t.Errorf("cleaning up: %v", err)
			}
		}
		for _, n := range o.Volumes {
			if err := e.RemoveVolume(ctx, n); err != nil {
				t.Errorf("cleaning up: %v", err)
			}
		}
		for _, n := range o.Networks {
			if err := e.RemoveNetwork(ctx, n); err != nil {
				t.Errorf("cleaning up: %v", err)
			}
		}
		if err := e.RemoveImage(ctx, b.Program.Digest, c.Household); err != nil && !errors.Is(err, engine.ErrInUse) {
			t.Errorf("cleaning up: %v", err)
		}
	})
	step := func(what string, err error) {
		t.Helper()
		if err != nil {
			t.Fatalf("%s: %v", what, err)
		}
	}
	observe := func() blueprint.Observed {
		t.Helper()
		o, err := e.Observe(ctx, c.Household)
		step("observe", err)
		return o
	}

	if f := e.Facts(ctx); !f.Answers || f.Kind != b.Site || f.Endpoint == "" || f.Arch == "" {
		t.Fatalf("facts: got %+v, want an engine of kind %s that answers", f, b.Site)
	}
	if o := observe(); len(o.Containers)+len(o.Networks) != 0 {
		t.Fatalf("before anything is made: got %+v", o)
	}
	if _, err := e.Create(ctx, withImage(c, "sha256:"+strings.Repeat("0", 64))); !errors.Is(err, engine.ErrNotFound) {
		t.Errorf("create without the image: got %v, want ErrNotFound", err)
	}
	for range 2 {
		step("load image", e.LoadImage(ctx, b.Program, c.Household))
	}
	if o := observe(); !slices.Contains(o.Images, b.Program.Digest) {
		t.Errorf("the loaded image is not observed: %v", o.Images)
	}
	if b.Site == "process" {
		if err := e.MakeVolume(ctx, "cozyshelf-x", c.Household, nil); !errors.Is(err, engine.ErrNone) {
			t.Errorf("make volume: got %v, want ErrNone", err)
		}
	} else {
		share := fmt.Sprintf("cozyshelf-%s-far-1-00000000", c.Household)
		for range 2 {
			step("make volume", e.MakeVolume(ctx, share, c.Household, map[string]string{"type": "nfs4", "device": ":/export", "o": "addr=192.0.2.7,ro"}))
		}
		if o := observe(); !slices.Equal(o.Volumes, []string{share}) {
			t.Errorf("volumes: got %v", o.Volumes)
		}
		for range 2 {
			step("remove volume", e.RemoveVolume(ctx, share))
		}
	}
	// A throw-away run: the account's numbers, the shelf read-only, no state.
	film := filepath.Join(films, "film")
	if err := os.WriteFile(film, []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	at := c.Shelves()[0].Target
	if b.Site == "process" {
		at = films
	}
	spec := fmt.Sprintf(`{"folders":[{"path":%q,"write":true}]}`, at)
	var said bytes.Buffer
	code, err := e.Run(ctx, c, []string{"probe", "--spec", spec}, &said)
	if err != nil || code != 0 || !strings.Contains(said.String(), `"tried":1,"read":1`) {
		t.Errorf("run: code %d, %v, said %s", code, err, said.String())
	}
	if wrote := strings.Contains(said.String(), `"written":1`); wrote != (b.Site == "process") {
		t.Errorf("run on a shelf that is mounted read-only: wrote %v: %s", wrote, said.String())
	}
	if code, err := e.Run(ctx, c, []string{"no-such-command"}, io.Discard); code == 0 || err == nil {
		t.Errorf("run of a command that there is not: code %d, %v", code, err)
	}
	// One that waits for somebody to write into a pipe.
	pipe := filepath.Join(films, "settings.json")
	if err := syscall.Mkfifo(pipe, 0o644); err != nil {
		t.Fatal(err)
	}
	short, stop := context.WithTimeout(ctx, time.Second)
	if _, err := e.Run(short, c, []string{"serve", "--settings", at + "/settings.json"}, io.Discard); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("run beyond the end of the context: got %v", err)
	}
	stop()
	for _, p := range []string{film, pipe} {
		if err := os.Remove(p); err != nil {
			t.Fatal(err)
		}
	}
	if o := observe(); len(o.Containers)+len(o.Strays) != 0 {
		t.Errorf("after throw-away runs: got %+v", o)
	}
	if c.OwnNet {
		for range 2 {
			step("make network", e.MakeNetwork(ctx, c.Network, c.Household))
		}
		if o := observe(); !slices.Equal(o.Networks, []string{c.Network}) {
			t.Errorf("networks: got %v, want %s", o.Networks, c.Network)
		}
	}
	id, err := e.Create(ctx, c)
	step("create", err)
	again, err := e.Create(ctx, c)
	step("create again", err)
	if again != id {
		t.Errorf("creating twice made two: %s and %s", id, again)
	}
	o := observe()
	if len(o.Containers) != 1 || o.Containers[0].Running || o.Containers[0].Digest != c.Digest() || o.Containers[0].Name != c.EngineName() {
		t.Fatalf("created: got %+v", o.Containers)
	}
	if err := e.RemoveImage(ctx, b.Program.Digest, c.Household); !errors.Is(err, engine.ErrInUse) {
		t.Errorf("remove an image in use: got %v, want ErrInUse", err)
	}
	if err := e.RemoveImage(ctx, b.Program.Digest, "another"); !errors.Is(err, engine.ErrInUse) {
		t.Errorf("remove an image that another household keeps: got %v, want ErrInUse", err)
	}
	began := time.Now()
	step("start", e.Start(ctx, id))
	step("start again", e.Start(ctx, id))
	alive := func() error {
		r, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/healthz", b.Port))
		if err != nil {
			return err
		}
		defer r.Body.Close()
		if r.StatusCode != http.StatusOK {
			return fmt.Errorf("status %s", r.Status)
		}
		return nil
	}
	for deadline := time.Now().Add(90 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if err = alive(); err == nil {
			break
		}
		if time.Now().After(deadline) {
			var log bytes.Buffer
			_ = e.Logs(ctx, id, engine.LogOptions{}, &log)
			t.Fatalf("the server does not answer: %v\n%s", err, log.String())
		}
	}
	o = observe()
	if s, ok := o.Running(); !ok || s.Started.Before(began.Add(-time.Minute)) || s.Started.After(time.Now().Add(time.Minute)) {
		t.Errorf("running: got %+v", o.Containers)
	}
	if err := e.Remove(ctx, id); err == nil {
		t.Error("a running container was removed")
	}

	t.Run("account", func(t *testing.T) { account(t, b, state) })
	t.Run("logs", func(t *testing.T) { logs(ctx, t, e, id) })
	if d, ok := e.(engine.Dialer); ok {
		t.Run("dial", func(t *testing.T) { dial(ctx, t, d, id) })
	}

	step("stop", e.Stop(ctx, id, 10*time.Second))
	step("stop again", e.Stop(ctx, id, time.Second))
	if o := observe(); o.Containers[0].Running || alive() == nil {
		t.Error("it runs after it was stopped")
	}
	step("start after stop", e.Start(ctx, id))
	step("stop at the end", e.Stop(ctx, id, 10*time.Second))
	for range 2 {
		step("remove", e.Remove(ctx, id))
	}
	for what, err := range map[string]error{"start": e.Start(ctx, id), "stop": e.Stop(ctx, id, time.Second), "logs": e.Logs(ctx, id, engine.LogOptions{}, io.Discard)} {
		if !errors.Is(err, engine.ErrNotFound) {
			t.Errorf("%s of what is not there: got %v, want ErrNotFound", what, err)
		}
	}
	for range 2 {
		step("remove network", e.RemoveNetwork(ctx, c.Network))
	}
	if o := observe(); len(o.Containers)+len(o.Networks) != 0 {
		t.Errorf("after all is removed: got %+v", o)
	}
	// With no container left, its household still keeps the image: to go back to it.
	if err := e.RemoveImage(ctx, b.Program.Digest, "another"); !errors.Is(err, engine.ErrInUse) {
		t.Errorf("remove an image that a household keeps: got %v, want ErrInUse", err)
	}
	for range 2 {
		step("remove image", e.RemoveImage(ctx, b.Program.Digest, c.Household))
	}
	if o := observe(); slices.Contains(o.Images, b.Program.Digest) {
		t.Error("the image is still there")
	}
}

func withImage(c blueprint.Container, digest string) blueprint.Container {
	c.Image = digest
	return c
}

// account looks at what the server wrote: it must belong to the run-as account.
func account(t *testing.T, b Bench, state string) {
	list, err := os.ReadDir(state)
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for _, d := range list {
		if strings.HasPrefix(d.Name(), "settings-") {
			continue // ours
		}
		n++
		st, err := d.Info()
		if err != nil {
			continue // a passing file of the store
		}
		if uid, gid := owner(st); uid != b.OwnerUID || gid != b.OwnerGID {
			t.Errorf("%s belongs to %d:%d, want %d:%d", d.Name(), uid, gid, b.OwnerUID, b.OwnerGID)
		}
	}
	if n == 0 {
		t.Error("the server wrote nothing into the state folder")
	}
}

func logs(ctx context.Context, t *testing.T, e engine.Engine, id string) {
	// The server says that it serves and that it has scanned; then it is silent.
	var all bytes.Buffer
	for range 300 {
		all.Reset()
		if err := e.Logs(ctx, id, engine.LogOptions{}, &all); err != nil {
			t.Fatal(err)
		}
		if strings.Contains(all.String(), "msg=scanned") {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	lines := strings.Split(strings.TrimSpace(all.String()), "\n")
	var last time.Time
	for _, l := range lines {
		stamp, _, _ := strings.Cut(l, " ")
		at, err := time.Parse(time.RFC3339Nano, stamp)
		if err != nil {
			t.Fatalf("a line without its time: %q", l)
		}
		if at.Before(last.Add(-time.Second)) {
			t.Errorf("lines out of order: %q", l)
		}
		last = at
	}
	if len(lines) < 2 {
		t.Fatalf("want at least two lines, got %q", all.String())
	}
	var tail bytes.Buffer
	if err := e.Logs(ctx, id, engine.LogOptions{Tail: 1}, &tail); err != nil || strings.TrimSpace(tail.String()) != lines[len(lines)-1] {
		t.Errorf("the last line: got %q, %v, want %q", tail.String(), err, lines[len(lines)-1])
	}
	var none bytes.Buffer
	if err := e.Logs(ctx, id, engine.LogOptions{Since: time.Now().Add(time.Hour)}, &none); err != nil || none.Len() != 0 {
		t.Errorf("since tomorrow: got %q, %v", none.String(), err)
	}
	follow, cancel := context.WithTimeout(ctx, 700*time.Millisecond)
	defer cancel()
	var seen bytes.Buffer
	if err := e.Logs(follow, id, engine.LogOptions{Follow: true}, &seen); err != nil || !strings.HasPrefix(seen.String(), all.String()) {
		t.Errorf("following: got %q, %v", seen.String(), err)
	}
	if follow.Err() == nil {
		t.Error("following ended while the server runs")
	}
}

// dial asks the server inside for its health, through a command inside.
func dial(ctx context.Context, t *testing.T, d engine.Dialer, id string) {
	conn, err := d.Dial(ctx, id, blueprint.Program, "relay", "--state", blueprint.StateInside)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if _, err := io.WriteString(conn, "GET /healthz HTTP/1.1\r\nHost: control\r\nConnection: close\r\n\r\n"); err != nil {
		t.Fatal(err)
	}
	got := make([]byte, 15)
	if _, err := io.ReadFull(conn, got); err != nil || string(got) != "HTTP/1.1 200 OK" {
		t.Errorf("got %q, %v", got, err)
	}
}
