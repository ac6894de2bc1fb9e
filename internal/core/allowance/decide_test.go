package allowance

import (
	"math/rand/v2"
	"testing"
	"time"
)

func at(t *testing.T, zone, text string) time.Time {
	t.Helper()
	z, err := time.LoadLocation(zone)
	if err != nil {
		t.Fatal(err)
	}
	when, err := time.ParseInLocation("2006-01-02 15:04:05", text, z)
	if err != nil {
		t.Fatal(err)
	}
	return when
}

func hours(t *testing.T, text string) Spans {
	t.Helper()
	h, err := ParseHours(text)
	if err != nil {
		t.Fatal(err)
	}
	return h
}

func TestDecide(t *testing.T) {
	school := Allowance{Hours: hours(t, "mon-fri 15:00-19:30, sat sun 08:00-21:00"), Day: 90, Week: 400}
	night := Allowance{Hours: hours(t, "fri sat 20:00-01:00")}
	m := func(n int) time.Duration { return time.Duration(n) * time.Minute }
	const riga = "Europe/Riga"
	for _, c := range []struct {
		name, zone, now string
		a               Allowance
		u               Used
		ok              bool
		reason          Reason
		until           string // empty for never
	}{
		{"no bounds", riga, "2026-11-27 03:00:00", Allowance{}, Used{Today: m(900)}, true, "", ""},
		{"a school day", riga, "2026-11-27 16:00:00", school, Used{}, true, Day, "2026-11-27 17:30:00"},
		{"until bedtime", riga, "2026-11-27 19:00:10", school, Used{}, true, Hours, "2026-11-27 19:30:00"},
		{"too early", riga, "2026-11-27 14:59:59", school, Used{}, false, Hours, "2026-11-27 15:00:00"},
		{"too late on Friday", riga, "2026-11-27 19:30:00", school, Used{}, false, Hours, "2026-11-28 08:00:00"},
		{"too late on Sunday", riga, "2026-11-29 21:00:00", school, Used{}, false, Hours, "2026-11-30 15:00:00"},
		{"used up for today", riga, "2026-11-27 16:00:00", school, Used{Today: m(90), Week: m(90)}, false, Day,
			"2026-11-28 08:00:00"},
		{"some seconds left", riga, "2026-11-27 16:00:00", school,
			Used{Today: m(90) - 20*time.Second, Week: m(300)}, true, Day, "2026-11-27 16:00:20"},
		{"used up for the week", riga, "2026-11-27 16:00:00", school, Used{Today: m(10), Week: m(400)}, false, Week,
			"2026-11-30 15:00:00"},
		{"a new day has its own minutes", riga, "2026-11-27 23:30:00", Allowance{Day: 60}, Used{Today: m(40)}, true, Day,
			"2026-11-27 23:50:00"},
		{"midnight comes before they are used up", riga, "2026-11-27 23:30:00", Allowance{Day: 60}, Used{Today: m(20)}, true,
			Day, "2026-11-28 01:00:00"},
		{"a late film", riga, "2026-11-28 00:30:00", night, Used{}, true, Hours, "2026-11-28 01:00:00"},
		{"not in Friday's small hours", riga, "2026-11-27 00:30:00", night, Used{}, false, Hours, "2026-11-27 20:00:00"},
		{"Sunday's small hours are Saturday's", riga, "2026-11-29 00:59:00", night, Used{}, true,
			Hours, "2026-11-29 01:00:00"},
		// At 04:00 clocks are set back to 03:00: the hour is there twice.
		{"the hour that comes twice", riga, "2026-10-25 02:30:00", Allowance{Hours: hours(t, "02:00-03:30")}, Used{}, true,
			Hours, "2026-10-25 03:30:00"},
		// At 03:00 they are set to 04:00: what begins at 03:30 begins at 04:00.
		{"the hour that is left out", riga, "2026-03-29 02:00:00", Allowance{Hours: hours(t, "03:30-05:00")}, Used{}, false,
			Hours, "2026-03-29 04:00:00"},
		{"minutes are minutes when clocks are set", riga, "2026-03-29 02:30:00", Allowance{Day: 60}, Used{}, true, Day,
			"2026-03-29 04:30:00"},
		// A day that begins at one o'clock, since midnight was left out.
		{"a midnight that is left out", "America/Sao_Paulo", "2018-11-03 23:00:00", Allowance{Day: 30}, Used{Today: m(30)},
			false, Day, "2018-11-04 01:00:00"},
		{"half an hour was granted", riga, "2026-11-27 19:40:00", school,
			Used{Granted: at(t, riga, "2026-11-27 20:10:00")}, true, Hours, "2026-11-27 20:10:00"},
		{"what was granted is over", riga, "2026-11-27 20:10:00", school, Used{Granted: at(t, riga, "2026-11-27 20:10:00")},
			false, Hours, "2026-11-28 08:00:00"},
		{"granted beyond bedtime", riga, "2026-11-27 19:20:00", school,
			Used{Granted: at(t, riga, "2026-11-27 19:50:00")}, true, Hours, "2026-11-27 19:50:00"},
		{"granted, and enough is left", riga, "2026-11-27 16:00:00", school,
			Used{Granted: at(t, riga, "2026-11-27 16:30:00")}, true, Day, "2026-11-27 17:30:00"},
		{"granted beyond the account's end", riga, "2026-11-27 16:00:00", Allowance{Day: 10,
			Until: at(t, riga, "2026-11-27 16:15:00")},
			Used{Today: m(10), Granted: at(t, riga, "2026-11-27 16:30:00")}, true, Ended, "2026-11-27 16:15:00"},
		{"granted, but too many streams", riga, "2026-11-27 16:00:00", Allowance{Streams: 1}, Used{Streams: 1,
			Granted: at(t, riga, "2026-11-27 16:30:00")}, false, Streams, ""},
		{"as many streams as may be", riga, "2026-11-27 16:00:00", Allowance{Streams: 2}, Used{Streams: 2}, false,
			Streams, ""},
		{"one stream is left", riga, "2026-11-27 16:00:00", Allowance{Streams: 2}, Used{Streams: 1}, true, "", ""},
		{"a guest's weekend", riga, "2026-11-29 20:00:00", Allowance{Until: at(t, riga, "2026-11-29 22:00:00")}, Used{}, true,
			Ended, "2026-11-29 22:00:00"},
		{"a guest's Monday", riga, "2026-11-30 08:00:00", Allowance{Until: at(t, riga, "2026-11-29 22:00:00")}, Used{}, false,
			Ended, ""},
		{"no hours at all but a Tuesday's", riga, "2026-11-27 16:00:00", Allowance{Hours: hours(t, "tue 10:00-10:01")},
			Used{}, false, Hours, "2026-12-01 10:00:00"},
	} {
		v := Decide(c.a, at(t, c.zone, c.now), c.u)
		until := ""
		if !v.Until.IsZero() {
			until = v.Until.In(at(t, c.zone, c.now).Location()).Format("2006-01-02 15:04:05")
		}
		if v.OK != c.ok || v.Reason != c.reason || until != c.until {
			t.Errorf("%s: %v, %q until %q; want %v, %q until %q", c.name, v.OK, v.Reason, until, c.ok, c.reason, c.until)
		}
	}
}

