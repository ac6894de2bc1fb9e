package stream

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"mime"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/store"
)

// serve serves one file of random bytes.
func serve(t testing.TB, size int) (url string, content []byte, sent *atomic.Int64, path string) {
	t.Helper()
	content = make([]byte, size)
	for i := range content {
		content[i] = byte(rand.Uint32())
	}
	path = filepath.Join(t.TempDir(), "film.mp4")
	if err := os.WriteFile(path, content, 0o600); err != nil {
		t.Fatal(err)
	}
	sent = new(atomic.Int64)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		f, err := os.Open(path)
		if err != nil {
			http.Error(w, err.Error(), 500)
			return
		}
		defer f.Close()
		if err := Deliver(w, r, f, "video/mp4", func(n int64) { sent.Add(n) }); err != nil {
			t.Error(err)
		}
	}))
	t.Cleanup(srv.Close)
	return srv.URL, content, sent, path
}

func ask(t testing.TB, url string, headers ...string) (*http.Response, []byte) {
	t.Helper()
	r, err := http.NewRequest("GET", url, nil)
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return res, b
}

func TestRangesGiveTheBytesAskedFor(t *testing.T) {
	url, all, sent, path := serve(t, 20<<20+17)
	n := len(all)
	for header, c := range map[string]struct {
		status     int
		from, to   int // of the body, to excluded
		contentRng string
	}{
		"":                       {200, 0, n, ""},
		"bytes=0-":               {206, 0, n, fmt.Sprintf("bytes 0-%d/%d", n-1, n)},
		"bytes=0-0":              {206, 0, 1, fmt.Sprintf("bytes 0-0/%d", n)},
		"bytes=100-199":          {206, 100, 200, fmt.Sprintf("bytes 100-199/%d", n)},
		"bytes=9000000-":         {206, 9000000, n, fmt.Sprintf("bytes 9000000-%d/%d", n-1, n)},
		"bytes=-500":             {206, n - 500, n, fmt.Sprintf("bytes %d-%d/%d", n-500, n-1, n)},
		"bytes=100-999999999999": {206, 100, n, fmt.Sprintf("bytes 100-%d/%d", n-1, n)},
		"bytes=999999999-":       {416, 0, 0, fmt.Sprintf("bytes */%d", n)},
		"bytes=5-2":              {416, 0, 0, ""},
		"bytes=x-":               {416, 0, 0, ""},
	} {
		before := sent.Load()
		res, b := ask(t, url, "Range", header)
		if res.StatusCode != c.status {
			t.Errorf("%q: status %d, want %d", header, res.StatusCode, c.status)
			continue
		}
		if got := res.Header.Get("Content-Range"); got != c.contentRng {
			t.Errorf("%q: Content-Range %q, want %q", header, got, c.contentRng)
		}
		if c.status == 416 {
			continue
		}
		if !bytes.Equal(b, all[c.from:c.to]) {
			t.Errorf("%q: other bytes, %d of them, want %d", header, len(b), c.to-c.from)
		}
		if got := sent.Load() - before; got != int64(c.to-c.from) {
			t.Errorf("%q: %d bytes were counted, %d left", header, got, c.to-c.from)
		}
	}
	res, _ := ask(t, url)
	etag := res.Header.Get("ETag")
	if res, b := ask(t, url, "Range", "bytes=0-9", "If-Range", etag); res.StatusCode != 206 || len(b) != 10 {
		t.Errorf("If-Range with the tag: status %d", res.StatusCode)
	}
	if res, b := ask(t, url, "Range", "bytes=0-9", "If-Range", `"other"`); res.StatusCode != 200 || len(b) != n {
		t.Errorf("If-Range with another tag: status %d", res.StatusCode)
	}
	if res, _ := ask(t, url, "If-None-Match", etag); res.StatusCode != 304 {
		t.Errorf("If-None-Match: status %d", res.StatusCode)
	}
	if err := os.WriteFile(path, all[:5000], 0o600); err != nil {
		t.Fatal(err)
	}
	if res, b := ask(t, url, "Range", "bytes=0-9", "If-Range", etag); res.StatusCode != 200 || len(b) != 5000 {
		t.Errorf("If-Range after the file was replaced: status %d, %d bytes", res.StatusCode, len(b))
	}
}

