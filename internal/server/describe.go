package server

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/lookup"
	"cozyshelf/internal/picture"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

// sources makes the catalogues that the household allows.
func sources(l *blueprint.SettingsLookup, state, version string) []lookup.Source {
	if l == nil {
		return nil
	}
	agent, cache := "CozyShelf/"+version+" (a household's own media server)", filepath.Join(state, layout.Lookup)
	var out []lookup.Source
	for _, name := range l.Sources {
		switch name {
		case "wikidata":
			w := &lookup.Wikidata{Address: l.Wikidata, Commons: l.Commons}
			w.Agent, w.Cache, w.Near = agent, cache, []string{l.Wikidata, l.Commons}
			w.Pause = time.Duration(l.Pause)
			out = append(out, w)
		case "musicbrainz":
			m := &lookup.MusicBrainz{Address: l.MusicBrainz, Covers: l.Covers}
			m.Agent, m.Cache, m.Near = agent, cache, []string{l.MusicBrainz, l.Covers}
			m.Pause = time.Duration(l.Pause)
			out = append(out, m)
		}
	}
	return out
}

func (s *Server) pictures() string { return filepath.Join(s.settings.State, layout.Pictures) }

// describeAll describes titles that are new, whenever a scan has ended.
func (s *Server) describeAll(ctx context.Context) {
	var asked []string
	for _, k := range household.Kinds {
		if slices.ContainsFunc(s.sources, func(src lookup.Source) bool { return src.Knows(k) }) {
			asked = append(asked, string(k))
		}
	}
	for {
		ids, err := s.store.Undescribed(ctx, asked, time.Now().Add(-time.Hour), atOnce)
		if err != nil && ctx.Err() == nil {
			s.log.Error("titles could not be described", "why", err)
		}
		if len(s.sources) == 0 && len(ids) > 0 {
			if derr := s.describeMany(ctx, ids); derr != nil && ctx.Err() == nil {
				s.log.Error("titles could not be described", "why", derr)
				err = derr
			}
		} else {
			for _, id := range ids {
				if ctx.Err() != nil {
					return
				}
				if err := s.describe(ctx, id, false); err != nil && !errors.Is(err, context.Canceled) {
					s.log.Warn("a title could not be described", "title", id, "why", err)
				}
			}
		}
		if len(ids) > 0 && err == nil {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-s.scannedNow:
		case <-time.After(time.Hour):
		}
	}
}

// atOnce is how many titles are described before what came of it is noted.
const atOnce = 200

// describeMany describes titles without asking anybody, and notes all in one go.
func (s *Server) describeMany(ctx context.Context, ids []int64) error {
	out := map[int64]store.Described{}
	for _, id := range ids {
		_, free, err := s.describing.take(ctx, id, false, true)
		if err != nil {
			return err
		}
		defer free() // when all is noted
		d, err := s.work(ctx, id, false)
		if errors.Is(err, store.ErrNotFound) {
			continue // its files are gone meanwhile
		}
		if err != nil {
			return err
		}
		out[id] = d
	}
	return s.store.DescribeMany(ctx, out)
}

// describe describes one title from what lies beside its files, what is in them, and the
// catalogues. What a person set stays. It is given up when a person wants the title, unless
// it is done for one.
func (s *Server) describe(ctx context.Context, id int64, person bool) error {
	ctx, free, err := s.describing.take(ctx, id, person, false)
	if err != nil {
		return err
	}
	defer free()
	if person {
		ctx = lookup.Hurry(ctx)
	}
	out, err := s.work(ctx, id, true)
	if err != nil {
		return err
	}
	return s.store.Describe(ctx, id, out)
}

