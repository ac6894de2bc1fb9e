package store

import (
	"context"
	"database/sql"
	"time"

	"cozyshelf/internal/core/allowance"
)

// WatchedDay is how much a member watched on a day.
type WatchedDay struct {
	Member    int64
	Day, Week string // the day, and the Monday of its week, by the household's clocks
	allowance.Meter
}

// AddWatched adds to what members watched on days. A member that is gone is passed over.
func (s *Store) AddWatched(ctx context.Context, list ...WatchedDay) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		for _, d := range list {
			if _, err := tx.ExecContext(ctx, `INSERT INTO watched (member, day, week, watched, fetched)
				SELECT id, ?, ?, ?, ? FROM members WHERE id = ? ON CONFLICT DO UPDATE SET
				watched = watched + excluded.watched, fetched = fetched + excluded.fetched`, d.Day, d.Week,
				d.Watched.Seconds(), d.Fetched.Seconds(), d.Member); err != nil {
				return err
			}
		}
		return nil
	})
}

// WatchedDays gives what a member watched, by the day.
func (s *Store) WatchedDays(ctx context.Context, member int64) ([]WatchedDay, error) {
	return rows(ctx, s.r, scanWatched,
		"SELECT member, day, week, watched, fetched FROM watched WHERE member = ? ORDER BY day",
		member)
}

func scanWatched(r *sql.Rows, d *WatchedDay) error {
	var watched, fetched float64
	err := r.Scan(&d.Member, &d.Day, &d.Week, &watched, &fetched)
	d.Watched, d.Fetched = seconds(watched), seconds(fetched)
	return err
}

// WatchedWeek gives what a member watched in the week that begins on a Monday, by the day.
func (s *Store) WatchedWeek(ctx context.Context, member int64, week string) ([]WatchedDay, error) {
	return rows(ctx, s.r, scanWatched,
		"SELECT member, day, week, watched, fetched FROM watched WHERE member = ? AND week = ? "+
			"ORDER BY day", member, week)
}

// Grant lets a member watch until a moment, whatever its hours and minutes are. What was granted for longer
// stays.
func (s *Store) Grant(ctx context.Context, member int64, until time.Time, by string) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "INSERT INTO grants (member, until, grantor) VALUES (?, ?, ?) "+
			"ON CONFLICT DO UPDATE SET until = max(until, excluded.until), grantor = excluded.grantor", member,
			milli(until), by)
		return err
	})
}

// Granted gives until when more was granted to members, as far as that lasts.
func (s *Store) Granted(ctx context.Context, now time.Time) (map[int64]time.Time, error) {
	out := map[int64]time.Time{}
	_, err := rows(ctx, s.r, func(r *sql.Rows, _ *struct{}) error {
		var member, until int64
		err := r.Scan(&member, &until)
		out[member] = fromMilli(until)
		return err
	}, "SELECT member, until FROM grants WHERE until > ?", milli(now))
	return out, err
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
