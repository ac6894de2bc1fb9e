package intake

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"os"
	"path"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/outside"

	"golang.org/x/sys/unix"
)

// Fetcher fetches files from the web: HTTP and HTTPS only, from public addresses unless
// others are allowed, and no more than a limit.
type Fetcher struct {
	Private bool  // addresses of this machine and of private networks, too
	Limit   int64 // bytes of one file; 0 for what the disk has room for
	Version string
	Tries   int           // how often in a row without a byte; 0 for 6
	Pause   time.Duration // before the second try; it doubles. 0 for a second

	// Stall is for how long a server may say nothing. 0 for a minute.
	Stall time.Duration
}

// Errors of fetching that trying again does not mend.
var (
	ErrPrivate  = outside.ErrPrivate
	ErrTooLarge = errors.New("the file is larger than may be fetched")
	ErrSum      = errors.New("the file is not the one that was asked for")
)

// final is an error that trying again does not mend.
type final struct{ error }

func (f final) Unwrap() error { return f.error }

func finally(format string, args ...any) error { return final{fmt.Errorf(format, args...)} }

// ParseAddress reads an address to fetch from.
func ParseAddress(s string) (*url.URL, error) {
	u, err := url.Parse(s)
	switch {
	case err != nil:
		return nil, err
	case u.Scheme != "http" && u.Scheme != "https":
		return nil, fmt.Errorf("only http and https can be fetched, not %q", u.Scheme)
	case u.Host == "" || u.Hostname() == "":
		return nil, errors.New("it names no server")
	case u.User != nil:
		return nil, errors.New("it holds a name or a password, which would be written down; fetch it without")
	}
	return u, nil
}

func (f Fetcher) client() *http.Client {
	return outside.Guard{Private: f.Private, Header: f.Stall, Raw: true,
		Redirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > 5 {
				return finally("it is redirected more than five times")
			}
			if _, err := ParseAddress(r.URL.String()); err != nil {
				return finally("it is redirected to what cannot be fetched: %w", err)
			}
			if via[0].URL.Scheme == "https" && r.URL.Scheme != "https" {
				return finally("it is redirected from https to http")
			}
			return nil
		}}.Client()
}

// Wanted says more of a file than its address does.
type Wanted struct {
	Name string // what to call it; else the server or the address tells
	Sum  string // the SHA-256 it must have, in hexadecimal; empty for any
}

// Fetch fetches one file of a job, and continues where it was cut off if the server has the
// same file still. told hears of bytes.
func (j *Job) Fetch(ctx context.Context, f *File, kind household.Kind, want Wanted, with Fetcher,
	progress func(n int64)) error {
	u, err := ParseAddress(f.Source)
	if err != nil {
		return err
	}
	client := with.client()
	defer client.CloseIdleConnections()
	out, err := j.openHeld(f, true)
	if err != nil {
		return err
	}
	defer out.Close()
	if st, err := out.Stat(); err != nil {
		return err
	} else if f.Done = min(f.Done, st.Size()); f.Tag == "" {
		f.Done = 0 // it cannot be told whether it would be the same
	}
	progress(f.Done)
	f.State, f.Why = Coming, ""
	t := transfer{job: j, f: f, out: out, client: client, address: u, name: want.Name, with: with, progress: progress}
	if err := t.persist(ctx); err != nil {
		return err
	}
	if err := out.Sync(); err != nil {
		return err
	}
	sum := sha256.New()
	if err := hashOf(ctx, out, sum, 0, f.Size, nil); err != nil {
		return err
	}
	f.Sum = hex.EncodeToString(sum.Sum(nil))
	if want.Sum != "" && !strings.EqualFold(want.Sum, f.Sum) {
		f.Tag, f.Done = "", 0
		return fmt.Errorf("%w: its SHA-256 is %s", ErrSum, f.Sum)
	}
	if why := Check(out, kind, f.To); why != "" {
		return fmt.Errorf("%s: %s", path.Base(f.To), why)
	}
	f.To = Name(kind, path.Base(f.To))
	f.State, f.Why = Held, ""
	return j.Save()
}

