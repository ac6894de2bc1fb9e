// Package notify tells receivers outside the server what happened: it keeps notices in the store until they
// were taken, and sends them by webhook or mail. A program on the host is told by the tool, which asks for what
// waits (Pending) and says what was done (Done).
//
// Each receiver has its own order and its own failures: one that is down holds up nobody else. A notice is sent
// at least once: one that was taken, but whose taking could not be noted, comes again with the same id.
package notify

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	mathrand "math/rand/v2"
	"slices"
	"sync"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/notice"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// ErrGone is that a receiver wants no more notices.
var ErrGone = errors.New("it wants no more")

// later is a failure that says when to come again.
type later struct {
	error
	after time.Duration
}

// Sender sends notices to a receiver: one, or several where it wants them gathered.
type Sender func(ctx context.Context, to household.Notice, secret string, list []notice.Notice) error

// Options are what a keeper works with.
type Options struct {
	House     string // the household's name
	ID        string // the household's
	Source    string // its address or name, for programs
	Zone      *time.Location
	Receivers []household.Notice
	Secrets   string // the file with the secrets
	Store     *store.Store
	Log       *slog.Logger
	Tell      func(event.Event)
	Senders   map[string]Sender // by the way; those of this package where nil
	Roots     *x509.CertPool    // that receivers are trusted by; the machine's where nil
	Figures   func(context.Context) (Figures, error)
	PushNear  []string // push services that may lie in a private network; for tests
}

// Keeper keeps notices until they were taken. Make it with New.
type Keeper struct {
	Options
	kicks   map[string]chan struct{}
	brokers map[string]*broker
}

// queued is how many events may wait to be put into the outbox: a rush of them fits.
const queued = 16384

// New makes a keeper.
func New(o Options) *Keeper {
	k := &Keeper{Options: o, kicks: map[string]chan struct{}{}, brokers: map[string]*broker{}}
	if k.Senders == nil {
		k.Senders = map[string]Sender{household.ToWebhook: k.webhook(), household.ToMail: k.mail,
			household.ToMQTT:    k.mqtt,
			household.ToBrowser: k.browser()}
	}
	for _, r := range o.Receivers {
		k.kicks[r.Name] = make(chan struct{}, 1)
		if r.To == household.ToMQTT {
			k.brokers[r.Name] = &broker{k: k, r: r, root: "homie/5/cozyshelf-" + o.ID + "/",
				changed: make(chan struct{}, 1)}
		}
	}
	return k
}

// Run takes events and sends notices until the context ends. What waits then is sent after the next start.
func (k *Keeper) Run(ctx context.Context, events *event.Queue) {
	defer events.Close()
	addresses := map[string]string{}
	for _, r := range k.Receivers {
		addresses[r.Name] = r.To + " " + r.Address + r.Program
	}
	if err := k.Store.SetReceivers(ctx, addresses); err != nil && ctx.Err() == nil {
		k.Log.Error("what waits for receivers of notices cannot be read", "why", err)
	}
	var all sync.WaitGroup
	for _, r := range k.Receivers {
		if k.Senders[r.To] != nil {
			all.Go(func() { k.serve(ctx, r) })
		}
		if b := k.brokers[r.Name]; b != nil {
			all.Go(func() { b.connect(ctx) })
		}
	}
	k.take(ctx, events)
	all.Wait()
}

// take puts what happens into the outbox, several at a time where they come fast.
func (k *Keeper) take(ctx context.Context, events *event.Queue) {
	noted := int64(0)
	for {
		var batch []event.Event
		select {
		case <-ctx.Done():
			for batch = rest(events); len(batch) > 0; batch = rest(events) { // what came already
				k.put(ctx, batch)
			}
			return
		case e := <-events.Events():
			batch = append([]event.Event{e}, rest(events)...)
		}
		k.put(ctx, batch)
		if lost := events.Lost(); lost > noted {
			k.Log.Warn("more happened at once than notices could be made of", "lost", lost-noted)
			noted = lost
		}
	}
}

// mostPut is how many events are put into the outbox in one change.
const mostPut = 1000

// rest takes what waits already.
func rest(events *event.Queue) (out []event.Event) {
	for len(out) < mostPut {
		select {
		case e := <-events.Events():
			out = append(out, e)
		default:
			return out
		}
	}
	return out
}

// putWithin is how long it may take to put events into the outbox, also when the server ends.
const putWithin = 5 * time.Second

