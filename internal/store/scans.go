package store

import (
	"context"
	"database/sql"
	"time"

	"cozyshelf/internal/core/household"
)

// Folder is what is known of one folder of a shelf.
type Folder struct {
	ID        int64
	Path      string // below the shelf's folder; empty for itself
	Signature string // bytes; empty: look again
	Problem   string
	Failing   bool // holds files that could not be read the last time
}

// Folders gives what is known below one folder of a shelf.
func (s *Store) Folders(ctx context.Context, shelf, root string) ([]Folder, error) {
	return rows(ctx, s.r, func(r *sql.Rows, f *Folder) error {
		return r.Scan(&f.ID, &f.Path, &f.Signature, &f.Problem, &f.Failing)
	}, `SELECT id, path, signature, problem, EXISTS (SELECT 1 FROM files WHERE folder = folders.id AND problem != '' AND gone = 0) FROM folders WHERE shelf = ? AND root = ?`, shelf, root)
}

// Known is what is known of one file of a folder.
type Known struct {
	ID      int64
	Name    string
	Size    int64
	MTime   int64
	CTime   int64
	Problem string
	Gone    bool
}

// Known gives the files of a folder, also those that are gone.
func (s *Store) Known(ctx context.Context, folder int64) ([]Known, error) {
	return rows(ctx, s.r, func(r *sql.Rows, k *Known) error {
		return r.Scan(&k.ID, &k.Name, &k.Size, &k.MTime, &k.CTime, &k.Problem, &k.Gone)
	}, "SELECT id, name, size, mtime, ctime, problem, gone != 0 FROM files WHERE folder = ?", folder)
}

// Found is a file as a scan found it.
type Found struct {
	Name         string
	Size         int64
	MTime, CTime int64
	Title        string
	Year         int
	By           string
	Season       int
	Episode      int
	Part         string
	Content      string
	Duration     float64
	Info         string // media.Info as JSON; empty where not opened
	Problem      string
	Note         string
}

// FolderFound is a folder as a scan found it, with what changed in it.
type FolderFound struct {
	Root, Path string
	Signature  string // empty where it must be looked at again
	Problem    string
	Files      []FileFound
	Gone       []int64 // ids of files that are no longer there
}

// FileFound is a file that is new, for an ID of 0, or changed.
type FileFound struct {
	ID int64
	Found
}

// Scan writes what a scan finds on one shelf. Findings are gathered and written
// in short transactions, whole folders each, so that others can write in
// between and a crash never leaves a folder noted without its files. A
// transaction is written while the next findings are gathered.
type Scan struct {
	s      *Store
	shelf  string
	kind   household.Kind
	now    time.Time
	titles map[titleKey]int64 // for write only; nil until it is needed
	next   batch
	since  time.Time
	busy   chan error // of the write that goes on; nil where none does
}

// batch is what is written in one transaction.
type batch struct {
	folders []FolderFound
	gone    []int64 // folders
	rows    int
}

type titleKey struct {
	folded string
	year   int
	by     string
}

// How much is gathered, and for how long.
const (
	gatherRows = 4000
	gatherTime = 500 * time.Millisecond
)

// BeginScan begins to write the findings of one shelf.
func (s *Store) BeginScan(shelf string, kind household.Kind, now time.Time) *Scan {
	return &Scan{s: s, shelf: shelf, kind: kind, now: now}
}

// known loads the titles of the shelf, which an unchanged rescan never needs.
func (c *Scan) known(ctx context.Context, tx *sql.Tx) error {
	c.titles = map[titleKey]int64{}
	rs, err := tx.QueryContext(ctx, "SELECT id, folded, year, maker FROM titles WHERE shelf = ?", c.shelf)
	if err != nil {
		return err
	}
	defer rs.Close()
	for rs.Next() {
		var id int64
		var k titleKey
		if err := rs.Scan(&id, &k.folded, &k.year, &k.by); err != nil {
			return err
		}
		c.titles[k] = id
	}
	return rs.Err()
}

// Folder notes a folder.
func (c *Scan) Folder(ctx context.Context, f FolderFound) error {
	if c.next.rows == 0 {
		c.since = time.Now()
	}
	c.next.folders = append(c.next.folders, f)
	c.next.rows += 1 + len(f.Files) + len(f.Gone)
	if c.next.rows < gatherRows && time.Since(c.since) < gatherTime {
		return nil
	}
	if err := c.wait(); err != nil {
		return err
	}
	b := c.next
	c.next = batch{}
	c.busy = make(chan error, 1)
	go func() { c.busy <- c.write(ctx, b) }()
	return nil
}

// wait waits for the write that goes on.
func (c *Scan) wait() error {
	if c.busy == nil {
		return nil
	}
	err := <-c.busy
	c.busy = nil
	return err
}

