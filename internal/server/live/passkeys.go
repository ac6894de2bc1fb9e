package live

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/plain"
	"cozyshelf/internal/passkey"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

// ForPasskey is what a browser needs to make a passkey or to use one: what its authenticator is asked, and what
// it sends back with the answer.
type ForPasskey struct {
	Options json.RawMessage `json:"options"`
	Ticket  string          `json:"ticket"`
}

// What passkeys are asked for. What was asked for one is no answer to another.
const (
	toSignIn   = "passkey to sign in"
	toConfirm  = "passkey to confirm " // and the device
	toHaveOne  = "passkey for "        // and the member
	toComeFrom = "passkey by invite "  // and the token
)

// passkeys is what is kept of passkeys in memory. The zero value is ready.
type passkeys struct {
	mu        sync.Mutex
	used      map[string]time.Time // tickets that were good once, and until when they would be
	confirmed map[int64]time.Time  // devices whose owner proved lately who they are, and until when that holds
}

// confirmedTime is for how long a passkey stands for the password on one's own page.
const confirmedTime = 10 * time.Minute

// once reports whether a ticket is used for the first time. It is asked for good answers only, so strangers
// cannot fill it.
func (k *passkeys) once(ticket string, now time.Time) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	for t, until := range k.used {
		if now.After(until) {
			delete(k.used, t)
		}
	}
	if _, before := k.used[ticket]; before {
		return false
	}
	if k.used == nil {
		k.used = map[string]time.Time{}
	}
	k.used[ticket] = now.Add(passkey.Time + time.Minute)
	return true
}

func (k *passkeys) confirm(device int64, now time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for d, until := range k.confirmed {
		if now.After(until) {
			delete(k.confirmed, d)
		}
	}
	if k.confirmed == nil {
		k.confirmed = map[int64]time.Time{}
	}
	k.confirmed[device] = now.Add(confirmedTime)
}

// Confirmed reports whether the owner of a device proved lately, by a passkey, who they are.
func (s *Server) Confirmed(d store.Device) bool {
	s.passkeys.mu.Lock()
	defer s.passkeys.mu.Unlock()
	return time.Now().Before(s.passkeys.confirmed[d.ID])
}

// PasskeysHere gives the place of a request, if passkeys can be had there.
func PasskeysHere(r *http.Request) (passkey.Place, bool) {
	return passkey.PlaceOf(r.Host, VisitorOf(r).Secure)
}

func noPasskeysHere() error {
	return &StatusError{Problem: &problem.Problem{What: "there are no passkeys at this address",
		Why: "browsers want a name, and HTTPS but on the server itself",
		Fix: "open the page by its name over HTTPS, or use a password"}, Status: http.StatusBadRequest}
}

func wrongPasskey() error {
	return &StatusError{Problem: &problem.Problem{What: "the passkey is not right",
		Why: "it is not known here, took more than five minutes, or was used already",
		Fix: "try again, or sign in with a password"}, Status: http.StatusUnauthorized}
}

// ask begins the use of a passkey, for a purpose.
func (s *Server) ask(r *http.Request, purpose string) (ForPasskey, error) {
	place, ok := PasskeysHere(r)
	if !ok {
		return ForPasskey{}, noPasskeysHere()
	}
	options, session, err := place.Ask()
	return ForPasskey{options, s.Known.Sign(purpose, string(session))}, err
}

// AskPasskey begins to sign in with a passkey.
func (s *Server) AskPasskey(r *http.Request) (ForPasskey, error) { return s.ask(r, toSignIn) }

// AskConfirming has the member of a request prove by a passkey who they are.
func (s *Server) AskConfirming(r *http.Request) (ForPasskey, error) {
	return s.ask(r, toConfirm+fmt.Sprint(VisitorOf(r).Device.ID))
}

