package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"path"
	"strconv"
	"strings"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/core/usage"
)

// Title is what a person picks from a shelf. Figures count the files that are
// there.
type Title struct {
	ID       int64
	Shelf    string
	Kind     household.Kind
	Name     string
	Year     int
	By       string
	Parts    int
	Duration float64 // of all parts, in seconds
	Size     int64   // in bytes
	Problems int     // files that cannot be read
	Age      *int    // from which age on it is, in years; nil where that is not known
	Added    time.Time

	copies int // how many files hold parts: more than parts where something is there twice
}

// File is one part of a title, as a file.
type File struct {
	ID       int64
	Title    int64
	Shelf    string
	Root     string // the shelf's folder, as the administrator wrote it
	Path     string
	Season   int
	Episode  int
	Part     string
	Content  string
	Size     int64
	Modified time.Time
	Duration float64
	Media    media.Info
	Problem  string
	Note     string
	Last     int // of several in one file
	Disc     int
	Piece    int // of one film in several files
	Date     string
	Edition  string
	Extra    string // what sort of extra; empty for the title itself
	Outside  string
	Added    time.Time
	Beside   []naming.Beside // files that go with it
	ResumeAt float64         // for the member who asks; 0 for the beginning
	Seen     bool            // by the member who asks
}

// Label is how the part of its title that it holds is called; empty for a film in one
// piece.
func (f File) Label() string {
	return naming.Label(naming.Reading{Season: f.Season, Episode: f.Episode, Last: f.Last, Disc: f.Disc,
		Piece: f.Piece, Part: f.Part, Edition: f.Edition, Extra: f.Extra}, naming.Content(f.Content))
}

// Day is when a part was sent, recorded or taken, with the time of day where that is
// known; empty where it is not.
func (f File) Day() string { return naming.Day(f.Date) }

// A part of a title is there once, however many copies or editions of it there are; extras are
// none. Where the kind has each thing once, what tells parts apart is their place in the title.
const partKey = `f.season || ' ' || f.episode || ' ' || f.disc || ' ' || f.piece || ' ' || f.date ||
	CASE WHEN t.kind NOT IN ('films', 'series', 'music') THEN ' ' || f.id
	WHEN f.episode = 0 AND t.kind != 'films' THEN ' ' || f.part ELSE '' END`

// A title is shown as it is described, else as its files have it. Its length is that of all
// copies, until Store.measure has looked.
const titleFields = `t.id, t.shelf, t.kind, coalesce(nullif(x.name, ''), t.name),
	coalesce(nullif(x.year, 0), t.year), t.maker,
	t.added, count(DISTINCT CASE WHEN f.extra = '' THEN ` + partKey + ` END),
	total(f.duration) FILTER (WHERE f.extra = ''),
	sum(f.size), count(*) FILTER (WHERE f.problem != ''), count(*) FILTER (WHERE f.extra = ''), x.age`

const titleColumns = `SELECT ` + titleFields + `
	FROM titles t JOIN files f ON f.title = t.id AND f.gone = 0 LEFT JOIN descriptions x ON x.title = t.id `

// fields are where the columns of titleFields go.
func (t *Title) fields(added *int64) []any {
	return []any{&t.ID, &t.Shelf, &t.Kind, &t.Name, &t.Year, &t.By, added, &t.Parts, &t.Duration, &t.Size, &t.Problems,
		&t.copies, &t.Age}
}

func scanTitle(r *sql.Rows, t *Title) error {
	var added int64
	err := r.Scan(t.fields(&added)...)
	t.Added = fromMilli(added)
	return err
}

// measure works out the length of a title of which something is there more than once.
func (s *Store) measure(ctx context.Context, t *Title) error {
	if t.copies == t.Parts {
		return nil
	}
	return s.explain(s.r.QueryRowContext(ctx, `SELECT total(seconds) FROM (SELECT max(f.duration) AS seconds
		FROM titles t JOIN files f ON f.title = t.id AND f.gone = 0 AND f.extra = '' WHERE t.id = ?
		GROUP BY `+partKey+`)`,
		t.ID).Scan(&t.Duration))
}

// titles asks for titles by the end of a query.
func (s *Store) titles(ctx context.Context, end string, args ...any) ([]Title, error) {
	list, err := rows(ctx, s.r, scanTitle, titleColumns+end, args...)
	for i := range list {
		if err == nil {
			err = s.measure(ctx, &list[i])
		}
	}
	return list, err
}

// Titles gives the titles of a shelf by name; all shelves for an empty name.
func (s *Store) Titles(ctx context.Context, shelf string) ([]Title, error) {
	return s.titles(ctx, "WHERE ? IN ('', t.shelf) GROUP BY t.id ORDER BY t.shelf, t.folded, t.year", shelf)
}

