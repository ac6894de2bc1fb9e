package api

import (
	"errors"
	"io"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/server/live"
)

// MostSubtitle is how large a subtitle may be: those of long films have a few hundred KiB.
const MostSubtitle = 2 << 20

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
	lies := f
	lies.Path, lies.Problem = path.Join(path.Dir(f.Path), name), ""
	file, err := s.Find(lies)
	if err != nil {
		s.unsent(w, lies, err)
		return
	}
	defer file.Close()
	b, err := io.ReadAll(io.LimitReader(file, MostSubtitle+1))
	if err == nil && len(b) > MostSubtitle {
		err = errors.New("it is larger than 2 MiB")
	}
	if err == nil {
		err = s.AsSuspect("subtitles "+name, f, func() (err error) {
			b, err = media.WebVTT(b, f.Beside[i].Language)
			return err
		})
	}
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
