package web

import (
	"bytes"
	"net/http"
	"os"
	"strconv"
	"time"

	"cozyshelf/internal/picture"
	"cozyshelf/internal/server/live"
)

// chapterPicture sends the picture of a chapter, by its number from 0.
func (s *Web) chapterPicture(w http.ResponseWriter, r *http.Request) error {
	_, f, err := s.FileOf(r)
	if err != nil {
		return err
	}
	chapters, _, err := s.Findings(r.Context(), f.ID)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(r.PathValue("n"))
	if err != nil || n < 0 || n >= len(chapters) || chapters[n].Picture == "" {
		return live.Nothing(r)
	}
	b, err := os.ReadFile(picture.Path(s.Pictures(), chapters[n].Picture, picture.Widths[0]))
	if err != nil {
		return live.Nothing(r)
	}
	w.Header().Set("Content-Type", "image/jpeg")
	w.Header().Set("Cache-Control", "private, max-age=86400")
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(b))
	return nil
}
