package atomicfile

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestAFolderIsForOne(t *testing.T) {
	state, ctx := t.TempDir(), context.Background()
	let, err := Claim(ctx, state, time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Claim(ctx, state, 100*time.Millisecond); !errors.Is(err, ErrClaimed) {
		t.Errorf("a second one: %v", err)
	}
	short, cancel := context.WithTimeout(ctx, 20*time.Millisecond)
	defer cancel()
	if _, err := Claim(short, state, time.Minute); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("one that is ended: %v", err)
	}
	time.AfterFunc(100*time.Millisecond, let)
	let, err = Claim(ctx, state, time.Minute)
	if err != nil {
		t.Fatalf("once the first has ended: %v", err)
	}
	let()
	if _, err := Claim(ctx, filepath.Join(state, "none"), time.Minute); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("no folder: %v", err)
	}
}
