package permit

import (
	"fmt"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"testing"
)

// dice makes a random tree in memory.
func dice(r *rand.Rand, ids []uint32) tree {
	pick := func() uint32 { return ids[r.IntN(len(ids))] }
	perm := func() Perm { return Perm(r.IntN(8)) }
	some := func() []Entry {
		acl := []Entry{{UserObj, perm(), none}, {GroupObj, perm(), none}, {Other, perm(), none}, {Mask, perm(), none}}
		for range r.IntN(4) {
			e := Entry{[]Tag{User, Group}[r.IntN(2)], perm(), pick()}
			if find(acl, e.Tag, e.ID) < 0 {
				acl = append(acl, e)
			}
		}
		return acl
	}
	t := tree{}
	folders := []string{"/m"}
	for i := range 4 + r.IntN(20) {
		it := Item{Folder: i == 0 || r.IntN(3) == 0,
			Attrs: Attrs{Mode: uint16(r.IntN(0o1000)), UID: pick(), GID: pick()}}
		if r.IntN(3) == 0 {
			it.Attrs.Mode = 0o750
		}
		if r.IntN(3) == 0 {
			it.Attrs.ACL = some()
			it.Attrs.Mode = uint16(it.Attrs.ACL[0].Perm)<<6 | uint16(it.Attrs.ACL[3].Perm)<<3 | uint16(it.Attrs.ACL[2].Perm)
		}
		if it.Folder && r.IntN(4) == 0 {
			it.Default = some()
		}
		p := "/m"
		if i > 0 {
			p = path.Join(folders[r.IntN(len(folders))], fmt.Sprint(i))
		}
		if it.Folder && i > 0 {
			folders = append(folders, p)
		}
		t[p] = it
	}
	return t
}

// powers says what an identity may do with every path, each bit by itself.
func powers(t tree, id Identity) map[string]Perm {
	out := map[string]Perm{}
	for p, it := range t {
		out[p] = granted(id, it.Attrs)
	}
	return out
}

// carryOut changes the tree as a remedy says.
func carryOut(t tree, m Remedy) (tree, int, int) {
	out, files, folders := tree{}, 0, 0
	for p, it := range t {
		if on, ok := m.Target(p); ok {
			now := it.with(m.Apply(it.State(), it.Folder, on))
			if !now.State().Same(it.State()) {
				if it.Folder {
					folders++
				} else {
					files++
				}
			}
			it = now
		}
		out[p] = it
	}
	return out, files, folders
}

