// Package live holds the state of a running server, whoever asks it: the store, the shelves
// and what is known of them, the streams that are running, the front door, and the work beside
// answering. The rooms that answer (api, web, admin) build on it; package server puts them
// together.
package live

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"cozyshelf/internal/certificate"
	"cozyshelf/internal/control"
	"cozyshelf/internal/convert"
	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/core/pairing"
	"cozyshelf/internal/core/together"
	"cozyshelf/internal/lookup"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/remote/name"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
	"cozyshelf/internal/stream"
	"cozyshelf/internal/suspect"
)

// Server is one server. Make it with Open.
type Server struct {
	Settings blueprint.Settings
	Zone     *time.Location // the household's
	Version  string
	Log      *slog.Logger
	Events   event.Stream // what happens; the log is one of those that hear of it
	Jobs     jobs         // what is done beside answering
	Store    *store.Store
	Tracker  *stream.Tracker
	Stale    bool        // streams that a crash cut off could not be ended yet
	Unnoted  atomic.Bool // streams are not noted, since the disk is full
	Trusted  []netip.Prefix
	Started  time.Time

	attempts        allowance.Attempts                // to sign in
	Converter       atomic.Pointer[convert.Converter] // nil while nothing can be converted
	films           films                             // those that are sent in pieces
	converting      converting                        // how this machine converts
	prepare         preparing                         // copies that are made beforehand
	Life            context.Context                   // of work that nobody waits for; it ends with the server
	Known           known                             // devices that members have signed in on
	Keys            *secret.Keys                      // that hashes of passwords are made with
	Certificate     *certificate.Keeper               // of HTTPS of our own; nil for none
	name            atomic.Pointer[name.Keeper]       // of the household's name; nil where nothing looks after it
	Cuts            Cuts                              // deliveries that are running
	Door            Door                              // connections to the published port
	Names           map[string]bool                   // by which it is known
	GatewaysOnce    sync.Once
	GatewayList     []netip.Addr
	Suspects        *suspect.Book // what is being opened; nil where that cannot be noted
	allotment       allotment     // of uploads
	Someone         atomic.Bool   // there is a member; once there is, it is not asked again
	stalled         atomic.Int64  // answers that are held back
	refused, failed lately        // what strangers try, in the log
	guessed         lately        // tokens that are none
	HeldBack        time.Duration // how long an answer to whoever tries too much is held back
	warned          atomic.Int64  // addresses that forward without being trusted
	warnedOf        sync.Map

	Sick          atomic.Pointer[control.Health] // what keeps the store from being used
	ready         atomic.Bool                    // the store is open
	backupProblem atomic.Pointer[string]         // of the last try

	touched     sync.Map // device id → place: when and where it was last noted as seen
	outside     outside  // the way in from outside the home
	feeds       feeds
	effacing    atomic.Bool // what was forgotten is to be overwritten yet
	effaced     time.Time   // when that was done last; for who holds forgetting
	forgetting  sync.Mutex
	keysTouched sync.Map // when and where keys were last noted as used, by id

	Sources    []lookup.Source
	scannedNow chan struct{} // a scan has ended
	wanted     chan string   // shelves that members want looked through
	Describing Holds         // one at a time on each title

	minutes   minutes    // that members watched
	accepting sync.Mutex // an invite
	pairings  pairing.Pairings
	seconds   seconds
	passkeys  passkeys
	notices   notices
	todays    todays
	Visits    Visits // of the tool, by the address that people use from outside
	stops     stops
	told      tellings
	rooms     together.Rooms
	granting  sync.Mutex
	granted   atomic.Pointer[map[int64]time.Time]
	Presence  presence
	mu        sync.Mutex
	Shelves   map[string]*shelfState
}

