package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"math"
	"path"
	"time"

	"cozyshelf/internal/core/usage"
)

const playColumns = `SELECT id, member, shelf, title, part, device, address, away, started, seen, ended, from_pos,
	position, duration, watched, bytes, done, delivery, why,
	coalesce((SELECT json_group_array(name) FROM (SELECT name FROM sofas WHERE play = plays.id ORDER BY folded)), '[]')
	FROM plays `

// What of a play figures are made of.
const countedColumns = `SELECT member, shelf, title, part, device, away, started, seen, ended, watched, bytes, done,
	delivery, (SELECT json_group_array(name) FROM (SELECT name FROM sofas WHERE play = plays.id ORDER BY folded))
	FROM plays `

func scanCounted(r *sql.Rows, p *usage.Play) error {
	var started, seen, ended int64
	var sofa string
	err := r.Scan(&p.Member, &p.Shelf, &p.Title, &p.Part, &p.Device, &p.Away, &started, &seen, &ended, &p.Watched,
		&p.Bytes,
		&p.Done, &p.Delivery, &sofa)
	if err == nil && sofa != "[]" {
		err = json.Unmarshal([]byte(sofa), &p.Sofa)
	}
	p.Started, p.Seen, p.Ended = fromMilli(started), fromMilli(seen), fromMilli(ended)
	return err
}

func scanPlay(r *sql.Rows, p *usage.Play) error {
	var started, seen, ended int64
	var sofa string
	err := r.Scan(&p.ID, &p.Member, &p.Shelf, &p.Title, &p.Part, &p.Device, &p.Address, &p.Away, &started, &seen,
		&ended, &p.From, &p.Position, &p.Duration, &p.Watched, &p.Bytes, &p.Done, &p.Delivery, &p.Why, &sofa)
	if err == nil && sofa != "[]" {
		err = json.Unmarshal([]byte(sofa), &p.Sofa)
	}
	p.Started, p.Seen, p.Ended = fromMilli(started), fromMilli(seen), fromMilli(ended)
	return err
}

// BeginPlay opens a play, or continues one of the same device and file that
// ended a short while ago, or, where the clock was set back, in a short while.
func (s *Store) BeginPlay(ctx context.Context, p usage.Play, device, file int64, now time.Time) (usage.Play, error) {
	err := s.change(ctx, func(tx *sql.Tx) error {
		list, err := rows(ctx, tx, scanPlay, playColumns+
			"WHERE device_id = ? AND file = ? AND seen > ? AND seen < ? ORDER BY seen DESC LIMIT 1", device, file,
			milli(now.Add(-usage.MergeWithin)), milli(now.Add(usage.MergeWithin)))
		if err != nil {
			return err
		}
		// What was seen to the end and is begun again is a new play.
		if len(list) == 1 && (!list[0].Done || p.From > list[0].Duration/2) {
			delivery, why := p.Delivery, p.Why
			p = list[0]
			p.Seen, p.Ended = now, time.Time{}
			if delivery != "" {
				p.Delivery, p.Why = delivery, why
			}
			_, err = tx.ExecContext(ctx, "UPDATE plays SET seen = ?, ended = 0, delivery = ?, why = ? WHERE id = ?",
				milli(now), p.Delivery, p.Why, p.ID)
			return err
		}
		p.Started, p.Seen = now, now
		p.Position = p.From
		res, err := tx.ExecContext(ctx, `INSERT INTO plays (member, shelf, title, part, file, device, device_id,
			address, away, started, seen, from_pos, position, duration, watched, bytes, done, delivery, why)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 0, 0, 0, ?, ?)`,
			p.Member, p.Shelf, p.Title, p.Part, file, p.Device, device, p.Address, p.Away, milli(now), milli(now),
			p.From, p.From, p.Duration, p.Delivery, p.Why)
		if err == nil {
			p.ID, err = res.LastInsertId()
		}
		return err
	})
	return p, err
}

