package allowance

import (
	"errors"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"cozyshelf/internal/core/household"
)

// TestAllowancesAreWrittenAndRead writes allowances of every sort, and reads them again.
func TestAllowancesAreWrittenAndRead(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Amsterdam")
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(1, 16))
	hours := []string{"", "mon-fri 15:00-19:30", "sat sun 08:00-21:00", "fri 22:00-02:00"}
	maybe := func(n int) int {
		if r.IntN(2) == 0 {
			return 0
		}
		return 1 + r.IntN(n)
	}
	yesNo := func() *bool {
		if n := r.IntN(3); n < 2 {
			b := n == 0
			return &b
		}
		return nil
	}
	for range 5000 {
		a := Allowance{Day: maybe(1440), Week: maybe(10080), Streams: maybe(1000), Home: Size{Height: maybe(10_000)},
			Away: Size{Height: maybe(10_000)}, Bring: yesNo(), Copies: yesNo()}
		if r.IntN(2) == 0 {
			a.Shelves = []string{"films", "music"}[:1+r.IntN(2)]
		}
		if r.IntN(2) == 0 {
			n := r.IntN(household.OldestAge + 1)
			a.Age = &n
		}
		if h := hours[r.IntN(len(hours))]; h != "" {
			if a.Hours, err = ParseHours(h); err != nil {
				t.Fatal(err)
			}
		}
		switch r.IntN(4) {
		case 0:
			a.Home.Bitrate = int64(1+r.IntN(9999)) * 1_000_000
		case 1:
			a.Away.Bitrate = 100_000 + r.Int64N(1e9)
		}
		switch r.IntN(4) {
		case 0: // around changes of summer time, too
			a.Until = time.Date(2026, 1, 1+r.IntN(700), 0, 0, 0, 0, zone)
		case 1:
			a.Until = time.Date(2026, 10, 25, 0, r.IntN(300), r.IntN(2)*r.IntN(60), 0, zone)
		}
		words := WordsOf(a, zone)
		got := Allowance{}
		if err := words.Apply(&got, zone); err != nil {
			t.Fatalf("%+v: %v", words, err)
		}
		if !got.Until.Equal(a.Until) {
			t.Fatalf("%+v: until %s, not %s", words, got.Until, a.Until)
		}
		got.Until = a.Until
		if !reflect.DeepEqual(got, a) {
			t.Fatalf("%+v:\n%+v, not\n%+v", words, got, a)
		}
		// The words that take bounds away take them all.
		none := Words{"all", "any", "role", "role", "any", "any", "any", "any", "any", "any", "any", "any", "never"}
		if err := none.Apply(&got, zone); err != nil || !reflect.DeepEqual(got, Allowance{}) {
			t.Fatalf("%+v, %v", got, err)
		}
	}
}

func TestWordsThatCannotBeRead(t *testing.T) {
	for word, list := range map[string][]Words{
		"shelves": {{Shelves: ","}}, "age": {{Age: "x"}, {Age: "-1"}, {Age: "22"}, {Age: "1e1"}},
		"bring": {{Bring: "maybe"}}, "copies": {{Copies: "YES"}}, "hours": {{Hours: "never"}, {Hours: "mon 25:00-26:00"}},
		"minutes": {{Minutes: "0"}, {Minutes: "1441"}, {Minutes: "-5"}}, "weekly-minutes": {{Weekly: "10081"}},
		"streams": {{Streams: "0"}, {Streams: "1001"}}, "height": {{Height: "1080p"}}, "height-away": {{HeightAway: "x"}},
		"bitrate":      {{Bitrate: "8Mm"}, {Bitrate: "5"}, {Bitrate: "-8M"}, {Bitrate: "1T"}},
		"bitrate-away": {{BitrateAway: "x"}},
		"until":        {{Until: "tomorrow"}, {Until: "2026-13-01"}},
	} {
		for _, w := range list {
			var f *Fault
			if err := w.Apply(&Allowance{}, time.UTC); !errors.As(err, &f) || f.Word != word {
				t.Errorf("%+v: %v", w, err)
			}
		}
	}
}
