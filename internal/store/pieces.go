package store

import (
	"context"
	"database/sql"
	"encoding/json"
)

// Pieces gives what was kept of a film as it is now; ErrNotFound where nothing was.
func (s *Store) Pieces(ctx context.Context, f File) ([]byte, error) {
	return one(rows(ctx, s.r, func(r *sql.Rows, b *[]byte) error { return r.Scan(b) },
		"SELECT found FROM pieces WHERE file = ? AND size = ? AND mtime = ?", f.ID, f.Size, f.Modified.UnixNano()))
}

// KeepPieces keeps what was found when a film was looked through.
func (s *Store) KeepPieces(ctx context.Context, f File, found []byte) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO pieces (file, size, mtime, found) VALUES (?, ?, ?, ?)",
			f.ID, f.Size, f.Modified.UnixNano(), found)
		return err
	})
}

// KeepTracks keeps what a file holds that the scan could not open.
func (s *Store) KeepTracks(ctx context.Context, f File) error {
	info, err := json.Marshal(f.Media)
	if err != nil {
		return err
	}
	return s.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE files SET info = ?, duration = ? WHERE id = ? AND size = ? AND mtime = ?",
			string(info), f.Duration, f.ID, f.Size, f.Modified.UnixNano())
		return err
	})
}
