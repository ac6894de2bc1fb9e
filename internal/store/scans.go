package store

import (
	"context"
	"database/sql"
	"errors"
	"path"
	"strings"
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
	Samples   int  // files in it that are left out
}

// Folders gives what is known below one folder of a shelf.
func (s *Store) Folders(ctx context.Context, shelf, root string) ([]Folder, error) {
	return rows(ctx, s.r, func(r *sql.Rows, f *Folder) error {
		return r.Scan(&f.ID, &f.Path, &f.Signature, &f.Problem, &f.Failing, &f.Samples)
	}, `SELECT id, path, signature, problem, EXISTS (SELECT 1 FROM files WHERE folder = folders.id AND problem != ''
		AND gone = 0), samples FROM folders WHERE shelf = ? AND root = ?`, shelf, root)
}

// FoldersAt gives what is known of a folder below one of a shelf's, and, with deep, of
// those below it.
func (s *Store) FoldersAt(ctx context.Context, shelf, root, path string, deep bool) ([]Folder, error) {
	if deep && path == "" {
		return s.Folders(ctx, shelf, root)
	}
	return rows(ctx, s.r, func(r *sql.Rows, f *Folder) error {
		return r.Scan(&f.ID, &f.Path, &f.Signature, &f.Problem, &f.Failing, &f.Samples)
	}, `SELECT id, path, signature, problem, EXISTS (SELECT 1 FROM files WHERE folder = folders.id AND problem != ''
		AND gone = 0), samples FROM folders
		WHERE shelf = ?1 AND root = ?2 AND (path = ?3 OR ?4 AND path > ?3 || '/' AND path < ?3 || '0')`, shelf, root,
		path, deep)
}

// Known is what is known of one file of a folder.
type Known struct {
	ID          int64
	Name        string
	Size        int64
	MTime       int64
	CTime       int64
	Problem     string
	Gone        bool
	Inode       uint64
	Fingerprint string // fingerprint; empty where it was not read
	Beside      string
}

// Known gives the files of a folder, also those that are gone.
func (s *Store) Known(ctx context.Context, folder int64) ([]Known, error) {
	return rows(ctx, s.r, func(r *sql.Rows, k *Known) error {
		return r.Scan(&k.ID, &k.Name, &k.Size, &k.MTime, &k.CTime, &k.Problem, &k.Gone, &k.Inode, &k.Fingerprint, &k.Beside)
	}, "SELECT id, name, size, mtime, ctime, problem, gone != 0, inode, fingerprint, beside FROM files WHERE "+
		"folder = ?", folder)
}

// Twin is a file that looks the same as another, and where it was last seen.
type Twin struct {
	ID          int64
	Shelf, Root string
	Path        string // below the root
	Inode       uint64
	MTime       int64
	Gone        bool
}

// Twins gives files of a size and fingerprint, on all shelves: those that are gone first,
// then those of an inode, then some of the others.
func (s *Store) Twins(ctx context.Context, size int64, print string, inode uint64) ([]Twin, error) {
	const columns = `SELECT f.id, d.shelf, d.root, d.path, f.name, f.inode, f.mtime, f.gone != 0 FROM files f
		JOIN folders d ON d.id = f.folder WHERE f.size = ?1 AND f.fingerprint = ?2 AND f.fingerprint != x'' AND `
	scan := func(r *sql.Rows, t *Twin) error {
		var dir, name string
		err := r.Scan(&t.ID, &t.Shelf, &t.Root, &dir, &name, &t.Inode, &t.MTime, &t.Gone)
		t.Path = path.Join(dir, name)
		return err
	}
	var out []Twin
	for _, which := range []string{"f.gone > 0 ORDER BY f.gone DESC LIMIT 64", "f.gone = 0 AND f.inode = ?3 LIMIT 8",
		"f.gone = 0 AND f.inode != ?3 LIMIT 64"} {
		list, err := rows(ctx, s.r, scan, columns+which, size, []byte(print), int64(inode))
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}

// OfSize gives the paths, below a shelf's folder, of the files of a size.
func (s *Store) OfSize(ctx context.Context, shelf, root string, size int64) ([]string, error) {
	return rows(ctx, s.r, func(r *sql.Rows, p *string) error {
		var dir, name string
		err := r.Scan(&dir, &name)
		*p = path.Join(dir, name)
		return err
	}, "SELECT d.path, f.name FROM files f JOIN folders d ON d.id = f.folder WHERE f.size = ? AND f.fingerprint != "+
		"x'' AND f.gone = 0 AND d.shelf = ? AND d.root = ?", size, shelf, root)
}

// Prints calls yield for the fingerprint of every file that is known.
func (s *Store) Prints(ctx context.Context, yield func(print string)) error {
	rs, err := s.r.QueryContext(ctx, "SELECT fingerprint FROM files WHERE fingerprint != x''")
	if err != nil {
		return s.explain(err)
	}
	defer rs.Close()
	var b sql.RawBytes
	for rs.Next() {
		if err := rs.Scan(&b); err != nil {
			return s.explain(err)
		}
		yield(string(b))
	}
	return s.explain(rs.Err())
}

// AnyFile reports whether any file was ever known.
func (s *Store) AnyFile(ctx context.Context) (bool, error) {
	var any bool
	err := s.r.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM files)").Scan(&any)
	return any, err
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

	Inode       uint64
	Fingerprint string // fingerprint
	Last        int
	Disc        int
	Piece       int
	Date        string
	Edition     string
	Extra       string
	Outside     string
	Beside      string // []naming.Beside as JSON; empty for none
}

