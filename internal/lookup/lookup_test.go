package lookup

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"cozyshelf/internal/core/describe"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/standin"
)

var ctx = context.Background()

func world(t *testing.T) (*standin.Catalogue, *Wikidata, *MusicBrainz) {
	t.Helper()
	c := standin.Household()
	srv := httptest.NewServer(c)
	t.Cleanup(srv.Close)
	asker := func() Asker {
		return Asker{Agent: "CozyShelf/test (a test)", Pause: time.Millisecond, Cache: t.TempDir(),
			Near: []string{srv.URL}}
	}
	return c, &Wikidata{Asker: asker(), Address: srv.URL + "/w/api.php", Commons: srv.URL + "/file/"},
		&MusicBrainz{Asker: asker(), Address: srv.URL + "/ws/2", Covers: srv.URL + "/covers"}
}

func TestFilmsAndSeriesAreFound(t *testing.T) {
	_, w, _ := world(t)
	for name, c := range map[string]struct {
		want  describe.Wanted
		id    string
		clear bool
	}{
		"a film with a namesake": {describe.Wanted{Name: "The Paper Lighthouse", Year: 2014, Kind: household.Films},
			"wikidata Q900101", true},
		"its namesake": {describe.Wanted{Name: "the paper lighthouse", Year: 1968, Kind: household.Films},
			"wikidata Q900191", true},
		"in another language": {describe.Wanted{Name: "Papīra bāka", Year: 2014, Kind: household.Films},
			"wikidata Q900101", true},
		"a series": {describe.Wanted{Name: "Tiny Harbour", Year: 2016, Kind: household.Series}, "wikidata Q900202",
			true},
		"by its id": {describe.Wanted{Name: "whatever", Kind: household.Films, Outside: "wikidata q900104"},
			"wikidata Q900104", true},
		"two that fit": {describe.Wanted{Name: "Salt and Semaphore", Year: 2018, Kind: household.Films},
			"wikidata Q900106", true},
		"no year": {describe.Wanted{Name: "The Paper Lighthouse", Kind: household.Films}, "wikidata Q900101", false},
		"none":    {describe.Wanted{Name: "Mending the Wheel", Kind: household.Films}, "", false},
	} {
		list, err := w.Candidates(ctx, c.want, []string{"en", "lv"})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		scored := describe.Score(c.want, list)
		if len(scored) == 0 {
			if c.id != "" {
				t.Errorf("%s: nothing found", name)
			}
			continue
		}
		_, clear := describe.Take(scored)
		if scored[0].ID != c.id || clear != c.clear {
			t.Errorf("%s: %s, clear %v: %+v", name, scored[0].ID, clear, scored)
		}
		for _, x := range scored {
			if x.ID == "wikidata Q900190" {
				t.Errorf("%s: a book is among them", name)
			}
		}
	}
}

func TestDescriptionsInTheHouseholdsLanguage(t *testing.T) {
	c, w, m := world(t)
	got, err := w.Describe(ctx, "wikidata Q900101", []string{"lv", "en"})
	if err != nil {
		t.Fatal(err)
	}
	want := describe.Description{Name: "Papīra bāka", Year: 2014,
		Summary: "Bākas sargs sausā kalnā loka kuģus no vecām kartēm, līdz jūra pēc tiem atgriežas.",
		Genres:  []string{"klusa komēdija"}, Outside: "wikidata Q900101",
		People: []describe.Person{{Name: "Ada Reedwater", Role: "director"},
			{Name: "Ödön Quillfeather", Role: "actor"}, {Name: "Marit Sandgrain", Role: "actor"}}, Picture: w.Commons +
			"The_Paper_Lighthouse_%282014%29.jpg?width=800"}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got %+v\nwant %+v", got, want)
	}
	if b, err := w.Picture(ctx, got.Picture); err != nil || len(b) < 1000 {
		t.Errorf("the picture: %d bytes, %v", len(b), err)
	}
	album, err := m.Describe(ctx, "musicbrainz 00000000-0000-4000-8000-000000000002", nil)
	if err != nil || album.Name != "Tin Roof Nocturnes" || album.Year != 2012 || len(album.People) != 1 ||
		album.People[0].Name != "Mirela Vant" {
		t.Errorf("got %+v, %v", album, err)
	}
	wanted := describe.Wanted{Name: "Tin Roof Nocturnes", By: "Mirela Vant", Year: 2012, Kind: household.Music}
	list, err := m.Candidates(ctx, wanted, nil)
	if best, ok := describe.Take(describe.Score(wanted, list)); err != nil || !ok || best.ID != album.Outside {
		t.Errorf("got %+v, %v", list, err)
	}
	// A country that the catalogue does not tell apart is no obstacle; nothing but such is.
	for _, langs := range [][]string{describe.Languages("lv-LV"), {"lv"}} {
		film := describe.Wanted{Name: "Papīra bāka", Year: 2014, Kind: household.Films}
		list, err := w.Candidates(ctx, film, langs)
		if best, ok := describe.Take(describe.Score(film, list)); err != nil || !ok || best.ID != "wikidata Q900101" ||
			best.Name != "Papīra bāka" {
			t.Errorf("%v: got %+v, %v", langs, list, err)
		}
	}
	if list, err := w.Candidates(ctx, wanted, []string{"xx"}); err == nil ||
		!strings.Contains(err.Error(), "Unrecognized value") {
		t.Errorf("a language that is none: %+v, %v", list, err)
	}
	if agent := *c.Agents.Load(); !strings.HasPrefix(agent, "CozyShelf/") {
		t.Errorf("it says that it is %q", agent)
	}
	for _, id := range []string{"wikidata Q999999999", "wikidata nonsense", "wikidata Q1|Q2"} {
		if _, err := w.Describe(ctx, id, []string{"en"}); !errors.Is(err, ErrNotFound) {
			t.Errorf("%s: %v", id, err)
		}
	}
	if _, err := m.Describe(ctx, "musicbrainz 00000000-0000-4000-8000-00000000000f", nil); !errors.Is(err,
		ErrNotFound) {
		t.Errorf("an album that is not there: %v", err)
	}
}

