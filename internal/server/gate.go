package server

import (
	"net/http"
	"time"

	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
)

// gate lets requests through once the store is open and sound. Before and after,
// the control socket still tells how the server is.
func (s *Server) gate(next func() http.Handler, why bool) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == http.MethodGet && r.URL.Path == "/healthz":
			s.Healthz(w, r, why)
			return
		case why && r.URL.Path == "/control/v1/status":
			live.Answer(s.admin.Status)(w, r)
			return
		}
		if st := s.Open(); st != nil && s.Sick.Load() == nil && st.Damage() == nil {
			next().ServeHTTP(w, r)
			return
		}
		h := s.Condition(r.Context())
		p := &problem.Problem{What: h.What, Where: h.Where, Why: h.Why, Fix: h.Fix}
		if !why {
			p = &problem.Problem{What: "the server is not ready", Why: "it is " + string(h.Status),
				Fix: "try again in a moment; if it lasts, the administrator finds the reason with cozyshelf status"}
		}
		live.Fail(w, &live.StatusError{Problem: p, Status: http.StatusServiceUnavailable, Wait: 5 * time.Second})
	})
}
