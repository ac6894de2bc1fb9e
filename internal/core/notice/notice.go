// Package notice decides what the household is told of, in which words, and when.
//
// # From events to notices
//
// Of makes a notice of an event (package event) that somebody may want to be told of: a code
// that does not change, a sentence for people, the members concerned, and the event's fields for
// programs. What has no code is for the log alone.
//
// # When
//
// A receiver gets its notices in the order in which things happened. Ready says from when on the
// first that waits may be sent: after a failure later and later, not in the hours in which the
// receiver wants to be left alone, and together with others where it wants them gathered. Overdue
// says when one is given up.
//
// The package only computes. Package notify keeps what waits in the store, and sends it.
package notice

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/plain"
)

// Notice is what is told.
type Notice struct {
	ID      string         `json:"id"` // no other has it
	Code    event.Code     `json:"event"`
	At      time.Time      `json:"at"`
	Text    string         `json:"text"`    // a sentence
	Members []string       `json:"members"` // whom it concerns; none where it concerns the house
	Data    map[string]any `json:"data"`    // what is known of it
}

// Of makes a notice of an event; ok is false for one that is for the log alone. The caller gives it an id.
func Of(e event.Event, now time.Time) (n Notice, ok bool) {
	n = Notice{At: now, Members: []string{}, Data: map[string]any{}}
	if n.Code, n.Text, n.Members = words(e); n.Code == "" {
		return n, false
	}
	n.Text = Line(n.Text)
	for _, f := range e.Fields() {
		switch v := f.Value.(type) {
		case time.Duration:
			n.Data[f.Key] = v.Seconds()
		case string:
			n.Data[f.Key] = Line(v)
		default:
			n.Data[f.Key] = v
		}
	}
	if n.Members = slices.DeleteFunc(n.Members, func(m string) bool { return m == "" }); n.Members == nil {
		n.Members = []string{}
	}
	return n, true
}

// Test is a notice that only tries a receiver.
func Test(house string, now time.Time) Notice {
	return Notice{Code: event.CodeTest, At: now, Members: []string{}, Data: map[string]any{},
		Text: Line("This is a test from " + house + ".")}
}

// mostText is how long a text in a notice may be, in bytes.
const mostText = 500

// Line shows a text in one line, cut at a letter.
func Line(text string) string {
	if text = plain.Line(text); len(text) <= mostText {
		return text
	}
	cut := mostText
	for !utf8.RuneStart(text[cut]) {
		cut--
	}
	return text[:cut] + "…"
}

// words says what happened.
func words(e event.Event) (code event.Code, text string, members []string) {
	switch e := e.(type) {
	case event.PlayBegan:
		return event.CodePlayBegan, fmt.Sprintf("%s watches %s%s.", e.Member, e.Title, on(e.Device)), []string{e.Member}
	case event.PlayEnded:
		end := "has stopped watching"
		if e.Finished {
			end = "has seen the end of"
		}
		return event.CodePlayEnded, fmt.Sprintf("%s %s %s%s.", e.Member, end, e.Title, on(e.Device)), []string{e.Member}
	case event.SignedIn:
		if !e.New {
			return "", "", nil
		}
		return event.CodeDeviceNew, fmt.Sprintf("%s signed in on a new device, %s, from %s.", e.Member, e.Device,
			where(e.Address, e.Away)), []string{e.Member}
	case event.DeviceMoved:
		return event.CodeDeviceMoved, fmt.Sprintf("%s of %s was used from a new network, %s.", e.Device, e.Member, e.Address),
			[]string{e.Member}
	case event.FalseTries:
		about := ""
		if e.Member != "" {
			about = " for " + e.Member
		}
		return event.CodeFalseTries, fmt.Sprintf("Too many wrong tries to sign in%s from %s. It has to wait.", about,
				e.Address),
			[]string{e.Member}
	case event.PasswordChanged:
		return event.CodeSignInChanged, e.Member + " has a new password, and all devices are signed out.", []string{e.Member}
	case event.FactorChanged:
		return event.CodeSignInChanged, e.Member + either(e.Set, " has set up a second factor.",
				" has no second factor any more."),
			[]string{e.Member}
	case event.PasskeyChanged:
		return event.CodeSignInChanged, e.Member + either(e.Set, " has a new passkey.", " has a passkey less."),
			[]string{e.Member}
	case event.RecoveryUsed:
		return event.CodeSignInChanged, fmt.Sprintf("%s signed in by a recovery code; %d are left.", e.Member, e.Left),
			[]string{e.Member}
	case event.Invited:
		return event.CodeMemberChanged, fmt.Sprintf("%s was invited as %s.", e.Who, e.Role), []string{e.Who}
	case event.MemberAdded:
		return event.CodeMemberChanged, fmt.Sprintf("%s is a member now, as %s.", e.Member, e.Role), []string{e.Member}
	case event.MemberChanged:
		return event.CodeMemberChanged, fmt.Sprintf("What %s may do was changed.", e.Member), []string{e.Member}
	case event.MemberRemoved:
		return event.CodeMemberChanged, e.Member + " is no member any more.", []string{e.Member}
	case event.Granted:
		return event.CodeMemberChanged, fmt.Sprintf("%s gave %s more time, until %s.", e.By, e.Member, e.Until),
			[]string{e.Member}
	case event.TimeUp:
		return event.CodeTimeUp, fmt.Sprintf("%s may watch no longer: %s.", e.Member, e.Why), []string{e.Member}
	case event.TitlesArrived:
		return event.CodeTitleArrived, fmt.Sprintf("On the shelf %s: %s.", e.Shelf, several(e.Titles, e.Count)), nil
	case event.UploadPlaced:
		return event.CodeUploadArrived, fmt.Sprintf("%s of %s is on the shelf %s.", e.File, e.Member, e.Shelf),
			[]string{e.Member}
	case event.UploadUnfit:
		return event.CodeUploadArrived, fmt.Sprintf("%s of %s cannot go on the shelf %s: %s.", e.File, e.Member, e.Shelf,
				e.Why),
			[]string{e.Member}
	case event.ConversionRefused:
		return event.CodeConversionRefused, fmt.Sprintf("%s could not be sent to %s: %s.", e.Title, e.Member, e.Why),
			[]string{e.Member}
	}
	code, text = house(e)
	return code, text, nil
}

