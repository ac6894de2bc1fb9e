package live

import (
	"context"

	"cozyshelf/internal/scan"
)

// ScanSoon has a shelf looked through; false where that is going on, or as much waits as may.
func (s *Server) ScanSoon(name string) bool {
	busy := false
	s.shelf(name, func(st *shelfState) { busy = st.scanning })
	if busy {
		return false
	}
	select {
	case s.wanted <- name:
		return true
	default:
		return false
	}
}

// ScanWanted looks through shelves that members asked for.
func (s *Server) ScanWanted(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case name := <-s.wanted:
			if _, err := s.Scan(ctx, name, scan.Options{}); err != nil && ctx.Err() == nil {
				s.Log.Error("a shelf could not be looked through", "shelf", name, "why", err)
			}
		}
	}
}
