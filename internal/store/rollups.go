package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"cozyshelf/internal/core/usage"
)

// Rollups are the figures of days, months and years of plays that are over. Triggers note the times of plays that
// change (the table unrolled); whoever changes them makes the days anew in the same transaction (reroll). What is
// longer than a day is made later (rollLonger), and goes when a day of it changes. Whatever is not kept at the moment
// is made of the plays when it is asked for.

// longest is how long a play counts, at most; plays that began earlier do not reach into a day.
const longest = 48 * time.Hour

// mostAtOnce is how many days are made anew in the transaction that changed them; the others are made a little later.
const mostAtOnce = 31

// rolledBy is what the zone is remembered by whose days are kept, and the form of the sums.
const (
	rolledBy   = "rollups"
	rolledForm = "1 "
)

// SetZone says by which clocks days are told. Figures of other clocks are thrown away, to be made anew by Roll.
func (s *Store) SetZone(ctx context.Context, zone *time.Location) error {
	err := s.change(ctx, func(tx *sql.Tx) error {
		was, err := rows(ctx, tx, func(r *sql.Rows, t *string) error { return r.Scan(t) },
			"SELECT text FROM remembered WHERE name = ?", rolledBy)
		if err != nil || len(was) == 1 && was[0] == rolledForm+zone.String() {
			return err
		}
		if err := rollAll(ctx, tx); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx,
			"INSERT INTO remembered (name, text) VALUES (?1, ?2) ON CONFLICT DO UPDATE SET text = ?2",
			rolledBy, rolledForm+zone.String())
		return err
	})
	if err == nil {
		s.zone.Store(zone)
	}
	return err
}

// rollAll has all figures made anew.
func rollAll(ctx context.Context, tx *sql.Tx) error {
	_, err := tx.ExecContext(ctx, "DELETE FROM rollups; DELETE FROM rolled; DELETE FROM unrolled; "+
		"INSERT INTO unrolled SELECT min(started), max(started) + 172800000 FROM plays HAVING count(*) > 0")
	return err
}

// Rebuild throws all figures away, and makes them anew.
func (s *Store) Rebuild(ctx context.Context) error {
	if err := s.change(ctx, func(tx *sql.Tx) error { return rollAll(ctx, tx) }); err != nil {
		return err
	}
	return s.Roll(ctx)
}

// Roll makes what is not kept yet, a few days at a time, so that others can write in between.
func (s *Store) Roll(ctx context.Context) error {
	for {
		more, err := s.rollSome(ctx)
		if err != nil {
			return err
		}
		if !more {
			return s.rollLonger(ctx)
		}
	}
}

// rollSome makes the figures of some days, and reports whether there are more.
func (s *Store) rollSome(ctx context.Context) (more bool, err error) {
	err = s.tx(ctx, func(tx *sql.Tx) error {
		more = false
		zone := s.zone.Load()
		if zone == nil {
			return nil
		}
		list, err := unrolled(ctx, tx)
		if err != nil || len(list) == 0 {
			return err
		}
		more = len(list) > 1
		first := list[0]
		at, _ := usage.DayOf(first.from.In(zone))
		for range mostAtOnce {
			if at.After(first.to) {
				break
			}
			if err := rollDay(ctx, tx, zone, at); err != nil {
				return err
			}
			_, at = usage.DayOf(at)
		}
		if _, err = tx.ExecContext(ctx, "DELETE FROM unrolled WHERE ends < ?", at.UnixMilli()); err != nil {
			return err
		}
		// What reaches further begins where the days that were made end.
		rest, err := rows(ctx, tx, scanRange, "SELECT begins, ends FROM unrolled WHERE begins < ?",
			at.UnixMilli())
		for _, r := range rest {
			more = true
			if _, err := tx.ExecContext(ctx, "DELETE FROM unrolled WHERE begins = ? AND ends = ?", r.from.UnixMilli(),
				r.to.UnixMilli()); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "INSERT OR IGNORE INTO unrolled VALUES (?, ?)", at.UnixMilli(),
				r.to.UnixMilli()); err != nil {
				return err
			}
		}
		return err
	})
	return more, err
}

// timeRange is a time of which figures are to be made anew, both ends included.
type timeRange struct{ from, to time.Time }

