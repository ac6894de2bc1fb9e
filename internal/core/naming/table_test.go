package naming

import (
	"bufio"
	"math/rand/v2"
	"os"
	"path"
	"strings"
	"testing"

	"cozyshelf/internal/core/household"
)

// entry is one name of the table with the reading that is expected.
type entry struct {
	kind household.Kind
	path string
	want Reading
}

func table(t testing.TB) []entry { return tableOf(t, "names.tsv") }

func tableOf(t testing.TB, name string) []entry {
	t.Helper()
	f, err := os.Open("testdata/" + name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	var out []entry
	for s := bufio.NewScanner(f); s.Scan(); {
		if strings.HasPrefix(s.Text(), "#") {
			continue
		}
		cells := strings.Split(s.Text(), "\t")
		e := entry{household.Kind(cells[0]), cells[1], Reading{Clear: true}}
		for _, c := range cells[2:] {
			key, v, _ := strings.Cut(c, "=")
			w := &e.want
			switch key {
			case "title":
				w.Title = v
			case "year":
				w.Year = number(v)
			case "by":
				w.By = v
			case "season":
				w.Season = number(v)
			case "episode":
				w.Episode = number(v)
			case "last":
				w.Last = number(v)
			case "disc":
				w.Disc = number(v)
			case "piece":
				w.Piece = number(v)
			case "date":
				w.Date = v
			case "part":
				w.Part = v
			case "edition":
				w.Edition = v
			case "quality":
				w.Quality = v
			case "id":
				w.ID = v
			case "extra":
				w.Extra = v
			case "sample":
				w.Sample = true
			case "unclear":
				w.Clear = false
			default:
				t.Fatalf("%s: %q is no key", e.path, key)
			}
		}
		out = append(out, e)
	}
	return out
}

// bare leaves out how a name was read.
func bare(r Reading) Reading {
	r.Why, r.Confidence = "", 0
	return r
}

func TestTheTableOfNames(t *testing.T) {
	list := table(t)
	if len(list) < 400 {
		t.Fatalf("only %d names", len(list))
	}
	for _, e := range list {
		got := Read(e.kind, e.path)
		if got.Why == "" || got.Confidence <= 0 || got.Confidence > 1 {
			t.Errorf("%s: why %q, confidence %v", e.path, got.Why, got.Confidence)
		}
		if bare(got) != e.want {
			t.Errorf("%s %s\n got  %+v\n want %+v", e.kind, e.path, bare(got), e.want)
		}
	}
}

// right reports whether a reading holds what a name's own title and numbers are. The name of
// a part counts where the table has one; what is said of the copy never does.
func right(e entry) (Reading, bool) {
	got := Read(e.kind, e.path)
	is, want := bare(got), e.want
	is.Quality, is.Clear, want.Clear = "", false, false
	if want.Part == "" {
		is.Part = ""
	}
	return got, is == want
}

// TestTheTunedNames reads all of them right.
func TestTheTunedNames(t *testing.T) {
	for _, e := range tableOf(t, "tuned.tsv") {
		if got, ok := right(e); !ok {
			t.Errorf("%s %s\n got  %+v\n want %+v", e.kind, e.path, got, e.want)
		}
	}
}

// TestNamesThatNobodyTunedOn counts how many are read right of names that were written down
// before the reading was changed, and holds how sure it was against that.
func TestNamesThatNobodyTunedOn(t *testing.T) {
	for _, name := range []string{"apart.tsv", "fresh.tsv"} {
		measure(t, name)
	}
}

// measure counts how many names of a list are read right.
func measure(t *testing.T, name string) {
	list := tableOf(t, name)
	good, sure, sureAndRight := 0, 0, 0
	var wrong []string
	for _, e := range list {
		got, ok := right(e)
		if ok {
			good++
		} else {
			wrong = append(wrong, string(e.kind)+" "+e.path)
		}
		if got.Confidence >= 0.9 {
			if sure++; ok {
				sureAndRight++
			}
		}
	}
	t.Logf("%s: %d of %d right; of %d called 90 %% sure %d", name, good, len(list), sure, sureAndRight)
	if good*100 < 95*len(list) {
		t.Errorf("%s: only %d of %d are read right; wrong are:\n%s", name, good, len(list), strings.Join(wrong, "\n"))
	}
	if sureAndRight*100 < 95*sure {
		t.Errorf("%s: of %d that were called 90 %% sure, only %d are right", name, sure, sureAndRight)
	}
}

// stable checks that a reading's canonical name is read as the same again, and has
// itself for its canonical name.
func stable(t *testing.T, kind household.Kind, from string) {
	t.Helper()
	if t0 := Read(kind, from).Title; kind == household.Series &&
		(episodeIn.MatchString(t0) || crossIn.MatchString(t0) || dateIn.MatchString(t0)) {
		return // a show that is called like an episode
	}
	first := Canonical(kind, Read(kind, from), ".mkv")
	if first == "" {
		return // there is none
	}
	r := Read(kind, first)
	again := Canonical(kind, r, ".mkv")
	if again != first {
		t.Errorf("%s: %q\n first %q\n then  %q", kind, from, first, again)
	}
	if bare(Read(kind, again)) != bare(r) {
		t.Errorf("%s: %q: read as %+v, then as %+v", kind, from, r, Read(kind, again))
	}
	for _, part := range strings.Split(first, "/") {
		if part == "" || part == "." || part == ".." || len(part) > 255 ||
			strings.ContainsAny(part, "\\:*?\"<>|\x00\n") || strings.HasSuffix(part, ".") ||
			strings.HasSuffix(part, " ") {
			t.Errorf("%s: %q gives %q, which some file systems do not take", kind, from, first)
		}
	}
}

func TestCanonicalNamesAreStable(t *testing.T) {
	for _, e := range table(t) {
		if e.want.Sample {
			continue // it is left out, and has no name of its own
		}
		stable(t, e.kind, e.path)
		if name := Canonical(e.kind, Read(e.kind, e.path), ".mkv"); name == "" && e.want.Clear {
			t.Errorf("%s %s has no canonical name", e.kind, e.path)
		}
		// What was understood survives being renamed.
		got := Read(e.kind, Canonical(e.kind, e.want, path.Ext(e.path)))
		if got.Title != fit(e.want.Title) || got.Year != e.want.Year || got.Season != e.want.Season ||
			got.Episode != e.want.Episode || got.Last != e.want.Last || got.ID != e.want.ID {
			if e.want.Clear {
				t.Errorf("%s %s becomes %s, read as %+v", e.kind, e.path, Canonical(e.kind, e.want, path.Ext(e.path)),
					got)
			}
		}
	}
}

// TestCanonicalNamesOfAnything puts names together from pieces that mean something.
func TestCanonicalNamesOfAnything(t *testing.T) {
	pieces := []string{"Copper", "Kite", "The", "1987", "2001", "(1996)", "[1080p]", "x264", "-", " - ", ".", "_",
		"S01E02", "1x03", "part 2", "cd1", "2019-05-04", "07", "extended cut", "sample", "trailer", "= wikidata Q5",
		"Ķ", "雨", "?", "/", "Season 2", "Extras", "CD2", "(", ")", "[", " "}
	r := rand.New(rand.NewPCG(5, 1))
	for range 6000 {
		var b strings.Builder
		for range 1 + r.IntN(7) {
			b.WriteString(pieces[r.IntN(len(pieces))])
			if r.IntN(3) > 0 {
				b.WriteString(" ")
			}
		}
		for _, k := range household.Kinds {
			name := b.String() + ".mkv"
			before := t.Failed()
			stable(t, k, name)
			if t.Failed() && !before {
				t.Logf("%s: %q", k, name)
			}
		}
		if t.Failed() {
			return
		}
	}
}

func BenchmarkRead(b *testing.B) {
	list := table(b)
	for i := 0; b.Loop(); i++ {
		e := list[i%len(list)]
		Read(e.kind, e.path)
	}
}
