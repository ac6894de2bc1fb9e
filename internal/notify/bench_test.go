package notify

import (
	"context"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/store"
)

// BenchmarkWebhook tells events to a receiver on this machine: into the outbox, signed and sent, and out again.
func BenchmarkWebhook(b *testing.B) {
	var took atomic.Int64
	peer := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body) // it is not looked at
		took.Add(1)
		w.WriteHeader(http.StatusNoContent)
	}))
	defer peer.Close()
	dir := b.TempDir()
	s, err := store.Open(b.Context(), filepath.Join(dir, "store.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	secrets := filepath.Join(dir, "secrets.json")
	if err := os.WriteFile(secrets, []byte(`{"house": "`+key+`"}`), 0o600); err != nil {
		b.Fatal(err)
	}
	k := New(Options{House: "Fernhollow Mill", Source: "urn:cozyshelf:mill", Zone: time.UTC, Store: s, Secrets: secrets,
		Log: slog.New(slog.DiscardHandler), Receivers: []household.Notice{{Name: "house", To: household.ToWebhook,
			Address: peer.URL}}})
	ctx, cancel := context.WithCancel(b.Context())
	var events event.Stream
	queue, done := events.Follow(queued), make(chan struct{})
	go func() {
		defer close(done)
		k.Run(ctx, queue)
	}()
	b.ResetTimer()
	for n := range b.N {
		events.Tell(disk(n))
		for int64(n)-took.Load() > 1000 {
			time.Sleep(time.Millisecond)
		}
	}
	for took.Load() < int64(b.N) {
		time.Sleep(time.Millisecond)
	}
	b.StopTimer()
	cancel()
	<-done
}
