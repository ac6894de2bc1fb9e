package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/library"
	"cozyshelf/internal/core/usage"
)

// Each calls yield for every file of a shelf, or of all for an empty name, in the order
// of paths, as far as the library's problems need it. It stops at the first error. The
// joins are crossed so that the order is that of the indexes, and nothing is sorted.
func (s *Store) Each(ctx context.Context, shelf string, yield func(library.File) bool) error {
	rs, err := s.r.QueryContext(ctx, `SELECT f.title, t.name, t.year, t.maker, d.shelf, t.kind, d.root, d.path,
		f.name, f.content, f.size, f.fingerprint, f.problem, f.note,
		f.season, f.episode, f.last, f.disc, f.piece, f.part, f.date, f.edition, f.extra, f.info, f.beside,
		coalesce(x.summary, '') != '', coalesce(x.picture, '') != '' OR instr(f.beside, '"sort":"picture"') > 0,
			coalesce(x.state, '') = 'unclear'
		FROM folders d CROSS JOIN files f ON f.folder = d.id AND f.gone = 0 CROSS JOIN titles t ON t.id = f.title
			LEFT JOIN descriptions x ON x.title = t.id
		WHERE ? IN ('', d.shelf) ORDER BY d.shelf, d.root, d.path, f.name`, shelf)
	if err != nil {
		return s.explain(err)
	}
	defer rs.Close()
	for rs.Next() {
		var f library.File
		var root, dir, name, info, goes string
		if err := rs.Scan(&f.Title, &f.Name, &f.Year, &f.By, &f.Shelf, &f.Kind, &root, &dir, &name, &f.Content,
			&f.Size, &f.Fingerprint, &f.Problem, &f.Note,
			&f.Season, &f.Episode, &f.Last, &f.Disc, &f.Piece, &f.Part, &f.Date, &f.Edition, &f.Extra, &info, &goes,
			&f.Described, &f.Pictured, &f.Unmatched); err != nil {
			return s.explain(err)
		}
		f.Path = path.Join(root, dir, name)
		for text, v := range map[string]any{info: &f.Media, goes: &f.Beside} {
			if text == "" {
				continue
			}
			if err := json.Unmarshal([]byte(text), v); err != nil {
				return err
			}
		}
		if !yield(f) {
			return nil
		}
	}
	return s.explain(rs.Err())
}

// Library is the whole library in figures.
type Library struct {
	Kinds  []library.KindFigures
	Codecs []library.CodecFigures
	Sizes  []library.SizeFigures
	Lately []Title // titles with the files that arrived last
}

// Library counts all that is there.
func (s *Store) Library(ctx context.Context, lately int) (l Library, err error) {
	rs, err := s.r.QueryContext(ctx, "SELECT f.title, t.kind, f.season, f.duration, f.size, f.info FROM titles t "+
		"CROSS JOIN files f ON f.title = t.id WHERE f.gone = 0 ORDER BY t.id")
	if err != nil {
		return l, s.explain(err)
	}
	defer rs.Close()
	var c library.Counter
	var f library.Counted
	var kind, info sql.RawBytes
	for rs.Next() {
		if err := rs.Scan(&f.Title, &kind, &f.Season, &f.Duration, &f.Size, &info); err != nil {
			return l, s.explain(err)
		}
		if string(kind) != string(f.Kind) {
			f.Kind = household.Kind(kind)
		}
		f.Info = info
		if err := c.Add(f); err != nil {
			return l, fmt.Errorf("what is known of title %d cannot be read: %w", f.Title, err)
		}
	}
	if err := rs.Err(); err != nil {
		return l, s.explain(err)
	}
	l.Kinds, l.Codecs, l.Sizes = c.Kinds(), c.Codecs(), c.Sizes()
	l.Lately, err = s.Lately(ctx, lately)
	return l, err
}

// Lately gives the titles with the files that arrived last, the latest first. Added is
// then when the last of them did.
func (s *Store) Lately(ctx context.Context, limit int) ([]Title, error) {
	type row struct{ title, added int64 }
	list, err := rows(ctx, s.r, func(r *sql.Rows, v *row) error { return r.Scan(&v.title, &v.added) },
		// Files come in the order of their ids.
		`SELECT title, max(added) FROM (SELECT title, added FROM files WHERE gone = 0 ORDER BY id DESC LIMIT 5000)
			GROUP BY title ORDER BY 2 DESC, title DESC LIMIT ?`, limit)
	if err != nil {
		return nil, err
	}
	out := make([]Title, 0, len(list))
	for _, v := range list {
		t, err := s.Title(ctx, v.title)
		if errors.Is(err, ErrNotFound) {
			continue // it went meanwhile
		}
		if err != nil {
			return nil, err
		}
		t.Added = fromMilli(v.added)
		out = append(out, t)
	}
	return out, nil
}

// ArrivedByHour gives how much arrived on each shelf, in bytes, hour by hour, as far as it is there still.
func (s *Store) ArrivedByHour(ctx context.Context) ([]usage.Stored, error) {
	return rows(ctx, s.r, func(r *sql.Rows, f *usage.Stored) error {
		var added int64
		err := r.Scan(&f.Shelf, &added, &f.Size)
		f.Added = fromMilli(added)
		return err
	}, "SELECT d.shelf, min(f.added), sum(f.size) FROM files f JOIN folders d ON d.id = f.folder WHERE f.gone = 0 "+
		"GROUP BY d.shelf, f.added / 3600000 ORDER BY 2")
}

// mostArrived is how many files are looked at that arrived last.
const mostArrived = 20_000

