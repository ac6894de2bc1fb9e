package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/usage"
)

// Described is what is known of a title beside its name.
type Described struct {
	describe.Description
	Source     string   // sidecar, file, wikidata, musicbrainz, person
	Edited     []string // fields that a person set
	Match      describe.Match
	Looked     time.Time
	Candidates []describe.Candidate
	From       string // where the picture is from
}

// Described gives what is known of a title; nothing known is no error.
func (s *Store) Described(ctx context.Context, title int64) (Described, error) {
	list, err := rows(ctx, s.r, func(r *sql.Rows, d *Described) error {
		var people, genres, edited, candidates string
		var looked int64
		if err := r.Scan(&d.Name, &d.Year, &d.Summary, &people, &genres, &d.Outside, &d.Source, &d.Picture, &d.From,
			&edited, &d.Match, &looked, &candidates, &d.Age); err != nil {
			return err
		}
		d.Looked = fromMilli(looked)
		for text, v := range map[string]any{people: &d.People, genres: &d.Genres, edited: &d.Edited,
			candidates: &d.Candidates} {
			if text == "[]" {
				continue
			}
			if err := json.Unmarshal([]byte(text), v); err != nil {
				return err
			}
		}
		return nil
	}, "SELECT name, year, summary, people, genres, outside, source, picture, picture_from, edited, state, looked, "+
		"candidates, age FROM descriptions WHERE title = ?", title)
	d := Described{}
	if err == nil && len(list) > 0 {
		d = list[0]
	}
	if d.Edited == nil {
		d.Edited = []string{}
	}
	if d.Candidates == nil {
		d.Candidates = []describe.Candidate{}
	}
	return d, err
}

// mostWorks bounds of how many titles it is read what is known.
const mostWorks = 200_000

// Works gives the genres and the people of those works that are wanted.
func (s *Store) Works(ctx context.Context, wanted map[usage.Work]bool) (map[usage.Work]usage.Known, error) {
	out := map[usage.Work]usage.Known{}
	_, err := rows(ctx, s.r, func(r *sql.Rows, _ *struct{}) error {
		var shelf, name, called, genres, people string
		if err := r.Scan(&shelf, &name, &called, &genres, &people); err != nil {
			return err
		}
		for _, w := range []usage.Work{{Shelf: shelf, Title: name}, {Shelf: shelf, Title: called}} {
			if !wanted[w] {
				continue
			}
			var k usage.Known
			var who []describe.Person
			if err := errors.Join(json.Unmarshal([]byte(genres), &k.Genres), json.Unmarshal([]byte(people), &who)); err != nil {
				return err
			}
			for _, p := range who {
				if !slices.Contains(k.People, p.Name) { // once, whatever they did in it
					k.People = append(k.People, p.Name)
				}
			}
			out[w] = k
		}
		return nil
	}, "SELECT t.shelf, t.name, d.name, d.genres, d.people FROM descriptions d JOIN titles t ON t.id = d.title "+
		"WHERE d.genres != '[]' OR d.people != '[]' LIMIT ?", mostWorks)
	return out, err
}

// Describe sets what is known of a title.
func (s *Store) Describe(ctx context.Context, title int64, d Described) error {
	return s.DescribeMany(ctx, map[int64]Described{title: d})
}

