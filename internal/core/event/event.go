// Package event is what happens in a household's server, as typed values.
//
// # What an event is
//
// An event is something that happened and that somebody may want to know of: a member was
// added, a device signed in, a file was put on a shelf, a backup failed. It is a value with
// fields of their own types; [Event.Name] names it in words that do not change, and
// [Event.Fields] gives what is known of it in an order for people. What a program says of its
// own workings is no event: that is for the log alone.
//
// # Who hears of it
//
// A [Stream] tells events to observers. One that is quick, as the log is, hears each at once
// ([Stream.Hear]). Others take them from a queue of a bounded length ([Stream.Follow]): whoever
// tells an event never waits for them, and what does not fit is counted.
package event

import (
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Event is something that happened.
type Event interface {
	// Name is what happened, in words that do not change: "member added".
	Name() string
	// Level is how much it matters.
	Level() Level
	// Fields are what is known of it.
	Fields() []Field
}

// Level is how much an event matters.
type Level int

// The levels.
const (
	Info    Level = iota
	Warning       // somebody should see to it
	Failure       // something did not come about
)

// Field is one thing that is known of an event.
type Field struct {
	Key   string
	Value any
}

// String writes an event in a line.
func String(e Event) string {
	var b strings.Builder
	b.WriteString(e.Name())
	for _, f := range e.Fields() {
		fmt.Fprintf(&b, " %s=%v", f.Key, f.Value)
	}
	return b.String()
}

// info, warning and failure give events their level.
type (
	info    struct{}
	warning struct{}
	failure struct{}
)

func (info) Level() Level    { return Info }
func (warning) Level() Level { return Warning }
func (failure) Level() Level { return Failure }

// Invited is that somebody was invited to be a member.
type Invited struct {
	info
	Who, Role string
}

// Name and Fields tell it.
func (Invited) Name() string { return "invited" }
func (e Invited) Fields() []Field {
	return []Field{{Key: "name", Value: e.Who}, {Key: "role", Value: e.Role}}
}

// Granted is that somebody lets a child watch for a while more.
type Granted struct {
	info
	Member, By, Until string
}

// Name and Fields tell it.
func (Granted) Name() string { return "more time granted" }
func (e Granted) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "by", Value: e.By}, {Key: "until", Value: e.Until}}
}

// MemberAdded is that a person was let in.
type MemberAdded struct {
	info
	Member, Role string
}

// Name and Fields tell it.
func (MemberAdded) Name() string { return "member added" }
func (e MemberAdded) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "role", Value: e.Role}}
}

// MemberRemoved is that a person's account was taken away.
type MemberRemoved struct {
	info
	Member string
}

// Name and Fields tell it.
func (MemberRemoved) Name() string      { return "member removed" }
func (e MemberRemoved) Fields() []Field { return []Field{{Key: "member", Value: e.Member}} }

// PasswordChanged is that a member has a new password; all its devices are signed out.
type PasswordChanged struct {
	info
	Member string
}

// Name and Fields tell it.
func (PasswordChanged) Name() string      { return "password changed, devices signed out" }
func (e PasswordChanged) Fields() []Field { return []Field{{Key: "member", Value: e.Member}} }

// DeviceMoved is that a device was used from a network outside the home from which it was not known.
type DeviceMoved struct {
	info
	Member, Device, Address string
}

// Name and Fields tell it.
func (DeviceMoved) Name() string { return "a device in a new network" }
func (e DeviceMoved) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "device", Value: e.Device}, {Key: "address", Value: e.Address}}
}

// StreamStopped is that an administrator ended a stream.
type StreamStopped struct {
	info
	Member, Title, By, Says string
}

// Name and Fields tell it.
func (StreamStopped) Name() string { return "a stream was ended" }
func (e StreamStopped) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "title", Value: e.Title}, {Key: "by", Value: e.By},
		{Key: "says", Value: e.Says}}
}

// ScreenMade is that a device is one of the household's from now on, on which one picks who one is.
type ScreenMade struct {
	info
	Screen, By string
}

// Name and Fields tell it.
func (ScreenMade) Name() string { return "a screen for several" }
func (e ScreenMade) Fields() []Field {
	return []Field{{Key: "screen", Value: e.Screen}, {Key: "by", Value: e.By}}
}

// FactorChanged is that a member has a second factor from now on, or none any more.
type FactorChanged struct {
	info
	Member string
	Set    bool
}

// Name and Fields tell it.
func (FactorChanged) Name() string { return "second factor set up, or taken away" }
func (e FactorChanged) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "set", Value: e.Set}}
}

// PasskeyChanged is that a member has a passkey more, or one less; all of them are gone where none is named.
type PasskeyChanged struct {
	info
	Member  string
	Passkey string
	Set     bool
}

