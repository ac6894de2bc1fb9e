package admin

import (
	"encoding/json"
	"errors"
	"net/http"

	"cozyshelf/internal/control"
	"cozyshelf/internal/convert"
	"cozyshelf/internal/problem"
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
	found, err := s.Measure(r.Context(), convert.Measuring{Quick: r.URL.Query().Get("quick") == "true",
		Told: func(step convert.Step) {
			say(control.MeasureLine{What: step.What, Done: step.Done, Of: step.Of})
		}})
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