// Place is a place between the titles of a shelf, as they are ordered: by name, year and
// whose they are. Its text is for links; the beginning of a name is one too, before all
// that begin with it.
type Place struct {
	folded string
	year   int
	maker  string
}

// PlaceOf reads the text of a place.
func PlaceOf(text string) Place {
	parts := strings.SplitN(text, "\x1f", 3)
	p := Place{folded: Fold(parts[0]), year: -1}
	if len(parts) == 3 {
		if y, err := strconv.Atoi(parts[1]); err == nil {
			p = Place{parts[0], y, parts[2]}
		}
	}
	return p
}

func (p Place) String() string {
	if p.year < 0 {
		return p.folded
	}
	return p.folded + "\x1f" + strconv.Itoa(p.year) + "\x1f" + p.maker
}

// Page is some titles of a shelf, by name.
type Page struct {
	Titles       []Title
	Before, Next *Place // where others begin; nil where there are none
}

// Wanted says which titles a page is to hold.
type Wanted struct {
	Shelf  string
	At     Place // those after it
	Back   bool  // those before it
	Limit  int
	Usable bool // only titles of which a file can be read
	Sight  Sight
}

// TitlePage gives some titles of a shelf.
func (s *Store) TitlePage(ctx context.Context, w Wanted) (Page, error) {
	type row struct {
		Title
		at Place
	}
	side, order := ">", ""
	if w.Back {
		side, order = "<", " DESC"
	}
	// One more than is wanted tells whether there are more. A title is there while a file of
	// it is.
	q := strings.NewReplacer("$side", side, "$order",
		order, "$shown", w.Sight.shown()).Replace(`WITH page AS MATERIALIZED (SELECT t.id, t.folded, t.year, t.maker
		FROM titles t LEFT JOIN descriptions x ON x.title = t.id
		WHERE t.shelf = ?1 AND (t.folded, t.year, t.maker) $side (?2, ?3, ?4)
		AND EXISTS (SELECT 1 FROM files WHERE title = t.id AND gone = 0 AND (NOT ?6 OR problem = '')) AND $shown
		ORDER BY t.folded$order, t.year$order, t.maker$order LIMIT ?5)
		SELECT ` + titleFields + `, t.folded, t.year, t.maker
		FROM page JOIN titles t ON t.id = page.id JOIN files f ON f.title = t.id AND f.gone = 0 LEFT
			JOIN descriptions x ON x.title = t.id GROUP BY t.id ORDER BY t.folded, t.year, t.maker`)
	list, err := rows(ctx, s.r, func(r *sql.Rows, v *row) error {
		var added int64
		err := r.Scan(append(v.fields(&added), &v.at.folded, &v.at.year, &v.at.maker)...)
		v.Added = fromMilli(added)
		return err
	}, q, w.Shelf, w.At.folded, w.At.year, w.At.maker, w.Limit+1, w.Usable)
	if err != nil || len(list) == 0 {
		return Page{Titles: []Title{}}, err
	}
	more := len(list) > w.Limit
	if more && w.Back {
		list = list[1:]
	} else if more {
		list = list[:w.Limit]
	}
	out := Page{Titles: make([]Title, 0, len(list))}
	for _, v := range list {
		if err := s.measure(ctx, &v.Title); err != nil {
			return Page{}, err
		}
		out.Titles = append(out.Titles, v.Title)
	}
	first, last := list[0].at, list[len(list)-1].at
	if more || !w.Back {
		out.Before = &first
	}
	if more || w.Back {
		out.Next = &last
	}
	if !w.Back { // nothing is asked for what lies behind, unless this is not the beginning
		var any bool
		err = s.r.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM titles t LEFT JOIN descriptions x ON x.title = t.id "+
			"WHERE t.shelf = ? AND (t.folded, t.year, t.maker) < (?, ?, ?) AND EXISTS (SELECT 1 FROM files WHERE "+
			"title = t.id AND gone = 0 AND (NOT ? OR problem = '')) AND "+w.Sight.shown()+")", w.Shelf, first.folded,
			first.year, first.maker, w.Usable).Scan(&any)
		if !any {
			out.Before = nil
		}
	}
	return out, s.explain(err)
}

// Initials gives the letters with which names on a shelf begin, in their order; nothing
// where there are more than a line holds.
func (s *Store) Initials(ctx context.Context, shelf string, sight Sight) ([]string, error) {
	const most = 48
	list, err := rows(ctx, s.r, func(r *sql.Rows, v *string) error { return r.Scan(v) }, strings.NewReplacer("$titles",
		"titles t LEFT JOIN descriptions x ON x.title = t.id WHERE t.shelf = ?1 AND "+sight.shown()).Replace(
		`WITH RECURSIVE i(c) AS (
		SELECT (SELECT substr(t.folded, 1, 1) FROM $titles AND t.folded != '' ORDER BY t.folded LIMIT 1)
		UNION ALL SELECT (SELECT substr(t.folded, 1, 1) FROM $titles
			AND t.folded >= i.c || char(0x10ffff) ORDER BY t.folded LIMIT 1) FROM i WHERE c IS NOT NULL)
		SELECT c FROM i WHERE c IS NOT NULL LIMIT ?2`), shelf, most+1)
	if len(list) > most {
		list = nil
	}
	return list, err
}

