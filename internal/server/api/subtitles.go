package api

import (
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
)

// subtitle sends a subtitle that lies beside a file as WebVTT, which browsers take.
func (s *API) subtitle(w http.ResponseWriter, r *http.Request) {
	_, f, err := s.FileOf(r)
	if err != nil {
		live.Fail(w, err)
		return
	}
	name := r.PathValue("name")
	i := slices.IndexFunc(f.Beside, func(b naming.Beside) bool { return b.Sort == naming.Subtitles && b.Name == name })
	if i < 0 {
		live.Fail(w, live.Nothing(r))
		return
	}
	lies, file, err := s.OpenBeside(f, i)
	if err != nil {
		s.unsent(w, lies, err)
		return
	}
	defer file.Close()
	b, err := s.BesideText(f, i, file)
	if err != nil {
		live.Fail(w, &live.StatusError{Problem: &problem.Problem{What: "the subtitle cannot be shown",
			Where: lies.Path, Why: err.Error(),
			Fix: "put one in the form of SubRip (.srt) or WebVTT (.vtt) beside the film"},
			Status: http.StatusUnprocessableEntity, Wait: 0})
		return
	}
	h := w.Header()
	h.Set("Content-Type", "text/vtt; charset=utf-8")
	h.Set("Cache-Control", "private, no-cache")
	h.Set("Content-Length", strconv.Itoa(len(b)))
	http.ServeContent(w, r, "", time.Time{}, strings.NewReader(string(b)))
}
