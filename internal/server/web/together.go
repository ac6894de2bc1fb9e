package web

import (
	"fmt"
	"net/http"
	"net/url"
	"regexp"
)

// roomName is what the name of a room looks like.
var roomName = regexp.MustCompile(`^[A-Za-z0-9_-]{20,100}$`)

// pageTogether leads to the film of a room.
func (s *Web) pageTogether(w http.ResponseWriter, r *http.Request) error {
	v, err := s.RoomOf(r, r.PathValue("room"))
	if err != nil {
		return err
	}
	http.Redirect(w, r, fmt.Sprintf("/play/%d?together=%s", v.File, url.QueryEscape(v.ID)), http.StatusSeeOther)
	return nil
}

// roomAsked gives the room that a page of a film is opened in; empty for none.
func roomAsked(r *http.Request) string {
	if id := r.URL.Query().Get("together"); roomName.MatchString(id) {
		return id
	}
	return ""
}
