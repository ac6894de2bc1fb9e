package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// What a store itself may have wrong. Found with errors.Is.
var (
	ErrNewer   = errors.New("the store was made by a newer program")
	ErrDamaged = errors.New("the store is damaged")
	ErrFull    = fullError{}
	ErrNoLocks = errors.New("the file system has no locks")
)

// fullError says that the disk is full: for errors.Is the same as what the system says of it.
type fullError struct{}

func (fullError) Error() string { return "the disk is full" }

// Is reports whether a target is the system's word for a full disk.
func (fullError) Is(target error) bool { return target == syscall.ENOSPC }

// explain adds what an error of the database means.
func explain(err error) error {
	var e *sqlite.Error
	if err == nil || !errors.As(err, &e) {
		if errors.Is(err, syscall.ENOSPC) {
			return fmt.Errorf("%w: %w", ErrFull, err)
		}
		return err
	}
	switch e.Code() {
	case sqlite3.SQLITE_IOERR_SHMSIZE: // the shared memory is a file that has to grow
		return fmt.Errorf("%w: %w", ErrFull, err)
	case sqlite3.SQLITE_PROTOCOL, sqlite3.SQLITE_IOERR_LOCK, sqlite3.SQLITE_IOERR_RDLOCK, sqlite3.SQLITE_IOERR_UNLOCK,
		sqlite3.SQLITE_IOERR_SHMLOCK, sqlite3.SQLITE_IOERR_SHMMAP, sqlite3.SQLITE_IOERR_CHECKRESERVEDLOCK:
		return fmt.Errorf("%w: %w", ErrNoLocks, err)
	}
	switch e.Code() & 0xff {
	case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	case sqlite3.SQLITE_FULL:
		return fmt.Errorf("%w: %w", ErrFull, err)
	}
	return err
}

// Newest is the newest format of the store that this program knows: the number of
// its last migration.
func Newest() int {
	list, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return 0
	}
	n := 0
	for _, p := range list {
		number, _, _ := strings.Cut(strings.TrimPrefix(p, "migrations/"), "_")
		if v, err := strconv.Atoi(number); err == nil {
			n = max(n, v)
		}
	}
	return n
}

// Facts is what a store holds, without opening it for work.
type Facts struct {
	Format  int       `json:"format"`
	Members int       `json:"members"`
	Titles  int       `json:"titles"`
	Plays   int       `json:"plays"`
	Last    time.Time `json:"last_play_at,omitzero"` // when the last play was seen

	Passkeys []PasskeysFor `json:"passkeys,omitempty"`
}

// PasskeysFor are the passkeys of a store for one name of its server: they are good for no other.
type PasskeysFor struct {
	Name  string   `json:"name"`
	Count int      `json:"count"`
	Only  []string `json:"only_way_in,omitempty"` // members who have no password, and passkeys for no other name
}

// withPasskeys is the first format of the store that has passkeys.
const withPasskeys = 15

// read opens a store to look at it. Nothing is migrated. A store beside which lies
// no write-ahead log is not touched at all.
func read(path string) (*sql.DB, error) {
	query := "mode=ro&_pragma=busy_timeout(10000)"
	if _, err := os.Stat(path + "-wal"); errors.Is(err, os.ErrNotExist) {
		query = "immutable=1&" + query
	}
	return sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(),
		RawQuery: query}).String())
}

