package probe

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/testbuild"
)

// me is the account that runs the tests.
func me() permit.Identity {
	id := permit.Identity{UID: uint32(os.Getuid()), Groups: []uint32{uint32(os.Getgid())}}
	groups, _ := os.Getgroups()
	for _, g := range groups {
		id.Groups = append(id.Groups, uint32(g))
	}
	return id
}

func try(t *testing.T, spec Spec) ([]permit.Proof, []permit.Trial) {
	t.Helper()
	var out bytes.Buffer
	if err := Run(spec, &out); err != nil {
		t.Fatal(err)
	}
	var trials []permit.Trial
	sums, err := Read(&out, len(spec.Folders), func(_ int, tr permit.Trial) { trials = append(trials, tr) }, nil)
	if err != nil {
		t.Fatal(err)
	}
	return sums, trials
}

func tree(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(testbuild.Folder(t), "shelf")
	for _, p := range []string{"a/b", "c"} {
		if err := os.MkdirAll(filepath.Join(dir, p), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for _, p := range []string{"1", "a/2", "a/b/3", "a/b/new\nline", "c/\xff\xfe", "c/empty", "c/" +
		strings.Repeat("n", 255)} {
		if err := os.WriteFile(filepath.Join(dir, p), []byte("x"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(os.Truncate(filepath.Join(dir, "c/empty"), 0),
		os.Symlink("/etc/shadow", filepath.Join(dir, "link")),
		os.Symlink("loop", filepath.Join(dir, "loop"))); err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestEveryFileIsReallyOpened(t *testing.T) {
	dir := tree(t)
	sums, trials := try(t, Spec{Folders: []Folder{{Path: dir, Write: true}}})
	want := permit.Proof{Files: 7, Folders: 4, Tried: 7, Read: 7, Listed: 4, Written: 4}
	if fmt.Sprintf("%+v", sums[0]) != fmt.Sprintf("%+v", want) || len(trials) != 0 {
		t.Errorf("got %+v, %+v, want %+v", sums[0], trials, want)
	}
	left := 0
	err := filepath.WalkDir(dir, func(p string, _ os.DirEntry, err error) error {
		if strings.Contains(p, "probe") {
			left++
		}
		return err
	})
	if err != nil || left != 0 {
		t.Errorf("%d files of the probe are left, %v", left, err)
	}
}

func TestWhatIsLeftAsideIsNotTried(t *testing.T) {
	dir := tree(t)
	held := filepath.Join(dir, "a/.held/job")
	if err := errors.Join(os.MkdirAll(held, 0),
		os.WriteFile(filepath.Join(dir, ".held"), []byte("a file of that name is one like others"), 0)); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.Chmod(held, 0o700) })
	for _, sample := range []int{0, 100} {
		sums, _ := try(t, Spec{Folders: []Folder{{Path: dir}}, Sample: sample, Aside: ".held"})
		if s := sums[0]; s.Files != 8 || s.Folders != 4 || s.Listed != 4 {
			t.Errorf("sample %d: got %+v, want 8 files in 4 folders", sample, s)
		}
	}
}

func TestASampleIsFair(t *testing.T) {
	dir := filepath.Join(testbuild.Folder(t), "shelf")
	for i := range 20 {
		p := filepath.Join(dir, fmt.Sprint(i%4), fmt.Sprint(i))
		if err := errors.Join(os.MkdirAll(filepath.Dir(p), 0o755), os.WriteFile(p, []byte("x"), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	met := map[string]int{}
	const rounds = 600
	for seed := range rounds {
		sums, trials := try(t, Spec{Folders: []Folder{{Path: dir}}, Sample: 5, Seed: uint64(seed)})
		files := 0
		for _, tr := range trials {
			if tr.Kind == "file" {
				met[tr.Path]++
				files++
			}
		}
		if files != 5 || sums[0].Tried != 5 || sums[0].Files != 20 {
			t.Fatalf("got %d trials, %+v", files, sums[0])
		}
	}
	// Each of 20 files has one chance in four: 150 times of 600, with a standard
	// deviation of 10.6; the seeds are fixed, so this holds always or never.
	for p, n := range met {
		if n < 110 || n > 190 {
			t.Errorf("%s was chosen %d times of %d, want about 150", p, n, rounds)
		}
	}
	if len(met) != 20 {
		t.Errorf("%d of 20 files were ever chosen", len(met))
	}
}

// TestTrialsAndComputationAreCompared lets what was computed be of another time
// than what is tried.
func TestTrialsAndComputationAreCompared(t *testing.T) {
	if testbuild.AsOther(t) { // root would not fail
		return
	}
	dir := tree(t)
	shut := func(mode os.FileMode, names ...string) {
		for _, n := range names {
			if err := os.Chmod(filepath.Join(dir, n), mode); err != nil {
				t.Fatal(err)
			}
		}
	}
	compute := func(sample bool) *permit.Proving {
		p := permit.NewProving(dir, sample)
		if _, err := machine.Audit(dir, me(), permit.Need{Write: true, Fails: p.Fails}); err != nil {
			t.Fatal(err)
		}
		return p
	}
	against := func(p *permit.Proving, sample int) []permit.Disagreement {
		_, trials := try(t, Spec{Folders: []Folder{{Path: dir, Write: true}}, Sample: sample})
		for _, tr := range trials {
			p.Tried(tr)
		}
		return p.End(func(string) bool { return true })
	}
	shut(0, "1", "a/b", "c/\xff\xfe")
	for _, sample := range []int{0, 100} {
		if d := against(compute(sample > 0), sample); len(d) != 0 {
			t.Errorf("sample %d: there is nothing to disagree about: %+v", sample, d)
		}
	}
	early := compute(false)
	shut(0o644, "1", "c/\xff\xfe")
	shut(0o755, "a/b")
	shut(0, "a/2")
	got := map[string]bool{}
	for _, d := range against(early, 0) {
		got[fmt.Sprintf("%s %s: computed %v, kernel %v", d.Need, strings.TrimPrefix(d.Path, dir), d.Computed,
			d.Kernel)] = true
	}
	want := []string{"read /1: computed false, kernel true", "read /a/2: computed true, kernel false",
		"list /a/b: computed false, kernel true", "read /c/\xff\xfe: computed false, kernel true"}
	for _, w := range want {
		if !got[w] {
			t.Errorf("got %v, want %q in it", got, w)
		}
	}
	if len(got) != len(want) {
		t.Errorf("got %v, want %d", got, len(want))
	}
}

func TestAProbeThatWasCutOffIsNoProof(t *testing.T) {
	var out bytes.Buffer
	if err := Run(Spec{Folders: []Folder{{Path: tree(t)}, {Path: "/nowhere"}}}, &out); err != nil {
		t.Fatal(err)
	}
	whole := out.String()
	for n := range whole[:len(whole)-1] {
		if _, err := Read(strings.NewReader(whole[:n]), 2, func(int, permit.Trial) {}, nil); err == nil {
			t.Fatalf("%d of %d bytes were taken for a proof", n, len(whole))
		}
	}
}

func TestHowManyWereOpenedIsTold(t *testing.T) {
	said := `{"folder":0,"opened":5}
{"folder":0,"path":"x","kind":"file","need":"read","why":"no"}
{"folder":0,"opened":9}
{"folder":0,"sums":{"files":12,"tried":12}}
{"folder":1,"opened":3}
{"folder":1,"sums":{"files":4,"tried":4}}
`
	var opened []int
	trials := 0
	sums, err := Read(strings.NewReader(said), 2, func(int, permit.Trial) { trials++ },
		func(n int) { opened = append(opened, n) })
	if err != nil || trials != 1 || sums[0].Tried != 12 || sums[1].Tried != 4 {
		t.Fatalf("got %v, %d trials, %v", sums, trials, err)
	}
	if want := []int{5, 9, 12, 15, 16}; !slices.Equal(opened, want) {
		t.Errorf("opened: got %v, want %v", opened, want)
	}
}