// Make makes the notices of an event, for each receiver that wants to be told of it.
func (k *Keeper) Make(e event.Event) (list []store.Waiting) {
	n, ok := notice.Of(e, time.Now())
	if !ok {
		return nil
	}
	n.ID = rand.Text()
	for _, r := range k.Receivers {
		if notice.Wants(n, r) {
			list = append(list, store.Waiting{Receiver: r.Name, Notice: n})
		}
	}
	return list
}

// put puts events into the outbox whose notices are not kept there already.
func (k *Keeper) put(ctx context.Context, batch []event.Event) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), putWithin)
	defer cancel()
	var list []store.Waiting
	for _, e := range batch {
		noted, kept := e.(event.Noted)
		if kept {
			e = noted.Event
		}
		switch e.(type) {
		case event.PlayBegan, event.PlayEnded:
			k.watching()
		}
		made := k.Make(e)
		if !kept {
			list = append(list, made...)
			continue
		}
		for _, w := range made {
			k.kick(w.Receiver)
		}
	}
	if len(list) == 0 {
		return
	}
	lost, err := k.Store.Enqueue(ctx, list)
	if err != nil {
		k.Log.Error("notices could not be put into the outbox", "notices", len(list), "why", err)
		return
	}
	for name, n := range lost {
		k.Log.Warn("too many notices wait already; these are lost", "receiver", name, "notices", n)
	}
	for _, w := range list {
		k.kick(w.Receiver)
	}
}

// watching has brokers told at once who watches.
func (k *Keeper) watching() {
	for _, b := range k.brokers {
		select {
		case b.changed <- struct{}{}:
		default:
		}
	}
}

func (k *Keeper) kick(receiver string) {
	select {
	case k.kicks[receiver] <- struct{}{}:
	default:
	}
}

// Try sends a test notice to a receiver at once, past what waits for it, and says what came of it. Once it
// works, what waits is tried at once, too; so does one that wanted no more.
func (k *Keeper) Try(ctx context.Context, receiver string) error {
	i := slices.IndexFunc(k.Receivers, func(r household.Notice) bool { return r.Name == receiver })
	if i < 0 {
		return store.ErrNotFound
	}
	r := k.Receivers[i]
	send := k.Senders[r.To]
	if send == nil {
		return fmt.Errorf("a %s is told by the tool, not by the server", r.To)
	}
	secret, err := k.secret(r)
	if err != nil {
		return err
	}
	n := notice.Test(k.House, time.Now())
	n.ID = rand.Text()
	if err := send(ctx, r, secret, []notice.Notice{n}); err != nil {
		return err
	}
	err = k.Store.Reached(ctx, receiver, time.Now())
	k.kick(receiver)
	return err
}

// lookAgain is how often it is looked whether a receiver is ready: the clock may jump.
const lookAgain = time.Minute

// serve sends what waits for one receiver, until the context ends.
func (k *Keeper) serve(ctx context.Context, r household.Notice) {
	for ctx.Err() == nil {
		wait, err := k.step(ctx, r)
		if err != nil && ctx.Err() == nil {
			k.Log.Error("what waits for a receiver of notices cannot be read or noted", "receiver", r.Name, "why", err)
			wait = lookAgain
		}
		if wait <= 0 {
			continue
		}
		timer := time.NewTimer(min(wait, lookAgain))
		select {
		case <-ctx.Done():
		case <-timer.C:
		case <-k.kicks[r.Name]:
		}
		timer.Stop()
	}
}

// step sends what is ready, if anything is, and says how long to wait then.
func (k *Keeper) step(ctx context.Context, r household.Notice) (wait time.Duration, err error) {
	state, list, wait, err := k.ready(ctx, r)
	if err != nil || len(list) == 0 {
		return wait, err
	}
	secret, err := k.secret(r)
	if err == nil {
		err = k.Senders[r.To](ctx, r, secret, notices(list))
	}
	if ctx.Err() != nil {
		return 0, nil // whether it was taken is not known; it comes again
	}
	return k.note(ctx, r, state, list, err)
}

