package notice

import (
	"encoding/json"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// happened has one event for each code at least.
var happened = []event.Event{
	event.PlayBegan{Member: "Wren", Title: "Low Water", Device: "tablet"},
	event.PlayEnded{Member: "Wren", Title: "Low Water", Device: "tablet", Watched: 90 * time.Second, Finished: true},
	event.SignedIn{Member: "Wren", Device: "tablet", Address: "192.0.2.7", New: true},
	event.DeviceMoved{Member: "Wren", Device: "tablet", Address: "198.51.100.7"},
	event.FalseTries{Member: "Wren", Address: "198.51.100.7"}, event.FalseTries{Address: "198.51.100.7"},
	event.PasswordChanged{Member: "Wren"}, event.FactorChanged{Member: "Wren"}, event.PasskeyChanged{Member: "Wren"},
	event.RecoveryUsed{Member: "Wren", Left: 3}, event.Invited{Who: "Ozan", Role: "guest"},
	event.MemberAdded{Member: "Ozan", Role: "guest"}, event.MemberChanged{Member: "Ozan"},
	event.MemberRemoved{Member: "Ozan"}, event.Granted{Member: "Pip", By: "Wren", Until: "19:30"},
	event.TimeUp{Member: "Pip", Why: "your time for today is used up"},
	event.TitlesArrived{Shelf: "films", Titles: []string{"Low Water", "Cinder Lane"}, Count: 9},
	event.UploadPlaced{Member: "Wren", Shelf: "films", File: "a.mkv"},
	event.UploadUnfit{Member: "Wren", Shelf: "films", File: "a.mkv", Why: "it is no film"},
	event.Scanned{Shelf: "films", New: 2, Unreadable: 1}, event.FolderAway{Shelf: "films", Folder: "/srv/films",
		Why: "unplugged"},
	event.FolderBack{Shelf: "films", Folder: "/srv/films"}, event.DiskLow{Folder: "/srv", Free: 1 << 20, Size: 1 << 30},
	event.DiskFills{Folder: "/srv", Full: "2026-12-20", Daily: 1 << 30}, event.BackupMade{File: "a.zip"},
	event.BackupFailed{Folder: "/srv", Why: "no room"},
	event.BackupOverdue{Folder: "/srv"}, event.CertificateEnds{Names: "mill.home.arpa", Ends: "2026-12-01"},
	event.NameMoved{Host: "shelf.example.net", Address: "192.0.2.1"}, event.NameFails{Host: "shelf.example.net",
		Why: "x"},
	event.Updated{From: "1.0.0", To: "1.1.0"}, event.ConversionRefused{Member: "Wren", Title: "a.mkv", Why: "too large"},
	event.KeyChanged{Key: "automation", May: "metrics", Set: true}, event.OutsideChanged{Closed: true},
	event.NoticesLost{Receiver: "house", Count: 2, Why: "it answers 500"},
}

func TestEveryCodeIsTold(t *testing.T) {
	missing := event.CodeNames()
	for _, e := range happened {
		n, ok := Of(e, noon)
		if !ok || !strings.HasSuffix(n.Text, ".") && !strings.HasSuffix(n.Text, ". ") || strings.Contains(n.Text, "%!") {
			t.Errorf("%T: %v %q", e, ok, n.Text)
		}
		if len(n.Data) != len(e.Fields()) || n.Members == nil {
			t.Errorf("%T: %v of %v", e, n.Data, e.Fields())
		}
		if b, err := json.Marshal(n); err != nil || len(b) > 8000 {
			t.Errorf("%T: %d bytes, %v", e, len(b), err)
		}
		missing = slices.DeleteFunc(missing, func(c string) bool { return c == string(n.Code) })
	}
	if len(missing) > 0 {
		t.Errorf("nothing is told as %v", missing)
	}
	for _, e := range []event.Event{event.SignedIn{Member: "Wren"}, event.Scanned{Shelf: "films", Unreadable: 3},
		event.RefusedAway{Member: "Wren"}} {
		if n, ok := Of(e, noon); ok {
			t.Errorf("%T is told: %s", e, n.Text)
		}
	}
}

// TestWhatStrangersWriteStaysOneLine has names as nobody should choose them.
func TestWhatStrangersWriteStaysOneLine(t *testing.T) {
	odd := "tablet\r\nBcc: everybody\x1b[2J\u202e" + strings.Repeat("ä", 5000)
	n, ok := Of(event.SignedIn{Member: "Wren", Device: odd, Address: "192.0.2.7", New: true}, noon)
	if !ok || len(n.Text) > mostText+4 || strings.ContainsAny(n.Text, "\r\n\x1b") || strings.Contains(n.Text, "\u202e") {
		t.Errorf("%q", n.Text)
	}
	if s := Subject("Fernhollow\nMill", []Notice{n}); strings.ContainsAny(s, "\r\n") || len(s) > mostText+4 {
		t.Errorf("%q", s)
	}
	if device := n.Data["device"].(string); len(device) > mostText+4 || strings.ContainsAny(device, "\r\n") {
		t.Errorf("%q", device)
	}
}

func TestWhoIsTold(t *testing.T) {
	play, _ := Of(event.PlayEnded{Member: "Wren", Title: "Low Water"}, noon)
	disk, _ := Of(event.DiskLow{Folder: "/srv", Size: 1}, noon)
	lost, _ := Of(event.NoticesLost{Receiver: "house"}, noon)
	for _, c := range []struct {
		n    Notice
		r    household.Notice
		want bool
	}{
		{play, household.Notice{}, false},
		{disk, household.Notice{}, true},
		{play, household.Notice{Events: []string{"play-ended"}}, true},
		{disk, household.Notice{Events: []string{"play-ended"}}, false},
		{play, household.Notice{Events: []string{"play-ended"}, Members: []string{"WREN"}}, true},
		{play, household.Notice{Events: []string{"play-ended"}, Members: []string{"ozan"}}, false},
		{disk, household.Notice{Members: []string{"ozan"}}, true},
		{lost, household.Notice{Name: "house"}, false},
		{lost, household.Notice{Name: "letters"}, true},
		{Test("Mill", noon), household.Notice{Events: []string{"play-ended"}, Members: []string{"ozan"}}, true},
	} {
		if got := Wants(c.n, c.r); got != c.want {
			t.Errorf("%s to %+v: %v", c.n.Code, c.r, got)
		}
	}
}

func TestPausesGrowAndStayBounded(t *testing.T) {
	last := time.Duration(0)
	for n := range 100 {
		p := Pause(n, 0)
		if p < last || p > longestPause || n > 0 && p < firstPause {
			t.Errorf("after %d failures %s", n, p)
		}
		if q := Pause(n, 1); q > p || q < p*4/5-1 {
			t.Errorf("spread: %s of %s", q, p)
		}
		last = p
	}
}

func TestWhenItIsReady(t *testing.T) {
	riga, err := time.LoadLocation("Europe/Riga")
	if err != nil {
		t.Fatal(err)
	}
	at := func(s string) time.Time {
		v, err := time.ParseInLocation("2006-01-02 15:04", s, riga)
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	for _, c := range []struct {
		first, now, quiet, gather, want string
	}{
		{"2026-11-23 12:00", "2026-11-23 12:01", "", "", "2026-11-23 12:01"},
		{"2026-11-23 12:00", "2026-11-23 12:01", "22:00-07:00", "", "2026-11-23 12:01"},
		{"2026-11-23 23:00", "2026-11-23 23:00", "22:00-07:00", "", "2026-11-24 07:00"},
		{"2026-11-23 03:00", "2026-11-23 03:00", "22:00-07:00", "", "2026-11-23 07:00"},
		{"2026-11-23 12:00", "2026-11-23 12:01", "", "1h", "2026-11-23 13:00"},
		{"2026-11-23 12:00", "2026-11-23 14:00", "", "1h", "2026-11-23 14:00"},
		{"2026-11-23 21:30", "2026-11-23 21:30", "22:00-07:00", "1h", "2026-11-24 07:00"},
		{"2026-11-23 12:00", "2026-11-23 12:00", "", "08:00", "2026-11-24 08:00"},
		{"2026-11-23 07:00", "2026-11-23 07:01", "", "08:00", "2026-11-23 08:00"},
		// The night in which clocks go from 03:00 to 04:00.
		{"2026-03-29 02:59", "2026-03-29 02:59", "02:00-03:30", "", "2026-03-29 04:00"},
	} {
		r := household.Notice{Quiet: c.quiet, Gather: c.gather}
		if got := Ready(at(c.first), event.CodeDiskLow, at(c.now), r, riga); !got.Equal(at(c.want)) {
			t.Errorf("%+v: %s", c, got.In(riga))
		}
		if got := Ready(at(c.first), event.CodeTest, at(c.now), r, riga); !got.Equal(at(c.now)) {
			t.Errorf("%+v: a test waits until %s", c, got)
		}
	}
}

// TestNothingIsSentInQuietHours tries moments and hours at random.
func TestNothingIsSentInQuietHours(t *testing.T) {
	zones := []string{"UTC", "Europe/Riga", "Australia/Lord_Howe", "America/St_Johns"}
	for range 3000 {
		zone, err := time.LoadLocation(zones[rand.IntN(len(zones))])
		if err != nil {
			t.Fatal(err)
		}
		clock := func() string { return noon.Add(time.Duration(rand.IntN(1440)) * time.Minute).Format("15:04") }
		r := household.Notice{Quiet: clock() + "-" + clock()}
		hours, err := household.ParseHours(r.Quiet)
		if err != nil || hours.From == hours.To {
			continue
		}
		if rand.IntN(2) == 0 {
			r.Gather = []string{"1h", "08:00", "17m"}[rand.IntN(3)]
		}
		first := noon.Add(time.Duration(rand.IntN(365*24*60)) * time.Minute)
		now := first.Add(time.Duration(rand.IntN(3*24*60)) * time.Minute)
		got := Ready(first, event.CodeDiskLow, now, r, zone)
		if got.Before(now) || hours.Hold(got.In(zone)) || got.Sub(now) > 51*time.Hour {
			t.Fatalf("%+v, %s, first %s, now %s: %s", r, zone, first, now, got.In(zone))
		}
	}
}

func TestGivenUpAfterDays(t *testing.T) {
	if Overdue(noon, noon.Add(KeptFor)) || !Overdue(noon, noon.Add(KeptFor+time.Second)) || Overdue(noon,
		noon.Add(-time.Hour)) {
		t.Error("a notice is kept for another time than is said")
	}
}
