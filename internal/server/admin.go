package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"cozyshelf/internal/control"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// control is the handler of the control socket.
func (s *Server) control() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /healthz", s.healthz)
	m.HandleFunc("GET /control/v1/status", answer(s.status))
	m.HandleFunc("GET /control/v1/members", answer(func(r *http.Request) (any, error) { return s.store.Members(r.Context()) }))
	m.HandleFunc("POST /control/v1/members", answer(s.addMember))
	m.HandleFunc("PATCH /control/v1/members/{name}", answer(s.changeMember))
	m.HandleFunc("DELETE /control/v1/members/{name}", answer(s.removeMember))
	m.HandleFunc("GET /control/v1/shelves/{name}", answer(s.showShelf))
	m.HandleFunc("POST /control/v1/scan", answer(s.scanNow))
	m.HandleFunc("GET /control/v1/plays", answer(s.plays))
	return m
}

// answer makes a handler of a function that gives a document or a problem.
func answer(do func(*http.Request) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		v, err := do(r)
		if err != nil {
			fail(w, err)
			return
		}
		reply(w, http.StatusOK, v)
	}
}

// fail answers with a problem and the status that fits it.
func fail(w http.ResponseWriter, err error) {
	status := http.StatusInternalServerError
	var st *statusError
	switch {
	case errors.As(err, &st):
		status = st.status
		if st.wait > 0 {
			w.Header().Set("Retry-After", strconv.Itoa(int(st.wait.Seconds())+1))
		}
	case errors.Is(err, store.ErrNotFound):
		status = http.StatusNotFound
	case errors.Is(err, store.ErrExists):
		status = http.StatusConflict
	case problem.Code(err) == problem.ExitUsage:
		status = http.StatusBadRequest
	}
	reply(w, status, problem.Of(err))
}

// statusError is a problem with the status that it is answered with.
type statusError struct {
	*problem.Problem
	status int
	wait   time.Duration
}

func (e *statusError) Unwrap() error { return e.Problem }

func read(r *http.Request, v any) error {
	d := json.NewDecoder(http.MaxBytesReader(nil, r.Body, 64<<10))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return &statusError{&problem.Problem{What: "the request cannot be read", Why: err.Error(), Fix: "send one JSON document as /api/v1/openapi.json says"}, http.StatusBadRequest, 0}
	}
	return nil
}

func (s *Server) status(r *http.Request) (any, error) {
	ctx := r.Context()
	out := control.Status{Version: s.version, Started: s.started, Ready: true, Shelves: []control.Shelf{}, Memory: resident()}
	if err := s.health(ctx); err != nil {
		out.Ready, out.Problem = false, err.Error()
		return out, nil
	}
	members, err := s.store.Members(ctx)
	if err != nil {
		return nil, err
	}
	open, err := s.store.Plays(ctx, store.PlayFilter{Open: true})
	if err != nil {
		return nil, err
	}
	out.Members, out.Streams = len(members), len(open)
	if out.Format, err = s.store.Format(ctx); err != nil {
		return nil, err
	}
	out.Shelves, err = s.shelfList(ctx)
	return out, err
}

// resident gives the memory that the server has in use, in bytes.
func resident() int64 {
	b, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	var size, pages int64
	fmt.Sscan(string(b), &size, &pages)
	return pages * int64(os.Getpagesize())
}

func (s *Server) shelfList(ctx context.Context) ([]control.Shelf, error) {
	figures, err := s.store.Figures(ctx)
	if err != nil {
		return nil, err
	}
	out := []control.Shelf{}
	for _, sh := range s.settings.Shelves {
		c := control.Shelf{Name: sh.Name, Kind: sh.Kind, Access: sh.Access, Folders: sh.Shown, Away: s.awayNow(sh.Name), ShelfFigures: figures[sh.Name]}
		s.shelf(sh.Name, func(st *shelfState) { c.Scanning, c.Scanned = st.scanning, st.scanned })
		out = append(out, c)
	}
	return out, nil
}

func (s *Server) showShelf(r *http.Request) (any, error) {
	ctx, name := r.Context(), r.PathValue("name")
	list, err := s.shelfList(ctx)
	if err != nil {
		return nil, err
	}
	for _, sh := range list {
		if sh.Name != name {
			continue
		}
		out := control.ShelfFiles{Shelf: sh, Contents: []control.TitleFiles{}}
		titles, err := s.store.Titles(ctx, name)
		if err != nil {
			return nil, err
		}
		files, err := s.store.ShelfFiles(ctx, name)
		if err != nil {
			return nil, err
		}
		of := map[int64][]store.File{}
		for _, f := range files {
			of[f.Title] = append(of[f.Title], f)
		}
		for _, t := range titles {
			out.Contents = append(out.Contents, control.TitleFiles{Title: t, Files: of[t.ID]})
		}
		out.Problems, err = s.store.FolderProblems(ctx, name)
		return out, err
	}
	return nil, s.noShelf(name)
}

func (s *Server) noShelf(name string) error {
	var known []string
	for _, sh := range s.settings.Shelves {
		known = append(known, sh.Name)
	}
	return &problem.Problem{What: fmt.Sprintf("there is no shelf %q", name), Why: "the household has: " + strings.Join(known, ", "), Fix: "see cozyshelf shelf list", Err: store.ErrNotFound}
}

