package household

import (
	"fmt"
	"testing"
	"time"
)

func TestHoursOfADay(t *testing.T) {
	for text, held := range map[string][2]int{"01:00-06:00": {60, 360}, "22:30-05:00": {1350, 300},
		"00:00-24:00": {0, 1440}, "08:00-08:00": {480, 480}, "23:59-00:00": {1439, 0}, "0:00-0:01": {0, 1}} {
		h, err := ParseHours(text)
		if err != nil || (h != Hours{held[0], held[1]}) {
			t.Errorf("%s: got %+v, %v", text, h, err)
		}
		n := 0
		for m := range 24 * 60 {
			if h.Hold(time.Date(2026, 3, 29, m/60, m%60, 0, 0, time.UTC)) {
				n++
			}
		}
		if want := (held[1]-held[0]+1440-1)%1440 + 1; n != want {
			t.Errorf("%s: holds %d minutes, want %d", text, n, want)
		}
	}
	for _, text := range []string{"", "x", "01:00", "01:00-", "25:00-01:00", "24:00-01:00", "01:00–06:00", "1-2",
		"01:60-02:00"} {
		if h, err := ParseHours(text); err == nil {
			t.Errorf("%q: got %+v", text, h)
		}
	}
}

func FuzzHours(f *testing.F) {
	f.Add("01:00-06:00")
	f.Fuzz(func(t *testing.T, text string) {
		h, err := ParseHours(text)
		if err != nil {
			return
		}
		again, err := ParseHours(fmt.Sprintf("%02d:%02d-%02d:%02d", h.From/60, h.From%60, h.To/60, h.To%60))
		if err != nil || again != h {
			t.Errorf("%q: %+v, %+v, %v", text, h, again, err)
		}
	})
}