// Title gives one title.
func (s *Store) Title(ctx context.Context, id int64) (Title, error) {
	return one(s.titles(ctx, "WHERE t.id = ? GROUP BY t.id", id))
}

const (
	fileFields = `f.id, f.title, d.shelf, d.root, d.path, f.name, f.season, f.episode, f.part, f.content, f.size,
		f.mtime,
	f.duration, f.info, f.problem, f.note, f.last, f.disc, f.piece, f.date, f.edition, f.extra, f.outside,
	f.added, f.beside, coalesce(p.position, 0)`
	fileTables = `FROM files f JOIN folders d ON d.id = f.folder LEFT JOIN positions p ON p.file = f.id
		AND p.member = ? `
	fileColumns = "SELECT " + fileFields + " " + fileTables
)

func scanPlainFile(r *sql.Rows, f *File) error { return scanFile(r, f) }

// scanFile reads a part, and whatever columns come after it.
func scanFile(r *sql.Rows, f *File, more ...any) error {
	var dir, name, info, goes string
	var mtime, added int64
	var position float64
	into := []any{&f.ID, &f.Title, &f.Shelf, &f.Root, &dir, &name, &f.Season, &f.Episode, &f.Part, &f.Content, &f.Size,
		&mtime, &f.Duration, &info,
		&f.Problem, &f.Note, &f.Last, &f.Disc, &f.Piece, &f.Date, &f.Edition, &f.Extra, &f.Outside, &added, &goes,
		&position}
	if err := r.Scan(append(into, more...)...); err != nil {
		return err
	}
	f.Path, f.Modified = path.Join(dir, name), time.Unix(0, mtime)
	f.ResumeAt, f.Seen = usage.ResumeAt(position, f.Duration), usage.Finished(position, f.Duration)
	f.Added = fromMilli(added)
	if goes != "" {
		if err := json.Unmarshal([]byte(goes), &f.Beside); err != nil {
			return err
		}
	}
	if info == "" {
		return nil
	}
	return json.Unmarshal([]byte(info), &f.Media)
}

// Files gives the parts of a title in their order, with the positions of a member.
func (s *Store) Files(ctx context.Context, title, member int64) ([]File, error) {
	return rows(ctx, s.r, scanPlainFile, fileColumns+
		"WHERE f.title = ? AND f.gone = 0 ORDER BY f.extra != '', f.season, "+
		"f.disc, f.episode, f.date, f.piece, f.part, f.name", member, title)
}

// FilesOf gives the parts of several titles, each in its order, for nobody in particular.
func (s *Store) FilesOf(ctx context.Context, titles []int64) (map[int64][]File, error) {
	ids, err := json.Marshal(titles)
	if err != nil {
		return nil, err
	}
	list, err := rows(ctx, s.r, scanPlainFile,
		fileColumns+"WHERE f.title IN (SELECT value FROM json_each(?)) AND f.gone = 0 ORDER BY f.title, "+
			"f.extra != '', "+
			"f.season, f.disc, f.episode, f.date, f.piece, f.part, f.name", 0, string(ids))
	out := map[int64][]File{}
	for _, f := range list {
		out[f.Title] = append(out[f.Title], f)
	}
	return out, err
}

// File gives one file.
func (s *Store) File(ctx context.Context, id, member int64) (File, error) {
	return one(rows(ctx, s.r, scanPlainFile, fileColumns+"WHERE f.id = ? AND f.gone = 0", member, id))
}

// FileOf gives a part, with the position of a member, and its title without the figures of
// all parts together: each is found by its key, however many parts the title has.
func (s *Store) FileOf(ctx context.Context, id, member int64) (Title, File, error) {
	var t Title
	f, err := one(rows(ctx, s.r, func(r *sql.Rows, f *File) error {
		return scanFile(r, f, &t.ID, &t.Kind, &t.Name, &t.Year, &t.By, &t.Age)
	}, fileOf, member, id))
	t.Shelf = f.Shelf
	return t, f, s.explain(err)
}

// fileOf asks for it.
const fileOf = "SELECT " + fileFields + `, t.id, t.kind, coalesce(nullif(x.name, ''), t.name),
	coalesce(nullif(x.year, 0), t.year), t.maker, x.age ` + fileTables +
	"JOIN titles t ON t.id = f.title LEFT JOIN descriptions x ON x.title = t.id WHERE f.id = ? AND f.gone = 0"

