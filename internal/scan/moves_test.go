package scan

import (
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/household"
)

// idsByContent gives the id of the file that holds each content; the contents on disk
// are told apart by their text.
func idsByContent(t *testing.T, root string, files map[string]int64) map[string]int64 {
	t.Helper()
	out := map[string]int64{}
	for p, id := range files {
		b, err := os.ReadFile(filepath.Join(root, p))
		if err != nil {
			t.Fatalf("the store knows %s: %v", p, err)
		}
		out[string(b)] = id
	}
	return out
}

// TestMovedFilesStayWhatTheyAre moves, renames, swaps, replaces and removes files and
// folders at random. Whatever content is there before and after is the same file. With
// odd seeds only the places are looked at where something happened, as by a watch.
func TestMovedFilesStayWhatTheyAre(t *testing.T) {
	for seed := range uint64(12) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			rnd := rand.New(rand.NewPCG(seed, 7))
			s, root := open(t), t.TempDir()
			sh := shelf(root)
			sh.Kind = household.Recordings
			files := func() (list []string) {
				_ = filepath.WalkDir(root, func(p string, d os.DirEntry, err error) error { // a temporary folder
					if err == nil && d.Type().IsRegular() {
						list = append(list, p)
					}
					return nil
				})
				return list
			}
			var touched []Place
			touch := func(p string, deep bool) {
				rel, err := filepath.Rel(root, p)
				if err != nil {
					t.Fatal(err)
				}
				if rel == "." {
					rel = ""
				}
				touched = append(touched, Place{rel, deep})
			}
			n := 0
			add := func(dir string) {
				n++
				p := filepath.Join(dir, fmt.Sprintf("clip %d.jpg", rnd.IntN(12)))
				touch(dir, true)
				write(t, p, []byte(fmt.Sprintf("content %d %s", n, strings.Repeat("x", rnd.IntN(3)))))
				at := time.Now().Add(time.Duration(n) * time.Second)
				if err := os.Chtimes(p, at, at); err != nil {
					t.Fatal(err)
				}
			}
			dirs := []string{root, filepath.Join(root, "a"), filepath.Join(root, "a", "b"), filepath.Join(root, "c")}
			for range 8 {
				add(dirs[rnd.IntN(len(dirs))])
			}
			known := func() map[string]int64 {
				t.Helper()
				if seed%2 == 1 && len(touched) > 0 {
					_, err := Shelf(ctx, s, sh,
						Options{Log: slog.New(slog.DiscardHandler), Only: &Part{Shown: sh.Shown[0], Places: touched}})
					if err != nil {
						t.Fatal(err)
					}
				} else {
					run(t, s, sh)
				}
				touched = nil
				list, err := s.ShelfFiles(ctx, "films")
				if err != nil {
					t.Fatal(err)
				}
				at := map[string]int64{}
				for _, f := range list {
					at[f.Path] = f.ID
				}
				if len(at) != len(files()) {
					t.Fatalf("the store knows %d files, there are %d", len(at), len(files()))
				}
				return idsByContent(t, root, at)
			}
			before := known()
			for round := range 12 {
				var did []string
				for range 1 + rnd.IntN(4) {
					list := files()
					if len(list) == 0 {
						break
					}
					p, q := list[rnd.IntN(len(list))], list[rnd.IntN(len(list))]
					to := filepath.Join(dirs[rnd.IntN(len(dirs))], fmt.Sprintf("clip %d.jpg", rnd.IntN(12)))
					rename := func(from, to string) {
						touch(filepath.Dir(from), false)
						touch(from, true)
						touch(to, true)
						touch(filepath.Dir(to), false)
						if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
							t.Fatal(err)
						}
						if err := os.Rename(from, to); err != nil {
							t.Fatal(err)
						}
						did = append(did, strings.ReplaceAll(from+" → "+to, root, ""))
					}
					switch rnd.IntN(6) {
					case 0, 1:
						rename(p, to)
					case 2: // swap
						rename(p, p+".tmp")
						if p != q {
							rename(q, p)
							rename(p+".tmp", q)
						} else {
							rename(p+".tmp", p)
						}
					case 3:
						did = append(did, "rm "+p)
						touch(filepath.Dir(p), false)
						if err := os.Remove(p); err != nil {
							t.Fatal(err)
						}
					case 4:
						did = append(did, "add")
						add(dirs[rnd.IntN(len(dirs))])
					case 5: // a folder
						if filepath.Dir(p) != root {
							rename(filepath.Dir(p), filepath.Join(root, fmt.Sprintf("d%d", rnd.Uint32())))
						}
					}
				}
				after := known()
				for content, id := range before {
					if now, there := after[content]; there && now != id {
						t.Fatalf("round %d: %q was file %d and is %d, after %q", round, content, id, now, did)
					}
				}
				seen := map[int64]bool{}
				for id := range maps.Values(after) {
					if seen[id] {
						t.Fatalf("file %d is two", id)
					}
					seen[id] = true
				}
				before = after
			}
		})
	}
}

