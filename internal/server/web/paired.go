package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"
	"time"

	"cozyshelf/internal/core/pairing"
	"cozyshelf/internal/server/live"

	"rsc.io/qr"
)

// drawn draws a text as a QR code, dark on light, with the margin that readers want.
func drawn(text string) (template.HTML, error) {
	c, err := qr.Encode(text, qr.M)
	if err != nil {
		return "", err
	}
	const margin = 4
	var d strings.Builder
	for y := range c.Size {
		for x := range c.Size {
			if c.Black(x, y) {
				fmt.Fprintf(&d, "M%d %dh1v1h-1z", x+margin, y+margin)
			}
		}
	}
	size := c.Size + 2*margin
	return template.HTML(fmt.Sprintf(`<svg class="qr" viewBox="0 0 %d %d" role="img" aria-label="QR code" `+
		`shape-rendering="crispEdges"><rect width="%d" height="%d" fill="#fff"/><path d="%s" fill="#000"/></svg>`, size, size,
		size, size, d.String())), nil
}

// base is how a visitor reaches this server.
func base(r *http.Request) string {
	if live.VisitorOf(r).Secure {
		return "https://" + r.Host
	}
	return "http://" + r.Host
}

// pageScreen shows a screen without a keyboard how it gets in; posted, the code that it waits with.
func (s *Web) pageScreen(w http.ResponseWriter, r *http.Request) {
	page := struct {
		Frame
		Code, Secret, Address string
		Picture               template.HTML
	}{Frame: s.Frame(nil, "This screen", "")}
	w.Header().Set("Cache-Control", "no-store")
	if r.Method == http.MethodPost {
		p, err := s.BeginPairing(r, "screen, "+browser(r.UserAgent()), true)
		if err == nil {
			page.Code, page.Secret, page.Address = pairing.Shown(p.Code), p.Secret,
				strings.TrimPrefix(base(r), "http://")+live.PairPath
			page.Picture, err = drawn(base(r) + live.PairPath + "/" + page.Code)
		}
		if err != nil {
			s.failed(w, r, err)
			return
		}
	}
	s.Show(w, http.StatusOK, "screen", page)
}

// waitScreen tells a screen's page what became of its code, and signs it in.
func (s *Web) waitScreen(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	state, token, m, err := s.AskPairing(r, r.PostFormValue("secret"))
	var st *live.StatusError
	switch {
	case errors.As(err, &st):
		w.WriteHeader(st.Status)
		return
	case err != nil:
		s.Log.Error("a screen could not be let in", "why", err)
		w.WriteHeader(http.StatusInternalServerError)
		return
	case state == pairing.Granted:
		s.comeIn(w, r, token, m)
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]string{"state": string(state)}) // it has gone, if this fails
}

// pagePair lets a member confirm the code of a screen.
func (s *Web) pagePair(w http.ResponseWriter, r *http.Request) error {
	v := live.VisitorOf(r)
	code := r.PathValue("code")
	if c := r.URL.Query().Get("code"); c != "" && code == "" {
		http.Redirect(w, r, live.PairPath+"/"+pairing.Shown(pairing.Typed(c)), http.StatusSeeOther)
		return nil
	}
	page := struct {
		Frame
		Said, Done, Code string
		Screen           *pairing.Screen
		Where, Since     string
	}{Frame: s.Frame(v, "A screen", "own"), Code: code}
	if code == "" {
		s.Show(w, http.StatusOK, "pair", page)
		return nil
	}
	var err error
	var screen pairing.Screen
	if r.Method == http.MethodPost {
		yes := r.PostFormValue("do") == "yes"
		if screen, err = s.Confirm(r, code, yes); err == nil {
			page.Done = "It is refused, and gets nothing."
			if yes {
				page.Done = fmt.Sprintf("It comes in as %s within a few seconds.", v.Member.Name)
			}
			s.Show(w, http.StatusOK, "pair", page)
			return nil
		}
	} else {
		screen, err = s.Waits(r, code)
	}
	status := http.StatusOK
	var st *live.StatusError
	switch {
	case errors.As(err, &st):
		status, page.Said, page.Code = st.Status, sentence(st.What)+" "+sentence(st.Why)+" "+sentence(st.Fix), ""
	case err != nil:
		return err
	default:
		page.Screen = &screen
		page.Where = "at home"
		if screen.Away {
			page.Where = "outside the home"
		}
		if screen.Address == v.Address {
			page.Where += ", at the address that you have, too"
		}
		page.Since = live.Spoken(screen.Since.In(s.Zone), time.Now().In(s.Zone))
	}
	s.Show(w, status, "pair", page)
	return nil
}
