package server

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/store"
)

// room opens a room for a film, as whoever is signed in.
func (h *house) room(file int64) string {
	h.t.Helper()
	had := h.token
	defer func() { h.token = had }()
	h.token = ""
	if _, h.token = h.signs("wren", "by the millpond"); h.token == "" {
		h.t.Fatal("no sign-in")
	}
	var got struct{ ID, URL string }
	res, b := h.ask("POST", fmt.Sprintf("/api/v1/files/%d/together", file), "")
	if err := json.Unmarshal(b, &got); err != nil || got.ID == "" || got.URL != "/together/"+got.ID {
		h.t.Fatalf("%s %s", res.Status, b)
	}
	return got.ID
}

type roomState struct {
	File     int64
	Playing  bool
	Position float64
	Change   int
	By       string
	Members  []string
	Problem  string
}

// events follows a room, and gives what is told.
func (h *house) events(ctx context.Context, token, room string) <-chan roomState {
	h.t.Helper()
	r, err := http.NewRequestWithContext(ctx, "GET", h.url+"/api/v1/together/"+room+"/events", nil)
	if err != nil {
		h.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(r)
	if err != nil || res.StatusCode != http.StatusOK || res.Header.Get("Content-Type") != "text/event-stream" {
		h.t.Fatal(res, err)
	}
	out := make(chan roomState, 100)
	go func() {
		defer close(out)
		defer res.Body.Close()
		lines := bufio.NewScanner(res.Body)
		for lines.Scan() {
			var s roomState
			if text, ok := strings.CutPrefix(lines.Text(), "data: "); ok && json.Unmarshal([]byte(text), &s) == nil {
				out <- s
			}
		}
	}()
	return out
}

// wait waits for what is told until it is what is wanted.
func wait(t *testing.T, from <-chan roomState, what string, wanted func(roomState) bool) roomState {
	t.Helper()
	late := time.After(5 * time.Second)
	var last roomState
	for {
		select {
		case s, ok := <-from:
			if last = s; ok && wanted(s) {
				return s
			}
			if !ok {
				t.Fatalf("%s: it ended, after %+v", what, last)
			}
		case <-late:
			t.Fatalf("%s: not told; the last was %+v", what, last)
		}
	}
}

func TestTogetherApart(t *testing.T) {
	h, ctx := open(t), t.Context()
	film := h.fileCalled("Copper Kite")
	room := h.room(film)
	wren := h.token
	h.add("ilse", allowance.Adult)
	h.token = ""
	_, ilse := h.signs("ilse", "ilse by the millpond")
	do := func(token, body string) int {
		t.Helper()
		h.token = token
		res, _ := h.ask("PUT", "/api/v1/together/"+room, body)
		return res.StatusCode
	}
	one, two := h.events(ctx, wren, room), h.events(ctx, ilse, room)
	both := func(s roomState) bool { return slices.Equal(s.Members, []string{"ilse", "wren"}) }
	wait(t, one, "both are there, to wren", both)
	wait(t, two, "both are there, to ilse", both)
	began := time.Now()
	if status := do(wren, `{"playing":true,"position":3}`); status != http.StatusOK {
		t.Errorf("play: %d", status)
	}
	s := wait(t, two, "wren plays, to ilse", func(s roomState) bool { return s.Playing && s.By == "wren" })
	took := time.Since(began).Seconds()
	if took > 4 { // the next event that comes anyway is after five
		t.Errorf("it took %v s to be told", took)
	}
	if s.Position < 3 || s.Position > 3+took || s.File != film {
		t.Errorf("%+v", s)
	}
	// An echo changes nothing; a pause and a seek of the other are told.
	change := s.Change
	do(ilse, `{"playing":true,"position":3.1}`)
	do(ilse, `{"playing":false,"position":9}`)
	if s := wait(t, one, "ilse pauses, to wren", func(s roomState) bool {
		return !s.Playing &&
			s.By == "ilse"
	}); s.Position != 9 ||
		s.Change != change+1 {
		t.Errorf("%+v, before %d", s, change)
	}
	for body, want := range map[string]int{`{"playing":true,"position":-1}`: 400, `{}`: 200, `{"position":1e99}`: 400,
		`[]`: 400} {
		if status := do(ilse, body); status != want {
			t.Errorf("%s: %d", body, status)
		}
	}
	// Who may not see the film is told kindly, and who may not any more is let go.
	h.allow("bram", allowance.Allowance{Shelves: []string{"series"}})
	for _, path := range []string{"/api/v1/together/" + room, "/api/v1/together/" + room + "/events",
		"/api/v1/together/none"} {
		if res, b := h.ask("GET", path, ""); res.StatusCode != http.StatusNotFound || strings.Contains(string(b), "Copper") {
			t.Errorf("%s: %s %s", path, res.Status, b)
		}
	}
	bounds := allowance.Allowance{Shelves: []string{"series"}}
	if err := h.Store.EditMember(ctx, "ilse", store.Edit{Allowed: &bounds}); err != nil {
		t.Fatal(err)
	}
	do(wren, `{"playing":true,"position":4}`)
	wait(t, two, "ilse may not watch any more", func(s roomState) bool { return s.Problem != "" })
	if s, ok := <-two; ok {
		t.Errorf("afterwards ilse is told %+v", s)
	}
	wait(t, one, "ilse is gone, to wren", func(s roomState) bool { return slices.Equal(s.Members, []string{"wren"}) })
	// A device that is signed out is let go, too.
	h.token = wren
	h.ask("POST", "/api/v1/sign-out", "")
	for range one { // until it ends
	}
}
