package server

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/store"
)

type sofaAnswer struct {
	Members, Proposed, People []string
	Problem, Why              string
}

func (h *house) sofa(method string, file int64, body string) (int, sofaAnswer) {
	h.t.Helper()
	res, b := h.ask(method, fmt.Sprintf("/api/v1/files/%d/sofa", file), body)
	var got sofaAnswer
	if err := json.Unmarshal(b, &got); err != nil {
		h.t.Fatalf("%s %s", res.Status, b)
	}
	return res.StatusCode, got
}

func (h *house) tell(file int64, position float64, state string) {
	h.t.Helper()
	if res, b := h.ask("PUT", fmt.Sprintf("/api/v1/files/%d/position", file),
		fmt.Sprintf(`{"position":%v,"state":%q}`, position,
			state)); res.StatusCode != http.StatusOK {
		h.t.Fatalf("%s %s", res.Status, b)
	}
}

func TestTogetherOnTheSofa(t *testing.T) {
	h, ctx := open(t), context.Background()
	film, other := h.fileCalled("Copper Kite"), h.fileCalled("Paper Lighthouse")
	ozan, bram, piet := h.add("ozan", allowance.Adult), h.add("bram", allowance.Child), h.add("piet", allowance.Guest)
	over := allowance.Allowance{Until: time.Now().Add(-time.Hour)}
	h.add("ilse", allowance.Adult)
	if err := h.Store.EditMember(ctx, "ilse", store.Edit{Allowed: &over}); err != nil {
		t.Fatal(err)
	}
	all := []string{"ozan", "bram", "piet"}
	if status, got := h.sofa("GET", film, ""); status != 200 || len(got.Members)+len(got.Proposed) != 0 ||
		!slices.Equal(got.People, all) {
		t.Errorf("before: %d %+v", status, got)
	}
	if status, got := h.sofa("PUT", film, `{"members":["ozan"]}`); status != http.StatusConflict {
		t.Errorf("before anything plays: %d %+v", status, got)
	}
	h.tell(film, 0, "playing")
	if status, got := h.sofa("PUT", film, `{"members":["Ozan","bram","ozan"]}`); status != 200 ||
		!slices.Equal(got.Members, []string{"bram", "ozan"}) {
		t.Errorf("while it plays: %d %+v", status, got)
	}
	time.Sleep(1100 * time.Millisecond)
	h.tell(film, 5.2, "playing")
	h.tell(film, 5.5, "stopped")
	for _, m := range []store.Member{ozan, bram} {
		if at := h.positionOf(film, m.ID); at != 5.5 {
			t.Errorf("%s is at %v", m.Name, at)
		}
		u, _, err := h.Standing(ctx, m)
		if err != nil || u.Today < time.Second {
			t.Errorf("%s watched %s, %v", m.Name, u.Today, err)
		}
	}
	if h.positionOf(film, piet.ID) != 0 {
		t.Error("who was not there has a position")
	}
	plays, err := h.Store.Plays(ctx, usage.Filter{Member: "BRAM"})
	if err != nil || len(plays) != 1 || plays[0].Member != "wren" || !slices.Equal(plays[0].Sofa,
		[]string{"bram", "ozan"}) {
		t.Errorf("the play: %+v, %v", plays, err)
	}
	// The play goes on with the same sofa; the next film has it proposed.
	h.tell(film, 5.5, "playing")
	h.tell(film, 6, "playing")
	if h.positionOf(film, bram.ID) != 6 {
		t.Error("the sofa was forgotten when it went on")
	}
	if status, got := h.sofa("GET", other, ""); status != 200 || !slices.Equal(got.Proposed, []string{"bram", "ozan"}) ||
		len(got.Members) != 0 {
		t.Errorf("another film: %d %+v", status, got)
	}
	// Afterwards.
	h.tell(film, 6, "stopped")
	before, _, _ := h.Standing(ctx, piet)
	if status, got := h.sofa("PUT", film, `{"members":["piet"]}`); status != 200 ||
		!slices.Equal(got.Members, []string{"piet"}) {
		t.Errorf("afterwards: %d %+v", status, got)
	}
	if after, _, err := h.Standing(ctx, piet); err != nil || after.Today-before.Today < time.Second ||
		h.positionOf(film, piet.ID) != 6 {
		t.Errorf("piet watched %s, %v, and is at %v", after.Today, err, h.positionOf(film, piet.ID))
	}
	for body, want := range map[string]int{`{"members":["ilse"]}`: 400, `{"members":["nobody"]}`: 400,
		`{"members":["wren"]}`:                                400,
		`{"members":["` + strings.Repeat(`x","`, 20) + `y"]}`: 400, `{"members":[]}`: 200, `{`: 400} {
		if status, got := h.sofa("PUT", film, body); status != want {
			t.Errorf("%s: %d %+v", body, status, got)
		}
	}
}

