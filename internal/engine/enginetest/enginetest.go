// Package enginetest tests that an engine does what package engine asks of it.
// Any provider is run through Run, in the manner of testing/fstest: what it does otherwise
// than it should is reported all at once, each with what was asked, what came back, and what
// was expected.
//
// [Memory] is an engine that keeps all in memory. It passes the suite, and serves the tests
// of rooms that use engines.
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
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/pack"
)

// Bench is what a provider is tested with.
type Bench struct {
	Engine  engine.Engine
	Kind    string             // what its facts must say that it is
	Can     facts.Capabilities // what its facts must say that it can do
	Program pack.Image         // the built program
	Folder  string             // an empty folder that the run-as account can pass through
	UID     uint32
	GID     uint32
	Port    int // a free one
	// OwnerUID and OwnerGID are the account as this machine numbers it, where the
	// engine shifts ids.
	OwnerUID, OwnerGID uint32
	// Patience is how long the server may take to answer; a minute and a half where zero.
	Patience time.Duration
	// Moment is how long the suite waits to see that something still runs; a second where zero.
	Moment time.Duration
}

// Containers is what an engine can do that runs containers and starts them with the machine.
var Containers = facts.Capabilities{Isolates: true, Networks: true, HostNetwork: true, Volumes: true, Limits: true,
	Boots: true, Becomes: true}

// Run runs the suite. What it makes on the engine it removes, also on failure.
func Run(t *testing.T, b Bench) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 6*time.Minute)
	defer cancel()
	if err := Test(ctx, b); err != nil {
		t.Error(err)
	}
}

// Test runs an engine through the suite, and gives everything that it does otherwise than it
// should, joined; nil where there is nothing.
func Test(ctx context.Context, b Bench) error {
	if b.OwnerUID == 0 {
		b.OwnerUID, b.OwnerGID = b.UID, b.GID
	}
	if b.Patience == 0 {
		b.Patience = 90 * time.Second
	}
	if b.Moment == 0 {
		b.Moment = time.Second
	}
	s := &suite{Bench: b, ctx: ctx}
	if err := s.prepare(); err != nil {
		return fmt.Errorf("the suite could not be prepared: %w", err)
	}
	for _, c := range checks {
		if c.needs != nil && !c.needs(s) {
			continue
		}
		s.now = c
		c.run(s)
	}
	s.now = check{name: "clean up", asks: "all that was made is removed"}
	s.clean()
	return errors.Join(s.faults...)
}

// check is one thing that is asked of an engine.
type check struct {
	name  string
	asks  string            // what package engine says about it
	run   func(*suite)      // reports by want and must
	needs func(*suite) bool // nil for always
}

// suite is one run.
type suite struct {
	Bench
	ctx    context.Context
	now    check
	faults []error

	c            blueprint.Service
	settings     blueprint.Blueprint
	state, films string
	id           string
	made         bool // there is a container
	serves       bool // it answers
	began        time.Time
}

// want reports a misbehaviour unless all is well.
func (s *suite) want(well bool, asked string, got any, wanted string) {
	if !well {
		s.faults = append(s.faults, fmt.Errorf("%s (%s):\n  asked:    %s\n  came:     %v\n  expected: %s", s.now.name,
			s.now.asks, asked, got, wanted))
	}
}

// must reports an error of a step that has to succeed.
func (s *suite) must(asked string, err error) bool {
	s.want(err == nil, asked, err, "no error")
	return err == nil
}

func (s *suite) observe() blueprint.Observed {
	o, err := s.Engine.Observe(s.ctx, s.c.Household)
	s.must("observe", err)
	return o
}

// prepare makes the folders and draws the household.
func (s *suite) prepare() error {
	s.state, s.films = filepath.Join(s.Folder, "state"), filepath.Join(s.Folder, "films")
	for _, d := range []string{s.state, s.films} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return err
		}
		if os.Getuid() == 0 {
			if err := os.Chown(d, int(s.OwnerUID), int(s.OwnerGID)); err != nil {
				return err
			}
		}
	}
	h := household.Household{Format: 1}
	h.Household.Name = "Fernhollow Mill"
	h.Server.RunAs = fmt.Sprintf("%d:%d", s.UID, s.GID)
	h.Server.Port, h.Server.Bind = s.Port, "localhost"
	h.Storage.State = s.state
	h.Shelves = []household.Shelf{{Name: "films", Kind: household.Films, Folders: []string{s.films}}}
	checked, err := household.Decode("household.toml", household.Compose(h))
	if err != nil {
		return err
	}
	s.settings = blueprint.Draw(checked, blueprint.Site{Engine: s.Kind, Can: s.Can, UID: s.UID, GID: s.GID,
		Groups: []uint32{60001}, Image: s.Program.Digest, Version: s.Program.Version})
	s.c = s.settings.Server()
	return os.WriteFile(filepath.Join(s.state, s.settings.Settings.File()), s.settings.Settings.JSON(), 0o644)
}

