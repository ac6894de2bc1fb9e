package admin

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// chosen reads how plays are chosen. A member who is named is one, or was.
func (s *Admin) chosen(r *http.Request) (usage.Filter, error) {
	q := r.URL.Query()
	f, err := usage.ReadFilter(q)
	if err != nil {
		return f, live.UsageProblem("the plays cannot be chosen", err.Error(), "see cozyshelf usage history --help")
	}
	if f.Member != "" {
		if _, err := s.Store.Member(r.Context(), f.Member); err != nil {
			// A member who is gone may still have plays.
			if list, perr := s.Store.Plays(r.Context(), usage.Filter{Member: f.Member, Limit: 1}); perr != nil ||
				len(list) == 0 {
				return f, live.NoMember(f.Member, errors.Join(err, perr))
			}
		}
	}
	return f, s.Choose(&f)
}

func (s *Admin) plays(r *http.Request) (any, error) {
	f, err := s.chosen(r)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.Plays(r.Context(), f)
	if errors.Is(err, store.ErrNotFound) {
		return nil, live.UsageProblem(fmt.Sprintf("there is no play %d", f.After), "what comes after it cannot be told",
			"see cozyshelf usage history --json for their numbers")
	}
	return list, err
}

func (s *Admin) top(r *http.Request) (any, error) {
	q := r.URL.Query()
	f, err := s.chosen(r)
	if err != nil {
		return nil, err
	}
	limit := f.Limit
	f.Limit = 0 // it is that of the list, not of plays
	by, err := live.ReadTop(q.Get("of"), q.Get("by"))
	if err != nil {
		return nil, err
	}
	return s.Top(r.Context(), q.Get("of"), by, limit, f)
}

func (s *Admin) chart(r *http.Request) (any, error) {
	q := r.URL.Query()
	f, err := s.chosen(r)
	if err != nil {
		return nil, err
	}
	f.Limit = 0
	a, err := live.ReadChart(q.Get("by"), q.Get("of"), q.Get("split"))
	if err != nil {
		return nil, err
	}
	var out control.Chart
	out.Columns, out.Heat, err = s.Chart(r.Context(), a, f)
	return out, err
}

func (s *Admin) report(r *http.Request) (any, error) {
	f, err := s.chosen(r)
	if err != nil {
		return nil, err
	}
	month, err := time.ParseInLocation("2006-01", r.URL.Query().Get("month"), s.Zone)
	if err != nil {
		return nil, live.UsageProblem("the report cannot be made", "month is one such as 2026-10", "name a month")
	}
	var out control.MonthReport
	report, ever, err := s.Report(r.Context(), f.Member, time.Time{}, month)
	out.Report = report
	for w := range ever {
		out.Ever = append(out.Ever, w)
	}
	return out, err
}

func (s *Admin) verify(r *http.Request) (any, error) {
	rebuild, err := strconv.ParseBool(r.URL.Query().Get("rebuild"))
	if err != nil {
		return nil, live.UsageProblem("the figures cannot be verified", "rebuild is true or false", "give one of them")
	}
	v, err := s.VerifyFigures(r.Context(), rebuild)
	return control.Verified{Days: v.Days, Longer: v.Longer, Waiting: v.Waiting, Wrong: append([]string{}, v.Wrong...),
		Rebuilt: rebuild}, err
}