// Beside refuses a store beside which something else than files stands: a pipe in place of its log
// would keep whoever opens it for ever.
func Beside(path string) error {
	for _, end := range []string{"", "-wal", "-shm", "-journal"} {
		st, err := os.Stat(path + end)
		if err == nil && !st.Mode().IsRegular() {
			return fmt.Errorf("%w: %s is no file, but %s", ErrDamaged, filepath.Base(path+end), st.Mode().Type())
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Inspect looks at the store at a path. Whole reads every page of it and checks
// that all of it fits together.
func Inspect(ctx context.Context, path string, whole bool) (Facts, error) {
	var f Facts
	if _, err := os.Stat(path); err != nil {
		return f, err
	}
	db, err := read(path)
	if err != nil {
		return f, err
	}
	defer db.Close()
	if whole {
		if err := integrity(ctx, db, "integrity_check"); err != nil {
			return f, err
		}
	}
	var last sql.NullInt64
	if err := db.QueryRowContext(ctx, "SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE "+
		"is_applied").Scan(&f.Format); err != nil {
		return f, explain(fmt.Errorf("it is no store of this program: %w", err))
	}
	if err := db.QueryRowContext(ctx, "SELECT (SELECT count(*) FROM members), (SELECT count(*) FROM titles), "+
		"(SELECT count(*) FROM plays), (SELECT max(seen) FROM plays)").Scan(&f.Members, &f.Titles, &f.Plays,
		&last); err != nil {
		return f, explain(err)
	}
	f.Last = fromMilli(last.Int64)
	if f.Format >= withPasskeys {
		f.Passkeys, err = rows(ctx, db, func(r *sql.Rows, p *PasskeysFor) error {
			var only string
			err := r.Scan(&p.Name, &p.Count, &only)
			return errors.Join(err, json.Unmarshal([]byte(only), &p.Only))
		}, `SELECT k.place, count(*), json_group_array(DISTINCT m.name) FILTER (WHERE m.password = '' AND NOT EXISTS
			(SELECT 1 FROM passkeys o WHERE o.member = m.id AND o.place != k.place))
			FROM passkeys k JOIN members m ON m.id = k.member GROUP BY k.place ORDER BY k.place`)
	}
	return f, explain(err)
}

// integrity runs one of SQLite's checks of a whole database.
func integrity(ctx context.Context, db *sql.DB, check string) error {
	list, err := rows(ctx, db, func(r *sql.Rows, s *string) error { return r.Scan(s) }, "PRAGMA "+check+"(3)")
	if err != nil {
		return explain(err)
	}
	if len(list) == 1 && list[0] == "ok" {
		return nil
	}
	return fmt.Errorf("%w: %s", ErrDamaged, strings.ReplaceAll(strings.Join(list, "; "), "\n", " "))
}

// Check looks whether all pages of the store fit together.
func (s *Store) Check(ctx context.Context) error { return integrity(ctx, s.r, "quick_check") }

// Snapshot writes a consistent copy of the store to a path where nothing is, while
// it is in use (SQLite's online backup). The copy is synced.
func (s *Store) Snapshot(ctx context.Context, to string) error { return snapshot(ctx, s.r, to) }

// Copy does the same for a store that is not open here. What its write-ahead log
// holds is in the copy.
func Copy(ctx context.Context, from, to string) error {
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: from}).EscapedPath(),
		RawQuery: "mode=rw&_pragma=busy_timeout(10000)"}).String())
	if err != nil {
		return err
	}
	defer db.Close()
	return snapshot(ctx, db, to)
}

func snapshot(ctx context.Context, db *sql.DB, to string) (err error) {
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	f.Close()
	defer func() {
		if err != nil {
			os.Remove(to)
			err = explain(err)
		}
	}()
	c, err := db.Conn(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	// In one transaction that reads, so that no writer makes it begin again.
	if _, err := c.ExecContext(ctx, "BEGIN"); err != nil {
		return err
	}
	defer c.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
	var n int
	if err := c.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema").Scan(&n); err != nil {
		return err
	}
	err = c.Raw(func(dc any) error {
		if w, ok := dc.(*conn); ok {
			dc = w.wholeConn
		}
		b, err := dc.(interface {
			NewBackup(string) (*sqlite.Backup, error)
		}).NewBackup((&url.URL{Scheme: "file", Opaque: (&url.URL{Path: to}).EscapedPath()}).String())
		if err != nil {
			return err
		}
		// All at once: readers and the writer work beside it.
		for more := true; more; {
			if err := ctx.Err(); err != nil {
				return errors.Join(err, b.Finish())
			}
			if more, err = b.Step(4096); err != nil {
				return errors.Join(err, b.Finish())
			}
		}
		return b.Finish()
	})
	if err != nil {
		return err
	}
	if f, err = os.OpenFile(to, os.O_RDWR, 0); err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// Settle brings all that a write-ahead log holds into the store's one file, and
// removes the log. Nobody may have the store open.
func Settle(ctx context.Context, path string) error {
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(),
		RawQuery: "mode=rw&_pragma=busy_timeout(10000)"}).String())
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	var mode string
	if err := db.QueryRowContext(ctx, "PRAGMA journal_mode(DELETE)").Scan(&mode); err != nil {
		return explain(err)
	}
	if mode != "delete" {
		return fmt.Errorf("the write-ahead log of %s could not be brought in (%s)", path, mode)
	}
	return nil
}

// Since is what a store holds that came after a time.
type Since struct {
	Members   []string `json:"members"`   // added since
	Plays     int      `json:"plays"`     // begun since
	Positions int      `json:"positions"` // moved since
}

// LookSince says what came into the store at a path after a time.
func LookSince(ctx context.Context, path string, t time.Time) (Since, error) {
	out := Since{}
	if _, err := os.Stat(path); err != nil {
		return out, err
	}
	db, err := read(path)
	if err != nil {
		return out, err
	}
	defer db.Close()
	if out.Members, err = rows(ctx, db, func(r *sql.Rows, s *string) error { return r.Scan(s) },
		"SELECT name FROM members WHERE created > ? ORDER BY created", milli(t)); err != nil {
		return out, explain(err)
	}
	err = db.QueryRowContext(ctx, "SELECT (SELECT count(*) FROM plays WHERE started > ?1), (SELECT count(*) FROM "+
		"positions WHERE updated > ?1)", milli(t)).Scan(&out.Plays, &out.Positions)
	return out, explain(err)
}
