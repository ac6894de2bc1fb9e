package deploy

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/whole"
)

// fake is an engine in memory. Containers whose port is in sick never get well.
type fake struct {
	o    blueprint.Observed
	sick map[int]bool
}

func (f *fake) Facts(context.Context) facts.Engine { return facts.Engine{Kind: "fake", Answers: true} }
func (f *fake) Observe(context.Context, string) (blueprint.Observed, error) {
	o := f.o
	o.Containers = slices.Clone(o.Containers)
	return o, nil
}
func (f *fake) LoadImage(_ context.Context, i pack.Image, _ string) error {
	f.o.Images = append(f.o.Images, i.Digest)
	f.o.Kept = append(f.o.Kept, i.Digest)
	return nil
}
func (f *fake) RemoveImage(context.Context, string, string) error { f.o.Images = nil; return nil }
func (f *fake) MakeNetwork(_ context.Context, n, _ string) error {
	f.o.Networks = append(f.o.Networks, n)
	return nil
}
func (f *fake) RemoveNetwork(_ context.Context, n string) error {
	f.o.Networks = slices.DeleteFunc(f.o.Networks, func(m string) bool { return m == n })
	return nil
}
func (f *fake) Create(_ context.Context, c blueprint.Container) (string, error) {
	id := fmt.Sprint("c", len(f.o.Containers), c.Port)
	f.o.Containers = append(f.o.Containers, blueprint.Seen{ID: id, Name: c.EngineName(), Digest: c.Digest(), Container: c})
	return id, nil
}
func (f *fake) set(id string, run bool) error {
	for i := range f.o.Containers {
		if f.o.Containers[i].ID == id {
			f.o.Containers[i].Running = run
			return nil
		}
	}
	return engine.ErrNotFound
}
func (f *fake) Start(_ context.Context, id string) error                 { return f.set(id, true) }
func (f *fake) Stop(_ context.Context, id string, _ time.Duration) error { return f.set(id, false) }
func (f *fake) Remove(_ context.Context, id string) error {
	f.o.Containers = slices.DeleteFunc(f.o.Containers, func(s blueprint.Seen) bool { return s.ID == id })
	return nil
}
func (f *fake) MakeVolume(_ context.Context, n, _ string, _ map[string]string) error {
	f.o.Volumes = append(f.o.Volumes, n)
	return nil
}
func (f *fake) RemoveVolume(_ context.Context, n string) error {
	f.o.Volumes = slices.DeleteFunc(f.o.Volumes, func(m string) bool { return m == n })
	return nil
}
func (f *fake) PutBack(_ context.Context, id string, _ blueprint.Container) error {
	for i := range f.o.Containers {
		if f.o.Containers[i].ID == id {
			f.o.Containers[i].Drift = nil
		}
	}
	return nil
}
func (f *fake) Run(context.Context, blueprint.Container, []string, io.Writer) (int, error) {
	return 0, nil
}
func (f *fake) Logs(_ context.Context, _ string, _ engine.LogOptions, w io.Writer) error {
	_, err := io.WriteString(w, "2026-11-23T00:00:00Z the last words\n")
	return err
}

func (f *fake) healthy(context.Context) error {
	s, ok := f.o.Running()
	if !ok || f.sick[s.Container.Port] {
		return errors.New("not ready")
	}
	return nil
}

type setting struct {
	h *household.Household
	f *fake
}

func mill(t *testing.T) *setting {
	t.Helper()
	h := household.Household{Format: 1}
	h.Household.Name = "Fernhollow Mill"
	h.Server.RunAs = fmt.Sprintf("%d:%d", os.Getuid(), os.Getgid())
	h.Storage.State = filepath.Join(t.TempDir(), "state")
	checked, err := household.Decode("h", household.Compose(h))
	if err != nil {
		t.Fatal(err)
	}
	return &setting{checked, &fake{sick: map[int]bool{}}}
}

// deploy compares and carries out once; before may be nil.
func (s *setting) deploy(t *testing.T, before func(int, blueprint.Change) error) (changes []blueprint.Change, err error) {
	t.Helper()
	bp := blueprint.Draw(s.h, blueprint.Site{Engine: "docker", UID: uint32(os.Getuid()), GID: uint32(os.Getgid()), Image: "sha256:abcdef", Version: "1"})
	host, err := Host(bp)
	if err != nil {
		t.Fatal(err)
	}
	changes = blueprint.Compare(bp, s.f.o, host)
	c := Carrier{Engine: s.f, Blueprint: bp, Image: pack.Image{Digest: "sha256:abcdef"}, Health: s.f.healthy, Patience: 50 * time.Millisecond, Before: before, Command: "deploy"}
	return changes, c.Carry(context.Background(), changes)
}