// TestRemediesDoWhatTheySayAndNoMore carries every remedy out on random trees. It
// must reach what it says and touch no more than it says. A named user's entry
// must change nothing for anybody else, and nobody may lose anything, save by a
// change of the owning group.
func TestRemediesDoWhatTheySayAndNoMore(t *testing.T) {
	r := rand.New(rand.NewPCG(20261123, 3))
	ids := []uint32{1, 2, 3, 4}
	met := map[Kind]int{}
	for round := range 3000 {
		tr := dice(r, ids)
		id := Identity{UID: ids[r.IntN(len(ids))], Groups: []uint32{ids[r.IntN(len(ids))]}}
		need := Need{Write: r.IntN(3) == 0}
		before, err := Audit(tr, "/m", id, need)
		if err != nil {
			t.Fatal(err)
		}
		list := Remedies(tr, before, id, Who{UID: id.UID, Groups: id.Groups}, need)
		others := []Identity{{UID: 9, Groups: []uint32{9}}}
		for range 6 {
			o := Identity{UID: ids[r.IntN(len(ids))], Groups: []uint32{ids[r.IntN(len(ids))], ids[r.IntN(len(ids))]}}
			if o.UID != id.UID {
				others = append(others, o)
			}
		}
		for _, m := range list {
			met[m.Kind]++
			as := id
			if m.Kind == Join {
				as.Groups = append(slices.Clone(as.Groups), m.Subject)
			}
			now, files, folders := carryOut(tr, m)
			after, err := Audit(now, "/m", as, need)
			if err != nil {
				t.Fatal(err)
			}
			if m.Kind != ACLLater && after.granted()-before.granted() != m.Reaches {
				t.Fatalf("round %d, %s: reaches %d, it says %d\n%+v", round, m.ID, after.granted()-before.granted(),
					m.Reaches, tr)
			}
			if m.Kind == ACLLater && after.Later.Readable <= before.Later.Readable {
				t.Fatalf("round %d, %s: nothing is better later", round, m.ID)
			}
			if files > m.Files || folders > m.Folders {
				t.Fatalf("round %d, %s: touches %d files and %d folders, it says %d and %d; %+v", round, m.ID, files,
					folders, m.Files, m.Folders, m.Targets)
			}
			for _, o := range others {
				was, is := powers(tr, o), powers(now, o)
				for p := range tr {
					gains, loses := is[p]&^was[p], was[p]&^is[p]
					inGroup := slices.Contains(o.Groups, m.Subject)
					switch {
					case m.Kind == OwnGroup:
					case loses != 0 && !(m.Kind == ACLGroup && inGroup):
						t.Fatalf("round %d, %s: %+v loses %s of %s: %+v, now %+v", round, m.ID, o, loses, p, tr[p],
							now[p])
					case gains != 0 && (m.Kind == ACLUser || m.Kind == ACLLater || m.Kind == OwnMode ||
						m.Kind == ACLGroup && !inGroup):
						t.Fatalf("round %d, %s: %+v gains %s of %s: %+v, now %+v", round, m.ID, o, gains, p, tr[p],
							now[p])
					}
				}
			}
			// Carried out again, it changes nothing.
			if again, files, folders := carryOut(now, m); files+folders > 0 {
				t.Fatalf("round %d, %s: twice is not once: %+v\n%+v", round, m.ID, now, again)
			}
		}
		// An entry for the account, and its owner's bits, mend all that there is.
		for range 2 {
			list := Remedies(tr, before, id, Who{UID: id.UID, Groups: id.Groups}, need)
			for _, k := range []Kind{OwnMode, ACLUser} {
				if i := slices.IndexFunc(list, func(m Remedy) bool { return m.Kind == k }); i >= 0 {
					tr, _, _ = carryOut(tr, list[i])
					break
				}
			}
			before, _ = Audit(tr, "/m", id, need)
		}
		for n := 0; len(before.Problems) > 0 && n < 20; n++ { // what lay behind a closed folder
			list := Remedies(tr, before, id, Who{UID: id.UID, Groups: id.Groups}, need)
			if len(list) == 0 {
				break
			}
			best := slices.MaxFunc(list, func(a, b Remedy) int {
				if a.Kind != ACLUser && a.Kind != OwnMode {
					return -1
				}
				return a.Reaches - b.Reaches
			})
			tr, _, _ = carryOut(tr, best)
			before, _ = Audit(tr, "/m", id, need)
		}
		if len(before.Problems) > 0 {
			t.Fatalf("round %d: left after mending for %+v: %+v", round, id, before.Problems)
		}
	}
	for _, k := range []Kind{Join, OwnMode, ACLUser, ACLGroup, ACLLater, OwnGroup, Open} {
		if met[k] < 20 {
			t.Errorf("%s came up %d times only", k, met[k])
		}
	}
}

func TestMountsRuleInPlaceOfModes(t *testing.T) {
	for name, c := range map[string]struct {
		fstype, fs, super string
		ruled             string
		readOnly, server  bool
		only              bool
		daemon            bool
	}{
		"disk":           {"ext4", "rw,relatime", "rw", "", false, false, false, false},
		"read-only":      {"btrfs", "ro,relatime", "rw", "", true, false, false, false},
		"after an error": {"ext4", "rw,relatime", "ro,errors=remount-ro", "", true, false, false, false},
		"stick": {"vfat", "rw", "rw,uid=1000,gid=1000,fmask=0022,dmask=0022",
			"uid=1000,gid=1000,fmask=0022,dmask=0022", false, false, false, false},
		"stick with nothing": {"exfat", "rw", "rw", "defaults", false, false, false, false},
		"share": {"cifs", "rw", "rw,uid=0,forceuid,file_mode=0755", "uid=0,forceuid,file_mode=0755",
			false, true, false, false},
		"export":      {"nfs4", "rw", "rw,vers=4.2", "", false, true, false, false},
		"ssh for one": {"fuse.sshfs", "rw", "rw,user_id=1000,group_id=1000", "", false, true, true, true},
		"ssh for all, checked": {"fuse.sshfs", "rw", "rw,user_id=0,group_id=0,default_permissions,allow_other", "",
			false, true, false, false},
	} {
		g := MountOf("/mnt", c.fstype, "x", c.fs, c.super)
		if g.Ruled != c.ruled || g.ReadOnly != c.readOnly || g.Server != c.server || (g.Only != nil) != c.only ||
			g.Daemon != c.daemon {
			t.Errorf("%s: got %+v", name, g)
		}
	}
}