// clean removes what was made.
func (s *suite) clean() {
	ctx := context.WithoutCancel(s.ctx)
	o, err := s.Engine.Observe(ctx, s.c.Household)
	s.must("observe", err)
	for _, c := range o.Containers {
		_ = s.Engine.Stop(ctx, c.ID, time.Second)
		s.must("remove "+c.Name, s.Engine.Remove(ctx, c.ID))
	}
	if e, ok := s.Engine.(engine.Volumes); ok {
		for _, n := range o.Volumes {
			s.must("remove volume "+n, e.RemoveVolume(ctx, n))
		}
	}
	if e, ok := s.Engine.(engine.Networks); ok {
		for _, n := range o.Networks {
			s.must("remove network "+n, e.RemoveNetwork(ctx, n))
		}
	}
	if err := s.Engine.RemoveImage(ctx, s.Program.Digest, s.c.Household); !errors.Is(err, engine.ErrInUse) {
		s.must("remove image", err)
	}
}

// checks is everything that is asked, in this order.
var checks = []check{
	{name: "facts", asks: "what engine it is, what it can do, and whether it answers", run: (*suite).facts},
	{name: "nothing", asks: "nothing is observed before anything is made", run: func(s *suite) {
		o := s.observe()
		s.want(len(o.Containers)+len(o.Networks) == 0, "observe", fmt.Sprintf("%+v", o),
			"no containers and no networks")
	}},
	{name: "no image", asks: "Create needs the image", run: func(s *suite) {
		c := s.c
		c.Image = blueprint.Image{Program: "sha256:" + strings.Repeat("0", 64)}
		_, err := s.Engine.Create(s.ctx, c)
		s.want(errors.Is(err, engine.ErrNotFound), "create without the image", err, "ErrNotFound")
	}},
	{name: "image", asks: "LoadImage gives the engine a program, also twice", run: func(s *suite) {
		for range 2 {
			s.must("load image", s.Engine.LoadImage(s.ctx, s.Program, s.c.Household))
		}
		o := s.observe()
		s.want(slices.Contains(o.Images, s.Program.Digest), "observe", o.Images, "the image among them")
		s.want(slices.Contains(o.Kept, s.Program.Digest), "observe", o.Kept, "the image among those that are kept")
	}},
	{name: "volume", asks: "volumes of shares are made and removed, also twice", run: (*suite).volume,
		needs: func(s *suite) bool {
			_, can := s.Engine.(engine.Volumes)
			return can
		}},
	{name: "run", asks: "a throw-away run has the account and the shelves, and leaves nothing",
		run: (*suite).throwAway},
	{name: "network", asks: "networks are made and observed, also twice", run: (*suite).network,
		needs: func(s *suite) bool {
			_, can := s.Engine.(engine.Networks)
			return can && s.c.OwnNet
		}},
	{name: "create", asks: "Create makes one container, that does not run", run: (*suite).create},
	{name: "images in use", asks: "RemoveImage gives ErrInUse where the image is used or kept", run: func(s *suite) {
		for _, household := range []string{s.c.Household, "another"} {
			err := s.Engine.RemoveImage(s.ctx, s.Program.Digest, household)
			s.want(errors.Is(err, engine.ErrInUse), "remove the image for "+household, err, "ErrInUse")
		}
	}, needs: (*suite).isMade},
	{name: "start", asks: "Start starts it, also twice", run: (*suite).start, needs: (*suite).isMade},
	{name: "neighbours", asks: "what runs of all households is told", run: func(s *suite) {
		list, err := s.Engine.(engine.Neighbours).Neighbours(s.ctx)
		s.must("neighbours", err)
		s.want(slices.ContainsFunc(list, func(c blueprint.Service) bool { return c.Digest() == s.c.Digest() }),
			"neighbours",
			len(list), "the server that runs among them")
	}, needs: func(s *suite) bool {
		_, can := s.Engine.(engine.Neighbours)
		return can && s.serves
	}},
	{name: "remove what runs", asks: "Remove takes only what does not run", run: func(s *suite) {
		err := s.Engine.Remove(s.ctx, s.id)
		s.want(err != nil, "remove a container that runs", err, "an error")
	}, needs: (*suite).isServing},
	{name: "account", asks: "what the server writes belongs to the run-as account", run: (*suite).account,
		needs: (*suite).isServing},
	{name: "logs", asks: "Logs writes what was printed, oldest first, each line with its time", run: (*suite).logs,
		needs: (*suite).isServing},
	{name: "dial", asks: "a command inside is reached", run: (*suite).dial, needs: func(s *suite) bool {
		_, can := s.Engine.(engine.Dialer)
		return can && s.serves
	}},
	{name: "stop", asks: "Stop ends it, and it can be started again", run: (*suite).stop, needs: (*suite).isServing},
	{name: "remove", asks: "Remove removes, also twice; then Start, Stop and Logs give ErrNotFound",
		run:   (*suite).remove,
		needs: (*suite).isMade},
	{name: "what is left", asks: "a household keeps its image until it removes it", run: (*suite).left},
}

