package event_test

import (
	"fmt"
	"reflect"
	"strings"
	"sync"
	"testing"

	"cozyshelf/internal/core/event"
)

// Two observers: the log hears each event at once, another takes them from a queue.
func Example() {
	var s event.Stream
	s.Hear(func(e event.Event) { fmt.Println("log:", event.String(e)) })
	q := s.Follow(8)
	s.Tell(event.MemberAdded{Member: "wren", Role: "admin"})
	fmt.Println("queue:", (<-q.Events()).Name())
	// Output:
	// log: member added member=wren role=admin
	// queue: member added
}

// all is one of each.
var all = []event.Event{event.MemberAdded{}, event.MemberRemoved{}, event.PasswordChanged{}, event.FactorChanged{},
	event.PasskeyChanged{}, event.ScreenMade{}, event.StreamStopped{}, event.DeviceMoved{}, event.RecoveryUsed{},
	event.MemberChanged{},
	event.SignedIn{}, event.RefusedAway{}, event.Scanned{}, event.FolderAway{}, event.FolderBack{},
	event.UploadBegun{}, event.UploadPlaced{},
	event.UploadPlaced{Known: true}, event.UploadUnfit{}, event.BackupMade{}, event.BackupFailed{}, event.PlayEnded{},
	event.TitleMatched{}}

// TestEveryFieldOfAnEventIsTold counts them by reflection: one that is added is told, too.
func TestEveryFieldOfAnEventIsTold(t *testing.T) {
	names := map[string]bool{}
	for _, e := range all {
		if names[e.Name()] || e.Name() == "" {
			t.Errorf("%T has the name of another: %q", e, e.Name())
		}
		names[e.Name()] = true
		v := reflect.TypeOf(e)
		n := 0
		for i := range v.NumField() {
			if v.Field(i).IsExported() {
				n++
			}
		}
		if _, ok := e.(event.UploadPlaced); ok {
			n-- // whether it was known is told by the name
		}
		keys := map[string]bool{}
		for _, f := range e.Fields() {
			keys[f.Key] = true
		}
		if len(keys) != n {
			t.Errorf("%T has %d fields and tells %v", e, n, keys)
		}
	}
	if (event.BackupFailed{}).Level() != event.Failure || (event.Scanned{}).Level() != event.Info {
		t.Error("the levels are mixed up")
	}
}

// TestNobodyWaitsForAQueue tells more than one holds.
func TestNobodyWaitsForAQueue(t *testing.T) {
	var s event.Stream
	heard := 0
	s.Hear(func(event.Event) { heard++ })
	q := s.Follow(3)
	for range 10 {
		s.Tell(event.MemberRemoved{Member: "wren"})
	}
	if heard != 10 || q.Lost() != 7 || len(q.Events()) != 3 {
		t.Errorf("heard %d, lost %d, waiting %d", heard, q.Lost(), len(q.Events()))
	}
	q.Close()
	q.Close()
	s.Tell(event.MemberRemoved{})
	n := 0
	for range q.Events() {
		n++
	}
	if n != 3 {
		t.Errorf("after it was closed it gives %d", n)
	}
}

// TestManyTellAtOnce is for the race detector.
func TestManyTellAtOnce(t *testing.T) {
	var s event.Stream
	var mu sync.Mutex
	var got []string
	s.Hear(func(e event.Event) {
		mu.Lock()
		defer mu.Unlock()
		got = append(got, event.String(e))
	})
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			q := s.Follow(2)
			for range 50 {
				s.Tell(event.Scanned{Shelf: "films"})
			}
			q.Close()
		})
	}
	wg.Wait()
	if len(got) != 400 || !strings.HasPrefix(got[0], "scanned shelf=films") {
		t.Errorf("%d: %v", len(got), got[:1])
	}
}
