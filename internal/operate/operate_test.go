package operate

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/engine/enginetest"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/pack"
)

// memory are engines in memory, by their kinds.
type memory map[string]engine.Engine

func (m memory) Kinds() []string { return []string{"docker", "podman", "process"} }

func (m memory) Open(kind string) (engine.Engine, error) {
	if e := m[kind]; e != nil {
		return e, nil
	}
	return nil, errors.New("there is none")
}

// bench is a household on real files, with an engine in memory.
type bench struct {
	t       *testing.T
	engine  *enginetest.Memory
	file    household.Household
	version string
}

func newBench(t *testing.T) *bench {
	t.Helper()
	b := &bench{t: t, engine: &enginetest.Memory{Sick: map[int]bool{}}, version: "1.0.0"}
	h := household.Household{Format: 1}
	h.Household.Name, h.Server.Engine = "Fernhollow Mill", "docker"
	h.Server.RunAs = fmt.Sprintf("%d:%d", os.Getuid(), os.Getgid())
	h.Storage.State = filepath.Join(t.TempDir(), "state")
	h.Server.Port = 26990
	b.file = h
	return b
}

// find gathers what is known now, as a command begins.
func (b *bench) find() *House {
	b.t.Helper()
	text := household.Compose(b.file)
	h, err := household.Decode("household.toml", text)
	if err != nil {
		b.t.Fatal(err)
	}
	house, err := Find(b.t.Context(), Setting{Version: b.version, Who: "wren", File: "household.toml",
		Engines: memory{"docker": b.engine}, Health: b.engine.Health,
		Program: func() (pack.Image, error) {
			return pack.Image{Digest: fmt.Sprintf("sha256:%064x", b.version), Version: b.version}, nil
		}}, h, text)
	if err != nil {
		b.t.Fatal(err)
	}
	return house
}

func (b *bench) deploy(command string) (Plan, error) {
	b.t.Helper()
	p, err := b.find().Deploy(b.t.Context(), command)
	if err != nil {
		return p, err
	}
	if len(p.Changes) == 0 {
		return p, p.Settle()
	}
	ctx, cancel := context.WithTimeout(b.t.Context(), 500*time.Millisecond)
	defer cancel()
	_, err = p.Carry(ctx, Telling{})
	return p, err
}

func (b *bench) must(err error) {
	b.t.Helper()
	if err != nil {
		b.t.Fatal(err)
	}
}

// runs is what runs: the program's version and the port.
func (b *bench) runs() string {
	b.t.Helper()
	o, err := b.engine.Observe(b.t.Context(), blueprint.ID(b.file.Storage.State))
	b.must(err)
	now, ok := o.Running()
	if !ok || len(o.Containers) != 1 {
		return fmt.Sprintf("%d containers", len(o.Containers))
	}
	return fmt.Sprint(now.Service.Version, " on ", now.Service.Port())
}

func (b *bench) entries() []ledger.Entry {
	b.t.Helper()
	list, _, err := ledger.Read(b.file.Storage.State)
	b.must(err)
	return slices.DeleteFunc(list, func(e ledger.Entry) bool { return e.Of != 0 })
}

// TestAPlanDoesNotChange carries one out, and compares it with what it was.
func TestAPlanDoesNotChange(t *testing.T) {
	b := newBench(t)
	p, err := b.find().Deploy(t.Context(), "deploy")
	b.must(err)
	if len(p.Changes) == 0 || !strings.Contains(p.What, "Fernhollow Mill") {
		t.Fatalf("planned: %+v", p.Changes)
	}
	before := []any{slices.Clone(p.Changes), p.target, *p.now, p.What}
	var told []blueprint.Action
	_, err = p.Carry(t.Context(), Telling{Change: func(c blueprint.Change, done bool, _ time.Duration) {
		if done {
			told = append(told, c.Action)
		}
	}})
	b.must(err)
	if after := []any{p.Changes, p.target, *p.now, p.What}; !reflect.DeepEqual(before, after) {
		t.Errorf("the plan changed from\n%+v\nto\n%+v", before, after)
	}
	if len(told) != len(p.Changes) {
		t.Errorf("told of %v", told)
	}
	if got := b.runs(); got != "1.0.0 on 26990" {
		t.Errorf("runs: %s", got)
	}
	again, err := b.deploy("deploy")
	if err != nil || len(again.Changes) != 0 {
		t.Errorf("again: %+v, %v", again.Changes, err)
	}
}

