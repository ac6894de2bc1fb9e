package usage

import (
	"testing"
	"time"
)

func TestHowLongPlaysAreKept(t *testing.T) {
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	const day = 24 * time.Hour
	for name, c := range map[string]struct {
		household int
		member    Kept
		may       bool
		want      time.Duration // before now; 0 for ever
	}{
		"for ever":                           {0, AsHousehold, true, 0},
		"a year":                             {365, AsHousehold, true, 365 * day},
		"a member wants thirty days":         {0, 30, true, 30 * day},
		"a member wants less than the house": {365, 30, true, 30 * day},
		"a member cannot want more":          {7, 30, true, 7 * day},
		"a member wants none":                {365, 0, true, MergeWithin},
		"a member may not choose":            {365, 0, false, 365 * day},
		"nor where it is for ever":           {0, 30, false, 0},
	} {
		got := KeptBefore(now, c.household, c.member, c.may)
		if c.want == 0 && !got.IsZero() || c.want != 0 && now.Sub(got) != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
}