// house says what happened to the house.
func house(e event.Event) (code event.Code, text string) {
	switch e := e.(type) {
	case event.Scanned:
		if e.Unreadable == 0 || e.New+e.Changed == 0 {
			return "", "" // as it was before
		}
		return event.CodeScanProblems, fmt.Sprintf("%d files of the shelf %s cannot be read.", e.Unreadable, e.Shelf)
	case event.FolderAway:
		return event.CodeFolderAway, fmt.Sprintf("The folder %s of the shelf %s is not there: %s.", e.Folder, e.Shelf, e.Why)
	case event.FolderBack:
		return event.CodeFolderBack, fmt.Sprintf("The folder %s of the shelf %s is there again.", e.Folder, e.Shelf)
	case event.DiskLow:
		return event.CodeDiskLow, fmt.Sprintf("The disk of %s is nearly full: %d MiB of %d MiB are free.", e.Folder,
			e.Free>>20,
			e.Size>>20)
	case event.DiskFills:
		return event.CodeDiskFills, fmt.Sprintf("The disk of %s will be full about %s: %d MiB arrive a day.", e.Folder,
			e.Full,
			e.Daily>>20)
	case event.BackupMade:
		return event.CodeBackupMade, "The server made the backup " + e.File + "."
	case event.BackupFailed:
		return event.CodeBackupFailed, fmt.Sprintf("The backup into %s failed, and is tried again later: %s.", e.Folder,
			e.Why)
	case event.BackupOverdue:
		return event.CodeBackupOverdue, fmt.Sprintf("There should be a newer backup in %s; the last is of %s.", e.Folder,
			orNever(e.Last))
	case event.NameMoved:
		return event.CodeNameMoved, fmt.Sprintf("%s stands for %s now.", e.Host, e.Address)
	case event.NameFails:
		return event.CodeNameFails, fmt.Sprintf("%s could not be looked after: %s. It is tried again.", e.Host,
			e.Why)
	case event.CertificateEnds:
		return event.CodeCertificateEnds, fmt.Sprintf("The certificate for %s ends on %s. %s", e.Names, e.Ends, e.Why)
	case event.Updated:
		return event.CodeServerUpdated, fmt.Sprintf("The server runs version %s now; before it was %s.", e.To, e.From)
	case event.KeyChanged:
		return event.CodeKeyChanged, either(e.Set, fmt.Sprintf("The key %s was made; it may: %s.", e.Key, e.May),
			fmt.Sprintf("The key %s was taken away.", e.Key))
	case event.OutsideChanged:
		return event.CodeOutsideChanged, "The way in from outside was " + either(e.Closed, "closed.", "opened again.")
	case event.NoticesLost:
		return event.CodeNoticesLost, fmt.Sprintf("%d notices to %s were given up: %s.", e.Count, e.Receiver, e.Why)
	}
	return "", ""
}

func either(is bool, yes, no string) string {
	if is {
		return yes
	}
	return no
}

// on says on which device, where that is known.
func on(device string) string {
	if device == "" {
		return ""
	}
	return " on " + device
}

// where says from where somebody came.
func where(address string, away bool) string { return address + either(away, ", away", ", at home") }

func orNever(t string) string {
	if t == "" {
		return "never"
	}
	return t
}

// several lists names, and says how many more there are.
func several(names []string, count int) string {
	text := strings.Join(names, ", ")
	if more := count - len(names); more > 0 {
		text += fmt.Sprintf(", and %d more", more)
	}
	return text
}
