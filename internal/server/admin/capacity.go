package admin

import (
	"encoding/json"
	"errors"
	"net/http"

	"cozyshelf/internal/control"
	"cozyshelf/internal/convert"
	"cozyshelf/internal/core/capacity"
	"cozyshelf/internal/problem"
)

// How many seconds of film are converted in a measurement, and in a quick one.
const (
	measured = 10
	quickly  = 4
)

// measure measures how much this machine converts, and tells each step as a line of JSON; the last
// holds what was found, or why nothing was.
func (s *Admin) measure(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/x-ndjson")
	flush := http.NewResponseController(w)
	say := func(l control.MeasureLine) {
		_ = json.NewEncoder(w).Encode(l) // who asked may have gone, and then the context ends
		_ = flush.Flush()
	}
	m := convert.Measuring{Tasks: capacity.Tasks, Seconds: measured}
	if r.URL.Query().Get("quick") == "true" {
		m.Seconds, m.Quick = quickly, true
	}
	m.Told = func(step convert.Step) {
		say(control.MeasureLine{What: step.What, Done: step.Done, Of: step.Of})
	}
	found, err := s.Measure(r.Context(), m)
	if err == nil {
		say(control.MeasureLine{Measured: &found})
		return
	}
	var p *problem.Problem
	if !errors.As(err, &p) {
		s.Log.Error("the capacity could not be measured", "why", err)
		p = &problem.Problem{What: "the machine could not be measured", Why: err.Error(), Fix: "see cozyshelf logs"}
	}
	say(control.MeasureLine{Problem: p})
}
