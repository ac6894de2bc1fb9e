package server

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestAStateFolderIsForOneServer(t *testing.T) {
	state, ctx := t.TempDir(), context.Background()
	let, err := claim(ctx, state)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := claim(ctx, state); !errors.Is(err, ErrClaimed) {
		t.Errorf("a second one: %v", err)
	}
	short, cancel := context.WithTimeout(ctx, 20*time.Millisecond)
	defer cancel()
	if _, err := claim(short, state); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("one that is ended: %v", err)
	}
	time.AfterFunc(100*time.Millisecond, let)
	let, err = claim(ctx, state)
	if err != nil {
		t.Fatalf("once the first has ended: %v", err)
	}
	let()
	if _, err := claim(ctx, filepath.Join(state, "none")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("no folder: %v", err)
	}
}