// TestWhatWasDeployedIsTakenBack goes to another port and back, and back again.
func TestWhatWasDeployedIsTakenBack(t *testing.T) {
	b := newBench(t)
	_, err := b.deploy("deploy")
	b.must(err)
	b.file.Server.Port = 26991
	_, err = b.deploy("deploy")
	b.must(err)
	for _, want := range []struct {
		port int
		runs string
	}{{26990, "1.0.0 on 26990"}, {26991, "1.0.0 on 26991"}} {
		list := b.entries()
		e := list[len(list)-1]
		u, err := b.find().Undo(t.Context(), "undo", e)
		b.must(err)
		if u.File == nil || u.Stays || u.Nothing() {
			t.Fatalf("of entry %d: the file %q, stays %v", e.ID, u.File, u.Stays)
		}
		b.file.Server.Port = want.port // as the file is put back before it is carried out
		_, err = u.Carry(t.Context(), Telling{}, func([]byte) error { return errors.New("not asked for") })
		b.must(err)
		if got := b.runs(); got != want.runs {
			t.Errorf("runs: %s, want %s", got, want.runs)
		}
	}
	// What something else was deployed after is not taken back by itself.
	list := b.entries()
	first := list[slices.IndexFunc(list, func(e ledger.Entry) bool { return e.Undo != nil })]
	b.file.Server.Port = 26992
	_, err = b.deploy("deploy")
	b.must(err)
	if _, err := b.find().Undo(t.Context(), "undo", first); err == nil {
		t.Error("an earlier one was taken back")
	}
}

// TestOneThatFailsIsGoneOnWith has a server that does not get well.
func TestOneThatFailsIsGoneOnWith(t *testing.T) {
	b := newBench(t)
	_, err := b.deploy("deploy")
	b.must(err)
	b.file.Server.Port, b.engine.Sick[26991] = 26991, true
	if _, err := b.deploy("deploy"); err == nil {
		t.Fatal("it got well")
	}
	if got := b.runs(); got != "1.0.0 on 26990" {
		t.Errorf("runs: %s", got)
	}
	delete(b.engine.Sick, 26991)
	p, err := b.deploy("deploy")
	b.must(err)
	if got := b.runs(); got != "1.0.0 on 26991" || !p.Same {
		t.Errorf("runs: %s, the same %v", got, p.Same)
	}
}

// TestGoingBackFollowsFromWhatRan goes through programs: the last two are kept.
func TestGoingBackFollowsFromWhatRan(t *testing.T) {
	b := newBench(t)
	for _, v := range []string{"1.0.0", "2.0.0", "3.0.0"} {
		b.version = v
		_, err := b.deploy("upgrade")
		b.must(err)
	}
	b.version = "2.0.0"
	if _, err := b.deploy("deploy"); err == nil || !strings.Contains(err.Error(), "downgrade") {
		t.Errorf("an older program: %v", err)
	}
	b.version = "3.0.0"
	h := b.find()
	e, err := LastUpgrade(t.Context(), h)
	b.must(err)
	u, err := h.Undo(t.Context(), "rollback", e)
	b.must(err)
	if u.Version != "2.0.0" || u.File != nil {
		t.Errorf("back to %s, file %q", u.Version, u.File)
	}
	_, err = u.Carry(t.Context(), Telling{}, nil)
	b.must(err)
	if got := b.runs(); got != "2.0.0 on 26990" {
		t.Errorf("runs: %s", got)
	}
	// The one before that is no longer there, which is said before anything is shown.
	if _, err := LastUpgrade(t.Context(), b.find()); err == nil ||
		!strings.Contains(err.Error(), "1.0.0, is no longer kept") {
		t.Errorf("a second time: %v", err)
	}
}

// TestOlder compares versions.
func TestOlder(t *testing.T) {
	for _, c := range []struct {
		one, than string
		older     bool
	}{{"1.0.0", "2.0.0", true}, {"2.0.0", "1.0.0", false}, {"1.0.0", "1.0.0", false}, {"1.2.0", "1.10.0", true},
		{"1.0.0-rc.1", "1.0.0", true}, {"today", "1.0.0", false}, {"1.0.0", "", false}} {
		if got := Older(c.one, c.than); got != c.older {
			t.Errorf("%s older than %s: %v", c.one, c.than, got)
		}
	}
}

// TestRetiringLeavesNothingOnTheEngine retires, and erases.
func TestRetiringLeavesNothingOnTheEngine(t *testing.T) {
	b := newBench(t)
	_, err := b.deploy("deploy")
	b.must(err)
	p, err := b.find().Retire(t.Context(), true)
	b.must(err)
	_, err = p.Carry(t.Context(), Telling{})
	b.must(err)
	o, err := b.engine.Observe(t.Context(), blueprint.ID(b.file.Storage.State))
	if err != nil || len(o.Containers)+len(o.Networks)+len(o.Images) != 0 {
		t.Errorf("left on the engine: %+v, %v", o, err)
	}
	if _, err := os.Stat(b.file.Storage.State); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the state folder: %v", err)
	}
	if _, err := b.find().Deployed(t.Context()); !errors.Is(err, ErrNotDeployed) {
		t.Errorf("deployed: %v", err)
	}
	if d := deploy.ReadDeployed(b.file.Storage.State); d != nil {
		t.Errorf("noted down as deployed: %+v", d)
	}
}