// Mark is what is noted of a stream that is running: sums so far.
type Mark struct {
	Play     int64
	Position float64
	Watched  float64
	Bytes    int64
	Done     bool
	Over     bool
	At       time.Time

	// How it is delivered and why; empty leaves that as it is.
	Delivery, Why string

	// Where the member will resume. A Member of 0 leaves that as it is.
	Member, File int64
	Sofa         bool // and where those on the sofa will
}

// MarkPlays notes the marks, all or none.
func (s *Store) MarkPlays(ctx context.Context, marks ...Mark) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		for _, m := range marks {
			// A clock that was set back must not let a play end before it began.
			ended := int64(0)
			if m.Over {
				ended = milli(m.At)
			}
			if _, err := tx.ExecContext(ctx,
				"UPDATE plays SET position = ?, watched = ?, bytes = ?, done = ?, seen = max(started, ?), ended = "+
					"iif(? = 0, 0, max(started, ?)), delivery = iif(? = '', delivery, ?), why = iif(? = '', why, ?) "+
					"WHERE id = ?",
				m.Position, m.Watched, m.Bytes, m.Done, milli(m.At), ended, ended, m.Delivery, m.Delivery, m.Delivery,
				m.Why, m.Play); err != nil {
				return err
			}
			if m.Member == 0 {
				continue
			}
			if _, err := tx.ExecContext(ctx,
				"INSERT INTO positions (member, file, position, updated) VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE "+
					"SET position = excluded.position, updated = excluded.updated",
				m.Member, m.File, m.Position, milli(m.At)); err != nil {
				return err
			}
			if m.Sofa {
				if err := markSofa(ctx, tx, m.Play, m.File, m.Position, milli(m.At)); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// CloseStale ends the plays that nobody has closed, such as after a crash, at
// the moment they were last seen: those last seen before a time. It gives them in the order in which they began.
func (s *Store) CloseStale(ctx context.Context, before time.Time) (closed []usage.Play, err error) {
	err = s.change(ctx, func(tx *sql.Tx) error {
		var err error
		if closed, err = rows(ctx, tx, scanPlay, playColumns+"WHERE ended = 0 AND seen < ? ORDER BY started",
			milli(before)); err != nil || len(closed) == 0 {
			return err
		}
		for i := range closed {
			closed[i].Ended = closed[i].Seen
		}
		_, err = tx.ExecContext(ctx, "UPDATE plays SET ended = seen WHERE ended = 0 AND seen < ?", milli(before))
		return err
	})
	if err != nil {
		return nil, err
	}
	return closed, nil
}

// TellPlay notes a play that is over. Where the member would go on changes only if nothing was told of the file
// later. One of the same device, file and beginning is given with ErrExists.
func (s *Store) TellPlay(ctx context.Context, p usage.Play, device, member, file int64) (usage.Play, error) {
	err := s.change(ctx, func(tx *sql.Tx) error {
		list, err := rows(ctx, tx, scanPlay, playColumns+"WHERE device_id = ? AND file = ? AND started = ?", device, file,
			milli(p.Started))
		if err != nil {
			return err
		}
		if len(list) > 0 {
			p = list[0]
			return ErrExists
		}
		res, err := tx.ExecContext(ctx, `INSERT INTO plays (member, shelf, title, part, file, device, device_id,
			address, away, started, seen, ended, from_pos, position, duration, watched, bytes, done, delivery, why)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 0, ?, ?, ?)`,
			p.Member, p.Shelf, p.Title, p.Part, file, p.Device, device, p.Address, p.Away, milli(p.Started), milli(p.Seen),
			milli(p.Ended), p.From, p.Position, p.Duration, p.Watched, p.Done, p.Delivery, p.Why)
		if err == nil {
			p.ID, err = res.LastInsertId()
		}
		if err == nil {
			_, err = tx.ExecContext(ctx, `INSERT INTO positions (member, file, position, updated) VALUES (?, ?, ?, ?)
				ON CONFLICT DO UPDATE SET position = excluded.position, updated = excluded.updated
				WHERE excluded.updated > positions.updated`, member, file, p.Position, milli(p.Seen))
		}
		return err
	})
	return p, err
}

// KeepHistory notes for how long the plays of a member are to be kept.
func (s *Store) KeepHistory(ctx context.Context, member int64, days usage.Kept) error {
	defer s.changed()
	return s.changedOne(ctx, "UPDATE members SET history = ?2 WHERE id = ?1", member, days)
}

// ForgetPlays takes names, devices and addresses from plays that ended before a time: those of one member,
// or of all for an empty name. Where somebody else's sofa is concerned, that member leaves it.
func (s *Store) ForgetPlays(ctx context.Context, name string, before time.Time) (forgotten int64, err error) {
	err = s.change(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx,
			"DELETE FROM sofas WHERE ?1 IN ('', folded) AND play IN (SELECT id FROM plays WHERE "+
				"ended != 0 AND ended < ?2)", Fold(name), milli(before)); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx,
			"UPDATE plays SET member = '', device = '', device_id = 0, address = '' WHERE ended != 0 "+
				"AND ended < ?2 AND member != '' AND ?1 IN ('', fold(member))", Fold(name), milli(before))
		if err == nil {
			forgotten, err = res.RowsAffected()
		}
		if err == nil {
			err = forgetNotices(ctx, tx, name, before)
		}
		return err
	})
	return forgotten, err
}

