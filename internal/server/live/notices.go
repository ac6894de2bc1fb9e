package live

import (
	"context"
	"errors"
	"net/netip"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/core/routine"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/notify"
	"cozyshelf/internal/store"

	"golang.org/x/sys/unix"
)

// notices is what the household wants to be told of.
type notices struct {
	keeper atomic.Pointer[notify.Keeper] // nil where nobody is told anything
	events *event.Queue                  // what happens, from the beginning on

	asking   sync.Map  // folders whose disk has not answered yet
	foretold time.Time // when it was looked last when disks will be full; for the job that watches

	mu      sync.Mutex
	tried   map[string]time.Time   // when false tries were told of last, by name and address
	ended   map[int64]time.Time    // when a member's end of time was told of last
	refused map[[2]int64]time.Time // when it was told last that a member could not be sent a file
}

// queuedEvents is how many events may wait to become notices: a rush of them fits.
const queuedEvents = 16384

// followNotices has what happens wait until the store is open, where somebody is told.
func (s *Server) followNotices() {
	if len(s.Settings.Notices) > 0 {
		s.notices.events = s.Events.Follow(queuedEvents)
	}
}

// OpenNotices makes what tells receivers; false where there are none, now and before.
func (s *Server) OpenNotices() bool {
	if len(s.Settings.Notices) == 0 {
		// What waits for receivers that are no longer in the household file goes.
		if err := s.Store.SetReceivers(s.Life, nil); err != nil {
			s.Log.Warn("former receivers of notices could not be removed", "why", err)
		}
		return false
	}
	source := s.Settings.RemoteAddress
	if source == "" {
		source = "urn:cozyshelf:" + url.PathEscape(s.Settings.Household)
	}
	s.notices.keeper.Store(notify.New(notify.Options{House: s.Settings.Name, ID: s.Settings.Household, Source: source,
		Zone: s.Zone, Receivers: s.Settings.Notices, Secrets: filepath.Join(s.Settings.State, layout.Secrets),
		Store: s.Store, Log: s.Log, Tell: s.Events.Tell, Figures: s.brokerFigures}))
	return true
}

// Notices tells receivers what happens.
func (s *Server) Notices(ctx context.Context) { s.notices.keeper.Load().Run(ctx, s.notices.events) }

// Keeper is what tells receivers; nil where there are none.
func (s *Server) Keeper() *notify.Keeper { return s.notices.keeper.Load() }

// brokerFigures tells how the house is.
func (s *Server) brokerFigures(ctx context.Context) (f notify.Figures, err error) {
	plays, err := s.Store.Plays(ctx, usage.Filter{Open: true})
	if err != nil {
		return f, err
	}
	var watching []string
	for _, p := range plays {
		f.Streams++
		if p.Away {
			f.Away++
		}
		watching = append(watching, strings.Join(p.Viewers(), ", ")+": "+whole(p))
	}
	f.Watching = strings.Join(watching, "; ")
	members, err := s.Store.Members(ctx)
	if err != nil {
		return f, err
	}
	shelves, err := s.ShelfList(ctx)
	if err != nil {
		return f, err
	}
	for _, sh := range shelves {
		f.Titles += sh.Titles
	}
	f.Members = len(members)
	f.Free, err = FreeBytes(s.Settings.State)
	return f, err
}

// tellAgain is how long nothing more is told of the same false tries, or of the same end of a member's time.
const tellAgain = 15 * time.Minute

// Bounds of what is remembered of that: beyond them nothing more is told for a while. Strangers with many addresses
// are not to fill anybody's mailbox.
const (
	mostRemembered = 1000
	mostTried      = 20
)

// againDue reports whether something may be told of again, and notes that it is.
func againDue[K comparable](m *map[K]time.Time, key K, most int, now time.Time) bool {
	if *m == nil {
		*m = map[K]time.Time{}
	}
	if at, ok := (*m)[key]; ok && now.Sub(at) < tellAgain && !at.After(now) {
		return false
	}
	if len(*m) >= most {
		for k, at := range *m {
			if now.Sub(at) >= tellAgain {
				delete(*m, k)
			}
		}
		if len(*m) >= most {
			return false
		}
	}
	(*m)[key] = now
	return true
}