func scanRange(r *sql.Rows, v *timeRange) error {
	var from, to int64
	err := r.Scan(&from, &to)
	v.from, v.to = time.UnixMilli(from), time.UnixMilli(to)
	return err
}

func unrolled(ctx context.Context, tx *sql.Tx) ([]timeRange, error) {
	return rows(ctx, tx, scanRange, "SELECT begins, ends FROM unrolled ORDER BY begins, ends")
}

// joined joins times that are less than two days apart; they are given by when they begin.
func joined(list []timeRange) (out []timeRange) {
	for _, r := range list {
		if n := len(out); n > 0 && r.from.Sub(out[n-1].to) < longest {
			if r.to.After(out[n-1].to) {
				out[n-1].to = r.to
			}
			continue
		}
		out = append(out, r)
	}
	return out
}

// reroll makes the figures of the days anew of which plays were changed in a transaction.
func (s *Store) reroll(ctx context.Context, tx *sql.Tx) error {
	zone := s.zone.Load()
	if zone == nil {
		return nil
	}
	list, err := unrolled(ctx, tx)
	if err != nil || len(list) == 0 {
		return err
	}
	list = joined(list)
	days := map[time.Time]bool{}
	for _, r := range list {
		at, next := usage.DayOf(r.from.In(zone))
		for !at.After(r.to) && len(days) <= mostAtOnce {
			days[at] = true
			at, next = usage.DayOf(next)
		}
	}
	if len(days) > mostAtOnce {
		// They are made later, but nothing that is no longer so may stay.
		if _, err := tx.ExecContext(ctx, "DELETE FROM unrolled"); err != nil {
			return err
		}
		for _, r := range list {
			if _, err := tx.ExecContext(ctx, "INSERT INTO unrolled VALUES (?, ?)", r.from.UnixMilli(),
				r.to.UnixMilli()); err != nil {
				return err
			}
			from, to := usage.PeriodOf(usage.LevelDay, r.from.In(zone)), usage.PeriodOf(usage.LevelDay, r.to.In(zone))
			if err := forgetPeriods(ctx, tx, from.At, to.At); err != nil {
				return err
			}
		}
		return nil
	}
	for _, at := range slices.SortedFunc(maps.Keys(days), time.Time.Compare) {
		if err := rollDay(ctx, tx, zone, at); err != nil {
			return err
		}
	}
	_, err = tx.ExecContext(ctx, "DELETE FROM unrolled")
	return err
}

// forgetPeriods throws away what is kept of days, and of all longer times that hold one of them.
func forgetPeriods(ctx context.Context, tx *sql.Tx, from, to int) error {
	const noEnd = 1 << 30
	for _, v := range []struct {
		level    usage.Level
		from, to int
	}{{usage.LevelDay, from, to}, {usage.LevelMonth, usage.MonthOf(from), usage.MonthOf(to)},
		{usage.LevelYear, usage.YearOf(from), usage.YearOf(to)}, {usage.LevelEver, from + 1, noEnd}} {
		for _, table := range []string{"rollups", "rolled"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE level = ? AND at BETWEEN ? AND ?", v.level,
				v.from,
				v.to); err != nil {
				return err
			}
		}
	}
	return nil
}

// scoped makes sums of all plays, and of those of each member.
type scoped struct {
	zone        *time.Location
	from, until time.Time
	of          map[string]*usage.Roller
}

func (s *scoped) add(p usage.Play) {
	if s.of == nil {
		s.of = map[string]*usage.Roller{}
	}
	scopes := []string{""}
	for _, v := range p.Viewers() {
		if scope := Fold(v); !slices.Contains(scopes, scope) {
			scopes = append(scopes, scope)
		}
	}
	for _, scope := range scopes {
		if s.of[scope] == nil {
			s.of[scope] = usage.NewRoller(s.zone, s.from, s.until, usage.PartAll)
		}
		s.of[scope].Add(p)
	}
}

// daySums makes the figures of a day, of all and of each member.
func daySums(ctx context.Context, tx *sql.Tx, zone *time.Location, at time.Time) (map[string]*usage.Roller, error) {
	from, until := usage.DayOf(at.In(zone))
	s := scoped{zone: zone, from: from, until: until}
	err := eachPlay(ctx, tx, usage.Filter{}, from, until, func(p usage.Play) {
		if !p.Ended.IsZero() {
			s.add(p)
		}
	})
	return s.of, err
}

