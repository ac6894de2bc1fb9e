package server

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/sys/unix"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/library"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// control is the handler of the control socket.
func (s *Server) control() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /healthz", func(w http.ResponseWriter, r *http.Request) { s.healthz(w, r, true) })
	m.HandleFunc("POST /control/v1/backup", s.sendBackup)
	m.HandleFunc("GET /control/v1/status", answer(s.status))
	m.HandleFunc("GET /control/v1/members", answer(func(r *http.Request) (any, error) { return s.store.Members(r.Context()) }))
	m.HandleFunc("POST /control/v1/members", answer(s.addMember))
	m.HandleFunc("PATCH /control/v1/members/{name}", answer(s.changeMember))
	m.HandleFunc("DELETE /control/v1/members/{name}", answer(s.removeMember))
	m.HandleFunc("GET /control/v1/shelves/{name}", s.showShelf)
	m.HandleFunc("POST /control/v1/scan", answer(s.scanNow))
	m.HandleFunc("GET /control/v1/library", answer(func(r *http.Request) (any, error) { return s.store.Library(r.Context(), 12) }))
	m.HandleFunc("GET /control/v1/problems", s.problems)
	m.HandleFunc("GET /control/v1/titles/{title}", answer(s.matched))
	m.HandleFunc("POST /control/v1/titles/{title}/match", answer(s.match))
	m.HandleFunc("GET /control/v1/search", answer(s.search))
	m.HandleFunc("GET /control/v1/watched", answer(func(r *http.Request) (any, error) { return s.store.Watched(r.Context()) }))
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
	case errors.Is(err, store.ErrFull), errors.Is(err, syscall.ENOSPC):
		status = http.StatusInsufficientStorage
		err = &problem.Problem{What: "nothing can be kept now", Why: "the disk with the server's state is full", Fix: "the administrator has to free some space; what is there plays on", Err: err}
	case errors.Is(err, store.ErrDamaged):
		status = http.StatusServiceUnavailable
		err = &problem.Problem{What: "the store is damaged", Why: "what it holds cannot be trusted", Fix: "the administrator finds what to do with cozyshelf status", Err: err}
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

func read(r *http.Request, v any) error { return readUpTo(r, v, 64<<10) }

func readUpTo(r *http.Request, v any, most int64) error {
	d := json.NewDecoder(http.MaxBytesReader(nil, r.Body, most))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return &statusError{&problem.Problem{What: "the request cannot be read", Why: err.Error(), Fix: "send one JSON document as /api/v1/openapi.json says"}, http.StatusBadRequest, 0}
	}
	return nil
}

func (s *Server) status(r *http.Request) (any, error) {
	ctx := r.Context()
	out := control.Status{Version: s.version, Started: s.started, Ready: true, Shelves: []control.Shelf{}, Memory: resident()}
	out.Processor, out.Jobs, out.Listeners = processor(), s.jobs.status(), s.listening()
	out.Door = s.door.status()
	out.Door.Deliveries, out.Door.MostEach = s.cuts.count(), mostDeliveries
	out.Free, _ = freeBytes(s.settings.State) // 0 where it cannot be told
	h := s.condition(ctx)
	out.Condition = h.Status
	if h.Status != control.Ready {
		out.Ready, out.Problem, out.Fix = false, h.What+": "+h.Why, h.Fix
		return out, nil
	}
	out.Backup = s.backupStatus()
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
	if out.Quiet, err = s.quietStatus(ctx); err != nil {
		return nil, err
	}
	out.Shelves, err = s.shelfList(ctx)
	return out, err
}

// processor gives the processor time that the server has used, in seconds.
func processor() float64 {
	var u unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &u) != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano()).Seconds()
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
	out := []control.Shelf{}
	for _, sh := range s.settings.Shelves {
		figures, err := s.figures(ctx, sh.Name)
		if err != nil {
			return nil, err
		}
		c := control.Shelf{Name: sh.Name, Kind: sh.Kind, Access: sh.Access, Folders: sh.Shown, Away: s.awayNow(sh.Name), ShelfFigures: figures}
		s.shelf(sh.Name, func(st *shelfState) { c.Scanning, c.Progress, c.Scanned = st.scanning, st.progress, st.scanned })
		out = append(out, c)
	}
	return out, nil
}

// showShelf gives a shelf with all that is on it, as control.ShelfFiles, a page of titles
// after the other: a large one would not fit in the server's memory.
func (s *Server) showShelf(w http.ResponseWriter, r *http.Request) {
	ctx, name := r.Context(), r.PathValue("name")
	list, err := s.shelfList(ctx)
	if err != nil {
		fail(w, err)
		return
	}
	i := slices.IndexFunc(list, func(sh control.Shelf) bool { return sh.Name == name })
	if i < 0 {
		fail(w, s.noShelf(name))
		return
	}
	problems, err := s.store.FolderProblems(ctx, name)
	if err != nil {
		fail(w, err)
		return
	}
	whole, err := json.Marshal(control.ShelfFiles{Shelf: list[i], Contents: []control.TitleFiles{}, Problems: problems})
	if err != nil {
		fail(w, err)
		return
	}
	pour(w, whole, "contents", func(yield func(any) bool) error {
		start := store.PlaceOf("")
		for at := &start; at != nil; {
			page, err := s.store.TitlePage(ctx, name, *at, false, atOnce)
			if err != nil {
				return err
			}
			ids := make([]int64, 0, len(page.Titles))
			for _, t := range page.Titles {
				ids = append(ids, t.ID)
			}
			files, err := s.store.FilesOf(ctx, ids)
			if err != nil {
				return err
			}
			for _, t := range page.Titles {
				if !yield(control.TitleFiles{Title: t, Files: files[t.ID]}) {
					return nil
				}
			}
			at = page.Next
		}
		return nil
	})
}

