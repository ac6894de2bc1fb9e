package live

import (
	"bytes"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/core/reach"
	"cozyshelf/internal/secret"
)

const (
	visitTime    = 5 * time.Minute
	visitsAtOnce = 4        // requests of a visit
	mostVisit    = 16 << 20 // bytes that a visit brings
)

// Visits are those of the tool: the server answers them only while one is announced, to whoever knows its token.
// The zero value is ready.
type Visits struct {
	mu    sync.Mutex
	token string
	until time.Time
	seen  *reach.Arrival
	busy  int
}

// Announce begins a visit, and gives its token. One that was announced before is over.
func (x *Visits) Announce(now time.Time) string {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.token, x.until, x.seen = secret.Token(), now.Add(visitTime), nil
	return x.token
}

// Seen gives how a visit came to the server; nil where it did not.
func (x *Visits) Seen(token string) *reach.Arrival {
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.is(token) {
		return nil
	}
	return x.seen
}

// is reports whether a token is that of the visit.
func (x *Visits) is(token string) bool {
	return x.token != "" && time.Now().Before(x.until) && subtle.ConstantTimeCompare([]byte(token), []byte(x.token)) == 1
}

// Note notes how a visit comes, also where it is refused.
func (x *Visits) Note(r *http.Request, v *Visitor, via netip.Addr) {
	rest, ok := strings.CutPrefix(r.URL.Path, reach.VisitPath)
	if !ok {
		return
	}
	token, _, _ := strings.Cut(rest, "/")
	x.mu.Lock()
	defer x.mu.Unlock()
	if !x.is(token) || x.seen != nil {
		return
	}
	hops := 0
	for _, list := range r.Header.Values("X-Forwarded-For") {
		hops += len(strings.Split(list, ","))
	}
	x.seen = &reach.Arrival{Via: via.String(), Client: v.Address.String(), Secure: v.Secure, Host: r.Host, Forwarded: hops}
}

// Routes adds what answers a visit.
func (x *Visits) Routes(m *http.ServeMux) {
	m.HandleFunc("GET "+reach.VisitPath+"{token}", x.answer(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusOK)
	}))
	m.HandleFunc("GET "+reach.VisitPath+"{token}/data", x.answer(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "video/mp4") // as a film is
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(reach.VisitData(r.PathValue("token"))))
	}))
	m.HandleFunc("PUT "+reach.VisitPath+"{token}/data", x.answer(takeVisit))
	m.HandleFunc("GET "+reach.VisitPath+"{token}/events", x.answer(tellVisit))
	m.HandleFunc("GET "+reach.VisitPath+"{token}/patient", x.answer(func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-time.After(reach.VisitPatience):
			w.WriteHeader(http.StatusOK)
		}
	}))
}

// answer lets only the visit pass that is announced.
func (x *Visits) answer(do http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		x.mu.Lock()
		ok := x.is(r.PathValue("token")) && x.busy < visitsAtOnce
		if ok {
			x.busy++
		}
		x.mu.Unlock()
		if !ok {
			Fail(w, Nothing(r))
			return
		}
		defer func() {
			x.mu.Lock()
			defer x.mu.Unlock()
			x.busy--
		}()
		do(w, r)
	}
}

// visitBrought tells a visit what came of what it brought.
type visitBrought struct {
	Bytes int64  `json:"bytes"`
	Sum   string `json:"sha256"`
}

func takeVisit(w http.ResponseWriter, r *http.Request) {
	sum := sha256.New()
	n, err := io.Copy(sum, http.MaxBytesReader(w, r.Body, mostVisit))
	if err != nil {
		Fail(w, UsageProblem("the body did not come whole", err.Error(), "send at most 16 MiB"))
		return
	}
	w.Header().Set("Content-Type", "application/json")
	// The client has gone, if this fails.
	_ = json.NewEncoder(w).Encode(visitBrought{n, hex.EncodeToString(sum.Sum(nil))})
}

func tellVisit(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	c := http.NewResponseController(w)
	for n := range reach.VisitEvents {
		if n > 0 {
			select {
			case <-r.Context().Done():
				return
			case <-time.After(reach.VisitPause):
			}
		}
		// Whoever has gone is seen by the context.
		_, _ = fmt.Fprintf(w, "event: tick\ndata: %d\n\n", n)
		_ = c.Flush()
	}
}