// TestADiskMountedElsewhereKeepsPlaces has the files of a shelf come back under another
// folder, as new files with other inodes, and under another name of the shelf.
func TestADiskMountedElsewhereKeepsPlaces(t *testing.T) {
	s, old, other := open(t), t.TempDir(), filepath.Join(t.TempDir(), "disk2")
	for _, n := range []string{"The Understudy Moon (1996).mp4", "Copper Kite (2003).mkv"} {
		copyClip(t, n, filepath.Join(old, n))
	}
	run(t, s, shelf(old))
	first, err := s.ShelfFiles(ctx, "films")
	if err != nil || len(first) != 2 {
		t.Fatalf("got %v, %v", first, err)
	}
	if out, err := exec.Command("cp", "-r", old, other).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	sh := shelf(other)
	sh.Name = "cinema"
	if err := s.DropShelves(ctx, map[[2]string]bool{{"cinema", other}: true}, time.Now()); err != nil {
		t.Fatal(err)
	}
	if r := run(t, s, sh); r.Moved != 2 || r.New != 0 {
		t.Errorf("got %+v", r)
	}
	now, err := s.ShelfFiles(ctx, "cinema")
	if err != nil || len(now) != 2 || now[0].ID != first[0].ID || now[1].ID != first[1].ID {
		t.Errorf("got %v, were %v, %v", now, first, err)
	}
}

func TestSamplesAreLeftOutAndSubtitlesSeen(t *testing.T) {
	s, dir := open(t), t.TempDir()
	const moon = "The Understudy Moon (1996)"
	copyClip(t, moon+".mp4", filepath.Join(dir, moon+".mp4"))
	copyClip(t, moon+".mp4", filepath.Join(dir, "Sample", "sample.mp4"))
	copyClip(t, moon+".mp4", filepath.Join(dir, moon+"-sample.mp4"))
	write(t, filepath.Join(dir, moon+".lv.forced.srt"), []byte("1"))
	r := run(t, s, shelf(dir))
	if r.Files != 1 || r.New != 1 || r.Samples != 2 {
		t.Errorf("got %+v", r)
	}
	look := func(want string) {
		t.Helper()
		list, err := s.ShelfFiles(ctx, "films")
		if err != nil || len(list) != 1 {
			t.Fatalf("got %v, %v", list, err)
		}
		got := ""
		for _, b := range list[0].Beside {
			got += b.Name + " " + b.Language + " "
		}
		if got != want {
			t.Errorf("beside it: %q, want %q", got, want)
		}
	}
	look(moon + ".lv.forced.srt lv ")
	write(t, filepath.Join(dir, moon+".en.srt"), []byte("1"))
	if r := run(t, s, shelf(dir)); r.Files != 1 || r.Samples != 2 || r.Changed != 0 {
		t.Errorf("again: %+v", r)
	}
	look(moon + ".en.srt en " + moon + ".lv.forced.srt lv ")
	if r := run(t, s, shelf(dir)); r.Files != 1 || r.Samples != 2 {
		t.Errorf("unchanged: %+v", r)
	}
}