// work works out what is known of a title now.
func (s *Server) work(ctx context.Context, id int64, ask bool) (store.Described, error) {
	known, err := s.store.Described(ctx, id)
	if err != nil {
		return known, err
	}
	t, err := s.store.Title(ctx, id)
	if err != nil {
		return known, err
	}
	files, err := s.store.Files(ctx, id, 0)
	if err != nil {
		return known, err
	}
	out := store.Described{Edited: known.Edited, Candidates: []describe.Candidate{}, Looked: time.Now(), Match: known.Match}
	want := describe.Wanted{Name: t.Name, Year: t.Year, By: t.By, Kind: t.Kind}
	var cover []byte
	said := ""
	for _, f := range files {
		if want.Outside == "" {
			want.Outside = f.Outside
		}
		if t.Kind == household.Films && f.Extra == "" && f.Piece == 0 && want.Duration == 0 {
			want.Duration = f.Duration
		}
		for _, b := range f.Beside {
			switch {
			case b.Sort == naming.Sidecar && out.Source == "":
				text, err := s.beside(f, b.Name, describe.MaxSidecar)
				if err == nil {
					out.Description, err = describe.ReadSidecar(text)
				}
				if err != nil {
					s.log.Info("a sidecar cannot be read", "shelf", f.Shelf, "file", b.Name, "why", err)
					continue
				}
				out.Source = "sidecar"
				if want.Outside == "" {
					want.Outside = out.Outside
				}
			case b.Sort == naming.Image && cover == nil:
				if cover, err = s.beside(f, b.Name, picture.MostBytes); err == nil {
					said = b.Name
				}
			}
		}
	}
	for _, f := range files {
		if f.Content == string(naming.Picture) && f.Problem == "" && cover == nil {
			// A set of photos has its first for a cover.
			if cover, err = s.bytesOf(f, picture.MostBytes); err == nil {
				said = filepath.Base(f.Path)
			}
		}
		if f.Problem != "" || f.Content == string(naming.Picture) || f.Extra != "" {
			continue
		}
		d, err := s.tags(f)
		if err != nil {
			s.log.Debug("a file's tags cannot be read", "shelf", f.Shelf, "file", f.Path, "why", err)
			continue
		}
		// What an episode says of itself does not tell of the show.
		if out.Source == "" && t.Kind != household.Series && (len(d.Genres) > 0 || len(d.People) > 0 || d.Summary != "") {
			out.Year, out.People, out.Genres, out.Summary, out.Source = d.Year, d.People, d.Genres, d.Summary, "file"
		}
		if cover == nil && d.Embedded != nil {
			cover, said = d.Embedded, "the file itself"
		}
		break // the first says what there is to be said
	}
	if ask && out.Summary == "" && known.Match != store.None {
		d, list, match, err := s.lookUp(ctx, want)
		out.Candidates, out.Match = list, match
		switch {
		case err != nil && ctx.Err() != nil:
			return known, ctx.Err()
		case err != nil:
			out.Match = store.Failed
			s.log.Warn("a catalogue could not be asked", "title", t.Name, "why", err)
		case match == store.Taken:
			source, _, _ := strings.Cut(d.Outside, " ")
			out.Description, out.Source = describe.Merge(out.Description, d, nil), source
		}
	}
	address := out.Picture
	out.Picture = ""
	if cover == nil && address != "" {
		if cover, err = s.fetchPicture(ctx, address, out.Outside); err != nil {
			s.log.Info("a picture could not be had", "title", t.Name, "why", err)
		}
		said = address
	}
	if cover != nil {
		if name, err := s.keepPicture(cover); err != nil {
			s.log.Info("a picture cannot be used", "title", t.Name, "from", said, "why", err)
		} else {
			out.Picture, out.From = name, said
		}
	}
	out.Description = describe.Merge(known.Description, out.Description, known.Edited)
	if slices.Contains(known.Edited, "picture") {
		out.From = known.From
	}
	return out, nil
}

// lookUp asks the catalogues that know titles of a kind, in their order, until one is
// clear.
func (s *Server) lookUp(ctx context.Context, want describe.Wanted) (describe.Description, []describe.Candidate, store.Match, error) {
	all := []describe.Candidate{}
	var worst error
	asked := false
	for _, src := range s.sources {
		if !src.Knows(want.Kind) {
			continue
		}
		asked = true
		list, err := src.Candidates(ctx, want, describe.Languages(s.settings.Language))
		if err != nil && !errors.Is(err, lookup.ErrNotFound) {
			worst = err
			continue
		}
		scored := describe.Score(want, list)
		if best, ok := describe.Take(scored); ok {
			d, err := src.Describe(ctx, best.ID, describe.Languages(s.settings.Language))
			if err != nil {
				worst = err
				continue
			}
			return d, scored, store.Taken, nil
		}
		all = append(all, scored...)
	}
	all = slices.DeleteFunc(all, func(c describe.Candidate) bool { return c.Score < 0.3 })
	switch {
	case !asked:
		return describe.Description{}, all, store.Unlooked, nil
	case len(all) > 0:
		return describe.Description{}, all, store.Unclear, worst
	}
	return describe.Description{}, all, store.Unknown, worst
}

