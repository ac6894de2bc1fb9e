package permit

import (
	"errors"
	"io/fs"
	"os/exec"
	"path"
	"strings"
	"testing"
)

func TestTheFirstMatchingClassDecides(t *testing.T) {
	acl := []Entry{{UserObj, 7, 0}, {User, 4, 1500}, {GroupObj, 0, 0}, {Group, 6, 44}, {Mask, 4, 0}, {Other, 7, 0}}
	for name, c := range map[string]struct {
		id    Identity
		f     Attrs
		want  Perm
		grant bool
		class Class
		mask  bool
	}{
		"owner has less than other": {Identity{10, nil}, Attrs{0o077, 10, 20, nil}, Read, false, Owner,
			false},
		"group has less than other": {Identity{11, []uint32{20}}, Attrs{0o707, 10, 20, nil}, Read, false,
			OwningGroup, false},
		"other": {Identity{11, []uint32{21}}, Attrs{0o704, 10, 20, nil}, Read, true,
			OtherClass, false},
		"uid 0 without powers": {Identity{0, []uint32{0}}, Attrs{0o700, 10, 20, nil}, Read, false,
			OtherClass, false},
		"named user": {Identity{1500, nil}, Attrs{0o777, 10, 20, acl}, Read, true, NamedUser,
			false},
		"named user beats group and other": {Identity{1500, []uint32{44}}, Attrs{0o777, 10, 20, acl}, Write, false,
			NamedUser, false},
		"named group under the mask": {Identity{11, []uint32{44}}, Attrs{0o777, 10, 20, acl}, Write, false,
			NamedGroup, true},
		"named group, what the mask leaves": {Identity{11, []uint32{44}}, Attrs{0o777, 10, 20, acl}, Read, true,
			NamedGroup, false},
		"one matching group is enough": {Identity{11, []uint32{20, 44}}, Attrs{0o777, 10, 20, acl}, Read, true,
			NamedGroup, false},
		"a matching group keeps other out": {Identity{11, []uint32{20}}, Attrs{0o777, 10, 20, acl}, Exec, false,
			OwningGroup, false},
		"other of the ACL is not masked": {Identity{11, []uint32{9}}, Attrs{0o777, 10, 20, acl}, Write, true,
			OtherClass, false},
		"the owner's entry is not masked too": {Identity{10, nil}, Attrs{0o777, 10, 20, acl}, Write, true, Owner,
			false},
		"an empty mask leaves the mode bits": {Identity{1500, nil}, Attrs{0o704, 10, 20, acl}, Read, true, OtherClass,
			false},
	} {
		t.Run(name, func(t *testing.T) {
			d := Decide(c.id, c.f, c.want)
			if d.Granted != c.grant || d.Class != c.class || d.Masked != c.mask {
				t.Errorf("got %+v, want granted %v by %s, masked %v", d, c.grant, c.class, c.mask)
			}
		})
	}
}

// tree is a tree in memory: path to item.
type tree map[string]Item

func (t tree) Item(p string) (Item, error) {
	it, ok := t[p]
	if !ok {
		return it, fs.ErrNotExist
	}
	return it, nil
}

func (t tree) Items(p string, yield func(Item)) error {
	if t[p].Err != nil {
		return t[p].Err
	}
	for q, it := range t {
		if q != p && path.Dir(q) == p {
			it.Name = path.Base(q)
			yield(it)
		}
	}
	return nil
}

func TestAuditCountsAndExplains(t *testing.T) {
	dir := func(mode uint16) Item { return Item{Folder: true, Attrs: Attrs{Mode: mode}} }
	file := func(mode uint16) Item { return Item{Attrs: Attrs{Mode: mode}} }
	tr := tree{
		"/": dir(0o755), "/srv": dir(0o711), "/srv/films": dir(0o755),
		"/srv/films/a.mp4": file(0o644), "/srv/films/b.mp4": file(0o600), "/srv/films/link": {Link: true},
		"/srv/films/shut": dir(0o700), "/srv/films/shut/c.mp4": file(0o644),
		"/srv/films/pipe": {Other: true},
	}
	r, err := Audit(tr, "/srv/films", Identity{1500, []uint32{1500}}, Need{Write: true, Ancestors: true})
	if err != nil {
		t.Fatal(err)
	}
	if r.Files != 3 || r.ReadableFiles != 1 || r.Folders != 2 || r.ListableFolders != 1 || r.WritableFolders != 0 ||
		r.Links != 1 || r.Failing != 3 {
		t.Errorf("got %+v", r)
	}
	for _, f := range r.First {
		if f.Cause == "" || !strings.Contains(f.Cause, "everyone else") {
			t.Errorf("%s: the cause is not told: %q", f.Path, f.Cause)
		}
	}
	tr["/srv"] = dir(0o700)
	r, _ = Audit(tr, "/srv/films", Identity{1500, nil}, Need{Ancestors: true})
	if r.Problems[0].Path != "/srv" || r.Problems[0].Count != 6 || r.ReadableFiles+r.ListableFolders != 0 ||
		len(r.Problems) != 3 {
		t.Errorf("the folder above stands in the way: got %+v", r)
	}
	if r, _ = Audit(tr, "/srv/films", Identity{1500, nil}, Need{}); r.ReadableFiles != 1 {
		t.Errorf("folders above a bind mount do not count: got %+v", r)
	}
	if _, err := Audit(tr, "/srv/none", Identity{}, Need{}); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a missing folder: got %v", err)
	}
	if _, err := Audit(tr, "/srv/films/a.mp4", Identity{}, Need{}); err == nil {
		t.Error("a file was taken for a folder")
	}
}