// falseTries tells that somebody has to wait after too many tries to sign in.
func (s *Server) falseTries(member string, from netip.Addr, now time.Time) {
	s.notices.mu.Lock()
	tell := againDue(&s.notices.tried, member+" "+allowance.Network(from).String(), mostTried, now)
	s.notices.mu.Unlock()
	if tell {
		s.Events.Tell(event.FalseTries{Member: member, Address: from.String()})
	}
}

// timeUp tells that a member may watch no longer.
func (s *Server) timeUp(m store.Member, v allowance.Verdict) {
	s.notices.mu.Lock()
	tell := againDue(&s.notices.ended, m.ID, mostRemembered, time.Now())
	s.notices.mu.Unlock()
	var why *StatusError
	if tell && errors.As(s.notNow(m, v), &why) {
		s.Events.Tell(event.TimeUp{Member: m.Name, Why: why.Problem.What})
	}
}

// Refused tells that a member could not be sent a film.
func (s *Server) Refused(m store.Member, f store.File, err error) {
	s.notices.mu.Lock()
	tell := againDue(&s.notices.refused, [2]int64{m.ID, f.ID}, mostRemembered, time.Now())
	s.notices.mu.Unlock()
	var why *StatusError
	if tell && errors.As(err, &why) {
		s.Events.Tell(event.ConversionRefused{Member: m.Name, Title: path.Base(f.Path), Why: why.Problem.Why})
	}
}

// namedArrived is how many titles are named that arrived.
const namedArrived = 5

// titlesArrived tells of titles that a scan found.
func (s *Server) titlesArrived(ctx context.Context, shelf string, since time.Time) {
	if s.notices.events == nil {
		return
	}
	names, count, err := s.Store.Arrived(ctx, shelf, since, namedArrived)
	if err != nil {
		s.Log.Warn("what arrived could not be looked up", "shelf", shelf, "why", err)
		return
	}
	if count > 0 {
		s.Events.Tell(event.TitlesArrived{Shelf: shelf, Titles: names, Count: count})
	}
}

// watchPause is how often it is looked at what runs out by and by.
const watchPause = 10 * time.Minute

// WatchHouse looks at what runs out by and by, and tells of it once: disks, the certificate, the server's own backup.
func (s *Server) WatchHouse(ctx context.Context) {
	if before, err := s.Store.Remembered(ctx, "version"); err == nil && before != s.Version {
		with, tell := ctx, func() {}
		if before != "" {
			with, tell = s.Telling(ctx, event.Updated{From: before, To: s.Version})
		}
		if _, err := s.Store.Remember(with, "version", s.Version); err == nil {
			tell()
		}
	}
	for {
		s.watchDisks(ctx)
		s.watchCertificate(ctx)
		s.watchBackup(ctx)
		select {
		case <-ctx.Done():
			return
		case <-time.After(watchPause):
		}
	}
}

// once tells an event where something is so that was not before, over restarts, too.
func (s *Server) once(ctx context.Context, name string, is bool, e event.Event) {
	text := ""
	if is {
		text = "so"
	}
	with, tell := ctx, func() {}
	if is {
		with, tell = s.Telling(ctx, e)
	}
	if before, err := s.Store.Remember(with, name, text); err == nil && before == "" {
		tell()
	}
}

// aFolder is one of those that the server works with.
type aFolder struct {
	folder, shown string
	shelf         string // empty for the state folder
	least         int64  // bytes that should be free, whatever the size of its disk
}

// folders are the state folder and those of the shelves.
func (s *Server) folders() []aFolder {
	list := []aFolder{{s.Settings.State, "the state folder", "", leastState}}
	for _, sh := range s.Settings.Shelves {
		for i, f := range sh.Folders {
			list = append(list, aFolder{f, sh.Shown[i], sh.Name, 0})
		}
	}
	return list
}

// leastState is how many bytes should be free where the state folder lies.
const leastState = 1 << 30

// disks are those of the shelves and of the state folder, each once, as far as they answer.
func (s *Server) disks() (out []usage.Disk) {
	at := map[unix.Fsid]int{}
	for _, d := range s.folders() {
		st, ok := s.notices.measure(d.folder)
		if !ok || st.Blocks == 0 {
			continue
		}
		i, known := at[st.Fsid]
		if !known {
			i = len(out)
			at[st.Fsid] = i
			out = append(out, usage.Disk{Name: d.shown, Free: int64(st.Bavail) * int64(st.Bsize),
				Total: int64(st.Blocks) * int64(st.Bsize), Shelves: []string{}})
		}
		if d.shelf != "" && !slices.Contains(out[i].Shelves, d.shelf) {
			out[i].Shelves = append(out[i].Shelves, d.shelf)
		}
	}
	return out
}