func TestItIsPoliteAndPatient(t *testing.T) {
	c, w, _ := world(t)
	want := describe.Wanted{Name: "Copper Kite", Year: 2003, Kind: household.Films}
	c.Busy.Store(2)
	if list, err := w.Candidates(ctx, want, []string{"en"}); err != nil || len(list) != 1 {
		t.Fatalf("a catalogue that was busy: %+v, %v", list, err)
	}
	asked := c.Requests.Load()
	if _, err := w.Candidates(ctx, want, []string{"en"}); err != nil || c.Requests.Load() != asked {
		t.Errorf("asked again for what is known: %v", err)
	}
	c.Broken.Store(1)
	if d, err := w.Describe(ctx, "wikidata Q900106", []string{"en"}); err != nil || d.Name != "Salt and Semaphore" {
		t.Errorf("an answer that was cut off: %+v, %v", d, err)
	}
	c.Busy.Store(100)
	if _, err := w.Describe(ctx, "wikidata Q900105", []string{"en"}); !errors.Is(err, ErrBusy) {
		t.Errorf("a catalogue that stays busy: %v", err)
	}
	c.Busy.Store(0)
	w.Pause = 60 * time.Millisecond
	began, n := time.Now(), c.Requests.Load()
	for _, id := range []string{"Q900102", "Q900103", "Q900105"} {
		if _, err := w.Describe(ctx, id, []string{"en"}); err != nil {
			t.Fatal(err)
		}
	}
	if n := c.Requests.Load() - n; time.Since(began) < time.Duration(n-1)*w.Pause {
		t.Errorf("%d requests in %s", n, time.Since(began))
	}
	c.Slow.Store(1000)
	short, cancel := context.WithTimeout(ctx, 50*time.Millisecond)
	defer cancel()
	if _, err := w.Describe(short, "Q900201", []string{"en"}); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a slow one: %v", err)
	}
}

// TestWhoIsWaitedForGoesFirst has many wait in the background for a turn that is taken, and
// then one for a person.
func TestWhoIsWaitedForGoesFirst(t *testing.T) {
	var tt turns
	if err := tt.take(ctx); err != nil {
		t.Fatal(err)
	}
	came := make(chan string, 5)
	var wg sync.WaitGroup
	wait := func(ctx context.Context, who string) {
		wg.Go(func() {
			if err := tt.take(ctx); err != nil {
				if !errors.Is(err, context.Canceled) {
					t.Errorf("%s: %v", who, err)
				}
				return
			}
			came <- who
		})
	}
	away, leave := context.WithCancel(ctx)
	defer leave()
	for range 4 {
		wait(away, "background")
	}
	wait(Hurry(ctx), "person")
	for in := false; !in; time.Sleep(time.Millisecond) {
		tt.mu.Lock()
		in = tt.hurried == 1
		tt.mu.Unlock()
	}
	for i, want := range []string{"person", "background"} {
		tt.free(time.Millisecond)
		if who := <-came; who != want {
			t.Errorf("turn %d had the %s", i, who)
		}
	}
	leave() // those that wait do not go on
	wg.Wait()
	if len(came) != 0 {
		t.Errorf("%d more had a turn that was not free", len(came))
	}
}

// TestTriesOfABusyCatalogue has one that does not get well: it holds a person for two tries,
// others for four.
func TestTriesOfABusyCatalogue(t *testing.T) {
	c, w, _ := world(t)
	for hurry, tries := range map[bool]int64{true: 2, false: 4} {
		with := ctx
		if hurry {
			with = Hurry(ctx)
		}
		c.Busy.Store(1000)
		if _, err := w.Describe(with, "wikidata Q900202", []string{"en"}); !errors.Is(err, ErrBusy) ||
			1000-c.Busy.Load() != tries {
			t.Errorf("in a hurry %v: %d tries, %v", hurry, 1000-c.Busy.Load(), err)
		}
	}
}

// TestACatalogueThatWantsRestHasIt has one that asks to be left alone for an hour.
func TestACatalogueThatWantsRestHasIt(t *testing.T) {
	var asked atomic.Int64
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		w.Header().Set("Retry-After", "3600")
		http.Error(w, "later", http.StatusTooManyRequests)
	}))
	defer srv.Close()
	a := &Asker{Agent: "CozyShelf/test (a test)", Pause: time.Millisecond, Near: []string{srv.URL}}
	for i, with := range []context.Context{ctx, ctx, Hurry(ctx)} {
		if _, err := a.get(with, srv.URL, "application/json"); !errors.Is(err, ErrBusy) {
			t.Errorf("request %d: %v", i, err)
		}
	}
	if n := asked.Load(); n != 1 {
		t.Errorf("it was asked %d times", n)
	}
}
