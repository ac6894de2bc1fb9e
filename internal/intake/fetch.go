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

// Fetch fetches one file of a job, going on where it was cut off if the server has the
// same file still. want is the SHA-256 it must have, in hexadecimal, or empty. name, if
// not empty, is what to call it; else the server or the address tells. told hears of
// bytes.
func (j *Job) Fetch(ctx context.Context, f *File, kind household.Kind, name, want string, with Fetcher,
	told func(n int64)) error {
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
	told(f.Done)
	f.State, f.Why = Coming, ""
	pause := cmp.Or(with.Pause, time.Second)
	for try := 1; ; try++ {
		before := f.Done
		wait, err := j.part(ctx, client, u, out, f, name, with, told)
		if err == nil {
			break
		}
		if ctx.Err() != nil {
			f.State = Waiting
			return errors.Join(ctx.Err(), j.Save())
		}
		if f.Done > before {
			try, pause = 1, cmp.Or(with.Pause, time.Second)
		}
		if errors.As(err, new(final)) || errors.Is(err, ErrPrivate) || errors.Is(err, ErrTooLarge) ||
			errors.Is(err, unix.ENOSPC) || try >= cmp.Or(with.Tries, 6) {
			return err
		}
		f.Why = err.Error()
		if err := j.Save(); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
		case <-time.After(max(wait, pause)):
		}
		pause = min(2*pause, time.Minute)
	}
	if err := out.Sync(); err != nil {
		return err
	}
	sum := sha256.New()
	if err := hashOf(ctx, out, sum, 0, f.Size, nil); err != nil {
		return err
	}
	f.Sum = hex.EncodeToString(sum.Sum(nil))
	if want != "" && !strings.EqualFold(want, f.Sum) {
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

// part asks for what is missing of a file. wait is how long the server asks to be left
// alone.
func (j *Job) part(ctx context.Context, client *http.Client, u *url.URL, out *os.File, f *File, name string,
	with Fetcher, told func(n int64)) (wait time.Duration, err error) {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r, err := http.NewRequestWithContext(ctx, "GET", u.String(), nil)
	if err != nil {
		return 0, err
	}
	r.Header.Set("User-Agent", "CozyShelf/"+cmp.Or(with.Version, "0"))
	r.Header.Set("Accept", "*/*")
	if f.Done > 0 {
		r.Header.Set("Range", fmt.Sprintf("bytes=%d-", f.Done))
		r.Header.Set("If-Range", f.Tag)
	}
	res, err := client.Do(r)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	again := func(from int64) error { // what is there counts no longer
		if f.Done > from {
			told(from - f.Done)
		}
		f.Done = from
		return out.Truncate(from)
	}
	switch res.StatusCode {
	case http.StatusOK:
		if err := again(0); err != nil {
			return 0, err
		}
		f.Size = res.ContentLength
	case http.StatusPartialContent:
		var from, to, all int64
		if _, err := fmt.Sscanf(res.Header.Get("Content-Range"), "bytes %d-%d/%d", &from, &to, &all); err != nil ||
			from != f.Done || all <= to {
			return 0, errors.Join(fmt.Errorf("the server sent another part than was asked for: %q",
				res.Header.Get("Content-Range")), again(0))
		}
		f.Size = all
	case http.StatusRequestedRangeNotSatisfiable:
		if all := strings.TrimPrefix(res.Header.Get("Content-Range"), "bytes */"); f.Done > 0 &&
			all == strconv.FormatInt(f.Done, 10) {
			f.Size = f.Done // it was whole already
			return 0, nil
		}
		return 0, errors.Join(errors.New("the server has another file now"), again(0))
	case http.StatusTooManyRequests, http.StatusInternalServerError, http.StatusBadGateway,
		http.StatusServiceUnavailable, http.StatusGatewayTimeout, http.StatusRequestTimeout:
		if s, err := strconv.Atoi(res.Header.Get("Retry-After")); err == nil && s > 0 {
			wait = min(time.Duration(s)*time.Second, 10*time.Minute)
		}
		return wait, fmt.Errorf("the server says %s", res.Status)
	default:
		return 0, finally("the server says %s", res.Status)
	}
	if res.Uncompressed || res.Header.Get("Content-Encoding") != "" &&
		res.Header.Get("Content-Encoding") != "identity" {
		return 0, finally("the server sends it compressed, unasked")
	}
	if f.Tag = res.Header.Get("ETag"); f.Tag == "" || strings.HasPrefix(f.Tag, "W/") {
		f.Tag = res.Header.Get("Last-Modified") // a weak one says nothing of bytes
	}
	if f.To == "" || f.To == "." || f.To == "file" {
		f.To = called(cmp.Or(name, suggested(res)), res)
	}
	limit := with.Limit
	if limit == 0 {
		free, err := Free(j.at)
		if err != nil {
			return 0, err
		}
		limit = max(0, free-Reserve+f.Done)
	}
	if f.Size > limit {
		return 0, fmt.Errorf("%w: it has %d bytes, and %d may come", ErrTooLarge, f.Size, limit)
	}
	if err := j.Save(); err != nil {
		return 0, err
	}
	stall := cmp.Or(with.Stall, time.Minute)
	timer := time.AfterFunc(stall, func() { cancel(fmt.Errorf("nothing came for %s", stall)) })
	defer timer.Stop()
	b := make([]byte, 256<<10)
	saved := time.Now()
	for {
		n, rerr := res.Body.Read(b)
		if n > 0 {
			timer.Reset(stall)
			if f.Done+int64(n) > limit {
				return 0, fmt.Errorf("%w: more than %d bytes came", ErrTooLarge, limit)
			}
			if _, err := out.WriteAt(b[:n], f.Done); err != nil {
				return 0, err
			}
			f.Done += int64(n)
			told(int64(n))
			if time.Since(saved) > 2*time.Second {
				// What is said to be there must be.
				if err := out.Sync(); err != nil {
					return 0, err
				}
				if err := j.Save(); err != nil {
					return 0, err
				}
				saved = time.Now()
			}
		}
		switch {
		case errors.Is(rerr, io.EOF) && (f.Size < 0 || f.Done == f.Size):
			f.Size = f.Done
			return 0, nil
		case errors.Is(rerr, io.EOF):
			return 0, fmt.Errorf("it ended after %d of %d bytes", f.Done, f.Size)
		case rerr != nil:
			if cause := context.Cause(ctx); cause != nil {
				rerr = cause
			}
			return 0, rerr
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