// checkPasskey judges the use of a passkey that was asked for, and gives whose it is. It is counted like a
// password before it is judged.
func (s *Server) checkPasskey(r *http.Request, purpose, ticket string, answer []byte) (store.Member, error) {
	v, now := VisitorOf(r), time.Now()
	session, ok := s.Known.Signed(purpose, ticket)
	place, here := PasskeysHere(r)
	if !ok || !here {
		return store.Member{}, wrongPasskey()
	}
	id := credentialOf(answer)
	who := "nobody here"
	var m store.Member
	k, name, handle, err := s.Store.PasskeyOf(r.Context(), place.Name, id)
	if err == nil {
		m, err = s.Store.Member(r.Context(), name)
		who = m.Name
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return m, err
	}
	attempt, wait := s.attempts.Take("passkey "+store.Fold(m.Name), v.Address, s.Known.device(r, m.ID), now)
	if wait > 0 {
		s.falseTries(m.Name, v.Address, now)
		s.refused.warn(s.Log, "a passkey refused for now, after too many attempts", who, v.Address, now)
		s.holdBack(r)
		return m, tooMany("to keep guessers out, the next try has to wait", wait)
	}
	wrong := func(why error) (store.Member, error) {
		s.failed.warn(s.Log, "a passkey was not right: "+plain.Text(why.Error()), who, v.Address, now)
		return m, wrongPasskey()
	}
	if err != nil {
		return wrong(errors.New("nobody has it"))
	}
	used, err := place.Check([]byte(session), answer, func([]byte) (passkey.Person, error) {
		return passkey.Person{Handle: handle, Name: m.Name, Records: [][]byte{k.Record}}, nil
	})
	if err != nil {
		return wrong(err)
	}
	if !s.passkeys.once(ticket, now) {
		return wrong(errors.New("the answer was sent before"))
	}
	if err := s.Store.UsePasskey(r.Context(), k.ID, used.Record, now); errors.Is(err, store.ErrNotFound) {
		return wrong(errors.New("it was taken away at this moment"))
	} else if err != nil {
		return m, err
	}
	attempt.Forgive()
	return m, nil
}

// SignInPasskey signs in with a passkey. It stands for both factors: its owner has it, and has proved to it who
// they are.
func (s *Server) SignInPasskey(r *http.Request, ticket string, answer []byte, device string) (string, store.Member,
	error) {
	m, err := s.checkPasskey(r, toSignIn, ticket, answer)
	if err != nil {
		return "", m, err
	}
	now := time.Now()
	if err := s.mayBeHere(m, VisitorOf(r), now); err != nil {
		return "", m, err
	}
	token, d, err := s.addDevice(r, m, store.Device{Name: device, Kind: store.ForPage, Second: true}, now)
	if err == nil {
		s.passkeys.confirm(d.ID, now)
	}
	return token, m, err
}

// ConfirmByPasskey takes a passkey of the member of a request for their password, for a while and on this device.
func (s *Server) ConfirmByPasskey(r *http.Request, ticket string, answer []byte) error {
	v := VisitorOf(r)
	m, err := s.checkPasskey(r, toConfirm+fmt.Sprint(v.Device.ID), ticket, answer)
	if err != nil {
		return err
	}
	if m.ID != v.Member.ID {
		return wrongPasskey()
	}
	s.passkeys.confirm(v.Device.ID, time.Now())
	return nil
}

// NewPasskey begins to make a passkey for the member of a request, who has to know their password.
func (s *Server) NewPasskey(r *http.Request, password string) (ForPasskey, error) {
	m := VisitorOf(r).Member
	if err := s.knowsPassword(r, password); err != nil {
		return ForPasskey{}, err
	}
	list, err := s.Store.Passkeys(r.Context(), m.ID)
	if err != nil {
		return ForPasskey{}, err
	}
	if len(list) >= store.MostPasskeys {
		return ForPasskey{}, manyPasskeys()
	}
	handle, err := s.Store.Handle(r.Context(), m.ID)
	if err != nil {
		return ForPasskey{}, err
	}
	return s.making(r, toHaveOne+fmt.Sprint(m.ID), passkey.Person{Handle: handle, Name: m.Name, Records: records(list)})
}

func manyPasskeys() error {
	return &StatusError{Problem: &problem.Problem{What: "no more passkeys can be had",
		Why: fmt.Sprintf("%d are the most", store.MostPasskeys), Fix: "take one away first"}, Status: http.StatusConflict}
}

func records(list []store.Passkey) (out [][]byte) {
	for _, k := range list {
		out = append(out, k.Record)
	}
	return out
}

// making begins to make a passkey for somebody.
func (s *Server) making(r *http.Request, purpose string, who passkey.Person) (ForPasskey, error) {
	place, ok := PasskeysHere(r)
	if !ok {
		return ForPasskey{}, noPasskeysHere()
	}
	if len(who.Handle) == 0 {
		who.Handle = make([]byte, 32)
		rand.Read(who.Handle) // never fails, see crypto/rand
	}
	options, session, err := place.New(s.Settings.Name, who)
	return ForPasskey{options, s.Known.Sign(purpose, string(session))}, err
}

