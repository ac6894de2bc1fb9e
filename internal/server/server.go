// Package server is the server itself: it opens the store and the shelves, and
// answers on two doors. The published port serves pages and the API under
// /api/v1 to members who have signed in. The control socket serves the
// administrator's tool, which needs no sign-in: the socket's mode is the key.
package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/store"
	"cozyshelf/internal/stream"
)

// Server is one server. Make it with Open.
type Server struct {
	settings blueprint.Settings
	version  string
	log      *slog.Logger
	store    *store.Store
	tracker  *stream.Tracker
	trusted  []netip.Prefix
	started  time.Time

	failedMember  allowance.Limiter
	failedAddress allowance.Limiter
	warnedProxy   sync.Map // addresses that forward without being trusted

	touched sync.Map // device id → when it was last noted as seen

	presence presence
	mu       sync.Mutex
	shelves  map[string]*shelfState
}

type shelfState struct {
	work     sync.Mutex // one scan at a time
	scanning bool
	scanned  time.Time
	away     []scan.Away
	mounts   map[string]string // folder inside to what was mounted there when it was last scanned
	err      string
}

// ReadSettings reads the settings file that a deployment wrote.
func ReadSettings(path string) (blueprint.Settings, error) {
	var s blueprint.Settings
	b, err := os.ReadFile(path)
	if err != nil {
		return s, err
	}
	if err := json.Unmarshal(b, &s); err != nil {
		return s, fmt.Errorf("%s: %w", path, err)
	}
	if s.Format != 1 {
		return s, fmt.Errorf("%s: settings of format %d are not known", path, s.Format)
	}
	return s, nil
}

// Open opens the store. Nothing is served yet.
func Open(ctx context.Context, s blueprint.Settings, version string, log *slog.Logger) (*Server, error) {
	st, err := store.Open(ctx, filepath.Join(s.State, "store.db"))
	if err != nil {
		return nil, fmt.Errorf("opening the store in %s: %w", s.State, err)
	}
	srv := &Server{
		settings: s, version: version, log: log, store: st, started: time.Now(),
		tracker:       &stream.Tracker{Store: st, Log: log},
		trusted:       household.Remote{TrustedProxies: s.TrustedProxies}.Networks(),
		failedMember:  allowance.Limiter{Burst: 10, Pause: time.Minute},
		failedAddress: allowance.Limiter{Burst: 20, Pause: 30 * time.Second},
		shelves:       map[string]*shelfState{},
	}
	for _, sh := range s.Shelves {
		srv.shelves[sh.Name] = &shelfState{}
	}
	// Streams that a crash cut off ended when they were last seen.
	if err := st.CloseStale(ctx); err != nil {
		st.Close()
		return nil, err
	}
	return srv, nil
}

// Run serves until the context ends, then lets requests finish for a moment.
func (s *Server) Run(ctx context.Context) error {
	defer s.store.Close()
	sock, err := control.Listen(s.settings.State)
	if err != nil {
		return fmt.Errorf("making the control socket: %w", err)
	}
	defer sock.Close()
	listen := s.settings.Listen
	if ap, err := netip.ParseAddrPort(listen); err == nil && ap.Addr().IsUnspecified() {
		listen = fmt.Sprintf(":%d", ap.Port()) // also where there is no IPv6
	}
	port, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("listening on the published port: %w", err)
	}
	defer port.Close()
	errs := slog.NewLogLogger(s.log.Handler(), slog.LevelDebug)
	public := &http.Server{Handler: s.public(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10, ErrorLog: errs}
	admin := &http.Server{Handler: s.control(), ReadHeaderTimeout: 10 * time.Second, ErrorLog: errs}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	failed := make(chan error, 2)
	serve := func(srv *http.Server, l net.Listener) {
		if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			failed <- err
			cancel()
		}
	}
	go serve(public, port)
	go serve(admin, sock)
	s.log.Info("serving", "household", s.settings.Name, "version", s.version, "address", port.Addr().String(), "shelves", len(s.settings.Shelves))
	var work sync.WaitGroup
	work.Go(func() { s.tracker.Run(ctx) })
	work.Go(func() { s.watch(ctx) })
	work.Go(func() {
		if err := s.drop(ctx); err != nil && ctx.Err() == nil {
			s.log.Error("shelves that are no longer in the household file could not be put aside", "why", err)
		}
		if _, err := s.scan(ctx, "", false); err != nil && ctx.Err() == nil {
			s.log.Error("the first scan failed", "why", err)
		}
	})
	<-ctx.Done()
	s.log.Info("ending")
	end, stop := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
	defer stop()
	// Streams that go on are cut after the moment; their devices come back.
	if err := public.Shutdown(end); err != nil {
		public.Close()
	}
	if err := admin.Shutdown(end); err != nil {
		admin.Close()
	}
	work.Wait()
	select {
	case err := <-failed:
		return err
	default:
		return nil
	}
}