// pour answers with a document one of whose lists, empty in whole, is written as it
// comes; without a name, the list is all of it. Where that fails in its midst, the answer
// is cut off, and whoever reads it notices.
func pour(w http.ResponseWriter, whole []byte, list string, each func(yield func(any) bool) error) {
	before, after := []byte("["), []byte("]\n")
	if list != "" {
		i := bytes.Index(whole, []byte(`"`+list+`":[]`)) + len(list) + len(`"":[`)
		before, after = whole[:i], whole[i:]
	}
	w.Header().Set("Content-Type", "application/json")
	out := bufio.NewWriterSize(w, 64<<10)
	_, err := out.Write(before)
	first := true
	enc := json.NewEncoder(out)
	if eerr := each(func(v any) bool {
		if !first && err == nil {
			err = out.WriteByte(',')
		}
		if first = false; err == nil {
			err = enc.Encode(v)
		}
		return err == nil
	}); eerr != nil {
		panic(http.ErrAbortHandler)
	}
	if err == nil {
		_, err = out.Write(after)
	}
	if err == nil {
		_ = out.Flush() // the client has gone, if this fails
	}
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
	o := scan.Options{Emptied: r.URL.Query().Get("emptied") == "yes", Gently: r.URL.Query().Get("gently") == "yes"}
	if folder := r.URL.Query().Get("folder"); folder != "" {
		sh, part := s.placeOf(folder)
		if part == nil {
			return nil, &problem.Problem{What: folder + " is on no shelf", Why: "it is neither a shelf's folder nor below one", Fix: "see the folders with cozyshelf shelf list --json", Err: store.ErrNotFound}
		}
		name, o.Only = sh, part
	}
	return s.scan(r.Context(), name, o)
}

// placeOf finds the shelf on which a folder lies, as the administrator writes it: the
// innermost of several.
func (s *Server) placeOf(folder string) (shelf string, part *scan.Part) {
	for _, sh := range s.settings.Shelves {
		for _, shown := range sh.Shown {
			if folder != shown && !household.Within(folder, shown) || part != nil && len(part.Shown) > len(shown) {
				continue
			}
			rel := strings.Trim(strings.TrimPrefix(folder, shown), "/")
			shelf, part = sh.Name, &scan.Part{Shown: shown, Places: []scan.Place{{Path: rel, Deep: true}}}
		}
	}
	return shelf, part
}

// problems finds what somebody should see to, on one shelf or on all.
func (s *Server) problems(w http.ResponseWriter, r *http.Request) {
	name := r.URL.Query().Get("shelf")
	if name != "" && s.shelves[name] == nil {
		fail(w, s.noShelf(name))
		return
	}
	pour(w, nil, "", func(yield func(any) bool) (err error) {
		for p := range library.Problems(func(yield func(library.File) bool) {
			if err == nil {
				err = s.store.Each(r.Context(), name, yield)
			}
		}, s.settings.Language) {
			if !yield(p) {
				break
			}
		}
		return err
	})
}

// search finds titles and parts by their words.
func (s *Server) search(r *http.Request) (any, error) {
	limit := 20
	if v := r.URL.Query().Get("limit"); v != "" {
		n, err := strconv.Atoi(v)
		if err != nil || n < 1 || n > 200 {
			return nil, usageProblem("limit cannot be read", fmt.Sprintf("%q is no number from 1 to 200", v), "leave it out for 20")
		}
		limit = n
	}
	q := r.URL.Query().Get("q")
	if len(q) > 200 {
		return nil, usageProblem("that is too much to search for", "there are more than 200 bytes", "a few words, or their beginnings, do")
	}
	return s.store.Search(r.Context(), q, limit)
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
	s.events.Tell(event.MemberAdded{Member: m.Name, Role: string(m.Role)})
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
		s.events.Tell(event.PasswordChanged{Member: name})
	}
	if in.Away != nil {
		if err := s.store.SetAway(r.Context(), name, *in.Away); err != nil {
			return nil, noMember(name, err)
		}
		s.log.Info("away permission changed", "member", name, "away", *in.Away)
	}
	m, err := s.store.Member(r.Context(), name)
	if err == nil {
		// What goes on is asked anew, under what holds now.
		s.cuts.cut(m.ID)
	}
	return m, noMember(name, err)
}

func (s *Server) removeMember(r *http.Request) (any, error) {
	name := r.PathValue("name")
	m, err := s.store.Member(r.Context(), name)
	if err == nil {
		err = s.store.RemoveMember(r.Context(), name)
	}
	if errors.Is(err, store.ErrLastAdmin) {
		return nil, &problem.Problem{What: fmt.Sprintf("%s cannot be removed", name), Why: "the household would be left without an administrator", Fix: "make another member an administrator first", Err: err}
	}
	if err != nil {
		return nil, noMember(name, err)
	}
	s.someone.Store(false) // it is looked at anew
	s.cuts.cut(m.ID)
	s.events.Tell(event.MemberRemoved{Member: name})
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
