// Package lookup asks open catalogues about titles over their public HTTP interfaces:
// Wikidata, with pictures from Commons, about films and series; MusicBrainz, with its cover
// archive, about music. It is polite: one request at a time and a pause after each, answers
// are kept and used again, and who asks is said. Nothing is asked unless the household
// file allows it.
package lookup

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/outside"
)

// Source is a catalogue.
type Source interface {
	// Name is the first word of its ids.
	Name() string
	// Knows reports whether it knows titles of a kind.
	Knows(household.Kind) bool
	// Candidates finds entries that a title may be, unscored.
	Candidates(ctx context.Context, w describe.Wanted, languages []string) ([]describe.Candidate, error)
	// Describe describes an entry. The picture is an address.
	Describe(ctx context.Context, id string, languages []string) (describe.Description, error)
}

// Errors that tell what a catalogue said.
var (
	ErrNotFound = errors.New("the catalogue has no such entry")
	ErrBusy     = errors.New("the catalogue asks to be left alone for now")
)

// Asker asks one catalogue's servers.
type Asker struct {
	Agent string        // who asks, as User-Agent
	Pause time.Duration // between two requests; 0 for a second
	Cache string        // a folder for answers; empty for none
	Keep  time.Duration // for how long an answer is used again; 0 for 30 days
	Tries int           // 0 for 4
	Most  int64         // bytes of an answer; 0 for 4 MiB

	// Near are addresses that the administrator has named; their hosts may be private ones.
	Near []string

	turns turns
	once  sync.Once
	http  *http.Client
}

// client follows few redirections, waits for nobody for ever, and goes to no private address
// that was not named.
func (a *Asker) client() *http.Client {
	a.once.Do(func() { a.http = outside.Guard{Near: a.Near, Timeout: 30 * time.Second}.Client() })
	return a.http
}

// get asks for an address, one at a time and not too often. Answers in the cache are used.
func (a *Asker) get(ctx context.Context, address, accept string) ([]byte, error) {
	sum := sha256.Sum256([]byte(address))
	kept := ""
	if a.Cache != "" {
		kept = filepath.Join(a.Cache, hex.EncodeToString(sum[:12]))
		if st, err := os.Stat(kept); err == nil && time.Since(st.ModTime()).Abs() < cmp.Or(a.Keep, 30*24*time.Hour) {
			if b, err := os.ReadFile(kept); err == nil {
				return b, nil
			}
		}
	}
	pause, tries := cmp.Or(a.Pause, time.Second), cmp.Or(a.Tries, 4)
	if ctx.Value(hurried{}) != nil {
		tries = min(tries, 2)
	}
	var last error
	for wait := pause; tries > 0; tries-- {
		if err := a.turns.take(ctx); err != nil {
			return nil, err
		}
		b, after, err := a.one(ctx, address, accept)
		if err == nil {
			a.turns.free(pause)
			if kept != "" {
				if err := os.MkdirAll(a.Cache, 0o700); err == nil {
					_ = atomicfile.Replace(kept, b, 0o600, nil) // without it, it is asked again
				}
			}
			return b, nil
		}
		if last = err; ctx.Err() != nil || errors.Is(err, ErrNotFound) || errors.As(err, new(final)) {
			a.turns.free(pause)
			return nil, err
		}
		// Whoever else wants something of it waits, too, though not for what may be a
		// mistake of years.
		wait = max(wait, min(after, 24*time.Hour))
		a.turns.free(wait)
		wait = min(2*wait, time.Minute)
	}
	return nil, last
}

// final is an error that trying again does not mend.
type final struct{ error }

func (f final) Unwrap() error { return f.error }

func (a *Asker) one(ctx context.Context, address, accept string) (b []byte, after time.Duration, err error) {
	r, err := http.NewRequestWithContext(ctx, "GET", address, nil)
	if err != nil {
		return nil, 0, final{err}
	}
	r.Header.Set("User-Agent", a.Agent)
	r.Header.Set("Accept", accept)
	res, err := a.client().Do(r)
	if err != nil {
		return nil, 0, err
	}
	defer res.Body.Close()
	most := cmp.Or(a.Most, 4<<20)
	b, err = io.ReadAll(io.LimitReader(res.Body, most+1))
	switch {
	case res.StatusCode == http.StatusNotFound:
		return nil, 0, ErrNotFound
	case res.StatusCode == http.StatusTooManyRequests || res.StatusCode >= 500:
		if s, perr := strconv.Atoi(res.Header.Get("Retry-After")); perr == nil {
			after = time.Duration(s) * time.Second
		}
		return nil, after, fmt.Errorf("%w: %s", ErrBusy, res.Status)
	case res.StatusCode != http.StatusOK:
		return nil, 0, final{fmt.Errorf("%s answers %s", r.URL.Host, res.Status)}
	case err != nil:
		return nil, 0, err
	case int64(len(b)) > most:
		return nil, 0, final{fmt.Errorf("%s sends more than %d bytes", r.URL.Host, most)}
	}
	return b, 0, nil
}

// ask asks for a JSON document.
func (a *Asker) ask(ctx context.Context, base string, query url.Values, out any) error {
	b, err := a.get(ctx, base+"?"+query.Encode(), "application/json")
	if err != nil {
		return err
	}
	if err := json.Unmarshal(b, out); err != nil {
		return fmt.Errorf("the answer of %s cannot be read: %w", base, err)
	}
	return nil
}

// Picture fetches a picture.
func (a *Asker) Picture(ctx context.Context, address string) ([]byte, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is no address of a picture", address)
	}
	return a.get(ctx, address, "image/*")
}

// cut keeps a text within what is shown.
func cut(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return strings.TrimSpace(string(r[:most-1])) + "…"
	}
	return s
}
