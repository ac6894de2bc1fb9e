package web

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"

	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// whoPage lets one pick who one is on a screen of the household.
type whoPage struct {
	Frame
	Said  string
	Picks []live.Pick
	Asked string // for whom a PIN is asked
	Grown bool   // that of a grown-up
}

// pageWho shows who can be picked on this screen; picked, it goes on as them.
func (s *Web) pageWho(w http.ResponseWriter, r *http.Request) {
	screen, err := s.ScreenOf(r)
	if errors.Is(err, store.ErrNotFound) {
		err = live.Nothing(r)
	}
	if err != nil {
		s.failed(w, r, err)
		return
	}
	page := whoPage{Frame: s.Frame(nil, "Who is it?", "")}
	status := http.StatusOK
	if page.Picks, err = s.Picks(r, screen); err != nil {
		s.failed(w, r, err)
		return
	}
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	name := r.PostFormValue("name")
	i := slices.IndexFunc(page.Picks, func(p live.Pick) bool { return p.Member.Name == name })
	switch {
	case r.Method != http.MethodPost:
	case i >= 0 && (page.Picks[i].PIN || page.Picks[i].Grown) && !r.PostForm.Has("pin"):
		page.Asked, page.Grown = name, page.Picks[i].Grown
	default:
		token, m, err := s.PickOn(r, screen, name, r.PostFormValue("pin"))
		if err == nil {
			s.comeIn(w, r, token, m)
			http.Redirect(w, r, "/", http.StatusSeeOther)
			return
		}
		var st *live.StatusError
		if !errors.As(err, &st) {
			s.failed(w, r, err)
			return
		}
		status, page.Said = st.Status, sentence(st.What)+" "+sentence(st.Fix)
		if i >= 0 {
			page.Asked, page.Grown = m.Name, page.Picks[i].Grown
		}
		if st.Wait > 0 {
			w.Header().Set("Retry-After", fmt.Sprint(int(st.Wait.Seconds())+1))
		}
	}
	s.Show(w, status, "who", page)
}

// severalOwn makes this device a screen for several.
func (s *Web) severalOwn(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	if err := s.MakeScreen(w, r, r.PostFormValue("name")); err != nil {
		return s.refusedOwn(w, r, err)
	}
	// Whoever made it is signed in here only until somebody is picked.
	if err := s.Store.RemoveDevice(r.Context(), live.VisitorOf(r).Device.ID); err != nil {
		return err
	}
	http.Redirect(w, r, "/who", http.StatusSeeOther)
	return nil
}

// forgetScreen makes a screen one device like any other again.
func (s *Web) forgetScreen(w http.ResponseWriter, r *http.Request) error {
	id, err := strconv.ParseInt(r.PathValue("screen"), 10, 64)
	if err != nil || !live.MayGrant(r) {
		return live.Nothing(r)
	}
	if err := s.Store.RemoveScreen(r.Context(), id); err != nil {
		return err
	}
	http.Redirect(w, r, "/own", http.StatusSeeOther)
	return nil
}

// pinOwn gives the member a PIN for screens.
func (s *Web) pinOwn(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	pin := r.PostFormValue("pin")
	if err := s.SetPIN(r, r.PostFormValue("now"), pin); err != nil {
		return s.refusedOwn(w, r, err)
	}
	if pin == "" {
		return s.showOwn(w, r, http.StatusOK, "", "You have no PIN any more.")
	}
	return s.showOwn(w, r, http.StatusOK, "", "You have a PIN. On the household's screens you can be picked with it.")
}