// drop puts aside what belongs to shelves that the household no longer has.
func (s *Server) drop(ctx context.Context) error {
	keep := map[[2]string]bool{}
	for _, sh := range s.settings.Shelves {
		for _, f := range sh.Shown {
			keep[[2]string{sh.Name, f}] = true
		}
	}
	return s.store.DropShelves(ctx, keep, time.Now())
}

// scan scans one shelf, or all for an empty name. Shelves do not wait for each
// other for ever: one that does not answer is given up.
func (s *Server) scan(ctx context.Context, name string, emptied bool) ([]scan.Report, error) {
	out := []scan.Report{}
	for _, sh := range s.settings.Shelves {
		if name != "" && sh.Name != name {
			continue
		}
		r, err := s.scanShelf(ctx, sh, emptied)
		if err != nil {
			return out, fmt.Errorf("scanning shelf %s: %w", sh.Name, err)
		}
		s.log.Info("scanned", "shelf", sh.Name, "files", r.Files, "new", r.New, "changed", r.Changed, "gone", r.Gone, "failing", r.Failing, "seconds", r.Seconds)
		out = append(out, r)
	}
	return out, nil
}

func (s *Server) scanShelf(ctx context.Context, sh blueprint.SettingsShelf, emptied bool) (scan.Report, error) {
	work := &s.shelves[sh.Name].work
	work.Lock()
	defer work.Unlock()
	s.shelf(sh.Name, func(st *shelfState) {
		st.scanning, st.mounts = true, map[string]string{}
		for _, f := range sh.Folders {
			st.mounts[f] = machine.MountsAt(f)
		}
	})
	r, err := scan.Shelf(ctx, s.store, sh, scan.Options{Emptied: emptied, Presence: s.presence.look, Log: s.log})
	s.shelf(sh.Name, func(st *shelfState) {
		st.scanning, st.away, st.err = false, r.Away, ""
		if err != nil {
			st.err = err.Error()
		} else {
			st.scanned = time.Now()
		}
	})
	return r, err
}

func (s *Server) shelf(name string, do func(*shelfState)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	do(s.shelves[name])
}

// health says whether the server can do its work.
func (s *Server) health(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	return s.store.Ping(ctx)
}

func (s *Server) healthz(w http.ResponseWriter, r *http.Request) {
	if err := s.health(r.Context()); err != nil {
		s.log.Error("not healthy", "why", err)
		reply(w, http.StatusServiceUnavailable, map[string]string{"status": "failing"})
		return
	}
	reply(w, http.StatusOK, map[string]string{"status": "ready"})
}

// reply writes a JSON document.
func reply(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	// The client has gone, if this fails.
	_ = json.NewEncoder(w).Encode(v)
}

// awayError says that a folder of a shelf is not there now.
type awayError struct{ folder, why string }

func (e *awayError) Error() string { return e.folder + " is away: " + e.why }

// find opens a file of a shelf, never outside the shelf's folder.
func (s *Server) find(f store.File) (*os.File, error) {
	for _, sh := range s.settings.Shelves {
		if sh.Name != f.Shelf {
			continue
		}
		for i, shown := range sh.Shown {
			if shown != f.Root {
				continue
			}
			// A folder that does not answer keeps nobody waiting, and one that is
			// known not to is not asked.
			if why := s.presence.why(sh.Folders[i]); why != "" {
				return nil, &awayError{sh.Shown[i], why}
			}
			return machine.Patiently(func() (*os.File, error) {
				root, err := os.OpenRoot(sh.Folders[i])
				if err != nil {
					return nil, err
				}
				defer root.Close()
				return root.Open(strings.TrimPrefix(f.Path, "/"))
			})
		}
	}
	return nil, os.ErrNotExist
}
