package live

import (
	"path/filepath"
	"testing"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/store"
)

func TestTheSameIsToldNowAndThen(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	var m map[string]time.Time
	for i, c := range []struct {
		key   string
		after time.Duration
		want  bool
	}{{"wren", 0, true}, {"wren", time.Minute, false}, {"ozan", time.Minute, true}, {"wren", tellAgain, true},
		// The clock was set back: it is told, rather than never again.
		{"wren", 0, true}} {
		if got := againDue(&m, c.key, 3, now.Add(c.after)); got != c.want {
			t.Errorf("%d: %v", i, got)
		}
	}
	// However many they are, so many are told; and others again once those are old.
	told := 0
	for n := range 1000 {
		if againDue(&m, time.Duration(n).String(), 3, now.Add(2*time.Minute)) {
			told++
		}
	}
	if told != 1 || len(m) != 3 {
		t.Errorf("%d told, %d remembered", told, len(m))
	}
	if !againDue(&m, "late", 3, now.Add(time.Hour)) || len(m) != 1 {
		t.Errorf("%d remembered an hour later", len(m))
	}
}

// TestWhatRunsOutIsToldOnce tells of the same thing again only once it was well in between, over a restart, too.
func TestWhatRunsOutIsToldOnce(t *testing.T) {
	path, told := filepath.Join(t.TempDir(), "store.db"), 0
	for i, want := range []struct {
		so    bool
		after int
	}{{false, 0}, {true, 1}, {true, 1}, {false, 1}, {true, 2}} {
		st, err := store.Open(t.Context(), path)
		if err != nil {
			t.Fatal(err)
		}
		s := &Server{Store: st}
		s.Events.Hear(func(event.Event) { told++ })
		s.once(t.Context(), "disk-low /srv", want.so, event.DiskLow{Folder: "/srv"})
		s.once(t.Context(), "disk-low /other", false, event.DiskLow{Folder: "/other"})
		st.Close()
		if told != want.after {
			t.Errorf("%d: told %d times", i, told)
		}
	}
}
