package store

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/usage"
)

// TestRollupsFollowPlays lets plays begin, end, be gone on with, be told later, get a sofa, and be forgotten, and holds
// figures of random times against those of the plays as they are.
func TestRollupsFollowPlays(t *testing.T) {
	for i, name := range []string{"Europe/Amsterdam", "America/St_Johns", "America/Havana"} {
		t.Run(name, func(t *testing.T) { rollupsFollow(t, rand.New(rand.NewPCG(18, uint64(i))), name) })
	}
}

func rollupsFollow(t *testing.T, r *rand.Rand, name string) {
	s, _ := fresh(t)
	zone, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	people := []string{"wren", "Ödön", "pip"}
	files := filed(t, s, 3)
	// Plays of three years, of which most are before this month.
	now := time.Now()
	begin := now.AddDate(-2, -r.IntN(11), -r.IntN(20))
	at := begin
	running := map[int64]usage.Play{}
	step := func() {
		at = at.Add(time.Duration(r.Int64N(int64(now.Sub(begin) / 160)))).Truncate(time.Millisecond)
		if r.IntN(3) == 0 {
			at = at.Add(-time.Duration(r.IntN(48)) * time.Hour)
		}
		device := int64(1 + r.IntN(3))
		p := usage.Play{Member: people[device-1], Shelf: pick("films", "series"), Title: pick("Copper Kite",
			"Tiny Harbour"),
			Part: pick("", "1", "2"), Device: pick("big screen", "telephone", "Écran"), Away: r.IntN(2) == 0,
			Delivery: pick(usage.Deliveries...), Duration: 3000}
		var err error
		switch r.IntN(8) {
		case 0:
			p.Started, p.Seen = at, at.Add(time.Duration(r.IntN(7200))*time.Second)
			p.Ended, p.Watched, p.Done = p.Seen, float64(r.IntN(4000)), r.IntN(2) == 0
			if _, err = s.TellPlay(ctx, p, device, 1, files[r.IntN(3)]); err == ErrExists {
				err = nil
			}
		case 1:
			list, lerr := s.Plays(ctx, usage.Filter{})
			if err = lerr; err == nil && len(list) > 0 {
				p := list[r.IntN(len(list))]
				var sofa []Sitting
				for i, who := range people {
					if who != p.Member && r.IntN(2) == 0 {
						sofa = append(sofa, Sitting{int64(i + 1), who})
					}
				}
				err = s.Sit(ctx, p.ID, sofa)
			}
		case 2:
			if r.IntN(4) == 0 {
				_, err = s.ForgetPlays(ctx, pick("", "wren", "ödön"),
					begin.Add(time.Duration(r.Int64N(int64(now.Sub(begin))))))
			}
		case 3:
			if _, err = s.CloseStale(ctx, at.Add(-time.Hour)); err == nil {
				clear(running)
			}
		default:
			if p, err = s.BeginPlay(ctx, p, device, files[r.IntN(3)], at); err == nil {
				running[p.ID] = p
			}
			for id := range running {
				m := Mark{Play: id, Position: float64(r.IntN(3000)), Watched: float64(r.IntN(3_000_000)) / 1000,
					Bytes: r.Int64N(1 << 33), Done: r.IntN(3) == 0, Over: r.IntN(6) > 0,
					At: running[id].Started.Add(time.Duration(r.IntN(9000)) * time.Second)}
				if err == nil {
					err = s.MarkPlays(ctx, m)
				}
				if m.Over {
					delete(running, id)
				}
			}
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	check := func(where string) {
		t.Helper()
		all, err := s.Plays(ctx, usage.Filter{})
		if err != nil {
			t.Fatal(err)
		}
		slices.Reverse(all)
		f := usage.Filter{Member: pick("", "", "WREN", "Ödön", "pip", "nobody")}
		if r.IntN(3) > 0 {
			f.Since = begin.Add(time.Duration(r.Int64N(int64(now.Sub(begin)))))
		}
		if r.IntN(3) > 0 {
			f.Until = begin.Add(time.Duration(r.Int64N(int64(now.Sub(begin)) + int64(72*time.Hour))))
		}
		parts := usage.Parts(1 + r.IntN(7))
		want := usage.NewRoller(zone, f.Since, f.Until, parts)
		var chosen []usage.Play
		for _, p := range all {
			if f.Member == "" || slices.ContainsFunc(p.Viewers(),
				func(v string) bool { return Fold(v) == Fold(f.Member) }) {
				want.Add(p)
				chosen = append(chosen, p)
			}
		}
		got, err := s.Sums(ctx, f, parts)
		if err != nil || !got.Equal(want.End()) {
			t.Fatalf("%s: %+v, parts %d, of %d plays: %v\n%v\n%v", where, f, parts, len(all), err,
				got.Get(0, usage.DimAll, ""), want.Sums.Get(0, usage.DimAll, ""))
		}
		// A chart, also of one shelf or delivery, is that of the plays.
		a := usage.Asked{By: usage.Bys[r.IntN(5)], Of: usage.Ofs[r.IntN(4)], From: f.Since, To: now, Zone: zone,
			Kinds: map[string]string{"films": "films"}}
		if !f.Until.IsZero() {
			a.To = f.Until.Add(-1)
		}
		if a.Of != usage.OfStreams && r.IntN(2) == 0 {
			a.Split = usage.Splits[r.IntN(len(usage.Splits))]
		}
		f.Shelf, f.Delivery = pick("", "films"), pick("", "", "repacked")
		f.Kind, f.Shelves = pick("", "", "series"), []string{"series"}
		f.Device, f.Where = pick("", "", "É", "E"), usage.Where(pick("", "", "away"))
		g := usage.Gather(a, usage.Only{}, begin)
		for _, p := range chosen {
			if (f.Shelf == "" || p.Shelf == f.Shelf) && (f.Kind == "" || p.Shelf == "series") && (f.Delivery == "" ||
				p.Delivery == f.Delivery) &&
				strings.Contains(Fold(p.Device), Fold(f.Device)) && (f.Where == "" || p.Away) {
				g.Add(p, g.From(), f.Until)
			}
		}
		if len(all) == 0 || f.Since.IsZero() { // which begins with the first play
			return
		}
		drawn, err := s.Chart(ctx, f, a)
		if err != nil {
			t.Fatal(err)
		}
		if got, want := drawn.Chart(), g.Chart(); !reflect.DeepEqual(got, want) {
			t.Fatalf("%s: %+v\n%+v\n got %+v\nwant %+v", where, a, f, got, want)
		}
	}
	for range 40 {
		step()
	}
	if err := s.SetZone(ctx, zone); err != nil {
		t.Fatal(err)
	}
	check("before anything is kept")
	if _, err := s.rollSome(ctx); err != nil {
		t.Fatal(err)
	}
	check("while it is made")
	if err := s.Roll(ctx); err != nil {
		t.Fatal(err)
	}
	for n := range 80 {
		step()
		check(fmt.Sprint("step ", n))
		if n%40 == 0 {
			if err := s.Roll(ctx); err != nil {
				t.Fatal(err)
			}
		}
	}
	if _, err := s.CloseStale(ctx, now.Add(72*time.Hour)); err != nil {
		t.Fatal(err)
	}
	for range 2 { // the second with longer times in use
		for range 40 {
			check("at the end")
		}
		if err := s.Roll(ctx); err != nil {
			t.Fatal(err)
		}
	}
	v, err := s.VerifyRollups(ctx)
	if err != nil || len(v.Wrong) > 0 || v.Days < 200 || v.Longer < 20 || v.Waiting > 0 {
		t.Fatalf("%+v, %v", v, err)
	}
	var n int
	if err := s.r.QueryRowContext(ctx, "SELECT count(*) FROM rollups").Scan(&n); err != nil || n < 100 {
		t.Fatalf("%d figures are kept, %v", n, err)
	}
}

// TestVerifyTellsWhatIsWrong spoils figures in many ways, and has them made anew.
func TestVerifyTellsWhatIsWrong(t *testing.T) {
	s, _ := fresh(t)
	file := filed(t, s, 1)[0]
	begin := time.Date(2024, 11, 3, 12, 0, 0, 0, time.UTC)
	for n := range 40 {
		at := begin.AddDate(0, 0, 9*n)
		if _, err := s.TellPlay(ctx, usage.Play{Member: "wren", Shelf: "films", Title: "Copper Kite", Started: at,
			Seen: at.Add(time.Hour), Ended: at.Add(time.Hour), Watched: 3600}, 1, 1, file); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.SetZone(ctx, time.UTC); err != nil {
		t.Fatal(err)
	}
	if v, err := s.VerifyRollups(ctx); err != nil || v.Waiting == 0 || v.Days > 0 {
		t.Errorf("before they are made: %+v, %v", v, err)
	}
	for _, spoil := range []string{
		"UPDATE rollups SET sums = (SELECT sums FROM rollups o WHERE o.part = rollups.part AND o.at = 20241112) " +
			"WHERE level = 1 AND at = 20241103",
		"DELETE FROM rollups WHERE level = 1 AND at = 20241112 AND part = 2",
		"UPDATE rollups SET sums = x'00' WHERE level = 2 AND at = 20241201",
		"DELETE FROM rollups WHERE level = 3 AND scope = 'wren'",
		"INSERT INTO rollups SELECT level, 'ozan', part, at, sums FROM rollups WHERE level = 1 AND scope = ''",
		"INSERT INTO rollups SELECT level, scope, part, 20301103, sums FROM rollups WHERE level = 1 AND at = 20241103",
		"DELETE FROM rolled WHERE level = 2 AND at = 20241101",
		"DROP TRIGGER plays_turned; UPDATE plays SET watched = watched + 1 WHERE id = 7",
	} {
		if err := s.Rebuild(ctx); err != nil {
			t.Fatal(err)
		}
		if v, err := s.VerifyRollups(ctx); err != nil || len(v.Wrong) > 0 || v.Days < 350 || v.Longer < 14 {
			t.Fatalf("made anew: %+v, %v", v, err)
		}
		if _, err := s.w.ExecContext(ctx, spoil); err != nil {
			t.Fatal(err)
		}
		if v, err := s.VerifyRollups(ctx); err != nil || len(v.Wrong) == 0 {
			t.Errorf("%s: %+v, %v", spoil, v, err)
		}
	}
	// Other clocks, other days.
	if err := s.SetZone(ctx, time.FixedZone("mill", 3*3600)); err != nil {
		t.Fatal(err)
	}
	if v, err := s.VerifyRollups(ctx); err != nil || v.Waiting == 0 {
		t.Errorf("%+v, %v", v, err)
	}
}

// TestManyChangesAreRolledLater changes more days at once than are made anew in the same transaction.
func TestManyChangesAreRolledLater(t *testing.T) {
	s, _ := fresh(t)
	file := filed(t, s, 1)[0]
	begin := time.Now().AddDate(0, -5, 0)
	for n := range 100 {
		at := begin.AddDate(0, 0, n)
		if _, err := s.TellPlay(ctx, usage.Play{Member: "wren", Shelf: "films", Title: "Copper Kite", Started: at,
			Seen: at.Add(time.Hour), Ended: at.Add(time.Hour), Watched: 3600}, 1, 1, file); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.SetZone(ctx, time.UTC); err != nil {
		t.Fatal(err)
	}
	if err := s.Roll(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := s.ForgetPlays(ctx, "wren", time.Now()); err != nil {
		t.Fatal(err)
	}
	var kept int
	if err := s.r.QueryRowContext(ctx, "SELECT count(*) FROM rollups WHERE scope = 'wren'").Scan(&kept); err != nil ||
		kept != 0 {
		t.Errorf("%d figures of who was forgotten, %v", kept, err)
	}
	for range 2 {
		sums, err := s.Sums(ctx, usage.Filter{}, usage.PartAll)
		if err != nil || sums.Get(0, usage.DimAll, "") != (usage.Tally{Plays: 100, Watched: 360_000_000}) ||
			sums.Get(0, usage.DimMember, "wren").Plays != 0 {
			t.Errorf("%+v, %v", sums.Get(0, usage.DimAll, ""), err)
		}
		if err := s.Roll(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if v, err := s.VerifyRollups(ctx); err != nil || len(v.Wrong) > 0 || v.Waiting > 0 || v.Days < 100 {
		t.Errorf("%+v, %v", v, err)
	}
}

// filed adds a member and some files, and gives the numbers of those.
func filed(t *testing.T, s *Store, n int) []int64 {
	t.Helper()
	add(t, s, "wren", allowance.Admin)
	var list []Found
	for i := range n {
		list = append(list, Found{Title: fmt.Sprint("film ", i)})
	}
	stock(t, s, "films", household.Films, list...)
	ids, err := rows(ctx, s.r, func(r *sql.Rows, id *int64) error { return r.Scan(id) },
		"SELECT id FROM files ORDER BY id")
	if err != nil || len(ids) != n {
		t.Fatal(len(ids), err)
	}
	return ids
}