// CutAddresses leaves the network of the addresses of plays that ended before a time, and of changes to how
// members sign in, and gives how many were cut.
func (s *Store) CutAddresses(ctx context.Context, before time.Time) (cut int, err error) {
	const whole = "address != '' AND instr(address, '/') = 0"
	for table, past := range map[string]string{"plays": "ended > 0 AND ended < ?", "changes": "at < ?"} {
		err = errors.Join(err, s.change(ctx, func(tx *sql.Tx) error {
			list, err := rows(ctx, tx, func(r *sql.Rows, a *string) error { return r.Scan(a) },
				"SELECT DISTINCT address FROM "+table+" WHERE "+whole+" AND "+past, milli(before))
			for _, a := range list {
				if err == nil {
					_, err = tx.ExecContext(ctx, "UPDATE "+table+" SET address = ? WHERE address = ? AND "+whole+" AND "+past,
						usage.NetworkOf(a), a, milli(before))
				}
			}
			cut += len(list)
			return err
		}))
	}
	return cut, err
}

// mostEffaced is how large a store may be, in bytes, that is written anew to leave no trace: it is in memory
// meanwhile.
const mostEffaced = 64 << 20

// Efface has nothing left in the store's files of what was taken out of it. What is deleted is overwritten at once,
// but what was moved when a page was full leaves a trace; so the store is written anew, and its log is emptied. A
// store that is too large for that keeps such traces until they are overwritten. ErrBusy says that somebody reads
// at this moment.
func (s *Store) Efface(ctx context.Context) error {
	var size int64
	if err := s.w.QueryRowContext(ctx, "SELECT page_count * page_size FROM pragma_page_count, pragma_page_size").Scan(
		&size); err != nil {
		return s.explain(err)
	}
	if size <= mostEffaced {
		if _, err := s.w.ExecContext(ctx, "VACUUM"); err != nil {
			return s.explain(err)
		}
	}
	var busy, log, done int
	if err := s.w.QueryRowContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &log, &done); err != nil {
		return s.explain(err)
	}
	if busy != 0 {
		return ErrBusy
	}
	return nil
}

// Plays gives plays, the latest first.
func (s *Store) Plays(ctx context.Context, f usage.Filter) ([]usage.Play, error) {
	if f.After != 0 {
		if _, err := one(rows(ctx, s.r, func(r *sql.Rows, n *int64) error { return r.Scan(n) },
			"SELECT id FROM plays WHERE id = ?",
			f.After)); err != nil {
			return nil, err // what comes after nothing is not known
		}
	}
	where, args := chosen(f)
	return rows(ctx, s.r, scanPlay, playColumns+where+" ORDER BY started DESC, id DESC LIMIT ?12", args...)
}

