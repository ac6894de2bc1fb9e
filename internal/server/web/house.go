package web

import (
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/today"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// housePage is what administrators see to from the page. Nothing here changes the host, the engine or files:
// that stays with the tool.
type housePage struct {
	Frame
	Said, Done string
	Streams    []houseStream
	Members    []houseMember
	Invites    []houseInvite
	Roles      []allowance.Role
	Shelves    []houseShelf
	Unclear    []store.UnclearTitle
	Link       string // of an invite that was just made
	Picture    template.HTML
	Today      []today.Line
}

type (
	houseStream struct {
		ID    int64  `json:"id"`
		Who   string `json:"who"`
		Title string `json:"title"`
		At    string `json:"at"` // how far, where and how
	}
	houseMember struct{ Name, Role, Bounds, Seen string }
	houseInvite struct{ Name, Role, Until string }
	houseShelf  struct {
		Name, Count string
		Problems    []store.ProblemFile
		More        int // problems that are not listed
		Scanning    bool
	}
)

const (
	listedUnclear   = 10 // titles to be matched that a page lists
	listedCandidate = 4  // entries of each
)

// listedProblems is how many problems of a shelf a page lists.
const listedProblems = 10

// house lets administrators pass who have signed in with a second factor, at home unless the household says
// otherwise.
func (s *Web) house(do func(http.ResponseWriter, *http.Request) error) http.HandlerFunc {
	return s.page(func(w http.ResponseWriter, r *http.Request) error {
		if err := s.HouseOpen(r); err != nil {
			return err
		}
		return do(w, r)
	})
}

func (s *Web) pageHouse(w http.ResponseWriter, r *http.Request) error {
	return s.showHouse(w, r, http.StatusOK, housePage{})
}

func (s *Web) showHouse(w http.ResponseWriter, r *http.Request, status int, page housePage) error {
	ctx, moment := r.Context(), time.Now().In(s.Zone)
	page.Frame, page.Roles = s.Frame(live.VisitorOf(r), "The house", "house"), allowance.Roles
	now, err := s.now(r)
	if err != nil {
		return err
	}
	page.Streams, page.Today = now.Streams, now.Today
	members, err := s.Store.Members(ctx)
	if err != nil {
		return err
	}
	for _, m := range members {
		h := houseMember{Name: m.Name, Role: string(m.Role), Bounds: strings.Join(boundsOf(m, moment, s.Zone), ", ")}
		if !m.Seen.IsZero() {
			h.Seen = live.Spoken(m.Seen.In(s.Zone), moment)
		}
		page.Members = append(page.Members, h)
	}
	invites, err := s.Store.Invites(ctx, moment)
	if err != nil {
		return err
	}
	for _, i := range invites {
		page.Invites = append(page.Invites, houseInvite{i.Name, string(i.Role), live.Spoken(i.Expires.In(s.Zone), moment)})
	}
	if page.Unclear, err = s.Store.Unclear(ctx, listedUnclear); err != nil {
		return err
	}
	for i, u := range page.Unclear {
		page.Unclear[i].Candidates = u.Candidates[:min(listedCandidate, len(u.Candidates))]
	}
	shelves, err := s.ShelfList(ctx)
	if err != nil {
		return err
	}
	for _, sh := range shelves {
		h := houseShelf{Name: sh.Name, Scanning: sh.Scanning, Count: fmt.Sprintf("%d titles, %d files", sh.Titles,
			sh.Files)}
		if h.Problems, err = s.Store.ProblemFiles(ctx, sh.Name, listedProblems); err != nil {
			return err
		}
		h.More = max(0, sh.Problems-len(h.Problems))
		page.Shelves = append(page.Shelves, h)
	}
	s.Show(w, status, "house", page)
	return nil
}

func streamOf(p usage.Play) houseStream {
	title := p.Title
	if p.Part != "" {
		title += " · " + p.Part
	}
	from := "at home"
	if p.Away {
		from = "outside the home"
	}
	at := clock(p.Position)
	if p.Duration > 0 {
		at += " of " + clock(p.Duration)
	}
	at += ", " + p.Device + ", " + from
	if p.Delivery != "" {
		at += ", " + strings.ReplaceAll(p.Delivery, "-", " ")
	}
	if p.Why != "" {
		at += ": " + p.Why
	}
	return houseStream{ID: p.ID, Who: strings.Join(p.Viewers(), ", "), Title: title, At: at}
}

// boundsOf tells what bounds a member, in a few words each.
func boundsOf(m store.Member, now time.Time, zone *time.Location) (out []string) {
	a := m.Allowed
	say := func(if_ bool, format string, args ...any) {
		if if_ {
			out = append(out, fmt.Sprintf(format, args...))
		}
	}
	say(!m.Away, "at home only")
	say(len(a.Shelves) > 0, "shelves %s", strings.Join(a.Shelves, " and "))
	if a.Age != nil {
		say(true, "up to %d years", *a.Age)
	}
	say(len(a.Hours) > 0, "%s", allowance.FormatHours(a.Hours))
	say(a.Day > 0, "%d minutes a day", a.Day)
	say(a.Week > 0, "%d minutes a week", a.Week)
	say(a.Streams > 0, "%d at once", a.Streams)
	say(!a.Until.IsZero(), "ends %s", live.Spoken(a.Until.In(zone), now))
	return out
}

// refusedHouse shows a refusal on the page.
func (s *Web) refusedHouse(w http.ResponseWriter, r *http.Request, err error) error {
	status := http.StatusBadRequest
	var st *live.StatusError
	switch p := problem.Of(err); {
	case errors.As(err, &st):
		status = st.Status
		fallthrough
	case problem.Code(err) == problem.ExitUsage, errors.Is(err, store.ErrExists):
		return s.showHouse(w, r, status, housePage{Said: strings.TrimSpace(sentence(p.What) + " " + sentence(p.Why))})
	}
	return err
}

// stopHouse ends a stream with a word.
func (s *Web) stopHouse(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	id, err := strconv.ParseInt(r.PathValue("play"), 10, 64)
	if err != nil {
		return live.Nothing(r)
	}
	if err := s.StopStream(r.Context(), id, strings.TrimSpace(r.PostFormValue("says")),
		live.VisitorOf(r).Member.Name); err != nil {
		return s.refusedHouse(w, r, err)
	}
	http.Redirect(w, r, "/house", http.StatusSeeOther)
	return nil
}

// inviteHouse makes an invite, and shows its link this once.
func (s *Web) inviteHouse(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	m, err := s.Person(strings.TrimSpace(r.PostFormValue("name")), allowance.Role(r.PostFormValue("role")), nil, nil)
	var token string
	if err == nil {
		token, _, err = s.Invite(r.Context(), m, 24*time.Hour)
	}
	if err != nil {
		return s.refusedHouse(w, r, err)
	}
	page := housePage{Link: base(r) + live.InvitePath + token,
		Done: m.Name + " comes in by this link, once and within a day. It is shown this once only."}
	if page.Picture, err = drawn(page.Link); err != nil {
		return err
	}
	return s.showHouse(w, r, http.StatusOK, page)
}

// takeBackHouse takes an invite back.
func (s *Web) takeBackHouse(w http.ResponseWriter, r *http.Request) error {
	if err := s.Store.RemoveInvite(r.Context(), r.PathValue("name")); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	http.Redirect(w, r, "/house", http.StatusSeeOther)
	return nil
}

// scanHouse has a shelf looked through. It goes on when the page is closed.
func (s *Web) scanHouse(w http.ResponseWriter, r *http.Request) error {
	name := r.PathValue("shelf")
	if s.Shelves[name] == nil {
		return live.Nothing(r)
	}
	if !s.ScanSoon(name) {
		return s.showHouse(w, r, http.StatusOK, housePage{Done: name + " is being looked through already."})
	}
	return s.showHouse(w, r, http.StatusOK, housePage{Done: name + " is being looked through."})
}

// matchHouse says which entry of a catalogue a title is, or that it is none.
func (s *Web) matchHouse(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	id, err := live.Number(r, "title")
	if err != nil {
		return err
	}
	t, err := s.Store.Title(r.Context(), id)
	if errors.Is(err, store.ErrNotFound) {
		return live.Nothing(r)
	}
	take := r.PostFormValue("take")
	if err == nil {
		err = s.Match(r.Context(), t, control.Matching{Take: take, None: take == ""})
	}
	if err != nil {
		return s.refusedHouse(w, r, err)
	}
	http.Redirect(w, r, "/house", http.StatusSeeOther)
	return nil
}