func (s *suite) isMade() bool    { return s.made }
func (s *suite) isServing() bool { return s.serves }

func (s *suite) facts() {
	f := s.Engine.Facts(s.ctx)
	s.want(f.Answers, "facts", f.Error, "an engine that answers")
	s.want(f.Kind == s.Kind, "facts", f.Kind, s.Kind)
	s.want(f.Can == s.Can, "facts", fmt.Sprintf("%+v", f.Can), fmt.Sprintf("%+v", s.Can))
	s.want(f.Endpoint != "" && f.Arch != "", "facts", fmt.Sprintf("endpoint %q, architecture %q", f.Endpoint, f.Arch),
		"both")
	_, volumes := s.Engine.(engine.Volumes)
	s.want(volumes == f.Can.Volumes, "facts", fmt.Sprintf("volumes %v", f.Can.Volumes),
		"true where it has that interface, else false")
	_, networks := s.Engine.(engine.Networks)
	s.want(networks == f.Can.Networks, "facts", fmt.Sprintf("networks %v", f.Can.Networks),
		"true where it has that interface, else false")
}

func (s *suite) volume() {
	e := s.Engine.(engine.Volumes)
	share := fmt.Sprintf("cozyshelf-%s-far-1-00000000", s.c.Household)
	for range 2 {
		s.must("make volume", e.MakeVolume(s.ctx, share, s.c.Household, map[string]string{"type": "nfs4",
			"device": ":/export", "o": "addr=192.0.2.7,ro"}))
	}
	o := s.observe()
	s.want(slices.Equal(o.Volumes, []string{share}), "observe", o.Volumes, "the volume alone")
	for range 2 {
		s.must("remove volume", e.RemoveVolume(s.ctx, share))
	}
	o = s.observe()
	s.want(len(o.Volumes) == 0, "observe after it is removed", o.Volumes, "no volume")
}

// throwAway runs commands once: the account's numbers, the shelf as it is mounted, no state.
func (s *suite) throwAway() {
	film := filepath.Join(s.films, "film")
	if !s.must("write a file of the suite's own", os.WriteFile(film, []byte("x"), 0o644)) {
		return
	}
	at := s.c.Shelves()[0].Target
	if !s.Can.Isolates {
		at = s.films
	}
	spec := fmt.Sprintf(`{"folders":[{"path":%q,"write":true}]}`, at)
	var said bytes.Buffer
	code, err := s.Engine.Run(s.ctx, s.c, []string{"probe", "--spec", spec}, &said)
	s.want(err == nil && code == 0 && strings.Contains(said.String(), `"tried":1,"read":1`), "run probe",
		fmt.Sprintf("code %d, %v, %s", code, err, said.String()), "one file tried and read")
	// A process has the host's own folders; a container has them as they are mounted.
	wrote := strings.Contains(said.String(), `"written":1`)
	s.want(wrote == !s.Can.Isolates, "write on a shelf that is mounted read-only", wrote, fmt.Sprint(!s.Can.Isolates))
	code, err = s.Engine.Run(s.ctx, s.c, []string{"no-such-command"}, io.Discard)
	s.want(code != 0 && err != nil, "run a command that there is not", fmt.Sprintf("code %d, %v", code, err),
		"a code and an error")
	// One that waits for somebody to write into a pipe.
	pipe := filepath.Join(s.films, "settings.json")
	if !s.must("make a pipe of the suite's own", syscall.Mkfifo(pipe, 0o644)) {
		return
	}
	short, stop := context.WithTimeout(s.ctx, s.Moment)
	_, err = s.Engine.Run(short, s.c, []string{"serve", "--settings", at + "/settings.json"}, io.Discard)
	stop()
	s.want(errors.Is(err, context.DeadlineExceeded), "run beyond the end of the context", err, "DeadlineExceeded")
	for _, p := range []string{film, pipe} {
		s.must("remove a file of the suite's own", os.Remove(p))
	}
	o := s.observe()
	s.want(len(o.Containers)+len(o.Strays) == 0, "observe after throw-away runs", fmt.Sprintf("%+v", o),
		"nothing left of them")
}