// positionOf is where a member would go on.
func (h *house) positionOf(file, member int64) float64 {
	h.t.Helper()
	f, err := h.Store.File(context.Background(), file, member)
	if err != nil {
		h.t.Fatal(err)
	}
	return f.ResumeAt
}

// TestTheYoungestOnTheSofa has a child watch along for whom the film is not.
func TestTheYoungestOnTheSofa(t *testing.T) {
	h, ctx := open(t), context.Background()
	film := h.fileCalled("Copper Kite")
	title, _, err := h.Store.FileOf(ctx, film, 0)
	if err != nil || h.Store.Describe(ctx, title.ID,
		store.Described{Description: describe.Description{Age: new(12)}}) != nil {
		t.Fatal(err)
	}
	h.add("bram", allowance.Child)
	bounds := allowance.Allowance{Age: new(6)}
	if err := h.Store.EditMember(ctx, "bram", store.Edit{Allowed: &bounds}); err != nil {
		t.Fatal(err)
	}
	h.tell(film, 0, "playing")
	if status, got := h.sofa("PUT", film, `{"members":["bram"]}`); status != http.StatusForbidden ||
		!strings.Contains(got.Why, "older") {
		t.Errorf("%d %+v", status, got)
	}
	if status, got := h.sofa("PUT", film, `{"members":["bram"],"they_may":true}`); status != 200 || len(got.Members) != 1 {
		t.Errorf("an adult says otherwise: %d %+v", status, got)
	}
	// A child says it for nobody, and names no adults; a guest names nobody.
	h.allow("linnea", allowance.Allowance{})
	h.tell(film, 0, "playing")
	if status, got := h.sofa("PUT", film, `{"members":["bram"],"they_may":true}`); status != http.StatusForbidden {
		t.Errorf("a child says otherwise: %d %+v", status, got)
	}
	if status, got := h.sofa("GET", film, ""); status != 200 || !slices.Equal(got.People, []string{"bram"}) {
		t.Errorf("whom a child may name: %d %+v", status, got)
	}
	if status, _ := h.sofa("PUT", film, `{"members":["wren"]}`); status != http.StatusBadRequest {
		t.Errorf("a child names an adult: %d", status)
	}
	h.add("piet", allowance.Guest)
	h.token = ""
	_, h.token = h.signs("piet", "piet by the millpond")
	if status, got := h.sofa("GET", film, ""); status != http.StatusForbidden {
		t.Errorf("a guest: %d %+v", status, got)
	}
	if res, b := h.ask("GET", fmt.Sprintf("/api/v1/files/%d/sofa", film), ""); bytes.Contains(b, []byte("wren")) {
		t.Errorf("%s %s", res.Status, b)
	}
}

// TestTimeOnTheSofaIsTold has a child's minutes run down on an adult's sofa: that is told, and ends nothing.
func TestTimeOnTheSofaIsTold(t *testing.T) {
	h, ctx := open(t), context.Background()
	film := h.fileCalled("Copper Kite")
	bram := h.add("bram", allowance.Child)
	h.add("ozan", allowance.Adult)
	bounds := allowance.Allowance{Day: 1}
	if err := h.Store.EditMember(ctx, "bram", store.Edit{Allowed: &bounds}); err != nil {
		t.Fatal(err)
	}
	told := func(position float64) (got struct {
		Allowed bool
		Sofa    []struct {
			Member  string
			Allowed bool
			Until   time.Time `json:"allowed_until"`
			Reason  string    `json:"allowed_reason"`
		}
	}) {
		t.Helper()
		res, b := h.ask("PUT", fmt.Sprintf("/api/v1/files/%d/position", film),
			fmt.Sprintf(`{"position":%g,"state":"playing"}`,
				position))
		if err := json.Unmarshal(b, &got); err != nil || res.StatusCode != http.StatusOK {
			t.Fatalf("%s %s", res.Status, b)
		}
		return got
	}
	told(0)
	if status, got := h.sofa("PUT", film, `{"members":["bram","ozan"]}`); status != http.StatusOK {
		t.Fatalf("%d %+v", status, got)
	}
	got := told(0.5)
	left := time.Minute
	if len(got.Sofa) == 1 {
		left = time.Until(got.Sofa[0].Until)
	}
	if !got.Allowed || len(got.Sofa) != 1 || got.Sofa[0].Member != "bram" || !got.Sofa[0].Allowed || left > time.Minute ||
		left < 50*time.Second {
		t.Fatalf("with a minute left: %+v", got)
	}
	h.Charge(bram.ID, allowance.Meter{Watched: time.Minute})
	if got = told(1); !got.Allowed || len(got.Sofa) != 1 || got.Sofa[0].Allowed || got.Sofa[0].Reason != "day" {
		t.Errorf("with none left: %+v", got)
	}
}
