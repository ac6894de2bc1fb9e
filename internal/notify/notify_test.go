package notify

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/notice"
	"cozyshelf/internal/store"
)

const key = "a key of the mill, long enough"

// keeping is a keeper with a store and events of its own.
type keeping struct {
	*Keeper
	t      *testing.T
	events event.Stream
	told   []event.Event
	end    func()
}

// keep makes a keeper, and runs it until end is called.
func keep(t *testing.T, dir string, o Options) *keeping {
	t.Helper()
	all := map[string]string{}
	for _, r := range o.Receivers {
		all[r.Name] = key
	}
	b, _ := json.Marshal(all) // of texts
	if err := os.WriteFile(filepath.Join(dir, "secrets.json"), b, 0o600); err != nil {
		t.Fatal(err)
	}
	return keepGiven(t, dir, o)
}

// keepGiven makes one whose secrets are there.
func keepGiven(t *testing.T, dir string, o Options) *keeping {
	t.Helper()
	secrets := filepath.Join(dir, "secrets.json")
	s, err := store.Open(t.Context(), filepath.Join(dir, "store.db"))
	if err != nil {
		t.Fatal(err)
	}
	o.House, o.Source, o.Zone, o.Store, o.Secrets = "Fernhollow Mill", "urn:cozyshelf:mill", time.UTC, s, secrets
	o.Log = slog.New(slog.DiscardHandler)
	k := &keeping{t: t}
	o.Tell = func(e event.Event) { k.told = append(k.told, e); k.events.Tell(e) }
	k.Keeper = New(o)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	queue := k.events.Follow(queued)
	go func() {
		defer close(done)
		k.Run(ctx, queue)
	}()
	k.end = sync.OnceFunc(func() {
		cancel()
		<-done
		s.Close()
	})
	t.Cleanup(k.end)
	for list := []store.Receiver(nil); len(list) != len(o.Receivers); time.Sleep(time.Millisecond) {
		if list, err = s.Receivers(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	return k
}

// state tells how it goes with a receiver.
func (k *keeping) state(name string) store.Receiver {
	k.t.Helper()
	list, err := k.Store.Receivers(k.t.Context())
	i := slices.IndexFunc(list, func(r store.Receiver) bool { return r.Name == name })
	if err != nil || i < 0 {
		k.t.Fatalf("%v %+v", err, list)
	}
	return list[i]
}

// disk is something that happens, with a number.
func disk(n int) event.Event {
	return event.DiskLow{Folder: fmt.Sprintf("/srv/%05d", n), Free: 1, Size: 1 << 30}
}

// peer is a receiver of webhooks that answers what it is told to, and keeps what it took.
type peer struct {
	*httptest.Server
	mu     sync.Mutex
	answer func(w http.ResponseWriter)
	took   []cloudEvent
	faults []string
}

func newPeer(t *testing.T) *peer {
	p := &peer{}
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body) // what is cut off has no valid signature
		p.mu.Lock()
		defer p.mu.Unlock()
		// As the guide says, with nothing of our own.
		mac := hmac.New(sha256.New, []byte(key))
		mac.Write([]byte(r.Header.Get("Webhook-Id") + "." + r.Header.Get("Webhook-Timestamp") + "." + string(body)))
		if want := "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil)); r.Header.Get("Webhook-Signature") != want {
			p.faults = append(p.faults, "signature "+r.Header.Get("Webhook-Signature"))
		}
		if p.answer != nil {
			if p.answer(w); w.Header().Get("Refused") != "" {
				return
			}
		}
		var list []cloudEvent
		switch kind := r.Header.Get("Content-Type"); kind {
		case "application/cloudevents-batch+json":
			if err := json.Unmarshal(body, &list); err != nil {
				p.faults = append(p.faults, err.Error())
			}
		case "application/cloudevents+json":
			list = make([]cloudEvent, 1)
			if err := json.Unmarshal(body, &list[0]); err != nil {
				p.faults = append(p.faults, err.Error())
			}
		default:
			p.faults = append(p.faults, "type "+kind)
		}
		p.took = append(p.took, list...)
	}))
	t.Cleanup(p.Close)
	return p
}

