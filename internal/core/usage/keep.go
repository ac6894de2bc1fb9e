package usage

import "time"

// Kept says for how long the plays of a member are kept with their name.
type Kept int

// As the household says; any other value is a number of days, of which 0 keeps them no longer than a play may
// be gone on with.
const AsHousehold Kept = -1

// KeptBefore gives the moment before which the plays of a member are no longer kept with their name; zero
// where they are kept for ever. household is for how many days the household keeps them, 0 for ever. A
// member can only shorten that, where they may.
func KeptBefore(now time.Time, household int, member Kept, may bool) time.Time {
	shortest := time.Duration(household) * 24 * time.Hour
	if may && member >= 0 && (household == 0 || int(member) < household) {
		shortest = max(MergeWithin, time.Duration(member)*24*time.Hour)
	}
	if shortest == 0 {
		return time.Time{}
	}
	return now.Add(-shortest)
}