// withMount is a tree with mounts.
type withMount struct {
	tree
	g map[string]Mount
}

func (t withMount) Mount(p string) Mount {
	best := Mount{}
	for point, g := range t.g {
		if Below(p, point) && len(point) > len(best.Point) {
			best = g
			best.Point = point
		}
	}
	return best
}

func TestEveryCauseIsToldWithItsRemedy(t *testing.T) {
	file := func(mode uint16) Item { return Item{Attrs: Attrs{Mode: mode, UID: 5, GID: 5}} }
	dir := func(mode uint16) Item {
		return Item{Folder: true, Attrs: Attrs{Mode: mode, UID: 5, GID: 5}}
	}
	only := uint32(7)
	for name, c := range map[string]struct {
		tree   tree
		g      map[string]Mount
		need   Need
		id     Identity
		cause  string
		detail string
		remedy Kind
	}{
		"options of a stick": {tree{"/m": dir(0o755),
			"/m/stick": {Folder: true, Border: true, Attrs: Attrs{Mode: 0o700}}, "/m/stick/a": file(0o600)},
			map[string]Mount{"/m/stick": {Type: "vfat", Ruled: "umask=077"}}, Need{}, Identity{UID: 9}, CauseOptions,
			"umask=077", Options},
		"somebody's own mount": {tree{"/m": dir(0o755), "/m/a": file(0o644)},
			map[string]Mount{"/m": {Type: "fuse.sshfs", Only: &only}}, Need{}, Identity{UID: 9}, CauseOptions,
			"allow_other", Options},
		"read-only mount": {tree{"/m": dir(0o777), "/m/a": file(0o644)},
			map[string]Mount{"/m": {Type: "ext4", ReadOnly: true}}, Need{Write: true}, Identity{UID: 9},
			CauseReadOnly, "read-only", Remount},
		"immutable": {tree{"/m": {Folder: true, Fixed: "immutable", Attrs: Attrs{Mode: 0o777}}}, nil,
			Need{Write: true}, Identity{UID: 9}, CauseFixed, "immutable", Unfix},
		"selinux": {tree{"/m": {Folder: true, Label: "system_u:object_r:container_file_t:s0",
			Attrs: Attrs{Mode: 0o755}}, "/m/a": {Label: "unconfined_u:object_r:user_home_t:s0",
			Attrs: Attrs{Mode: 0o644}}}, nil, Need{Confined: true}, Identity{UID: 9}, CauseSELinux, "user_home_t",
			Relabel},
		"selinux of another": {tree{"/m": {Folder: true, Label: "system_u:object_r:container_file_t:s0:c1,c2",
			Attrs: Attrs{Mode: 0o755}}}, nil, Need{Confined: true}, Identity{UID: 9}, CauseSELinux, "c1,c2", Relabel},
		"shifted": {tree{"/m": dir(0o700), "/m/a": file(0o600)}, nil, Need{Inside: &Identity{UID: 5}},
			Identity{UID: 100005}, CauseShift, "5 inside is 100005", ACLUser},
		"another's label": {tree{"/m": {Folder: true, Attrs: Attrs{Mode: 0o700, UID: 9}},
			"/m/a": {Attrs: Attrs{Mode: 0o044, UID: 9}}}, nil, Need{}, Identity{UID: 9}, CauseMode, "its owner",
			OwnMode},
	} {
		t.Run(name, func(t *testing.T) {
			tr := Tree(c.tree)
			if c.g != nil {
				tr = withMount{c.tree, c.g}
			}
			r, err := Audit(tr, "/m", c.id, c.need)
			if err != nil || len(r.Problems) == 0 {
				t.Fatalf("got %+v, %v", r, err)
			}
			p := r.Problems[0]
			if p.Cause != c.cause || !strings.Contains(p.Detail, c.detail) {
				t.Errorf("got %+v, want %s: %s", p, c.cause, c.detail)
			}
			list := Remedies(tr, r, c.id, Who{UID: c.id.UID, Groups: []uint32{9}}, c.need)
			if len(list) == 0 || list[0].Kind != c.remedy || !list[0].Smallest {
				t.Errorf("remedies: got %+v, want %s first", list, c.remedy)
			}
		})
	}
}

