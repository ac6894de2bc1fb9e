package web

import (
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// memberPage is where administrators say what a member may do.
type memberPage struct {
	Frame
	Said, Done        string
	Of                store.Member
	Roles             []allowance.Role
	Shown             []memberShelf
	Words             allowance.Words
	Devices           []ownDevice
	Passkeys          int
	Factor            bool
	Fresh, NoPassword bool // of who looks at it
	Self              bool
}

type memberShelf struct {
	Name  string
	There bool
}

func (s *Web) pageMember(w http.ResponseWriter, r *http.Request) error {
	m, err := s.memberAsked(r)
	if err != nil {
		return err
	}
	return s.showMember(w, r, http.StatusOK, memberPage{Of: m, Words: allowance.WordsOf(m.Allowed, s.Zone)})
}

// memberAsked gives the member that a request names.
func (s *Web) memberAsked(r *http.Request) (store.Member, error) {
	m, err := s.Store.Member(r.Context(), r.PathValue("name"))
	if errors.Is(err, store.ErrNotFound) {
		return m, live.Nothing(r)
	}
	return m, err
}

func (s *Web) showMember(w http.ResponseWriter, r *http.Request, status int, page memberPage) error {
	v, now := live.VisitorOf(r), time.Now().In(s.Zone)
	page.Frame, page.Roles = s.Frame(v, page.Of.Name, "house"), allowance.Roles
	page.Self = page.Of.ID == v.Member.ID
	for _, sh := range s.Settings.Shelves {
		page.Shown = append(page.Shown, memberShelf{sh.Name, len(page.Of.Allowed.Shelves) > 0 &&
			page.Of.Allowed.Sees(sh.Name)})
	}
	list, err := s.Store.DevicesOf(r.Context(), page.Of.ID, now)
	if err != nil {
		return err
	}
	for _, d := range list {
		page.Devices = append(page.Devices, ownDevice{d.ID, d.Name, live.Spoken(d.Seen.In(s.Zone), now), where(d), false})
	}
	keys, err := s.Store.Passkeys(r.Context(), page.Of.ID)
	if err != nil {
		return err
	}
	page.Passkeys = len(keys)
	switch _, err := s.Store.Factor(r.Context(), page.Of.ID); {
	case err == nil:
		page.Factor = true
	case !errors.Is(err, store.ErrNotFound):
		return err
	}
	self, err := s.Store.Member(r.Context(), v.Member.Name)
	if err != nil {
		return err
	}
	page.Fresh, page.NoPassword = s.Confirmed(v.Device), self.Password == ""
	s.Show(w, status, "member", page)
	return nil
}

// asked reads what a form says of what a member may do. A field that was emptied bounds nothing.
func asked(r *http.Request) allowance.Words {
	say := func(field, none string) string {
		if text := strings.TrimSpace(r.PostForm.Get(field)); text != "" {
			return text
		}
		return none
	}
	shelves := strings.Join(r.PostForm["shelf"], ",")
	if shelves == "" || r.PostForm.Get("all") != "" {
		shelves = "all"
	}
	return allowance.Words{Shelves: shelves, Age: say("age", "any"), Bring: say("bring", "role"),
		Copies: say("copies", "role"),
		Hours:  say("hours", "any"), Minutes: say("minutes", "any"), Weekly: say("weekly-minutes", "any"),
		Streams: say("streams", "any"), Height: say("height", "any"), HeightAway: say("height-away", "any"),
		Bitrate: say("bitrate", "any"), BitrateAway: say("bitrate-away", "any"), Until: say("until", "never")}
}

// labels are what the page calls the words of an allowance.
var labels = map[string]string{"weekly-minutes": "minutes a week", "minutes": "minutes a day",
	"height":      "lines at home",
	"height-away": "lines outside", "bitrate": "bits a second at home", "bitrate-away": "bits a second outside",
	"streams": "streams at once", "until": "the end of the account", "bring": "bringing media in",
	"copies": "taking copies along"}

// editMember changes a member, signs their devices out, or takes the account away: whoever does it shows once
// more who they are.
func (s *Web) editMember(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	m, err := s.memberAsked(r)
	if err != nil {
		return err
	}
	page := memberPage{Of: m, Words: allowance.WordsOf(m.Allowed, s.Zone)}
	if err := r.ParseForm(); err != nil {
		page.Said = "The form could not be read; please try again."
		return s.showMember(w, r, http.StatusBadRequest, page)
	}
	do := r.PostForm.Get("do")
	var change store.Edit
	if do == "save" {
		page.Words = asked(r)
		a := m.Allowed
		if err := page.Words.Apply(&a, s.Zone); err != nil {
			var f *allowance.Fault
			if !errors.As(err, &f) {
				return err
			}
			what := labels[f.Word]
			if what == "" {
				what = f.Word
			}
			page.Said = sentence(what + " takes " + f.Wants)
			page.Words = typed(page.Words)
			return s.showMember(w, r, http.StatusBadRequest, page)
		}
		page.Words = typed(page.Words)
		role, away := allowance.Role(r.PostForm.Get("role")), r.PostForm.Get("away") == "yes"
		change = store.Edit{Role: &role, Away: &away, Allowed: &a}
	}
	if err := s.Reassured(r, r.PostForm.Get("now")); err != nil {
		return s.refusedMember(w, r, page, err)
	}
	switch do {
	case "save":
		m, err := s.EditMember(r.Context(), m.Name, change)
		if err != nil {
			return s.refusedMember(w, r, page, err)
		}
		page = memberPage{Of: m, Words: allowance.WordsOf(m.Allowed, s.Zone), Done: "It holds from now on."}
		return s.showMember(w, r, http.StatusOK, page)
	case "sign-out":
		if err := s.SignOutAll(r.Context(), m, live.VisitorOf(r).Device.ID); err != nil {
			return err
		}
		page.Done = m.Name + " is signed out everywhere."
		return s.showMember(w, r, http.StatusOK, page)
	case "remove":
		if m.ID == live.VisitorOf(r).Member.ID {
			page.Said = "Nobody takes their own account away; another administrator can, or the tool on the host."
			return s.showMember(w, r, http.StatusConflict, page)
		}
		if err := s.DropMember(r.Context(), m.Name); err != nil {
			return s.refusedMember(w, r, page, err)
		}
		return s.showHouse(w, r, http.StatusOK, housePage{Done: m.Name +
			" has no account any more. What they watched stays in the figures."})
	}
	page.Said = "The form could not be read; please try again."
	return s.showMember(w, r, http.StatusBadRequest, page)
}

// typed gives words as they stand in a form, where what bounds nothing is empty.
func typed(w allowance.Words) allowance.Words {
	for _, p := range []*string{&w.Age, &w.Hours, &w.Minutes, &w.Weekly, &w.Streams, &w.Height, &w.HeightAway, &w.Bitrate,
		&w.BitrateAway, &w.Until} {
		if slices.Contains([]string{"any", "never"}, *p) {
			*p = ""
		}
	}
	return w
}

// refusedMember shows a refusal on the page of a member.
func (s *Web) refusedMember(w http.ResponseWriter, r *http.Request, page memberPage, err error) error {
	status := http.StatusBadRequest
	var st *live.StatusError
	var p *problem.Problem
	switch {
	case errors.As(err, &st):
		status = st.Status
	case !errors.As(err, &p):
		return err
	}
	p = problem.Of(err)
	page.Said = strings.TrimSpace(sentence(p.What) + " " + sentence(p.Why))
	return s.showMember(w, r, status, page)
}
