package store

import (
	"context"
	"database/sql"
	"path"
	"strings"
)

// Mounts gives what was mounted below one folder of a shelf, as paths below it.
func (s *Store) Mounts(ctx context.Context, shelf, root string) ([]string, error) {
	return rows(ctx, s.r, func(r *sql.Rows, p *string) error { return r.Scan(p) },
		"SELECT path FROM mounts WHERE shelf = ? AND root = ? ORDER BY path", shelf, root)
}

// SetMounts notes what is mounted below one folder of a shelf.
func (s *Store) SetMounts(ctx context.Context, shelf, root string, paths []string) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM mounts WHERE shelf = ? AND root = ?", shelf, root); err != nil {
			return err
		}
		for _, p := range paths {
			if _, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO mounts (shelf, root, path) VALUES (?, ?, ?)",
				shelf, root, p); err != nil {
				return err
			}
		}
		return nil
	})
}

// KnownBelow gives a few files that were there the last time, at or below a
// folder, as paths below the shelf's folder.
func (s *Store) KnownBelow(ctx context.Context, shelf, root, folder string, most int) ([]string, error) {
	like := "%"
	if folder != "" {
		like = strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(folder) + "/%"
	}
	type row struct{ folder, name string }
	list, err := rows(ctx, s.r, func(r *sql.Rows, v *row) error { return r.Scan(&v.folder, &v.name) },
		`SELECT folders.path, files.name FROM files JOIN folders ON folders.id = files.folder
		WHERE shelf = ? AND root = ? AND gone = 0 AND (folders.path = ? OR folders.path LIKE ? ESCAPE '\') LIMIT ?`,
		shelf, root, folder, like, most)
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = path.Join(v.folder, v.name)
	}
	return out, err
}
