package live

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"
)

// stay is how long a sign-in lasts: it slides while it is used, and ends whatever happens.
type stay struct{ Slides, Ends time.Duration }

const day = 24 * time.Hour

var Stays = map[store.For]stay{
	store.ForPage:    {Slides: 30 * day, Ends: 180 * day},
	store.ForProgram: {Slides: 365 * day, Ends: 730 * day},
}

// Names of cookies. Over HTTPS the session's has a prefix by which a browser takes it from
// this very host only, over HTTPS only, and for all paths (RFC 6265bis, 4.1.3.2).
const (
	CookieName       = "shelf_session"
	SecureCookieName = "__Host-" + CookieName
)

// Session is the name of the session's cookie for a visitor.
func (v *Visitor) Session() string {
	if v.Secure {
		return SecureCookieName
	}
	return CookieName
}

// fewAttempts is how many attempts to sign in are made by whoever mistypes a password.
const fewAttempts = 2

// mostName is how long a name may be at the door, in bytes: 32 characters are the most that
// a member's has.
const mostName = 200

// Identify finds out who asks, by bearer token or cookie.
func (s *Server) Identify(r *http.Request) error {
	v := VisitorOf(r)
	// A page's cookie is no token for programs: whoever sends it so has taken it from there.
	// The other way round there is nothing to be had.
	kind := store.ForProgram
	token, bearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	if !bearer {
		c, err := r.Cookie(v.Session())
		if err != nil {
			return store.ErrNotFound
		}
		token, v.cookie, kind = c.Value, true, ""
	}
	if len(token) > 128 || strings.HasPrefix(token, keyPrefix) { // none of ours, or a key, which is no member
		return store.ErrNotFound
	}
	now := time.Now()
	m, d, err := s.Store.Authenticate(r.Context(), token, kind, now)
	if err != nil {
		if errors.Is(err, store.ErrNotFound) && s.guessed.many(now) {
			s.holdBack(r)
		}
		return err
	}
	return s.enter(r, m, d, now)
}

// IdentifyDevice lets a device in by its number, on whose behalf a sealed address was given out.
func (s *Server) IdentifyDevice(r *http.Request, device int64) error {
	now := time.Now()
	m, d, err := s.Store.SignedIn(r.Context(), device, now)
	if errors.Is(err, store.ErrNotFound) {
		return &StatusError{Problem: &problem.Problem{What: "the device has been signed out",
			Fix: "sign in again, and ask for the film again"}, Status: http.StatusUnauthorized}
	}
	if err != nil {
		return err
	}
	return s.enter(r, m, d, now)
}

// enter notes who a request is from, unless that member may not be here.
func (s *Server) enter(r *http.Request, m store.Member, d store.Device, now time.Time) error {
	v := VisitorOf(r)
	if err := s.mayBeHere(m, v, now); err != nil {
		return err
	}
	if v.Away && !d.Second && s.Demands(m) {
		return needsSecond(m)
	}
	v.Member, v.Device = m, d
	s.Door.Known(r) // whoever this is keeps the connection
	s.touch(r.Context(), m, d, v, now)
	return nil
}

// place is when and where a device was last noted as seen.
type place struct {
	at      time.Time
	network string
}

// touch notes where a device is used: now and then, not at each request, and where it was not before.
func (s *Server) touch(ctx context.Context, m store.Member, d store.Device, v *Visitor, now time.Time) {
	here := place{now, allowance.Area(v.Address, v.Away)}
	if last, _ := s.touched.Load(d.ID); last != nil && last.(place).network == here.network &&
		now.Sub(last.(place).at) <= time.Minute {
		return
	}
	s.touched.Store(d.ID, here)
	var isNew bool
	d.Address, d.Away = v.Address.String(), v.Away
	d.Networks, isNew = allowance.Moved(d.Networks, here.network)
	with, tell := ctx, func() {}
	if isNew {
		with, tell = s.Telling(ctx, event.DeviceMoved{Member: m.Name, Device: d.Name, Address: d.Address})
	}
	if err := s.Store.TouchDevice(with, d, isNew, now, now.Add(Stays[d.Kind].Slides)); err != nil {
		s.Log.Warn("a device could not be noted as seen", "why", err)
		return
	}
	tell()
}