func FuzzParseACL(f *testing.F) {
	f.Add([]byte{2, 0, 0, 0, 1, 0, 7, 0, 255, 255, 255, 255})
	f.Fuzz(func(t *testing.T, b []byte) {
		acl, err := ParseACL(b)
		if err != nil {
			return
		}
		if len(b) > 0 && len(acl) != (len(b)-4)/8 {
			t.Fatalf("%d entries of %d bytes", len(acl), len(b))
		}
		for _, want := range []Perm{Read, Write, Exec} {
			d := Decide(Identity{1, []uint32{2}}, Attrs{0o640, 3, 4, acl}, want)
			if d.Granted != (want&^d.Has == 0) {
				t.Fatalf("granted %v but the deciding entry has %s of %s", d.Granted, d.Has, want)
			}
		}
	})
}

func TestOneLineCoversAllPathsWithTheSameCause(t *testing.T) {
	dir := func(mode uint16, gid uint32) Item { return Item{Folder: true, Attrs: Attrs{Mode: mode, GID: gid}} }
	file := func(mode uint16, gid uint32) Item { return Item{Attrs: Attrs{Mode: mode, GID: gid}} }
	tr := tree{"/": dir(0o755, 0), "/m": dir(0o755, 0), "/m/shut": dir(0o750, 44), "/m/shut/in": dir(0o755, 0)}
	for i := range 100 {
		tr["/m/"+string(rune('A'+i%26))+string(rune('a'+i/26))] = file(0o640, 44)
		tr["/m/shut/in/"+string(rune('A'+i%26))+string(rune('a'+i/26))] = file(0o644, 0)
	}
	id := Identity{1500, []uint32{1500}}
	r, err := Audit(tr, "/m", id, Need{})
	if err != nil {
		t.Fatal(err)
	}
	if r.Files != 200 || r.ReadableFiles != 0 || len(r.Problems) != 2 {
		t.Fatalf("got %+v", r)
	}
	for _, p := range r.Problems {
		switch p.Cause {
		case CauseMode:
			if p.Count != 100 || p.DecidedBy != "other ---" || p.Need != "read" {
				t.Errorf("files: got %+v", p)
			}
		case CauseWay:
			// The folder itself, the one in it, and 100 files behind.
			if p.Count != 102 || p.Path != "/m/shut" {
				t.Errorf("folder in the way: got %+v", p)
			}
		default:
			t.Errorf("got %+v", p)
		}
	}
	each, _ := Audit(tr, "/m", id, Need{Each: true})
	if len(each.Problems) != 202 {
		t.Errorf("each: %d problems, want 202", len(each.Problems))
	}
	remedies := Remedies(tr, r, id, Who{Name: "shelfkeeper", UID: 1500, Groups: id.Groups}, Need{})
	if len(remedies) != 5 || remedies[0].ID != "join-group-44" || !remedies[0].Smallest || remedies[0].Reaches != 202 ||
		remedies[4].ID != "open" || remedies[4].Smallest {
		t.Errorf("remedies: got %+v", remedies)
	}
	// The least remedy, taken, mends what it says.
	id.Groups = append(id.Groups, 44)
	if r, _ := Audit(tr, "/m", id, Need{}); len(r.Problems) != 0 || r.ReadableFiles != 200 ||
		len(Remedies(tr, r, id, Who{}, Need{})) != 0 {
		t.Errorf("after joining: got %+v", r)
	}
}

func TestWhatIsOpenTooWideIsTold(t *testing.T) {
	tr := tree{"/m": {Folder: true, Attrs: Attrs{Mode: 0o777}}, "/m/a": {Attrs: Attrs{Mode: 0o666}},
		"/m/b": {Attrs: Attrs{Mode: 0o644, UID: 1500}}}
	r, err := Audit(tr, "/m", Identity{1500, nil}, Need{})
	if err != nil || len(r.Exposures) != 4 {
		t.Fatalf("got %+v, %v", r.Exposures, err)
	}
}

func TestQuotedPathsComeBackFromAShell(t *testing.T) {
	for _, s := range []string{"/srv/media", "a b", "it's", "$HOME", "-x;rm", "'", "`id`", "ü"} {
		out, err := exec.Command("sh", "-c", "printf %s "+Quote(s)).Output()
		if err != nil || string(out) != s {
			t.Errorf("%q came back as %q, %v", s, out, err)
		}
	}
}
