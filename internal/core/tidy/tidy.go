// Package tidy works out how the files of a shelf should be called: which are to be
// renamed or moved, why, and how sure that is; what goes along; and in which order it can
// be done without anything ever standing in the way. It touches no file.
package tidy

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/naming"
)

// Scheme is how files are laid out in folders.
type Scheme string

// The schemes.
const (
	AsItIs  Scheme = "as-it-is" // films that lie in no folder stay so; all else as Folders
	Folders Scheme = "folders"  // a folder a title, and a season
	Flat    Scheme = "flat"     // films in no folder of their own, episodes in none a season
)

// Schemes are all of them.
var Schemes = []Scheme{AsItIs, Folders, Flat}

// Sure is from which confidence on a name is changed unpicked.
const Sure = 0.75

// Move is one media file that should have another path. Paths are relative to the
// shelf's folder, with slashes.
type Move struct {
	N          int     `json:"n"` // to pick it by; from 1
	From       string  `json:"from"`
	To         string  `json:"to"`
	Why        string  `json:"why"`
	Confidence float64 `json:"confidence"` // from 0 to 1
	With       []Pair  `json:"with"`       // what goes along
}

// Pair is a former and a new path.
type Pair struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Left is a media file that keeps its path although something is wrong with it.
type Left struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Plan is what should be done about one folder of a shelf.
type Plan struct {
	Moves []Move `json:"moves"`
	Left  []Left `json:"left"`
	Fine  int    `json:"fine"` // media files whose names are right
}

// Draw works out the plan for the files of a folder: all that are not hidden, those that
// are no media too.
func Draw(kind household.Kind, scheme Scheme, files []string) Plan {
	p := Plan{Moves: []Move{}, Left: []Left{}}
	files = slices.Clone(files)
	slices.Sort(files)
	media := map[string]bool{}
	for _, f := range files {
		content, _ := naming.ContentOf(f)
		media[f] = naming.Takes(kind, content)
	}
	readings, mixed := map[string]naming.Reading{}, map[string]bool{}
	titles := map[string]string{} // of films by folder
	for _, f := range files {
		if !media[f] {
			continue
		}
		r := naming.Read(kind, f)
		readings[f] = r
		if kind != household.Films || r.Extra != "" || r.Sample {
			continue
		}
		title := fmt.Sprint(strings.ToLower(r.Title), r.Year)
		if other, ok := titles[path.Dir(f)]; ok && other != title {
			mixed[path.Dir(f)] = true
		}
		titles[path.Dir(f)] = title
	}
	for _, f := range files {
		if !media[f] {
			continue
		}
		r := readings[f]
		if r.Sample {
			p.Left = append(p.Left, Left{f, "it is a sample; it is left out of the shelf, and can be removed"})
			continue
		}
		to := want(kind, scheme, r, f, mixed)
		if kind == household.Films && copyFolded(f) == copyFolded(to) {
			to = f // it is no reason to rename a film how the words about the copy are written
		}
		switch {
		case to == "":
			p.Left = append(p.Left, Left{f, r.Why})
		case unfit(to) != "":
			p.Left = append(p.Left, Left{f, unfit(to)})
		case to == f && !r.Clear:
			p.Left = append(p.Left, Left{f, r.Why + "; there is nothing better to call it"})
		case to == f:
			p.Fine++
		default:
			p.Moves = append(p.Moves, Move{From: f, To: to, Why: r.Why, Confidence: r.Confidence})
		}
	}
	p.along(files, media)
	p.settle(files)
	deep := func(m Move) int { return min(1, strings.Count(m.To, "/")) } // what lies in no folder comes first
	slices.SortStableFunc(p.Moves, func(a, b Move) int {
		return cmp.Or(cmp.Compare(deep(a), deep(b)), cmp.Compare(a.To, b.To), cmp.Compare(a.From, b.From))
	})
	for i := range p.Moves {
		p.Moves[i].N = i + 1
	}
	slices.SortFunc(p.Left, func(a, b Left) int { return cmp.Compare(a.Path, b.Path) })
	return p
}

// copyFolded is a path with what stands in square brackets at its end in small letters.
func copyFolded(p string) string {
	i := strings.LastIndex(p, " [")
	if i < 0 {
		return p
	}
	return p[:i] + strings.ToLower(p[i:])
}

// want gives the path that a file should have; empty where there is none.
func want(kind household.Kind, scheme Scheme, r naming.Reading, from string, mixed map[string]bool) string {
	full := naming.Canonical(kind, r, path.Ext(from))
	if full == "" {
		return ""
	}
	above := above(kind, r, from, mixed)
	if from = strings.TrimPrefix(from, above+"/"); above == "" {
		return within(kind, scheme, r, from, full)
	}
	return path.Join(above, within(kind, scheme, r, from, full))
}