// rollDay makes the figures of the day of a moment, and throws away those of longer times that hold it.
func rollDay(ctx context.Context, tx *sql.Tx, zone *time.Location, at time.Time) error {
	sums, err := daySums(ctx, tx, zone, at)
	if err != nil {
		return err
	}
	day := usage.PeriodOf(usage.LevelDay, at.In(zone))
	if err := forgetPeriods(ctx, tx, day.At, day.At); err != nil {
		return err
	}
	for scope, r := range sums {
		if err := keepSums(ctx, tx, day, scope, r.End(), usage.EachPart); err != nil {
			return err
		}
	}
	return nil
}

func keepSums(ctx context.Context, tx *sql.Tx, p usage.Period, scope string, sums *usage.Sums,
	parts []usage.Parts) error {
	for _, part := range parts {
		if b := sums.Encode(part); b != nil {
			if _, err := tx.ExecContext(ctx,
				"INSERT INTO rollups (level, scope, part, at, sums) VALUES (?, ?, ?, ?, ?)",
				p.Level, scope, part, p.At, b); err != nil {
				return err
			}
		}
	}
	return nil
}

// kept tells which periods are kept at a moment.
type kept struct {
	zone     *time.Location
	first    time.Time // when the first play began; zero for none
	last     time.Time // when the last one began
	live     time.Time // when the first stream began that runs; zero for none
	rolled   map[usage.Period]bool
	unrolled []timeRange
}

func lookKept(ctx context.Context, tx *sql.Tx, zone *time.Location) (k kept, err error) {
	k = kept{zone: zone, rolled: map[usage.Period]bool{}}
	var first, last, live sql.NullInt64
	if err := tx.QueryRowContext(ctx, "SELECT (SELECT min(started) FROM plays), (SELECT max(started) FROM plays), "+
		"(SELECT min(started) FROM plays WHERE ended = 0)").Scan(&first, &last, &live); err != nil {
		return k, explain(err)
	}
	if first.Valid {
		k.first, k.last = time.UnixMilli(first.Int64), time.UnixMilli(last.Int64)
	}
	if live.Valid {
		k.live = time.UnixMilli(live.Int64)
	}
	if k.unrolled, err = unrolled(ctx, tx); err != nil {
		return k, err
	}
	_, err = rows(ctx, tx, func(r *sql.Rows, p *usage.Period) error {
		err := r.Scan(&p.Level, &p.At)
		k.rolled[*p] = true
		return err
	}, "SELECT level, at FROM rolled")
	return k, err
}

// days reports whether the figures of all days of a time are kept.
func (k kept) days(from, until time.Time) bool {
	if !k.live.IsZero() && k.live.Before(until) {
		return false
	}
	return !slices.ContainsFunc(k.unrolled, func(r timeRange) bool {
		// Days are made whole.
		begin, _ := usage.DayOf(r.from.In(k.zone))
		_, end := usage.DayOf(r.to.In(k.zone))
		return begin.Before(until) && end.After(from)
	})
}

// has reports whether the figures of a period are kept.
func (k kept) has(s usage.Span) bool {
	return (s.Level == usage.LevelDay || k.rolled[s.Period]) && k.days(s.From, s.Until)
}

// rollLonger makes the figures of months and years that are over, and of all years before this one.
func (s *Store) rollLonger(ctx context.Context) error {
	zone := s.zone.Load()
	if zone == nil {
		return nil
	}
	now := time.Now().In(zone)
	var k kept
	look := func() error {
		tx, err := s.r.BeginTx(ctx, nil)
		if err != nil {
			return s.explain(err)
		}
		defer tx.Rollback()
		k, err = lookKept(ctx, tx, zone)
		return err
	}
	if err := look(); err != nil || k.first.IsZero() {
		return err
	}
	for _, level := range []usage.Level{usage.LevelMonth, usage.LevelYear} {
		p := usage.PeriodOf(level, k.first.In(zone))
		for {
			_, end := p.Bounds(zone)
			if end.After(now) {
				break
			}
			if !k.rolled[p] {
				if err := s.rollPeriod(ctx, p); err != nil {
					return err
				}
			}
			p = usage.PeriodOf(level, end)
		}
	}
	p := usage.PeriodOf(usage.LevelEver, now)
	if !k.rolled[p] && p.At > usage.PeriodOf(usage.LevelYear, k.first.In(zone)).At {
		return s.rollPeriod(ctx, p)
	}
	return nil
}