// Name and Fields tell it.
func (PasskeyChanged) Name() string { return "passkey made, or taken away" }
func (e PasskeyChanged) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "passkey", Value: e.Passkey}, {Key: "set", Value: e.Set}}
}

// OutsideChanged is that the way in from outside the home was closed, or opened again.
type OutsideChanged struct {
	info
	Closed bool
}

// Name and Fields tell it.
func (OutsideChanged) Name() string      { return "the way in from outside closed, or opened" }
func (e OutsideChanged) Fields() []Field { return []Field{{Key: "closed", Value: e.Closed}} }

// KeyChanged is that another system has a key from now on, or none any more.
type KeyChanged struct {
	info
	Key string
	May string // its rights
	Set bool
}

// Name and Fields tell it.
func (KeyChanged) Name() string { return "key made, or taken away" }
func (e KeyChanged) Fields() []Field {
	return []Field{{Key: "key", Value: e.Key}, {Key: "may", Value: e.May}, {Key: "set", Value: e.Set}}
}

// RecoveryUsed is that a member signed in by a recovery code in place of their second factor.
type RecoveryUsed struct {
	info
	Member string
	Left   int
}

// Name and Fields tell it.
func (RecoveryUsed) Name() string { return "a recovery code was used" }
func (e RecoveryUsed) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "left", Value: e.Left}}
}

// MemberChanged is that a member may do other things from now on.
type MemberChanged struct {
	info
	Member, Role string
	Away         bool
}

// Name and Fields tell it.
func (MemberChanged) Name() string { return "member changed" }
func (e MemberChanged) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "role", Value: e.Role}, {Key: "away", Value: e.Away}}
}

// SignedIn is that a member signed in on a device.
type SignedIn struct {
	info
	Member, Device, Address string
	Away                    bool
	New                     bool // it is not a browser on which the member signed in before
}

// Name and Fields tell it.
func (SignedIn) Name() string { return "signed in" }
func (e SignedIn) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "device", Value: e.Device},
		{Key: "address", Value: e.Address}, {Key: "away", Value: e.Away}, {Key: "new", Value: e.New}}
}

// RefusedAway is that a member who may not came from outside the home.
type RefusedAway struct {
	info
	Member, Address string
}

// Name and Fields tell it.
func (RefusedAway) Name() string { return "refused from away" }
func (e RefusedAway) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "address", Value: e.Address}}
}

// Scanned is that a shelf was looked at.
type Scanned struct {
	info
	Shelf                                 string
	Files, New, Changed, Gone, Unreadable int
	Seconds                               float64
}

// Name and Fields tell it.
func (Scanned) Name() string { return "scanned" }
func (e Scanned) Fields() []Field {
	return []Field{{Key: "shelf", Value: e.Shelf}, {Key: "files", Value: e.Files}, {Key: "new", Value: e.New},
		{Key: "changed", Value: e.Changed}, {Key: "gone", Value: e.Gone},
		{Key: "unreadable", Value: e.Unreadable}, {Key: "seconds", Value: e.Seconds}}
}

// FolderAway is that a folder of a shelf is not there: its disk is unplugged, or does not
// answer.
type FolderAway struct {
	warning
	Shelf, Folder, Why string
}

// Name and Fields tell it.
func (FolderAway) Name() string { return "a folder of a shelf is away" }
func (e FolderAway) Fields() []Field {
	return []Field{{Key: "shelf", Value: e.Shelf}, {Key: "folder", Value: e.Folder}, {Key: "why", Value: e.Why}}
}

// FolderBack is that a folder of a shelf that was away is there again.
type FolderBack struct {
	info
	Shelf, Folder string
}

// Name and Fields tell it.
func (FolderBack) Name() string { return "a folder of a shelf is back" }
func (e FolderBack) Fields() []Field {
	return []Field{{Key: "shelf", Value: e.Shelf}, {Key: "folder", Value: e.Folder}}
}

// UploadBegun is that a member sends a file.
type UploadBegun struct {
	info
	Member, Shelf, File string
	Bytes               int64
}

// Name and Fields tell it.
func (UploadBegun) Name() string { return "an upload begins" }
func (e UploadBegun) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "shelf", Value: e.Shelf}, {Key: "file", Value: e.File},
		{Key: "bytes", Value: e.Bytes}}
}

// UploadPlaced is that what a member sent is on the shelf; Known that it was there already.
type UploadPlaced struct {
	info
	Member, Shelf, File string
	Known               bool
}

// Name and Fields tell it.
func (e UploadPlaced) Name() string {
	if e.Known {
		return "what was uploaded is on the shelf already"
	}
	return "an upload is on the shelf"
}

