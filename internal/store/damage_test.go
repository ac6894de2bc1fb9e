package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/usage"
)

// everything reads a store by every method that reads, as text.
func everything(ctx context.Context, s *Store) (string, error) {
	var out bytes.Buffer
	var errs error
	add := func(v any, err error) {
		errs = errors.Join(errs, err)
		if err == nil {
			err = json.NewEncoder(&out).Encode(v)
		}
		errs = errors.Join(errs, err)
	}
	titles, err := s.Titles(ctx, "")
	add(titles, err)
	for _, t := range titles {
		files, err := s.Files(ctx, t.ID, 1)
		add(files, err)
		for _, f := range files {
			of, part, err := s.FileOf(ctx, f.ID, 1)
			add([]any{of, part}, err)
		}
		described, err := s.Described(ctx, t.ID)
		add(described, err)
	}
	hits, err := s.Search(ctx, "lighthouse", 50)
	add(hits, err)
	page, err := s.TitlePage(ctx, Wanted{Shelf: "films", At: Place{}, Back: false, Limit: 50})
	add(page, err)
	members, err := s.Members(ctx)
	add(members, err)
	plays, err := s.Plays(ctx, usage.Filter{})
	add(plays, err)
	begun, err := s.Begun(ctx, 1, 50)
	add(begun, err)
	library, err := s.Library(ctx, 50)
	add(library, err)
	figures, err := s.Figures(ctx, "films")
	add(figures, err)
	return out.String(), errs
}

// TestDamageSeenAnywhereIsDamageEverywhere spoils a store at every page in turn. What is read
// then is as it was, or the store is known to be damaged, and nothing is written to it.
func TestDamageSeenAnywhereIsDamageEverywhere(t *testing.T) {
	s, _ := fresh(t)
	var found []Found
	for i := range 80 {
		found = append(found, Found{Title: fmt.Sprintf("The Paper Lighthouse %d", i), Year: 1900 + i%100,
			Size:     int64(i),
			Duration: float64(i)})
	}
	stock(t, s, "films", household.Films, found...)
	if _, err := s.AddMember(ctx, Member{Name: "wren", Role: "admin"}, time.Now()); err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	for i := range 60 {
		p, err := s.BeginPlay(ctx, usage.Play{Member: "wren", Title: "x", Shelf: "films"}, 0, int64(i+1), now)
		if err == nil {
			err = s.MarkPlays(ctx, Mark{Play: p.ID, Member: 1, File: int64(i + 1), Position: 5, At: now})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	want, err := everything(ctx, s)
	if err != nil {
		t.Fatal(err)
	}
	clean := filepath.Join(t.TempDir(), "clean.db")
	if err := errors.Join(s.Snapshot(ctx, clean), s.Close()); err != nil {
		t.Fatal(err)
	}
	whole, err := os.ReadFile(clean)
	if err != nil {
		t.Fatal(err)
	}
	const size = 4096
	pages, damaged := len(whole)/size, 0
	for n := range pages {
		spoiled := bytes.Clone(whole)
		for i := range size {
			spoiled[n*size+i] ^= 0xa5
		}
		at := filepath.Join(t.TempDir(), "spoiled.db")
		if err := os.WriteFile(at, spoiled, 0o600); err != nil {
			t.Fatal(err)
		}
		s, err := Open(ctx, at)
		if err != nil {
			if !errors.Is(err, ErrDamaged) {
				t.Errorf("page %d of %d: %v", n+1, pages, err)
			}
			damaged++
			continue
		}
		got, err := everything(ctx, s)
		switch {
		case err == nil && got != want:
			t.Errorf("page %d of %d: something else is read, and nobody says so", n+1, pages)
		case err != nil && s.Damage() == nil:
			t.Errorf("page %d of %d: the store does not know that it is damaged: %v", n+1, pages, err)
		case err != nil:
			damaged++
			if _, err := s.AddMember(ctx, Member{Name: "ozan", Role: "adult"}, time.Now()); !errors.Is(err,
				ErrDamaged) {
				t.Errorf("page %d of %d: it is written to still: %v", n+1, pages, err)
			}
		}
		s.Close()
	}
	if t.Logf("%d pages, of which %d were met", pages, damaged); damaged < pages/3 {
		t.Errorf("of %d pages only %d were met", pages, damaged)
	}
}

// BenchmarkFileOf looks a part up as a range request does, in a title of 10,000 parts, and
// once more by what was asked before.
func BenchmarkFileOf(b *testing.B) {
	s, _ := fresh(b)
	var found []Found
	for i := range 10_000 {
		found = append(found, Found{Title: "River Post", Season: 1 + i/100, Episode: 1 + i%100, Size: 1, Duration: 60})
	}
	stock(b, s, "series", household.Series, found...)
	b.Run("now", func(b *testing.B) {
		for b.Loop() {
			if _, _, err := s.FileOf(ctx, 5000, 1); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("before", func(b *testing.B) {
		for b.Loop() {
			f, err := s.File(ctx, 5000, 1)
			if err == nil {
				_, err = s.Title(ctx, f.Title)
			}
			if err != nil {
				b.Fatal(err)
			}
		}
	})
}
