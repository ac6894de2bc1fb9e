package web

import (
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// ownPage is a member's own corner: what they may watch, where they are signed in, and their password.
type ownPage struct {
	Frame
	Status       int // of the answer
	Said, Done   string
	Bounds       []string
	Used, Now    string
	Devices      []ownDevice
	Wards        []ward // to whom more can be granted
	Factor       string // since when there is a second factor; empty for none
	Recoveries   int
	Demanded     bool // one is needed from outside
	MayScreen    bool // they may make this device a screen for several
	Screens      []store.Screen
	PIN          bool // they have one
	Admin        bool // they may see to the house
	Passkeys     []ownPasskey
	PasskeysHere bool   // one can be made at this address
	Fresh        bool   // they have proved a moment ago who they are
	NoPassword   bool   // they come in by passkeys only
	Browser      string // what a passkey is called that is not called anything
	Hears        bool   // of new devices of others
	MayChoose    bool   // for how long plays are kept
	History      int    // days; -1 as the household says
	Made         string // what is to be done about a passphrase that was made for the member
	Changes      []ownChange
	Feed         string // since when there is a secret address of what arrived; empty for none
	FeedAt       string // that address, where it was made just now
	PushKey      string // of the server, by which a browser subscribes; empty where none is told of anything
	Told         bool   // this browser is
	House        string
}

type ownPasskey struct {
	ID                    int64
	Name, When, Elsewhere string
}

// othersDevice is a device of somebody else of which an administrator is told.
type othersDevice struct{ Whose, Name, When, Where string }

// ward is a child whose time is bounded.
type ward struct{ Name, Now, Film string }

type ownDevice struct {
	ID                int64
	Name, Seen, Where string
	Here              bool
}

func (s *Web) pageOwn(w http.ResponseWriter, r *http.Request) error {
	return s.showOwn(w, r, http.StatusOK, "", "")
}

func (s *Web) showOwn(w http.ResponseWriter, r *http.Request, status int, said, done string) error {
	return s.showOwnWith(w, r, func(p *ownPage) { p.Status, p.Said, p.Done = status, said, done })
}

// showOwnWith shows the member's own page with something more.
func (s *Web) showOwnWith(w http.ResponseWriter, r *http.Request, more func(*ownPage)) error {
	v := live.VisitorOf(r)
	now := time.Now().In(s.Zone)
	u, verdict, err := s.Standing(r.Context(), v.Member)
	if err != nil {
		return err
	}
	page := ownPage{Frame: s.Frame(v, v.Member.Name, "own"), Status: http.StatusOK, Bounds: bounds(v.Member, now, s.Zone),
		Used: fmt.Sprintf("You have watched %s today, and %s this week.", minutes(u.Today), minutes(u.Week))}
	if !verdict.Until.IsZero() {
		at := live.Spoken(verdict.Until.In(s.Zone), now)
		page.Now = "It goes on " + at + "."
		if verdict.OK {
			page.Now = "You may watch until " + strings.TrimPrefix(at, "today at ") + "."
		}
	}
	whole, err := s.Store.Member(r.Context(), v.Member.Name)
	if err != nil {
		return err
	}
	page.PIN, page.MayScreen = whole.PIN != "", live.MayGrant(r)
	if page.MayScreen {
		if page.Screens, err = s.Store.Screens(r.Context()); err != nil {
			return err
		}
	}
	page.NoPassword, page.Fresh, page.Browser = whole.Password == "", s.Confirmed(v.Device), browser(r.UserAgent())
	place, here := live.PasskeysHere(r)
	page.PasskeysHere = here
	keys, err := s.Store.Passkeys(r.Context(), v.Member.ID)
	if err != nil {
		return err
	}
	for _, k := range keys {
		o := ownPasskey{ID: k.ID, Name: k.Name, When: "never used"}
		if !k.Used.IsZero() {
			o.When = "last used " + live.Spoken(k.Used.In(s.Zone), now)
		}
		if !here || k.Place != place.Name {
			o.Elsewhere = k.Place
		}
		page.Passkeys = append(page.Passkeys, o)
	}
	if page.Made, err = s.made(r); err != nil {
		return err
	}
	feed, err := s.Store.FeedSince(r.Context(), v.Member.ID)
	if err != nil {
		return err
	}
	if !feed.IsZero() {
		page.Feed = feed.In(s.Zone).Format("2 January 2006")
	}
	if err := s.browserTold(r, &page); err != nil {
		return err
	}
	changes, err := s.Store.ChangesOf(r.Context(), v.Member.ID, mostChanges)
	if err != nil {
		return err
	}
	for _, c := range changes {
		page.Changes = append(page.Changes, s.changeOf(c, v, now))
	}
	page.Admin = v.Member.Role == allowance.Admin
	hears, err := s.Store.Hears(r.Context(), v.Member.ID)
	if err != nil {
		return err
	}
	page.Hears = !hears.IsZero()
	page.MayChoose, page.History, page.House = s.MayChoose(), int(whole.History), "as long as they are there"
	if days := s.Settings.History; days > 0 {
		page.House = fmt.Sprintf("for %d days", days)
	}
	f, err := s.Store.Factor(r.Context(), v.Member.ID)
	switch page.Demanded = s.Demands(v.Member); {
	case err == nil:
		page.Factor, page.Recoveries = f.Created.In(s.Zone).Format("2 January 2006"), f.Recoveries
	case !errors.Is(err, store.ErrNotFound):
		return err
	}
	list, err := s.Store.DevicesOf(r.Context(), v.Member.ID, now)
	if err != nil {
		return err
	}
	for _, d := range list {
		page.Devices = append(page.Devices, ownDevice{d.ID, d.Name, live.Spoken(d.Seen.In(s.Zone), now), where(d),
			d.ID == v.Device.ID})
	}
	if live.MayGrant(r) {
		wards, err := s.Wards(r.Context())
		if err != nil {
			return err
		}
		for _, m := range wards {
			_, verdict, err := s.Standing(r.Context(), m)
			if err != nil {
				return err
			}
			text := "may watch now"
			switch at := live.Spoken(verdict.Until.In(s.Zone), now); {
			case verdict.Until.IsZero():
			case verdict.OK:
				text = "may watch until " + strings.TrimPrefix(at, "today at ")
			default:
				text = "may watch again " + at
			}
			film, _, err := s.Rest(r.Context(), m)
			if err != nil {
				return err
			}
			page.Wards = append(page.Wards, ward{m.Name, text, film})
		}
	}
	more(&page)
	s.Show(w, page.Status, "own", page)
	return nil
}

// where tells where a device was used last.
func where(d store.Device) string {
	switch {
	case d.Address == "":
		return ""
	case d.Away:
		return "outside the home, from " + d.Address
	}
	return "at home, from " + d.Address
}

// unheard are devices of which the member of a request has not been told: new ones, and those that were used
// from a new network.
func (s *Web) unheard(r *http.Request) (out []ownDevice, err error) {
	v, now := live.VisitorOf(r), time.Now().In(s.Zone)
	list, err := s.Store.DevicesOf(r.Context(), v.Member.ID, now)
	for _, d := range list {
		if !d.Told && d.ID != v.Device.ID {
			out = append(out, ownDevice{ID: d.ID, Name: d.Name, Seen: live.Spoken(d.Seen.In(s.Zone), now), Where: where(d)})
		}
	}
	return out, err
}

// mostOthers is how many devices of others an administrator is told of at a time.
const mostOthers = 20

// unheardOthers are devices of others of which an administrator has not been told, who wants to be.
func (s *Web) unheardOthers(r *http.Request) (out []othersDevice, err error) {
	v, now := live.VisitorOf(r), time.Now().In(s.Zone)
	if v.Member.Role != allowance.Admin {
		return nil, nil
	}
	since, err := s.Store.Hears(r.Context(), v.Member.ID)
	if err != nil || since.IsZero() {
		return nil, err
	}
	list, err := s.Store.MovedSince(r.Context(), v.Member.ID, since, mostOthers)
	for _, d := range list {
		out = append(out, othersDevice{d.Whose, d.Name, live.Spoken(d.Seen.In(s.Zone), now), where(d.Device)})
	}
	return out, err
}

// hearsOwn has an administrator told of the devices of others from now on, or not any more.
func (s *Web) hearsOwn(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	m := live.VisitorOf(r).Member
	if m.Role != allowance.Admin {
		return live.Nothing(r)
	}
	until, next := time.Now(), "/"
	switch r.PostFormValue("hears") {
	case "no":
		until, next = time.Time{}, "/own"
	case "yes":
		next = "/own"
	}
	if err := s.Store.SetHears(r.Context(), m.ID, until); err != nil {
		return err
	}
	http.Redirect(w, r, next, http.StatusSeeOther)
	return nil
}

// heardOwn notes that the member knows of all their devices.
func (s *Web) heardOwn(w http.ResponseWriter, r *http.Request) error {
	if err := s.Store.ToldOfDevices(r.Context(), live.VisitorOf(r).Member.ID); err != nil {
		return err
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
	return nil
}

// bounds tells a member what they may watch, in sentences.
func bounds(m store.Member, now time.Time, zone *time.Location) (out []string) {
	a := m.Allowed
	if len(a.Hours) > 0 {
		out = append(out, "Your hours are "+allowance.FormatHours(a.Hours)+".")
	}
	if a.Day > 0 {
		out = append(out, fmt.Sprintf("You may watch %d minutes a day.", a.Day))
	}
	if a.Week > 0 {
		out = append(out, fmt.Sprintf("You may watch %d minutes a week.", a.Week))
	}
	if a.Streams > 0 {
		out = append(out, fmt.Sprintf("You may watch %d at once.", a.Streams))
	}
	if !m.Away {
		out = append(out, "You may watch at home only.")
	}
	if !a.Until.IsZero() {
		out = append(out, "Your account ends "+live.Spoken(a.Until.In(zone), now)+".")
	}
	return out
}

func minutes(d time.Duration) string {
	n := int(d.Minutes())
	if n == 1 {
		return "1 minute"
	}
	return fmt.Sprintf("%d minutes", n)
}

// grantOwn lets a child watch for a while more.
func (s *Web) grantOwn(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	if err := s.GrantMore(r, r.PathValue("name"), r.PostFormValue("more") == "film"); err != nil {
		return err
	}
	http.Redirect(w, r, "/own", http.StatusSeeOther)
	return nil
}

// endOwn signs one of the member's devices out, or all but this one.
func (s *Web) endOwn(w http.ResponseWriter, r *http.Request) error {
	v := live.VisitorOf(r)
	list, err := s.Store.DevicesOf(r.Context(), v.Member.ID, time.Now())
	if err != nil {
		return err
	}
	which := r.PathValue("device")
	if which == "others" {
		if err := s.SignOutAll(r.Context(), v.Member, v.Device.ID); err != nil {
			return err
		}
	}
	for _, d := range list {
		if d.ID != v.Device.ID && which == fmt.Sprint(d.ID) {
			if err := s.Store.RemoveDevice(r.Context(), d.ID); err != nil {
				return err
			}
		}
	}
	s.Cuts.Cut(v.Member.ID) // who may still have it asks again
	http.Redirect(w, r, "/own", http.StatusSeeOther)
	return nil
}

// historyOwn has the member's plays kept for as long as they say.
func (s *Web) historyOwn(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	days, ok := map[string]usage.Kept{"house": usage.AsHousehold, "30": 30, "0": 0}[r.PostFormValue("days")]
	if !ok {
		return s.showOwn(w, r, http.StatusBadRequest, "The form could not be read; please try again.", "")
	}
	if err := s.ChooseHistory(r, days); err != nil {
		return s.refusedOwn(w, r, err)
	}
	http.Redirect(w, r, "/own", http.StatusSeeOther)
	return nil
}

// passwordOwn gives the member another password, if they know the one before. All devices are signed
// out, and this one comes in again.
func (s *Web) passwordOwn(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 16<<10)
	if err := r.ParseForm(); err != nil {
		return s.showOwn(w, r, http.StatusBadRequest, "The form could not be read; please try again.", "")
	}
	if r.PostForm.Get("password") != r.PostForm.Get("again") {
		return s.showOwn(w, r, http.StatusBadRequest, "The two were not the same; please try again.", "")
	}
	token, err := s.OwnPassword(r, r.PostForm.Get("now"), r.PostForm.Get("password"))
	if err != nil {
		return s.refusedOwn(w, r, err)
	}
	s.comeIn(w, r, token, live.VisitorOf(r).Member)
	return s.showOwn(w, r, http.StatusOK, "", "You have a new password. All other devices are signed out.")
}
