package store

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"testing"
	"time"

	"cozyshelf/internal/core/usage"
)

// BenchmarkFigures makes figures of as many plays as COZYSHELF_PLAYS says, over ten years: 12 members, 3000 parts of
// 600 titles. In the folder COZYSHELF_PLAYS_IN they stay for the next time.
func BenchmarkFigures(b *testing.B) {
	n, _ := strconv.Atoi(os.Getenv("COZYSHELF_PLAYS"))
	if n == 0 {
		n = 20_000
	}
	dir := os.Getenv("COZYSHELF_PLAYS_IN")
	if dir == "" {
		dir = b.TempDir()
	}
	s, err := Open(ctx, filepath.Join(dir, "store.db"))
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	zone, err := time.LoadLocation("Europe/Amsterdam")
	if err != nil {
		b.Fatal(err)
	}
	now := time.Now()
	begin := now.AddDate(-10, 0, 0)
	fillPlays(b, s, n, begin, now)
	if err := s.SetZone(ctx, zone); err != nil {
		b.Fatal(err)
	}
	at := time.Now()
	if err := s.Roll(ctx); err != nil {
		b.Fatal(err)
	}
	b.Logf("%d plays were rolled in %s", n, time.Since(at).Round(time.Millisecond))
	for _, since := range []time.Duration{0, 5 * 365, 365, 30, 7} {
		f := usage.Filter{}
		if since > 0 {
			f.Since = now.Add(-since * 24 * time.Hour)
		}
		for _, member := range []string{"", "member 3"} {
			f.Member = member
			name := func(what string) string { return fmt.Sprintf("%s/days=%d/member=%t", what, since, member != "") }
			for _, of := range []string{"titles", "members", "devices"} {
				b.Run(name("top-"+of), func(b *testing.B) {
					for b.Loop() {
						sums, err := s.Sums(ctx, f, usage.TopParts(of))
						if err != nil || len(sums.Top(of, nil, nil)) == 0 {
							b.Fatal(err)
						}
					}
				})
			}
			for _, by := range usage.Bys {
				for _, a := range []usage.Asked{{Of: usage.OfWatched}, {Of: usage.OfStreams},
					{Of: usage.OfBytes, Split: usage.SplitDevice}} {
					a.By, a.From, a.To, a.Zone = by, f.Since, now, zone
					if a.Check() != nil {
						continue // heat maps are not split
					}
					b.Run(name(fmt.Sprintf("chart-%s-%s%s", by, a.Of, a.Split)), func(b *testing.B) {
						for b.Loop() {
							g, err := s.Chart(ctx, f, a)
							if err != nil {
								b.Fatal(err)
							}
							g.Chart()
						}
					})
				}
			}
		}
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	b.Logf("%d MiB from the system", m.Sys>>20)
	b.Run("close-a-play", func(b *testing.B) {
		for b.Loop() {
			if err := s.change(ctx, func(tx *sql.Tx) error {
				_, err := tx.ExecContext(ctx,
					"UPDATE plays SET watched = watched + 1 WHERE id = (SELECT max(id) FROM plays)")
				return err
			}); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// fillPlays writes plays, unless there are so many.
func fillPlays(b *testing.B, s *Store, n int, begin, end time.Time) {
	var have int
	if err := s.r.QueryRowContext(ctx, "SELECT count(*) FROM plays").Scan(&have); err != nil {
		b.Fatal(err)
	}
	r := rand.New(rand.NewPCG(1, 10))
	step := end.Sub(begin) / time.Duration(n)
	for have < n {
		if err := s.tx(ctx, func(tx *sql.Tx) error {
			put, err := tx.PrepareContext(ctx,
				`INSERT INTO plays (member, shelf, title, part, file, device, device_id, address,
				away, started, seen, ended, from_pos, position, duration, watched, bytes, done, delivery, why)
				VALUES (?, ?, ?, ?, 1, ?, ?, '', ?, ?, ?, ?, 0, 0, 3000, ?, ?, ?, ?, '')`)
			if err != nil {
				return err
			}
			defer put.Close()
			for range min(50_000, n-have) {
				part := int(float64(3000) * r.Float64() * r.Float64())
				at := begin.Add(time.Duration(have)*step + time.Duration(r.Int64N(int64(step))))
				who := r.IntN(12)
				length := int64(60+r.IntN(7000)) * 1000
				if _, err := put.ExecContext(ctx, fmt.Sprint("member ", who), []string{"films", "series",
					"music"}[part%3],
					fmt.Sprint("title ", part/5), fmt.Sprint(part%5), fmt.Sprintf("device %d of %d", r.IntN(2), who),
					who+1,
					r.IntN(4) == 0, milli(at), milli(at)+length, milli(at)+length, float64(length)/1000, r.IntN(1<<30),
					r.IntN(2), usage.Deliveries[r.IntN(3)]); err != nil {
					return err
				}
				have++
			}
			return nil
		}); err != nil {
			b.Fatal(err)
		}
	}
}
