package server

import (
	"context"
	"errors"
	"net/http"
	"net/netip"
	"strconv"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
	"cozyshelf/internal/stream"
)

// visitor is who asks: where from, and for a member who has signed in, as whom.
type visitor struct {
	address netip.Addr
	away    bool
	secure  bool // came over HTTPS, here or at a trusted proxy
	member  store.Member
	device  store.Device
	cookie  bool // signed in by cookie, not by bearer token
}

type visitorKey struct{}

func visitorOf(r *http.Request) *visitor { return r.Context().Value(visitorKey{}).(*visitor) }

// public is the handler of the published port.
func (s *Server) public() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /healthz", func(w http.ResponseWriter, r *http.Request) { s.healthz(w, r, false) })
	m.HandleFunc("GET /api/v1/openapi.json", openAPI)
	m.HandleFunc("POST /api/v1/sign-in", answer(s.apiSignIn))
	for pattern, h := range map[string]http.HandlerFunc{
		"POST /api/v1/sign-out":              answer(s.apiSignOut),
		"GET /api/v1/me":                     answer(func(r *http.Request) (any, error) { return me(visitorOf(r)), nil }),
		"GET /api/v1/shelves":                answer(s.apiShelves),
		"GET /api/v1/shelves/{shelf}/titles": answer(s.apiTitles),
		"GET /api/v1/titles/{title}":         answer(s.apiTitle),
		"GET /api/v1/search":                 answer(s.search),
		"GET /api/v1/files/{file}":           answer(s.apiFile),
		"GET /api/v1/files/{file}/content":   s.content,
		"PUT /api/v1/files/{file}/position":  answer(s.apiPosition),

		"GET /api/v1/files/{file}/subtitles/{name}": s.subtitle,
	} {
		m.HandleFunc(pattern, s.signedIn(h))
	}
	s.uploads(m)
	m.HandleFunc("/api/", func(w http.ResponseWriter, r *http.Request) {
		fail(w, &statusError{&problem.Problem{What: "there is nothing at this address", Where: r.Method + " " + r.URL.Path, Fix: "see /api/v1/openapi.json"}, http.StatusNotFound, 0})
	})
	s.pages(m)
	// Requests that change something must come from our own pages, or from a
	// program that sends no browser's headers.
	cross := http.NewCrossOriginProtection()
	cross.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fail(w, &statusError{&problem.Problem{What: "the request comes from another site", Fix: "open the page itself and try again"}, http.StatusForbidden, 0})
	}))
	return s.arrive(s.empty(cross.Handler(m)))
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
		v := &visitor{secure: r.TLS != nil}
		forwarded := r.Header.Values("X-Forwarded-For")
		v.address = allowance.ClientAddress(peer.Addr(), forwarded, s.trusted)
		via := peer.Addr().Unmap().WithZone("")
		switch {
		case len(forwarded) == 0:
		case v.address != via:
			v.secure = v.secure || r.Header.Get("X-Forwarded-Proto") == "https"
		case allowance.AtHome(via):
			// Either it is not trusted, or it passed nothing on. What strangers
			// say of themselves is not worth a word.
			s.warnProxy(via)
		}
		v.away = !allowance.AtHome(v.address) || s.hidden(v.address)
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Content-Security-Policy", contentPolicy)
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Permissions-Policy", "camera=(), microphone=(), geolocation=()")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Cache-Control", "no-store")
		if v.secure {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if err := s.admit(w, r, v); err != nil {
			s.turnAway(w, r, err)
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), visitorKey{}, v)))
	})
}

// empty answers while there is no member yet: with the health, and a page that
// says that the administrator has to add somebody on the host.
func (s *Server) empty(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		any := s.someone.Load()
		if !any {
			var err error
			if any, err = s.store.AnyMember(r.Context()); err != nil {
				s.log.Error("the store cannot be read", "why", err)
				http.Error(w, "The store cannot be read; the administrator finds the reason in the log.", http.StatusServiceUnavailable)
				return
			}
			s.someone.Store(any)
		}
		if any || r.URL.Path == "/healthz" {
			next.ServeHTTP(w, r)
			return
		}
		s.nobodyYet(w)
	})
}

