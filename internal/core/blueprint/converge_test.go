package blueprint

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"cozyshelf/internal/core/household"
)

// sim is an engine in memory that carries changes out, to see where they lead.
type sim struct {
	have Observed
	host Host
	bp   Blueprint
	made int
}

func (s *sim) carry(t *testing.T, c Change) {
	drop := func(id string) {
		s.have.Containers = slices.DeleteFunc(s.have.Containers, func(x Container) bool { return x.ID == id })
	}
	set := func(run bool, match func(Container) bool) {
		for i := range s.have.Containers {
			if match(s.have.Containers[i]) {
				s.have.Containers[i].Running = run
			}
		}
	}
	switch c.Action {
	case MakeState:
		s.host.StateExists = true
	case MakeScratch:
		s.host.ScratchExists = true
	case LoadImage:
		s.have.Images = append(s.have.Images, c.Target)
		if w, _ := s.bp.Service(c.Service); w.Image.Program != "" {
			s.have.Kept = append(s.have.Kept, c.Target)
		}
	case MakeNetwork:
		s.have.Networks = append(s.have.Networks, c.Target)
	case RemoveNetwork:
		s.have.Networks = slices.DeleteFunc(s.have.Networks, func(n string) bool { return n == c.Target })
	case WriteSettings:
		s.host.SettingsExists = true
	case Create:
		w, ok := s.bp.Service(c.Service)
		if !ok || w.EngineName() != c.Target {
			t.Fatalf("%+v makes no service of the blueprint", c)
		}
		if !slices.Contains(s.have.Images, w.Image.Key()) {
			t.Fatalf("%s is made before its image is there", w.Key)
		}
		s.made++
		s.have.Containers = append(s.have.Containers, Container{ID: fmt.Sprint(s.made), Name: c.Target, Key: w.Key,
			Digest: w.Digest(), Service: w})
	case StopOld:
		set(false, func(x Container) bool { return x.ID == c.Target })
	case Start:
		w, _ := s.bp.Service(c.Service)
		for _, k := range w.After {
			other, ok := s.have.RunningOf(k)
			if waits, _ := s.bp.Service(k); waits.Key != "" && (!ok || other.Digest != waits.Digest()) {
				t.Fatalf("%s is started before %s, which it waits for", w.Key, k)
			}
		}
		set(true, func(x Container) bool { return x.Name == c.Target })
	case RemoveOld:
		drop(c.Target)
	}
}

// variants are services other than the server that a household may have.
func variants(r *rand.Rand, server Service) []Service {
	var out []Service
	for i := range r.IntN(5) {
		s := Service{Household: server.Household, Name: server.Name, Key: fmt.Sprint("c", i), Role: RoleCompanion,
			Network: server.Network, OwnNet: server.OwnNet, Memory: int64(1+r.IntN(2)) << 20, State: server.State}
		switch r.IntN(3) {
		case 0:
			s.Image = server.Image
		case 1:
			s.Image = Image{Reference: fmt.Sprint("made.example.net/c:", r.IntN(2))}
		case 2:
			s.Image = Image{Archive: "/srv/c.tar", Digest: fmt.Sprint("sha256:", r.IntN(2))}
		}
		if r.IntN(2) == 0 {
			s.After = append(s.After, ServerKey)
		}
		if i > 0 && r.IntN(2) == 0 {
			s.After = append(s.After, fmt.Sprint("c", r.IntN(i)))
		}
		out = append(out, s)
	}
	return out
}

// TestChangesCutOffAnywhereLeadToTheSameEnd carries out the first n changes,
// compares again, and so on, from several beginnings, with one to five services.
func TestChangesCutOffAnywhereLeadToTheSameEnd(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 1))
		n := 1 + r.IntN(12)
		s := &sim{}
		for step := range 4 {
			h := mill(t)
			h.Server.Port = 26990 + r.IntN(2)
			h.Server.Network = []string{"own", "host"}[r.IntN(2)]
			at := site
			at.Image = fmt.Sprintf("sha256:%064d", r.IntN(2))
			bp := Draw(h, at)
			bp = bp.With(append(variants(r, bp.Server()), bp.Server())...)
			s.bp = bp
			s.host.SettingsExists = false
			converge(t, s, n, fmt.Sprintf("seed %d, step %d", seed, step))
			if len(s.have.Containers) != len(bp.Services) {
				t.Fatalf("seed %d, step %d: %d containers of %d services", seed, step, len(s.have.Containers),
					len(bp.Services))
			}
			for _, w := range bp.Services {
				if got, ok := s.have.RunningOf(w.Key); !ok || got.Digest != w.Digest() {
					t.Fatalf("seed %d, step %d: %s ended as %+v", seed, step, w.Key, got)
				}
			}
		}
	}
}

