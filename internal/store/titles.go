package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"path"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/usage"
)

// Title is what a person picks from a shelf. Figures count the files that are
// there.
type Title struct {
	ID       int64          `json:"id"`
	Shelf    string         `json:"shelf"`
	Kind     household.Kind `json:"kind"`
	Name     string         `json:"name"`
	Year     int            `json:"year,omitempty"`
	By       string         `json:"by,omitempty"`
	Parts    int            `json:"parts"`
	Duration float64        `json:"duration"` // of all parts, in seconds
	Size     int64          `json:"size"`     // in bytes
	Problems int            `json:"problems"` // files that cannot be read
	Added    time.Time      `json:"added"`
}

// File is one part of a title, as a file.
type File struct {
	ID       int64      `json:"id"`
	Title    int64      `json:"title"`
	Shelf    string     `json:"shelf"`
	Root     string     `json:"-"` // the shelf's folder, as the administrator wrote it
	Path     string     `json:"path"`
	Season   int        `json:"season,omitempty"`
	Episode  int        `json:"episode,omitempty"`
	Part     string     `json:"part,omitempty"`
	Content  string     `json:"content"`
	Size     int64      `json:"size"`
	Modified time.Time  `json:"modified"`
	Duration float64    `json:"duration"`
	Media    media.Info `json:"media,omitzero"`
	Problem  string     `json:"problem,omitempty"`
	Note     string     `json:"note,omitempty"`
	ResumeAt float64    `json:"resume_at"` // for the member who asks; 0 for the beginning
	Seen     bool       `json:"seen"`      // by the member who asks
}

const titleColumns = `SELECT t.id, t.shelf, t.kind, t.name, t.year, t.maker, t.added, count(*), total(f.duration), sum(f.size), count(*) FILTER (WHERE f.problem != '')
	FROM titles t JOIN files f ON f.title = t.id AND f.gone = 0 `

func scanTitle(r *sql.Rows, t *Title) error {
	var added int64
	err := r.Scan(&t.ID, &t.Shelf, &t.Kind, &t.Name, &t.Year, &t.By, &added, &t.Parts, &t.Duration, &t.Size, &t.Problems)
	t.Added = fromMilli(added)
	return err
}

// Titles gives the titles of a shelf by name; all shelves for an empty name.
func (s *Store) Titles(ctx context.Context, shelf string) ([]Title, error) {
	return rows(ctx, s.r, scanTitle, titleColumns+"WHERE ? IN ('', t.shelf) GROUP BY t.id ORDER BY t.shelf, t.folded, t.year", shelf)
}

// Title gives one title.
func (s *Store) Title(ctx context.Context, id int64) (Title, error) {
	return one(rows(ctx, s.r, scanTitle, titleColumns+"WHERE t.id = ? GROUP BY t.id", id))
}

const fileColumns = `SELECT f.id, f.title, d.shelf, d.root, d.path, f.name, f.season, f.episode, f.part, f.content, f.size, f.mtime, f.duration, f.info, f.problem, f.note, coalesce(p.position, 0)
	FROM files f JOIN folders d ON d.id = f.folder LEFT JOIN positions p ON p.file = f.id AND p.member = ? `

func scanFile(r *sql.Rows, f *File) error {
	var dir, name, info string
	var mtime int64
	var position float64
	if err := r.Scan(&f.ID, &f.Title, &f.Shelf, &f.Root, &dir, &name, &f.Season, &f.Episode, &f.Part, &f.Content, &f.Size, &mtime, &f.Duration, &info, &f.Problem, &f.Note, &position); err != nil {
		return err
	}
	f.Path, f.Modified = path.Join(dir, name), time.Unix(0, mtime)
	f.ResumeAt, f.Seen = usage.ResumeAt(position, f.Duration), usage.Finished(position, f.Duration)
	if info == "" {
		return nil
	}
	return json.Unmarshal([]byte(info), &f.Media)
}

// Files gives the parts of a title in their order, with the positions of a member.
func (s *Store) Files(ctx context.Context, title, member int64) ([]File, error) {
	return rows(ctx, s.r, scanFile, fileColumns+"WHERE f.title = ? AND f.gone = 0 ORDER BY f.season, f.episode, f.part, f.name", member, title)
}

// File gives one file.
func (s *Store) File(ctx context.Context, id, member int64) (File, error) {
	return one(rows(ctx, s.r, scanFile, fileColumns+"WHERE f.id = ? AND f.gone = 0", member, id))
}

// ShelfFiles gives every file of a shelf in the order of titles.
func (s *Store) ShelfFiles(ctx context.Context, shelf string) ([]File, error) {
	return rows(ctx, s.r, scanFile, fileColumns+"JOIN titles t ON t.id = f.title WHERE d.shelf = ? AND f.gone = 0 ORDER BY t.folded, t.year, f.season, f.episode, f.part, f.name", 0, shelf)
}

// ShelfFigures are the figures of one shelf.
type ShelfFigures struct {
	Titles   int     `json:"titles"`
	Files    int     `json:"files"`
	Problems int     `json:"problems"` // files that cannot be read, and folders that cannot be listed
	Duration float64 `json:"duration"`
	Size     int64   `json:"size"`
}

// Figures gives the figures of each shelf.
func (s *Store) Figures(ctx context.Context) (map[string]ShelfFigures, error) {
	out := map[string]ShelfFigures{}
	type row struct {
		name string
		ShelfFigures
	}
	list, err := rows(ctx, s.r, func(r *sql.Rows, v *row) error {
		return r.Scan(&v.name, &v.Titles, &v.Files, &v.Problems, &v.Duration, &v.Size)
	}, `SELECT d.shelf, count(DISTINCT f.title), count(f.id), count(*) FILTER (WHERE f.problem != '') + count(DISTINCT d.id) FILTER (WHERE d.problem != ''), total(f.duration), coalesce(sum(f.size), 0)
		FROM folders d LEFT JOIN files f ON f.folder = d.id AND f.gone = 0 GROUP BY d.shelf`)
	for _, r := range list {
		out[r.name] = r.ShelfFigures
	}
	return out, err
}

// FolderProblem is a folder that could not be listed.
type FolderProblem struct {
	Root    string `json:"root"`
	Path    string `json:"path"`
	Problem string `json:"problem"`
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
		`SELECT p.file, f.title FROM positions p JOIN files f ON f.id = p.file AND f.gone = 0 WHERE p.member = ? ORDER BY p.updated DESC LIMIT ?`, member, 4*limit)
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