// transfer brings one file from its server into the file that holds it.
type transfer struct {
	job      *Job
	f        *File
	out      *os.File
	client   *http.Client
	address  *url.URL
	name     string
	with     Fetcher
	progress func(n int64)
}

// persist asks again until all is there, or trying again is no use.
func (t *transfer) persist(ctx context.Context) error {
	f, pause := t.f, cmp.Or(t.with.Pause, time.Second)
	for try := 1; ; try++ {
		before := f.Done
		wait, err := t.request(ctx)
		if err == nil {
			return nil
		}
		if ctx.Err() != nil {
			f.State = Waiting
			return errors.Join(ctx.Err(), t.job.Save())
		}
		if f.Done > before {
			try, pause = 1, cmp.Or(t.with.Pause, time.Second)
		}
		if errors.As(err, new(final)) || errors.Is(err, ErrPrivate) || errors.Is(err, ErrTooLarge) ||
			errors.Is(err, unix.ENOSPC) || try >= cmp.Or(t.with.Tries, 6) {
			return err
		}
		f.Why = err.Error()
		if err := t.job.Save(); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
		case <-time.After(max(wait, pause)):
		}
		pause = min(2*pause, time.Minute)
	}
}

// request asks once for what is missing. wait is how long the server asks to be left alone.
func (t *transfer) request(ctx context.Context) (wait time.Duration, err error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r, err := http.NewRequestWithContext(ctx, "GET", t.address.String(), nil)
	if err != nil {
		return 0, err
	}
	f := t.f
	r.Header.Set("User-Agent", "CozyShelf/"+cmp.Or(t.with.Version, "0"))
	r.Header.Set("Accept", "*/*")
	if f.Done > 0 {
		r.Header.Set("Range", fmt.Sprintf("bytes=%d-", f.Done))
		r.Header.Set("If-Range", f.Tag)
	}
	res, err := t.client.Do(r)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	complete, wait, err := t.answered(res)
	if err != nil || complete {
		return wait, err
	}
	if res.Uncompressed || res.Header.Get("Content-Encoding") != "" &&
		res.Header.Get("Content-Encoding") != "identity" {
		return 0, finally("the server sends it compressed, unasked")
	}
	if f.Tag = res.Header.Get("ETag"); f.Tag == "" || strings.HasPrefix(f.Tag, "W/") {
		f.Tag = res.Header.Get("Last-Modified") // a weak one says nothing of bytes
	}
	if f.To == "" || f.To == "." || f.To == "file" {
		f.To = called(cmp.Or(t.name, suggested(res)), res)
	}
	limit := t.with.Limit
	if limit == 0 {
		free, err := Free(t.job.at)
		if err != nil {
			return 0, err
		}
		limit = max(0, free-Reserve+f.Done)
	}
	if f.Size > limit {
		return 0, fmt.Errorf("%w: it has %d bytes, and %d may come", ErrTooLarge, f.Size, limit)
	}
	if err := t.job.Save(); err != nil {
		return 0, err
	}
	return 0, t.receive(ctx, cancel, res.Body, limit)
}

