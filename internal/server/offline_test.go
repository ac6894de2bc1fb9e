package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
)

func TestPlaysThatAreToldAfterwardsCount(t *testing.T) {
	h, ctx := open(t), context.Background()
	film := h.fileCalled("Copper Kite") // 14 s
	m := h.allow("bram", allowance.Allowance{Day: 30})
	now := time.Now().Truncate(time.Millisecond)
	tell := func(started, ended time.Time, position, watched float64) (int, int64) {
		t.Helper()
		b, err := json.Marshal(map[string]any{"started_at": started, "ended_at": ended, "position": position,
			"watched": watched})
		if err != nil {
			t.Fatal(err)
		}
		res, body := h.ask("POST", fmt.Sprintf("/api/v1/files/%d/plays", film), string(b))
		var got struct{ Play int64 }
		_ = json.Unmarshal(body, &got)
		return res.StatusCode, got.Play
	}
	used := func() allowance.Used {
		t.Helper()
		u, _, err := h.Standing(ctx, m)
		if err != nil {
			t.Fatal(err)
		}
		return u
	}
	// Just before midnight and just after count for their days.
	midnight := time.Date(now.In(h.Zone).Year(), now.In(h.Zone).Month(), now.In(h.Zone).Day(), 0, 0, 0, 0, h.Zone)
	at := now.Add(-time.Hour)
	if at.Before(midnight) {
		at = midnight
	}
	status, id := tell(at, at.Add(20*time.Second), 9, 20)
	if status != http.StatusOK || id == 0 || used().Today != 20*time.Second {
		t.Errorf("today: %d, play %d, %+v", status, id, used())
	}
	if status, again := tell(at, at.Add(20*time.Second), 9, 20); status != http.StatusOK || again != id ||
		used().Today != 20*time.Second {
		t.Errorf("told twice: %d, play %d, %+v", status, again, used())
	}
	yesterday := midnight.Add(-10 * time.Minute)
	if status, _ := tell(yesterday, yesterday.Add(9*time.Minute), 3, 500); status != http.StatusOK ||
		used().Today != 20*time.Second {
		t.Errorf("yesterday: %d, %+v", status, used())
	}
	// The later position stays.
	if at := h.positionOf(film, m.ID); at != 9 {
		t.Errorf("it goes on at %v", at)
	}
	plays, err := h.Store.Plays(ctx, usage.Filter{Member: "bram"})
	if err != nil || len(plays) != 2 || !plays[0].Started.Equal(at) || plays[0].Ended.IsZero() {
		t.Errorf("%+v, %v", plays, err)
	}
	for name, c := range map[string]struct {
		started, ended    time.Time
		position, watched float64
	}{
		"in the future":              {now, now.Add(time.Hour), 1, 1},
		"long ago":                   {now.AddDate(0, -3, 0), now.AddDate(0, -3, 0).Add(time.Minute), 1, 1},
		"backwards":                  {now, now.Add(-time.Minute), 1, 1},
		"for two days":               {now.AddDate(0, 0, -3), now.AddDate(0, 0, -1), 1, 1},
		"more than there was time":   {now.Add(-time.Minute), now, 1, 500},
		"beyond the end of the film": {now.Add(-time.Minute), now, 5000, 10},
		"before its beginning":       {now.Add(-time.Minute), now, -1, 10},
		"without times":              {time.Time{}, time.Time{}, 1, 1},
	} {
		if status, _ := tell(c.started, c.ended, c.position, c.watched); status != http.StatusBadRequest {
			t.Errorf("%s: %d", name, status)
		}
	}
	// How many are told is bounded.
	counted := map[int]int{}
	for i := range 520 {
		status, _ := tell(at.Add(time.Duration(i+1)*time.Millisecond), at.Add(time.Second), 9, 0)
		counted[status]++
	}
	if counted[http.StatusTooManyRequests] < 20 || counted[http.StatusOK] < 480 {
		t.Errorf("of 520: %v", counted)
	}
}
