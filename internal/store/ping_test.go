package store

import (
	"context"
	"database/sql"
	"errors"
	"path/filepath"
	"testing"
	"time"
)

// TestALongWriteIsNoIllness holds the connection that writes: a store that was written lately is
// well meanwhile, and one that was not, or could not be, is not called so.
func TestALongWriteIsNoIllness(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, filepath.Join(t.TempDir(), "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Ping(ctx); err != nil {
		t.Fatalf("at rest: %v", err)
	}
	if err := s.change(ctx, func(*sql.Tx) error { return nil }); err != nil {
		t.Fatal(err)
	}
	writing, written := make(chan bool), make(chan bool)
	done := make(chan error)
	go func() {
		done <- s.change(ctx, func(*sql.Tx) error {
			close(writing)
			<-written
			return nil
		})
	}()
	<-writing
	short, cancel := context.WithTimeout(ctx, 200*time.Millisecond)
	defer cancel()
	if err := s.Ping(short); err != nil {
		t.Errorf("during a write: %v", err)
	}
	s.committed.Store(time.Now().Add(-lately - time.Second).UnixMilli())
	if err := s.Ping(short); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("with nothing committed for long: %v, want that it waits", err)
	}
	s.committed.Store(time.Now().UnixMilli())
	_ = s.explain(ErrFull)
	short, cancel = context.WithTimeout(ctx, 200*time.Millisecond)
	defer cancel()
	if err := s.Ping(short); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("after a write that failed for want of room: %v, want that it waits", err)
	}
	close(written)
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if err := s.Ping(ctx); err != nil {
		t.Errorf("after the write: %v", err)
	}
}
