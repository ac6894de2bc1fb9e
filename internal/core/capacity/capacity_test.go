package capacity

import (
	"math"
	"math/rand/v2"
	"testing"
)

// TestWeightsAreFoundAgain makes up machines, has each task cost what their weights say, and asks
// for the weights.
func TestWeightsAreFoundAgain(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		want := Weights{Room: 1e6 * math.Pow(1000, rng.Float64()), Decode: rng.Float64() * 2, ToneMap: rng.Float64() * 5}
		m := Measured{}
		for _, task := range Tasks {
			speed := want.Room / want.Cost(task.Width, task.Height, task.MadeW, task.MadeH, Rate, task.HDR)
			r := Run{Task: task.Name, Way: "software", Speed: speed}
			if rng.IntN(2) == 0 && speed >= 1 {
				r.AtOnce = int(speed)
				r.Slowest = speed / float64(r.AtOnce)
				r.Speed *= 0.6 // one alone does not keep all processors busy
			}
			m.Runs = append(m.Runs, r)
		}
		got, ok := m.Weights("software")
		near := func(a, b float64) bool { return math.Abs(a-b) <= 1e-6*(1+math.Abs(b)) }
		if !ok || !near(got.Room, want.Room) || !near(got.Decode, want.Decode) || !near(got.ToneMap, want.ToneMap) {
			t.Fatalf("got %+v, want %+v", got, want)
		}
		for _, task := range Tasks {
			r, _ := m.run("software", task.Name)
			if n := got.Expect(task); r.AtOnce > 0 && n != r.AtOnce && math.Abs(float64(n-r.AtOnce)) > 1 {
				t.Fatalf("%s: %d at once were measured, and %d are expected", task.Name, r.AtOnce, n)
			}
		}
	}
}

// TestWhatMakesNoSenseIsBounded gives figures that no machine has.
func TestWhatMakesNoSenseIsBounded(t *testing.T) {
	for name, runs := range map[string][]Run{
		"the smaller costs more": {{Task: Tasks[0].Name, Speed: 3}, {Task: Tasks[1].Name, Speed: 2}},
		"both the same":          {{Task: Tasks[0].Name, Speed: 2}, {Task: Tasks[1].Name, Speed: 2}},
		"decoding for nothing":   {{Task: Tasks[0].Name, Speed: 1}, {Task: Tasks[1].Name, Speed: 50}},
	} {
		for i := range runs {
			runs[i].Way = "software"
		}
		w, ok := Measured{Runs: runs}.Weights("software")
		if !ok || !(w.Room > 0) || w.Decode < 0 || w.ToneMap < 0 || math.IsInf(w.Room+w.Decode, 0) {
			t.Errorf("%s: %+v %t", name, w, ok)
		}
		task := Tasks[0]
		cost := w.Cost(task.Width, task.Height, task.MadeW, task.MadeH, Rate, false)
		if got := w.Room / cost; math.Abs(got-runs[0].Speed) > 0.01 {
			t.Errorf("%s: by its weights the machine makes %.2f of what it made %.2f of", name, got, runs[0].Speed)
		}
	}
	for name, runs := range map[string][]Run{
		"nothing":  nil,
		"one task": {{Way: "software", Task: Tasks[0].Name, Speed: 2}},
		"no speed": {{Way: "software", Task: Tasks[0].Name}, {Way: "software", Task: Tasks[1].Name, Speed: 1}},
		"a problem": {{Way: "software", Task: Tasks[0].Name, Speed: 1, Problem: "no"},
			{Way: "software", Task: Tasks[1].Name, Speed: 1}},
		"another way": {{Way: "x", Task: Tasks[0].Name, Speed: 1}, {Way: "x", Task: Tasks[1].Name, Speed: 2}},
	} {
		if w, ok := (Measured{Runs: runs}).Weights("software"); ok {
			t.Errorf("%s: %+v", name, w)
		}
	}
}

func TestHowManyAtOnce(t *testing.T) {
	m := Measured{Processors: 2, FFmpeg: "5.1", Runs: []Run{
		{Way: "software", Task: Tasks[0].Name, Speed: 2.2, AtOnce: 2},
		{Way: "software", Task: Tasks[1].Name, Speed: 4, AtOnce: 3},
		{Way: "software", Task: Tasks[2].Name, Speed: 0.3},
		{Way: "broken", Task: Tasks[0].Name, Problem: "no such device"},
	}}
	if n := m.AtOnce("software"); n != 3 {
		t.Errorf("%d at once", n)
	}
	if n := m.AtOnce("broken"); n != 0 {
		t.Errorf("%d at once by what does not work", n)
	}
	slow := Measured{Runs: []Run{{Way: "software", Task: Tasks[0].Name, Speed: 0.4}}}
	if n := slow.AtOnce("software"); n != 1 {
		t.Errorf("%d at once on a slow machine", n)
	}
	if !m.Fits(2, "5.1") || m.Fits(4, "5.1") || m.Fits(2, "6") || (Measured{Processors: 2, FFmpeg: "5.1"}).Fits(2, "5.1") {
		t.Error("what was measured is taken for another machine's, or another's for this one's")
	}
	if a, b := Expected(2).Expect(Tasks[0]), Expected(8).Expect(Tasks[0]); a < 1 || b < 3*a {
		t.Errorf("two processors are expected to make %d, eight %d", a, b)
	}
}