// DescribeMany sets what is known of titles, all or none.
func (s *Store) DescribeMany(ctx context.Context, list map[int64]Described) error {
	text := func(v any, none bool) string {
		if none {
			return "[]"
		}
		b, err := json.Marshal(v)
		if err != nil {
			panic(err) // plain values only
		}
		return string(b)
	}
	return s.change(ctx, func(tx *sql.Tx) error {
		for title, d := range list {
			_, err := tx.ExecContext(ctx,
				`INSERT INTO descriptions (title, name, year, summary, people, genres, outside, source, picture,
					picture_from, edited, state, looked, candidates, age) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT DO UPDATE SET age = excluded.age, name = excluded.name, year = excluded.year, summary = excluded.summary,
				people = excluded.people, genres = excluded.genres, outside = excluded.outside,
				source = excluded.source,
			picture = iif(excluded.picture = '' AND picture_from = '`+fromFilm+`', picture, excluded.picture),
				picture_from = iif(excluded.picture = '' AND picture_from = '`+fromFilm+`', picture_from,
				excluded.picture_from), edited = excluded.edited, state = excluded.state,
				looked = excluded.looked, candidates = excluded.candidates`,
				title, d.Name, d.Year, d.Summary, text(d.People, len(d.People) == 0),
				text(d.Genres, len(d.Genres) == 0), d.Outside, d.Source, d.Picture, d.From,
				text(d.Edited, len(d.Edited) == 0), d.Match, milli(d.Looked),
				text(d.Candidates, len(d.Candidates) == 0), d.Age)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// fromFilm is where a picture is from that was taken from the film itself. It stays until
// there is another.
const fromFilm = "the film"

// PictureFromFilm gives a title a picture from the film, unless it has one.
func (s *Store) PictureFromFilm(ctx context.Context, title int64, name string) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO descriptions (title, picture, picture_from) VALUES (?, ?, ?) ON "+
			"CONFLICT DO UPDATE SET picture = excluded.picture, picture_from = excluded.picture_from WHERE "+
			"descriptions.picture = ''", title, name, fromFilm)
		return err
	})
}

// Undescribed gives titles that were never looked at since their files last changed, or where no
// catalogue could be asked before a time; at most so many. Those that a person saw to are left out.
// Of the kinds that catalogues may be asked about, those that none was asked about are among them.
func (s *Store) Undescribed(ctx context.Context, asked []string, before time.Time, limit int) ([]int64, error) {
	kinds, err := json.Marshal(append([]string{}, asked...))
	if err != nil {
		return nil, err
	}
	return rows(ctx, s.r, func(r *sql.Rows, id *int64) error { return r.Scan(id) },
		`SELECT t.id FROM titles t LEFT JOIN descriptions d ON d.title = t.id
		WHERE (coalesce(d.looked, 0) = 0 OR d.state = 'failed' AND d.looked < ? OR d.state = '' AND d.summary = ''
			AND t.kind IN (SELECT value FROM json_each(?))) AND coalesce(d.state, '') NOT IN ('none', 'chosen')
		AND EXISTS (SELECT 1 FROM files f WHERE f.title = t.id AND f.gone = 0) ORDER BY t.id LIMIT ?`, milli(before),
		string(kinds), limit)
}

// LookAgain notes that titles are to be looked at again.
func (s *Store) LookAgain(ctx context.Context, titles ...int64) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		for _, id := range titles {
			if _, err := tx.ExecContext(ctx, "UPDATE descriptions SET looked = 0 WHERE title = ?", id); err != nil {
				return err
			}
		}
		return nil
	})
}

// UnclearTitle is a title that several entries of catalogues fit, and none clearly.
type UnclearTitle struct {
	ID         int64
	Shelf      string
	Name       string
	Year       int
	Candidates []describe.Candidate // the best first
}

// Unclear gives some titles that a person has to match.
func (s *Store) Unclear(ctx context.Context, limit int) ([]UnclearTitle, error) {
	return rows(ctx, s.r, func(r *sql.Rows, v *UnclearTitle) error {
		var candidates string
		if err := r.Scan(&v.ID, &v.Shelf, &v.Name, &v.Year, &candidates); err != nil {
			return err
		}
		return json.Unmarshal([]byte(candidates), &v.Candidates)
	}, `SELECT t.id, t.shelf, t.name, t.year, x.candidates FROM descriptions x JOIN titles t ON t.id = x.title
		WHERE x.state = 'unclear' AND EXISTS (SELECT 1 FROM files WHERE title = t.id AND gone = 0)
		ORDER BY t.shelf, t.folded LIMIT ?`, limit)
}