// rollPeriod makes the figures of a month, a year, or all years before one, of the next shorter ones; unless they are
// kept, or cannot be made yet.
func (s *Store) rollPeriod(ctx context.Context, p usage.Period) error {
	return s.change(ctx, func(tx *sql.Tx) error {
		zone := s.zone.Load()
		k, err := lookKept(ctx, tx, zone)
		if err != nil || k.rolled[p] {
			return err
		}
		from, until := p.Bounds(zone)
		if !k.days(from, until) || !k.parts(p) {
			return nil
		}
		if p.Level == usage.LevelEver { // those before an earlier year
			if _, err := tx.ExecContext(ctx,
				"DELETE FROM rollups WHERE level = ?1; DELETE FROM rolled WHERE level = ?1",
				p.Level); err != nil {
				return err
			}
		}
		if err := k.merge(ctx, tx, p, func(scope string, part usage.Parts, sums *usage.Sums) error {
			return keepSums(ctx, tx, p, scope, sums, []usage.Parts{part})
		}); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO rolled (level, at) VALUES (?, ?)", p.Level, p.At)
		return err
	})
}

// shorter gives the next shorter periods of which one consists, the first and the last, from the first play on.
func (k kept) shorter(p usage.Period) (first, last usage.Period) {
	from, until := p.Bounds(k.zone)
	if from.Before(k.first) {
		from = k.first
	}
	return usage.PeriodOf(p.Level-1, from.In(k.zone)), usage.PeriodOf(p.Level-1, until.Add(-time.Second).In(k.zone))
}

// parts reports whether the next shorter periods are all kept of which one consists.
func (k kept) parts(p usage.Period) bool {
	at, last := k.shorter(p)
	for at.Level > usage.LevelDay && at.At <= last.At {
		if !k.rolled[at] {
			return false
		}
		_, end := at.Bounds(k.zone)
		at = usage.PeriodOf(at.Level, end)
	}
	return true
}

// merge makes the sums of a period of those of the next shorter ones.
func (k kept) merge(ctx context.Context, tx *sql.Tx, p usage.Period,
	do func(scope string, part usage.Parts, sums *usage.Sums) error) error {
	type id struct {
		scope string
		part  usage.Parts
	}
	first, last := k.shorter(p)
	list, err := rows(ctx, tx, func(r *sql.Rows, v *id) error { return r.Scan(&v.scope, &v.part) },
		"SELECT DISTINCT scope, part FROM rollups WHERE level = ? AND at BETWEEN ? AND ?", first.Level, first.At,
		last.At)
	for _, v := range list {
		sums := usage.NewSums()
		if err == nil {
			err = eachSums(ctx, tx, first.Level, v.scope, v.part, first.At, last.At,
				func(_ usage.Period, b []byte) error { return sums.Decode(b) })
		}
		if err == nil {
			err = do(v.scope, v.part, sums)
		}
	}
	return err
}

// eachSums gives the sums that are kept of periods of a level, the earliest first.
func eachSums(ctx context.Context, tx *sql.Tx, level usage.Level, scope string, part usage.Parts, from, to int,
	do func(usage.Period, []byte) error) error {
	_, err := rows(ctx, tx, func(r *sql.Rows, _ *struct{}) error {
		p := usage.Period{Level: level}
		var b sql.RawBytes
		if err := r.Scan(&p.At, &b); err != nil {
			return err
		}
		return do(p, b)
	}, "SELECT at, sums FROM rollups WHERE level = ? AND scope = ? AND part = ? AND at BETWEEN ? AND ? ORDER BY at",
		level, scope, part, from, to)
	return err
}

// Figures is what figures are made of.
type Figures struct {
	Filter usage.Filter // Since and Until bound the time; without others than Member, what is kept is used
	Parts  usage.Parts
	Most   usage.Level // no longer times than this
}