// SignIn checks name and password, and gives a token for a device. An attempt is counted
// before anything is done for it. Who has a second factor needs a code, too; where it is empty,
// SecondWanted says how to go on.
func (s *Server) SignIn(r *http.Request, name, password, code, device string, kind store.For) (string, store.Member,
	error) {
	v, now := VisitorOf(r), time.Now()
	if len(name) > mostName {
		name = name[:mostName] // which nobody has
	}
	m, err := s.Store.Member(r.Context(), name)
	known := err == nil && m.Password != "" // who has passkeys only gives none
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return "", m, err
	}
	// A name that nobody has is worked on like any other, but goes behind those of members.
	hash, line := secret.Nobody, secret.Later
	who := "nobody here"
	if known {
		hash, line = m.Password, secret.First
	}
	if m.Name != "" {
		who = m.Name
	}
	attempt, wait := s.attempts.Take(store.Fold(name), v.Address, s.Known.device(r, m.ID), now)
	if wait > 0 {
		s.falseTries(m.Name, v.Address, now)
		s.refused.warn(s.Log, "sign-in refused for now, after too many attempts", who, v.Address, now)
		s.holdBack(r)
		return "", store.Member{}, tooMany("to keep guessers out, the next try has to wait", wait)
	}
	if line == secret.First && attempt.Recent > fewAttempts {
		line = secret.Again // so that guesses at some keep no other member waiting
	}
	right, err := s.rightPassword(r.Context(), line, hash, password)
	if err != nil {
		attempt.Back() // nothing was tried
		if errors.Is(err, secret.ErrBusy) {
			s.holdBack(r)
			return "", m, tooMany("many are signing in at this moment", 5*time.Second)
		}
		return "", m, err
	}
	if !right || !known {
		s.failed.warn(s.Log, "sign-in failed", who, v.Address, now)
		if v.Away {
			s.holdBack(r) // from outside a false try takes its time
		}
		return "", m, &StatusError{Problem: &problem.Problem{
			What: "name or password is not right",
			Fix:  "check both; an administrator can set a new password with cozyshelf member password",
		}, Status: http.StatusUnauthorized, Wait: 0}
	}
	if err := s.mayBeHere(m, v, now); err != nil {
		attempt.Back()
		return "", m, err
	}
	if err := outOfDate(m, now); err != nil {
		attempt.Back()
		return "", m, err
	}
	s.hashAnew(r.Context(), m, password)
	second, err := s.second(r, m, code, device, kind, now)
	var wanted *SecondWanted
	if errors.As(err, &wanted) {
		attempt.Back() // the password was right; codes are counted by themselves
	}
	if err != nil {
		return "", m, err
	}
	attempt.Forgive()
	token, _, err := s.addDevice(r, m, store.Device{Name: device, Kind: kind, Second: second}, now)
	return token, m, err
}

// OwnPassword gives the member of a request another password, if they know the one before. Guesses are
// counted like those at the door. Every device is signed out; the token that it gives is for the one that
// asked.
func (s *Server) OwnPassword(r *http.Request, before, password string) (token string, err error) {
	v, now := VisitorOf(r), time.Now()
	m, err := s.Store.Member(r.Context(), v.Member.Name)
	if err != nil {
		return "", err
	}
	if why := secret.Judge(password, m.Name); why != "" {
		return "", &StatusError{Problem: &problem.Problem{What: "the password cannot be taken", Why: why,
			Fix: "choose a longer one"}, Status: http.StatusBadRequest}
	}
	if err := s.knowsPassword(r, before); err != nil {
		return "", err
	}
	with, tell := s.Telling(r.Context(), event.PasswordChanged{Member: m.Name})
	if err := s.Store.SetPassword(with, m.Name, s.Keys.Hash(password), time.Time{}); err != nil {
		return "", err
	}
	tell()
	s.Cuts.Cut(m.ID)
	token, v.Device, err = s.addDevice(r, m, store.Device{Name: v.Device.Name, Kind: store.ForPage,
		Second: v.Device.Second, Screen: v.Device.Screen}, now)
	s.NoteChange(r.Context(), m, store.PasswordSet, "")
	return token, err
}

// knowsPassword asks the member of a request for their password once more, before something that matters. A
// passkey that was used a moment ago stands for it. Guesses are counted like those at the door.
func (s *Server) knowsPassword(r *http.Request, password string) error {
	return s.reassure(r, password, nil)
}

// Reassured is knowsPassword for what administrators do to others.
func (s *Server) Reassured(r *http.Request, password string) error {
	return s.reassure(r, password, nil)
}

// reassure asks for the password, and then for more, if there is more: all of it is one guess.
func (s *Server) reassure(r *http.Request, password string, more func() error) error {
	v, now := VisitorOf(r), time.Now()
	m, err := s.Store.Member(r.Context(), v.Member.Name)
	if err != nil {
		return err
	}
	attempt, wait := s.attempts.Take(store.Fold(m.Name), v.Address, s.Known.device(r, m.ID), now)
	if wait > 0 {
		s.falseTries(m.Name, v.Address, now)
		s.holdBack(r)
		return tooMany("to keep guessers out, the next try has to wait", wait)
	}
	right := password == "" && s.Confirmed(v.Device)
	if !right && m.Password != "" {
		right, err = s.rightPassword(r.Context(), secret.Again, m.Password, password)
	}
	if err != nil {
		attempt.Back()
		if errors.Is(err, secret.ErrBusy) {
			return tooMany("many are signing in at this moment", 5*time.Second)
		}
		return err
	}
	if !right {
		s.failed.warn(s.Log, "a wrong password on one's own page", m.Name, v.Address, now)
		return &StatusError{Problem: &problem.Problem{What: "that is not the password you have",
			Fix: "try again, or confirm with a passkey"}, Status: http.StatusForbidden}
	}
	if more != nil {
		if err := more(); err != nil {
			return err
		}
	}
	attempt.Forgive()
	return nil
}

