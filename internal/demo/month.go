package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"time"
)

// MadeUp is the name of the device on which the plays of a month were that nobody watched: it marks them.
const MadeUp = "made up"

// Evening is a play of that month.
type Evening struct {
	Who                string
	Shelf, Title, Part string
	Begins             time.Time
	Lasts              time.Duration
	Whole              bool // to the end
}

// habit is when somebody watches, and what.
type habit struct {
	who         string
	often       float64 // part of the days
	weekend     float64 // the same, at weekends
	hour, until int     // from when on, and until when it begins
	minutes     int     // about so long
	titles      [][3]string
}

// habits are those of the household.
var habits = []habit{
	{"wren", 0.6, 0.8, 20, 22, 95, [][3]string{{"films", "The Paper Lighthouse", ""}, {"films", "Nine Kinds of Rain", ""},
		{"films", "The Understudy Moon", ""}}},
	{"ozan", 0.5, 0.9, 19, 23, 45, [][3]string{{"series", "Tiny Harbour", "The Buoy"}, {"series",
		"The Night Bakery", "Flour"},
		{"films", "Salt and Semaphore", ""}}},
	{"linnea", 0.7, 0.7, 15, 18, 30, [][3]string{{"series", "Tiny Harbour", "The Buoy"}, {"films", "Copper Kite", ""}}},
	{"bram", 0.5, 0.9, 9, 17, 25, [][3]string{{"films", "Copper Kite", ""}, {"series", "Tiny Harbour", "The Buoy"}}},
	{"ilse", 0.3, 0.2, 13, 16, 70, [][3]string{{"films", "A Ferry to Somewhere", ""}, {"films",
		"Nine Kinds of Rain", ""}}},
}

// Month makes up what the household watched in the 30 days before a moment, by the clocks of its zone: the same for
// the same seed.
func Month(now time.Time, seed uint64) (out []Evening) {
	rng := rand.New(rand.NewPCG(seed, 30))
	y, m, d := now.Date()
	for ago := 30; ago > 0; ago-- {
		day := time.Date(y, m, d-ago, 0, 0, 0, 0, now.Location())
		for _, h := range habits {
			often := h.often
			if w := day.Weekday(); w == time.Saturday || w == time.Sunday {
				often = h.weekend
			}
			if rng.Float64() >= often {
				continue
			}
			what := h.titles[rng.IntN(len(h.titles))]
			lasts := time.Duration(float64(h.minutes)*(0.4+0.8*rng.Float64())) * time.Minute
			out = append(out, Evening{Who: h.who, Shelf: what[0], Title: what[1], Part: what[2], Lasts: lasts,
				Begins: day.Add(time.Duration(h.hour*60+rng.IntN((h.until-h.hour)*60)) * time.Minute), Whole: rng.IntN(3) > 0})
		}
	}
	return out
}

// Tell tells the server of a play afterwards, as a device does that played without it.
func (v *Viewer) Tell(ctx context.Context, f File, e Evening) error {
	position := f.Duration / 2
	if e.Whole {
		position = f.Duration
	}
	_, err := v.ask(ctx, http.MethodPost, fmt.Sprintf("/api/v1/files/%d/plays", f.ID),
		map[string]any{"started_at": e.Begins.UTC(),
			"ended_at": e.Begins.Add(e.Lasts).UTC(), "position": position, "watched": e.Lasts.Seconds()}, nil)
	return err
}
