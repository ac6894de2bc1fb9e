package live

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/lookup"
	"cozyshelf/internal/picture"
	"cozyshelf/internal/store"
)

// Sources makes the catalogues that the household allows.
func Sources(l *blueprint.SettingsLookup, state, version string) []lookup.Source {
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

func (s *Server) Pictures() string { return filepath.Join(s.Settings.State, layout.Pictures) }

// DescribeAll describes titles that are new, whenever a scan has ended.
func (s *Server) DescribeAll(ctx context.Context) {
	var asked []string
	for _, k := range household.Kinds {
		if slices.ContainsFunc(s.Sources, func(src lookup.Source) bool { return src.Knows(k) }) {
			asked = append(asked, string(k))
		}
	}
	for {
		ids, err := s.Store.Undescribed(ctx, asked, time.Now().Add(-time.Hour), AtOnce)
		if err != nil && ctx.Err() == nil {
			s.Log.Error("titles could not be described", "why", err)
		}
		if len(s.Sources) == 0 && len(ids) > 0 {
			if derr := s.describeMany(ctx, ids); derr != nil && ctx.Err() == nil {
				s.Log.Error("titles could not be described", "why", derr)
				err = derr
			}
		} else {
			for _, id := range ids {
				if ctx.Err() != nil {
					return
				}
				if err := s.Describe(ctx, id, false); err != nil && !errors.Is(err, context.Canceled) {
					s.Log.Warn("a title could not be described", "title", id, "why", err)
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

// AtOnce is how many titles are described before what came of it is noted.
const AtOnce = 200

// describeMany describes titles without asking anybody, and notes all in one go.
func (s *Server) describeMany(ctx context.Context, ids []int64) error {
	out := map[int64]store.Described{}
	for _, id := range ids {
		_, free, err := s.Describing.Take(ctx, id, false, true)
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
	return s.Store.DescribeMany(ctx, out)
}

// Describe describes one title from what lies beside its files, what is in them, and the
// catalogues. What a person set stays. It is given up when a person wants the title, unless
// it is done for one.
func (s *Server) Describe(ctx context.Context, id int64, person bool) error {
	ctx, free, err := s.Describing.Take(ctx, id, person, false)
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
	return s.Store.Describe(ctx, id, out)
}

// work works out what is known of a title now: from what lies beside its files, from the files
// themselves, and from catalogues. What a person has set stays.
func (s *Server) work(ctx context.Context, id int64, ask bool) (store.Described, error) {
	known, err := s.Store.Described(ctx, id)
	if err != nil {
		return known, err
	}
	t, err := s.Store.Title(ctx, id)
	if err != nil {
		return known, err
	}
	files, err := s.Store.Files(ctx, id, 0)
	if err != nil {
		return known, err
	}
	g := gathering{s: s, title: t, out: store.Described{Edited: known.Edited, Candidates: []describe.Candidate{},
		Looked: time.Now(), Match: known.Match},
		want: describe.Wanted{Name: t.Name, Year: t.Year, By: t.By, Kind: t.Kind}}
	for _, f := range files {
		g.besideFile(f)
	}
	g.insideFiles(files)
	if ask && g.out.Summary == "" && known.Match != describe.None {
		if err := g.fromCatalogues(ctx); err != nil {
			return known, err
		}
	}
	g.keepCover(ctx)
	out := g.out
	out.Description = describe.Merge(known.Description, out.Description, known.Edited)
	if slices.Contains(known.Edited, "picture") {
		out.From = known.From
	}
	return out, nil
}

// gathering is what is found out of a title, the nearest source first.
type gathering struct {
	s      *Server
	title  store.Title
	want   describe.Wanted // what catalogues are asked
	out    store.Described
	cover  []byte
	source string // where the cover is from
}

// besideFile takes the sidecar and the picture that lie beside a file, if none was found yet.
func (g *gathering) besideFile(f store.File) {
	if g.want.Outside == "" {
		g.want.Outside = f.Outside
	}
	if g.title.Kind == household.Films && f.Extra == "" && f.Piece == 0 && g.want.Duration == 0 {
		g.want.Duration = f.Duration
	}
	for _, b := range f.Beside {
		switch {
		case b.Sort == naming.Sidecar && g.out.Source == "":
			text, err := g.s.beside(f, b.Name, describe.MaxSidecar)
			if err == nil {
				g.out.Description, err = describe.ReadSidecar(text)
			}
			if err != nil {
				g.s.Log.Info("a sidecar cannot be read", "shelf", f.Shelf, "file", b.Name, "why", err)
				continue
			}
			g.out.Source = "sidecar"
			if g.want.Outside == "" {
				g.want.Outside = g.out.Outside
			}
		case b.Sort == naming.Image && g.cover == nil:
			var err error
			if g.cover, err = g.s.beside(f, b.Name, picture.MostBytes); err == nil {
				g.source = b.Name
			}
		}
	}
}

// insideFiles takes what the first file that can be read says of itself.
func (g *gathering) insideFiles(files []store.File) {
	for _, f := range files {
		if f.Content == string(naming.Picture) && f.Problem == "" && g.cover == nil {
			// A set of photos has its first for a cover.
			var err error
			if g.cover, err = g.s.bytesOf(f, picture.MostBytes); err == nil {
				g.source = filepath.Base(f.Path)
			}
		}
		if f.Problem != "" || f.Content == string(naming.Picture) || f.Extra != "" {
			continue
		}
		d, err := g.s.tags(f)
		if err != nil {
			g.s.Log.Debug("a file's tags cannot be read", "shelf", f.Shelf, "file", f.Path, "why", err)
			continue
		}
		// What an episode says of itself does not tell of the show.
		out := &g.out
		if out.Source == "" && g.title.Kind != household.Series &&
			(len(d.Genres) > 0 || len(d.People) > 0 || d.Summary != "") {
			out.Year, out.People, out.Genres, out.Summary, out.Source = d.Year, d.People, d.Genres, d.Summary, "file"
		}
		if g.cover == nil && d.Embedded != nil {
			g.cover, g.source = d.Embedded, "the file itself"
		}
		return
	}
}

// fromCatalogues asks the catalogues. It gives an error only where there is no time left.
func (g *gathering) fromCatalogues(ctx context.Context) error {
	d, list, match, err := g.s.lookUp(ctx, g.want)
	g.out.Candidates, g.out.Match = list, match
	switch {
	case err != nil && ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		g.out.Match = describe.Failed
		g.s.Log.Warn("a catalogue could not be asked", "title", g.title.Name, "why", err)
	case match == describe.Taken:
		source, _, _ := strings.Cut(d.Outside, " ")
		g.out.Description, g.out.Source = describe.Merge(g.out.Description, d, nil), source
	}
	return nil
}

// keepCover keeps the cover that was found, or the one that a description names by its address.
func (g *gathering) keepCover(ctx context.Context) {
	address := g.out.Picture
	g.out.Picture = ""
	if g.cover == nil && address != "" {
		var err error
		if g.cover, err = g.s.FetchPicture(ctx, address, g.out.Outside); err != nil {
			g.s.Log.Info("a picture could not be had", "title", g.title.Name, "why", err)
		}
		g.source = address
	}
	if g.cover == nil {
		return
	}
	name, err := g.s.KeepPicture(g.cover)
	if err != nil {
		g.s.Log.Info("a picture cannot be used", "title", g.title.Name, "from", g.source, "why", err)
		return
	}
	g.out.Picture, g.out.From = name, g.source
}

// lookUp asks the catalogues that know titles of a kind, in their order, until one is
// clear.
func (s *Server) lookUp(ctx context.Context, want describe.Wanted) (describe.Description, []describe.Candidate,
	describe.Match, error) {
	all := []describe.Candidate{}
	var worst error
	asked := false
	for _, src := range s.Sources {
		if !src.Knows(want.Kind) {
			continue
		}
		asked = true
		list, err := src.Candidates(ctx, want, describe.Languages(s.Settings.Language))
		if err != nil && !errors.Is(err, lookup.ErrNotFound) {
			worst = err
			continue
		}
		scored := describe.Score(want, list)
		if best, ok := describe.Take(scored); ok {
			d, err := src.Describe(ctx, best.ID, describe.Languages(s.Settings.Language))
			if err != nil {
				worst = err
				continue
			}
			return d, scored, describe.Taken, nil
		}
		all = append(all, scored...)
	}
	all = slices.DeleteFunc(all, func(c describe.Candidate) bool { return c.Score < 0.3 })
	switch {
	case !asked:
		return describe.Description{}, all, describe.Unlooked, nil
	case len(all) > 0:
		return describe.Description{}, all, describe.Unclear, worst
	}
	return describe.Description{}, all, describe.Unknown, worst
}

// FetchPicture fetches a picture through the catalogue that named it.
func (s *Server) FetchPicture(ctx context.Context, address, outside string) ([]byte, error) {
	for _, src := range s.Sources {
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
	r, err := s.Find(f)
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
	r, err := s.Find(f)
	if err != nil {
		return lookup.Tagged{}, err
	}
	defer r.Close()
	st, err := r.Stat()
	if err != nil {
		return lookup.Tagged{}, err
	}
	var out lookup.Tagged
	err = s.AsSuspect("tags", f, func() (err error) {
		out, err = lookup.Tags(r, st.Size())
		return err
	})
	return out, err
}
