package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/testbuild"
)

var ctx = context.Background()

func fresh(t testing.TB) (*Store, string) {
	t.Helper()
	// A question mark and a per cent sign must not be taken for parts of an address.
	p := filepath.Join(t.TempDir(), "store %3f?.db")
	s, err := Open(ctx, p)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s, p
}

func add(t *testing.T, s *Store, name string, role allowance.Role) Member {
	t.Helper()
	m, err := s.AddMember(ctx, Member{Name: name, Role: role}, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// TestAnAdministratorStays takes administrators away in each way: one whose account does not end is left.
func TestAnAdministratorStays(t *testing.T) {
	s, _ := fresh(t)
	add(t, s, "wren", allowance.Admin)
	add(t, s, "ozan", allowance.Admin)
	adult, ends := allowance.Adult, allowance.Allowance{Until: time.Now().Add(time.Hour)}
	if err := s.EditMember(ctx, "ozan", Edit{Allowed: &ends}); err != nil {
		t.Errorf("an end for one of two: %v", err)
	}
	for what, err := range map[string]error{"an end": s.EditMember(ctx, "wren", Edit{Allowed: &ends}),
		"another role": s.EditMember(ctx, "wren", Edit{Role: &adult}), "removed": s.RemoveMember(ctx, "wren")} {
		if !errors.Is(err, ErrLastAdmin) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if err := s.EditMember(ctx, "ozan", Edit{Allowed: &allowance.Allowance{}}); err != nil {
		t.Error(err)
	}
	if err := s.EditMember(ctx, "wren", Edit{Allowed: &ends}); err != nil {
		t.Errorf("an end, with another beside: %v", err)
	}
	if err := s.RemoveMember(ctx, "wren"); err != nil {
		t.Errorf("removed, with another beside: %v", err)
	}
}

func TestMembersFollowTheRulesOfTheHousehold(t *testing.T) {
	s, _ := fresh(t)
	if _, err := s.AddMember(ctx, Member{Name: "bram", Role: allowance.Child}, time.Now()); !errors.Is(err,
		ErrFirstAdmin) {
		t.Errorf("a child first: got %v", err)
	}
	add(t, s, "Wren", allowance.Admin)
	if _, err := s.AddMember(ctx, Member{Name: "wren ", Role: allowance.Adult}, time.Now()); !errors.Is(err,
		ErrExists) {
		t.Errorf("the same name in other letters: got %v", err)
	}
	add(t, s, "ozan", allowance.Adult)
	if err := s.RemoveMember(ctx, "wren"); !errors.Is(err, ErrLastAdmin) {
		t.Errorf("removing the last administrator: got %v", err)
	}
	if err := s.RemoveMember(ctx, "nobody"); !errors.Is(err, ErrNotFound) {
		t.Errorf("removing nobody: got %v", err)
	}
	if err := s.RemoveMember(ctx, "OZAN"); err != nil {
		t.Error(err)
	}
	if list, err := s.Members(ctx); err != nil || len(list) != 1 || list[0].Name != "Wren" {
		t.Errorf("got %+v, %v", list, err)
	}
}

func TestTokensAreKeptAsHashesAndEnd(t *testing.T) {
	s, path := fresh(t)
	m := add(t, s, "wren", allowance.Admin)
	now := time.Now()
	if _, err := s.AddDevice(ctx, m.ID, Device{Name: "kitchen", Kind: ForProgram, Expires: now.Add(time.Hour),
		Ends: now.Add(2 * time.Hour)}, "the-token-itself", now); err != nil {
		t.Fatal(err)
	}
	if got, _, err := s.Authenticate(ctx, "the-token-itself", ForProgram, now); err != nil || got.Name != "wren" {
		t.Errorf("got %+v, %v", got, err)
	}
	for token, at := range map[string]time.Time{"forged": now, "": now, "the-token-itself": now.Add(2 * time.Hour)} {
		if _, _, err := s.Authenticate(ctx, token, ForProgram, at); !errors.Is(err, ErrNotFound) {
			t.Errorf("%q: got %v, want it not known", token, err)
		}
	}
	if err := s.SetPassword(ctx, "wren", "x", time.Time{}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := s.Authenticate(ctx, "the-token-itself", ForProgram, now); !errors.Is(err, ErrNotFound) {
		t.Errorf("after a new password: got %v", err)
	}
	out, err := exec.Command("grep", "-c", "the-token-itself", path, path+"-wal").CombinedOutput()
	if err == nil {
		t.Errorf("the token lies in the file: %s", out)
	}
}

func TestPlaysAreContinuedShortlyAfterAndNotLater(t *testing.T) {
	s, _ := fresh(t)
	now := time.Now()
	p := usage.Play{Member: "wren", Shelf: "films", Title: "Copper Kite", Duration: 100}
	first, err := s.BeginPlay(ctx, p, 1, 1, now)
	if err != nil {
		t.Fatal(err)
	}
	mark := func(m Mark) {
		t.Helper()
		if err := s.MarkPlays(ctx, m); err != nil {
			t.Fatal(err)
		}
	}
	mark(Mark{Play: first.ID, Position: 40, Watched: 40, Bytes: 1000, At: now.Add(time.Minute), Over: true})
	for what, c := range map[string]struct {
		device, file int64
		at           time.Duration
		same         bool
	}{
		"soon":           {1, 1, 2 * time.Minute, true},
		"another device": {2, 1, 2 * time.Minute, false},
		"another file":   {1, 2, 2 * time.Minute, false},
		"much later":     {1, 1, time.Hour, false},
	} {
		got, err := s.BeginPlay(ctx, p, c.device, c.file, now.Add(c.at))
		if err != nil {
			t.Fatal(err)
		}
		if (got.ID == first.ID) != c.same {
			t.Errorf("%s: got play %d after %d", what, got.ID, first.ID)
		}
		if got.ID == first.ID && (got.Watched != 40 || got.Bytes != 1000) {
			t.Errorf("%s: what was counted is lost: %+v", what, got)
		}
		if got.ID != first.ID {
			mark(Mark{Play: got.ID, At: now.Add(-time.Hour), Over: true})
		}
	}
	if open, err := s.Plays(ctx, usage.Filter{Open: true}); err != nil || len(open) != 1 {
		t.Errorf("streams now: got %+v, %v", open, err)
	}
	if closed, err := s.CloseStale(ctx, time.Now().Add(time.Hour)); err != nil || len(closed) != 1 ||
		!closed[0].Ended.Equal(closed[0].Seen) {
		t.Fatalf("%+v, %v", closed, err)
	}
	if open, _ := s.Plays(ctx, usage.Filter{Open: true}); len(open) != 0 {
		t.Errorf("after closing: got %+v", open)
	}
}

func TestFiguresAgreeWithSqlite(t *testing.T) {
	if _, err := exec.LookPath("sqlite3"); err != nil {
		testbuild.Missing(t, "sqlite3")
	}
	s, path := fresh(t)
	c := s.BeginScan("films", household.Films, time.Now())
	for _, name := range []string{"a", "b\xff", "Ä"} {
		if err := c.Folder(ctx, FolderFound{Root: "/srv/films", Path: name, Signature: "s", Files: []FileFound{
			{Found: Found{Name: name, Title: name, Size: 10, Duration: 2.5, Content: "video"}},
			{Found: Found{Name: name + "2", Title: name, Size: 1, Problem: "broken", Content: "video"}},
		}}); err != nil {
			t.Fatal(err)
		}
	}
	if err := c.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	f, err := s.Figures(ctx, "films")
	if err != nil {
		t.Fatal(err)
	}
	if want := (ShelfFigures{Titles: 3, Files: 6, Problems: 3, Duration: 7.5, Size: 33}); f != want {
		t.Errorf("got %+v, want %+v", f, want)
	}
	out, err := exec.Command("sqlite3", path,
		"SELECT count(*), total(size), total(duration) FROM files; PRAGMA integrity_check;").Output()
	if got := strings.Fields(string(out)); err != nil || len(got) != 2 || got[0] != "6|33.0|7.5" || got[1] != "ok" {
		t.Errorf("sqlite says %q, %v", out, err)
	}
	if format, err := s.Format(ctx); err != nil || format < 1 {
		t.Errorf("format: %d, %v", format, err)
	}
}

// TestPagesGoThroughAShelf goes through shelves of made-up names on pages of many sizes,
// there and back, and holds them against the list of all.
func TestPagesGoThroughAShelf(t *testing.T) {
	s, _ := fresh(t)
	rnd := rand.New(rand.NewPCG(5, 1))
	letters := []string{"a", "B", "é", "Ж", "猫", "1", " ", "'", "zz", "\u0130"}
	c := s.BeginScan("films", household.Films, time.Now())
	for n := range 90 {
		name := ""
		for range 1 + rnd.IntN(3) {
			name += letters[rnd.IntN(len(letters))]
		}
		file := FileFound{Found: Found{Name: fmt.Sprint(n), Title: name, Year: 2000 + rnd.IntN(3),
			By: letters[rnd.IntN(3)], Size: 1}}
		if err := c.Folder(ctx, FolderFound{Root: "/srv/films", Path: fmt.Sprint(n), Signature: "s",
			Files: []FileFound{file}}); err != nil {
			t.Fatal(err)
		}
	}
	if err := c.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	if _, err := s.w.Exec("UPDATE files SET gone = 1 WHERE id % 4 = 0"); err != nil {
		t.Fatal(err)
	}
	all, err := s.Titles(ctx, "films")
	if err != nil {
		t.Fatal(err)
	}
	ids := func(list []Title) (out []int64) {
		for _, t := range list {
			out = append(out, t.ID)
		}
		return out
	}
	slices.SortStableFunc(all, func(a, b Title) int {
		return cmp.Or(cmp.Compare(Fold(a.Name), Fold(b.Name)), cmp.Compare(a.Year, b.Year), cmp.Compare(a.By, b.By))
	})
	for _, size := range []int{1, 2, 7, len(all) - 1, len(all), len(all) + 1, 500} {
		var there, back []int64
		at, ends := PlaceOf(""), Place{}
		for n := 0; ; n++ {
			p, err := s.TitlePage(ctx, Wanted{Shelf: "films", At: at, Back: false, Limit: size})
			if err != nil {
				t.Fatal(err)
			}
			if (p.Before != nil) != (n > 0) {
				t.Fatalf("page %d of size %d: before is %v", n, size, p.Before)
			}
			if there = append(there, ids(p.Titles)...); p.Next == nil {
				break
			}
			at = PlaceOf(p.Next.String())
			ends = *p.Next
		}
		if !slices.Equal(there, ids(all)) {
			t.Fatalf("pages of %d: got %v, want %v", size, there, ids(all))
		}
		if size > len(all)/2 {
			continue
		}
		at = ends
		for {
			p, err := s.TitlePage(ctx, Wanted{Shelf: "films", At: at, Back: true, Limit: size})
			if err != nil {
				t.Fatal(err)
			}
			if back = append(ids(p.Titles), back...); p.Before == nil {
				break
			}
			at = PlaceOf(p.Before.String())
		}
		if n := len(back); n < len(all)-size-1 || !slices.Equal(back, ids(all)[:n]) {
			t.Fatalf("back by %d: got %v, want the beginning of %v", size, back, ids(all))
		}
	}
	initials, err := s.Initials(ctx, "films", Sight{})
	if err != nil || !slices.IsSorted(initials) || len(initials) < 6 {
		t.Errorf("initials: %q, %v", initials, err)
	}
	for _, c := range initials {
		p, err := s.TitlePage(ctx, Wanted{Shelf: "films", At: PlaceOf(c), Back: false, Limit: 500})
		if i := slices.IndexFunc(all, func(t Title) bool { return Fold(t.Name) >= c }); err != nil ||
			len(p.Titles) != len(all)-max(i, 0) {
			t.Errorf("from %q: %d titles, %v", c, len(p.Titles), err)
		}
	}
	for _, text := range []string{"", "\x1f", "\x1f\x1f", "a\x1fx\x1fb", "\xff", strings.Repeat("z", 5000)} {
		if _, err := s.TitlePage(ctx, Wanted{Shelf: "films", At: PlaceOf(text), Back: false, Limit: 3}); err != nil {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestShelvesThatAreTakenAwayKeepTheirHistory(t *testing.T) {
	s, _ := fresh(t)
	c := s.BeginScan("films", household.Films, time.Now())
	if err := c.Folder(ctx, FolderFound{Root: "/srv/films", Signature: "s",
		Files: []FileFound{{Found: Found{Name: "a", Title: "a"}}}}); err != nil {
		t.Fatal(err)
	}
	if err := c.Flush(ctx); err != nil {
		t.Fatal(err)
	}
	if err := s.DropShelves(ctx, map[[2]string]bool{}, time.Now()); err != nil {
		t.Fatal(err)
	}
	if list, _ := s.Titles(ctx, ""); len(list) != 0 {
		t.Errorf("got %+v", list)
	}
	f, err := s.Folders(ctx, "films", "/srv/films")
	if err != nil || len(f) != 1 || f[0].Signature != "" {
		t.Fatalf("got %+v, %v", f, err)
	}
	if k, err := s.Known(ctx, f[0].ID); err != nil || len(k) != 1 || !k[0].Gone {
		t.Errorf("got %+v, %v", k, err)
	}
}
