// Package permit decides who may do what with a file, exactly as the kernel
// does for an account without special powers, and says which entry of mode bits
// or ACL decided. The order of the entries is that of acl(5): owner; named user
// (masked); owning and named groups together (masked); other.
//
// An account inside our container has no capability, so uid 0 is judged like
// any other number.
//
// From that follow, for whole trees of files, which come as a Tree:
//
//   - Audit walks a folder and counts what the account may read, list and write, and gives the
//     causes of what it may not, the way to the folder included;
//   - Remedies gives the ways to mend that, the smallest change first, each with what it reaches:
//     found by auditing the tree as it would be (Mended);
//   - Proving compares what was computed with what the account was really allowed to do, when it
//     tried.
//
// The package only computes. Package machine reads trees from the disk, and package mend carries
// remedies out.
package permit

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
)

// Perm is a set of the three permissions, as in one octal digit of a mode.
type Perm uint8

// The permissions.
const (
	Exec  Perm = 1 // for a folder: to pass through it
	Write Perm = 2
	Read  Perm = 4 // for a folder: to list it
)

// String writes the set as "r-x".
func (p Perm) String() string {
	b := []byte("---")
	for i, bit := range []Perm{Read, Write, Exec} {
		if p&bit != 0 {
			b[i] = "rwx"[i]
		}
	}
	return string(b)
}

// Identity is an account as the kernel sees it: numbers only. Groups holds the
// primary group and the supplementary ones, in any order.
type Identity struct {
	UID    uint32
	Groups []uint32
}

// Tag is the kind of an ACL entry, as the kernel numbers it.
type Tag uint16

// Kinds of ACL entries (linux/posix_acl.h).
const (
	UserObj  Tag = 0x01
	User     Tag = 0x02
	GroupObj Tag = 0x04
	Group    Tag = 0x08
	Mask     Tag = 0x10
	Other    Tag = 0x20
)

// Entry is one entry of an access ACL. ID counts for User and Group only.
type Entry struct {
	Tag  Tag
	Perm Perm
	ID   uint32
}

// Attrs is what decides about one file or folder. ACL is empty where there are
// only mode bits.
type Attrs struct {
	Mode     uint16 // the nine permission bits
	UID, GID uint32
	ACL      []Entry
}

// Class is the kind of entry that decided.
type Class string

// The classes of acl(5), in its words.
const (
	Owner       Class = "owner"
	NamedUser   Class = "named user"
	OwningGroup Class = "owning group"
	NamedGroup  Class = "named group"
	OtherClass  Class = "other"
)

// Decision is an answer with its reason.
type Decision struct {
	Granted bool
	Class   Class
	Has     Perm // what the deciding entry grants, after the mask
	Masked  bool // the entry alone would have granted it; the mask took it away
}

// Decide answers whether id may do all of want.
func Decide(id Identity, f Attrs, want Perm) Decision {
	bits := func(shift uint) Perm { return Perm(f.Mode>>shift) & 7 }
	if id.UID == f.UID {
		return Decision{Granted: want&^bits(6) == 0, Class: Owner, Has: bits(6)}
	}
	// The kernel looks at an ACL only where the group bits of the mode, which
	// mirror the ACL's mask, are not all clear (acl_permission_check in
	// fs/namei.c). acl(5) does not tell: a named user whom an empty mask should
	// keep out is judged by the mode bits instead, so mostly as other.
	if len(f.ACL) == 0 || f.Mode&0o070 == 0 {
		class, has := OtherClass, bits(0)
		if slices.Contains(id.Groups, f.GID) {
			class, has = OwningGroup, bits(3)
		}
		return Decision{Granted: want&^has == 0, Class: class, Has: has}
	}
	mask := Perm(7)
	for _, e := range f.ACL {
		if e.Tag == Mask {
			mask = e.Perm
		}
	}
	for _, e := range f.ACL {
		if e.Tag == User && e.ID == id.UID {
			return masked(want, e.Perm, mask, NamedUser)
		}
	}
	matched := false
	var refusal Decision
	for _, e := range f.ACL {
		class, gid := NamedGroup, e.ID
		switch e.Tag {
		case GroupObj:
			class, gid = OwningGroup, f.GID
		case Group:
		default:
			continue
		}
		if !slices.Contains(id.Groups, gid) {
			continue
		}
		d := masked(want, e.Perm, mask, class)
		if d.Granted {
			return d
		}
		if !matched {
			refusal = d
		}
		matched = true
	}
	if matched {
		return refusal
	}
	for _, e := range f.ACL {
		if e.Tag == Other {
			return Decision{Granted: want&^e.Perm == 0, Class: OtherClass, Has: e.Perm}
		}
	}
	return Decision{Class: OtherClass}
}

