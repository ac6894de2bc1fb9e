package allowance

import (
	"fmt"
	"testing"
	"time"
)

func TestFailuresAreLimitedAndForgivenWithTime(t *testing.T) {
	l := Limiter{Burst: 3, Pause: time.Minute}
	now := time.Unix(1000, 0)
	for i := range 3 {
		if w := l.Wait("wren", now); w != 0 {
			t.Fatalf("try %d has to wait %s", i, w)
		}
		l.Fail("wren", now)
	}
	if w := l.Wait("wren", now); w != time.Minute {
		t.Errorf("after the burst: got %s, want 1m", w)
	}
	if w := l.Wait("ozan", now); w != 0 {
		t.Errorf("another member has to wait %s", w)
	}
	if w := l.Wait("wren", now.Add(61*time.Second)); w != 0 {
		t.Errorf("after the pause: got %s", w)
	}
	l.Forgive("wren")
	if w := l.Wait("wren", now); w != 0 {
		t.Errorf("after a success: got %s", w)
	}
}

func TestStrangersCannotFillTheMemory(t *testing.T) {
	l := Limiter{Burst: 1, Pause: time.Hour}
	for i := range maxKeys + 500 {
		l.Fail(fmt.Sprint(i), time.Unix(0, 0))
	}
	if len(l.keys) > maxKeys {
		t.Errorf("%d keys are kept", len(l.keys))
	}
}
