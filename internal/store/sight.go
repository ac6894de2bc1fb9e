package store

import (
	"context"
	"database/sql"
	"fmt"

	"cozyshelf/internal/core/allowance"
)

// Sight is what of the library is there for somebody. The zero value sees all.
type Sight struct {
	Member  int64 // whose rules for single titles hold; 0 for nobody's
	Allowed allowance.Allowance
	Unknown int // from which age on films and series count as being of which that is not known
}

// all reports whether nothing on the shelves that are seen is hidden.
func (v Sight) all() bool { return v.Member == 0 && v.Allowed.Age == nil }

// shown is an expression that tells whether a title, as t with its description as x, is shown. It says the
// same as allowance.Shows, but for the shelf, which is asked elsewhere.
func (v Sight) shown() string {
	if v.all() {
		return "1"
	}
	rest := "1"
	if v.Allowed.Age != nil {
		rest = fmt.Sprintf("coalesce(x.age, iif(t.kind IN ('films', 'series'), %d, 0)) <= %d", v.Unknown, *v.Allowed.Age)
	}
	return fmt.Sprintf("coalesce((SELECT shown FROM title_rules WHERE member = %d AND title = t.id), %s)", v.Member, rest)
}

// Shows reports whether a title is there for somebody.
func (s *Store) Shows(ctx context.Context, v Sight, t Title) (bool, error) {
	w := allowance.What{Shelf: t.Shelf, Kind: t.Kind, Age: t.Age}
	if v.Member != 0 {
		var err error
		if w.Rule, err = s.Rule(ctx, v.Member, t.ID); err != nil {
			return false, err
		}
	}
	return v.Allowed.Shows(w, v.Unknown), nil
}

// TitleRule is a title that was shown to a member by itself, or hidden.
type TitleRule struct {
	Title int64
	Name  string
	Shelf string
	Shown bool
}

// Rule gives whether a title was shown to a member by itself, or hidden; nil where neither was.
func (s *Store) Rule(ctx context.Context, member, title int64) (*bool, error) {
	list, err := rows(ctx, s.r, func(r *sql.Rows, v *bool) error { return r.Scan(v) },
		"SELECT shown FROM title_rules WHERE member = ? AND title = ?", member, title)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// TitleRules gives the titles that were shown to a member by themselves, or hidden.
func (s *Store) TitleRules(ctx context.Context, member int64) ([]TitleRule, error) {
	return rows(ctx, s.r, func(r *sql.Rows, v *TitleRule) error { return r.Scan(&v.Title, &v.Name, &v.Shelf, &v.Shown) },
		`SELECT t.id, coalesce(nullif(x.name, ''), t.name), t.shelf, r.shown FROM title_rules r JOIN titles t ON t.id = r.title
		LEFT JOIN descriptions x ON x.title = t.id WHERE r.member = ? ORDER BY t.shelf, t.folded`, member)
}

// mostRules is how many titles may be shown to a member by themselves, or hidden.
const mostRules = 10_000

// ErrManyRules says that there are as many rules for single titles as may be.
var ErrManyRules = fmt.Errorf("there are %d titles with a rule of their own for the member, which is as many as may be",
	mostRules)

// RuleTitles shows titles to a member by themselves, or hides them; nil goes by their age again.
func (s *Store) RuleTitles(ctx context.Context, member int64, rules map[int64]*bool) error {
	defer s.changed()
	return s.change(ctx, func(tx *sql.Tx) error {
		for title, shown := range rules {
			_, err := tx.ExecContext(ctx, "DELETE FROM title_rules WHERE member = ? AND title = ?", member, title)
			if err == nil && shown != nil {
				_, err = tx.ExecContext(ctx, "INSERT INTO title_rules (member, title, shown) SELECT ?, id, ? FROM titles "+
					"WHERE id = ?", member, *shown, title)
			}
			if err != nil {
				return err
			}
		}
		var n int
		err := tx.QueryRowContext(ctx, "SELECT count(*) FROM title_rules WHERE member = ?", member).Scan(&n)
		if err == nil && n > mostRules {
			err = ErrManyRules
		}
		return err
	})
}

// carryRules has the rules for a file's title hold for another to which the file goes. One that shows a
// title does not, where that other is there already: it would show what nobody meant.
func carryRules(ctx context.Context, tx *sql.Tx, file, title int64) error {
	_, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO title_rules (member, title, shown)
		SELECT r.member, ?1, r.shown FROM files f JOIN title_rules r ON r.title = f.title
		WHERE f.id = ?2 AND f.title != ?1
		AND (r.shown = 0 OR NOT EXISTS (SELECT 1 FROM files WHERE title = ?1 AND gone = 0))`, title, file)
	return err
}
