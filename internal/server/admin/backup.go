package admin

import (
	"net/http"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/server/live"
)

// sendBackup sends a backup as it is made.
func (s *Admin) sendBackup(w http.ResponseWriter, r *http.Request) {
	src, err := s.Source(r.Context())
	out := &sent{w: w}
	if err == nil {
		w.Header().Set("Content-Type", "application/zstd")
		_, err = backup.Take(r.Context(), out, src)
	}
	if err == nil {
		return
	}
	s.Log.Error("a backup could not be made", "why", err)
	if out.any {
		panic(http.ErrAbortHandler) // so that nobody takes it for whole
	}
	w.Header().Del("Content-Type")
	live.Fail(w, err)
}

// sent knows whether anything was sent.
type sent struct {
	w   http.ResponseWriter
	any bool
}

func (s *sent) Write(b []byte) (int, error) {
	s.any = true
	return s.w.Write(b)
}