type shelfState struct {
	work      sync.Mutex // one scan at a time
	scanning  bool
	progress  control.Progress // of the scan that is running
	scanned   time.Time
	unplugged []scan.Unplugged
	mounts    map[string]string // folder inside to what was mounted there when it was last scanned
	err       string
	figures   *store.ShelfFigures // as they were counted last; nil while they were not
	counted   time.Time
	counting  bool
	counts    int // how many counts were begun, and which of them figures is of
	kept      int
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

// New makes a server. Its store is opened by Run.
func New(s blueprint.Settings, version string, log *slog.Logger) *Server {
	zone, err := time.LoadLocation(s.Timezone)
	if err != nil {
		zone = time.Local // the tool has read it
	}
	srv := &Server{
		Settings: s, Zone: zone, Version: version, Log: log, Started: time.Now(),
		Life:       context.Background(),
		Trusted:    household.Remote{TrustedProxies: s.TrustedProxies}.Networks(),
		Shelves:    map[string]*shelfState{},
		Names:      household.NamesOf(s.Names, s.RemoteAddress),
		Sources:    Sources(s.Lookup, s.State, version),
		scannedNow: make(chan struct{}, 1),
		wanted:     make(chan string, 16),
		prepare:    preparing{kick: make(chan struct{}, 1)},
	}
	for _, sh := range s.Shelves {
		srv.Shelves[sh.Name] = &shelfState{}
	}
	if from := s.Certificate; from != nil {
		o := certificate.Options{From: *from, State: s.State, Household: s.Name, Names: srv.Names, Log: log}
		for _, l := range s.Listeners {
			if _, port, err := net.SplitHostPort(l.Address); err == nil {
				n, _ := strconv.Atoi(port) // a port of ours
				if l.TLS {
					o.TLS = n
				} else {
					o.HTTP = n
				}
			}
		}
		srv.Certificate = certificate.Open(o)
	}
	srv.openOutside()
	srv.Known.file = filepath.Join(s.State, keyFile)
	srv.Jobs.log = log
	srv.Events.Hear(func(e event.Event) { logEvent(log, e) })
	srv.followNotices()
	return srv
}

// Open makes a server and opens its store. Nothing is served yet.
func Open(ctx context.Context, s blueprint.Settings, version string, log *slog.Logger) (*Server, error) {
	srv := New(s, version, log)
	return srv, srv.OpenStore(ctx)
}

// OpenStore opens the store and brings it up to date.
func (s *Server) OpenStore(ctx context.Context) error {
	st, err := store.OpenReserved(ctx, filepath.Join(s.Settings.State, layout.Store))
	if err != nil {
		return fmt.Errorf("opening the store in %s: %w", s.Settings.State, err)
	}
	// Streams that a crash cut off ended when they were last seen. On a full disk that is
	// noted later: what is there plays on.
	if err := s.closeStale(ctx, st); err != nil {
		if s.Stale = errors.Is(err, store.ErrFull); !s.Stale {
			st.Close()
			return err
		}
	}
	if err := st.SetZone(ctx, s.Zone); err != nil && !errors.Is(err, store.ErrFull) {
		st.Close()
		return err // on a full disk figures are made of the plays
	}
	s.openKeys(ctx, st)
	s.Store, s.Tracker = st, &stream.Tracker{Store: st, Log: s.Log, Telling: s.tellPlays,
		Watched: func(member int64, more time.Duration) { s.Charge(member, allowance.Meter{Watched: more}) }}
	s.ready.Store(true)
	return nil
}

// CloseStale ends the streams that a crash cut off, once there is room to note it.
func (s *Server) CloseStale(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(reopenPause):
		}
		if err := s.closeStale(ctx, s.Store); err == nil || !errors.Is(err, store.ErrFull) {
			return
		}
	}
}

// closeStale ends the streams that a crash cut off, and tells of them.
func (s *Server) closeStale(ctx context.Context, st *store.Store) error {
	closed, err := st.CloseStale(ctx, s.Started)
	if err == nil {
		_, tell := s.tellPlays(ctx, nil, closed)
		tell()
	}
	return err
}

// Open gives the store, once it is open.
func (s *Server) Open() *store.Store {
	if !s.ready.Load() {
		return nil
	}
	return s.Store
}

// Begin opens the store, trying again where that may help, and reports whether it
// came about before the context ended.
func (s *Server) Begin(ctx context.Context) bool {
	for {
		err := s.OpenStore(ctx)
		if ctx.Err() != nil {
			return false
		}
		if err == nil {
			s.Sick.Store(nil)
			return true
		}
		h := sick(s.Settings.State, err)
		if h.Status == control.FullDisk {
			h.Status, h.What = control.NoStore,
				"the store cannot be opened, since the disk with the state folder is full"
		}
		if old := s.Sick.Swap(&h); old == nil || old.Why != h.Why {
			s.Log.Error(h.What, "why", err)
		}
		if h.Status == control.DamagedStore || h.Status == control.NewerStore {
			<-ctx.Done()
			return false
		}
		select {
		case <-ctx.Done():
			return false
		case <-time.After(reopenPause):
		}
	}
}

// Sweep removes what an end in the midst of a backup has left.
func (s *Server) Sweep() {
	for _, pattern := range []string{".new-backup-*", blueprint.Backups + "/.new-*"} {
		list, _ := filepath.Glob(filepath.Join(s.Settings.State, pattern))
		for _, p := range list {
			_ = os.RemoveAll(p) // it stays until the next time
		}
	}
}

// Drop puts aside what belongs to shelves that the household no longer has.
func (s *Server) Drop(ctx context.Context) error {
	keep := map[[2]string]bool{}
	for _, sh := range s.Settings.Shelves {
		for _, f := range sh.Shown {
			keep[[2]string{sh.Name, f}] = true
		}
	}
	return s.Store.DropShelves(ctx, keep, time.Now())
}