// ShelfFiles gives every file of a shelf in the order of titles.
func (s *Store) ShelfFiles(ctx context.Context, shelf string) ([]File, error) {
	return rows(ctx, s.r, scanPlainFile, fileColumns+
		"JOIN titles t ON t.id = f.title WHERE d.shelf = ? AND f.gone = 0 "+
		"ORDER BY t.folded, t.year, f.extra != '', f.season, f.disc, f.episode, f.date, f.piece, f.part, f.name", 0,
		shelf)
}

// ShelfFigures are the figures of one shelf.
type ShelfFigures struct {
	Titles   int
	Files    int
	Problems int // files that cannot be read, and folders that cannot be listed
	Duration float64
	Size     int64
}

// Figures gives the figures of a shelf. It looks at each of its files.
func (s *Store) Figures(ctx context.Context, shelf string) (v ShelfFigures, err error) {
	err = s.r.QueryRowContext(ctx, `SELECT count(DISTINCT f.title), count(f.id),
		count(*) FILTER (WHERE f.problem != '') + count(DISTINCT d.id) FILTER (WHERE d.problem != ''),
		total(f.duration) FILTER (WHERE f.extra = ''), coalesce(sum(f.size), 0)
		FROM folders d LEFT JOIN files f ON f.folder = d.id AND f.gone = 0 WHERE d.shelf = ?`, shelf).Scan(&v.Titles,
		&v.Files, &v.Problems, &v.Duration, &v.Size)
	return v, s.explain(err)
}

// FiguresFor gives the figures of a shelf as far as somebody sees it.
func (s *Store) FiguresFor(ctx context.Context, shelf string, sight Sight) (v ShelfFigures, err error) {
	err = s.r.QueryRowContext(ctx, `SELECT count(DISTINCT f.title), count(f.id), total(f.duration) FILTER (WHERE f.extra = ''),
		coalesce(sum(f.size), 0) FROM folders d JOIN files f ON f.folder = d.id AND f.gone = 0
		JOIN titles t ON t.id = f.title LEFT JOIN descriptions x ON x.title = t.id
		WHERE d.shelf = ? AND f.problem = '' AND `+sight.shown(), shelf).Scan(&v.Titles, &v.Files, &v.Duration, &v.Size)
	return v, s.explain(err)
}

// ProblemFile is a file that cannot be read.
type ProblemFile struct {
	Title   int64
	Name    string
	Problem string
}

// ProblemFiles gives some files of a shelf that cannot be read.
func (s *Store) ProblemFiles(ctx context.Context, shelf string, limit int) ([]ProblemFile, error) {
	return rows(ctx, s.r, func(r *sql.Rows, p *ProblemFile) error { return r.Scan(&p.Title, &p.Name, &p.Problem) },
		"SELECT f.title, f.name, f.problem FROM files f JOIN folders d ON d.id = f.folder WHERE f.problem != '' AND "+
			"f.gone = 0 AND d.shelf = ? ORDER BY d.path, f.name LIMIT ?", shelf, limit)
}

// FolderProblem is a folder that could not be listed.
type FolderProblem struct {
	Root    string
	Path    string
	Problem string
}

// FolderProblems gives the folders of a shelf that could not be listed.
func (s *Store) FolderProblems(ctx context.Context, shelf string) ([]FolderProblem, error) {
	return rows(ctx, s.r, func(r *sql.Rows, p *FolderProblem) error { return r.Scan(&p.Root, &p.Path, &p.Problem) },
		"SELECT root, path, problem FROM folders WHERE shelf = ? AND problem != '' ORDER BY root, path", shelf)
}

// Resume is a title that a member has begun.
type Resume struct {
	Title Title
	File  File
}

// Begun gives what a member has begun and not finished, latest first.
func (s *Store) Begun(ctx context.Context, member int64, limit int) ([]Resume, error) {
	type row struct{ file, title int64 }
	list, err := rows(ctx, s.r, func(r *sql.Rows, v *row) error { return r.Scan(&v.file, &v.title) },
		`SELECT p.file, f.title FROM positions p JOIN files f ON f.id = p.file AND f.gone = 0 WHERE p.member = ?
			ORDER BY p.updated DESC LIMIT ?`, member, 4*limit)
	if err != nil {
		return nil, err
	}
	var out []Resume
	for _, v := range list {
		f, err := s.File(ctx, v.file, member)
		if err != nil || f.ResumeAt == 0 || len(out) == limit {
			continue
		}
		t, err := s.Title(ctx, v.title)
		if err != nil {
			return nil, err
		}
		out = append(out, Resume{t, f})
	}
	return out, nil
}