// answered reads the head of an answer: what follows it, if anything does. complete says that
// nothing was missing.
func (t *transfer) answered(res *http.Response) (complete bool, wait time.Duration, err error) {
	f := t.f
	switch res.StatusCode {
	case http.StatusOK:
		if err := t.anew(); err != nil {
			return false, 0, err
		}
		f.Size = res.ContentLength
	case http.StatusPartialContent:
		var from, to, all int64
		if _, err := fmt.Sscanf(res.Header.Get("Content-Range"), "bytes %d-%d/%d", &from, &to, &all); err != nil ||
			from != f.Done || all <= to {
			return false, 0, errors.Join(fmt.Errorf("the server sent another part than was asked for: %q",
				res.Header.Get("Content-Range")), t.anew())
		}
		f.Size = all
	case http.StatusRequestedRangeNotSatisfiable:
		if all := strings.TrimPrefix(res.Header.Get("Content-Range"), "bytes */"); f.Done > 0 &&
			all == strconv.FormatInt(f.Done, 10) {
			f.Size = f.Done
			return true, 0, nil
		}
		return false, 0, errors.Join(errors.New("the server has another file now"), t.anew())
	case http.StatusTooManyRequests, http.StatusInternalServerError, http.StatusBadGateway,
		http.StatusServiceUnavailable, http.StatusGatewayTimeout, http.StatusRequestTimeout:
		if s, err := strconv.Atoi(res.Header.Get("Retry-After")); err == nil && s > 0 {
			wait = min(time.Duration(s)*time.Second, 10*time.Minute)
		}
		return false, wait, fmt.Errorf("the server says %s", res.Status)
	default:
		return false, 0, finally("the server says %s", res.Status)
	}
	return false, 0, nil
}

// anew begins from the first byte again: what is there counts no longer.
func (t *transfer) anew() error {
	if t.f.Done > 0 {
		t.progress(-t.f.Done)
	}
	t.f.Done = 0
	return t.out.Truncate(0)
}

// receive writes down what comes, until it ends or nothing comes any more.
func (t *transfer) receive(ctx context.Context, cancel context.CancelCauseFunc, body io.Reader, limit int64) error {
	f := t.f
	stall := cmp.Or(t.with.Stall, time.Minute)
	timer := time.AfterFunc(stall, func() { cancel(fmt.Errorf("nothing came for %s", stall)) })
	defer timer.Stop()
	b := make([]byte, 256<<10)
	saved := time.Now()
	for {
		n, rerr := body.Read(b)
		if n > 0 {
			timer.Reset(stall)
			if f.Done+int64(n) > limit {
				return fmt.Errorf("%w: more than %d bytes came", ErrTooLarge, limit)
			}
			if _, err := t.out.WriteAt(b[:n], f.Done); err != nil {
				return err
			}
			f.Done += int64(n)
			t.progress(int64(n))
			if time.Since(saved) > 2*time.Second {
				// What is said to be there must be.
				if err := t.out.Sync(); err != nil {
					return err
				}
				if err := t.job.Save(); err != nil {
					return err
				}
				saved = time.Now()
			}
		}
		switch {
		case errors.Is(rerr, io.EOF) && (f.Size < 0 || f.Done == f.Size):
			f.Size = f.Done
			return nil
		case errors.Is(rerr, io.EOF):
			return fmt.Errorf("it ended after %d of %d bytes", f.Done, f.Size)
		case rerr != nil:
			return cmp.Or(context.Cause(ctx), rerr)
		}
	}
}

// suggested is the name that a server gives a file (RFC 6266), or that of its address.
func suggested(res *http.Response) string {
	if _, params, err := mime.ParseMediaType(res.Header.Get("Content-Disposition")); err == nil &&
		params["filename"] != "" {
		return params["filename"]
	}
	return path.Base(res.Request.URL.Path)
}

// called makes a name safe, and gives it the extension of its type where it has none that
// is known.
func called(name string, res *http.Response) string {
	name = Safe(name)
	if kind, _, err := mime.ParseMediaType(res.Header.Get("Content-Type")); err == nil && path.Ext(name) == "" {
		name += map[string]string{"video/mp4": ".mp4", "video/x-matroska": ".mkv", "video/matroska": ".mkv",
			"video/webm": ".webm", "audio/mpeg": ".mp3", "audio/flac": ".flac", "audio/ogg": ".ogg",
			"image/jpeg": ".jpg", "image/png": ".png"}[kind]
	}
	return name
}
