package openmetrics

import (
	"bytes"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
)

// TestOthersReadWhatWasWritten has Prometheus' own reader read measurements with labels of every sort.
func TestOthersReadWhatWasWritten(t *testing.T) {
	letters := []rune("aZ0 \\\n\"{},=é雪\t\x00'#")
	rng := rand.New(rand.NewPCG(1, 2))
	text := func() string {
		out := make([]rune, rng.IntN(12))
		for i := range out {
			out[i] = letters[rng.IntN(len(letters))]
		}
		return string(out)
	}
	values := []float64{0, 1, -1, 0.1, 1e300, 123456789, math.Inf(1), math.Inf(-1), 1.7e9}
	for range 500 {
		gauge, counter := Family{Name: "mill_water_meters", Kind: Gauge, Help: text()},
			Family{Name: "mill_turns_total", Kind: Counter, Help: text()}
		want := map[string]float64{}
		for range 1 + rng.IntN(5) {
			shelf, v := text(), values[rng.IntN(len(values))]
			if _, ok := want[shelf]; !ok {
				gauge.Add(v, "shelf", shelf, "b", text())
				want[shelf] = v
			}
		}
		counter.Add(7)
		b := Write([]Family{gauge, {Name: "mill_none", Kind: Gauge}, counter}, false)
		p := expfmt.NewTextParser(model.UTF8Validation)
		got, err := p.TextToMetricFamilies(bytes.NewReader(b))
		if err != nil {
			t.Fatalf("%v\n%s", err, b)
		}
		if len(got) != 2 || got["mill_turns_total"].GetType() != dto.MetricType_COUNTER ||
			got["mill_turns_total"].Metric[0].GetCounter().GetValue() != 7 ||
			got["mill_water_meters"].GetHelp() != strings.TrimLeft(gauge.Help, " \t") {
			t.Errorf("%v\n%s", got, b)
		}
		for _, m := range got["mill_water_meters"].Metric {
			for _, l := range m.Label {
				if v, ok := want[l.GetValue()]; l.GetName() == "shelf" && (!ok || v != m.GetGauge().GetValue()) {
					t.Errorf("%q: %g\n%s", l.GetValue(), m.GetGauge().GetValue(), b)
				}
			}
		}
		if len(got["mill_water_meters"].Metric) != len(want) {
			t.Errorf("%d of %d\n%s", len(got["mill_water_meters"].Metric), len(want), b)
		}
	}
}

// TestBothFormsAreWritten compares with the examples of the two descriptions.
func TestBothFormsAreWritten(t *testing.T) {
	f := Family{Name: "mill_turns_total", Kind: Counter, Help: `Turns of the "wheel".`}
	f.Add(3, "wheel", `the "old" one`)
	for open, want := range map[bool]string{
		false: "# HELP mill_turns_total Turns of the \"wheel\".\n# TYPE mill_turns_total counter\n" +
			"mill_turns_total{wheel=\"the \\\"old\\\" one\"} 3\n",
		true: "# HELP mill_turns Turns of the \\\"wheel\\\".\n# TYPE mill_turns counter\n" +
			"mill_turns_total{wheel=\"the \\\"old\\\" one\"} 3\n# EOF\n"} {
		if got := string(Write([]Family{f}, open)); got != want {
			t.Errorf("%s", got)
		}
	}
	if !Wants("application/openmetrics-text;version=1.0.0,text/plain;q=0.5") || Wants("text/plain") || Wants("") {
		t.Error("what is wanted")
	}
}