func TestIdsAreShifted(t *testing.T) {
	ranges := []IDRange{{0, 1000, 1}, {1, 100000, 65535}}
	for inside, want := range map[uint32]uint32{0: 1000, 1: 100000, 1500: 101499, 65535: 165534} {
		if got, ok := OnHost(ranges, inside); !ok || got != want {
			t.Errorf("%d: got %d, want %d", inside, got, want)
		}
	}
	if _, ok := OnHost(ranges, 65536); ok {
		t.Error("an id that is not mapped was found")
	}
}

func TestLaterFilesAreForeseen(t *testing.T) {
	id := Identity{UID: 9, Groups: []uint32{9}}
	dir := func(special uint16, gid uint32, def ...Entry) Item {
		return Item{Folder: true, Special: special, Attrs: Attrs{Mode: 0o755, GID: gid}, Default: def}
	}
	entry := func(mask Perm) []Entry {
		return []Entry{{UserObj, 7, none}, {User, 5, 9}, {GroupObj, 5, none}, {Mask, mask, none}, {Other, 0, none}}
	}
	for name, c := range map[string]struct {
		folder Item
		mode   uint16 // of the files that are there
		umask  string
		well   bool
	}{
		"usual umask":                 {dir(0, 5), 0o644, "0022", true},
		"strict umask":                {dir(0, 5), 0o640, "0027", false},
		"strict, group handed on":     {dir(0o2000, 9), 0o640, "0027", true},
		"private":                     {dir(0o2000, 9), 0o600, "0077", false},
		"private, default entry":      {dir(0, 5, entry(7)...), 0o600, "0077", true},
		"default entry under a mask":  {dir(0, 5, entry(0)...), 0o644, "0022", false},
		"default ACL keeps other out": {dir(0, 5, entry(7)[2:]...), 0o644, "0022", false},
	} {
		tr := tree{"/m": c.folder, "/m/a": {Attrs: Attrs{Mode: c.mode}}}
		if name == "default ACL keeps other out" {
			tr["/m"] = dir(0, 5, Entry{UserObj, 7, none}, Entry{GroupObj, 5, none}, Entry{Other, 0, none})
		}
		r, err := Audit(tr, "/m", id, Need{})
		if err != nil || r.Later.Umask != c.umask || (r.Later.Readable == 1) != c.well {
			t.Errorf("%s: got %+v, %v", name, r.Later, err)
		}
	}
}

func TestManyWorkersSayTheSame(t *testing.T) {
	r := rand.New(rand.NewPCG(20261123, 4))
	for range 300 {
		tr := dice(r, []uint32{1, 2, 3})
		id := Identity{UID: 1, Groups: []uint32{2}}
		one, err := Audit(tr, "/m", id, Need{Write: true})
		if err != nil {
			t.Fatal(err)
		}
		many, err := Audit(tr, "/m", id, Need{Write: true, Workers: 4})
		if err != nil || fmt.Sprintf("%+v", one) != fmt.Sprintf("%+v", many) {
			t.Fatalf("one worker:\n%+v\nfour:\n%+v, %v", one, many, err)
		}
	}
}

// TestIDsOfRemedies tells those that can be from those that cannot.
func TestIDsOfRemedies(t *testing.T) {
	for word, want := range map[string]bool{"acl-user": true, "acl-group": true, "acl-group-2003": true,
		"join-group-44": true,
		"open":          true, "open-7": false, "acl-group-": false, "acl-group-x": false, "series": false, "": false} {
		if got := IsID(word); got != want {
			t.Errorf("%q: %v", word, got)
		}
	}
}
