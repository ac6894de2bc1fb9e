package store

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/usage"
)

// TestPlaysAreChosen holds the plays that the store chooses against those that are picked one by one.
func TestPlaysAreChosen(t *testing.T) {
	s, _ := fresh(t)
	r := rand.New(rand.NewPCG(18, 3))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	begin := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	members, titles := []string{"wren", "ozan", ""}, []string{"Copper Kite", "The Paper Lighthouse", "Tiny Harbour"}
	shelves, devices := []string{"films", "series"}, []string{"kitchen tablet", "Big Screen", "telephone"}
	for n := range 400 {
		started := begin.Add(time.Duration(r.IntN(100)) * time.Hour)
		ended := started.Add(time.Duration(r.IntN(5)) * time.Hour)
		end := milli(ended)
		if r.IntN(10) == 0 {
			end = 0
		}
		if _, err := s.w.ExecContext(ctx, `INSERT INTO plays (member, shelf, title, part, file, device, device_id, address, away,
			started, seen, ended, from_pos, position, duration, watched, bytes, done, delivery, why)
			VALUES (?, ?, ?, '', 1, ?, 1, '', ?, ?, ?, ?, 0, 0, 10, 5, 100, ?, ?, '')`, pick(members...), pick(shelves...),
			pick(titles...), pick(devices...), r.IntN(2), milli(started), milli(ended), end, r.IntN(2),
			pick(append(usage.Deliveries, "")...)); err != nil {
			t.Fatal(n, err)
		}
	}
	all, err := s.Plays(ctx, usage.Filter{})
	if err != nil || len(all) != 400 {
		t.Fatal(len(all), err)
	}
	has := func(text, part string) bool { return strings.Contains(strings.ToLower(text), strings.ToLower(part)) }
	for range 500 {
		f := usage.Filter{Member: pick("", "", "WREN", "ozan"), Title: pick("", "", "kite", "THE", "x"),
			Shelf: pick("", "", "films"), Kind: pick("", "", "series"), Shelves: []string{"series", "more"},
			Device: pick("", "", "screen", "t"), Delivery: pick("", "", "repacked", "as-it-is"),
			Where: usage.Where(pick("", "", "home", "away")), Open: r.IntN(6) == 0, Limit: r.IntN(3) * 7}
		if r.IntN(3) == 0 {
			done := r.IntN(2) == 0
			f.Finished = &done
		}
		if r.IntN(3) == 0 {
			f.Since = begin.Add(time.Duration(r.IntN(100)) * time.Hour)
		}
		if r.IntN(3) == 0 {
			f.Until = begin.Add(time.Duration(r.IntN(100)) * time.Hour)
		}
		from := 0
		if r.IntN(3) == 0 {
			from = r.IntN(len(all))
			f.After, from = all[from].ID, from+1
		}
		var want []int64
		for _, p := range all[from:] {
			if (f.Member == "" || Fold(p.Member) == Fold(f.Member)) && has(p.Title, f.Title) &&
				(f.Shelf == "" || p.Shelf == f.Shelf) && (f.Kind == "" || p.Shelf == "series") &&
				has(p.Device, f.Device) && (f.Delivery == "" || p.Delivery == f.Delivery) &&
				(f.Where == "" || p.Away == (f.Where == usage.Away)) && (!f.Open || p.Ended.IsZero()) &&
				(f.Finished == nil || p.Done == *f.Finished) && !p.Seen.Before(f.Since) &&
				(f.Until.IsZero() || p.Started.Before(f.Until)) && (f.Limit == 0 || len(want) < f.Limit) {
				want = append(want, p.ID)
			}
		}
		list, err := s.Plays(ctx, f)
		var got []int64
		for _, p := range list {
			got = append(got, p.ID)
		}
		if err != nil || !slices.Equal(got, want) {
			t.Fatalf("%+v: %v, %v; want %v", f, got, err, want)
		}
	}
	if _, err := s.Plays(ctx, usage.Filter{After: 99999}); !errors.Is(err, ErrNotFound) {
		t.Errorf("after a play that is none: %v", err)
	}
	// Page by page is the same as at once.
	var pages []int64
	for f := (usage.Filter{Limit: 37}); ; {
		list, err := s.Plays(ctx, f)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range list {
			pages = append(pages, p.ID)
		}
		if len(list) < f.Limit {
			break
		}
		f.After = list[len(list)-1].ID
	}
	if fmt.Sprint(len(pages)) != "400" || !slices.IsSortedFunc(pages, func(a, b int64) int {
		return slices.IndexFunc(all,
			func(p usage.Play) bool { return p.ID == a }) - slices.IndexFunc(all, func(p usage.Play) bool { return p.ID == b })
	}) {
		t.Errorf("%d plays page by page", len(pages))
	}
}
