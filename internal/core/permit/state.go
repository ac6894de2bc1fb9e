package permit

import "slices"

// State is all that a remedy may change about one path.
type State struct {
	Mode     uint16 // the twelve bits, with set-user-id, set-group-id and sticky
	UID, GID uint32
	ACL      []Entry // empty where there are mode bits only
	Default  []Entry // of a folder
	Fixed    string  // "immutable" or "append-only"
}

// State gives what a remedy may change about an item.
func (it Item) State() State {
	return State{it.Special&0o7000 | it.Attrs.Mode, it.Attrs.UID, it.Attrs.GID, it.Attrs.ACL, it.Default, it.Fixed}
}

// with gives the item in another state.
func (it Item) with(s State) Item {
	it.Attrs = Attrs{s.Mode & 0o777, s.UID, s.GID, s.ACL}
	it.Special, it.Default, it.Fixed = s.Mode&0o7000, s.Default, s.Fixed
	return it
}

// Same reports whether two states are the same to the kernel.
func (s State) Same(o State) bool {
	return s.Mode == o.Mode && s.UID == o.UID && s.GID == o.GID && s.Fixed == o.Fixed &&
		string(FormatACL(s.ACL)) == string(FormatACL(o.ACL)) &&
		string(FormatACL(s.Default)) == string(FormatACL(o.Default))
}

// base gives the three entries that mode bits stand for.
func base(mode uint16) []Entry {
	return []Entry{{UserObj, Perm(mode>>6) & 7, none}, {GroupObj, Perm(mode>>3) & 7, none},
		{Other, Perm(mode) & 7, none}}
}

// none is the id of entries that have none (ACL_UNDEFINED_ID).
const none = 1<<32 - 1

func find(acl []Entry, tag Tag, id uint32) int {
	return slices.IndexFunc(acl, func(e Entry) bool {
		return e.Tag == tag &&
			(e.ID == id || tag != User && tag != Group)
	})
}

// granted gives what an identity may do now, each permission asked for by itself.
func granted(id Identity, f Attrs) Perm {
	var p Perm
	for _, bit := range []Perm{Read, Write, Exec} {
		if Decide(id, f, bit).Granted {
			p |= bit
		}
	}
	return p
}

// grantEntry gives a named user or group perm beside what it has, and nobody
// else anything. Setting an entry with setfacl makes the mask anew, which can
// bring back to life what the mask took from others; so their entries are first
// cut down to what they really give.
func grantEntry(s State, tag Tag, id uint32, perm Perm) State {
	acl := slices.Clone(s.ACL)
	if len(acl) == 0 {
		acl = base(s.Mode)
	}
	if i := find(acl, Mask, none); i >= 0 {
		mask := acl[i].Perm
		acl = slices.Delete(acl, i, i+1)
		if s.Mode&0o070 == 0 {
			// The kernel passes over such an ACL: the mode bits decide, and
			// the named entries mean nothing.
			acl = slices.DeleteFunc(acl, func(e Entry) bool { return e.Tag == User || e.Tag == Group })
		}
		for i := range acl {
			if acl[i].Tag != UserObj && acl[i].Tag != Other {
				acl[i].Perm &= mask
			}
		}
	}
	if i := find(acl, tag, id); i >= 0 {
		acl[i].Perm |= perm
	} else {
		acl = append(acl, Entry{tag, perm, id})
	}
	return s.withACL(acl)
}

// withACL sets an ACL, with the mask that all its entries need, and the mode
// bits that mirror it.
func (s State) withACL(acl []Entry) State {
	mask := Perm(0)
	for _, e := range acl {
		if e.Tag == User || e.Tag == GroupObj || e.Tag == Group {
			mask |= e.Perm
		}
	}
	s.ACL = append(acl, Entry{Mask, mask, none})
	s.Mode = s.Mode&^0o777 | uint16(acl[find(acl, UserObj, none)].Perm)<<6 | uint16(mask)<<3 | uint16(acl[find(acl,
		Other, none)].Perm)
	return s
}

// grantDefault does the same for the default ACL of a folder; where it has none,
// it begins with what the folder's own mode says, as setfacl does.
func grantDefault(s State, tag Tag, id uint32, perm Perm) State {
	d := State{Mode: s.Mode & 0o777, ACL: s.Default}
	if len(d.ACL) == 0 && len(s.ACL) > 0 {
		own := base(s.Mode)
		if i := find(s.ACL, GroupObj, none); i >= 0 {
			own[1].Perm = s.ACL[i].Perm
		}
		d.ACL = own
	}
	if i := find(d.ACL, Mask, none); i >= 0 {
		// A default ACL with an empty mask is not passed over for being a
		// default; its named entries are only cut down.
		d.Mode |= 0o070
	}
	s.Default = grantEntry(d, tag, id, perm).ACL
	return s
}
