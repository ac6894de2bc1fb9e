package live

import (
	"testing"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/store"
)

// TestALateCountIsNotKept ends two counts in the other order than they were begun in.
func TestALateCountIsNotKept(t *testing.T) {
	s := New(blueprint.Settings{Shelves: []blueprint.SettingsShelf{{Name: "films"}}}, "0", nil)
	s.keepCount("films", 2, store.ShelfFigures{Files: 6}, nil)
	s.keepCount("films", 1, store.ShelfFigures{Files: 100006}, nil)
	f, err := s.figures(t.Context(), "films")
	if err != nil || f.Files != 6 {
		t.Errorf("%d files, %v", f.Files, err)
	}
	s.keepCount("films", 3, store.ShelfFigures{Files: 7}, nil)
	if f, err := s.figures(t.Context(), "films"); err != nil || f.Files != 7 {
		t.Errorf("%d files, %v", f.Files, err)
	}
}