// fetchPicture fetches a picture through the catalogue that named it.
func (s *Server) fetchPicture(ctx context.Context, address, outside string) ([]byte, error) {
	for _, src := range s.sources {
		if strings.HasPrefix(outside, src.Name()+" ") {
			if p, ok := src.(interface {
				Picture(ctx context.Context, address string) ([]byte, error)
			}); ok {
				return p.Picture(ctx, address)
			}
		}
	}
	return nil, errors.New("no catalogue gives pictures")
}

// beside reads a file that lies beside one of a shelf.
func (s *Server) beside(f store.File, name string, most int64) ([]byte, error) {
	other := f
	other.Path = filepath.Join(filepath.Dir(f.Path), name)
	return s.bytesOf(other, most)
}

// bytesOf reads a file of a shelf, up to a bound.
func (s *Server) bytesOf(f store.File, most int64) ([]byte, error) {
	r, err := s.find(f)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	b, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(b)) > most {
		err = fmt.Errorf("it has more than %d bytes", most)
	}
	return b, err
}

func (s *Server) tags(f store.File) (lookup.Tagged, error) {
	r, err := s.find(f)
	if err != nil {
		return lookup.Tagged{}, err
	}
	defer r.Close()
	st, err := r.Stat()
	if err != nil {
		return lookup.Tagged{}, err
	}
	var out lookup.Tagged
	err = s.asSuspect("tags", f, func() (err error) {
		out, err = lookup.Tags(r, st.Size())
		return err
	})
	return out, err
}

// matched gives what is known of a title, and what it may be.
func (s *Server) matched(r *http.Request) (any, error) {
	id, err := strconv.ParseInt(r.PathValue("title"), 10, 64)
	if err != nil {
		return nil, store.ErrNotFound
	}
	t, err := s.store.Title(r.Context(), id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &problem.Problem{What: fmt.Sprintf("there is no title %d", id), Why: "nothing of that number is on the shelves now", Fix: "cozyshelf shelf find finds it", Err: err}
	}
	if err != nil {
		return nil, err
	}
	out := control.Matched{Title: t, Catalogues: []string{}}
	for _, src := range s.sources {
		if src.Knows(t.Kind) {
			out.Catalogues = append(out.Catalogues, src.Name())
		}
	}
	if out.Described, err = s.store.Described(r.Context(), id); err != nil {
		return nil, err
	}
	files, err := s.store.Files(r.Context(), id, 0)
	for _, f := range files {
		out.Files = append(out.Files, control.Placed{Root: f.Root, Path: f.Path, Extra: f.Extra})
	}
	return out, err
}

