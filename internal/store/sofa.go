package store

import (
	"cmp"
	"context"
	"database/sql"
	"time"

	"cozyshelf/internal/core/usage"
)

// Sitting is a member on the sofa.
type Sitting struct {
	ID   int64
	Name string
}

// SofaOf gives who watched a play beside the member whose device it was.
func (s *Store) SofaOf(ctx context.Context, play int64) ([]Sitting, error) {
	return rows(ctx, s.r, func(r *sql.Rows, v *Sitting) error { return r.Scan(&v.ID, &v.Name) },
		"SELECT member, name FROM sofas WHERE play = ? ORDER BY folded", play)
}

// Sit says who watched a play beside the member whose device it was. Who sits down gets the position that
// was reached.
func (s *Store) Sit(ctx context.Context, play int64, sofa []Sitting) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		var file int64
		var position float64
		var seen int64
		if err := tx.QueryRowContext(ctx, "SELECT file, position, seen FROM plays WHERE id = ?", play).Scan(&file, &position,
			&seen); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM sofas WHERE play = ?", play); err != nil {
			return err
		}
		for _, m := range sofa {
			if _, err := tx.ExecContext(ctx, "INSERT INTO sofas (play, member, name, folded) VALUES (?, ?, ?, ?)", play, m.ID,
				m.Name, Fold(m.Name)); err != nil {
				return err
			}
		}
		return markSofa(ctx, tx, play, file, position, seen)
	})
}

// markSofa notes where those on the sofa will resume.
func markSofa(ctx context.Context, tx *sql.Tx, play, file int64, position float64, at int64) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO positions (member, file, position, updated)
		SELECT m.id, ?2, ?3, ?4 FROM sofas s JOIN members m ON m.id = s.member WHERE s.play = ?1
		ON CONFLICT DO UPDATE SET position = excluded.position, updated = excluded.updated`, play, file, position, at)
	return err
}

// LastPlay gives the last play of a file on a device since a time, or of any file for 0; ErrNotFound for none.
// With sofa only those that somebody else watched, too.
func (s *Store) LastPlay(ctx context.Context, device, file int64, since time.Time, sofa bool) (usage.Play, error) {
	list, err := rows(ctx, s.r, scanPlay, playColumns+`WHERE device_id = ?1 AND (?2 = 0 OR file = ?2) AND seen >= ?3
		AND (NOT ?4 OR EXISTS (SELECT 1 FROM sofas WHERE play = plays.id)) ORDER BY seen DESC, id DESC LIMIT 1`, device, file,
		milli(since), sofa)
	if err != nil || len(list) == 0 {
		return usage.Play{}, cmp.Or(err, ErrNotFound)
	}
	return list[0], nil
}

// Position is where a member would go on.
type Position struct {
	Shelf, Title, Part string
	Position           float64 // seconds
	Updated            time.Time
}

// Positions gives all positions of a member, the latest first.
func (s *Store) Positions(ctx context.Context, member int64, do func(Position) error) error {
	_, err := rows(ctx, s.r, func(r *sql.Rows, _ *struct{}) error {
		var p Position
		var updated int64
		if err := r.Scan(&p.Shelf, &p.Title, &p.Part, &p.Position, &updated); err != nil {
			return err
		}
		p.Updated = fromMilli(updated)
		return do(p)
	}, `SELECT t.shelf, coalesce(nullif(x.name, ''), t.name), f.part, p.position, p.updated FROM positions p
		JOIN files f ON f.id = p.file JOIN titles t ON t.id = f.title LEFT JOIN descriptions x ON x.title = t.id
		WHERE p.member = ? ORDER BY p.updated DESC`, member)
	return err
}