func FuzzRange(f *testing.F) {
	url, all, _, _ := serve(f, 10000)
	for _, s := range []string{"bytes=0-", "bytes=-1", "bytes=1-2,5-6", "bytes=-", "bytes=0-0,-1", "lines=1-2",
		"bytes=18446744073709551615-", "bytes= 1 - 2 "} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, header string) {
		if strings.ContainsFunc(header, func(r rune) bool { return r < ' ' || r > '~' }) {
			return // the transport refuses to send it
		}
		res, b := ask(t, url, "Range", header)
		switch res.StatusCode {
		case 200:
			if !bytes.Equal(b, all) {
				t.Fatalf("%q: not the whole file", header)
			}
		case 206:
			kind, params, _ := mime.ParseMediaType(res.Header.Get("Content-Type"))
			if kind != "multipart/byteranges" {
				match(t, header, res.Header.Get("Content-Range"), b, all)
				return
			}
			for m := multipart.NewReader(bytes.NewReader(b), params["boundary"]); ; {
				p, err := m.NextPart()
				if errors.Is(err, io.EOF) {
					return
				}
				if err != nil {
					t.Fatal(err)
				}
				body, _ := io.ReadAll(p)
				match(t, header, p.Header.Get("Content-Range"), body, all)
			}
		case 416:
		default:
			t.Fatalf("%q: status %d", header, res.StatusCode)
		}
	})
}

func match(t *testing.T, header, contentRange string, body, all []byte) {
	t.Helper()
	var from, to, size int
	if _, err := fmt.Sscanf(contentRange, "bytes %d-%d/%d", &from, &to, &size); err != nil || size != len(all) ||
		from > to || to >= size || !bytes.Equal(body, all[from:to+1]) {
		t.Fatalf("%q: Content-Range %q does not fit its %d bytes", header, contentRange, len(body))
	}
}

// books stands for the store.
type books struct {
	sofa  []store.Sitting
	mu    sync.Mutex
	plays map[int64]store.Mark
	fail  error
}

func (b *books) BeginPlay(_ context.Context, p usage.Play, _, _ int64, now time.Time) (usage.Play, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.fail != nil {
		return p, b.fail
	}
	p.ID = int64(len(b.plays) + 1)
	p.Position, p.Started, p.Seen = p.From, now, now
	b.plays[p.ID] = store.Mark{Play: p.ID}
	return p, nil
}

func (b *books) SofaOf(context.Context, int64) ([]store.Sitting, error) { return b.sofa, nil }

func (b *books) Sit(_ context.Context, _ int64, sofa []store.Sitting) error {
	b.sofa = sofa
	return nil
}

func (b *books) MarkPlays(_ context.Context, marks ...store.Mark) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.fail != nil {
		return b.fail
	}
	for _, m := range marks {
		b.plays[m.Play] = m
	}
	return nil
}

func TestStreamsAreCountedAndEnded(t *testing.T) {
	ctx := context.Background()
	now := time.Unix(1e9, 0)
	b := &books{plays: map[int64]store.Mark{}}
	tr := &Tracker{Store: b, Log: slog.New(slog.DiscardHandler), Now: func() time.Time { return now }}
	v, title, f := Viewer{Member: 7, Name: "wren", Device: 1}, store.Title{Name: "Copper Kite"},
		store.File{ID: 3, Duration: 100}
	count, err := tr.Sending(ctx, v, title, f)
	if err != nil {
		t.Fatal(err)
	}
	count(1000)
	for i := range 5 {
		now = now.Add(10 * time.Second)
		if _, err := tr.Report(ctx, v, title, f, float64(10*(i+1)), false); err != nil {
			t.Fatal(err)
		}
	}
	if m := b.plays[1]; m.Position != 50 || m.Watched != 50 || m.Bytes != 1000 || m.Member != 7 || m.File != 3 ||
		m.Done || m.Over {
		t.Errorf("after 50 s: got %+v", m)
	}
	// A report that cannot be kept changes nothing.
	b.fail = errors.New("disk full")
	now = now.Add(10 * time.Second)
	if _, err := tr.Report(ctx, v, title, f, 60, false); err == nil {
		t.Error("a report was acknowledged that is not kept")
	}
	b.fail = nil
	if p, err := tr.Report(ctx, v, title, f, 60, false); err != nil || p.Watched != 60 {
		t.Errorf("told again: got %+v, %v", p, err)
	}
	count(500)
	now = now.Add(time.Second)
	if err := tr.Settle(ctx, false); err != nil || b.plays[1].Bytes != 1500 || b.plays[1].Over {
		t.Errorf("bytes: got %+v, %v", b.plays[1], err)
	}
	now = now.Add(usage.Silence + time.Second)
	if err := tr.Settle(ctx, false); err != nil || !b.plays[1].Over || len(tr.live) != 0 {
		t.Errorf("after silence: got %+v, %v", b.plays[1], err)
	}
	count(700)
	if err := tr.Settle(ctx, false); err != nil || b.plays[2].Bytes != 700 {
		t.Errorf("bytes after a long pause: got %+v, %v", b.plays, err)
	}
	if _, err := tr.Report(ctx, v, title, f, 99, true); err != nil || !b.plays[2].Done || !b.plays[2].Over {
		t.Errorf("the end: got %+v, %v", b.plays, err)
	}
}

