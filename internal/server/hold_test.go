package server

import (
	"context"
	"errors"
	"net"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/standin"
)

// TestAPersonDoesNotWaitForACatalogue has a catalogue that does not answer asked in the
// background, about the very title that a person corrects.
func TestAPersonDoesNotWaitForACatalogue(t *testing.T) {
	h, ctx := open(t), context.Background()
	world := standin.Household()
	world.Slow.Store(1500)
	srv := httptest.NewServer(world)
	defer srv.Close()
	h.Sources = live.Sources(&blueprint.SettingsLookup{Sources: []string{"wikidata"}, Wikidata: srv.URL + "/w/api.php",
		Commons: srv.URL + "/file/", Pause: int64(time.Millisecond)}, t.TempDir(), "test")
	ids, err := h.Store.Undescribed(ctx, []string{string(household.Films)}, time.Now(), 10)
	if err != nil || len(ids) == 0 {
		t.Fatal(ids, err)
	}
	id := ids[0]
	back := make(chan error, 1)
	go func() { back <- h.Describe(ctx, id, false) }()
	for world.Requests.Load() == 0 {
		time.Sleep(time.Millisecond)
	}
	began := time.Now()
	door := httptest.NewServer(h.admin.Handler())
	defer door.Close()
	client := control.Through("a test", func(ctx context.Context) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", strings.TrimPrefix(door.URL, "http://"))
	})
	if _, err := client.Match(ctx, id, control.Matching{Edit: map[string]string{"summary": "A keeper folds ships."}}); err != nil {
		t.Fatal(err)
	}
	if took := time.Since(began); took > time.Second {
		t.Errorf("the person waited for %s", took)
	}
	if err := <-back; !errors.Is(err, context.Canceled) {
		t.Errorf("what was asked in the background came to %v", err)
	}
	// Later it is asked again, and leaves what the person said.
	world.Slow.Store(0)
	if err := h.Describe(ctx, id, false); err != nil {
		t.Fatal(err)
	}
	d, err := h.Store.Described(ctx, id)
	if err != nil || d.Summary != "A keeper folds ships." || d.Match != describe.Taken ||
		!strings.HasPrefix(d.Outside, "wikidata ") {
		t.Errorf("got %+v, %v", d, err)
	}
}

func TestOneAtATimeChangesATitle(t *testing.T) {
	var h live.Holds
	ctx := context.Background()
	far, free, err := h.Take(ctx, 1, false, false)
	if err != nil {
		t.Fatal(err)
	}
	if _, other, err := h.Take(ctx, 2, false, false); err != nil {
		t.Fatal("another title is held too:", err)
	} else {
		other()
	}
	short, cancel := context.WithTimeout(ctx, 20*time.Millisecond)
	defer cancel()
	if _, _, err := h.Take(short, 1, false, false); !errors.Is(err, context.DeadlineExceeded) || far.Err() != nil {
		t.Errorf("in the background: %v, and what was first %v", err, far.Err())
	}
	got := make(chan func())
	take := func(quick bool) {
		_, free, err := h.Take(ctx, 1, !quick, quick)
		if err != nil {
			t.Error(err)
		}
		got <- free
	}
	go take(false)
	<-far.Done() // it is told that a person waits
	select {
	case <-got:
		t.Error("two at a time")
	case <-time.After(20 * time.Millisecond):
	}
	free()
	free = <-got
	go take(true)
	select {
	case <-got:
		t.Error("a person was interrupted")
	case <-time.After(20 * time.Millisecond):
	}
	free()
	(<-got)()
}
