package store

import (
	"context"
	"database/sql"
	"time"

	"cozyshelf/internal/core/household"
)

// Finding is what work of quiet hours found out about a file.
type Finding struct {
	Work    string
	Found   string // as JSON; empty where that could not be
	Problem string // why
}

// due says which files a piece of work is for: those whose state it was not done for.
var due = map[string]string{
	household.Frames: "f.content = 'video' AND t.kind IN ('films', 'series', 'recordings') AND instr(f.beside, " +
		"'\"sort\":\"picture\"') = 0 AND NOT EXISTS (SELECT 1 FROM descriptions x WHERE x.title = t.id AND " +
		"x.picture != '') AND f.id = (SELECT min(g.id) FROM files g WHERE g.title = t.id AND g.gone = 0 AND " +
		"g.extra = '' AND g.problem = '' AND g.content = 'video')",
	household.Chapters: "f.content = 'video'",
	household.Loudness: "f.content IN ('video', 'audio')",
}

const dueFrom = " FROM files f JOIN titles t ON t.id = f.title LEFT JOIN findings n ON n.file = f.id AND " +
	"n.work = ? WHERE f.id > ? AND f.gone = 0 AND f.problem = '' AND f.extra = '' AND (n.file IS NULL OR " +
	"n.size != f.size OR n.mtime != f.mtime) AND "

// DueAfter gives the next file, by its id, for a piece of work; ErrNotFound for none.
func (s *Store) DueAfter(ctx context.Context, work string, after int64) (File, error) {
	id, err := one(rows(ctx, s.r, func(r *sql.Rows, id *int64) error { return r.Scan(id) }, "SELECT f.id"+
		dueFrom+due[work]+" ORDER BY f.id LIMIT 1", work, after))
	if err != nil {
		return File{}, err
	}
	return s.File(ctx, id, 0)
}

// Due counts the files for a piece of work.
func (s *Store) Due(ctx context.Context, work string) (n int, err error) {
	err = s.r.QueryRowContext(ctx, "SELECT count(*)"+dueFrom+due[work], work, 0).Scan(&n)
	return n, s.explain(err)
}

// SetFinding notes what was found out about a file in the state in which it was looked at.
func (s *Store) SetFinding(ctx context.Context, f File, v Finding) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO findings (file, work, size, mtime, found, problem, "+
			"at) VALUES (?, ?, ?, ?, ?, ?, ?)",
			f.ID, v.Work, f.Size, f.Modified.UnixNano(), v.Found, v.Problem, milli(time.Now()))
		return err
	})
}

// Findings gives what was found out about a file as it is now, by the work.
func (s *Store) Findings(ctx context.Context, file int64) (map[string]Finding, error) {
	list, err := rows(ctx, s.r, func(r *sql.Rows, v *Finding) error { return r.Scan(&v.Work, &v.Found, &v.Problem) },
		"SELECT n.work, n.found, n.problem FROM findings n JOIN files f ON f.id = n.file AND f.size = n.size AND "+
			"f.mtime = n.mtime WHERE n.file = ?", file)
	out := map[string]Finding{}
	for _, v := range list {
		out[v.Work] = v
	}
	return out, err
}
