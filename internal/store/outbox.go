package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/notice"
)

// Waiting is a notice that waits for a receiver.
type Waiting struct {
	ID       int64 // later ones have larger ids
	Receiver string
	Notice   notice.Notice
}

// Receiver is how it goes with a receiver of notices.
type Receiver struct {
	Name, Address string
	Failures      int       // since the last success
	Next          time.Time // not before then
	Sent          time.Time // when it last took one
	Took, Lost    int64     // notices so far
	Problem       string    // of the last try
	Gone          bool      // it wants no more
	Waiting       int64     // notices that wait for it
}

// Enqueue puts notices into the outbox, all or none. Those for a receiver with too many already are lost: it gives
// how many, by the receiver.
func (s *Store) Enqueue(ctx context.Context, list []Waiting) (lost map[string]int, err error) {
	err = s.change(ctx, func(tx *sql.Tx) (err error) {
		lost, err = enqueue(ctx, tx, list)
		return err
	})
	return lost, err
}

func enqueue(ctx context.Context, tx *sql.Tx, list []Waiting) (lost map[string]int, err error) {
	lost = map[string]int{}
	room := map[string]int64{}
	for _, w := range list {
		if _, known := room[w.Receiver]; !known {
			n, err := one(rows(ctx, tx, scanNumber, "SELECT count(*) FROM outbox WHERE receiver = ?", w.Receiver))
			if err != nil {
				return nil, err
			}
			room[w.Receiver] = notice.MostWaiting - n
		}
		if room[w.Receiver] <= 0 {
			lost[w.Receiver]++
			continue
		}
		room[w.Receiver]--
		body, err := json.Marshal(w.Notice)
		if err != nil {
			return nil, err
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO outbox (receiver, code, at, body) VALUES (?, ?, ?, ?)",
			w.Receiver, w.Notice.Code, milli(w.Notice.At), string(body)); err != nil {
			return nil, err
		}
	}
	for name, n := range lost {
		if _, err := tx.ExecContext(ctx, "UPDATE receivers SET lost = lost + ? WHERE name = ?", n, name); err != nil {
			return nil, err
		}
	}
	return lost, nil
}

// also are notices that go into the outbox with the next change of a context.
type also struct {
	list []Waiting
	done bool
}

type alsoKey struct{}

// Also gives a context whose next change puts notices into the outbox in the same transaction: what changes and what
// is told of it are kept together, or neither is. Where nothing changes, there are none.
func Also(ctx context.Context, list []Waiting) context.Context {
	if len(list) == 0 {
		return ctx
	}
	return context.WithValue(ctx, alsoKey{}, &also{list: list})
}

// alsoOf gives what goes into the outbox with a change.
func alsoOf(ctx context.Context) *also {
	if a, ok := ctx.Value(alsoKey{}).(*also); ok && !a.done {
		return a
	}
	return nil
}

func scanNumber(r *sql.Rows, n *int64) error { return r.Scan(n) }

// Outbox gives the first notices that wait for a receiver, in their order.
func (s *Store) Outbox(ctx context.Context, receiver string, limit int) ([]Waiting, error) {
	return rows(ctx, s.r, func(r *sql.Rows, w *Waiting) error {
		var body string
		if err := r.Scan(&w.ID, &w.Receiver, &body); err != nil {
			return err
		}
		return json.Unmarshal([]byte(body), &w.Notice)
	}, "SELECT id, receiver, body FROM outbox WHERE receiver = ? ORDER BY id LIMIT ?", receiver, limit)
}

// SetReceivers makes the receivers those that the household has: what waits for others is removed, and one that has
// moved begins anew.
func (s *Store) SetReceivers(ctx context.Context, addresses map[string]string) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		were, err := rows(ctx, tx, func(r *sql.Rows, n *string) error { return r.Scan(n) },
			"SELECT name FROM receivers UNION SELECT receiver FROM outbox")
		if err != nil {
			return err
		}
		for _, name := range were {
			if _, stays := addresses[name]; stays {
				continue
			}
			for _, q := range []string{"DELETE FROM outbox WHERE receiver = ?", "DELETE FROM receivers WHERE name = ?"} {
				if _, err := tx.ExecContext(ctx, q, name); err != nil {
					return err
				}
			}
		}
		for name, address := range addresses {
			if _, err := tx.ExecContext(ctx, `INSERT INTO receivers (name, address) VALUES (?1, ?2) ON CONFLICT DO UPDATE
				SET address = ?2, failures = 0, next = 0, problem = '', gone = 0 WHERE address != ?2`, name, address); err != nil {
				return err
			}
		}
		return nil
	})
}

const receiverColumns = "SELECT name, address, failures, next, sent, took, lost, problem, gone, "

func scanReceiver(r *sql.Rows, v *Receiver) error {
	var next, sent int64
	err := r.Scan(&v.Name, &v.Address, &v.Failures, &next, &sent, &v.Took, &v.Lost, &v.Problem, &v.Gone, &v.Waiting)
	v.Next, v.Sent = fromMilli(next), fromMilli(sent)
	return err
}