func (s *Server) scanNow(r *http.Request) (any, error) {
	name := r.URL.Query().Get("shelf")
	if name != "" && s.shelves[name] == nil {
		return nil, s.noShelf(name)
	}
	return s.scan(r.Context(), name, r.URL.Query().Get("emptied") == "yes")
}

// checkName says why a name cannot be a member's, or nothing.
func checkName(name string) string {
	switch {
	case name == "":
		return "it is empty"
	case !utf8.ValidString(name) || utf8.RuneCountInString(name) > 32:
		return "it has more than 32 characters"
	case strings.ContainsFunc(name, func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) && !strings.ContainsRune("-_.", r)
	}):
		return "it may hold letters, digits, and - _ ."
	}
	return ""
}

func usageProblem(what, why, fix string) error {
	return &problem.Problem{What: what, Why: why, Fix: fix, Exit: problem.ExitUsage}
}

func (s *Server) addMember(r *http.Request) (any, error) {
	var in control.NewMember
	if err := read(r, &in); err != nil {
		return nil, err
	}
	if why := checkName(in.Name); why != "" {
		return nil, usageProblem(fmt.Sprintf("%q cannot be a member's name", in.Name), why, "choose a short name, such as wren")
	}
	if !in.Role.Known() {
		return nil, usageProblem(fmt.Sprintf("there is no role %q", in.Role), "a member is admin, adult, child or guest", "give one of these with --role")
	}
	if why := secret.Judge(in.Password, in.Name); why != "" {
		return nil, usageProblem("the password cannot be taken", why, "choose a longer one, or let one be made")
	}
	m := store.Member{Name: in.Name, Role: in.Role, Away: in.Role.AwayByDefault()}
	if in.Away != nil {
		m.Away = *in.Away
	}
	m.Password = secret.Hash(in.Password)
	m, err := s.store.AddMember(r.Context(), m, time.Now())
	switch {
	case errors.Is(err, store.ErrExists):
		return nil, &problem.Problem{What: fmt.Sprintf("there is a member %s already", in.Name), Why: "each person has one account, whatever the case of letters", Fix: "choose another name, or see cozyshelf member list", Err: err}
	case errors.Is(err, store.ErrFirstAdmin):
		return nil, usageProblem("the first member must be an administrator", "somebody has to look after the household", fmt.Sprintf("cozyshelf member add %s --role admin", in.Name))
	case err != nil:
		return nil, err
	}
	s.log.Info("member added", "member", m.Name, "role", m.Role)
	return m, nil
}

func noMember(name string, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return &problem.Problem{What: fmt.Sprintf("there is no member %q", name), Why: "nobody of that name has an account", Fix: "see cozyshelf member list", Err: err}
	}
	return err
}

func (s *Server) changeMember(r *http.Request) (any, error) {
	name := r.PathValue("name")
	var in control.Change
	if err := read(r, &in); err != nil {
		return nil, err
	}
	if in.Password != nil {
		if why := secret.Judge(*in.Password, name); why != "" {
			return nil, usageProblem("the password cannot be taken", why, "choose a longer one, or let one be made")
		}
		if err := s.store.SetPassword(r.Context(), name, secret.Hash(*in.Password)); err != nil {
			return nil, noMember(name, err)
		}
		s.failedMember.Forgive(store.Fold(name))
		s.log.Info("password changed, devices signed out", "member", name)
	}
	if in.Away != nil {
		if err := s.store.SetAway(r.Context(), name, *in.Away); err != nil {
			return nil, noMember(name, err)
		}
		s.log.Info("away permission changed", "member", name, "away", *in.Away)
	}
	m, err := s.store.Member(r.Context(), name)
	return m, noMember(name, err)
}

func (s *Server) removeMember(r *http.Request) (any, error) {
	name := r.PathValue("name")
	err := s.store.RemoveMember(r.Context(), name)
	if errors.Is(err, store.ErrLastAdmin) {
		return nil, &problem.Problem{What: fmt.Sprintf("%s cannot be removed", name), Why: "the household would be left without an administrator", Fix: "make another member an administrator first", Err: err}
	}
	if err != nil {
		return nil, noMember(name, err)
	}
	s.log.Info("member removed", "member", name)
	return map[string]bool{"removed": true}, nil
}

func (s *Server) plays(r *http.Request) (any, error) {
	q := r.URL.Query()
	f := store.PlayFilter{Member: q.Get("member"), Open: q.Get("now") == "true"}
	var err error
	if v := q.Get("since"); v != "" {
		if f.Since, err = time.Parse(time.RFC3339, v); err != nil {
			return nil, usageProblem("since cannot be read", err.Error(), "give a time as RFC 3339 has it")
		}
	}
	if v := q.Get("limit"); v != "" {
		if f.Limit, err = strconv.Atoi(v); err != nil {
			return nil, usageProblem("limit cannot be read", err.Error(), "give a whole number")
		}
	}
	if f.Member != "" {
		if _, err := s.store.Member(r.Context(), f.Member); err != nil {
			// A member who is gone may still have plays.
			if list, perr := s.store.Plays(r.Context(), store.PlayFilter{Member: f.Member, Limit: 1}); perr != nil || len(list) == 0 {
				return nil, noMember(f.Member, errors.Join(err, perr))
			}
		}
	}
	return s.store.Plays(r.Context(), f)
}