// watchDisks looks at the disks of the shelves and of the state folder, which comes first.
func (s *Server) watchDisks(ctx context.Context) {
	disks := s.disks()
	for i, d := range disks {
		least := int64(0)
		if i == 0 {
			least = leastState
		}
		s.once(ctx, "disk-low "+d.Name, d.Free < d.Total/20 || d.Free < least,
			event.DiskLow{Folder: d.Name, Free: d.Free, Size: d.Total})
	}
	if now := time.Now(); now.Sub(s.notices.foretold) >= foretellEvery || now.Before(s.notices.foretold) {
		s.notices.foretold = now
		s.foretell(ctx, disks, now)
	}
}

// foretellEvery is how often it is looked when disks will be full: it reads of all files.
const foretellEvery = 24 * time.Hour

// foretell tells of disks that will be full before long.
func (s *Server) foretell(ctx context.Context, disks []usage.Disk, now time.Time) {
	files, err := s.Store.ArrivedByHour(ctx)
	if err != nil {
		if ctx.Err() == nil {
			s.Log.Warn("what arrived could not be summed up", "why", err)
		}
		return
	}
	for _, d := range disks {
		f := usage.Foretell(d, files, now)
		s.once(ctx, "disk-fills "+d.Name, f.Soon(now), event.DiskFills{Folder: d.Name,
			Full: f.Full.In(s.Zone).Format(time.DateOnly), Daily: int64(f.Daily)})
	}
}

// alwaysFull are file systems that are made once and never written to, such as that of a disc.
var alwaysFull = map[uint32]bool{unix.ISOFS_SUPER_MAGIC: true, unix.UDF_SUPER_MAGIC: true, unix.SQUASHFS_MAGIC: true,
	unix.EROFS_SUPER_MAGIC_V1: true, unix.CRAMFS_MAGIC: true}

// measuredWithin is how long a disk may take to say how full it is.
const measuredWithin = 5 * time.Second

// measure asks a disk how full it is. One that does not answer is not asked again until it has.
func (n *notices) measure(folder string) (st unix.Statfs_t, ok bool) {
	if _, asking := n.asking.LoadOrStore(folder, true); asking {
		return st, false
	}
	answered := make(chan *unix.Statfs_t, 1)
	go func() {
		defer n.asking.Delete(folder)
		var st unix.Statfs_t
		if unix.Statfs(folder, &st) == nil && !alwaysFull[uint32(st.Type)] {
			answered <- &st
		}
		close(answered)
	}()
	select {
	case got := <-answered:
		if got == nil {
			return st, false
		}
		return *got, true
	case <-time.After(measuredWithin):
		return st, false
	}
}

// certificateSoon is how long before its end a certificate is told of.
const certificateSoon = 14 * 24 * time.Hour

// watchCertificate looks when the certificate of HTTPS ends.
func (s *Server) watchCertificate(ctx context.Context) {
	if s.Certificate == nil {
		return
	}
	now := time.Now()
	r := s.Certificate.Report(now)
	if r.Ends.IsZero() {
		return // none has come yet, which status tells
	}
	s.once(ctx, "certificate-ends", r.Ends.Sub(now) < certificateSoon, event.CertificateEnds{
		Names: strings.Join(r.Names, ", "), Ends: r.Ends.In(s.Zone).Format(time.DateOnly), Why: r.Problem})
}

// overdueAfter is how much later than it should be a backup may come.
const overdueAfter = 24 * time.Hour

// watchBackup looks whether the server's own backup is overdue.
func (s *Server) watchBackup(ctx context.Context) {
	b := s.Settings.Backup
	if b == nil {
		return
	}
	last, _, err := s.lastBackup()
	if err != nil {
		return // the backup that fails is told of
	}
	now, shown := time.Now(), ""
	since := last
	if last.IsZero() {
		since = s.Started // none was ever made: as long as this server runs
	} else {
		shown = last.In(s.Zone).Format("2006-01-02 15:04")
	}
	next := routine.Next(since, now, b.Every, b.At, s.Zone)
	s.once(ctx, "backup-overdue", now.Sub(next) > overdueAfter, event.BackupOverdue{Folder: b.Shown, Last: shown})
}