// plain reports whether there is nothing to be said of a file beyond what each has.
func (f *Found) plain() bool {
	return f.Problem == "" && f.Note == "" && f.Last == 0 && f.Disc == 0 && f.Piece == 0 && f.Date == "" &&
		f.Edition == "" && f.Extra == "" && f.Outside == "" && f.Beside == ""
}

// FolderFound is a folder as a scan found it, with what changed in it.
type FolderFound struct {
	Root, Path string
	Signature  string // empty where it must be looked at again
	Problem    string
	Samples    int // files in it that are left out
	Files      []FileFound
	Gone       []int64          // ids of files that are no longer there
	Beside     map[int64]string // what goes with files that are as they were, by their ids
}

// FileFound is a file that is new, for an ID of 0, or changed. One that Moved was known
// elsewhere, and is now here.
type FileFound struct {
	ID    int64
	Moved bool
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
	busy   chan error // of the write that is running; nil where none does
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
	c.next.folders = append(c.next.folders, f)
	return c.gathered(ctx, 1+len(f.Files)+len(f.Gone))
}

// gathered counts rows that were added to what is gathered, and begins to write it when it
// is enough.
func (c *Scan) gathered(ctx context.Context, n int) error {
	if c.next.rows == 0 {
		c.since = time.Now()
	}
	c.next.rows += n
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

// wait waits for the write that is running.
func (c *Scan) wait() error {
	if c.busy == nil {
		return nil
	}
	err := <-c.busy
	c.busy = nil
	return err
}

// FolderGone notes that a folder and all files in it are no longer there. It
// gives the ids of the files. What is known of them stays.
func (c *Scan) FolderGone(ctx context.Context, id int64) ([]int64, error) {
	ids, err := rows(ctx, c.s.r, func(r *sql.Rows, id *int64) error { return r.Scan(id) },
		"SELECT id FROM files WHERE folder = ? AND gone = 0", id)
	if err != nil {
		return nil, err
	}
	c.next.gone = append(c.next.gone, id)
	return ids, c.gathered(ctx, 1+len(ids))
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
	upsertFolder = `INSERT INTO folders (shelf, root, path, signature, problem, samples) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET signature = excluded.signature, problem = excluded.problem,
			samples = excluded.samples RETURNING id`
	insertFile = "INSERT INTO files (size, mtime, ctime, title, season, episode, part, content, duration, info, " +
		"problem, note, inode, fingerprint, last, disc, piece, date, edition, extra, outside, beside, added, " +
		"folder, name) VALUES "
	insertPlain = "INSERT INTO files (problem, note, size, mtime, ctime, title, season, episode, part, content, " +
		"duration, info, inode, fingerprint, added, folder, name) VALUES "
	insertTitle = "INSERT INTO titles (id, shelf, kind, name, folded, year, maker, added) VALUES "
	updateFile  = `UPDATE files SET size = ?, mtime = ?, ctime = ?, title = ?, season = ?, episode = ?, part = ?,
		content = ?, duration = ?, info = ?, problem = ?, note = ?,
		inode = ?, fingerprint = ?, last = ?, disc = ?, piece = ?, date = ?, edition = ?, extra = ?, outside = ?,
			beside = ?, gone = 0 WHERE id = ?`
)

// rowsAtOnce is how many rows go into one statement: each has a price of its own.
const rowsAtOnce = 40

// inserter inserts rows of one table, many in one statement.
type inserter struct {
	tx    *sql.Tx
	into  string // up to the values
	fixed string // the first values, where they are the same in all rows
	wide  int    // further values in a row
	full  *sql.Stmt
	args  []any
}

func (i *inserter) add(ctx context.Context, values ...any) error {
	i.wide = len(values)
	if i.args = append(i.args, values...); len(i.args) < rowsAtOnce*i.wide {
		return nil
	}
	if i.full == nil {
		var err error
		if i.full, err = i.tx.PrepareContext(ctx, i.text(rowsAtOnce)); err != nil {
			return err
		}
	}
	_, err := i.full.ExecContext(ctx, i.args...)
	i.args = i.args[:0]
	return err
}

func (i *inserter) text(rows int) string {
	row := "(" + i.fixed + "?" + strings.Repeat(", ?", i.wide-1) + ")"
	return i.into + row + strings.Repeat(", "+row, rows-1)
}

// flush inserts what is left.
func (i *inserter) flush(ctx context.Context) error {
	if len(i.args) == 0 {
		return nil
	}
	_, err := i.tx.ExecContext(ctx, i.text(len(i.args)/i.wide), i.args...)
	i.args = i.args[:0]
	return err
}

func (c *Scan) rows(ctx context.Context, tx *sql.Tx, b batch) error {
	if c.titles == nil {
		if err := c.known(ctx, tx); err != nil {
			return err
		}
	}
	w, err := c.writer(ctx, tx)
	if err != nil {
		return err
	}
	for _, d := range b.folders {
		if err := w.folder(ctx, d); err != nil {
			return err
		}
	}
	if err := w.end(ctx); err != nil {
		return err
	}
	for _, id := range b.gone {
		if err := folderGone(ctx, tx, id, c.now); err != nil {
			return err
		}
	}
	return nil
}

// rowWriter writes the rows of one batch.
type rowWriter struct {
	c                        *Scan
	tx                       *sql.Tx
	upsertFolder, updateFile *sql.Stmt
	titles, files            *inserter
	plain                    *inserter // of most files there is nothing to be said in a third of the columns
	lastTitle, lastFile      int64     // before this batch
	nextTitle                int64
	newFiles                 bool
}

func (c *Scan) writer(ctx context.Context, tx *sql.Tx) (*rowWriter, error) {
	w := &rowWriter{c: c, tx: tx, titles: &inserter{tx: tx, into: insertTitle},
		files: &inserter{tx: tx, into: insertFile},
		plain: &inserter{tx: tx, into: insertPlain, fixed: "'', '', "}}
	var err error
	if w.upsertFolder, err = tx.PrepareContext(ctx, upsertFolder); err != nil {
		return nil, err
	}
	if w.updateFile, err = tx.PrepareContext(ctx, updateFile); err != nil {
		return nil, err
	}
	err = tx.QueryRowContext(ctx, "SELECT (SELECT coalesce(max(id), 0) FROM titles), (SELECT coalesce(max(id), 0) "+
		"FROM files)").Scan(&w.lastTitle, &w.lastFile)
	w.nextTitle = w.lastTitle + 1
	return w, err
}

// flush inserts all that waits: titles first, which files need. A file that is changed or
// moved may need that those before it are in their places.
func (w *rowWriter) flush(ctx context.Context) error {
	if err := w.titles.flush(ctx); err != nil {
		return err
	}
	return errors.Join(w.files.flush(ctx), w.plain.flush(ctx))
}

// add has a file's row inserted.
func (w *rowWriter) add(ctx context.Context, to *inserter, values ...any) error {
	w.newFiles = true
	// Its title may be among those that wait.
	if len(to.args)+len(values) >= rowsAtOnce*len(values) {
		if err := w.titles.flush(ctx); err != nil {
			return err
		}
	}
	return to.add(ctx, values...)
}

// folder writes one folder, and all that was found in it.
func (w *rowWriter) folder(ctx context.Context, d FolderFound) error {
	var id int64
	if err := w.upsertFolder.QueryRowContext(ctx, w.c.shelf, d.Root, d.Path, []byte(d.Signature), d.Problem,
		d.Samples).Scan(&id); err != nil {
		return err
	}
	for _, f := range d.Files {
		title, err := w.title(ctx, f)
		if err != nil {
			return err
		}
		if err := w.file(ctx, f, id, title); err != nil {
			return err
		}
	}
	for _, id := range d.Gone {
		if _, err := w.tx.ExecContext(ctx, "UPDATE files SET gone = ? WHERE id = ?", milli(w.c.now), id); err != nil {
			return err
		}
	}
	for id, text := range d.Beside {
		if _, err := w.tx.ExecContext(ctx, "UPDATE files SET beside = ? WHERE id = ?", text, id); err != nil {
			return err
		}
		if _, err := w.tx.ExecContext(ctx,
			"UPDATE descriptions SET looked = 0 WHERE title = (SELECT title FROM files WHERE id = ?)", id); err != nil {
			return err
		}
	}
	return nil
}

// title gives the title that a file belongs to, and adds it if it is new.
func (w *rowWriter) title(ctx context.Context, f FileFound) (int64, error) {
	k := titleKey{Fold(f.Title), f.Year, f.By}
	if w.c.titles[k] == 0 {
		if err := w.titles.add(ctx, w.nextTitle, w.c.shelf, w.c.kind, f.Title, k.folded, f.Year, f.By,
			milli(w.c.now)); err != nil {
			return 0, err
		}
		w.c.titles[k] = w.nextTitle
		w.nextTitle++
	}
	return w.c.titles[k], nil
}

// file writes one file: anew, or over what was known of it.
func (w *rowWriter) file(ctx context.Context, f FileFound, folder, title int64) error {
	if f.ID != 0 {
		if err := w.flush(ctx); err != nil {
			return err
		}
		if err := carry(ctx, w.tx, f.ID, title); err != nil {
			return err
		}
	}
	if f.Moved {
		if err := move(ctx, w.tx, f, folder); err != nil {
			return err
		}
	}
	if f.ID == 0 && f.plain() {
		return w.add(ctx, w.plain, f.Size, f.MTime, f.CTime, title, f.Season, f.Episode, f.Part, f.Content, f.Duration,
			f.Info, int64(f.Inode), []byte(f.Fingerprint), milli(w.c.now), folder, f.Name)
	}
	values := []any{f.Size, f.MTime, f.CTime, title, f.Season, f.Episode, f.Part, f.Content, f.Duration, f.Info,
		f.Problem, f.Note, int64(f.Inode), []byte(f.Fingerprint), f.Last, f.Disc, f.Piece, f.Date, f.Edition, f.Extra,
		f.Outside, f.Beside}
	if f.ID != 0 {
		_, err := w.updateFile.ExecContext(ctx, append(values, f.ID)...)
		return err
	}
	return w.add(ctx, w.files, append(values, milli(w.c.now), folder, f.Name)...)
}

// end inserts what waits still, and has the search know what is new.
func (w *rowWriter) end(ctx context.Context) error {
	if err := w.flush(ctx); err != nil {
		return err
	}
	if w.nextTitle > w.lastTitle+1 {
		if _, err := w.tx.ExecContext(ctx, "INSERT INTO words (rowid, name, maker, people, summary) SELECT id, name, "+
			"maker, '', '' FROM titles WHERE id > ?", w.lastTitle); err != nil {
			return err
		}
	}
	if !w.newFiles {
		return nil
	}
	_, err := w.tx.ExecContext(ctx, "INSERT INTO parts (rowid, part) SELECT id, part FROM files WHERE id > ? AND "+
		"part != ''", w.lastFile)
	return err
}

// carry has what is known of a file's title go with it to another, if nothing is known of
// that yet.
func carry(ctx context.Context, tx *sql.Tx, file, title int64) error {
	_, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO descriptions (title, name, year, summary, people, genres,
		outside, source, picture, picture_from, edited, state, looked, candidates, age)
		SELECT ?1, d.name, d.year, d.summary, d.people, d.genres, d.outside, d.source, d.picture, d.picture_from,
			d.edited, d.state, d.looked, d.candidates, d.age
		FROM files f JOIN descriptions d ON d.title = f.title WHERE f.id = ?2 AND f.title != ?1`, title, file)
	if err != nil {
		return err
	}
	return carryRules(ctx, tx, file, title)
}

// move gives a file that was known elsewhere its new place.
func move(ctx context.Context, tx *sql.Tx, f FileFound, folder int64) error {
	// A file that is gone may have had that name; it keeps its history under a name
	// that no file can have.
	if _, err := tx.ExecContext(ctx, "UPDATE files SET name = name || char(0) || id WHERE folder = ? AND name = ? "+
		"AND id != ?", folder, f.Name, f.ID); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, "UPDATE files SET folder = ?, name = ? WHERE id = ?", folder, f.Name, f.ID)
	return err
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
	list, err := rows(ctx, s.r, func(r *sql.Rows, v *row) error { return r.Scan(&v.id, &v.pair[0], &v.pair[1]) },
		"SELECT id, shelf, root FROM folders WHERE signature != x''")
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
