package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
)

const (
	heartbeat = 5 * time.Second  // between two events of a room at most
	eventTime = 10 * time.Second // for a device to take one
)

// openRoom begins to watch a film together apart.
func (s *API) openRoom(r *http.Request) (any, error) {
	_, f, err := s.FileOf(r)
	if err == nil {
		err = s.MayWatch(r, f.ID)
	}
	if err != nil {
		return nil, err
	}
	id, err := s.OpenRoom(r, f)
	return apiRoomOpened{ID: id, URL: live.TogetherPath + id}, err
}

// room tells where the film of a room stands.
func (s *API) room(r *http.Request) (any, error) {
	v, err := s.RoomOf(r, r.PathValue("room"))
	return roomOf(v), err
}

// inRoom has all in a room play or pause.
func (s *API) inRoom(r *http.Request) (any, error) {
	var in apiInRoom
	if err := live.Read(r, &in); err != nil {
		return nil, err
	}
	if !(in.Position >= 0) || in.Position > 1e7 {
		return nil, live.UsageProblem("the position cannot be taken", "it must be a number of seconds, 0 or more",
			"see /api/v1/openapi.json")
	}
	v, err := s.DoInRoom(r, r.PathValue("room"), in.Playing, in.Position)
	return roomOf(v), err
}

func roomOf(v live.Room) apiRoom {
	out := apiRoom{File: v.File, Title: v.Title.Name, Playing: v.Playing, Position: v.Position, Change: v.Change, By: v.By,
		Members: v.Members}
	if out.Members == nil {
		out.Members = []string{}
	}
	return out
}

// roomEvents tells a device what happens in a room, as server-sent events: state, and over at the end.
func (s *API) roomEvents(w http.ResponseWriter, r *http.Request) {
	rc := http.NewResponseController(w)
	begun := false
	send := func(event string, v any) error {
		if !begun {
			w.Header().Set("Content-Type", "text/event-stream")
			w.Header().Set("X-Accel-Buffering", "no") // a proxy is not to hold it back
			begun = true
		}
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		if err := rc.SetWriteDeadline(time.Now().Add(eventTime)); err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "event: %s\ndata: %s\n\n", event, b); err != nil {
			return err
		}
		return rc.Flush()
	}
	err := s.FollowRoom(r, r.PathValue("room"), heartbeat, func(v live.Room) error { return send("state", roomOf(v)) })
	var st *live.StatusError
	switch {
	case err == nil || r.Context().Err() != nil:
	case !begun:
		live.Fail(w, err)
	case errors.As(err, &st):
		_ = send("over", problem.Of(err)) // it has gone, if this fails
	}
}
