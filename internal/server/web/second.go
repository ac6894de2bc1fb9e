package web

import (
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"

	"cozyshelf/internal/core/factor"
	"cozyshelf/internal/server/live"
)

// secondPage asks for a code of the second factor.
func (s *Web) secondPage(w http.ResponseWriter, status int, said, ticket, next string) {
	s.Show(w, status, "code", struct {
		Frame
		Said, Ticket, Next string
	}{s.Frame(nil, "Sign in", ""), said, ticket, next})
}

// pageSignInCode goes on with a sign-in whose password was right.
func (s *Web) pageSignInCode(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	if err := r.ParseForm(); err != nil {
		s.signInPage(w, r, http.StatusBadRequest, "The form could not be read; please try again.", "", "")
		return
	}
	ticket, next := r.PostForm.Get("ticket"), r.PostForm.Get("next")
	token, m, err := s.SignInSecond(r, ticket, r.PostForm.Get("code"))
	var st *live.StatusError
	switch {
	case errors.As(err, &st):
		if st.Wait > 0 {
			w.Header().Set("Retry-After", fmt.Sprint(int(st.Wait.Seconds())+1))
		}
		said := sentence(st.What) + " " + sentence(st.Fix)
		if st.Status == http.StatusUnauthorized || st.Status == http.StatusTooManyRequests {
			s.secondPage(w, st.Status, said, ticket, next)
			return
		}
		s.signInPage(w, r, st.Status, said, "", next)
	case err != nil:
		s.Log.Error("sign-in could not be done", "why", err)
		s.signInPage(w, r, http.StatusInternalServerError,
			"The sign-in could not be done; the administrator finds the reason in the log.", "", next)
	default:
		s.comeIn(w, r, token, m)
		http.Redirect(w, r, Local(next), http.StatusSeeOther)
	}
}

// factorPage leads through setting a second factor up.
type factorPage struct {
	Frame
	Said, Shared string
	Picture      template.HTML
	Recoveries   []string
}

func (s *Web) showSetup(w http.ResponseWriter, r *http.Request, status int, said, shared string) error {
	m := live.VisitorOf(r).Member
	picture, err := drawn(factor.Address(shared, s.Settings.Name, m.Name))
	if err != nil {
		return err
	}
	var spaced strings.Builder
	for i, c := range shared {
		if i > 0 && i%4 == 0 {
			spaced.WriteByte(' ')
		}
		spaced.WriteRune(c)
	}
	s.Show(w, status, "factor", factorPage{Frame: s.Frame(live.VisitorOf(r), "Second factor", "own"), Said: said,
		Shared: spaced.String(), Picture: picture})
	return nil
}

// refusedOwn shows a refusal on the member's own page.
func (s *Web) refusedOwn(w http.ResponseWriter, r *http.Request, err error) error {
	var st *live.StatusError
	if !errors.As(err, &st) {
		return err
	}
	if st.Wait > 0 {
		w.Header().Set("Retry-After", fmt.Sprint(int(st.Wait.Seconds())+1))
	}
	return s.showOwn(w, r, st.Status, strings.TrimSpace(sentence(st.What)+" "+sentence(st.Why)), "")
}

func (s *Web) newFactor(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	shared, err := s.NewFactor(r, r.PostFormValue("now"))
	if err != nil {
		return s.refusedOwn(w, r, err)
	}
	return s.showSetup(w, r, http.StatusOK, "", shared)
}

func (s *Web) keepFactor(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	codes, shared, err := s.KeepFactor(r, r.PostFormValue("code"))
	var st *live.StatusError
	if errors.As(err, &st) && shared != "" {
		return s.showSetup(w, r, st.Status, sentence(st.What)+" "+sentence(st.Why), shared)
	}
	if err != nil {
		return s.refusedOwn(w, r, err)
	}
	s.Show(w, http.StatusOK, "factor", factorPage{Frame: s.Frame(live.VisitorOf(r), "Second factor", "own"),
		Recoveries: codes})
	return nil
}

func (s *Web) dropFactor(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	if err := s.DropFactor(r, r.PostFormValue("now"), r.PostFormValue("code")); err != nil {
		return s.refusedOwn(w, r, err)
	}
	return s.showOwn(w, r, http.StatusOK, "", "You have no second factor any more.")
}
