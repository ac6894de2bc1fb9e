package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"

	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// mostPasskey is how much a browser may send about a passkey, in bytes.
const mostPasskey = 64 << 10

// passkeySent is what a page sends about a passkey.
type passkeySent struct {
	Password string          `json:"password"` // where one is to be made
	Name     string          `json:"name"`     // what it is to be called
	Next     string          `json:"next"`     // where to go on
	Ticket   string          `json:"ticket"`
	Answer   json.RawMessage `json:"answer"` // the authenticator's
}

// passkeyStep is a step of making or using a passkey. What it gives is sent as a document.
type passkeyStep func(http.ResponseWriter, *http.Request, passkeySent) (any, error)

// goOn tells a page where to go.
type goOn struct {
	Next string `json:"next"`
}

// forPasskey answers a page that makes or uses a passkey with documents.
func (s *Web) forPasskey(do passkeyStep) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "no-store")
		w.Header().Set("Content-Type", "application/json")
		var sent passkeySent
		b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostPasskey))
		if err == nil && len(b) > 0 {
			err = json.Unmarshal(b, &sent)
		}
		var out any
		if err != nil {
			err = live.UsageProblem("what the page sent could not be read", err.Error(), "load the page again")
		} else {
			out, err = do(w, r, sent)
		}
		if err == nil {
			_ = json.NewEncoder(w).Encode(out) // the client has gone, if this fails
			return
		}
		status := http.StatusInternalServerError
		var st *live.StatusError
		var p *problem.Problem
		switch {
		case errors.As(err, &st):
			if status = st.Status; st.Wait > 0 {
				w.Header().Set("Retry-After", fmt.Sprint(int(st.Wait.Seconds())+1))
			}
		case errors.As(err, &p):
			status = http.StatusBadRequest
		default:
			s.Log.Error("a passkey could not be seen to", "pattern", r.Pattern, "why", err)
			err = &problem.Problem{What: "this could not be done", Fix: "the administrator finds the reason in the log"}
		}
		p = problem.Of(err)
		w.WriteHeader(status)
		// The client has gone, if this fails.
		_ = json.NewEncoder(w).Encode(map[string]string{"said": sentence(p.What) + " " + sentence(p.Fix)})
	}
}

// ownPasskey is forPasskey for whoever has signed in.
func (s *Web) ownPasskey(do passkeyStep) http.HandlerFunc {
	return s.forPasskey(func(w http.ResponseWriter, r *http.Request, sent passkeySent) (any, error) {
		err := s.Identify(r)
		if errors.Is(err, store.ErrNotFound) {
			err = &live.StatusError{Problem: &problem.Problem{What: "you are not signed in", Fix: "sign in again"},
				Status: http.StatusUnauthorized}
		}
		if err != nil {
			return nil, err
		}
		return do(w, r, sent)
	})
}

func (s *Web) askPasskey(_ http.ResponseWriter, r *http.Request, _ passkeySent) (any, error) {
	return s.AskPasskey(r)
}

func (s *Web) signInPasskey(w http.ResponseWriter, r *http.Request, sent passkeySent) (any, error) {
	token, m, err := s.SignInPasskey(r, sent.Ticket, sent.Answer, browser(r.UserAgent()))
	if err != nil {
		return nil, err
	}
	s.comeIn(w, r, token, m)
	return goOn{Local(sent.Next)}, nil
}

func (s *Web) askInvited(_ http.ResponseWriter, r *http.Request, _ passkeySent) (any, error) {
	return s.AskInvited(r, r.PathValue("token"))
}

func (s *Web) acceptPasskey(w http.ResponseWriter, r *http.Request, sent passkeySent) (any, error) {
	device := browser(r.UserAgent())
	token, m, err := s.AcceptPasskey(r, r.PathValue("token"), sent.Ticket, sent.Answer, device, device)
	if err != nil {
		return nil, err
	}
	s.comeIn(w, r, token, m)
	return goOn{"/"}, nil
}

func (s *Web) newPasskey(_ http.ResponseWriter, r *http.Request, sent passkeySent) (any, error) {
	return s.NewPasskey(r, sent.Password)
}

func (s *Web) keepPasskey(_ http.ResponseWriter, r *http.Request, sent passkeySent) (any, error) {
	if sent.Name == "" {
		sent.Name = browser(r.UserAgent())
	}
	return goOn{"/own#passkeys"}, s.KeepPasskey(r, sent.Ticket, sent.Answer, sent.Name)
}

func (s *Web) askConfirming(_ http.ResponseWriter, r *http.Request, _ passkeySent) (any, error) {
	return s.AskConfirming(r)
}

func (s *Web) confirmPasskey(_ http.ResponseWriter, r *http.Request, sent passkeySent) (any, error) {
	return goOn{"/own#sensitive"}, s.ConfirmByPasskey(r, sent.Ticket, sent.Answer)
}

// dropPasskey takes one of the member's passkeys away.
func (s *Web) dropPasskey(w http.ResponseWriter, r *http.Request) error {
	id, err := live.Number(r, "passkey")
	if err != nil {
		return err
	}
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	if err := s.DropPasskey(r, id, r.PostFormValue("now")); err != nil {
		return s.refusedOwn(w, r, err)
	}
	return s.showOwn(w, r, http.StatusOK, "", "The passkey lets nobody in any more. Devices that came in by it stay "+
		"signed in until you sign them out.")
}