// FolderGone notes that a folder and all files in it are no longer there. It
// gives how many files that are. What is known of them stays.
func (c *Scan) FolderGone(ctx context.Context, id int64) (int, error) {
	c.next.gone = append(c.next.gone, id)
	c.next.rows++
	var n int
	err := c.s.r.QueryRowContext(ctx, "SELECT count(*) FROM files WHERE folder = ? AND gone = 0", id).Scan(&n)
	return n, err
}

// Flush writes what is left, and waits until all is written. It must be called
// in the end, also when the scan is given up.
func (c *Scan) Flush(ctx context.Context) error {
	if err := c.wait(); err != nil || c.next.rows == 0 {
		return err
	}
	b := c.next
	c.next = batch{}
	return c.write(ctx, b)
}

func (c *Scan) write(ctx context.Context, b batch) error {
	// Short as it is, a transaction is not given up half-way; and the driver
	// watches a context that can end at a cost for each row.
	ctx = context.WithoutCancel(ctx)
	err := c.s.change(ctx, func(tx *sql.Tx) error { return c.rows(ctx, tx, b) })
	if err != nil {
		c.titles = nil // those that the transaction added are gone with it
	}
	return err
}

const (
	upsertFolder = `INSERT INTO folders (shelf, root, path, signature, problem) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET signature = excluded.signature, problem = excluded.problem RETURNING id`
	insertFile = `INSERT INTO files (size, mtime, ctime, title, season, episode, part, content, duration, info, problem, note, added, folder, name)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`
	updateFile  = `UPDATE files SET size = ?, mtime = ?, ctime = ?, title = ?, season = ?, episode = ?, part = ?, content = ?, duration = ?, info = ?, problem = ?, note = ?, gone = 0 WHERE id = ?`
	insertTitle = "INSERT INTO titles (shelf, kind, name, folded, year, maker, added) VALUES (?, ?, ?, ?, ?, ?, ?)"
)

func (c *Scan) rows(ctx context.Context, tx *sql.Tx, b batch) error {
	if c.titles == nil {
		if err := c.known(ctx, tx); err != nil {
			return err
		}
	}
	stmts := map[string]*sql.Stmt{}
	for _, q := range []string{upsertFolder, insertFile, updateFile, insertTitle} {
		st, err := tx.PrepareContext(ctx, q)
		if err != nil {
			return err
		}
		stmts[q] = st
	}
	for _, d := range b.folders {
		var folder int64
		if err := stmts[upsertFolder].QueryRowContext(ctx, c.shelf, d.Root, d.Path, []byte(d.Signature), d.Problem).Scan(&folder); err != nil {
			return err
		}
		for _, f := range d.Files {
			k := titleKey{Fold(f.Title), f.Year, f.By}
			if c.titles[k] == 0 {
				res, err := stmts[insertTitle].ExecContext(ctx, c.shelf, c.kind, f.Title, k.folded, f.Year, f.By, milli(c.now))
				if err != nil {
					return err
				}
				if c.titles[k], err = res.LastInsertId(); err != nil {
					return err
				}
			}
			args := []any{f.Size, f.MTime, f.CTime, c.titles[k], f.Season, f.Episode, f.Part, f.Content, f.Duration, f.Info, f.Problem, f.Note}
			var err error
			if f.ID != 0 {
				_, err = stmts[updateFile].ExecContext(ctx, append(args, f.ID)...)
			} else {
				_, err = stmts[insertFile].ExecContext(ctx, append(args, milli(c.now), folder, f.Name)...)
			}
			if err != nil {
				return err
			}
		}
		for _, id := range d.Gone {
			if _, err := tx.ExecContext(ctx, "UPDATE files SET gone = ? WHERE id = ?", milli(c.now), id); err != nil {
				return err
			}
		}
	}
	for _, id := range b.gone {
		if err := folderGone(ctx, tx, id, c.now); err != nil {
			return err
		}
	}
	return nil
}

func folderGone(ctx context.Context, tx *sql.Tx, id int64, now time.Time) error {
	if _, err := tx.ExecContext(ctx, "UPDATE folders SET signature = x'', problem = '' WHERE id = ?", id); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE files SET gone = ? WHERE folder = ? AND gone = 0", milli(now), id)
	return err
}

// DropShelves notes that shelves, or folders of shelves, that the household no
// longer has are gone. keep holds pairs of shelf and root.
func (s *Store) DropShelves(ctx context.Context, keep map[[2]string]bool, now time.Time) error {
	type row struct {
		id   int64
		pair [2]string
	}
	list, err := rows(ctx, s.r, func(r *sql.Rows, v *row) error { return r.Scan(&v.id, &v.pair[0], &v.pair[1]) }, "SELECT id, shelf, root FROM folders WHERE signature != x''")
	if err != nil {
		return err
	}
	return s.change(ctx, func(tx *sql.Tx) error {
		for _, v := range list {
			if keep[v.pair] {
				continue
			}
			if err := folderGone(ctx, tx, v.id, now); err != nil {
				return err
			}
		}
		return nil
	})
}
