package mend

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/testbuild"

	"golang.org/x/sys/unix"
)

var keeper = permit.Identity{UID: 41001, Groups: []uint32{41001}}

// tree makes a random tree of owners, modes and, where wanted, ACLs.
func tree(t *testing.T, r *rand.Rand, acls bool) string {
	t.Helper()
	root := filepath.Join(testbuild.Folder(t), "it's a\nshelf \xff")
	folders := []string{root}
	if err := os.Mkdir(root, 0o755); err != nil {
		t.Fatal(err)
	}
	paths := []string{root}
	for i := range 4 + r.IntN(12) {
		p := filepath.Join(folders[r.IntN(len(folders))], fmt.Sprint(i))
		if r.IntN(3) == 0 {
			if err := os.Mkdir(p, 0o755); err != nil {
				t.Fatal(err)
			}
			folders = append(folders, p)
		} else if err := os.WriteFile(p, []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
		paths = append(paths, p)
	}
	ids := []uint32{0, 41001, 41002, 41003}
	pick := func() uint32 { return ids[r.IntN(len(ids))] }
	for _, p := range paths {
		if err := os.Chown(p, int(pick()), int(pick())); err != nil {
			t.Fatal(err)
		}
		if err := unix.Chmod(p, uint32(r.IntN(0o1000))|uint32(r.IntN(8))<<9&0o3000); err != nil {
			t.Fatal(err)
		}
		if acls && r.IntN(2) == 0 {
			entry := func(tag permit.Tag, id uint32) permit.Entry {
				return permit.Entry{Tag: tag, Perm: permit.Perm(r.IntN(8)), ID: id}
			}
			acl := permit.FormatACL([]permit.Entry{entry(permit.UserObj, 0), entry(permit.GroupObj, 0),
				entry(permit.Other, 0), entry(permit.Mask, 0), entry(permit.User, pick()), entry(permit.Group, pick())})
			if err := unix.Setxattr(p, "system.posix_acl_access", acl, 0); err != nil {
				t.Fatal(err)
			}
			if st, err := os.Stat(p); err == nil && st.IsDir() && r.IntN(2) == 0 {
				if err := unix.Setxattr(p, "system.posix_acl_default", acl, 0); err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	return root
}

// snapshot reads every state below a folder.
func snapshot(t *testing.T, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(root, func(p string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		h, err := machine.Hold(p)
		if err != nil {
			return err
		}
		defer h.Close()
		s, err := h.State()
		rel, _ := filepath.Rel(root, p)
		out[rel] = fmt.Sprintf("%+v", s)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func compare(t *testing.T, what string, got, want map[string]string) {
	t.Helper()
	for p, w := range want {
		if got[p] != w {
			t.Fatalf("%s: %q is %s, want %s", what, p, got[p], w)
		}
	}
	if len(got) != len(want) {
		t.Fatalf("%s: %d paths, want %d", what, len(got), len(want))
	}
}

func remedies(t *testing.T, root string, need permit.Need) (permit.Report, []permit.Remedy) {
	t.Helper()
	r, err := machine.Audit(root, keeper, need)
	if err != nil {
		t.Fatal(err)
	}
	return r, machine.Remedies(r, keeper, permit.Who{UID: keeper.UID, Groups: keeper.Groups}, need)
}

func plan(t *testing.T, list ...permit.Remedy) (*os.File, Plan) {
	t.Helper()
	f, err := os.Create(filepath.Join(t.TempDir(), "plan"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	p, err := Write(f, &machine.Tree{}, list)
	if err != nil {
		t.Fatal(err)
	}
	return f, p
}

func carry(t *testing.T, c Carrier, f *os.File) (Outcome, error) {
	t.Helper()
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		t.Fatal(err)
	}
	return c.Carry(f)
}

func needsRoot(t *testing.T) {
	t.Helper()
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give files to others")
	}
}

// TestEveryStepMayFailAndAllCanBeFinishedOrUndone cuts a mend off at every step,
// and its undoing too.
func TestEveryStepMayFailAndAllCanBeFinishedOrUndone(t *testing.T) {
	needsRoot(t)
	r := rand.New(rand.NewPCG(20261123, 5))
	cut := errors.New("cut off")
	seen := map[permit.Kind]bool{}
	for round := range 12 {
		root := tree(t, r, round%2 == 0)
		need := permit.Need{Write: round%3 == 0}
		report, list := remedies(t, root, need)
		for _, m := range list {
			if m.ByHand || m.Kind == permit.Join {
				continue
			}
			seen[m.Kind] = true
			f, p := plan(t, m)
			if p.Files > m.Files || p.Folders > m.Folders || p.Steps() == 0 {
				t.Fatalf("%s: the plan has %+v, the remedy says %d files and %d folders", m.ID, p, m.Files, m.Folders)
			}
			before := snapshot(t, root)
			if _, err := carry(t, Carrier{}, f); err != nil {
				t.Fatal(err)
			}
			after := snapshot(t, root)
			if got, _ := machine.Audit(root, keeper,
				need); got.ReadableFiles+got.ListableFolders+got.WritableFolders-report.ReadableFiles-report.ListableFolders-report.WritableFolders != m.Reaches && m.Kind != permit.ACLLater {
				t.Fatalf("%s reaches %+v, it says %d more than %+v", m.ID, got, m.Reaches, report)
			}
			if o, err := carry(t, Carrier{Back: true}, f); err != nil || o.Odds != 0 || o.Done != p.Steps() {
				t.Fatalf("undoing: %+v, %v", o, err)
			}
			compare(t, "undone", snapshot(t, root), before)
			for n := range p.Steps() {
				fail := func(i int, _ string) error {
					if i == n {
						return cut
					}
					return nil
				}
				if _, err := carry(t, Carrier{Before: fail}, f); !errors.Is(err, cut) {
					t.Fatal(err)
				}
				if n%2 == 0 {
					if o, err := carry(t, Carrier{}, f); err != nil || o.Already != n || o.Done != p.Steps()-n {
						t.Fatalf("finishing after %d: %+v, %v", n, o, err)
					}
					compare(t, "finished", snapshot(t, root), after)
					if _, err := carry(t, Carrier{Back: true, Before: fail}, f); !errors.Is(err, cut) {
						t.Fatal(err)
					}
				}
				if o, err := carry(t, Carrier{Back: true}, f); err != nil || o.Odds != 0 {
					t.Fatalf("undoing after %d: %+v, %v", n, o, err)
				}
				compare(t, "undone", snapshot(t, root), before)
			}
		}
	}
	for _, k := range []permit.Kind{permit.ACLUser, permit.ACLGroup, permit.OwnGroup, permit.Open, permit.OwnMode} {
		if !seen[k] {
			t.Errorf("no tree asked for %s", k)
		}
	}
}

// TestTheShellCommandsDoTheSame carries remedies out with the commands that are
// shown, and compares with what a plan does.
func TestTheShellCommandsDoTheSame(t *testing.T) {
	needsRoot(t)
	if _, err := exec.LookPath("setfacl"); err != nil {
		testbuild.Missing(t, "setfacl")
	}
	r := rand.New(rand.NewPCG(20261123, 6))
	for range 10 {
		root := tree(t, r, false)
		_, list := remedies(t, root, permit.Need{Write: r.IntN(2) == 0})
		for _, m := range list {
			if m.ByHand || m.Kind == permit.Join {
				continue
			}
			f, _ := plan(t, m)
			if _, err := carry(t, Carrier{}, f); err != nil {
				t.Fatal(err)
			}
			access := func() map[string]string {
				out := map[string]string{}
				for p := range snapshot(t, root) {
					it, err := (&machine.Tree{}).Item(filepath.Join(root, p))
					if err != nil {
						t.Fatal(err)
					}
					var s strings.Builder
					for _, id := range []permit.Identity{keeper, {UID: 41002, Groups: []uint32{41002}},
						{UID: 41003, Groups: []uint32{41001}}, {UID: 9, Groups: []uint32{9}}} {
						for _, want := range []permit.Perm{permit.Read, permit.Write, permit.Exec} {
							fmt.Fprint(&s, permit.Decide(id, it.Attrs, want).Granted, " ")
						}
					}
					out[p] = s.String() + fmt.Sprint(it.Special, it.Attrs.GID, len(it.Default) > 0)
				}
				return out
			}
			ours := access()
			if _, err := carry(t, Carrier{Back: true}, f); err != nil {
				t.Fatal(err)
			}
			for _, c := range m.Commands {
				if out, err := exec.Command("sh", "-c", c).CombinedOutput(); err != nil {
					t.Fatalf("%s: %v\n%s", c, err, out)
				}
			}
			theirs := access()
			if m.Kind == permit.ACLUser {
				// The commands give the owner an entry that means nothing, and take
				// from the account what it had beside: only what it needs is asked.
				for p := range ours {
					ours[p], theirs[p] = strings.Join(strings.Fields(ours[p])[3:], " "),
						strings.Join(strings.Fields(theirs[p])[3:], " ")
				}
			}
			if m.Kind != permit.OwnGroup &&
				m.Kind != permit.ACLGroup { // chgrp drops set-group-id of files; a group's own bits beside
				for p := range ours {
					if ours[p] != theirs[p] {
						t.Errorf("%s on %q: ours %s, the commands' %s", m.ID, p, ours[p], theirs[p])
					}
				}
			}
			if _, err := carry(t, Carrier{Back: true}, f); err != nil {
				t.Fatal(err)
			}
			break // the tree has had its day
		}
	}
}

// TestWhatChangedSinceIsLeftAlone changes, removes and replaces files between a
// mend and its undoing.
func TestWhatChangedSinceIsLeftAlone(t *testing.T) {
	needsRoot(t)
	root := filepath.Join(testbuild.Folder(t), "shelf")
	if err := os.Mkdir(root, 0o700); err != nil {
		t.Fatal(err)
	}
	file := func(name string) string { return filepath.Join(root, name) }
	secret := filepath.Join(testbuild.Folder(t), "secret")
	for _, p := range []string{file("a"), file("b"), file("c"), file("d"), file("e"), file("f"), secret} {
		if err := os.WriteFile(p, []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	_, list := remedies(t, root, permit.Need{})
	var open permit.Remedy
	for _, m := range list {
		if m.Kind == permit.Open {
			open = m
		}
	}
	f, p := plan(t, open)
	if p.Files != 6 || p.Folders != 1 {
		t.Fatalf("the plan: %+v", p)
	}
	// One is turned into a link to a secret before the mend comes to it.
	if err := errors.Join(os.Remove(file("f")), os.Symlink(secret, file("f"))); err != nil {
		t.Fatal(err)
	}
	if o, err := carry(t, Carrier{}, f); err != nil || o.Done != 6 || o.Odds != 1 || o.Odd[0].Path != file("f") {
		t.Fatalf("mending: %+v, %v", o, err)
	}
	if st, err := os.Stat(secret); err != nil || st.Mode().Perm() != 0o600 {
		t.Fatalf("the secret is %v, %v", st.Mode(), err)
	}
	if err := errors.Join(os.Chmod(file("a"), 0o640), os.Remove(file("b")), os.Remove(file("c")),
		os.WriteFile(file("c"), nil, 0o644)); err != nil {
		t.Fatal(err)
	}
	o, err := carry(t, Carrier{Back: true, Dry: true}, f)
	if err != nil || o.Odds != 4 || o.Done != 3 {
		t.Fatalf("looking: %+v, %v", o, err)
	}
	if o, err = carry(t, Carrier{Back: true}, f); err != nil || o.Odds != 4 || o.Done != 3 {
		t.Fatalf("undoing: %+v, %v", o, err)
	}
	for name, mode := range map[string]os.FileMode{"a": 0o640, "d": 0o600, "e": 0o600} {
		if st, err := os.Stat(file(name)); err != nil || st.Mode().Perm() != mode {
			t.Errorf("%s is %v, %v, want %v", name, st.Mode(), err, mode)
		}
	}
	if st, err := os.Stat(root); err != nil || st.Mode().Perm() != 0o700 {
		t.Errorf("the folder is %v, %v", st.Mode(), err)
	}
}

func TestAPlanThatIsCutOffDoesNothing(t *testing.T) {
	root := filepath.Join(testbuild.Folder(t), "shelf")
	if err := errors.Join(os.Mkdir(root, 0o700), os.WriteFile(filepath.Join(root, "a"), nil, 0o600)); err != nil {
		t.Fatal(err)
	}
	m := permit.Remedy{Kind: permit.Open, Targets: []permit.Target{{Path: root, Deep: true}}}
	f, _ := plan(t, m)
	whole, err := os.ReadFile(f.Name())
	if err != nil {
		t.Fatal(err)
	}
	before := snapshot(t, root)
	for n := range whole[:len(whole)-1] {
		if _, err := (Carrier{}).Carry(strings.NewReader(string(whole[:n]))); err == nil {
			t.Fatalf("a plan of %d of %d bytes was carried out", n, len(whole))
		}
	}
	compare(t, "after plans that were cut off", snapshot(t, root), before)
}

func FuzzPlan(f *testing.F) {
	f.Add([]byte(`{"path":"/a","inode":1,"was":{"mode":"0600","uid":0,"gid":0},"now":{"mode":"0644","uid":0,"gid":0,"acl":"AgAAAA=="}}` + "\n" + `{"steps":1}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		n := 0
		if err := Read(strings.NewReader(string(b)), func(s Step) error {
			n++
			if s.Was.Mode > 0o7777 || s.Now.Mode > 0o7777 {
				t.Fatalf("mode %o", s.Was.Mode)
			}
			return nil
		}); err == nil && n > len(b)/10 {
			t.Fatalf("%d steps of %d bytes", n, len(b))
		}
	})
}
