package server

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/store"
)

// TestMembersTakeTheirDataAlong has a member with more plays than are read at a time, a sofa of somebody else,
// and a name in a device that a spreadsheet would take for a formula.
func TestMembersTakeTheirDataAlong(t *testing.T) {
	h, ctx := open(t), context.Background()
	film := h.fileCalled("Copper Kite")
	// An earlier member of the same name, whose plays are nobody's business.
	h.add("ozan", allowance.Adult)
	play := func(p usage.Play, device, file int64, at time.Time) usage.Play {
		t.Helper()
		p, err := h.Store.BeginPlay(ctx, p, device, file, at)
		if err == nil {
			err = h.Store.MarkPlays(ctx, store.Mark{Play: p.ID, Position: 3, Watched: 3, Over: true, At: at.Add(time.Minute)})
		}
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	play(usage.Play{Member: "ozan", Shelf: "films", Title: "Before", Device: "old"}, 90, film, time.Now().Add(-time.Hour))
	if err := h.Store.RemoveMember(ctx, "ozan"); err != nil {
		t.Fatal(err)
	}
	m := h.add("ozan", allowance.Adult)
	const many = 1203
	for i := range many {
		play(usage.Play{Member: "ozan", Shelf: "films", Title: "Copper Kite", Device: "=HYPERLINK(1)"}, int64(1000+i), film,
			time.Now().Add(time.Duration(i)*time.Second))
	}
	shared := play(usage.Play{Member: "wren", Shelf: "films", Title: "Nine Kinds of Rain", Device: "wren's tablet",
		Address: "192.0.2.77"}, 91, film, time.Now().Add(time.Hour))
	if err := h.Store.Sit(ctx, shared.ID, []store.Sitting{{ID: m.ID, Name: m.Name}}); err != nil {
		t.Fatal(err)
	}
	cookie := h.cookie("ozan")
	if err := h.Store.SetFactor(ctx, m.ID, 0, store.Factor{Secret: "SECRETSECRETSECRETSECRETSECRET22",
		Created: time.Now()},
		[]string{"aaaabbbbccccdddd"}); err != nil {
		t.Fatal(err)
	}
	h.token = ""
	res, b := h.ask("GET", "/own/data.json", "", "Cookie", cookie)
	var got struct {
		Household string
		Member    struct{ Name, Role string }
		Devices   []struct{ Name, Address string }
		Positions []struct{ Title string }
		Plays     []usage.Play
	}
	if err := json.Unmarshal(b, &got); err != nil || res.StatusCode != http.StatusOK ||
		!strings.HasPrefix(res.Header.Get("Content-Disposition"), "attachment") {
		t.Fatalf("%v: %s %.500s", err, res.Status, b)
	}
	if got.Household != "Fernhollow Mill" || got.Member.Name != "ozan" || len(got.Devices) != 1 ||
		len(got.Positions) != 1 ||
		len(got.Plays) != many+1 {
		t.Errorf("%+v, %d plays", got.Member, len(got.Plays))
	}
	seen := map[int64]bool{}
	for _, p := range got.Plays {
		seen[p.ID] = true
	}
	if len(seen) != many+1 {
		t.Errorf("%d plays come, %d different ones", len(got.Plays), len(seen))
	}
	for _, text := range []string{"Before", "192.0.2.77", "wren's tablet", "SECRETSECRETSECRETSECRETSECRET22", "argon2"} {
		if bytes.Contains(b, []byte(text)) {
			t.Errorf("it holds %s", text)
		}
	}
	res, b = h.ask("GET", "/own/plays.csv", "", "Cookie", cookie)
	rows, err := csv.NewReader(bytes.NewReader(b)).ReadAll()
	if err != nil || res.StatusCode != http.StatusOK || len(rows) != many+2 || rows[0][0] != "started_at" {
		t.Fatalf("%v: %s, %d rows", err, res.Status, len(rows))
	}
	if got := rows[2][11]; got != "'=HYPERLINK(1)" {
		t.Errorf("a device is written as %s", got)
	}
	if rows[1][2] != "wren" || rows[1][3] != "ozan" || rows[1][11] != "" || rows[1][12] != "" {
		t.Errorf("another's sofa: %q", rows[1])
	}
	for _, path := range []string{"/own/data.json", "/own/plays.csv"} {
		if res, b := h.ask("GET", path, ""); res.StatusCode != http.StatusUnauthorized ||
			bytes.Contains(b, []byte("Copper")) {
			t.Errorf("%s without a sign-in: %s", path, res.Status)
		}
	}
}

// TestPlaysAreForgotten has a member ask for it, and the household.
func TestPlaysAreForgotten(t *testing.T) {
	h, ctx := open(t), context.Background()
	film := h.fileCalled("Copper Kite")
	m := h.add("ozan", allowance.Adult)
	now := time.Now()
	play := func(name string, device int64, ago time.Duration, sofa ...store.Sitting) int64 {
		t.Helper()
		p, err := h.Store.BeginPlay(ctx, usage.Play{Member: name, Shelf: "films", Title: "Copper Kite", Device: name +
			"'s tablet",
			Address: "192.0.2.9"}, device, film, now.Add(-ago))
		if err == nil {
			err = h.Store.MarkPlays(ctx, store.Mark{Play: p.ID, Position: 3, Watched: 3, Over: true, At: now.Add(-ago)})
		}
		if err == nil {
			err = h.Store.Sit(ctx, p.ID, sofa)
		}
		if err != nil {
			t.Fatal(err)
		}
		return p.ID
	}
	const day = 24 * time.Hour
	seat := store.Sitting{ID: m.ID, Name: "ozan"}
	play("ozan", 1, 40*day)
	play("ozan", 2, 10*day)
	play("ozan", 3, time.Minute)
	play("wren", 4, 40*day, seat)
	named := func(name string) (n int) {
		t.Helper()
		list, err := h.Store.Plays(ctx, usage.Filter{Member: name})
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	cookie := h.cookie("ozan")
	choose := func(days string) int {
		t.Helper()
		res, _ := h.form("/own/history", cookie, map[string][]string{"days": {days}})
		return res.StatusCode
	}
	if status := choose("house"); status != http.StatusSeeOther || named("ozan") != 4 {
		t.Errorf("as the household: %d, %d plays", status, named("ozan"))
	}
	if status := choose("30"); status != http.StatusSeeOther || named("ozan") != 2 || named("wren") != 1 {
		t.Errorf("30 days: %d, %d plays, %d of wren", status, named("ozan"), named("wren"))
	}
	if status := choose("0"); status != http.StatusSeeOther || named("ozan") != 1 {
		t.Errorf("not at all: %d, %d plays; one may be gone on with", status, named("ozan"))
	}
	for _, bad := range []string{"", "-5", "3000"} {
		if status := choose(bad); status != http.StatusBadRequest {
			t.Errorf("%q: %d", bad, status)
		}
	}
	all, err := h.Store.Plays(ctx, usage.Filter{})
	if err != nil || len(all) != 4 {
		t.Fatalf("%d plays, %v", len(all), err)
	}
	for _, p := range all {
		if p.Member == "" && (p.Device+p.Address != "" || p.Watched != 3 || p.Title == "") {
			t.Errorf("%+v", p)
		}
	}
	// The household's file rules.
	h.Settings.HistoryChoice = "household"
	if status := choose("30"); status != http.StatusForbidden {
		t.Errorf("where the household says it: %d", status)
	}
	h.Settings.History = 20
	ctx, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { defer close(done); h.Forget(ctx) }()
	for began := time.Now(); named("wren") > 0; time.Sleep(10 * time.Millisecond) {
		if time.Since(began) > 10*time.Second {
			t.Fatal("the household's plays are not forgotten")
		}
	}
	stop()
	<-done
}