// EachFigure gives what the figures of a time are made of: sums as they are kept, of periods that do not overlap, and
// of the rest the plays in the order in which they began, with the part of the time of which they count. A time
// that has no end ends with the last play.
func (s *Store) EachFigure(ctx context.Context, f Figures, sums func(begins time.Time, b []byte) error,
	play func(p usage.Play, from, until time.Time)) error {
	tx, err := s.r.BeginTx(ctx, nil)
	if err != nil {
		return s.explain(err)
	}
	defer tx.Rollback()
	from, until := f.Filter.Since, f.Filter.Until
	zone := s.zone.Load()
	if zone == nil || !f.Filter.Rolled() {
		return s.explain(eachPlay(ctx, tx, f.Filter, from, until, func(p usage.Play) { play(p, from, until) }))
	}
	k, err := lookKept(ctx, tx, zone)
	if err != nil || k.first.IsZero() {
		return err
	}
	scope := Fold(f.Filter.Member)
	if until.IsZero() {
		until = k.last.Add(longest)
	}
	spans := usage.Spans(from, until, k.first, zone, f.Most, k.has)
	for i := 0; i < len(spans); {
		last := i
		for last+1 < len(spans) && spans[last+1].Level == spans[i].Level {
			last++
		}
		span := spans[i]
		if span.Level == usage.LevelPlays {
			err = eachPlay(ctx, tx, f.Filter, span.From, span.Until,
				func(p usage.Play) { play(p, span.From, span.Until) })
		} else {
			for _, part := range usage.EachPart {
				if f.Parts&part == 0 || err != nil {
					continue
				}
				at := i // periods come in the order of the spans; not each has sums
				err = eachSums(ctx, tx, span.Level, scope, part, span.At, spans[last].At,
					func(p usage.Period, b []byte) error {
						for spans[at].At < p.At && at < last {
							at++
						}
						return sums(spans[at].From, b)
					})
			}
		}
		if errors.Is(err, usage.ErrSums) {
			return fmt.Errorf("%w: cozyshelf usage verify --rebuild makes anew what is kept of figures", err)
		}
		if err != nil {
			return s.explain(err)
		}
		i = last + 1
	}
	return nil
}

// Sums gives the figures of a time.
func (s *Store) Sums(ctx context.Context, f usage.Filter, parts usage.Parts) (*usage.Sums, error) {
	out := usage.NewSums()
	zone := s.zone.Load()
	if zone == nil {
		zone = time.UTC
	}
	var r *usage.Roller
	var of [2]time.Time
	end := func() {
		if r != nil {
			out.Add(r.End())
		}
	}
	err := s.EachFigure(ctx, Figures{Filter: f, Parts: parts, Most: usage.LevelEver},
		func(_ time.Time, b []byte) error { return out.Decode(b) },
		func(p usage.Play, from, until time.Time) {
			if r == nil || of != [2]time.Time{from, until} {
				end()
				r, of = usage.NewRoller(zone, from, until, parts), [2]time.Time{from, until}
			}
			r.Add(p)
		})
	end()
	return out, err
}

// Chart gathers a chart. Where it can, it goes by what is kept.
func (s *Store) Chart(ctx context.Context, f usage.Filter, a usage.Asked) (*usage.Gathering, error) {
	f, only := a.Only(f)
	first, err := s.FirstPlay(ctx)
	if err != nil {
		return nil, err
	}
	g := usage.Gather(a, only, first)
	if f.Since.Before(g.From()) {
		f.Since = g.From()
	}
	return g, s.EachFigure(ctx, Figures{Filter: f, Parts: a.Part(only), Most: a.Level()}, g.Decode, g.Add)
}

// FirstPlay gives when the first play began; zero for none.
func (s *Store) FirstPlay(ctx context.Context) (time.Time, error) {
	var first sql.NullInt64
	err := s.r.QueryRowContext(ctx, "SELECT min(started) FROM plays").Scan(&first)
	if !first.Valid {
		return time.Time{}, s.explain(err)
	}
	return time.UnixMilli(first.Int64), s.explain(err)
}

// Converted gives the plays of a time that were converted, in the order in which they began.
func (s *Store) Converted(ctx context.Context, member string, from, until time.Time) ([]usage.Play, error) {
	return rows(ctx, s.r, scanPlay, playColumns+`WHERE delivery = 'converted' AND started >= ? AND started < ? AND
		(?3 = '' OR fold(member) = ?3 OR EXISTS (SELECT 1 FROM sofas WHERE folded = ?3 AND play = plays.id))
		ORDER BY started`, milli(from), milli(until), Fold(member))
}

// VerifiedRollups says whether what is kept is what the plays say.
type VerifiedRollups struct {
	Days, Longer, Waiting int
	Wrong                 []string // periods, and what is wrong
}