// Arrived gives titles on a shelf with files that arrived since a time, by name, some at most, and how many there are.
func (s *Store) Arrived(ctx context.Context, shelf string, since time.Time, limit int) (names []string, count int,
	err error) {
	all, err := rows(ctx, s.r, func(r *sql.Rows, n *string) error { return r.Scan(n) },
		`SELECT DISTINCT titles.name FROM (SELECT title, added FROM files WHERE gone = 0 ORDER BY id DESC LIMIT ?1) f
			JOIN titles ON titles.id = f.title WHERE f.added >= ?2 AND titles.shelf = ?3 ORDER BY 1`,
		mostArrived, milli(since), shelf)
	return all[:min(limit, len(all))], len(all), err
}

// Hit is something that was searched for: a title, or a part of one.
type Hit struct {
	Title Title
	File  int64 // 0 where it is the title
	Part  string
}

// beginning gives some titles whose names begin so, by name: some of each shelf, since
// their index serves each by itself.
func (s *Store) beginning(ctx context.Context, folded string, limit int) ([]int64, error) {
	shelves, err := rows(ctx, s.r, func(r *sql.Rows, v *string) error { return r.Scan(v) },
		"WITH RECURSIVE x(s) AS (SELECT min(shelf) FROM titles UNION ALL SELECT (SELECT min(shelf) FROM titles "+
			"WHERE shelf > x.s) FROM x WHERE x.s IS NOT NULL) SELECT s FROM x WHERE s IS NOT NULL")
	if err != nil {
		return nil, err
	}
	type row struct {
		id     int64
		folded string
	}
	var all []row
	for _, shelf := range shelves {
		list, err := rows(ctx, s.r, func(r *sql.Rows, v *row) error { return r.Scan(&v.id, &v.folded) },
			"SELECT id, folded FROM titles WHERE shelf = ? AND folded >= ? AND folded < ? ORDER BY folded LIMIT ?",
			shelf, folded, folded+string(utf8.MaxRune), limit)
		if err != nil {
			return nil, err
		}
		all = append(all, list...)
	}
	slices.SortStableFunc(all, func(a, b row) int { return strings.Compare(a.folded, b.folded) })
	var ids []int64
	for _, v := range all[:min(limit, len(all))] {
		ids = append(ids, v.id)
	}
	return ids, nil
}

// Search finds titles and parts by the beginnings of words, in whatever case and with or
// without accents: all words must be there. Titles come first, those whose name begins
// so before others.
func (s *Store) Search(ctx context.Context, text string, limit int) ([]Hit, error) {
	return s.SearchAs(ctx, text, limit, Sight{})
}

// SearchAs does the same in what somebody sees.
func (s *Store) SearchAs(ctx context.Context, text string, limit int, sight Sight) ([]Hit, error) {
	most := limit // of what is looked through
	if len(sight.Allowed.Shelves) > 0 || !sight.all() {
		most *= 50 // much may be elsewhere
	}
	query := match(text)
	if query == "" {
		return []Hit{}, nil
	}
	out := []Hit{}
	has := map[int64]bool{}
	take := func(ids []int64) error {
		for _, id := range ids {
			if len(out) >= limit {
				return nil
			}
			if has[id] {
				continue
			}
			t, err := s.Title(ctx, id)
			if errors.Is(err, ErrNotFound) {
				continue // all its files are gone
			}
			if err != nil {
				return err
			}
			has[id] = true
			if ok, err := s.Shows(ctx, sight, t); err != nil {
				return err
			} else if !ok {
				continue
			}
			out = append(out, Hit{Title: t})
		}
		return nil
	}
	id := func(r *sql.Rows, v *int64) error { return r.Scan(v) }
	// What begins so is wanted most; an index gives it at once.
	folded := Fold(strings.Join(strings.Fields(text), " "))
	ids, err := s.beginning(ctx, folded, 2*most)
	if err != nil {
		return nil, err
	}
	if err := take(ids); err != nil {
		return nil, err
	}
	// For few letters there are very many; then any will do.
	order := ""
	if utf8.RuneCountInString(folded) > 3 {
		order = " ORDER BY rank"
	}
	if len(out) < limit {
		if ids, err = rows(ctx, s.r, id, "SELECT rowid FROM words WHERE words MATCH ?"+order+" LIMIT ?", query,
			3*most); err != nil {
			return nil, err
		}
		if err := take(ids); err != nil {
			return nil, err
		}
	}
	if len(out) < limit {
		type part struct {
			file, title int64
			name        string
		}
		list, err := rows(ctx, s.r, func(r *sql.Rows, p *part) error { return r.Scan(&p.file, &p.title, &p.name) },
			"SELECT f.id, f.title, f.part FROM (SELECT rowid FROM parts WHERE parts MATCH ?"+order+
				" LIMIT ?) p JOIN files f ON f.id = p.rowid AND f.gone = 0", query, 3*most)
		if err != nil {
			return nil, err
		}
		for _, p := range list {
			if len(out) >= limit {
				break
			}
			t, err := s.Title(ctx, p.title)
			if err != nil {
				return nil, err
			}
			if ok, err := s.Shows(ctx, sight, t); err != nil {
				return nil, err
			} else if ok {
				out = append(out, Hit{t, p.file, p.name})
			}
		}
	}
	return out, nil
}

// match writes what people type as the search tables want it: every word as a quoted
// prefix, so that nothing in it is taken for their language.
func match(text string) string {
	var out []string
	for _, w := range strings.FieldsFunc(text,
		func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) }) {
		if len(out) < 12 {
			out = append(out, `"`+w+`"*`)
		}
	}
	return strings.Join(out, " ")
}