// Fields are what is known of it.
func (e UploadPlaced) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "shelf", Value: e.Shelf}, {Key: "file", Value: e.File}}
}

// UploadUnfit is that what a member sent cannot go on the shelf.
type UploadUnfit struct {
	info
	Member, Shelf, File, Why string
}

// Name and Fields tell it.
func (UploadUnfit) Name() string { return "an upload cannot go on the shelf" }
func (e UploadUnfit) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "shelf", Value: e.Shelf}, {Key: "file", Value: e.File},
		{Key: "why", Value: e.Why}}
}

// BackupMade is that the server made a backup by itself, and removed older ones.
type BackupMade struct {
	info
	File    string
	Bytes   int64
	Removed int
}

// Name and Fields tell it.
func (BackupMade) Name() string { return "backup made" }
func (e BackupMade) Fields() []Field {
	return []Field{{Key: "file", Value: e.File}, {Key: "bytes", Value: e.Bytes}, {Key: "removed", Value: e.Removed}}
}

// BackupFailed is that it could not; it tries again later.
type BackupFailed struct {
	failure
	Folder, Why string
}

// Name and Fields tell it.
func (BackupFailed) Name() string { return "the backup failed; it is tried again later" }
func (e BackupFailed) Fields() []Field {
	return []Field{{Key: "folder", Value: e.Folder}, {Key: "why", Value: e.Why}}
}

// PlayBegan is that a member begins to watch, or goes on.
type PlayBegan struct {
	info
	Member, Title, Device, Delivery string
}

// Name and Fields tell it.
func (PlayBegan) Name() string { return "play began" }
func (e PlayBegan) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "title", Value: e.Title}, {Key: "device", Value: e.Device},
		{Key: "delivery", Value: e.Delivery}}
}

// PlayEnded is that a stream is over.
type PlayEnded struct {
	info
	Member, Title, Device string
	Watched               time.Duration
	Finished              bool
	Delivery, Why         string // how it was delivered last, and why not as it is
}

// Name and Fields tell it.
func (PlayEnded) Name() string { return "play ended" }
func (e PlayEnded) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "title", Value: e.Title}, {Key: "device", Value: e.Device},
		{Key: "watched", Value: e.Watched},
		{Key: "finished", Value: e.Finished}, {Key: "delivery", Value: e.Delivery}, {Key: "why", Value: e.Why}}
}

// TitleMatched is that somebody said which work a title is.
type TitleMatched struct {
	info
	Title, Match, Edited string
}

// Name and Fields tell it.
func (TitleMatched) Name() string { return "a title was matched by hand" }
func (e TitleMatched) Fields() []Field {
	return []Field{{Key: "title", Value: e.Title}, {Key: "match", Value: e.Match}, {Key: "edited", Value: e.Edited}}
}

// FalseTries is that somebody has to wait after too many wrong passwords or codes.
type FalseTries struct {
	warning
	Member  string // whose it would have been; empty where there is none of that name
	Address string
}

// Name and Fields tell it.
func (FalseTries) Name() string { return "too many wrong tries to sign in" }
func (e FalseTries) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "address", Value: e.Address}}
}

// TitlesArrived is that titles are new on a shelf.
type TitlesArrived struct {
	info
	Shelf  string
	Titles []string // the first of them
	Count  int
}

// Name and Fields tell it.
func (TitlesArrived) Name() string { return "titles arrived" }
func (e TitlesArrived) Fields() []Field {
	return []Field{{Key: "shelf", Value: e.Shelf}, {Key: "titles", Value: e.Titles}, {Key: "count", Value: e.Count}}
}

// DiskLow is that a disk is nearly full.
type DiskLow struct {
	warning
	Folder     string
	Free, Size int64 // in bytes
}

// Name and Fields tell it.
func (DiskLow) Name() string { return "a disk is nearly full" }
func (e DiskLow) Fields() []Field {
	return []Field{{Key: "folder", Value: e.Folder}, {Key: "free", Value: e.Free}, {Key: "size", Value: e.Size}}
}

// DiskFills is that a disk will be full before long, if things go on arriving as they do.
type DiskFills struct {
	warning
	Folder, Full string // the day
	Daily        int64  // bytes that arrive
}

// Name and Fields tell it.
func (DiskFills) Name() string { return "a disk will be full before long" }
func (e DiskFills) Fields() []Field {
	return []Field{{Key: "folder", Value: e.Folder}, {Key: "full", Value: e.Full}, {Key: "daily", Value: e.Daily}}
}

// BackupOverdue is that there should be a newer backup.
type BackupOverdue struct {
	warning
	Folder, Last string // when the last was made; empty for never
}