// chosen gives the words of a query that choose plays, and what they are filled with; ?12 is the limit.
func chosen(f usage.Filter) (where string, args []any) {
	limit, until := f.Limit, int64(math.MaxInt64)
	if limit <= 0 {
		limit = -1
	}
	if !f.Until.IsZero() {
		until = milli(f.Until)
	}
	away, done := -1, -1 // for both
	if f.Where != "" {
		away = number(f.Where == usage.Away)
	}
	if f.Finished != nil {
		done = number(*f.Finished)
	}
	kind := ""
	if f.Kind != "" {
		b, _ := json.Marshal(append([]string{}, f.Shelves...)) // of texts
		kind = string(b)
	}
	return `WHERE (?1 = '' OR fold(member) = ?1 OR EXISTS (SELECT 1 FROM sofas WHERE folded = ?1 AND play = plays.id))
		AND seen >= ?2 AND started < ?3 AND (NOT ?4 OR ended = 0)
		AND (?5 = 0 OR (started, id) < (SELECT started, id FROM plays WHERE id = ?5))
		AND (?6 = '' OR instr(fold(title), fold(?6)) > 0) AND (?7 = '' OR shelf = ?7)
		AND (?8 = '' OR instr(fold(device), fold(?8)) > 0) AND (?9 = '' OR delivery = ?9)
		AND (?10 < 0 OR away = ?10) AND (?11 < 0 OR done = ?11)
		AND (?13 = '' OR shelf IN (SELECT value FROM json_each(?13)))`,
		[]any{Fold(f.Member), milli(f.Since), until, f.Open, f.After, f.Title, f.Shelf, f.Device, f.Delivery, away,
			done, limit, kind}
}

// eachPlay gives the plays that count in a time, of those that a filter chooses, in the order in which they began: what
// figures are made of.
func eachPlay(ctx context.Context, tx *sql.Tx, f usage.Filter, from, until time.Time, do func(usage.Play)) error {
	f.Since, f.Until = time.Time{}, until
	where, args := chosen(f)
	earliest, begin := int64(math.MinInt64), int64(math.MinInt64)
	if !from.IsZero() {
		earliest, begin = milli(from.Add(-longest)), milli(from)
	}
	_, err := rows(ctx, tx, func(r *sql.Rows, _ *struct{}) error {
		var p usage.Play
		if err := scanCounted(r, &p); err != nil {
			return err
		}
		if p.Within(from, until) {
			do(p)
		}
		return nil
		// Of those that began before the time, few reach into it.
	}, countedColumns+where+` AND started >= ?14 AND (started >= ?15 OR ended = 0 OR ended > ?15 OR ended < started)
		ORDER BY started, id LIMIT ?12`, append(args, earliest, begin)...)
	return err
}

func number(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Format is the number of the newest migration applied.
func (s *Store) Format(ctx context.Context) (int, error) {
	var v int
	err := s.r.QueryRowContext(ctx, "SELECT max(version_id) FROM goose_db_version").Scan(&v)
	return v, err
}

// WatchedFile is a file that somebody watches now.
type WatchedFile struct {
	Member string
	Shelf  string
	Root   string // the shelf's folder, as the administrator wrote it
	Path   string // below it
}

// Watched gives the files that somebody watches now.
func (s *Store) Watched(ctx context.Context) ([]WatchedFile, error) {
	return rows(ctx, s.r, func(r *sql.Rows, w *WatchedFile) error {
		var dir, name string
		err := r.Scan(&w.Member, &w.Shelf, &w.Root, &dir, &name)
		w.Path = path.Join(dir, name)
		return err
	}, "SELECT p.member, d.shelf, d.root, d.path, f.name FROM plays p JOIN files f ON f.id = p.file JOIN folders d "+
		"ON d.id = f.folder WHERE p.ended = 0 ORDER BY p.started")
}