// above gives the folders in which somebody sorted titles: those above the title's own.
// They stay as they are.
func above(kind household.Kind, r naming.Reading, from string, mixed map[string]bool) string {
	dir := path.Dir(from)
	own := 0 // folders that belong to the title
	switch kind {
	case household.Films:
		switch {
		case inExtras(kind, r, dir):
			own = 2
		case !mixed[dir] && ofTitle(kind, r, dir):
			own = 1
		}
	case household.Series:
		if own = 1; naming.Read(kind, path.Join("x", path.Base(dir), "y S01E01.mkv")).Title == "x" {
			own = 2
		}
	case household.Music:
		if own = 2; naming.Read(kind, path.Join("x", path.Base(dir), "01 y.mp3")).Title == "x" {
			own = 3
		}
	default:
		own = 1
	}
	for range own {
		dir = path.Dir(dir)
	}
	if dir == "." {
		return ""
	}
	return dir
}

// inExtras reports whether a folder is one of extras of a film.
func inExtras(kind household.Kind, r naming.Reading, dir string) bool {
	return r.Extra != "" && dir != "." && naming.Read(kind, path.Join("x", path.Base(dir), "y.mkv")).Extra != ""
}

// ofTitle reports whether a folder is called as the film in it, and so is its own.
func ofTitle(kind household.Kind, r naming.Reading, dir string) bool {
	if dir == "." {
		return false
	}
	own := naming.Read(kind, path.Base(dir)+".mkv")
	return strings.EqualFold(own.Title, r.Title)
}

// within gives the path of a file below the folders that stay.
func within(kind household.Kind, scheme Scheme, r naming.Reading, from, full string) string {
	dir, base := path.Split(full)
	up := strings.Split(strings.TrimSuffix(dir, "/"), "/")
	flat := full
	switch {
	case kind == household.Films && inExtras(kind, r, path.Dir(from)):
		// The folder tells what sort of extra it is.
		return path.Join(up[0], path.Base(path.Dir(from)), base)
	case kind == household.Films && r.Extra == "" &&
		(scheme == Flat || scheme == AsItIs && !strings.Contains(from, "/")):
		flat = base
	case kind == household.Series && scheme == Flat && len(up) == 2:
		flat = path.Join(up[0], base)
	}
	if flat != full && !same(naming.Read(kind, flat), naming.Read(kind, full)) {
		return full // the folder says what the name alone does not
	}
	return flat
}

// same reports whether two readings are of the same thing.
func same(a, b naming.Reading) bool {
	a.Why, b.Why, a.Confidence, b.Confidence, a.Clear, b.Clear = "", "", 0, 0, false, false
	return a == b
}

// reserved are names that Windows keeps for devices, whatever follows after a dot.
var reserved = []string{"con", "prn", "aux", "nul", "com1", "com2", "com3", "com4", "com5", "com6", "com7", "com8",
	"com9", "lpt1", "lpt2", "lpt3", "lpt4", "lpt5", "lpt6", "lpt7", "lpt8", "lpt9"}

// unfit says why a path cannot be used everywhere, or nothing.
func unfit(p string) string {
	for _, part := range strings.Split(p, "/") {
		first, _, _ := strings.Cut(strings.ToLower(part), ".")
		switch {
		case slices.Contains(reserved, strings.TrimSpace(first)):
			return fmt.Sprintf("it would be called %q, which no Windows machine opens", part)
		case len(part) > 255:
			return "its name would be longer than file systems allow"
		}
	}
	if len(p) > 1024 {
		return "its path would be too long"
	}
	return ""
}

// along finds what goes with each file: what has its name and something after it; and
// what else lies in a folder whose media all go to one other folder.
func (p *Plan) along(files []string, media map[string]bool) {
	move := map[string]int{}
	for i, m := range p.Moves {
		move[m.From] = i
	}
	goes := map[string]bool{}
	byDir := map[string][]string{} // media, without their extensions
	for f := range media {
		if media[f] {
			d := path.Dir(f)
			byDir[d] = append(byDir[d], f)
		}
	}
	for _, f := range files {
		if media[f] {
			continue
		}
		best := ""
		for _, m := range byDir[path.Dir(f)] {
			stem := strings.TrimSuffix(m, path.Ext(m))
			rest, ok := strings.CutPrefix(f, stem)
			if ok && (rest == "" || strings.ContainsAny(rest[:1], ".-_ [(")) &&
				len(stem) > len(strings.TrimSuffix(best, path.Ext(best))) {
				best = m
			}
		}
		if best == "" {
			continue
		}
		goes[f] = true // also where what it belongs to stays
		if i, ok := move[best]; ok {
			rest := strings.TrimPrefix(f, strings.TrimSuffix(best, path.Ext(best)))
			to := p.Moves[i].To
			p.Moves[i].With = append(p.Moves[i].With, Pair{f, strings.TrimSuffix(to, path.Ext(to)) + rest})
		}
	}
	// What else there is in a folder goes where all its media go, if that is one place.
	type place struct {
		to    string
		first int
		one   bool
	}
	places := map[string]*place{}
	for f := range media {
		if !media[f] {
			continue
		}
		i, moves := move[f]
		for d, up := path.Dir(f), 0; d != "."; d, up = path.Dir(d), up+1 {
			to := ""
			if moves {
				to = path.Dir(p.Moves[i].To)
				for range up {
					to = path.Dir(to)
				}
			}
			if pl := places[d]; pl == nil {
				places[d] = &place{to, i, moves && to != "."}
			} else if pl.one = pl.one && moves && pl.to == to; pl.one && i < pl.first {
				pl.first = i
			}
		}
	}
	for _, f := range files {
		if media[f] || goes[f] {
			continue
		}
		d := path.Dir(f)
		for d != "." && places[d] == nil {
			d = path.Dir(d)
		}
		if pl := places[d]; pl != nil && pl.one && pl.to != d {
			p.Moves[pl.first].With = append(p.Moves[pl.first].With,
				Pair{f, path.Join(pl.to, strings.TrimPrefix(f, d+"/"))})
		}
	}
}