// ready gives what may be sent to a receiver now; nothing, and how long to wait, where nothing may.
func (k *Keeper) ready(ctx context.Context, r household.Notice) (state store.Receiver, list []store.Waiting,
	wait time.Duration, err error) {
	state, err = k.Store.Receiver(ctx, r.Name)
	if err != nil || state.Gone {
		return state, nil, lookAgain, err
	}
	limit := 1
	if r.Gather != "" {
		limit = notice.MostAtOnce
	}
	if list, err = k.Store.Outbox(ctx, r.Name, limit); err != nil || len(list) == 0 {
		return state, nil, lookAgain, err
	}
	now := time.Now()
	at := notice.Ready(list[0].Notice.At, list[0].Notice.Code, now, r, k.Zone)
	if state.Failures > 0 && state.Next.After(at) && state.Next.Sub(now) <= 2*mostPause {
		at = state.Next // unless the clock was set back
	}
	if at.After(now) {
		return state, nil, at.Sub(now), nil
	}
	return state, list, 0, nil
}

// mostPause is the longest pause that is kept, whoever asks for it.
const mostPause = time.Hour

// note notes what came of a try.
func (k *Keeper) note(ctx context.Context, r household.Notice, state store.Receiver, list []store.Waiting,
	failed error) (wait time.Duration, err error) {
	now := time.Now()
	var ids []int64
	for _, w := range list {
		ids = append(ids, w.ID)
	}
	if failed == nil {
		return 0, k.Store.Taken(ctx, r.Name, ids, now)
	}
	why := notice.Line(failed.Error())
	if errors.Is(failed, ErrGone) {
		n, err := k.Store.WantsNoMore(ctx, r.Name, why)
		k.tell(event.NoticesLost{Receiver: r.Name, Count: int(n), Why: why})
		return lookAgain, err
	}
	if old := slices.DeleteFunc(slices.Clone(list), func(w store.Waiting) bool {
		return !notice.Overdue(w.Notice.At, now)
	}); len(old) > 0 {
		err = k.Store.GiveUp(ctx, r.Name, ids[:len(old)]) // they are the first
		k.tell(event.NoticesLost{Receiver: r.Name, Count: len(old), Why: why})
	}
	if state.Failures == 0 {
		k.Log.Warn("a notice was not taken; it is tried again", "receiver", r.Name, "why", why)
	}
	pause := notice.Pause(state.Failures+1, mathrand.Float64())
	var l later
	if errors.As(failed, &l) {
		pause = max(pause, min(l.after, mostPause))
	}
	return pause, errors.Join(err, k.Store.Failed(ctx, r.Name, why, state.Failures+1, now.Add(pause)))
}

func (k *Keeper) tell(e event.Event) {
	if k.Tell != nil {
		k.Tell(e)
	}
}

func notices(list []store.Waiting) (out []notice.Notice) {
	for _, w := range list {
		out = append(out, w.Notice)
	}
	return out
}

// secret reads what is secret for a receiver. The tool writes the file when it deploys.
func (k *Keeper) secret(r household.Notice) (string, error) {
	if r.To != household.ToWebhook && r.User == "" {
		return "", nil
	}
	return secret.Given(k.Secrets, r.Name)
}

// Message gives the form in which notices are sent to programs: one event, or a list of them.
func (k *Keeper) Message(list []store.Waiting) ([]byte, error) {
	b, _, err := Message(k.Source, notices(list))
	return b, err
}

// Pending gives what waits for a program on the host and may be told now.
func (k *Keeper) Pending(ctx context.Context, receiver string) (list []store.Waiting, wait time.Duration, err error) {
	i := slices.IndexFunc(k.Receivers, func(r household.Notice) bool {
		return r.Name == receiver && r.To == household.ToProgram
	})
	if i < 0 {
		return nil, 0, store.ErrNotFound
	}
	_, list, wait, err = k.ready(ctx, k.Receivers[i])
	return list, wait, err
}

// Done notes that a program was told of notices, or why not.
func (k *Keeper) Done(ctx context.Context, receiver string, ids []int64, problem string) error {
	i := slices.IndexFunc(k.Receivers, func(r household.Notice) bool {
		return r.Name == receiver && r.To == household.ToProgram
	})
	if i < 0 {
		return store.ErrNotFound
	}
	state, err := k.Store.Receiver(ctx, receiver)
	if err != nil {
		return err
	}
	list, err := k.Store.Outbox(ctx, receiver, notice.MostAtOnce)
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(w store.Waiting) bool { return !slices.Contains(ids, w.ID) })
	if len(list) == 0 {
		return nil // it was noted already
	}
	var failed error
	if problem != "" {
		failed = errors.New(problem)
	}
	_, err = k.note(ctx, k.Receivers[i], state, list, failed)
	return err
}