// answers changes what the peer says.
func (p *peer) answers(status int, header ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.answer = func(w http.ResponseWriter) {
		if status >= 300 {
			w.Header().Set("Refused", "yes")
		}
		for i := 0; i+1 < len(header); i += 2 {
			w.Header().Set(header[i], header[i+1])
		}
		w.WriteHeader(status)
	}
}

func (p *peer) seen() (took []cloudEvent, faults []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.took), slices.Clone(p.faults)
}

func wait(t *testing.T, what string, is func() bool) {
	t.Helper()
	for deadline := time.Now().Add(30 * time.Second); !is(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("not within 30 s: " + what)
		}
	}
}

func TestAWebhookIsTold(t *testing.T) {
	p := newPeer(t)
	k := keep(t, t.TempDir(), Options{Receivers: []household.Notice{{Name: "house", To: household.ToWebhook,
		Address: p.URL},
		{Name: "other", To: household.ToWebhook, Address: p.URL, Events: []string{"play-ended"}}}})
	k.events.Tell(event.RefusedAway{Member: "Wren"}) // which nobody is told of
	k.events.Tell(disk(1))
	k.events.Tell(event.PlayEnded{Member: "Wren", Title: "Low Water", Watched: time.Minute})
	wait(t, "both came", func() bool { took, _ := p.seen(); return len(took) == 2 })
	took, faults := p.seen()
	if len(faults) > 0 {
		t.Error(faults)
	}
	slices.SortFunc(took, func(a, b cloudEvent) int { return strings.Compare(a.Type, b.Type) })
	for i, want := range []string{"cozyshelf.disk-low", "cozyshelf.play-ended"} {
		e := took[i]
		if e.SpecVersion != "1.0" || e.Source != "urn:cozyshelf:mill" || e.Type != want || len(e.ID) < 20 ||
			time.Since(e.Time) > time.Minute || e.Data.Text == "" {
			t.Errorf("%+v", e)
		}
	}
	if took[1].Data.Known["watched"] != 60.0 || !slices.Equal(took[1].Data.Members, []string{"Wren"}) {
		t.Errorf("%+v", took[1].Data)
	}
	wait(t, "it is noted", func() bool { return k.state("house").Took == 1 && k.state("house").Waiting == 0 })
}

// TestWhoRefusesIsTriedAgain has a receiver fail in the ways in which they do.
func TestWhoRefusesIsTriedAgain(t *testing.T) {
	p := newPeer(t)
	k := keep(t, t.TempDir(), Options{Receivers: []household.Notice{{Name: "house", To: household.ToWebhook,
		Address: p.URL}}})
	p.answers(500)
	k.events.Tell(disk(1))
	wait(t, "it has failed", func() bool { return k.state("house").Failures == 1 })
	if s := k.state("house"); !strings.Contains(s.Problem, "500") || s.Waiting != 1 ||
		time.Until(s.Next) > 5*time.Second || time.Until(s.Next) < 3*time.Second {
		t.Errorf("%+v", s)
	}
	for _, c := range []struct {
		status int
		header []string
		want   string
	}{{302, []string{"Location", "http://192.0.2.1/"}, "not followed"}, {404, nil, "404"}} {
		p.answers(c.status, c.header...)
		if err := k.Try(t.Context(), "house"); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%d: %v", c.status, err)
		}
	}
	p.answers(204)
	if err := k.Try(t.Context(), "house"); err != nil {
		t.Fatal(err)
	}
	wait(t, "what waited went at once", func() bool { return k.state("house").Waiting == 0 })
	// One that asks for more time gets it.
	p.answers(503, "Retry-After", "120")
	k.events.Tell(disk(2))
	wait(t, "it has failed", func() bool { return k.state("house").Failures == 1 })
	if s := k.state("house"); time.Until(s.Next) < 110*time.Second {
		t.Errorf("%+v", s)
	}
	// One that wants no more gets none, until somebody tries it.
	p.answers(410)
	if err := k.Try(t.Context(), "house"); !errors.Is(err, ErrGone) {
		t.Error(err)
	}
	p.answers(204)
	if err := k.Try(t.Context(), "house"); err != nil {
		t.Fatal(err)
	}
	wait(t, "what waited went", func() bool { return k.state("house").Waiting == 0 })
	p.answers(410)
	k.events.Tell(disk(3))
	wait(t, "it wants no more", func() bool { return k.state("house").Gone })
	k.events.Tell(disk(4))
	wait(t, "it waits", func() bool { return k.state("house").Waiting == 1 })
	p.answers(204)
	if err := k.Try(t.Context(), "house"); err != nil {
		t.Fatal(err)
	}
	wait(t, "it takes some again", func() bool { s := k.state("house"); return !s.Gone && s.Waiting == 0 && s.Lost == 1 })
	if err := k.Try(t.Context(), "nobody"); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	if _, faults := p.seen(); len(faults) > 0 {
		t.Error(faults)
	}
}