// random makes an allowance and a moment, mostly near to where clocks are set.
func random(r *rand.Rand, zones []*time.Location) (Allowance, time.Time, Used) {
	var a Allowance
	for range r.IntN(3) {
		var s Span
		for d := range s.Days {
			s.Days[d] = r.IntN(3) > 0
		}
		s.Hours.From, s.Hours.To = r.IntN(24*60), r.IntN(24*60+1)
		a.Hours = append(a.Hours, s)
	}
	if r.IntN(2) > 0 {
		a.Day = 1 + r.IntN(240)
	}
	if r.IntN(3) == 0 {
		a.Week = 1 + r.IntN(900)
	}
	days := []time.Time{time.Date(2026, 3, 29, 0, 0, 0, 0, time.UTC), time.Date(2026, 10, 25, 0, 0, 0, 0, time.UTC),
		time.Date(2018, 11, 4, 0, 0, 0, 0, time.UTC), time.Date(2026, 4, 4, 15, 0, 0, 0, time.UTC),
		time.Date(2026, 6, 10, 0, 0, 0, 0, time.UTC)}
	now := days[r.IntN(len(days))].Add(time.Duration(r.IntN(96*3600)-48*3600) * time.Second).In(zones[r.IntN(len(zones))])
	today := time.Duration(r.IntN(250)) * time.Minute
	return a, now, Used{Today: today, Week: today + time.Duration(r.IntN(600))*time.Minute}
}

func zones(t *testing.T) (out []*time.Location) {
	t.Helper()
	for _, name := range []string{"Europe/Riga", "America/Sao_Paulo", "Australia/Lord_Howe", "Asia/Kathmandu", "UTC"} {
		z, err := time.LoadLocation(name)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, z)
	}
	return out
}

// TestVerdictsTurnWhenTheySay watches on, or waits, until what was said.
func TestVerdictsTurnWhenTheySay(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 1))
	where := zones(t)
	for range 200 {
		a, now, u := random(r, where)
		v := Decide(a, now, u)
		// later is what was used at a moment, if watching goes on or not.
		later := func(until time.Time) Used {
			x, when := u, now
			for when.Before(until) {
				step := min(until.Sub(when), time.Second*time.Duration(1+r.IntN(600)))
				next := when.Add(step)
				if v.OK {
					x.Today, x.Week = x.Today+step, x.Week+step
				}
				if dayNumber(next) != dayNumber(when) {
					x.Today = 0
					if v.OK {
						x.Today = next.Sub(midnight(next))
					}
				}
				if weekNumber(next) != weekNumber(when) {
					x.Week = x.Today
				}
				when = next
			}
			return x
		}
		if v.Until.IsZero() || v.Until.Sub(now) > 26*time.Hour {
			continue
		}
		if got := Decide(a, v.Until, later(v.Until)); got.OK == v.OK {
			t.Fatalf("%+v at %s with %+v: %+v, and then %+v", a, now, u, v, got)
		}
		if before := v.Until.Add(-2 * time.Second); before.After(now) {
			if got := Decide(a, before, later(before)); got.OK != v.OK {
				t.Fatalf("%+v at %s with %+v: %+v, and two seconds before %+v", a, now, u, v, got)
			}
		}
	}
}