func (s *Server) tooFar(m store.Member, v *visitor) error {
	s.events.Tell(event.RefusedAway{Member: m.Name, Address: v.address.String()})
	return &statusError{&problem.Problem{
		What: m.Name + " may not use this server from outside the home", Where: v.address.String(),
		Why: "this account is for use at home only", Fix: "ask the household's administrator: cozyshelf member edit " + m.Name + " --away yes",
	}, http.StatusForbidden, 0}
}

// signedIn lets members pass and answers others with a problem.
func (s *Server) signedIn(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		err := s.identify(r)
		if errors.Is(err, store.ErrNotFound) {
			w.Header().Set("WWW-Authenticate", `Bearer realm="shelf"`)
			err = &statusError{&problem.Problem{What: "you are not signed in", Why: "there is no token, or it is not known, or it has expired", Fix: "sign in again"}, http.StatusUnauthorized, 0}
		}
		if err != nil {
			fail(w, err)
			return
		}
		next(w, r)
	}
}

// number reads an id from the path. What is no number is as unknown as a number
// that nothing has.
func number(r *http.Request, name string) (int64, error) {
	n, err := strconv.ParseInt(r.PathValue(name), 10, 64)
	if err != nil {
		return 0, nothing(r)
	}
	return n, nil
}

func nothing(r *http.Request) error {
	return &statusError{&problem.Problem{What: "there is nothing at this address", Where: r.URL.Path, Why: "it is not on any shelf, or not any more", Fix: "look at the shelves again"}, http.StatusNotFound, 0}
}

// fileOf finds the file that a request names, with its title.
func (s *Server) fileOf(r *http.Request) (store.Title, store.File, error) {
	id, err := number(r, "file")
	if err != nil {
		return store.Title{}, store.File{}, err
	}
	t, f, err := s.store.FileOf(r.Context(), id, visitorOf(r).member.ID)
	if errors.Is(err, store.ErrNotFound) {
		err = nothing(r)
	}
	return t, f, err
}

func (v *visitor) viewer() stream.Viewer {
	return stream.Viewer{Member: v.member.ID, Name: v.member.Name, Device: v.device.ID, DeviceAs: v.device.Name, Address: v.address.String(), Away: v.away}
}

// unsent answers for a file that cannot be opened.
func (s *Server) unsent(w http.ResponseWriter, f store.File, err error) {
	why := f.Problem
	if why == "" {
		why = "it is away, or may not be read"
	}
	s.log.Error("a file cannot be sent", "shelf", f.Shelf, "file", f.Path, "why", err)
	var away *awayError
	if errors.As(err, &away) || errors.Is(err, machine.ErrSilent) {
		fail(w, &statusError{&problem.Problem{What: "the shelf is away", Where: f.Shelf, Why: "the disk or the network behind it does not answer, or is not there", Fix: "try again later; the household's administrator sees more with cozyshelf shelf list"}, http.StatusServiceUnavailable, time.Minute})
		return
	}
	fail(w, &statusError{&problem.Problem{What: "the file cannot be sent", Where: f.Path, Why: why, Fix: "ask the household's administrator to run cozyshelf check"}, http.StatusNotFound, 0})
}

// content sends a file as it is.
func (s *Server) content(w http.ResponseWriter, r *http.Request) {
	t, f, err := s.fileOf(r)
	if err != nil {
		fail(w, err)
		return
	}
	file, err := s.find(f)
	if err != nil {
		s.unsent(w, f, err)
		return
	}
	defer file.Close()
	end, err := s.cuts.begin(w, visitorOf(r))
	if err != nil {
		fail(w, err)
		return
	}
	defer end()
	_, mime := naming.ContentOf(f.Path)
	if mime == "" {
		mime = "application/octet-stream"
	}
	count := func(int64) {}
	// A picture that is looked at, and a question about a file, are no streams.
	if f.Content != string(naming.Picture) && r.Method == http.MethodGet {
		count, err = s.tracker.Sending(r.Context(), visitorOf(r).viewer(), t, f)
		switch {
		case errors.Is(err, store.ErrFull):
			// What is there plays, though nobody will know of it.
			count = func(int64) {}
			if s.unnoted.CompareAndSwap(false, true) {
				s.log.Error("streams are not noted while the disk is full", "why", err)
			}
		case err != nil:
			s.log.Error("a stream could not be noted", "why", err)
			fail(w, err)
			return
		default:
			s.unnoted.Store(false)
		}
	}
	if err := stream.Deliver(w, r, file, mime, count); err != nil {
		fail(w, err)
	}
}