// TestOneThatHangsHoldsUpNobody has a receiver that never answers beside one that does.
func TestOneThatHangsHoldsUpNobody(t *testing.T) {
	p, hang := newPeer(t), make(chan struct{})
	silent := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-hang }))
	t.Cleanup(silent.Close)
	t.Cleanup(func() { close(hang) })
	k := keep(t, t.TempDir(), Options{Receivers: []household.Notice{
		{Name: "silent", To: household.ToWebhook, Address: silent.URL}, {Name: "house", To: household.ToWebhook,
			Address: p.URL}}})
	for n := range 20 {
		k.events.Tell(disk(n))
	}
	wait(t, "all came", func() bool { took, _ := p.seen(); return len(took) == 20 })
	began := time.Now()
	k.end()
	if took := time.Since(began); took > 5*time.Second {
		t.Errorf("it ended after %s", took)
	}
}

// TestNothingIsLostWhileAReceiverIsDown tells ten thousand events while a receiver is down for an hour, and the
// server begins anew in between.
func TestNothingIsLostWhileAReceiverIsDown(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		const many = 10_000
		var took []string
		tries, up := 0, false
		send := func(_ context.Context, _ household.Notice, _ string, list []notice.Notice) error {
			if tries++; !up {
				return errors.New("it is down")
			}
			for _, n := range list {
				took = append(took, n.Data["folder"].(string))
			}
			return nil
		}
		o := Options{Receivers: []household.Notice{{Name: "house", To: household.ToWebhook}},
			Senders: map[string]Sender{household.ToWebhook: send}}
		k := keep(t, dir, o)
		began := time.Now()
		for n := range many {
			if n == many/2 {
				k.end()
				k = keep(t, dir, o)
			}
			k.events.Tell(disk(n))
			if n%100 == 0 {
				time.Sleep(36 * time.Second) // an hour in all
			}
		}
		synctest.Wait()
		if down := time.Since(began); down < time.Hour || tries < 5 || tries > 50 || len(took) > 0 {
			t.Fatalf("down for %s, tried %d times, took %d", down, tries, len(took))
		}
		up = true
		time.Sleep(20 * time.Minute)
		synctest.Wait()
		if len(took) != many {
			t.Fatalf("%d of %d came; %+v", len(took), many, k.state("house"))
		}
		for i, folder := range took {
			if want := fmt.Sprintf("/srv/%05d", i); folder != want {
				t.Fatalf("%d: %s instead of %s", i, folder, want)
			}
		}
		k.end()
	})
}

// TestOldNoticesAreGivenUp lets days pass. Others are told of it.
func TestOldNoticesAreGivenUp(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		var told []notice.Notice
		o := Options{Receivers: []household.Notice{{Name: "house", To: household.ToWebhook}, {Name: "letters",
			To: household.ToMail}},
			Senders: map[string]Sender{
				household.ToWebhook: func(context.Context, household.Notice, string, []notice.Notice) error {
					return errors.New("it is down")
				},
				household.ToMail: func(_ context.Context, _ household.Notice, _ string, list []notice.Notice) error {
					told = append(told, list...)
					return nil
				}}}
		k := keep(t, dir, o)
		k.events.Tell(disk(1))
		time.Sleep(notice.KeptFor + time.Hour)
		synctest.Wait()
		if s := k.state("house"); s.Lost != 1 || s.Waiting != 0 {
			t.Errorf("%+v", s)
		}
		if len(told) != 2 || told[1].Code != event.CodeNoticesLost || told[1].Data["receiver"] != "house" {
			t.Errorf("%+v", told)
		}
		k.end()
	})
}

