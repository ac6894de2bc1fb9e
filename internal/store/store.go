// Package store keeps what the server knows: members and their devices, the
// titles on the shelves, positions and plays. It is one SQLite database in the
// state folder. What a method has returned without error is on the disk.
//
// One connection writes; others read beside it (write-ahead log). The schema is
// in migrations/, applied in order when the store is opened.
package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"cozyshelf/internal/atomicfile"

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
)

// SQLite's lower() knows the letters of English only.
func init() {
	sqlite.MustRegisterDeterministicScalarFunction("fold", 1,
		func(_ *sqlite.FunctionContext, args []driver.Value) (driver.Value, error) {
			text, _ := args[0].(string)
			return Fold(text), nil
		})
}

//go:embed migrations/*.sql
var migrations embed.FS

// What methods may fail with, beside errors of the database.
var (
	ErrNotFound = errors.New("not known")
	ErrExists   = errors.New("exists already")
	ErrBusy     = errors.New("somebody reads the store at this moment")
)

// Store is an open store.
type Store struct {
	w    *sql.DB // the one connection that writes
	r    *sql.DB
	look *sql.DB // of Ping alone, which must not wait for others

	zone atomic.Pointer[time.Location] // by whose clocks days are told; nil while it is not said

	damage    atomic.Pointer[error] // the first error that told of any
	committed atomic.Int64          // when a write was last committed, in milliseconds; 0 after one that failed

	// What is signed in, while nothing has changed since it was read; edition counts changes.
	devices atomic.Pointer[map[[sha256.Size]byte]entry]
	people  atomic.Pointer[map[string]Member] // by name, folded
	keys    atomic.Pointer[map[[sha256.Size]byte]Key]
	edition atomic.Int64
	reading sync.Mutex
}

// Damage gives the first error since the store was opened that told of damage.
func (s *Store) Damage() error {
	if p := s.damage.Load(); p != nil {
		return *p
	}
	return nil
}

// explain adds what an error means, and remembers damage.
func (s *Store) explain(err error) error {
	err = explain(err)
	if errors.Is(err, ErrDamaged) {
		s.damage.CompareAndSwap(nil, &err)
	}
	if errors.Is(err, ErrFull) {
		s.committed.Store(0)
	}
	return err
}

// Open opens the store at a path, making it or bringing its schema up to date.
func Open(ctx context.Context, path string) (*Store, error) {
	dsn := func(extra string) string {
		return (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(),
			RawQuery: "_pragma=busy_timeout(10000)&_pragma=foreign_keys(1)&_pragma=synchronous(FULL)" +
				"&_pragma=temp_store(MEMORY)" + extra}).String()
	}
	if err := Beside(path); err != nil {
		return nil, err
	}
	s := &Store{}
	w, err := s.open(dsn("&_pragma=journal_mode(WAL)&_pragma=wal_autocheckpoint(4000)" +
		"&_pragma=cache_size(-8000)&_pragma=secure_delete(1)&_txlock=immediate"))
	if err != nil {
		return nil, err
	}
	w.SetMaxOpenConns(1)
	r, err := s.open(dsn("&_pragma=query_only(1)"))
	if err != nil {
		w.Close()
		return nil, err
	}
	look, err := s.open(dsn("&_pragma=query_only(1)"))
	if err != nil {
		w.Close()
		r.Close()
		return nil, err
	}
	look.SetMaxOpenConns(1)
	look.SetConnMaxIdleTime(time.Minute)
	r.SetMaxOpenConns(4)
	r.SetMaxIdleConns(2)
	r.SetConnMaxIdleTime(time.Minute)
	if err := atomicfile.Locks(filepath.Dir(path)); err != nil {
		w.Close()
		r.Close()
		look.Close()
		return nil, fmt.Errorf("%w: %w", ErrNoLocks, err)
	}
	s.w, s.r, s.look = w, r, look
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, s.w, dir)
	if err != nil {
		return err
	}
	have, err := p.GetDBVersion(ctx)
	if err != nil {
		return fmt.Errorf("looking at the store: %w", explain(err))
	}
	if have > int64(Newest()) {
		return fmt.Errorf("%w: it has format %d, this program knows %d", ErrNewer, have, Newest())
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bringing the store up to date: %w", explain(err))
	}
	return nil
}

// Close closes the store.
func (s *Store) Close() error { return errors.Join(s.r.Close(), s.look.Close(), s.w.Close()) }

// lately is for how long a commit tells that the store can be written, while another write
// keeps the one connection that writes.
const lately = 30 * time.Second

// Ping reports whether the store can be read and written. It does not wait for a long write, such
// as a scan's, if one before it was committed lately.
func (s *Store) Ping(ctx context.Context) error {
	var n int
	if err := s.look.QueryRowContext(ctx, "SELECT count(*) FROM members").Scan(&n); err != nil {
		return s.explain(err)
	}
	if s.w.Stats().InUse > 0 && time.Since(fromMilli(s.committed.Load())) < lately {
		return nil
	}
	tx, err := s.w.BeginTx(ctx, nil)
	if err != nil {
		return s.explain(err)
	}
	return s.explain(tx.Rollback())
}

func milli(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func fromMilli(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.UnixMilli(n)
}

// rows runs a query and gives each row to scan.
func rows[T any](ctx context.Context, db interface {
	QueryContext(context.Context, string, ...any) (*sql.Rows, error)
}, scan func(*sql.Rows, *T) error, query string, args ...any) ([]T, error) {
	rs, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, explain(err)
	}
	defer rs.Close()
	out := []T{}
	for rs.Next() {
		var v T
		if err := scan(rs, &v); err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, explain(rs.Err())
}

// one gives the only row, or ErrNotFound.
func one[T any](list []T, err error) (T, error) {
	var zero T
	if err != nil {
		return zero, err
	}
	if len(list) == 0 {
		return zero, ErrNotFound
	}
	return list[0], nil
}
