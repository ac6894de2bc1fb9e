package live

import (
	"context"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/store"
)

// ShelfList gives the shelves with their figures.
func (s *Server) ShelfList(ctx context.Context) ([]control.Shelf, error) {
	out := []control.Shelf{}
	for _, sh := range s.Settings.Shelves {
		figures, err := s.figures(ctx, sh.Name)
		if err != nil {
			return nil, err
		}
		c := control.Shelf{Name: sh.Name, Kind: sh.Kind, Access: sh.Access, Folders: sh.Shown,
			Unplugged: s.unpluggedNow(sh.Name), Figures: control.Figures(figures)}
		for i, folder := range sh.Folders {
			below, err := machine.MountsBelow(folder) // asks the kernel, and not the disk
			if err != nil {
				return nil, err
			}
			for _, p := range below {
				c.Mounted = append(c.Mounted, filepath.Join(sh.Shown[i], p))
			}
		}
		s.shelf(sh.Name, func(st *shelfState) {
			c.Scanning, c.Progress, c.Scanned = st.scanning, st.progress, st.scanned
		})
		out = append(out, c)
	}
	return out, nil
}

// ShelvesOf gives the shelves that are there for the member of a request.
func (s *Server) ShelvesOf(r *http.Request) ([]control.Shelf, error) {
	list, err := s.ShelfList(r.Context())
	m := VisitorOf(r).Member
	list = slices.DeleteFunc(list, func(sh control.Shelf) bool { return !m.Allowed.Sees(sh.Name) })
	if m.Ruled || m.Allowed.Age != nil {
		// What is not there for a member is in no figure, either.
		for i := range list {
			f, err := s.Store.FiguresFor(r.Context(), list[i].Name, s.SightOf(m))
			if err != nil {
				return nil, err
			}
			list[i].Figures = control.Figures(f)
		}
	}
	return list, err
}

// MayTake reports whether the member of a request may have copies made and take them along.
func MayTake(r *http.Request) bool {
	m := VisitorOf(r).Member
	return m.Allowed.MayTake(m.Role)
}

// SightOf is what a member sees of the library.
func (s *Server) SightOf(m store.Member) store.Sight {
	v := store.Sight{Allowed: m.Allowed, Unknown: s.Settings.UnknownAge}
	if m.Ruled {
		v.Member = m.ID
	}
	return v
}

// NoShelf says that there is no shelf of a name.
func (s *Server) NoShelf(name string) error {
	var known []string
	for _, sh := range s.Settings.Shelves {
		known = append(known, sh.Name)
	}
	return &problem.Problem{What: fmt.Sprintf("there is no shelf %q", name), Why: "the household has: " +
		strings.Join(known, ", "), Fix: "see cozyshelf shelf list", Err: store.ErrNotFound}
}

// Search finds titles and parts by their words.
func (s *Server) Search(r *http.Request) ([]store.Hit, error) {
	limit := 20
	if v := r.URL.Query().Get("limit"); v != "" {
		n, err := strconv.Atoi(v)
		if err != nil || n < 1 || n > 200 {
			return nil, UsageProblem("limit cannot be read", fmt.Sprintf("%q is no number from 1 to 200", v),
				"leave it out for 20")
		}
		limit = n
	}
	q := r.URL.Query().Get("q")
	if len(q) > 200 {
		return nil, UsageProblem("that is too much to search for", "there are more than 200 bytes",
			"a few words, or their beginnings, do")
	}
	v, _ := r.Context().Value(VisitorKey{}).(*Visitor)
	if v == nil { // the administrator's tool is no visitor
		return s.Hits(r.Context(), q, limit, true, store.Sight{})
	}
	return s.Hits(r.Context(), q, limit, SeesAll(r), s.SightOf(v.Member))
}

// Hits finds titles and parts by their words; all is whether also those that cannot be
// played. Only what is seen is found.
func (s *Server) Hits(ctx context.Context, words string, limit int, all bool, sight store.Sight) ([]store.Hit, error) {
	hits, err := s.Store.SearchAs(ctx, words, limit, sight)
	if err != nil || all {
		return hits, err
	}
	out := []store.Hit{}
	for _, h := range hits {
		if h.Title.Problems > 0 {
			files, err := s.Store.Files(ctx, h.Title.ID, 0)
			if err != nil {
				return nil, err
			}
			if !slices.ContainsFunc(files, func(f store.File) bool {
				return f.Problem == "" && (h.File == 0 || h.File == f.ID)
			}) {
				continue
			}
		}
		out = append(out, h)
	}
	return out, nil
}

// PlaceOf finds the shelf on which a folder lies, as the administrator writes it: the
// innermost of several.
func (s *Server) PlaceOf(folder string) (shelf string, part *scan.Part) {
	for _, sh := range s.Settings.Shelves {
		for _, shown := range sh.Shown {
			if folder != shown && !household.Within(folder, shown) || part != nil && len(part.Shown) > len(shown) {
				continue
			}
			rel := strings.Trim(strings.TrimPrefix(folder, shown), "/")
			shelf, part = sh.Name, &scan.Part{Shown: shown, Places: []scan.Place{{Path: rel, Deep: true}}}
		}
	}
	return shelf, part
}

// MayBring finds the shelf of a request, if this member may bring something onto it.
func (s *Server) MayBring(r *http.Request) (blueprint.SettingsShelf, error) {
	for _, sh := range s.Settings.Shelves {
		if sh.Name != r.PathValue("shelf") || !VisitorOf(r).Member.Allowed.Sees(sh.Name) {
			continue
		}
		switch {
		case !VisitorOf(r).Member.Allowed.MayBring(VisitorOf(r).Member.Role):
			return sh, &StatusError{Problem: &problem.Problem{What: "you may not bring anything onto the shelves",
				Why: "that is for adults, unless it was allowed to you", Fix: "ask the household's administrator"},
				Status: http.StatusForbidden, Wait: 0}
		case sh.Access != household.Change:
			return sh, &StatusError{Problem: &problem.Problem{What: "nothing can be brought onto this shelf from here",
				Why: "the server may only read it",
				Fix: "the administrator writes access = \"change\" for it, and deploys"}, Status: http.StatusForbidden,
				Wait: 0}
		}
		return sh, nil
	}
	return blueprint.SettingsShelf{}, Nothing(r)
}

// Listening tells where it listens.
func (s *Server) Listening() []control.Listener {
	out := []control.Listener{}
	for _, l := range s.Settings.Listeners {
		out = append(out, control.Listener{Purpose: string(l.Purpose), Address: l.Address, TLS: l.TLS})
	}
	return out
}
