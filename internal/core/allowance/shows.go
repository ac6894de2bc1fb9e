package allowance

import "cozyshelf/internal/core/household"

// What is something of the shelves that a member may see or not.
type What struct {
	Shelf string
	Kind  household.Kind
	Age   *int  // from which age on it is; nil where that is not known
	Rule  *bool // whether it was shown or hidden to this member by itself; nil where it was not
}

// Shows reports whether something is there for the member: what is hidden by itself is not; what is shown
// by itself is, whatever its age; all else goes by its age. A film or a series of no known age counts as
// being from unknown on, and what else is of no known age is for everybody. A shelf that is not there
// for the member holds nothing for it.
func (a Allowance) Shows(w What, unknown int) bool {
	switch {
	case !a.Sees(w.Shelf):
		return false
	case w.Rule != nil:
		return *w.Rule
	case a.Age == nil:
		return true
	case w.Age != nil:
		return *w.Age <= *a.Age
	}
	return unknown <= *a.Age || w.Kind != household.Films && w.Kind != household.Series
}