// midnight is when a moment's day began.
func midnight(t time.Time) time.Time {
	for m := t.Truncate(time.Minute); ; m = m.Add(-time.Minute) {
		if dayNumber(m) != dayNumber(t) {
			return m.Add(time.Minute)
		}
	}
}

// TestNobodyGetsMoreThanTheirMinutes asks in any order, on several devices, telling all of what is
// watched or nothing.
func TestNobodyGetsMoreThanTheirMinutes(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 2))
	riga := zones(t)[0]
	const piece = 6 * time.Second
	for range 60 {
		a := Allowance{Day: 1 + r.IntN(120)}
		now := time.Date(2026, 3, 28, 20+r.IntN(6), 0, 0, 0, riga)
		meters := map[string]*Meter{}
		sent := map[string]time.Duration{}
		for range 2500 {
			now = now.Add(time.Duration(r.IntN(9000)) * time.Millisecond)
			day := DayOf(now)
			if meters[day] == nil {
				meters[day] = &Meter{}
			}
			m := meters[day]
			if !Decide(a, now, Used{Today: m.Used()}).OK {
				continue
			}
			sent[day] += piece
			m.Fetched += piece
			if r.IntN(2) > 0 {
				m.Watched += time.Duration(r.IntN(int(piece)))
			}
		}
		for day, got := range sent {
			if most := minutes(a.Day) + Ahead + piece; got > most {
				t.Fatalf("%d minutes a day, and on %s %s were sent", a.Day, day, got)
			}
		}
	}
}

func TestHoursAreWrittenAsTheyAreRead(t *testing.T) {
	for text, want := range map[string]string{
		"":                                     "",
		"15:00-19:30":                          "15:00-19:30",
		"mon-fri 15:00-19:30":                  "mon-fri 15:00-19:30",
		"SAT  sun 8:00-21:00":                  "sat sun 08:00-21:00",
		"sat-mon 20:00-01:00":                  "mon sat sun 20:00-01:00",
		"mon-sun 00:00-24:00":                  "00:00-24:00",
		"mon wed-fri 7:05-8:00, sun 9:00-9:30": "mon wed-fri 07:05-08:00, sun 09:00-09:30",
	} {
		h, err := ParseHours(text)
		if got := FormatHours(h); err != nil || got != want {
			t.Errorf("%q is %q, %v; want %q", text, got, err, want)
		}
	}
	for _, text := range []string{"mon", "mon-fri", "someday 10:00-11:00", "10:00", "25:00-26:00", "10:00-11:00,",
		"mon-10:00-11:00", "-fri 10:00-11:00"} {
		if h, err := ParseHours(text); err == nil {
			t.Errorf("%q is %+v", text, h)
		}
	}
}

func FuzzParseHours(f *testing.F) {
	f.Add("mon-fri 15:00-19:30, sat sun 08:00-21:00")
	f.Fuzz(func(t *testing.T, text string) {
		h, err := ParseHours(text)
		if err != nil {
			return
		}
		again, err := ParseHours(FormatHours(h))
		if err != nil || FormatHours(again) != FormatHours(h) {
			t.Errorf("%q is written %q, which is %v", text, FormatHours(h), err)
		}
		if err := (Allowance{Hours: h}).Check(); err != nil {
			t.Errorf("%q: %v", text, err)
		}
	})
}

func BenchmarkDecide(b *testing.B) {
	h, err := ParseHours("mon-fri 15:00-19:30, sat sun 08:00-21:00")
	if err != nil {
		b.Fatal(err)
	}
	z, err := time.LoadLocation("Europe/Riga")
	if err != nil {
		b.Fatal(err)
	}
	now := time.Date(2026, 11, 27, 16, 0, 0, 0, z)
	for b.Loop() {
		Decide(Allowance{Hours: h, Day: 90, Week: 400}, now, Used{})
	}
}

func TestDaysAndWeeksAreThoseOfTheCalendar(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 3))
	for _, z := range zones(t) {
		for range 2000 {
			a := time.Unix(r.Int64N(1<<32)-1<<30, 0).In(z)
			b := a.Add(time.Duration(r.IntN(20*24)) * time.Hour)
			if (DayOf(a) == DayOf(b)) != (dayNumber(a) == dayNumber(b)) || (WeekOf(a) == WeekOf(b)) != (weekNumber(a) ==
				weekNumber(b)) {
				t.Fatalf("%s and %s", a, b)
			}
		}
	}
}