// TestStoppingAndStarting turns a server off and on; a ledger that cannot be written keeps
// nobody from it.
func TestStoppingAndStarting(t *testing.T) {
	b := newBench(t)
	_, err := b.deploy("deploy")
	b.must(err)
	h := b.find()
	turn := func(command string, stop, start bool) {
		t.Helper()
		seen, err := h.Deployed(t.Context())
		b.must(err)
		b.must(h.Turn(t.Context(), command, seen, stop, start, func(err error) { t.Error(err) }))
	}
	turn("stop", true, false)
	if got := b.runs(); got != "1 containers" {
		t.Errorf("stopped: %s", got)
	}
	turn("start", false, true)
	turn("restart", true, true)
	if got := b.runs(); got != "1.0.0 on 26990" {
		t.Errorf("started: %s", got)
	}
	list := b.entries()
	var did []string
	for _, e := range list[len(list)-4:] {
		did = append(did, e.Command+" "+e.Action)
	}
	if got := strings.Join(did, ", "); got != "stop stop, start start, restart stop, restart start" {
		t.Errorf("the ledger: %s", got)
	}
}

// TestAnUnknownAccountIsJudgedBeforeAnythingIsDrawn has check's proposal shown first.
func TestAnUnknownAccountIsJudgedBeforeAnythingIsDrawn(t *testing.T) {
	b := newBench(t)
	b.file.Server.RunAs = "nobody-has-this-name"
	h := b.find()
	lines := OnlyBlocked(h.Judge(t.Context()))
	found := false
	for _, l := range lines {
		found = found || l.What == "run-as account" && strings.Contains(l.Do, "check --mend")
	}
	if os.Getuid() == 0 && !found {
		t.Errorf("blocked: %+v", lines)
	}
	if _, err := h.Deploy(t.Context(), "deploy"); err == nil {
		t.Error("it was drawn")
	}
}

// barred is an engine that may not be asked.
type barred struct{ *enginetest.Memory }

func (barred) Facts(context.Context) facts.Engine {
	return facts.Engine{Kind: "docker", Endpoint: "unix:///run/engine.sock", Error: "you may not open it",
		Fix:    "be root",
		Barred: true}
}

// TestWhereAnEngineMayNotBeAskedNothingIsSaidOfIt takes the embedded engine, and does not say
// that nothing is deployed.
func TestWhereAnEngineMayNotBeAskedNothingIsSaidOfIt(t *testing.T) {
	b := newBench(t)
	b.file.Server.Engine = "auto"
	text := household.Compose(b.file)
	h, err := household.Decode("household.toml", text)
	b.must(err)
	own := &enginetest.Memory{}
	house, err := Find(t.Context(), Setting{Version: "1", Engines: memory{"docker": barred{b.engine}, "process": own}},
		h, text)
	b.must(err)
	if house.Engine != own || len(house.Facts.PassedOver) != 1 {
		t.Fatalf("chosen: %v, %+v", house.Engine, house.Facts)
	}
	_, err = house.Deployed(t.Context())
	if err == nil || errors.Is(err, ErrNotDeployed) || !strings.Contains(err.Error(), "cannot be told") {
		t.Errorf("deployed: %v", err)
	}
}

// TestAHouseholdOnAnotherEngineIsFound has it deployed on one, and asked for on another.
func TestAHouseholdOnAnotherEngineIsFound(t *testing.T) {
	b := newBench(t)
	_, err := b.deploy("deploy")
	b.must(err)
	b.file.Server.Engine = "process"
	text := household.Compose(b.file)
	h, err := household.Decode("household.toml", text)
	b.must(err)
	other := &renamed{Memory: &enginetest.Memory{}}
	house, err := Find(t.Context(), Setting{Version: "1", Engines: memory{"docker": b.engine, "process": other}}, h,
		text)
	b.must(err)
	if err := house.Here(t.Context()); err == nil || !strings.Contains(err.Error(), "docker") {
		t.Errorf("here: %v", err)
	}
}

// renamed is an engine in memory of another kind, at another place.
type renamed struct{ *enginetest.Memory }

func (r *renamed) Facts(ctx context.Context) facts.Engine {
	f := r.Memory.Facts(ctx)
	f.Kind, f.Endpoint = "process", "elsewhere"
	return f
}
