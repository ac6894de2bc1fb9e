package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
)

// TestWhatIsForgottenIsGoneFromTheFiles looks for the bytes of names, devices and addresses in the store's files, and
// in a copy of it.
func TestWhatIsForgottenIsGoneFromTheFiles(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	at := filepath.Join(dir, "store.db")
	s, err := Open(ctx, at)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	now := time.Now()
	if _, err := s.AddMember(ctx, Member{Name: "wren", Role: allowance.Admin}, now); err != nil {
		t.Fatal(err)
	}
	tell := func(i int, age time.Duration, who, device, address string) {
		t.Helper()
		p := usage.Play{Member: who, Device: device, Address: address, Title: "Copper Kite", Shelf: "films", Watched: 60}
		at := now.Add(-age).Add(time.Duration(i) * time.Millisecond)
		p, err := s.BeginPlay(ctx, p, int64(i+1), 1, at)
		if err == nil {
			err = s.MarkPlays(ctx, Mark{Play: p.ID, Watched: 60, Over: true, At: at.Add(time.Minute)})
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	// Enough to fill many pages, old ones and new ones mixed.
	for i := range 400 {
		tell(4*i, 40*24*time.Hour, "linneaofthemill", "oldtelephone", fmt.Sprintf("198.51.100.%d", i%200+10))
		tell(4*i+1, time.Hour, "wren", "bigscreen", "203.0.113.77")
	}
	// Also from the figures that are kept.
	if err := errors.Join(s.SetZone(ctx, time.UTC), s.Roll(ctx)); err != nil {
		t.Fatal(err)
	}
	found := func(text string) (in []string) {
		t.Helper()
		for _, name := range []string{"store.db", "store.db-wal", "copy.db"} {
			b, err := os.ReadFile(filepath.Join(dir, name))
			if err == nil && bytes.Contains(b, []byte(text)) {
				in = append(in, name)
			}
		}
		return in
	}
	if len(found("198.51.100.")) == 0 || len(found("linneaofthemill")) == 0 {
		t.Fatal("the test looks in the wrong place")
	}
	cut, err := s.CutAddresses(ctx, now.Add(-usage.AddressKept))
	if err != nil || cut != 200 {
		t.Errorf("%d, %v", cut, err)
	}
	if again, err := s.CutAddresses(ctx, now.Add(-usage.AddressKept)); again != 0 || err != nil {
		t.Errorf("twice: %d, %v", again, err)
	}
	if err := s.Efface(ctx); err != nil {
		t.Fatal(err)
	}
	for i := range 200 {
		if in := found(fmt.Sprintf("198.51.100.%d", i+10)); in != nil {
			t.Fatalf("198.51.100.%d is in %v", i+10, in)
		}
	}
	if found("198.51.100.0/24") == nil || found("203.0.113.77") == nil {
		t.Error("more is gone than should be")
	}
	n, err := s.ForgetPlays(ctx, "", now.Add(-30*24*time.Hour))
	if err != nil || n != 400 {
		t.Errorf("%d, %v", n, err)
	}
	if err := s.Efface(ctx); err != nil {
		t.Fatal(err)
	}
	if err := s.Snapshot(ctx, filepath.Join(dir, "copy.db")); err != nil {
		t.Fatal(err)
	}
	if v, err := s.VerifyRollups(ctx); err != nil || v.Days == 0 || len(v.Wrong) > 0 {
		t.Errorf("%+v, %v", v, err)
	}
	for _, text := range []string{"linneaofthemill", "oldtelephone", "198.51.100"} {
		if in := found(text); in != nil {
			t.Errorf("%s is in %v", text, in)
		}
	}
	plays, err := s.Plays(ctx, usage.Filter{})
	if err != nil || len(plays) != 800 {
		t.Errorf("%d plays, %v", len(plays), err)
	}
	if found("bigscreen") == nil {
		t.Error("more is gone than should be")
	}
}