func (s *suite) network() {
	e := s.Engine.(engine.Networks)
	for range 2 {
		s.must("make network", e.MakeNetwork(s.ctx, s.c.Network, s.c.Household))
	}
	o := s.observe()
	s.want(slices.Equal(o.Networks, []string{s.c.Network}), "observe", o.Networks, s.c.Network)
}

func (s *suite) create() {
	id, err := s.Engine.Create(s.ctx, s.c)
	if !s.must("create", err) {
		return
	}
	again, err := s.Engine.Create(s.ctx, s.c)
	s.must("create again", err)
	s.want(again == id, "create the same again", again, id)
	o := s.observe()
	if s.want(len(o.Containers) == 1, "observe", fmt.Sprintf("%d containers", len(o.Containers)),
		"one"); len(o.Containers) == 0 {
		return
	}
	s.id, s.made = id, true
	c := o.Containers[0]
	s.want(!c.Running, "observe what was made", "it runs", "it does not run before it is started")
	s.want(c.Digest == s.c.Digest() && c.Service.Digest() == s.c.Digest(), "observe its digest", c.Digest, s.c.Digest())
	s.want(c.Name == s.c.EngineName(), "observe its name", c.Name, s.c.EngineName())
	s.want(c.Key == s.c.Key, "observe which service it is of", c.Key, s.c.Key)
}

// alive asks the server whether it answers.
func (s *suite) alive() error {
	r, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/healthz", s.Port))
	if err != nil {
		return err
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return fmt.Errorf("status %s", r.Status)
	}
	return nil
}

func (s *suite) start() {
	s.began = time.Now()
	if !s.must("start", s.Engine.Start(s.ctx, s.id)) {
		return
	}
	s.must("start again", s.Engine.Start(s.ctx, s.id))
	var err error
	for deadline := time.Now().Add(s.Patience); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if err = s.alive(); err == nil {
			s.serves = true
			break
		}
	}
	if !s.serves {
		var log bytes.Buffer
		_ = s.Engine.Logs(s.ctx, s.id, engine.LogOptions{}, &log)
		s.want(false, "the server's health", fmt.Sprintf("%v\n%s", err, log.String()), "an answer")
		return
	}
	o := s.observe()
	c, ok := o.Running()
	s.want(ok, "observe what was started", fmt.Sprintf("%+v", o.Containers), "it runs")
	s.want(!c.Started.Before(s.began.Add(-time.Minute)) && !c.Started.After(time.Now().Add(time.Minute)),
		"observe when it started", c.Started, "about now")
}

// account looks at what the server wrote.
func (s *suite) account() {
	list, err := os.ReadDir(s.state)
	if !s.must("read the state folder", err) {
		return
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
		uid, gid := owner(st)
		s.want(uid == s.OwnerUID && gid == s.OwnerGID, "who "+d.Name()+" belongs to", fmt.Sprintf("%d:%d", uid, gid),
			fmt.Sprintf("%d:%d", s.OwnerUID, s.OwnerGID))
	}
	s.want(n > 0, "what the server wrote into the state folder", "nothing", "its store")
}

