package store

import (
	"testing"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/notice"
	"cozyshelf/internal/core/usage"
)

func TestRememberedTextsAreGivenBack(t *testing.T) {
	s, _ := fresh(t)
	for i, c := range []struct{ text, before string }{{"", ""}, {"1.0.0", ""}, {"1.0.0", "1.0.0"}, {"1.1.0", "1.0.0"},
		{"", "1.1.0"}, {"", ""}} {
		if before, err := s.Remember(ctx, "version", c.text); err != nil || before != c.before {
			t.Errorf("%d: %q %v", i, before, err)
		}
	}
}

// TestForgottenPlaysAreInNoNotice has notices of plays wait while the plays are forgotten.
func TestForgottenPlaysAreInNoNotice(t *testing.T) {
	s, _ := fresh(t)
	now := time.Now()
	var list []Waiting
	for _, e := range []event.Event{event.PlayEnded{Member: "Wren", Title: "Low Water"},
		event.PlayEnded{Member: "Ozan", Title: "Ash"}, event.SignedIn{Member: "Wren", New: true}} {
		n, ok := notice.Of(e, now.Add(-time.Hour))
		if !ok {
			t.Fatalf("%T is not told", e)
		}
		list = append(list, Waiting{Receiver: "house", Notice: n})
	}
	late, _ := notice.Of(event.PlayBegan{Member: "Wren", Title: "Ash"}, now)
	if _, err := s.Enqueue(ctx, append(list, Waiting{Receiver: "house", Notice: late})); err != nil {
		t.Fatal(err)
	}
	left := func(want ...string) {
		t.Helper()
		got, err := s.Outbox(ctx, "house", 10)
		if err != nil || len(got) != len(want) {
			t.Fatalf("%v %+v", err, got)
		}
		for i, w := range got {
			if w.Notice.Text != want[i] {
				t.Errorf("%q instead of %q", w.Notice.Text, want[i])
			}
		}
	}
	if _, err := s.ForgetPlays(ctx, "WREN", now.Add(-time.Minute)); err != nil {
		t.Fatal(err)
	}
	left("Ozan has stopped watching Ash.", list[2].Notice.Text, "Wren watches Ash.")
	if _, err := s.ForgetPlays(ctx, "", now.Add(time.Minute)); err != nil {
		t.Fatal(err)
	}
	left(list[2].Notice.Text)
	if plays, err := s.Plays(ctx, usage.Filter{}); err != nil || len(plays) > 0 {
		t.Errorf("%+v %v", plays, err)
	}
}