// TestEveryStepMayFailAndTheNextDeploymentFinishes makes each step in turn fail,
// of the first deployment and of a changed one.
func TestEveryStepMayFailAndTheNextDeploymentFinishes(t *testing.T) {
	for n := range 20 {
		s := mill(t)
		fail := func(i int, c blueprint.Change) error {
			if i == n {
				return errors.New("made to fail")
			}
			return nil
		}
		reached := false
		for _, port := range []int{26990, 26991} {
			s.h.Server.Port = port
			before, _ := s.f.o.Running()
			changes, err := s.deploy(t, fail)
			if (err == nil) != (n >= len(changes)) {
				t.Fatalf("step %d of %d on port %d: got %v", n, len(changes), port, err)
			}
			if err != nil {
				reached = true
				after, runs := s.f.o.Running()
				if before.ID != "" && (!runs || after.ID != before.ID && changes[n].Action != blueprint.RemoveOld) {
					t.Errorf("step %d (%s) left nothing running that ran before", n, changes[n].Action)
				}
			}
			if _, err := s.deploy(t, nil); err != nil {
				t.Fatalf("after step %d failed on port %d: %v", n, port, err)
			}
			if again, err := s.deploy(t, nil); err != nil || len(again) != 0 {
				t.Fatalf("after step %d: there is still something to do: %+v, %v", n, again, err)
			}
			if now, ok := s.f.o.Running(); !ok || now.Container.Port != port || len(s.f.o.Containers) != 1 {
				t.Fatalf("after step %d: got %+v", n, s.f.o.Containers)
			}
		}
		if !reached {
			return
		}
	}
	t.Error("the steps never ended")
}

func TestAServerThatDoesNotGetWellIsPutBack(t *testing.T) {
	s := mill(t)
	if _, err := s.deploy(t, nil); err != nil {
		t.Fatal(err)
	}
	s.h.Server.Port, s.f.sick[26999] = 26999, true
	_, err := s.deploy(t, nil)
	if err == nil || !strings.Contains(err.Error(), "the last words") || !strings.Contains(err.Error(), "runs again") {
		t.Errorf("got %v, want the log's last lines and that the old one runs again", err)
	}
	if now, ok := s.f.o.Running(); !ok || now.Container.Port != 26990 || len(s.f.o.Containers) != 1 {
		t.Errorf("got %+v, want the old one running, alone", s.f.o.Containers)
	}
	list, _, err := ledger.Read(s.h.Storage.State)
	if err != nil || len(list) < 6 || !strings.Contains(list[len(list)-1].Outcome, "not ready") {
		t.Errorf("the ledger does not tell: %+v, %v", list, err)
	}
}

func TestSettingsAreReplacedWholeAndOldOnesGo(t *testing.T) {
	s := mill(t)
	for _, port := range []int{26990, 26991, 26992} {
		s.h.Server.Port = port
		if _, err := s.deploy(t, nil); err != nil {
			t.Fatal(err)
		}
	}
	got, _ := filepath.Glob(filepath.Join(s.h.Storage.State, "*settings*"))
	if len(got) != 1 {
		t.Errorf("got %v, want one settings file", got)
	}
}

func TestEraseLeavesWhatIsNotOurs(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "sta*te")
	for _, p := range []string{"store.db", "settings-1.json", "scratch/x", "holiday.mp4"} {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, p)), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, p), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := EraseState(t.Context(), dir); err == nil || !strings.Contains(err.Error(), "holiday.mp4") {
		t.Errorf("got %v", err)
	}
	list, _ := os.ReadDir(dir)
	if len(list) != 1 || list[0].Name() != "holiday.mp4" {
		t.Errorf("left: %v", list)
	}
	if err := os.Remove(filepath.Join(dir, "holiday.mp4")); err != nil {
		t.Fatal(err)
	}
	let, err := whole.Claim(t.Context(), dir, 0) // as a server does
	if err != nil {
		t.Fatal(err)
	}
	short, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	if err := EraseState(short, dir); err == nil {
		t.Error("it was erased under a server")
	}
	if _, err := os.Stat(dir); err != nil {
		t.Error(err)
	}
	let()
	for range 2 {
		if err := EraseState(t.Context(), dir); err != nil {
			t.Error(err)
		}
	}
}

func TestTwoProgramsAreKept(t *testing.T) {
	var images []string
	for _, c := range []struct{ now, kept string }{{"a", "[a]"}, {"a", "[a]"}, {"b", "[b a]"}, {"a", "[a b]"},
		{"c", "[c a]"}, {"d", "[d c]"}} {
		if images = Remember(images, c.now); fmt.Sprint(images) != c.kept {
			t.Errorf("with %s: kept %v, want %s", c.now, images, c.kept)
		}
	}
}
