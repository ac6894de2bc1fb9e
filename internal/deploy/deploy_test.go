package deploy

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/engine/enginetest"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/pack"
)

type setting struct {
	h *household.Household
	f *enginetest.Memory
	// more are services beside the server.
	more []blueprint.Service
}

func (s *setting) have(t *testing.T) blueprint.Observed {
	t.Helper()
	o, err := s.f.Observe(context.Background(), blueprint.ID(s.h.Storage.State))
	if err != nil {
		t.Fatal(err)
	}
	return o
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
	return &setting{h: checked, f: &enginetest.Memory{Sick: map[int]bool{}}}
}

// deploy compares and carries out once; before may be nil.
func (s *setting) deploy(t *testing.T, before func(int, blueprint.Change) error) (changes []blueprint.Change,
	err error) {
	t.Helper()
	bp := blueprint.Draw(s.h, blueprint.Site{Engine: "memory", Can: enginetest.Containers, UID: uint32(os.Getuid()),
		GID: uint32(os.Getgid()), Image: "sha256:abcdef", Version: "1"})
	host, err := Host(bp)
	if err != nil {
		t.Fatal(err)
	}
	for _, more := range s.more {
		more.Household, more.Name = bp.Household, "Fernhollow Mill"
		bp = bp.With(append(bp.Services, more)...)
	}
	changes = blueprint.Compare(bp, s.have(t), host)
	c := Carrier{Engine: s.f, Blueprint: bp, Image: pack.Image{Digest: "sha256:abcdef"}, Health: s.f.Health,
		Patience: 50 * time.Millisecond, Before: before, Command: "deploy"}
	return changes, c.Carry(context.Background(), changes)
}

// TestEveryStepMayFailAndTheNextDeploymentFinishes makes each step in turn fail,
// of the first deployment and of a changed one.
func TestEveryStepMayFailAndTheNextDeploymentFinishes(t *testing.T) {
	companions := []blueprint.Service{
		{Key: "notes", Role: blueprint.RoleCompanion, Image: blueprint.Image{Reference: "notes"},
			After: []string{"server"}},
		{Key: "cards", Role: blueprint.RoleCompanion,
			Image: blueprint.Image{Archive: "/srv/cards.tar", Digest: "sha256:1"}},
		{Key: "paints", Role: blueprint.RoleCompanion, Image: blueprint.Image{Program: "sha256:abcdef"},
			After: []string{"notes"}},
	}
	for _, n := range []int{0, 1, 3} {
		t.Run(fmt.Sprint(n+1, " services"), func(t *testing.T) { everyStepMayFail(t, companions[:n]) })
	}
}

func everyStepMayFail(t *testing.T, more []blueprint.Service) {
	for n := range 60 {
		s := mill(t)
		s.more = more
		fail := func(i int, c blueprint.Change) error {
			if i == n {
				return errors.New("made to fail")
			}
			return nil
		}
		reached := false
		for _, port := range []int{26990, 26991} {
			s.h.Server.Port = port
			before, _ := s.have(t).Running()
			changes, err := s.deploy(t, fail)
			if (err == nil) != (n >= len(changes)) {
				t.Fatalf("step %d of %d on port %d: got %v", n, len(changes), port, err)
			}
			if err != nil {
				reached = true
				after, runs := s.have(t).Running()
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
			if now, ok := s.have(t).Running(); !ok || now.Service.Port() != port ||
				len(s.have(t).Containers) != 1+len(more) {
				t.Fatalf("after step %d: got %+v", n, s.have(t).Containers)
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
	s.h.Server.Port, s.f.Sick[26999] = 26999, true
	_, err := s.deploy(t, nil)
	if err == nil || !strings.Contains(err.Error(), "the last words") || !strings.Contains(err.Error(), "runs again") {
		t.Errorf("got %v, want the log's last lines and that the old one runs again", err)
	}
	if now, ok := s.have(t).Running(); !ok || now.Service.Port() != 26990 || len(s.have(t).Containers) != 1 {
		t.Errorf("got %+v, want the old one running, alone", s.have(t).Containers)
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
	let, err := atomicfile.Claim(t.Context(), dir, 0) // as a server does
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
