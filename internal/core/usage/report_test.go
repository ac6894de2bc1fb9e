package usage

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

// elements reads a drawing as XML, and counts its elements; texts are what is to be read in it.
func elements(t *testing.T, svg string) (count map[string]int, texts string) {
	t.Helper()
	count = map[string]int{}
	d := xml.NewDecoder(strings.NewReader(svg))
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return count, texts
		}
		if err != nil {
			t.Fatalf("%v\n%s", err, svg)
		}
		switch e := token.(type) {
		case xml.StartElement:
			count[e.Name.Local]++
			if e.Name.Local == "script" || e.Name.Local == "a" || e.Name.Local == "image" {
				t.Errorf("there is a %s: %s", e.Name.Local, svg)
			}
		case xml.CharData:
			texts += string(e) + "\n"
		}
	}
}

func TestDrawingsHoldEachColumnAndNothingElse(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Riga")
	if err != nil {
		t.Fatal(err)
	}
	say := func(v float64) string { return fmt.Sprintf("%.0f s <b>", v) }
	hostile := `</text><script>alert("x")</script>&`
	at := time.Date(2026, 10, 1, 0, 0, 0, 0, zone)
	for _, by := range []By{ByDay, ByWeek, ByMonth, ByHour, ByWeekday} {
		var plays []Play
		for i := range 40 {
			p := Play{Member: fmt.Sprint(hostile, i%9), Started: at.Add(time.Duration(i) * 37 * time.Hour), Watched: 600}
			p.Seen = p.Started.Add(10 * time.Minute)
			p.Ended = p.Seen
			plays = append(plays, p)
		}
		for _, split := range []Split{SplitNone, SplitMember} {
			list := Chart(plays, Asked{By: by, Of: OfWatched, From: at, To: at.AddDate(0, 2, 0), Zone: zone,
				Split: split})
			svg := DrawBars(list, hostile, say)
			count, texts := elements(t, svg)
			if count["g"] != len(list) || count["title"] != len(list) {
				t.Errorf("%s: %v of %d", by, count, len(list))
			}
			if split != SplitNone && (!strings.Contains(texts, others) || !strings.Contains(texts, hostile) ||
				len(Groups(list)) != mostGroups+1) {
				t.Errorf("%s: %s", by, texts)
			}
			whole := Standalone(svg)
			if count, _ := elements(t, whole); count["style"] != 1 || !strings.HasPrefix(whole, "<svg ") ||
				!strings.Contains(whole, `xmlns="http://www.w3.org/2000/svg"`) {
				t.Errorf("%s", whole)
			}
		}
		count, _ := elements(t, DrawHeat(heat(plays, OfWatched, zone), hostile, say))
		if count["rect"] != 7*24 {
			t.Errorf("%v", count)
		}
	}
	for _, list := range [][]Column{nil, {{Name: "x"}}} {
		if count, _ := elements(t, DrawBars(list, "none", say)); count["g"] != len(list) {
			t.Errorf("%v", count)
		}
	}
}

// reported gives a report of plays.
func reported(plays []Play, member string, month time.Time) Report {
	slices.SortFunc(plays, func(a, b Play) int { return a.Started.Compare(b.Started) })
	from, to := Month(month)
	earlier, _ := Month(from.AddDate(0, 0, -1))
	sums := func(from, to time.Time) *Sums {
		r := NewRoller(month.Location(), from, to, PartAll)
		for _, p := range plays {
			r.Add(p)
		}
		return r.End()
	}
	m := MonthSums{Now: sums(from, to), Before: sums(earlier, from)}
	g := Gather(Asked{By: ByDay, Of: OfWatched, From: from, To: to.Add(-1), Zone: month.Location()}, Only{}, from)
	var converted []Play
	for _, p := range plays {
		g.Add(p, from, to)
		if p.Delivery == Deliveries[2] && !p.Started.Before(from) && p.Started.Before(to) {
			converted = append(converted, p)
		}
	}
	m.Days = g.Chart()
	return MakeReport(m, converted, member, month)
}

// TestReportsAddUp compares reports of random plays with sums that are made one by one.
func TestReportsAddUp(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Riga")
	if err != nil {
		t.Fatal(err)
	}
	rng := rand.New(rand.NewPCG(3, 4))
	month := time.Date(2026, 10, 1, 0, 0, 0, 0, zone) // with the end of summer time
	for round := range 50 {
		var plays []Play
		ever := map[Work]bool{}
		var watched, before, converted float64
		var done, count int
		for i := range rng.IntN(120) {
			p := Play{ID: int64(i), Member: []string{"wren", "piet", "bram"}[rng.IntN(3)], Shelf: "films",
				Title: fmt.Sprint("film ", rng.IntN(12)), Watched: float64(rng.IntN(7200)), Done: rng.IntN(3) == 0,
				Delivery: Deliveries[rng.IntN(3)], Started: month.Add(time.Duration(rng.IntN(90*24)-30*24) * time.Hour)}
			p.Seen = p.Started.Add(time.Duration(p.Watched) * time.Second)
			p.Ended = p.Seen
			plays = append(plays, p)
			ever[Work{p.Shelf, p.Title}] = true
			within := func(from, to time.Time) float64 { // of what lies in a time; a second is watched in a second
				begin, end := max(from.Unix(), p.Started.Unix()), min(to.Unix(), p.Ended.Unix())
				return float64(max(0, end-begin))
			}
			watched += within(month, month.AddDate(0, 1, 0))
			before += within(month.AddDate(0, -1, 0), month)
			if local := p.Started.In(zone); local.Month() == time.October {
				count++
				if p.Done {
					done++
				}
				if p.Delivery == "converted" {
					converted += p.Watched
				}
			}
		}
		var titles []TitleSeen
		unseen, arrived := 0, 0
		for i := range 15 {
			s := TitleSeen{Name: fmt.Sprint("film ", i), Shelf: "films", Added: month.AddDate(0, i%4-2, i)}
			titles = append(titles, s)
			if s.Added.Before(month.AddDate(0, 1, 0)) {
				if !ever[Work{s.Shelf, s.Name}] {
					unseen++
				}
				if !s.Added.Before(month) {
					arrived++
				}
			}
		}
		r := reported(plays, "", month)
		r.AddShelves(ever, titles)
		near := func(a, b float64) bool { return math.Abs(a-b) < 1e-6*(1+math.Abs(b)) }
		days := 0.0
		for _, c := range r.Days {
			days += c.Value
		}
		members, costly := 0.0, 0.0
		for _, m := range r.Members {
			members += m.Watched
		}
		for _, c := range r.Converted {
			costly += c.Watched
		}
		if !near(r.Watched, watched) || !near(r.Before, before) || !near(members, watched) || r.Plays != count ||
			r.Done != done ||
			len(r.Days) != 31 || !near(days, watched) || costly > converted+1e-6 || len(r.Converted) < reportRows &&
			!near(costly, converted) {
			t.Fatalf("round %d: %+v, want %g, %g before, %d, %d done, %g converted", round, r, watched, before, count, done,
				converted)
		}
		if r.UnseenAll != unseen || len(r.Arrived) != arrived {
			t.Errorf("round %d: %d not watched, want %d; %d arrived, want %d", round, r.UnseenAll, unseen, len(r.Arrived),
				arrived)
		}
		own := reported(plays, "wren", month)
		if own.AddShelves(ever, titles); len(own.Unseen) != 0 {
			t.Error("a member is told what nobody watches")
		}
	}
}
