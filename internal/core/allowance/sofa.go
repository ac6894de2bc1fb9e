package allowance

import "time"

// Seat is somebody who is to watch along on another's device.
type Seat struct {
	Role    Role
	Allowed Allowance
	What    What // the title, with the rule that holds for them
	Used    Used
}

// MaySit says why somebody may not watch a title along now; an empty reason where they may. Ages and hours
// bind children: an adult decides for themselves, but an account that has ended sits nowhere.
func MaySit(s Seat, now time.Time, unknown int) Reason {
	if !s.Allowed.Until.IsZero() && !now.Before(s.Allowed.Until) {
		return Ended
	}
	if s.Role != Child {
		return ""
	}
	if !s.Allowed.Shows(s.What, unknown) {
		return Age
	}
	s.Allowed.Streams = 0 // it is another's stream
	if v := Decide(s.Allowed, now, s.Used); !v.OK {
		return v.Reason
	}
	return ""
}

// MayOverrule reports whether a member may let a child watch along for whom something is not, or not now.
func MayOverrule(r Role) bool { return r == Admin || r == Adult }
