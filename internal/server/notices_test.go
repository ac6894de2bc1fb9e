package server

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/right"
	"cozyshelf/internal/store"
)

// TestWhatIsToldIsKeptWithWhatChanges looks into the outbox while nothing works on what happens: a crash at that
// moment would lose nothing. Then it lets the keeper work, which keeps nothing twice.
func TestWhatIsToldIsKeptWithWhatChanges(t *testing.T) {
	h := openWith(t, func(set *blueprint.Settings) {
		set.Notices = []household.Notice{{Name: "house", To: household.ToProgram, Program: "/bin/true",
			Events: event.CodeNames()}}
	})
	ctx := t.Context()
	if err := h.Store.SetReceivers(ctx, map[string]string{"house": "program /bin/true"}); err != nil {
		t.Fatal(err)
	}
	if !h.OpenNotices() {
		t.Fatal("nobody is told anything")
	}
	film, had := h.fileCalled("Copper Kite"), 0
	h.add("ozan", allowance.Adult) // so wren is the last administrator
	report := func(at float64, state string) {
		t.Helper()
		if res, body := h.ask("PUT", fmt.Sprintf("/api/v1/files/%d/position", film),
			fmt.Sprintf(`{"position":%g,"state":%q}`, at, state)); res.StatusCode >= 300 {
			t.Fatalf("%s: %s", res.Status, body)
		}
	}
	m, err := h.Store.Member(ctx, "wren")
	if err != nil {
		t.Fatal(err)
	}
	away := true
	for _, c := range []struct {
		what string
		do   func() error
		want []event.Code
	}{
		{"a play begins", func() error { report(1, "playing"); return nil }, []event.Code{event.CodePlayBegan}},
		{"it goes on", func() error { report(2, "playing"); return nil }, nil},
		{"it ends", func() error { report(3, "stopped"); return nil }, []event.Code{event.CodePlayEnded}},
		{"it goes on again", func() error { report(4, "playing"); return nil }, []event.Code{event.CodePlayBegan}},
		{"all streams end", func() error { return h.Tracker.Settle(ctx, true) }, []event.Code{event.CodePlayEnded}},
		{"a key is made", func() error {
			_, _, err := h.NewKey(ctx, store.Key{Name: "automation", May: []right.Right{right.Metrics}}, 0)
			return err
		}, []event.Code{event.CodeKeyChanged}},
		{"one that is there", func() error {
			if _, _, err := h.NewKey(ctx, store.Key{Name: "automation", May: []right.Right{right.Metrics}}, 0); err == nil {
				return fmt.Errorf("it was made twice")
			}
			return nil
		}, nil},
		{"a member changes", func() error {
			_, err := h.EditMember(ctx, "wren", store.Edit{Away: &away})
			return err
		}, []event.Code{event.CodeMemberChanged}},
		{"nobody's passkeys", func() error { return h.ForgetPasskeys(ctx, m) }, nil},
		{"the last administrator stays", func() error {
			if err := h.DropMember(ctx, "wren"); err == nil {
				return fmt.Errorf("nobody is left")
			}
			return nil
		}, nil},
		{"an invite", func() error {
			_, _, err := h.Invite(ctx, store.Member{Name: "juno", Role: allowance.Guest}, time.Hour)
			return err
		}, []event.Code{event.CodeMemberChanged}},
		{"a device", func() error {
			if res, body := h.ask("POST", "/api/v1/sign-in", `{"name":"wren","password":"by the millpond"}`); res.StatusCode !=
				http.StatusOK {
				return fmt.Errorf("%s: %s", res.Status, body)
			}
			return nil
		}, []event.Code{event.CodeDeviceNew}},
	} {
		if err := c.do(); err != nil {
			t.Fatalf("%s: %v", c.what, err)
		}
		list, err := h.Store.Outbox(ctx, "house", 100)
		if err != nil {
			t.Fatal(err)
		}
		var got []event.Code
		for _, w := range list[had:] {
			got = append(got, w.Notice.Code)
		}
		if had = len(list); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v is kept, not %v", c.what, got, c.want)
		}
	}
	within, cancel := context.WithCancel(ctx)
	cancel() // what waits is worked off first
	h.Notices(within)
	list, err := h.Store.Outbox(ctx, "house", 100)
	if err != nil || len(list) < had {
		t.Fatalf("%v %d", err, len(list))
	}
	seen := map[string]bool{}
	for _, w := range list {
		if key := fmt.Sprint(w.Notice.Code, w.Notice.Text, w.Notice.At.UnixMilli()); seen[key] {
			t.Errorf("kept twice: %+v", w.Notice)
		} else {
			seen[key] = true
		}
	}
	for _, w := range list[had:] { // what changes nothing in the store
		if slices.Contains([]event.Code{event.CodePlayBegan, event.CodePlayEnded, event.CodeKeyChanged}, w.Notice.Code) {
			t.Errorf("kept once more: %+v", w.Notice)
		}
	}
}
