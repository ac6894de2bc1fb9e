package server

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/right"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/server/web"
)

// public is the handler of the published port.
func (s *Server) public() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /healthz", func(w http.ResponseWriter, r *http.Request) { s.Healthz(w, r, false) })
	s.api.Routes(m)
	s.web.Routes(m)
	s.Visits.Routes(m)
	s.web.TrustRoutes(m)
	s.web.FeedRoutes(m)
	m.HandleFunc("GET /metrics", s.WithKey(right.Metrics, false, (&measurements{Server: s}).ServeHTTP))
	// Requests that change something must come from our own pages, or from a
	// program that sends no browser's headers.
	cross := http.NewCrossOriginProtection()
	cross.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		live.Fail(w, &live.StatusError{Problem: &problem.Problem{What: "the request comes from another site",
			Fix: "open the page itself and try again"}, Status: http.StatusForbidden, Wait: 0})
	}))
	return s.Certificate.Challenge(s.arrive(s.empty(cross.Handler(m))))
}

// arrive works out where a request comes from, and sets the headers that every
// answer has.
func (s *Server) arrive(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		peer, err := netip.ParseAddrPort(r.RemoteAddr)
		if err != nil {
			http.Error(w, "no address", http.StatusBadRequest)
			return
		}
		v := &live.Visitor{Secure: r.TLS != nil}
		forwarded := r.Header.Values("X-Forwarded-For")
		v.Address = allowance.ClientAddress(peer.Addr(), forwarded, s.Trusted)
		via := peer.Addr().Unmap().WithZone("")
		switch {
		case len(forwarded) == 0:
		case v.Address != via, slices.ContainsFunc(s.Trusted, func(p netip.Prefix) bool { return p.Contains(via) }):
			v.Secure = v.Secure || r.Header.Get("X-Forwarded-Proto") == "https"
		case allowance.AtHome(via):
			// Either it is not trusted, or it passed nothing on. What strangers
			// say of themselves is not worth a word.
			s.WarnProxy(via)
		}
		v.Away = !allowance.AtHome(v.Address) || s.Hidden(v.Address)
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy", web.ContentPolicy)
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Permissions-Policy", "camera=(), microphone=(), geolocation=()")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Cache-Control", "no-store")
		if v.Secure && s.Certificate.Authority() == nil { // a device may cease to trust a home's authority
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		s.Visits.Note(r, v, via)
		r, over, err := s.FromOutside(w, r, v)
		if err != nil {
			s.TurnAway(w, r, err)
			return
		}
		defer func() {
			if over() {
				panic(http.ErrAbortHandler)
			}
		}()
		if to := s.safer(r, v); to != "" {
			h.Set("Vary", "Host")
			http.Redirect(w, r, to, http.StatusTemporaryRedirect)
			return
		}
		if err := s.Admit(w, r, v); err != nil {
			s.TurnAway(w, r, err)
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), live.VisitorKey{}, v)))
	})
}

// safer gives where a page is over HTTPS, for whoever asks for it over plain HTTP by a name for which we have a
// certificate that everybody takes.
func (s *Server) safer(r *http.Request, v *live.Visitor) string {
	if s.Certificate == nil || v.Secure || r.Method != http.MethodGet && r.Method != http.MethodHead ||
		strings.HasPrefix(r.URL.Path, "/api/") || r.URL.Path == "/healthz" {
		return ""
	}
	host := r.Host
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	if !s.Certificate.Covers(host, time.Now()) {
		return ""
	}
	base := "https://" + host
	if u, err := url.Parse(s.Settings.RemoteAddress); err == nil && u.Scheme == "https" &&
		strings.EqualFold(u.Hostname(), host) {
		base = "https://" + u.Host
	} else if i := slices.IndexFunc(s.Settings.Listeners,
		func(l blueprint.SettingsListener) bool { return l.TLS }); i >= 0 {
		base += fmt.Sprintf(":%d", s.Settings.Listeners[i].Port)
	}
	return base + r.URL.RequestURI()
}

// empty answers while there is no member yet: with the health, and a page that
// says that the administrator has to add somebody on the host.
func (s *Server) empty(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		any := s.Someone.Load()
		if !any {
			var err error
			if any, err = s.Store.AnyMember(r.Context()); err != nil {
				s.Log.Error("the store cannot be read", "why", err)
				http.Error(w, "The store cannot be read; the administrator finds the reason in the log.",
					http.StatusServiceUnavailable)
				return
			}
			s.Someone.Store(any)
		}
		if any || r.URL.Path == "/healthz" {
			next.ServeHTTP(w, r)
			return
		}
		s.web.NobodyYet(w)
	})
}
