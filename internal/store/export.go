package store

import (
	"context"
	"database/sql"
	"errors"
	"net/url"
	"strings"
	"time"

	"cozyshelf/internal/core/usage"
)

// exportTypes are the columns of exported plays that are no text; all others are.
var exportTypes = map[string]string{"watched_seconds": "REAL", "position_seconds": "REAL", "duration_seconds": "REAL",
	"finished": "INTEGER", "away": "INTEGER", "bytes": "INTEGER", "id": "INTEGER PRIMARY KEY"}

// ExportPlays writes plays into an empty file, as an SQLite database with one table, plays, whose columns are
// usage.Columns, and gives how many there were.
func ExportPlays(ctx context.Context, path string, zone *time.Location,
	each func(func(usage.Play) error) error) (n int, err error) {
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(),
		RawQuery: "mode=rw&_pragma=journal_mode(OFF)&_pragma=synchronous(OFF)"}).String()) // whoever asked syncs it
	if err != nil {
		return 0, err
	}
	db.SetMaxOpenConns(1)
	defer func() { err = errors.Join(err, explain(db.Close())) }()
	var columns []string
	for _, c := range usage.Columns {
		kind := exportTypes[c]
		if kind == "" {
			kind = "TEXT"
		}
		columns = append(columns, c+" "+kind)
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return 0, explain(err)
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, "CREATE TABLE plays ("+strings.Join(columns, ", ")+")"); err != nil {
		return 0, explain(err)
	}
	insert, err := tx.PrepareContext(ctx, "INSERT INTO plays VALUES (?"+strings.Repeat(", ?", len(columns)-1)+")")
	if err != nil {
		return 0, explain(err)
	}
	defer insert.Close()
	at := func(t time.Time) any {
		if t.IsZero() {
			return nil
		}
		return t.In(zone).Format(time.RFC3339)
	}
	if err := each(func(p usage.Play) error {
		n++
		_, err := insert.ExecContext(ctx, at(p.Started), at(p.Ended), p.Member, strings.Join(p.Sofa, "; "), p.Shelf, p.Title,
			p.Part, p.Watched, p.Position, p.Duration, p.Done, p.Device, p.Address, p.Away, p.Delivery, p.Bytes, p.Why, p.ID)
		return explain(err)
	}); err != nil {
		return n, err
	}
	return n, explain(tx.Commit())
}