func masked(want, perm, mask Perm, class Class) Decision {
	return Decision{Granted: want&^(perm&mask) == 0, Class: class, Has: perm & mask,
		Masked: want&^perm == 0 && want&^(perm&mask) != 0}
}

// ParseACL reads the value of the extended attribute system.posix_acl_access:
// a version number (2) and eight bytes an entry, all little-endian.
func ParseACL(value []byte) ([]Entry, error) {
	if len(value) == 0 {
		return nil, nil
	}
	if len(value) < 4 || (len(value)-4)%8 != 0 {
		return nil, fmt.Errorf("an ACL of %d bytes is not whole", len(value))
	}
	if v := binary.LittleEndian.Uint32(value); v != 2 {
		return nil, fmt.Errorf("ACL version %d is not known", v)
	}
	var out []Entry
	for b := value[4:]; len(b) > 0; b = b[8:] {
		out = append(out, Entry{
			Tag:  Tag(binary.LittleEndian.Uint16(b)),
			Perm: Perm(binary.LittleEndian.Uint16(b[2:]) & 7),
			ID:   binary.LittleEndian.Uint32(b[4:]),
		})
	}
	return out, nil
}

// Why says in words why a decision went against id.
func Why(id Identity, f Attrs, d Decision, want Perm, folder bool) string {
	what := "this file"
	if folder {
		what = "this folder"
	}
	var verbs []string
	for _, v := range []struct {
		p          Perm
		file, fold string
	}{{Read, "read", "list"}, {Write, "write", "write in"}, {Exec, "run", "enter"}} {
		if want&^d.Has&v.p != 0 {
			verbs = append(verbs, map[bool]string{false: v.file, true: v.fold}[folder])
		}
	}
	mode := fmt.Sprintf("%04o, owner %d, group %d", f.Mode, f.UID, f.GID)
	if len(f.ACL) > 0 {
		mode += ", with an ACL"
	}
	s := fmt.Sprintf("%d may not %s %s: %s (mode %s)", id.UID, strings.Join(verbs, " or "), what,
		d.grants(id, f, folder), mode)
	if d.Masked {
		s += "; the ACL's mask takes it away"
	}
	return s
}

// grants says in words what the entry that decided lets its people do.
func (d Decision) grants(id Identity, f Attrs, folder bool) string {
	who := map[Class]string{
		Owner: "its owner", OtherClass: "everyone else", OwningGroup: fmt.Sprintf("its group %d", f.GID),
		NamedUser: fmt.Sprintf("by the ACL, user %d", id.UID), NamedGroup: "by the ACL, each of its groups",
	}[d.Class]
	var may []string
	for _, v := range []struct {
		p          Perm
		file, fold string
	}{{Read, "read", "list"}, {Write, "write", "write in"}, {Exec, "run", "enter"}} {
		if d.Has&v.p != 0 {
			may = append(may, map[bool]string{false: v.file, true: v.fold}[folder])
		}
	}
	if len(may) == 0 {
		return who + " has no access"
	}
	return who + " may only " + strings.Join(may, " and ") + " it"
}

// FormatACL writes an ACL as ParseACL reads it, in the order that the kernel
// wants: by kind, then by id. Nothing stands for no ACL.
func FormatACL(acl []Entry) []byte {
	if len(acl) == 0 {
		return nil
	}
	acl = slices.Clone(acl)
	slices.SortStableFunc(acl, func(a, b Entry) int {
		return cmp.Or(cmp.Compare(a.Tag, b.Tag),
			cmp.Compare(a.ID, b.ID))
	})
	out := binary.LittleEndian.AppendUint32(nil, 2)
	for _, e := range acl {
		id := e.ID
		if e.Tag != User && e.Tag != Group {
			id = 1<<32 - 1 // ACL_UNDEFINED_ID
		}
		out = binary.LittleEndian.AppendUint16(out, uint16(e.Tag))
		out = binary.LittleEndian.AppendUint16(out, uint16(e.Perm))
		out = binary.LittleEndian.AppendUint32(out, id)
	}
	return out
}
