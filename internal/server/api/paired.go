package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"cozyshelf/internal/core/pairing"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// deviceGrant is the type of grant that a screen asks for (RFC 8628, 3.4).
const deviceGrant = "urn:ietf:params:oauth:grant-type:device_code"

// formOf reads the few fields of a form, as OAuth 2.0 has them.
func formOf(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	if err := r.ParseForm(); err != nil {
		return live.UsageProblem("the form could not be read", err.Error(), "send application/x-www-form-urlencoded")
	}
	return nil
}

// pair gives a screen the code that it shows (RFC 8628, 3.1 and 3.2).
func (s *API) pair(w http.ResponseWriter, r *http.Request) {
	err := formOf(w, r)
	var p live.Paired
	if err == nil {
		name := r.PostForm.Get("device")
		if name == "" {
			name = r.PostForm.Get("client_id")
		}
		p, err = s.BeginPairing(r, name, false)
	}
	if err != nil {
		live.Fail(w, err)
		return
	}
	scheme := "http"
	if live.VisitorOf(r).Secure {
		scheme = "https"
	}
	here := scheme + "://" + r.Host + live.PairPath
	answer(w, http.StatusOK, apiPairing{DeviceCode: p.Secret, UserCode: pairing.Shown(p.Code), URI: here,
		URIComplete: here + "/" + pairing.Shown(p.Code), Expires: int(pairing.Lasts.Seconds()),
		Interval: int(pairing.Interval.Seconds())})
}

// token tells a screen what became of its code (RFC 8628, 3.4 and 3.5).
func (s *API) token(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	wrong := func(code, says string) {
		answer(w, http.StatusBadRequest, apiTokenError{Error: code, Says: says})
	}
	if err := formOf(w, r); err != nil {
		wrong("invalid_request", "the form could not be read")
		return
	}
	if r.PostForm.Get("grant_type") != deviceGrant {
		wrong("unsupported_grant_type", "there is "+deviceGrant)
		return
	}
	state, token, _, err := s.AskPairing(r, r.PostForm.Get("device_code"))
	if err != nil {
		live.Fail(w, err)
		return
	}
	switch state {
	case pairing.Waiting:
		wrong("authorization_pending", "no member has confirmed the code yet")
	case pairing.TooSoon:
		wrong("slow_down", "ask five seconds later from now on")
	case pairing.Refused:
		wrong("access_denied", "a member refused it")
	case pairing.Over:
		wrong("expired_token", "its time is over, or it never was; ask for another code")
	case pairing.Granted:
		answer(w, http.StatusOK, apiGrant{Token: token, Type: "Bearer",
			Expires: int(live.Stays[store.ForProgram].Slides / time.Second)})
	default:
		live.Fail(w, fmt.Errorf("a pairing is %q", state))
	}
}

// answer writes a document with a status.
func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // the client has gone, if this fails
}