// TestGatheredNoticesAreOneMessage waits for an hour's notices.
func TestGatheredNoticesAreOneMessage(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		var sizes []int
		o := Options{Receivers: []household.Notice{{Name: "house", To: household.ToWebhook, Gather: "1h"}},
			Senders: map[string]Sender{household.ToWebhook: func(_ context.Context, _ household.Notice, _ string,
				list []notice.Notice) error {
				sizes = append(sizes, len(list))
				return nil
			}}}
		k := keep(t, dir, o)
		for n := range 30 {
			k.events.Tell(disk(n))
			time.Sleep(time.Minute)
		}
		synctest.Wait()
		if len(sizes) > 0 {
			t.Errorf("%v came before an hour", sizes)
		}
		time.Sleep(time.Hour)
		synctest.Wait()
		if !slices.Equal(sizes, []int{30}) {
			t.Errorf("%v", sizes)
		}
		k.end()
	})
}

// TestTheOutboxIsBounded fills it.
func TestTheOutboxIsBounded(t *testing.T) {
	k := keep(t, t.TempDir(), Options{Receivers: []household.Notice{{Name: "bell", To: household.ToProgram}}})
	var list []store.Waiting
	for n := range notice.MostWaiting + 10 {
		made, _ := notice.Of(disk(n), time.Now())
		list = append(list, store.Waiting{Receiver: "bell", Notice: made})
	}
	lost, err := k.Store.Enqueue(t.Context(), list)
	if s := k.state("bell"); err != nil || lost["bell"] != 10 || s.Waiting != notice.MostWaiting || s.Lost != 10 {
		t.Errorf("%v %v %+v", lost, err, s)
	}
	// A program is told of the first, and again until it took it.
	for range 2 {
		p, _, err := k.Pending(t.Context(), "bell")
		if err != nil || len(p) != 1 || p[0].Notice.Data["folder"] != "/srv/00000" {
			t.Fatalf("%+v %v", p, err)
		}
		list = p
	}
	if err := k.Done(t.Context(), "bell", []int64{list[0].ID}, ""); err != nil {
		t.Fatal(err)
	}
	if p, _, err := k.Pending(t.Context(), "bell"); err != nil || p[0].Notice.Data["folder"] != "/srv/00001" {
		t.Errorf("%+v %v", p, err)
	}
	if err := k.Done(t.Context(), "bell", []int64{list[0].ID + 1}, "it ended with 1"); err != nil {
		t.Fatal(err)
	}
	if p, pause, err := k.Pending(t.Context(), "bell"); err != nil || len(p) > 0 || pause <= 0 {
		t.Errorf("%+v %s %v", p, pause, err)
	}
	if _, _, err := k.Pending(t.Context(), "house"); !errors.Is(err, store.ErrNotFound) {
		t.Error(err)
	}
	// One that is no longer in the household file leaves nothing.
	if err := k.Store.SetReceivers(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	if list, err := k.Store.Outbox(t.Context(), "bell", 1); err != nil || len(list) > 0 {
		t.Errorf("%+v %v", list, err)
	}
}

// TestAMessageWithMoreInItHasAnotherID sends a gathered message, and again with one more notice.
func TestAMessageWithMoreInItHasAnotherID(t *testing.T) {
	var ids []string
	s := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		ids = append(ids, r.Header.Get("Webhook-Id"))
	}))
	defer s.Close()
	send := New(Options{}).webhook()
	var list []notice.Notice
	for _, id := range []string{"A", "B", "C"} {
		list = append(list, notice.Notice{ID: id, Code: event.CodeDiskLow, At: time.Now()})
	}
	for _, n := range []int{1, 2, 2, 3} {
		if err := send(t.Context(), household.Notice{Address: s.URL}, key, list[:n]); err != nil {
			t.Fatal(err)
		}
	}
	if !slices.Equal(ids, []string{"A", "A-B", "A-B", "A-C"}) {
		t.Errorf("%v", ids)
	}
}

func TestKeysThatAreTooShortAreRefused(t *testing.T) {
	for k, good := range map[string]bool{"": false, "short": false, strings.Repeat("k", 24): true, "whsec_!": false,
		"whsec_" + base64.StdEncoding.EncodeToString(make([]byte, 24)): true,
		"whsec_" + base64.StdEncoding.EncodeToString(make([]byte, 23)): false} {
		if s, err := Sign(k, "1", time.Now(), nil); (err == nil) != good || strings.HasPrefix(s, "v1,") != good {
			t.Errorf("%q: %q %v", k, s, err)
		}
	}
}
