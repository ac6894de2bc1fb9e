package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"time"
)

// watched is a connector of the database whose every error is told of, whoever asked: so
// damage that is seen anywhere is known everywhere. Once it is, nothing is written any more.
type watched struct {
	dsn    string
	driver driver.Driver
	store  *Store
}

// open opens a database through it.
func (s *Store) open(dsn string) (*sql.DB, error) {
	plain, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	defer plain.Close() // it has connected to nothing yet
	return sql.OpenDB(&watched{dsn, plain.Driver(), s}), nil
}

// Connect makes a connection.
func (w *watched) Connect(context.Context) (driver.Conn, error) {
	c, err := w.driver.Open(w.dsn)
	if err != nil {
		return nil, w.store.explain(err)
	}
	whole, ok := c.(wholeConn)
	if !ok {
		c.Close()
		return nil, errors.New("the database's driver has changed: its connections lack what is needed")
	}
	return &conn{whole, w.store}, nil
}

// Driver gives the driver below.
func (w *watched) Driver() driver.Driver { return w.driver }

// wholeConn is what a connection of the driver has to be able to do.
type wholeConn interface {
	driver.Conn
	driver.ConnPrepareContext
	driver.ConnBeginTx
	driver.ExecerContext
	driver.QueryerContext
	driver.SessionResetter
	driver.Validator
}

type conn struct {
	wholeConn
	s *Store
}

// mayWrite refuses what would write to a store that is known to be damaged. Opening one has
// to look at it first, so until then all is let through.
func (c *conn) mayWrite() error {
	if err := c.s.Damage(); err != nil {
		return fmt.Errorf("nothing is written to it any more: %w", err)
	}
	return nil
}

func (c *conn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	st, err := c.wholeConn.PrepareContext(ctx, query)
	if err != nil {
		return nil, c.s.explain(err)
	}
	return &stmt{st, c}, nil
}

func (c *conn) Prepare(query string) (driver.Stmt, error) {
	return c.PrepareContext(context.Background(), query)
}

func (c *conn) BeginTx(ctx context.Context, opts driver.TxOptions) (driver.Tx, error) {
	if err := c.mayWrite(); err != nil {
		return nil, err
	}
	t, err := c.wholeConn.BeginTx(ctx, opts)
	if err != nil {
		return nil, c.s.explain(err)
	}
	return &tx{t, c.s}, nil
}

func (c *conn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	if err := c.mayWrite(); err != nil {
		return nil, err
	}
	r, err := c.wholeConn.ExecContext(ctx, query, args)
	return r, c.s.explain(err)
}

func (c *conn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	r, err := c.wholeConn.QueryContext(ctx, query, args)
	if err != nil {
		return nil, c.s.explain(err)
	}
	return &result{r, c.s}, nil
}

type tx struct {
	driver.Tx
	s *Store
}

// Commit commits, and notes when that went well: see Store.Ping.
func (t *tx) Commit() error {
	err := t.Tx.Commit()
	if t.s.committed.Store(0); err == nil {
		t.s.committed.Store(time.Now().UnixMilli())
	}
	return t.s.explain(err)
}

type stmt struct {
	driver.Stmt
	c *conn
}

func (st *stmt) ExecContext(ctx context.Context, args []driver.NamedValue) (driver.Result, error) {
	if err := st.c.mayWrite(); err != nil {
		return nil, err
	}
	of, ok := st.Stmt.(driver.StmtExecContext)
	if !ok {
		return nil, driver.ErrSkip
	}
	r, err := of.ExecContext(ctx, args)
	return r, st.c.s.explain(err)
}

func (st *stmt) QueryContext(ctx context.Context, args []driver.NamedValue) (driver.Rows, error) {
	of, ok := st.Stmt.(driver.StmtQueryContext)
	if !ok {
		return nil, driver.ErrSkip
	}
	r, err := of.QueryContext(ctx, args)
	if err != nil {
		return nil, st.c.s.explain(err)
	}
	return &result{r, st.c.s}, nil
}

// result are rows whose end is told of, unless it is the plain one.
type result struct {
	driver.Rows
	s *Store
}

func (r *result) Next(into []driver.Value) error { return r.s.explain(r.Rows.Next(into)) }