func (s *suite) logs() {
	// The server says that it serves and that it has scanned; then it is silent.
	var all bytes.Buffer
	for range 300 {
		all.Reset()
		if !s.must("logs", s.Engine.Logs(s.ctx, s.id, engine.LogOptions{}, &all)) {
			return
		}
		if strings.Contains(all.String(), "msg=scanned") {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	lines := strings.Split(strings.TrimSpace(all.String()), "\n")
	s.want(len(lines) >= 2, "logs", all.String(), "two lines at least")
	var last time.Time
	for _, l := range lines {
		stamp, _, _ := strings.Cut(l, " ")
		at, err := time.Parse(time.RFC3339Nano, stamp)
		s.want(err == nil, "the time of a line", l, "a time in front, as RFC 3339 has it")
		s.want(err != nil || !at.Before(last.Add(-time.Second)), "the order of lines", l, "no earlier time than "+
			last.String())
		last = at
	}
	var tail bytes.Buffer
	err := s.Engine.Logs(s.ctx, s.id, engine.LogOptions{Tail: 1}, &tail)
	s.want(err == nil && strings.TrimSpace(tail.String()) == lines[len(lines)-1], "the last line",
		fmt.Sprintf("%q, %v", tail.String(), err), lines[len(lines)-1])
	var none bytes.Buffer
	err = s.Engine.Logs(s.ctx, s.id, engine.LogOptions{Since: time.Now().Add(time.Hour)}, &none)
	s.want(err == nil && none.Len() == 0, "logs since an hour from now", fmt.Sprintf("%q, %v", none.String(), err),
		"nothing")
	follow, cancel := context.WithTimeout(s.ctx, s.Moment)
	defer cancel()
	var seen bytes.Buffer
	err = s.Engine.Logs(follow, s.id, engine.LogOptions{Follow: true}, &seen)
	s.want(err == nil && strings.HasPrefix(seen.String(), all.String()), "follow the log",
		fmt.Sprintf("%q, %v", seen.String(),
			err), "what is there, and no error at the end")
	s.want(follow.Err() != nil, "follow the log", "it ended while the server runs", "it lasts until the context ends")
}

// dial asks the server inside for its health, through a command inside.
func (s *suite) dial() {
	conn, err := s.Engine.(engine.Dialer).Dial(s.ctx, s.id, blueprint.Program, "relay", "--state",
		blueprint.StateInside)
	if !s.must("dial", err) {
		return
	}
	defer conn.Close()
	_, err = io.WriteString(conn, "GET /healthz HTTP/1.1\r\nHost: control\r\nConnection: close\r\n\r\n")
	s.must("write to the command", err)
	got := make([]byte, 15)
	_, err = io.ReadFull(conn, got)
	s.want(err == nil && string(got) == "HTTP/1.1 200 OK", "ask through the command", fmt.Sprintf("%q, %v", got, err),
		"HTTP/1.1 200 OK")
}

func (s *suite) stop() {
	s.must("stop", s.Engine.Stop(s.ctx, s.id, 10*time.Second))
	s.must("stop again", s.Engine.Stop(s.ctx, s.id, time.Second))
	_, runs := s.observe().Running()
	s.want(!runs, "observe after it was stopped", "it runs", "it does not run")
	err := s.alive()
	s.want(err != nil, "the server's health after it was stopped", "it answers", "no answer")
	s.must("start after stop", s.Engine.Start(s.ctx, s.id))
	s.must("stop at the end", s.Engine.Stop(s.ctx, s.id, 10*time.Second))
}

func (s *suite) remove() {
	if !s.serves {
		_ = s.Engine.Stop(s.ctx, s.id, time.Second) // it may have been started all the same
	}
	for range 2 {
		s.must("remove", s.Engine.Remove(s.ctx, s.id))
	}
	for _, step := range []struct {
		what string
		err  error
	}{
		{"start", s.Engine.Start(s.ctx, s.id)}, {"stop", s.Engine.Stop(s.ctx, s.id, time.Second)},
		{"logs", s.Engine.Logs(s.ctx, s.id, engine.LogOptions{}, io.Discard)},
	} {
		s.want(errors.Is(step.err, engine.ErrNotFound), step.what+" what is not there", step.err, "ErrNotFound")
	}
	if e, can := s.Engine.(engine.Networks); can {
		for range 2 {
			s.must("remove network", e.RemoveNetwork(s.ctx, s.c.Network))
		}
	}
	o := s.observe()
	s.want(len(o.Containers)+len(o.Networks) == 0, "observe after all is removed", fmt.Sprintf("%+v", o), "nothing")
}

// left removes the image at the end: with no container left, its household still keeps it, to
// go back to it.
func (s *suite) left() {
	err := s.Engine.RemoveImage(s.ctx, s.Program.Digest, "another")
	s.want(errors.Is(err, engine.ErrInUse), "remove an image that another household keeps", err, "ErrInUse")
	for range 2 {
		s.must("remove image", s.Engine.RemoveImage(s.ctx, s.Program.Digest, s.c.Household))
	}
	o := s.observe()
	s.want(!slices.Contains(o.Images, s.Program.Digest), "observe after the image is removed", o.Images,
		"no such image")
}
