package live

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/store"
)

// rollEvery is how often figures are made of months and years that are over.
const rollEvery = time.Hour

// Roll keeps figures of what is over, so that nobody waits for them.
func (s *Server) Roll(ctx context.Context) {
	for {
		if err := s.Store.Roll(ctx); err != nil && ctx.Err() == nil && !errors.Is(err, store.ErrFull) {
			s.Log.Error("figures could not be kept; until they are, they are made of the plays", "why", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(rollEvery):
		}
	}
}

// VerifyFigures compares the figures that are kept with the plays; with rebuild it makes them anew before.
func (s *Server) VerifyFigures(ctx context.Context, rebuild bool) (store.VerifiedRollups, error) {
	if rebuild {
		if err := s.Store.Rebuild(ctx); err != nil {
			return store.VerifiedRollups{}, err
		}
	}
	return s.Store.VerifyRollups(ctx)
}

// Choose fills in of which shelves a choice of plays is, where it is by their kind.
func (s *Server) Choose(f *usage.Filter) error {
	if f.Kind == "" {
		return nil
	}
	if !slices.Contains(household.Kinds, household.Kind(f.Kind)) {
		return UsageProblem("the plays cannot be chosen", fmt.Sprintf("%q is no kind of shelf", f.Kind),
			"give films, series, music, photos or recordings")
	}
	for name, kind := range s.kinds() {
		if kind == f.Kind {
			f.Shelves = append(f.Shelves, name)
		}
	}
	return nil
}

// kinds are the kinds of the shelves, by their names.
func (s *Server) kinds() map[string]string {
	out := map[string]string{}
	for _, sh := range s.Settings.Shelves {
		out[sh.Name] = string(sh.Kind)
	}
	return out
}

// Top gives a top list. Where the time has a beginning, each row tells what was watched in the time before, which is
// as long.
func (s *Server) Top(ctx context.Context, of string, by usage.Order, limit int, f usage.Filter) ([]usage.Rank, error) {
	var on func(string) bool
	if wide, only := (usage.Asked{}).Only(f); only.Dim == usage.DimShelf && usage.TopParts(of) == usage.PartTitles {
		f, on = wide, only.Name
	}
	now := time.Now()
	sums, err := s.Store.Sums(ctx, f, usage.TopParts(of))
	if err != nil {
		return nil, err
	}
	works := map[usage.Work]usage.Known{}
	if usage.NeedsWorks(of) {
		if works, err = s.Store.Works(ctx, sums.Works()); err != nil {
			return nil, err
		}
	}
	list := usage.Sort(sums.Top(of, on, works), by, limit)
	if f.Since.IsZero() {
		return list, nil
	}
	before := f
	end := f.Until
	if end.IsZero() {
		end = now
	}
	before.Since, before.Until = f.Since.Add(-end.Sub(f.Since)), f.Since
	if !before.Since.Before(before.Until) {
		return list, nil
	}
	earlier, err := s.Store.Sums(ctx, before, usage.TopParts(of))
	if err != nil {
		return nil, err
	}
	if usage.NeedsWorks(of) {
		if works, err = s.Store.Works(ctx, earlier.Works()); err != nil {
			return nil, err
		}
	}
	usage.Compare(list, earlier.Top(of, on, works))
	return list, nil
}

// Chart gives the columns of a chart, or the hours of a heat map.
func (s *Server) Chart(ctx context.Context, a usage.Asked, f usage.Filter) (columns []usage.Column, heat [][]float64,
	err error) {
	a.Zone, a.Kinds = s.Zone, s.kinds()
	if a.From, a.To = f.Since, time.Now(); !f.Until.IsZero() {
		a.To = f.Until.Add(-time.Nanosecond)
	}
	if a.Of == usage.OfLibrary {
		columns, err = s.growth(ctx, a, f)
		return columns, nil, err
	}
	g, err := s.Store.Chart(ctx, f, a)
	if err != nil {
		return nil, nil, err
	}
	if a.By == usage.ByHeat {
		return nil, g.Heat(), nil
	}
	return g.Chart(), nil, nil
}

// growth gives the columns of a chart of the library.
func (s *Server) growth(ctx context.Context, a usage.Asked, f usage.Filter) ([]usage.Column, error) {
	on := func(shelf string) bool {
		return (f.Shelf == "" || shelf == f.Shelf) && (f.Kind == "" || slices.Contains(f.Shelves, shelf))
	}
	if f.Shelf, f.Kind, f.Shelves = "", "", nil; !f.Rolled() || f.Member != "" {
		return nil, UsageProblem("the chart cannot be made", "the library is chosen by shelf, kind and time only",
			"leave the others out")
	}
	files, err := s.Store.ArrivedByHour(ctx)
	return usage.Growth(files, a, on), err
}

// Forecasts tell when the disks of the shelves are full, as far as they can be asked.
func (s *Server) Forecasts(ctx context.Context) ([]usage.Forecast, error) {
	files, err := s.Store.ArrivedByHour(ctx)
	if err != nil {
		return nil, err
	}
	out := []usage.Forecast{}
	now := time.Now()
	for _, d := range s.disks() {
		if len(d.Shelves) > 0 {
			out = append(out, usage.Foretell(d, files, now))
		}
	}
	return out, nil
}

// Report gives a report of a month without what is on the shelves, and which works were ever watched until its end.
// What was watched before a moment is left out: zero leaves all in.
func (s *Server) Report(ctx context.Context, member string, since, month time.Time) (usage.Report, map[usage.Work]bool,
	error) {
	from, end := usage.Month(month.In(s.Zone))
	earlier, _ := usage.Month(from.AddDate(0, 0, -1))
	fail := func(err error) (usage.Report, map[usage.Work]bool, error) { return usage.Report{}, nil, err }
	var m usage.MonthSums
	var err error
	within := func(from, end time.Time) usage.Filter {
		f := usage.Filter{Member: member, Since: from, Until: end}
		if since.After(f.Since) {
			f.Since = since
		}
		return f
	}
	in := within(from, end)
	if m.Now, err = s.Store.Sums(ctx, in, usage.PartAll); err != nil {
		return fail(err)
	}
	if m.Before, err = s.Store.Sums(ctx, within(earlier, from), usage.PartAll&^usage.PartHours); err != nil {
		return fail(err)
	}
	if m.Days, _, err = s.Chart(ctx, usage.Asked{By: usage.ByDay, Of: usage.OfWatched}, in); err != nil {
		return fail(err)
	}
	converted, err := s.Store.Converted(ctx, member, in.Since, end)
	if err != nil {
		return fail(err)
	}
	ever, err := s.Store.Sums(ctx, usage.Filter{Until: end}, usage.PartTitles)
	if err != nil {
		return fail(err)
	}
	r := usage.MakeReport(m, converted, member, from)
	r.Running = time.Now().Before(end)
	return r, ever.Works(), nil
}

// WatchedTitles tells how the titles were watched that were.
func (s *Server) WatchedTitles(ctx context.Context) ([]usage.Watched, error) {
	ever, err := s.Store.Sums(ctx, usage.Filter{}, usage.PartTitles)
	if err != nil {
		return nil, err
	}
	lately, err := s.Store.Sums(ctx, usage.Filter{Since: usage.LatelySince(time.Now())}, usage.PartTitles)
	if err != nil {
		return nil, err
	}
	viewers := map[string]bool{}
	for k := range ever.Of {
		for _, name := range ever.Viewers(k) {
			viewers[store.Fold(name)] = true
		}
	}
	return usage.WatchedOf(ever, lately, func(do func(*usage.Sums)) error {
		for name := range viewers {
			sums, err := s.Store.Sums(ctx, usage.Filter{Member: name}, usage.PartTitles)
			if err != nil {
				return err
			}
			do(sums)
		}
		return nil
	})
}

// ReadChart reads what a chart is to show.
func ReadChart(by, of, split string) (usage.Asked, error) {
	a := usage.Asked{By: usage.By(by), Of: usage.Of(of), Split: usage.Split(split)}
	if a.By == "" {
		a.By = usage.ByDay
	}
	if a.Of == "" {
		a.Of = usage.OfWatched
	}
	if err := a.Check(); err != nil {
		return a, UsageProblem("the chart cannot be made", err.Error(), "see the words that can be given")
	}
	return a, nil
}

// ReadTop reads what a top list is to show.
func ReadTop(of, by string) (usage.Order, error) {
	order := usage.Order(by)
	if by == "" {
		order = usage.ByTime
	}
	if err := usage.CheckTop(of, order); err != nil {
		return order, UsageProblem("the list cannot be made", err.Error(), fmt.Sprintf("ask for one of %s",
			strings.Join(usage.Tops, ", ")))
	}
	return order, nil
}
