package scan

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/store"
)

var ctx = context.Background()

const clips = "../demo/clips/films"

func open(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(ctx, filepath.Join(t.TempDir(), "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func shelf(roots ...string) blueprint.SettingsShelf {
	return blueprint.SettingsShelf{Name: "films", Kind: household.Films, Folders: roots, Shown: roots}
}

func run(t testing.TB, s *store.Store, sh blueprint.SettingsShelf) Report {
	t.Helper()
	r, err := Shelf(ctx, s, sh, Options{Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// copyClip puts a shipped film somewhere.
func copyClip(t testing.TB, name, to string) {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(clips, name))
	if err != nil {
		t.Fatal(err)
	}
	write(t, to, b)
}

func write(t testing.TB, to string, b []byte) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(to, b, 0o644); err != nil {
		t.Fatal(err)
	}
}

func problems(t *testing.T, s *store.Store) map[string]string {
	t.Helper()
	list, err := s.ShelfFiles(ctx, "films")
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, f := range list {
		if f.Problem != "" {
			out[f.Path] = f.Problem
		}
	}
	return out
}

func TestScansFollowWhatHappensOnDisk(t *testing.T) {
	s, dir := open(t), t.TempDir()
	const moon = "The Understudy Moon (1996).mp4"
	copyClip(t, moon, filepath.Join(dir, moon))
	copyClip(t, "A Ferry to Somewhere (1987).mkv", filepath.Join(dir, "sub", "A Ferry to Somewhere (1987).mkv"))
	write(t, filepath.Join(dir, "notes.txt"), []byte("x"))
	write(t, filepath.Join(dir, ".hidden.mp4"), []byte("x"))
	want := func(what string, got Report, n, c, g, files int) {
		t.Helper()
		if got.New != n || got.Changed != c || got.Gone != g || got.Files != files {
			t.Errorf("%s: got %+v, want %d new, %d changed, %d gone of %d", what, got, n, c, g, files)
		}
	}
	want("first", run(t, s, shelf(dir)), 2, 0, 0, 2)
	want("unchanged", run(t, s, shelf(dir)), 0, 0, 0, 2)
	list, err := s.ShelfFiles(ctx, "films")
	if err != nil || len(list) != 2 || list[1].Duration < 11.9 || list[1].Media.First("video").Codec != "h264" {
		t.Fatalf("got %+v, %v", list, err)
	}
	id := list[1].ID
	if err := os.Remove(filepath.Join(dir, moon)); err != nil {
		t.Fatal(err)
	}
	want("removed", run(t, s, shelf(dir)), 0, 0, 1, 1)
	copyClip(t, moon, filepath.Join(dir, moon))
	want("back again", run(t, s, shelf(dir)), 1, 0, 0, 2)
	if list, _ = s.ShelfFiles(ctx, "films"); list[1].ID != id {
		t.Errorf("a file that came back is another: %d, was %d", list[1].ID, id)
	}
	copyClip(t, "Copper Kite (2003).mkv", filepath.Join(dir, moon))
	want("replaced", run(t, s, shelf(dir)), 0, 1, 0, 2)
	if err := os.RemoveAll(filepath.Join(dir, "sub")); err != nil {
		t.Fatal(err)
	}
	want("folder removed", run(t, s, shelf(dir)), 0, 0, 1, 1)
	want("and again", run(t, s, shelf(dir)), 0, 0, 0, 1)
}

func TestAShelfThatIsAwayKeepsWhatWasKnown(t *testing.T) {
	s, dir := open(t), filepath.Join(t.TempDir(), "disk")
	copyClip(t, "Copper Kite (2003).mkv", filepath.Join(dir, "Copper Kite (2003).mkv"))
	run(t, s, shelf(dir))
	if err := os.Rename(dir, dir+"-unplugged"); err != nil {
		t.Fatal(err)
	}
	if r := run(t, s, shelf(dir)); len(r.Unplugged) != 1 || r.Gone != 0 {
		t.Errorf("got %+v", r)
	}
	if list, _ := s.Titles(ctx, "films"); len(list) != 1 {
		t.Errorf("the titles are lost: %+v", list)
	}
}

func TestWhatCannotBeReadIsKeptWithItsReason(t *testing.T) {
	s, dir := open(t), t.TempDir()
	whole, err := os.ReadFile(filepath.Join(clips, "The Understudy Moon (1996).mp4"))
	if err != nil {
		t.Fatal(err)
	}
	odd := map[string][]byte{
		"cut (2001).mp4":      whole[:600],
		"empty (2002).mkv":    {},
		"archive (2003).mp4":  []byte("PK\x03\x04 not a film at all"),
		"odd\nname\xff.mp4":   whole,
		"unopened (2004).avi": []byte("RIFF"),
	}
	for name, b := range odd {
		write(t, filepath.Join(dir, name), b)
	}
	if err := os.Symlink("/etc/passwd", filepath.Join(dir, "linked (2005).mp4")); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mkfifo", filepath.Join(dir, "pipe (2006).mp4")).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	r := run(t, s, shelf(dir))
	if r.Files != 6 || r.Unreadable != 4 {
		t.Errorf("got %+v", r)
	}
	got := problems(t, s)
	for name, says := range map[string]string{"cut (2001).mp4": "ends", "empty (2002).mkv": "empty",
		"archive (2003).mp4": "no form", "linked (2005).mp4": "symbolic link"} {
		if !strings.Contains(got[name], says) {
			t.Errorf("%s: got %q, want it to say %q", name, got[name], says)
		}
	}
	// What is mended is noticed, what is not stays told.
	write(t, filepath.Join(dir, "cut (2001).mp4"), whole)
	if r := run(t, s, shelf(dir)); r.Changed != 1 || r.Unreadable != 3 {
		t.Errorf("after mending one: got %+v", r)
	}
	if got := problems(t, s)["cut (2001).mp4"]; got != "" {
		t.Errorf("still told: %q", got)
	}
}

// TestScanFindsWhatFindFinds compares a scan of random trees with find(1).
func TestScanFindsWhatFindFinds(t *testing.T) {
	s, dir := open(t), t.TempDir()
	for i := range 300 {
		write(t, filepath.Join(dir, fmt.Sprint(i%7), fmt.Sprint(i%11),
			fmt.Sprintf("Film %d (20%02d).%s", i, i%24, []string{"mp4", "mkv", "txt"}[i%3])), []byte("x"))
	}
	for round := range 4 {
		r := run(t, s, shelf(dir))
		out, err := exec.Command("find", dir, "-type", "f", "(", "-name", "*.mp4", "-o", "-name", "*.mkv", ")",
			"-printf", "%P %s\n").Output()
		if err != nil {
			t.Fatal(err)
		}
		want := map[string]bool{}
		for _, l := range strings.Split(strings.TrimSpace(string(out)), "\n") {
			want[l] = true
		}
		list, err := s.ShelfFiles(ctx, "films")
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range list {
			k := fmt.Sprintf("%s %d", f.Path, f.Size)
			if !want[k] {
				t.Errorf("round %d: %s is not there", round, k)
			}
			delete(want, k)
		}
		if len(want) > 0 || r.Files != len(list) {
			t.Errorf("round %d: %d files were not found; report %+v", round, len(want), r)
		}
		for i := round; i < 300; i += 5 + round {
			p := filepath.Join(dir, fmt.Sprint(i%7), fmt.Sprint(i%11),
				fmt.Sprintf("Film %d (20%02d).%s", i, i%24, []string{"mp4", "mkv", "txt"}[i%3]))
			if i%2 == 0 {
				os.Remove(p)
			} else {
				write(t, p, []byte("longer"))
			}
		}
	}
}

// BenchmarkScan scans 20,000 files: anew into a fresh store, and again with
// nothing changed.
func BenchmarkScan(b *testing.B) {
	dir := b.TempDir()
	const moon = "The Understudy Moon (1996).mp4"
	copyClip(b, moon, filepath.Join(dir, moon))
	for i := range 20000 {
		sub := filepath.Join(dir, fmt.Sprint(i/100))
		if i%100 == 0 {
			if err := os.Mkdir(sub, 0o755); err != nil {
				b.Fatal(err)
			}
		}
		if err := os.Link(filepath.Join(dir, moon),
			filepath.Join(sub, fmt.Sprintf("Film %d (2001).mp4", i))); err != nil {
			b.Fatal(err)
		}
	}
	b.Run("first", func(b *testing.B) {
		for b.Loop() {
			s := open(b)
			if r := run(b, s, shelf(dir)); r.New != 20001 {
				b.Fatalf("got %+v", r)
			}
		}
		b.ReportMetric(20001*float64(b.N)/b.Elapsed().Seconds(), "files/s")
	})
	b.Run("unchanged", func(b *testing.B) {
		s := open(b)
		run(b, s, shelf(dir))
		for b.Loop() {
			if r := run(b, s, shelf(dir)); r.New+r.Changed+r.Gone != 0 {
				b.Fatalf("got %+v", r)
			}
		}
		b.ReportMetric(20001*float64(b.N)/b.Elapsed().Seconds(), "files/s")
	})
}

// TestAReportNamesWhatItFound tells of each sort by name, and of moves not as gone.
func TestAReportNamesWhatItFound(t *testing.T) {
	s, dir := open(t), t.TempDir()
	const moon, kite = "The Understudy Moon (1996).mp4", "Copper Kite (2003).mkv"
	copyClip(t, moon, filepath.Join(dir, "a", moon))
	copyClip(t, kite, filepath.Join(dir, kite))
	write(t, filepath.Join(dir, "Broken (2001).mp4"), []byte("nothing of the sort"))
	seen := func(want ...string) {
		t.Helper()
		r := run(t, s, shelf(dir))
		got := []string{}
		for _, x := range r.Noted {
			if (x.Why == "") == (x.What == "unreadable" || x.What == "unclear") {
				t.Errorf("%+v: why?", x)
			}
			got = append(got, x.What+" "+strings.TrimPrefix(x.Path, dir+"/"))
		}
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Errorf("got %q, want %q", got, want)
		}
	}
	seen("new a/"+moon, "new "+kite, "new Broken (2001).mp4", "unreadable Broken (2001).mp4")
	if err := os.Rename(filepath.Join(dir, "a", moon), filepath.Join(dir, "b.mp4")); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"Broken (2001).mp4", kite, "a"} {
		if err := os.RemoveAll(filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	seen("moved b.mp4", "unclear b.mp4", "gone Broken (2001).mp4", "gone "+kite)
	for n := range 3 * mostNoted {
		write(t, filepath.Join(dir, "many", fmt.Sprintf("Film %d (2001).avi", n)), []byte(fmt.Sprint(n)))
	}
	if r := run(t, s, shelf(dir)); len(r.Noted) != mostNoted || r.New != 3*mostNoted {
		t.Errorf("%d named of %d", len(r.Noted), r.New)
	}
	if err := os.RemoveAll(filepath.Join(dir, "many")); err != nil {
		t.Fatal(err)
	}
	seen("gone many/")
}

// TestCopiesAndTrailersAreNoParts has a film twice, with a trailer beside it: it is one part, and
// as long as the film.
func TestCopiesAndTrailersAreNoParts(t *testing.T) {
	dir := t.TempDir()
	at := filepath.Join(dir, "Copper Kite (2003)")
	copyClip(t, "Copper Kite (2003).mkv", filepath.Join(at, "Copper Kite (2003) [720p].mkv"))
	copyClip(t, "Copper Kite (2003).mkv", filepath.Join(at, "Copper Kite (2003) [1080p].mkv"))
	copyClip(t, "A Ferry to Somewhere (1987).mkv", filepath.Join(at, "trailers", "Copper Kite.mkv"))
	s := open(t)
	run(t, s, shelf(dir))
	list, err := s.Titles(ctx, "films")
	if err != nil || len(list) != 1 {
		t.Fatalf("got %+v, %v", list, err)
	}
	files, err := s.Files(ctx, list[0].ID, 0)
	if err != nil || len(files) != 3 {
		t.Fatalf("files: %+v, %v", files, err)
	}
	if k := list[0]; k.Parts != 1 || k.Duration < 13 || k.Duration > 15 {
		t.Errorf("%d parts, %.1f s", k.Parts, k.Duration)
	}
	page, err := s.TitlePage(ctx, store.Wanted{Shelf: "films", Limit: 5})
	if err != nil || len(page.Titles) != 1 || page.Titles[0].Duration != list[0].Duration || page.Titles[0].Parts != 1 {
		t.Errorf("on a page: %+v, %v", page.Titles, err)
	}
}
