package live

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/store"

	"golang.org/x/sys/unix"
)

// How the server looks after its store.
const (
	reopenPause = 5 * time.Second // before a store that could not be opened is tried again
	checkPause  = 24 * time.Hour  // between two looks at all its pages
	roomPause   = time.Minute     // between two looks whether there is room for the reserve
	leastFree   = 8 << 20         // bytes; with less where the state lies, the disk counts as full
)

// sick says what keeps a store from being used.
func sick(state string, err error) control.Health {
	h := control.Health{Status: control.NoStore, What: "the store cannot be opened", Where: state, Why: err.Error(),
		Fix: "cozyshelf check shows whether the state folder can be used"}
	switch {
	case errors.Is(err, store.ErrDamaged):
		h.Status, h.What = control.DamagedStore, "the store is damaged"
		h.Fix = "cozyshelf restore FILE puts a backup in its place and keeps the damaged one aside; cozyshelf " +
			"backup list shows what there is. Nothing more is written to it until then"
	case errors.Is(err, store.ErrNewer):
		h.Status, h.What, h.Fix = control.NewerStore, "the store was made by a newer program",
			"deploy that program again, or restore a backup that this one knows"
	case errors.Is(err, store.ErrNoLocks):
		h.What, h.Fix = "the state folder lies where the store cannot be used",
			"put the state folder on a disk of the machine that the server runs on: a database needs locks that "+
				"work, and memory shared between processes"
	case errors.Is(err, store.ErrFull):
		h.Status, h.What, h.Fix = control.FullDisk, "the disk with the state folder is full",
			"free some space there; the server continues by itself"
		if err == error(store.ErrFull) { // nothing failed yet
			h.Why = fmt.Sprintf("less than %d MiB are free", leastFree>>20)
		}
	}
	return h
}

// Condition gives how the server is, in short.
func (s *Server) Condition(ctx context.Context) control.Health {
	if h := s.Sick.Load(); h != nil {
		return *h
	}
	st := s.Open()
	if st == nil {
		return control.Health{Status: control.Starting, What: "the server opens its store",
			Why: "it was started a moment ago", Fix: "wait"}
	}
	if err := st.Damage(); err != nil {
		return s.hurt(err)
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	if err := st.Ping(ctx); errors.Is(err, store.ErrDamaged) {
		return s.hurt(err)
	} else if err != nil {
		return sick(s.Settings.State, err)
	}
	if free, err := FreeBytes(s.Settings.State); err == nil && free < leastFree {
		return sick(s.Settings.State, store.ErrFull)
	}
	return control.Health{Status: control.Ready}
}

// hurt notes that the store is damaged: from now on nothing is written to it.
func (s *Server) hurt(err error) control.Health {
	h := sick(s.Settings.State, err)
	if s.Sick.CompareAndSwap(nil, &h) {
		s.Log.Error("the store is damaged; nothing is written to it any more", "why", err)
	}
	return h
}

func FreeBytes(path string) (int64, error) {
	var st unix.Statfs_t
	err := unix.Statfs(path, &st)
	return int64(st.Bavail) * int64(st.Bsize), err
}

// Healthz tells everybody in a word how the server is, and the administrator why.
func (s *Server) Healthz(w http.ResponseWriter, r *http.Request, why bool) {
	h := s.Condition(r.Context())
	status := http.StatusOK
	if h.Status != control.Ready {
		status = http.StatusServiceUnavailable
	}
	if !why {
		h = control.Health{Status: h.Status}
	}
	reply(w, status, h)
}

// WatchRoom makes the reserve again that a start on a full disk has used up.
func (s *Server) WatchRoom(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(roomPause):
			store.KeepReserve(s.Settings.State)
		}
	}
}

// WatchStore looks at all pages of the store, once it is open and then every day.
func (s *Server) WatchStore(ctx context.Context) {
	for {
		if err := s.Store.Check(ctx); errors.Is(err, store.ErrDamaged) {
			s.hurt(err)
			return
		} else if err != nil && ctx.Err() == nil {
			s.Log.Warn("the store could not be looked through", "why", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(checkPause):
		}
	}
}
