package cli

import (
	"testing"
	"time"

	"cozyshelf/internal/core/usage"
)

func TestPlaysComeOneAfterTheOther(t *testing.T) {
	at := time.Now()
	one := usage.Play{ID: 7, Started: at}
	for _, p := range []usage.Play{{ID: 6, Started: at}, {ID: 9, Started: at.Add(-time.Second)}} {
		if !after(p, one) || after(one, p) {
			t.Errorf("%+v", p)
		}
	}
	if after(one, one) {
		t.Error("a play comes after itself")
	}
}
