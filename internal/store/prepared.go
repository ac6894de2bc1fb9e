package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"cozyshelf/internal/core/media"
)

// Prepared is a copy of a film that is made beforehand, or that is wanted.
type Prepared struct {
	ID     int64
	File   int64
	Height int    // lines at most
	For    string // the member
	By     string // who asked; empty for the administrator's tool
	Asked  time.Time
	Soon   bool // not only at quiet hours
	State  PreparedState
	Done   float64 // seconds of film
	Length float64
	Bytes  int64 // expected until it is ready
	Media  media.Info
	Fault  string // why it failed

	Title     string
	TitleID   int64
	Part      string // the file's path on its shelf
	FileSize  int64  // of the file when it was asked for
	FileMtime int64
}

// PreparedState is how far a copy is.
type PreparedState string

// The states.
const (
	PreparedWaiting PreparedState = "waiting"
	PreparedMaking  PreparedState = "making"
	PreparedReady   PreparedState = "ready"
	PreparedFailed  PreparedState = "failed"
)

// mostPrepared is how many there are at most.
const mostPrepared = 1000

// ErrMany says that there are as many as may be.
var ErrMany = errors.New("there are as many as may be")

// AddPrepared notes that a copy is wanted, and gives its number. One that failed is wanted anew.
func (s *Store) AddPrepared(ctx context.Context, f File, p Prepared) (id int64, err error) {
	err = s.change(ctx, func(tx *sql.Tx) error {
		var state PreparedState
		err := tx.QueryRowContext(ctx, "SELECT id, state FROM prepared WHERE file = ? AND height = ?", f.ID, p.Height).
			Scan(&id, &state)
		switch {
		case err == nil && state != PreparedFailed:
			return ErrExists
		case err == nil:
			if _, err := tx.ExecContext(ctx, "DELETE FROM prepared WHERE id = ?", id); err != nil {
				return err
			}
		case !errors.Is(err, sql.ErrNoRows):
			return err
		}
		var n int
		if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM prepared").Scan(&n); err != nil {
			return err
		}
		if n >= mostPrepared {
			return ErrMany
		}
		r, err := tx.ExecContext(ctx, "INSERT INTO prepared (file, size, mtime, height, wanted, asked, at, soon, state, "+
			"length, bytes) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", f.ID, f.Size, f.Modified.UnixNano(), p.Height, p.For,
			p.By, milli(time.Now()), p.Soon, PreparedWaiting, p.Length, p.Bytes)
		if err != nil {
			return err
		}
		id, err = r.LastInsertId()
		return err
	})
	return id, err
}

// preparedColumns are read by scanPrepared.
const preparedColumns = "SELECT p.id, p.file, p.size, p.mtime, p.height, p.wanted, p.asked, p.at, p.soon, p.state, " +
	"p.done, p.length, p.bytes, p.media, p.problem, t.id, t.name, f.name FROM prepared p JOIN files f ON f.id = p.file " +
	"JOIN titles t ON t.id = f.title "

func scanPrepared(r *sql.Rows, p *Prepared) error {
	var at int64
	var found string
	if err := r.Scan(&p.ID, &p.File, &p.FileSize, &p.FileMtime, &p.Height, &p.For, &p.By, &at, &p.Soon, &p.State,
		&p.Done, &p.Length, &p.Bytes, &found, &p.Fault, &p.TitleID, &p.Title, &p.Part); err != nil {
		return err
	}
	p.Asked = time.UnixMilli(at)
	return json.Unmarshal([]byte(found), &p.Media)
}

// AllPrepared lists the copies, the oldest first.
func (s *Store) AllPrepared(ctx context.Context) ([]Prepared, error) {
	return rows(ctx, s.r, scanPrepared, preparedColumns+"ORDER BY p.id")
}

// PreparedOf lists the copies of a file.
func (s *Store) PreparedOf(ctx context.Context, file int64) ([]Prepared, error) {
	return rows(ctx, s.r, scanPrepared, preparedColumns+"WHERE p.file = ? ORDER BY p.height DESC", file)
}

// PreparedOfTitle lists the copies of a title's files.
func (s *Store) PreparedOfTitle(ctx context.Context, title int64) ([]Prepared, error) {
	return rows(ctx, s.r, scanPrepared, preparedColumns+"WHERE t.id = ? ORDER BY p.height DESC", title)
}

// PreparedByID gives one.
func (s *Store) PreparedByID(ctx context.Context, id int64) (Prepared, error) {
	return one(rows(ctx, s.r, scanPrepared, preparedColumns+"WHERE p.id = ?", id))
}

// SetPrepared notes how far a copy is.
func (s *Store) SetPrepared(ctx context.Context, p Prepared) error {
	found, err := json.Marshal(p.Media)
	if err != nil {
		return err
	}
	return s.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE prepared SET state = ?, done = ?, length = ?, bytes = ?, media = ?, "+
			"problem = ? WHERE id = ?", p.State, p.Done, p.Length, p.Bytes, string(found), p.Fault, p.ID)
		return err
	})
}

// RemovePrepared forgets a copy.
func (s *Store) RemovePrepared(ctx context.Context, id int64) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM prepared WHERE id = ?", id)
		return err
	})
}