// settle takes out what cannot be done: where something stands in the way that stays, or
// two would have one name. Names that differ in the case of letters only count as one,
// since not every machine tells them apart.
func (p *Plan) settle(files []string) {
	for {
		stays, wanted := map[string]string{}, map[string]string{} // folded to who has it, or wants it
		dirs := map[string]string{}                               // folded to how they are written
		moving := map[string]bool{}
		for _, m := range p.Moves {
			for _, x := range m.pairs() {
				moving[x.From] = true
			}
		}
		for _, f := range files {
			if moving[f] {
				continue
			}
			stays[strings.ToLower(f)] = f
			for d := path.Dir(f); d != "."; d = path.Dir(d) {
				dirs[strings.ToLower(d)] = d
			}
		}
		var kept []Move
		dropped := false
		for _, m := range p.Moves {
			why := ""
			var with []Pair
			for i, x := range m.pairs() {
				low := strings.ToLower(x.To)
				reason := ""
				if other := wanted[low]; other != "" {
					reason = "it would have the same name as " + other
				} else if other := stays[low]; other != "" {
					reason = other + " is there already"
				}
				for d := path.Dir(x.To); d != "." && reason == ""; d = path.Dir(d) {
					if other := stays[strings.ToLower(d)]; other != "" {
						reason = "a file has the name of the folder it would go to: " + other
					} else if other := dirs[strings.ToLower(d)]; other != "" && other != d {
						reason = fmt.Sprintf("the folder %s is there, and would differ from %s in the case of "+
							"letters only", other, d)
					}
				}
				switch {
				case reason == "":
					wanted[low] = x.From
					if i > 0 {
						with = append(with, x)
					}
				case i == 0:
					why = reason
				default:
					dropped = true // what goes along stays behind, and may be in the way of others
				}
				if why != "" {
					break
				}
			}
			if why != "" {
				p.Left = append(p.Left, Left{m.From, why})
				dropped = true
				continue
			}
			m.With = with
			if m.With == nil {
				m.With = []Pair{}
			}
			kept = append(kept, m)
		}
		p.Moves = kept
		if !dropped {
			break
		}
	}
	if p.Moves == nil {
		p.Moves = []Move{}
	}
}

func (m Move) pairs() []Pair { return append([]Pair{{m.From, m.To}}, m.With...) }

// Steps puts moves in an order in which each finds its new place free. Where they go
// round in a circle, or only the case of letters changes, a file waits under a hidden
// name meanwhile.
func Steps(moves []Move) []Pair {
	var left []Pair
	for _, m := range moves {
		left = append(left, m.pairs()...)
	}
	var out []Pair
	n := 0
	aside := func(from string) string {
		n++
		return path.Join(path.Dir(from), fmt.Sprintf(".tidy-%d-%s", n, short(path.Base(from))))
	}
	for i, x := range left {
		if strings.EqualFold(x.From, x.To) {
			at := aside(x.From)
			out = append(out, Pair{x.From, at})
			left[i].From = at
		}
	}
	for len(left) > 0 {
		taken := map[string]bool{}
		for _, x := range left {
			taken[strings.ToLower(x.From)] = true
		}
		var later []Pair
		for _, x := range left {
			if taken[strings.ToLower(x.To)] {
				later = append(later, x)
				continue
			}
			out = append(out, x)
			delete(taken, strings.ToLower(x.From))
		}
		if len(later) == len(left) { // a circle: one steps aside
			at := aside(later[0].From)
			out = append(out, Pair{later[0].From, at})
			later[0].From = at
		}
		left = later
	}
	return out
}

// short keeps a name within what a file system takes with something before it.
func short(name string) string {
	if len(name) <= 200 {
		return name
	}
	return strings.ToValidUTF8(name[len(name)-200:], "")
}