// converge carries out n changes at a time until there is nothing to do.
func converge(t *testing.T, s *sim, n int, what string) {
	t.Helper()
	for round := 0; ; round++ {
		// To prove changes nothing, so it is always a step of the next round too.
		changes := slices.DeleteFunc(Compare(s.bp, s.have, s.host), func(c Change) bool { return c.Action == Prove })
		if len(changes) == 0 {
			return
		}
		if round > 90 {
			t.Fatalf("%s, %d at a time, never ends: %+v", what, n, changes)
		}
		did := 0
		for i, c := range changes {
			// Waiting is a check, not a change of what is: once it is
			// reached, go on to what it guards.
			if did >= n && !(i > 0 && changes[i-1].Action == AwaitHealthy) {
				break
			}
			s.carry(t, c)
			did++
		}
	}
}

// TestAContainerOfAnotherServiceIsNoOldOne has a companion beside a server that is deployed
// anew: it stays as it is.
func TestAContainerOfAnotherServiceIsNoOldOne(t *testing.T) {
	before := Draw(mill(t), site)
	companion := Service{Household: before.Household, Name: "Fernhollow Mill", Key: "notes", Role: RoleCompanion,
		Image: Image{Reference: "notes"}}
	s := &sim{bp: before.With(before.Server(), companion)}
	s.have.Images = []string{"notes"}
	converge(t, s, 99, "before")
	h := mill(t)
	h.Server.Port = 26991
	after := Draw(h, site)
	after = after.With(after.Server(), companion)
	for _, c := range Compare(after, s.have, s.host) {
		if c.Service == "notes" {
			t.Errorf("the companion is touched: %+v", c)
		}
	}
	var gone []string
	for _, c := range Compare(Draw(h, site), s.have, s.host) {
		if c.Service == "notes" {
			gone = append(gone, string(c.Action))
		}
	}
	if fmt.Sprint(gone) != "[stop-old remove-old]" {
		t.Errorf("one that is no longer wanted: %v", gone)
	}
}

// TestServicesThatWaitForEachOtherAreStartedAllTheSame has a circle.
func TestServicesThatWaitForEachOtherAreStartedAllTheSame(t *testing.T) {
	list := sorted([]Service{{Key: "a", After: []string{"b"}}, {Key: "b", After: []string{"a"}},
		{Key: "c", After: []string{"d"}}})
	var keys []string
	for _, s := range list {
		keys = append(keys, s.Key)
	}
	if fmt.Sprint(keys) != "[c a b]" {
		t.Errorf("got %v", keys)
	}
}

// TestServersOfFormerBuildsAreRead reads a label as it was written before there were services.
func TestServersOfFormerBuildsAreRead(t *testing.T) {
	text := `{"household":"0123456789ab","household_name":"Fernhollow Mill","image":"sha256:0123","version":"0.1.0",` +
		`"command":["serve"],"uid":1500,"gid":1500,"groups":[44],"env":{"TZ":"Europe/Riga"},"mounts":[` +
		`{"source":"/srv/state","target":"/state","read_only":false,"what":"state"},` +
		`{"source":"/srv/films","target":"/shelves/films/1","read_only":true,"what":"films"}],"tmpfs":0,"memory":1,` +
		`"pids":512,"log_limit":0,"network":"cozyshelf-0123456789ab","own_network":true,"host":"127.0.0.1",` +
		`"port":26991,"state":"/srv/state","settings":"x","start":"boot"}`
	labels := map[string]string{LabelHousehold: "0123456789ab", LabelContainer: text,
		LabelDigest: digestOf([]byte(text))}
	s, ok := FromLabels(labels)
	if !ok || KeyOf(labels) != ServerKey || s.Role != RoleServer || s.Key != ServerKey || s.Port() != 26991 ||
		s.Image.Program != "sha256:0123" || len(s.Shelves()) != 1 || s.Mounts[0].Role != MountState {
		t.Errorf("got %+v, %v", s, ok)
	}
	if again := s.Labels(); again[LabelContainer] != text || s.Start != household.StartBoot {
		t.Errorf("made again, its label is %s", again[LabelContainer])
	}
}