// match does what a person wants with a title: take an entry, say that there is none, set
// fields or a picture, or look it up anew.
func (s *Server) match(r *http.Request) (any, error) {
	now, err := s.matched(r)
	if err != nil {
		return nil, err
	}
	t := now.(control.Matched).Title
	var in control.Matching
	if err := readUpTo(r, &in, picture.MostBytes*3/2); err != nil {
		return nil, err
	}
	ctx := r.Context()
	if in.Again {
		// Whoever asks for it wants it, whatever was said before.
		d, err := s.store.Described(r.Context(), t.ID)
		if d.Match = store.Unlooked; err == nil {
			err = s.store.Describe(r.Context(), t.ID, d)
		}
		if err != nil {
			return nil, err
		}
		if err := s.describe(ctx, t.ID, true); err != nil {
			return nil, err
		}
		return s.matched(r)
	}
	ctx, free, err := s.describing.take(lookup.Hurry(ctx), t.ID, true, false)
	if err != nil {
		return nil, err
	}
	defer free()
	d, err := s.store.Described(ctx, t.ID)
	if err != nil {
		return nil, err
	}
	switch {
	case in.None:
		d = store.Described{Edited: d.Edited, Description: describe.Merge(d.Description, describe.Description{}, d.Edited), Match: store.None, Candidates: []describe.Candidate{}}
	case in.Take != "":
		source, _, _ := strings.Cut(in.Take, " ")
		i := slices.IndexFunc(s.sources, func(src lookup.Source) bool { return src.Name() == source })
		if i < 0 {
			return nil, usageProblem(fmt.Sprintf("%q cannot be taken", in.Take), "no catalogue of that name may be asked", "write sources under [lookup] in the household file, and deploy")
		}
		found, err := s.sources[i].Describe(ctx, in.Take, describe.Languages(s.settings.Language))
		if errors.Is(err, lookup.ErrNotFound) {
			return nil, usageProblem(fmt.Sprintf("there is no %q", in.Take), "the catalogue has no such entry", "cozyshelf shelf match lists those that may fit")
		}
		if err != nil {
			return nil, &problem.Problem{What: "the catalogue could not be asked", Where: source, Why: err.Error(), Fix: "try again later", Err: err}
		}
		address := found.Picture
		found.Picture = d.Picture
		from := d.From
		if address != "" && !slices.Contains(d.Edited, "picture") {
			b, err := s.fetchPicture(ctx, address, found.Outside)
			if err == nil {
				found.Picture, err = s.keepPicture(b)
				from = address
			}
			if err != nil {
				s.log.Info("a picture could not be had", "title", t.Name, "why", err)
				found.Picture = d.Picture
			}
		}
		d.Description, d.Source, d.Match, d.From = describe.Merge(d.Description, found, d.Edited), source, store.Chosen, from
	}
	for field, value := range in.Edit {
		if err := edit(&d, field, value); err != nil {
			return nil, err
		}
		if !slices.Contains(d.Edited, field) {
			d.Edited = append(d.Edited, field)
		}
	}
	if len(in.Picture) > 0 {
		if d.Picture, err = s.keepPicture(in.Picture); err != nil {
			return nil, usageProblem("the picture cannot be taken", err.Error(), "give a JPEG, PNG, GIF or WebP of a usual size")
		}
		d.From = "a person"
		if !slices.Contains(d.Edited, "picture") {
			d.Edited = append(d.Edited, "picture")
		}
	}
	if d.Looked = time.Now(); d.Source == "" && len(d.Edited) > 0 {
		d.Source = "person"
	}
	if err := s.store.Describe(ctx, t.ID, d); err != nil {
		return nil, err
	}
	s.events.Tell(event.TitleMatched{Title: t.Name, Match: string(d.Match), Edited: strings.Join(d.Edited, ",")})
	return s.matched(r)
}

// edit sets one field as a person gave it.
func edit(d *store.Described, field, value string) error {
	list := func() (out []string) {
		for _, v := range strings.Split(value, ",") {
			if v = strings.TrimSpace(v); v != "" {
				out = append(out, v)
			}
		}
		return out
	}
	if len(value) > 10_000 {
		return usageProblem("the text is too long", "it has more than 10 000 bytes", "shorten it")
	}
	switch field {
	case "name":
		d.Name = strings.TrimSpace(value)
	case "summary":
		d.Summary = strings.TrimSpace(value)
	case "genres":
		d.Genres = list()
	case "people":
		d.People = nil
		for _, v := range list() {
			name, role, ok := strings.Cut(v, ":")
			if !ok {
				role = "actor"
			}
			d.People = append(d.People, describe.Person{Name: strings.TrimSpace(name), Role: strings.TrimSpace(role)})
		}
	case "year":
		y, err := strconv.Atoi(value)
		if value == "" {
			y, err = 0, nil
		}
		if err != nil || y != 0 && (y < 1800 || y > 2200) {
			return usageProblem(fmt.Sprintf("%q is no year", value), "a year has four digits", "such as year=2014")
		}
		d.Year = y
	default:
		return usageProblem(fmt.Sprintf("there is no field %q", field), "there are: "+strings.Join(describe.Fields, ", "), "such as summary=\"A keeper folds ships.\"")
	}
	return nil
}
