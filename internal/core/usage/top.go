package usage

import (
	"cmp"
	"fmt"
	"slices"
)

// Work is a title on a shelf, as plays name it.
type Work struct{ Shelf, Title string }

// Known is what is known of a work beside its name.
type Known struct{ Genres, People []string }

// Tops are the top lists that there are.
var Tops = []string{"titles", "parts", "members", "devices", "platforms", "people", "genres"}

// TopParts gives of which parts of sums a top list is made.
func TopParts(what string) Parts {
	switch what {
	case "devices", "platforms":
		return PartWhole | PartFew
	case "members":
		return PartWhole | PartFew | PartTitles
	}
	return PartTitles
}

// NeedsWorks reports whether a top list is made of what is known of works.
func NeedsWorks(what string) bool { return what == "people" || what == "genres" }

// CheckTop says what of a top list cannot be made.
func CheckTop(of string, by Order) error {
	if !slices.Contains(Tops, of) {
		return fmt.Errorf("it is of titles, parts, members, devices, platforms, people or genres, not %q", of)
	}
	if !slices.Contains(Orders, by) {
		return fmt.Errorf("by is time, plays or members, not %q", by)
	}
	return nil
}

// Works are the works that were watched.
func (s *Sums) Works() map[Work]bool {
	out := map[Work]bool{}
	for k := range s.Of {
		if k.Hour == 0 && k.Dim == DimTitle {
			shelf, title, _ := readTitleKey(k.Name)
			out[Work{shelf, title}] = true
		}
	}
	return out
}

// Top ranks what a top list is of by time watched, then by plays, then by name. People and genres come from what is
// known of works; what nothing is known of is in neither. Lists that are made of titles can be of some shelves only:
// on tells which; nil is for all. A device that is forgotten is in no list.
func (s *Sums) Top(what string, on func(shelf string) bool, works map[Work]Known) []Rank {
	type id struct{ name, part, shelf string }
	rows := map[id]*Entry{}
	add := func(k id, e *Entry) {
		if rows[k] == nil {
			rows[k] = &Entry{}
		}
		rows[k].add(e.Tally)
		rows[k].join(e)
	}
	seen := map[Work]*Entry{} // by whom each title was watched
	for k, e := range s.Of {
		if k.Hour > 0 {
			continue
		}
		switch {
		case k.Dim == DimTitle:
			where, title, part := readTitleKey(k.Name)
			if on != nil && !on(where) {
				continue
			}
			w := Work{where, title}
			switch what {
			case "titles":
				add(id{name: title, shelf: where}, e)
			case "parts":
				add(id{name: title, part: part, shelf: where}, e)
			case "people":
				for _, name := range works[w].People {
					add(id{name: name}, e)
				}
			case "genres":
				for _, name := range works[w].Genres {
					add(id{name: name}, e)
				}
			case "members":
				if seen[w] == nil {
					seen[w] = &Entry{}
				}
				seen[w].join(e)
			}
		case k.Dim == DimMember && what == "members", k.Dim == DimDevice && what == "devices" && k.Name != "":
			add(id{name: k.Name}, e)
		case k.Dim == DimDevice && what == "platforms" && k.Name != "":
			add(id{name: Platform(k.Name)}, e)
		}
	}
	titles := make([]int, len(s.names)) // that each member watched
	for _, e := range seen {
		for i := range s.names {
			if e.has(i) {
				titles[i]++
			}
		}
	}
	out := make([]Rank, 0, len(rows))
	for k, e := range rows {
		r := Rank{Name: k.name, Part: k.part, Shelf: k.shelf, Plays: int(e.Plays), Done: int(e.Done),
			Watched: float64(e.Watched) / 1000, Bytes: e.Bytes, Members: e.count()}
		if i, ok := s.index[k.name]; ok && what == "members" {
			r.Titles = titles[i]
		}
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b Rank) int {
		return cmp.Or(cmp.Compare(b.Watched, a.Watched), cmp.Compare(b.Plays, a.Plays), cmp.Compare(a.Name, b.Name),
			cmp.Compare(a.Part, b.Part), cmp.Compare(a.Shelf, b.Shelf))
	})
	return out
}