// mostWrong is how many periods are named that are wrong.
const mostWrong = 20

// VerifyRollups makes the figures of all days anew of the plays, those of longer times of the days, and compares them
// with what is kept.
func (s *Store) VerifyRollups(ctx context.Context) (v VerifiedRollups, err error) {
	zone := s.zone.Load()
	if zone == nil {
		return v, fmt.Errorf("it is not known by which clocks days are told")
	}
	tx, err := s.r.BeginTx(ctx, nil)
	if err != nil {
		return v, s.explain(err)
	}
	defer tx.Rollback()
	k, err := lookKept(ctx, tx, zone)
	if err != nil {
		return v, err
	}
	v.Waiting = len(k.unrolled)
	wrong := func(p usage.Period, text string) {
		if len(v.Wrong) < mostWrong {
			from, until := p.Bounds(zone)
			if p.Level == usage.LevelEver {
				from = until
			}
			what := map[usage.Level]string{usage.LevelDay: "the day", usage.LevelMonth: "the month from",
				usage.LevelYear: "the year from", usage.LevelEver: "the years before"}[p.Level]
			v.Wrong = append(v.Wrong, fmt.Sprintf("%s %s: %s", what, from.Format(time.DateOnly), text))
		}
	}
	check := func(p usage.Period, want map[string][]byte) error { // by part and scope
		type row struct {
			scope string
			part  usage.Parts
			sums  []byte
		}
		list, err := rows(ctx, tx, func(r *sql.Rows, v *row) error { return r.Scan(&v.scope, &v.part, &v.sums) },
			"SELECT scope, part, sums FROM rollups WHERE level = ? AND at = ?", p.Level, p.At)
		for _, r := range list {
			if !bytes.Equal(want[fmt.Sprint(r.part, r.scope)], r.sums) {
				wrong(p, "it is not what the plays say")
				return nil
			}
		}
		if len(list) != len(want) {
			wrong(p, "something is left out")
		}
		return err
	}
	// Also of days of which there are no plays, or none yet.
	var begins, ends sql.NullInt64
	if err := tx.QueryRowContext(ctx, "SELECT (SELECT min(at) FROM rollups WHERE level = ?1), (SELECT max(at) FROM "+
		"rollups WHERE level = ?1)", usage.LevelDay).Scan(&begins, &ends); err != nil {
		return v, s.explain(err)
	}
	first, last := k.first, k.last.Add(longest)
	if begins.Valid {
		at, _ := (usage.Period{Level: usage.LevelDay, At: int(begins.Int64)}).Bounds(zone)
		if _, to := (usage.Period{Level: usage.LevelDay, At: int(ends.Int64)}).Bounds(zone); to.After(last) {
			last = to
		}
		if first.IsZero() || at.Before(first) {
			first = at
		}
	}
	if first.IsZero() {
		return v, nil
	}
	for at, next := usage.DayOf(first.In(zone)); at.Before(last); at, next = usage.DayOf(next) {
		day := usage.PeriodOf(usage.LevelDay, at)
		if !k.has(usage.Span{Period: day, From: at, Until: next}) {
			continue
		}
		sums, err := daySums(ctx, tx, zone, at)
		if err != nil {
			return v, s.explain(err)
		}
		want := map[string][]byte{}
		for scope, r := range sums {
			all := r.End()
			for _, part := range usage.EachPart {
				if b := all.Encode(part); b != nil {
					want[fmt.Sprint(part, scope)] = b
				}
			}
		}
		v.Days++
		if err := check(day, want); err != nil {
			return v, s.explain(err)
		}
	}
	for p := range k.rolled {
		v.Longer++
		want := map[string][]byte{}
		if !k.parts(p) {
			wrong(p, "it is kept, and not all of its parts are")
			continue
		}
		err := k.merge(ctx, tx, p, func(scope string, part usage.Parts, sums *usage.Sums) error {
			want[fmt.Sprint(part, scope)] = sums.Encode(part)
			return nil
		})
		if errors.Is(err, usage.ErrSums) {
			wrong(p, "what it is made of cannot be read")
			continue
		}
		if err != nil {
			return v, s.explain(err)
		}
		if err := check(p, want); err != nil {
			return v, s.explain(err)
		}
	}
	slices.Sort(v.Wrong)
	return v, nil
}
