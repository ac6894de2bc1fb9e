package web

import (
	"net/http"
	"strconv"
	"time"

	"cozyshelf/internal/server/live"
	"cozyshelf/internal/store"
)

// mostChanges is how many changes to how they sign in a member is shown at a time.
const mostChanges = 10

// ownChange is a change to how a member signs in, in words.
type ownChange struct{ What, When, By string }

// changeWords tell a member what was changed.
var changeWords = map[store.ChangeOf]string{
	store.PasswordSet: "You have another password", store.PasskeyMade: "You have a new passkey",
	store.PasskeyGone: "A passkey was taken away", store.PasskeysGone: "All your passkeys were taken away",
	store.FactorSet: "You have a second factor", store.FactorGone: "Your second factor was taken away",
	store.RecoveryTaken: "A recovery code was used", store.ScreenPIN: "You have another PIN for screens",
	store.ScreenPINGone: "Your PIN for screens was taken away",
}

func (s *Web) changeOf(c store.SignInChange, v *live.Visitor, now time.Time) ownChange {
	out := ownChange{What: changeWords[c.What], When: live.Spoken(c.At.In(s.Zone), now)}
	if out.What == "" {
		out.What = "A change" // by a newer program, put back since
	}
	if c.About != "" {
		out.What += " (" + c.About + ")"
	}
	switch {
	case c.Device == v.Device.ID && c.Device != 0:
		out.By = "on this device"
	case c.Address == "":
		out.By = "by an administrator, on the server"
	case c.Called == "":
		out.By = "from " + c.Address
	case c.Device == 0:
		out.By = "by " + c.Called + ", from " + c.Address
	default:
		out.By = "on " + c.Called + ", from " + c.Address
	}
	return out
}

// untold are changes to how the member of a request signs in of which they have not been told, but for those
// that they made on this very device, and up to which one that is.
func (s *Web) untold(r *http.Request) (out []ownChange, until int64, err error) {
	v, now := live.VisitorOf(r), time.Now().In(s.Zone)
	list, err := s.Store.ChangesOf(r.Context(), v.Member.ID, mostChanges)
	for _, c := range list {
		if !c.Told && (c.Device == 0 || c.Device != v.Device.ID) {
			out, until = append(out, s.changeOf(c, v, now)), max(until, c.ID)
		}
	}
	return out, until, err
}

// toldOwn notes that the member knows of the changes that they were shown.
func (s *Web) toldOwn(w http.ResponseWriter, r *http.Request) error {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	until, err := strconv.ParseInt(r.PostFormValue("until"), 10, 64)
	if err != nil {
		return live.Nothing(r)
	}
	if err := s.Store.ToldOfChanges(r.Context(), live.VisitorOf(r).Member.ID, until); err != nil {
		return err
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
	return nil
}

// made says what is to be done about a passphrase that was made for the member; nothing for one of their own.
func (s *Web) made(r *http.Request) (string, error) {
	m, err := s.Store.Member(r.Context(), live.VisitorOf(r).Member.Name)
	if err != nil || m.MadeUntil.IsZero() {
		return "", err
	}
	now := time.Now().In(s.Zone)
	if m.MadeUntil.Before(now) {
		return "The passphrase that was made for you is not good any more: choose a password of your own, or you " +
			"cannot sign in again.", nil
	}
	return "Your passphrase was made for you, and is good until " +
		m.MadeUntil.In(s.Zone).Format("Monday, 2 January, at 15:04") +
		". Choose a password of your own.", nil
}