// mostHeld is how many answers are held back at a time.
const mostHeld = 4096

// holdBack lets whoever tries too much wait for the answer: meanwhile it asks nothing more.
func (s *Server) holdBack(r *http.Request) {
	defer s.stalled.Add(-1)
	if s.stalled.Add(1) > mostHeld {
		return
	}
	s.Door.keep(r, false) // meanwhile it gives way to others
	select {
	case <-r.Context().Done():
	case <-time.After(s.HeldBack):
	}
}

// lately bounds what is logged of what strangers try: so many lines a second, and the rest in
// one.
type lately struct {
	mu     sync.Mutex
	second time.Time
	said   int
	more   int
}

// mostSaid is how many lines a second there are, mostGuessed how many tokens that are none
// are answered at once.
const (
	mostSaid    = 20
	mostGuessed = 100
)

// many counts, and reports whether there were many within this second.
func (l *lately) many(now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if now.Sub(l.second).Abs() > time.Second {
		l.second, l.said = now, 0
	}
	l.said++
	return l.said > mostGuessed
}

func (l *lately) warn(log *slog.Logger, what, member string, address netip.Addr, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if now.Sub(l.second).Abs() > time.Second {
		if l.more > 0 {
			log.Warn("more sign-ins were refused or failed", "in_all", l.more)
		}
		l.second, l.said, l.more = now, 0, 0
	}
	if l.said++; l.said > mostSaid {
		l.more++
		return
	}
	log.Warn(what, "member", member, "address", address)
}

func tooMany(why string, wait time.Duration) error {
	return &StatusError{Problem: &problem.Problem{
		What: "too many sign-ins were tried", Why: why, Fix: fmt.Sprintf("try again in %s", wait.Round(time.Second)),
	}, Status: http.StatusTooManyRequests, Wait: wait}
}

// Admit judges a request before anything is done for it, by where it comes from and how.
func (s *Server) Admit(w http.ResponseWriter, r *http.Request, v *Visitor) error {
	if !s.answersTo(r.Host) {
		return &StatusError{Problem: &problem.Problem{
			What: "this server is not known by that name", Where: r.Host,
			Why: "a page elsewhere could otherwise have a browser ask it, under a name of its own",
			Fix: "use its address, or have the administrator add the name to [server] names in the household file " +
				"and deploy",
		}, Status: http.StatusMisdirectedRequest, Wait: 0}
	}
	if v.Away && !v.Secure && !s.Settings.AllowPlain {
		return &StatusError{Problem: &problem.Problem{
			What: "from outside this server answers over HTTPS only", Where: v.Address.String(),
			Why: "over plain HTTP anybody on the way could read passwords and films",
			Fix: "use an address that begins with https; whoever knows better writes allow_plain = true under " +
				"[remote] in the household file",
		}, Status: http.StatusForbidden, Wait: 0}
	}
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		if r.ContentLength != 0 {
			w.Header().Set("Connection", "close")
			return &StatusError{Problem: &problem.Problem{
				What: "a request that only reads has no body", Why: "this one brings one", Fix: "send it without",
			}, Status: http.StatusBadRequest, Wait: 0}
		}
		return nil
	}
	// All that is sent to us is small, but for uploads, which set a time of their own; nobody
	// may take for ever over it.
	_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(bodyTime)) // without it, it only lasts longer
	return nil
}

// TurnAway answers a request that is not admitted: a page for people, a document for
// programs.
func (s *Server) TurnAway(w http.ResponseWriter, r *http.Request, err error) {
	var st *StatusError
	if strings.HasPrefix(r.URL.Path, "/api/") || !errors.As(err, &st) {
		Fail(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	w.WriteHeader(st.Status)
	// If this fails, the client has gone.
	_, _ = fmt.Fprintf(w, "%s.\n\n%s.\n%s.\n", upper(st.What), upper(st.Why), upper(st.Fix))
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// answersTo reports whether this server is known by the host that a request names: any
// address, since a foreign page cannot have one for its name, this machine's own names,
// and those that the household file gives.
func (s *Server) answersTo(host string) bool {
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	name = strings.TrimSuffix(strings.ToLower(strings.Trim(name, "[]")), ".")
	if _, err := netip.ParseAddr(name); err == nil {
		return true
	}
	return s.Names[name]
}

// Hidden reports whether strangers may be behind an address: where the engine forwards all
// connections by itself, they come from the network's gateway or from this container.
func (s *Server) Hidden(a netip.Addr) bool {
	if !s.Settings.HidesClients {
		return false
	}
	for _, own := range s.gateways() {
		if own == a {
			return true
		}
	}
	return false
}

// WarnProxy tells once of an address that forwards without being trusted, and of so many
// at most.
func (s *Server) WarnProxy(via netip.Addr) {
	if s.warned.Load() > 20 {
		return
	}
	if _, before := s.warnedOf.LoadOrStore(via, true); !before {
		s.warned.Add(1)
		s.Log.Warn("requests are forwarded by an address that is not a trusted proxy; it counts as the client itself",
			"address", via)
	}
}