// Name and Fields tell it.
func (BackupOverdue) Name() string { return "the backup is overdue" }
func (e BackupOverdue) Fields() []Field {
	return []Field{{Key: "folder", Value: e.Folder}, {Key: "last", Value: e.Last}}
}

// CertificateEnds is that a certificate of the server ends soon.
type CertificateEnds struct {
	warning
	Names, Ends, Why string // why it was not renewed, where that is known
}

// Name and Fields tell it.
func (CertificateEnds) Name() string { return "the certificate ends soon" }
func (e CertificateEnds) Fields() []Field {
	return []Field{{Key: "names", Value: e.Names}, {Key: "ends", Value: e.Ends}, {Key: "why", Value: e.Why}}
}

// NameMoved is that the household's name was made to stand for the line's address.
type NameMoved struct {
	info
	Host, Address string
}

// Name and Fields tell it.
func (NameMoved) Name() string { return "the name stands for another address" }
func (e NameMoved) Fields() []Field {
	return []Field{{Key: "host", Value: e.Host}, {Key: "address", Value: e.Address}}
}

// NameFails is that the household's name could not be kept right for a while.
type NameFails struct {
	warning
	Host, Why string
}

// Name and Fields tell it.
func (NameFails) Name() string { return "the name could not be looked after" }
func (e NameFails) Fields() []Field {
	return []Field{{Key: "host", Value: e.Host}, {Key: "why", Value: e.Why}}
}

// Updated is that another version of the program runs than before.
type Updated struct {
	info
	From, To string
}

// Name and Fields tell it.
func (Updated) Name() string { return "another version of the program" }
func (e Updated) Fields() []Field {
	return []Field{{Key: "from", Value: e.From}, {Key: "to", Value: e.To}}
}

// TimeUp is that a member's stream was ended since they may watch no longer.
type TimeUp struct {
	info
	Member, Why string
}

// Name and Fields tell it.
func (TimeUp) Name() string { return "time is up" }
func (e TimeUp) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "why", Value: e.Why}}
}

// ConversionRefused is that a film could not be sent to a device.
type ConversionRefused struct {
	info
	Member, Title, Why string
}

// Name and Fields tell it.
func (ConversionRefused) Name() string { return "a film could not be sent" }
func (e ConversionRefused) Fields() []Field {
	return []Field{{Key: "member", Value: e.Member}, {Key: "title", Value: e.Title}, {Key: "why", Value: e.Why}}
}

// NoticesLost is that notices to a receiver were given up.
type NoticesLost struct {
	warning
	Receiver, Why string
	Count         int
}

// Name and Fields tell it.
func (NoticesLost) Name() string { return "notices were given up" }
func (e NoticesLost) Fields() []Field {
	return []Field{{Key: "receiver", Value: e.Receiver}, {Key: "count", Value: e.Count}, {Key: "why", Value: e.Why}}
}

// Stream tells events to observers. Its zero value is ready, with none.
type Stream struct {
	mu    sync.RWMutex
	hear  []func(Event)
	queue []*Queue
}

// Hear adds an observer that hears each event at once, before whoever tells it continues; so it
// must be quick, and may tell none itself.
func (s *Stream) Hear(observer func(Event)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.hear = append(s.hear, observer)
}

// Follow adds an observer with a queue of a length.
func (s *Stream) Follow(length int) *Queue {
	s.mu.Lock()
	defer s.mu.Unlock()
	q := &Queue{events: make(chan Event, max(1, length)), of: s}
	s.queue = append(s.queue, q)
	return q
}

// Noted is an event whose notices are kept already. Queues get it as such, other observers as the event that it is.
type Noted struct{ Event }

// Tell tells an event to all observers. It waits for no queue.
func (s *Stream) Tell(e Event) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	heard := e
	if n, ok := e.(Noted); ok {
		heard = n.Event
	}
	for _, h := range s.hear {
		h(heard)
	}
	for _, q := range s.queue {
		select {
		case q.events <- e:
		default:
			q.lost.Add(1)
		}
	}
}

// Queue is an observer that takes events when it can.
type Queue struct {
	events chan Event
	lost   atomic.Int64
	of     *Stream
}

// Events gives those that came, in their order. It is closed by Close.
func (q *Queue) Events() <-chan Event { return q.events }

// Lost is how many did not fit.
func (q *Queue) Lost() int64 { return q.lost.Load() }

// Close ends the observer.
func (q *Queue) Close() {
	q.of.mu.Lock()
	defer q.of.mu.Unlock()
	for i, o := range q.of.queue {
		if o == q {
			q.of.queue = append(q.of.queue[:i], q.of.queue[i+1:]...)
			close(q.events)
			return
		}
	}
}
