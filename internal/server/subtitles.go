package server

import (
	"cmp"
	"errors"
	"io"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

// mostSubtitle is how large a subtitle may be: those of long films have a few hundred KiB.
const mostSubtitle = 2 << 20

// subtitle sends a subtitle that lies beside a file as WebVTT, which browsers take.
func (s *Server) subtitle(w http.ResponseWriter, r *http.Request) {
	_, f, err := s.fileOf(r)
	if err != nil {
		fail(w, err)
		return
	}
	name := r.PathValue("name")
	i := slices.IndexFunc(f.Beside, func(b naming.Beside) bool { return b.Sort == naming.Subtitles && b.Name == name })
	if i < 0 {
		fail(w, nothing(r))
		return
	}
	lies := f
	lies.Path, lies.Problem = path.Join(path.Dir(f.Path), name), ""
	file, err := s.find(lies)
	if err != nil {
		s.unsent(w, lies, err)
		return
	}
	defer file.Close()
	b, err := io.ReadAll(io.LimitReader(file, mostSubtitle+1))
	if err == nil && len(b) > mostSubtitle {
		err = errors.New("it is larger than 2 MiB")
	}
	if err == nil {
		err = s.asSuspect("subtitles "+name, f, func() (err error) {
			b, err = media.WebVTT(b, f.Beside[i].Language)
			return err
		})
	}
	if err != nil {
		fail(w, &statusError{&problem.Problem{What: "the subtitle cannot be shown", Where: lies.Path, Why: err.Error(), Fix: "put one in the form of SubRip (.srt) or WebVTT (.vtt) beside the film"}, http.StatusUnprocessableEntity, 0})
		return
	}
	h := w.Header()
	h.Set("Content-Type", "text/vtt; charset=utf-8")
	h.Set("Cache-Control", "private, no-cache")
	h.Set("Content-Length", strconv.Itoa(len(b)))
	http.ServeContent(w, r, "", time.Time{}, strings.NewReader(string(b)))
}

// track is a subtitle as the player offers it.
type track struct {
	Address, Language, Label string // the page puts the language's own name into the label
	Hearing, Shown           bool   // for people who hear badly; shown without being asked for
}

// tracks gives the subtitles beside a film that browsers can show: the household's language
// first. One of what is spoken in other languages is shown without being asked for.
func tracks(f store.File, household string) []track {
	var out []track
	for _, b := range f.Beside {
		if ext := strings.ToLower(path.Ext(b.Name)); b.Sort != naming.Subtitles || ext != ".srt" && ext != ".vtt" {
			continue
		}
		t := track{Address: "/api/v1/files/" + strconv.FormatInt(f.ID, 10) + "/subtitles/" + url.PathEscape(b.Name), Language: b.Language, Label: cmp.Or(b.Language, "Subtitles"), Hearing: b.Hearing}
		if b.Forced {
			t.Label += ", only what is in another language"
			t.Shown = naming.SameLanguage(b.Language, household) && !slices.ContainsFunc(out, func(t track) bool { return t.Shown })
		}
		if b.Hearing {
			t.Label += ", with sounds"
		}
		out = append(out, t)
	}
	slices.SortStableFunc(out, func(a, b track) int {
		is := func(t track) int {
			if naming.SameLanguage(t.Language, household) {
				return 0
			}
			return 1
		}
		return is(a) - is(b)
	})
	return out
}
