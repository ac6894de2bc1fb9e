package live

import (
	"errors"
	"net/http"
	"net/netip"
	"slices"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
	"cozyshelf/internal/stream"
)

// Visitor is who asks: where from, and for a member who has signed in, as whom.
type Visitor struct {
	Address netip.Addr
	Away    bool
	Secure  bool // came over HTTPS, here or at a trusted proxy
	Member  store.Member
	Device  store.Device
	Key     *store.Key // of another system, in place of a member; nil for none
	cookie  bool       // signed in by cookie, not by bearer token
}

type VisitorKey struct{}

func VisitorOf(r *http.Request) *Visitor { return r.Context().Value(VisitorKey{}).(*Visitor) }

func (v *Visitor) Viewer() stream.Viewer {
	return stream.Viewer{Member: v.Member.ID, Name: v.Member.Name, Device: v.Device.ID, DeviceAs: v.Device.Name,
		Address: v.Address.String(), Away: v.Away, Most: v.Member.Allowed.Streams}
}

func (s *Server) tooFar(m store.Member, v *Visitor) error {
	s.Events.Tell(event.RefusedAway{Member: m.Name, Address: v.Address.String()})
	return &StatusError{Problem: &problem.Problem{
		What: m.Name + " may not use this server from outside the home", Where: v.Address.String(),
		Why: "this account is for use at home only", Fix: "ask the household's administrator: cozyshelf member edit " +
			m.Name + " --away yes",
	}, Status: http.StatusForbidden, Wait: 0}
}

// FileOf finds the file that a request names, with its title.
func (s *Server) FileOf(r *http.Request) (store.Title, store.File, error) {
	id, err := Number(r, "file")
	if err != nil {
		return store.Title{}, store.File{}, err
	}
	return s.Seen(r, id)
}

// Seen gives a file and its title, if they are there for the member of a request.
func (s *Server) Seen(r *http.Request, file int64) (store.Title, store.File, error) {
	m := VisitorOf(r).Member
	t, f, err := s.Store.FileOf(r.Context(), file, m.ID)
	if err := s.mustShow(r, t, err); err != nil {
		return store.Title{}, store.File{}, err
	}
	return t, f, nil
}

// mustShow gives an error for a title that is not there for the member of a request, or could not be read.
func (s *Server) mustShow(r *http.Request, t store.Title, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return Nothing(r)
	}
	if err != nil {
		return err
	}
	shown, err := s.Store.Shows(r.Context(), s.SightOf(VisitorOf(r).Member), t)
	if err == nil && !shown {
		return Nothing(r)
	}
	return err
}

// SignedIn lets members pass and answers others with a problem.
func (s *Server) SignedIn(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		err := s.Identify(r)
		if errors.Is(err, store.ErrNotFound) {
			w.Header().Set("WWW-Authenticate", `Bearer realm="shelf"`)
			err = &StatusError{Problem: &problem.Problem{What: "you are not signed in",
				Why: "there is no token, or it is not known, or it has expired", Fix: "sign in again"},
				Status: http.StatusUnauthorized, Wait: 0}
		}
		if err != nil {
			Fail(w, err)
			return
		}
		next(w, r)
	}
}

// SeesAll reports whether a request is an administrator's, who sees what cannot be played, too.
func SeesAll(r *http.Request) bool { return VisitorOf(r).Member.Role == allowance.Admin }

// Title gives a title, if it is there for the member of a request.
func (s *Server) Title(r *http.Request, id int64) (store.Title, error) {
	t, err := s.Store.Title(r.Context(), id)
	if err := s.mustShow(r, t, err); err != nil {
		return store.Title{}, err
	}
	return t, nil
}

// TitleOf finds the title that a request names, with its files as its member has seen them.
func (s *Server) TitleOf(r *http.Request) (store.Title, []store.File, error) {
	id, err := Number(r, "title")
	if err != nil {
		return store.Title{}, nil, err
	}
	t, err := s.Title(r, id)
	if err != nil {
		return t, nil, err
	}
	files, err := s.Store.Files(r.Context(), id, VisitorOf(r).Member.ID)
	if !SeesAll(r) {
		files = slices.DeleteFunc(files, func(f store.File) bool { return f.Problem != "" })
		if err == nil && len(files) == 0 {
			return t, nil, Nothing(r)
		}
	}
	return t, files, err
}