// Scan scans one shelf, or all for an empty name. Shelves do not wait for each
// other for ever: one that does not answer is given up.
func (s *Server) Scan(ctx context.Context, name string, o scan.Options) ([]scan.Report, error) {
	out := []scan.Report{}
	for _, sh := range s.Settings.Shelves {
		if name != "" && sh.Name != name {
			continue
		}
		began := time.Now()
		r, err := s.scanShelf(ctx, sh, o)
		if err != nil {
			return out, fmt.Errorf("scanning shelf %s: %w", sh.Name, err)
		}
		s.Events.Tell(event.Scanned{Shelf: sh.Name, Files: r.Files, New: r.New, Changed: r.Changed, Gone: r.Gone,
			Unreadable: r.Unreadable, Seconds: r.Seconds})
		if r.New > 0 {
			s.titlesArrived(ctx, sh.Name, began)
		}
		out = append(out, r)
	}
	select {
	case s.scannedNow <- struct{}{}:
	default:
	}
	return out, nil
}

func (s *Server) scanShelf(ctx context.Context, sh blueprint.SettingsShelf, o scan.Options) (scan.Report, error) {
	work := &s.Shelves[sh.Name].work
	work.Lock()
	defer work.Unlock()
	s.shelf(sh.Name, func(st *shelfState) {
		st.scanning, st.progress = true, control.Progress{}
		if o.Only != nil {
			return // it does not tell what is unplugged elsewhere
		}
		st.mounts = map[string]string{}
		for _, f := range sh.Folders {
			st.mounts[f] = machine.MountsAt(f)
		}
	})
	o.Progress = func(folders, files int) {
		s.shelf(sh.Name, func(st *shelfState) { st.progress = control.Progress{Folders: folders, Files: files} })
	}
	o.Presence, o.Inside, o.Log, o.Suspects, o.Zone = s.Presence.look, s.inside, s.Log, s.Suspects, s.Zone
	r, err := scan.Shelf(ctx, s.Store, sh, o)
	if r.New+r.Changed+r.Moved+r.Gone+r.Unreadable > 0 || err != nil {
		if _, cerr := s.count(ctx, sh.Name); cerr != nil && err == nil && ctx.Err() == nil {
			err = cerr
		}
	}
	s.shelf(sh.Name, func(st *shelfState) {
		if st.scanning, st.err = false, ""; o.Only == nil {
			st.unplugged = r.Unplugged
		}
		if err != nil {
			st.err = err.Error()
		} else if o.Only == nil {
			st.scanned = time.Now()
		}
	})
	return r, err
}

// countAgain is how old the figures of a shelf may be while it is scanned.
const countAgain = 3 * time.Second

// figures gives the figures of a shelf. They are counted when a scan has found something,
// and now and then while one runs: with a million files it takes a second.
func (s *Server) figures(ctx context.Context, name string) (store.ShelfFigures, error) {
	var have *store.ShelfFigures
	again := false
	s.shelf(name, func(st *shelfState) {
		have = st.figures
		again = have != nil && st.scanning && !st.counting && time.Since(st.counted) > countAgain
		st.counting = st.counting || again
	})
	if have == nil {
		return s.count(ctx, name)
	}
	if again {
		go func() {
			if _, err := s.count(context.WithoutCancel(ctx), name); err != nil {
				s.Log.Warn("a shelf could not be counted", "shelf", name, "why", err)
			}
		}()
	}
	return *have, nil
}

// count counts what is on a shelf, and keeps it. One that was begun before another and takes longer, as
// while a scan writes, is not kept: it would stand for what is no more.
func (s *Server) count(ctx context.Context, name string) (store.ShelfFigures, error) {
	number := 0
	s.shelf(name, func(st *shelfState) {
		st.counts++
		number = st.counts
	})
	f, err := s.Store.Figures(ctx, name)
	s.keepCount(name, number, f, err)
	return f, err
}

func (s *Server) keepCount(name string, number int, f store.ShelfFigures, err error) {
	s.shelf(name, func(st *shelfState) {
		if st.counting = false; err == nil && number > st.kept {
			st.figures, st.counted, st.kept = &f, time.Now(), number
		}
	})
}

// inside says where the folder of a shelf is mounted.
func (s *Server) inside(shelf, shown string) string {
	for _, sh := range s.Settings.Shelves {
		if i := slices.Index(sh.Shown, shown); sh.Name == shelf && i >= 0 {
			return sh.Folders[i]
		}
	}
	return ""
}

func (s *Server) shelf(name string, do func(*shelfState)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	do(s.Shelves[name])
}

// UnpluggedError says that a folder of a shelf is not there now.
type UnpluggedError struct{ folder, why string }

func (e *UnpluggedError) Error() string { return e.folder + " is unplugged: " + e.why }

// Find opens a file of a shelf, never outside the shelf's folder.
func (s *Server) Find(f store.File) (*os.File, error) {
	for _, sh := range s.Settings.Shelves {
		if sh.Name != f.Shelf {
			continue
		}
		for i, shown := range sh.Shown {
			if shown != f.Root {
				continue
			}
			// A folder that does not answer keeps nobody waiting, and one that is
			// known not to is not asked.
			if why := s.Presence.Why(sh.Folders[i]); why != "" {
				return nil, &UnpluggedError{folder: sh.Shown[i], why: why}
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