// made judges a passkey that was made for a purpose.
func (s *Server) made(r *http.Request, purpose, ticket string, answer []byte, name string) (store.Passkey, []byte,
	error) {
	place, here := PasskeysHere(r)
	session, ok := s.Known.Signed(purpose, ticket)
	if !ok || !here {
		return store.Passkey{}, nil, wrongPasskey()
	}
	m, err := place.Keep([]byte(session), answer)
	if err != nil {
		return store.Passkey{}, nil, &StatusError{Problem: &problem.Problem{What: "the passkey cannot be taken",
			Why: err.Error(), Fix: "try again, or use another authenticator", Err: err}, Status: http.StatusBadRequest}
	}
	return store.Passkey{Name: called(name), Place: place.Name, Credential: m.Credential, Record: m.Record}, m.Handle, nil
}

// called is how a passkey is called that is to be called so.
func called(name string) string {
	name = strings.Join(strings.Fields(strings.ToValidUTF8(name, "")), " ")
	if name == "" {
		return "passkey"
	}
	if r := []rune(name); len(r) > 60 {
		name = string(r[:60])
	}
	return name
}

// KeepPasskey keeps a passkey that the member of a request has made.
func (s *Server) KeepPasskey(r *http.Request, ticket string, answer []byte, name string) error {
	m := VisitorOf(r).Member
	k, handle, err := s.made(r, toHaveOne+fmt.Sprint(m.ID), ticket, answer, name)
	if err != nil {
		return err
	}
	with, tell := s.Telling(r.Context(), event.PasskeyChanged{Member: m.Name, Passkey: k.Name, Set: true})
	switch err := s.Store.AddPasskey(with, m.ID, handle, k, time.Now()); {
	case errors.Is(err, store.ErrMany):
		return manyPasskeys()
	case errors.Is(err, store.ErrExists):
		return wrongPasskey() // the same one again, or another was made at this moment
	case err != nil:
		return err
	}
	tell()
	s.NoteChange(r.Context(), m, store.PasskeyMade, k.Name)
	return nil
}

// DropPasskey takes a passkey of the member of a request away, who has to know their password.
func (s *Server) DropPasskey(r *http.Request, id int64, password string) error {
	m := VisitorOf(r).Member
	if err := s.knowsPassword(r, password); err != nil {
		return err
	}
	list, err := s.Store.Passkeys(r.Context(), m.ID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(list, func(k store.Passkey) bool { return k.ID == id })
	if i < 0 {
		return Nothing(r)
	}
	with, tell := s.Telling(r.Context(), event.PasskeyChanged{Member: m.Name, Passkey: list[i].Name})
	switch err := s.Store.RemovePasskey(with, m.ID, id); {
	case errors.Is(err, store.ErrLastWayIn):
		return &StatusError{Problem: &problem.Problem{What: "the passkey stays", Why: "it is the only way in that you have",
			Fix: "choose a password, or add another passkey first"}, Status: http.StatusConflict}
	case errors.Is(err, store.ErrNotFound):
		return Nothing(r)
	case err != nil:
		return err
	}
	tell()
	s.NoteChange(r.Context(), m, store.PasskeyGone, list[i].Name)
	return nil
}

// ForgetPasskeys takes all passkeys of a member away.
func (s *Server) ForgetPasskeys(ctx context.Context, m store.Member) error {
	with, tell := s.Telling(ctx, event.PasskeyChanged{Member: m.Name})
	n, err := s.Store.ForgetPasskeys(with, m.ID)
	if err == nil && n > 0 {
		tell()
		s.NoteChange(ctx, m, store.PasskeysGone, "")
	}
	return err
}

// AskInvited begins to make a passkey for whoever was invited.
func (s *Server) AskInvited(r *http.Request, token string) (ForPasskey, error) {
	i, err := s.Invited(r, token)
	if err != nil {
		return ForPasskey{}, err
	}
	return s.making(r, toComeFrom+token, passkey.Person{Name: i.Name})
}

// AcceptPasskey makes a member of an invite, with a passkey and no password, and signs in on a page.
func (s *Server) AcceptPasskey(r *http.Request, token, ticket string, answer []byte, name, device string) (string,
	store.Member, error) {
	i, err := s.Invited(r, token)
	if err != nil {
		return "", i.Member, err
	}
	k, handle, err := s.made(r, toComeFrom+token, ticket, answer, name)
	if err != nil {
		return "", i.Member, err
	}
	return s.accepted(r, i.Member, device, true, func(ctx context.Context, now time.Time) (store.Member, error) {
		return s.Store.AcceptPasskey(ctx, token, handle, k, now)
	})
}

// credentialOf gives what an authenticator calls the passkey of an answer; nothing where the answer is none.
func credentialOf(answer []byte) []byte {
	var a struct {
		ID string `json:"rawId"`
	}
	if err := json.Unmarshal(answer, &a); err != nil {
		return nil
	}
	b, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(a.ID, "="))
	if err != nil || len(b) > 1023 { // the most that the standard allows
		return nil
	}
	return b
}