func TestManyDevicesAtOnceAreKeptApart(t *testing.T) {
	ctx := context.Background()
	b := &books{plays: map[int64]store.Mark{}}
	tr := &Tracker{Store: b, Log: slog.New(slog.DiscardHandler)}
	var wg sync.WaitGroup
	for d := range 8 {
		wg.Go(func() {
			v, f := Viewer{Member: 1, Device: int64(d)}, store.File{ID: 1, Duration: 1e6}
			for i := range 200 {
				count, err := tr.Sending(ctx, v, store.Title{}, f)
				if err != nil {
					t.Error(err)
					return
				}
				count(10)
				if _, err := tr.Report(ctx, v, store.Title{}, f, float64(i), false); err != nil {
					t.Error(err)
				}
				if i%50 == 0 {
					if err := tr.Settle(ctx, false); err != nil {
						t.Error(err)
					}
				}
			}
		})
	}
	wg.Wait()
	if err := tr.Settle(ctx, true); err != nil {
		t.Fatal(err)
	}
	if len(b.plays) != 8 {
		t.Fatalf("%d plays, want 8", len(b.plays))
	}
	for id, m := range b.plays {
		if m.Bytes != 2000 || m.Position != 199 || !m.Over {
			t.Errorf("play %d: got %+v", id, m)
		}
	}
}

func BenchmarkDeliver(b *testing.B) {
	url, all, _, _ := serve(b, 64<<20)
	b.SetBytes(int64(len(all)))
	for b.Loop() {
		res, err := http.Get(url)
		if err != nil {
			b.Fatal(err)
		}
		if _, err := io.Copy(io.Discard, res.Body); err != nil {
			b.Fatal(err)
		}
		res.Body.Close()
	}
}

// TestNoMoreStreamsThanMayBe begins many at the same moment.
func TestNoMoreStreamsThanMayBe(t *testing.T) {
	ctx := context.Background()
	tr := &Tracker{Store: &books{plays: map[int64]store.Mark{}}, Log: slog.New(slog.DiscardHandler)}
	begin := func(member, file int64) error {
		_, err := tr.Sending(ctx, Viewer{Member: member, Device: 1 + member, Most: 2}, store.Title{}, store.File{ID: file})
		return err
	}
	var began, refused atomic.Int32
	var wg sync.WaitGroup
	for n := range 40 {
		wg.Go(func() {
			switch err := begin(1, int64(n)); {
			case err == nil:
				began.Add(1)
			case errors.Is(err, ErrMany):
				refused.Add(1)
			default:
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if began.Load() != 2 || refused.Load() != 38 {
		t.Fatalf("%d began, %d were refused", began.Load(), refused.Load())
	}
	if err := begin(2, 1); err != nil {
		t.Errorf("another member: %v", err)
	}
	others, running := tr.Others(2, 3, 1)
	if others != 0 || !running {
		t.Errorf("%d others, running %v", others, running)
	}
	if err := tr.Settle(ctx, true); err != nil {
		t.Fatal(err)
	}
	if err := begin(1, 99); err != nil {
		t.Errorf("after all have ended: %v", err)
	}
}