// Receivers gives how it goes with all receivers, by their names.
func (s *Store) Receivers(ctx context.Context) ([]Receiver, error) {
	return rows(ctx, s.r, scanReceiver, receiverColumns+
		"(SELECT count(*) FROM outbox WHERE receiver = receivers.name) FROM receivers ORDER BY name")
}

// Receiver gives how it goes with one receiver. What waits for it is not counted.
func (s *Store) Receiver(ctx context.Context, name string) (Receiver, error) {
	return one(rows(ctx, s.r, scanReceiver, receiverColumns+"0 FROM receivers WHERE name = ?", name))
}

// Taken notes that a receiver took notices, which leave the outbox.
func (s *Store) Taken(ctx context.Context, receiver string, ids []int64, now time.Time) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		n, err := s.leave(ctx, tx, receiver, ids)
		if err == nil {
			_, err = tx.ExecContext(ctx, "UPDATE receivers SET failures = 0, next = 0, problem = '', sent = ?, "+
				"took = took + ? WHERE name = ?", milli(now), n, receiver)
		}
		return err
	})
}

// Reached notes that a receiver took something beside what waits for it: it is tried again at once.
func (s *Store) Reached(ctx context.Context, receiver string, now time.Time) error {
	return s.changedOne(ctx,
		"UPDATE receivers SET failures = 0, next = 0, problem = '', gone = 0, sent = ?2 WHERE name = ?1",
		receiver, milli(now))
}

// Failed notes that a receiver did not take what it was sent, and when it is tried again.
func (s *Store) Failed(ctx context.Context, receiver, why string, failures int, next time.Time) error {
	return s.changedOne(ctx, "UPDATE receivers SET failures = ?2, next = ?3, problem = ?4 WHERE name = ?1", receiver,
		failures, milli(next), why)
}

// GiveUp takes notices out of the outbox that a receiver did not take.
func (s *Store) GiveUp(ctx context.Context, receiver string, ids []int64) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		n, err := s.leave(ctx, tx, receiver, ids)
		if err == nil {
			_, err = tx.ExecContext(ctx, "UPDATE receivers SET lost = lost + ? WHERE name = ?", n, receiver)
		}
		return err
	})
}

// WantsNoMore notes that a receiver wants no more notices. What waits for it is removed; it gives how many that were.
func (s *Store) WantsNoMore(ctx context.Context, receiver, why string) (removed int64, err error) {
	err = s.change(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "DELETE FROM outbox WHERE receiver = ?", receiver)
		if err == nil {
			removed, err = res.RowsAffected()
		}
		if err == nil {
			_, err = tx.ExecContext(ctx, "UPDATE receivers SET gone = 1, problem = ?2, lost = lost + ?3 WHERE name = ?1",
				receiver, why, removed)
		}
		return err
	})
	return removed, err
}

// leave takes notices of a receiver out of the outbox, and gives how many were there.
func (s *Store) leave(ctx context.Context, tx *sql.Tx, receiver string, ids []int64) (n int64, err error) {
	for _, id := range ids {
		res, err := tx.ExecContext(ctx, "DELETE FROM outbox WHERE receiver = ? AND id = ?", receiver, id)
		if err != nil {
			return n, err
		}
		gone, err := res.RowsAffected()
		if err != nil {
			return n, err
		}
		n += gone
	}
	return n, nil
}

// forgetNotices removes what waits of plays before a time that concern a member; an empty name stands for all.
func forgetNotices(ctx context.Context, tx *sql.Tx, member string, before time.Time) error {
	list, err := rows(ctx, tx, func(r *sql.Rows, w *Waiting) error {
		var body string
		if err := r.Scan(&w.ID, &body); err != nil {
			return err
		}
		return json.Unmarshal([]byte(body), &w.Notice)
	}, "SELECT id, body FROM outbox WHERE code IN (?, ?) AND at < ?", event.CodePlayBegan, event.CodePlayEnded,
		milli(before))
	for _, w := range list {
		if err == nil && (member == "" || slices.ContainsFunc(w.Notice.Members, func(m string) bool {
			return strings.EqualFold(m, member)
		})) {
			_, err = tx.ExecContext(ctx, "DELETE FROM outbox WHERE id = ?", w.ID)
		}
	}
	return err
}

// Remembered gives the text that was noted under a name; empty for none.
func (s *Store) Remembered(ctx context.Context, name string) (text string, err error) {
	err = s.r.QueryRowContext(ctx, "SELECT text FROM remembered WHERE name = ?", name).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return text, err
}

// Remember notes a text under a name, and gives what was noted before; empty for nothing. What is noted already is
// not written again: disks may rest.
func (s *Store) Remember(ctx context.Context, name, text string) (before string, err error) {
	if before, err = s.Remembered(ctx, name); err == nil && before == text {
		return before, nil
	}
	err = s.change(ctx, func(tx *sql.Tx) error {
		err := tx.QueryRowContext(ctx, "SELECT text FROM remembered WHERE name = ?", name).Scan(&before)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO remembered VALUES (?1, ?2) ON CONFLICT DO UPDATE SET text = ?2", name, text)
		return err
	})
	return before, err
}
