package store

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/testbuild"
)

// TestExportedPlaysAreReadByOthers has SQLite's own program read them.
func TestExportedPlaysAreReadByOthers(t *testing.T) {
	if _, err := exec.LookPath("sqlite3"); err != nil {
		testbuild.Missing(t, "sqlite3")
	}
	zone, err := time.LoadLocation("Europe/Riga")
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 10, 25, 0, 30, 0, 0, time.UTC) // an hour that the clocks there have twice
	plays := []usage.Play{{ID: 3, Member: "wren", Sofa: []string{"ozan", "linnea"}, Shelf: "films",
		Title:   "=1+1; DROP TABLE plays",
		Started: at, Ended: at.Add(time.Hour), Watched: 3600.5, Position: 12, Duration: 4000, Done: true,
		Device:  `a "tablet"`,
		Address: "192.0.2.0/24", Away: true, Delivery: "converted", Bytes: 1 << 40, Why: "the sound\nis AC-3"},
		{ID: 9, Member: "雪", Shelf: "series", Title: "Tiny Harbour", Part: "The Buoy", Started: at}}
	file := filepath.Join(t.TempDir(), "plays %3f?.db")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	n, err := ExportPlays(context.Background(), file, zone, func(do func(usage.Play) error) error {
		for _, p := range plays {
			if err := do(p); err != nil {
				return err
			}
		}
		return nil
	})
	if n != 2 || err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	out, err := exec.Command("sqlite3", "-json", file,
		"PRAGMA integrity_check; SELECT *, typeof(bytes) t FROM plays ORDER BY id").Output()
	if err != nil {
		t.Fatal(err)
	}
	var got []map[string]any
	d := json.NewDecoder(bytes.NewReader(out))
	var whole []struct {
		Check string `json:"integrity_check"`
	}
	if err := d.Decode(&whole); err != nil || whole[0].Check != "ok" {
		t.Errorf("%v, %v", whole, err)
	}
	if err := d.Decode(&got); err != nil || len(got) != 2 {
		t.Fatalf("%v\n%s", err, out)
	}
	for i, want := range []map[string]any{{"id": 3.0, "started_at": "2026-10-25T03:30:00+03:00",
		"ended_at": "2026-10-25T03:30:00+02:00",
		"sofa":     "ozan; linnea", "title": "=1+1; DROP TABLE plays", "watched_seconds": 3600.5, "finished": 1.0,
		"away":  1.0,
		"bytes": float64(1 << 40), "why": "the sound\nis AC-3", "device": `a "tablet"`, "t": "integer"},
		{"id": 9.0, "member": "雪", "ended_at": nil, "part": "The Buoy", "finished": 0.0, "watched_seconds": 0.0}} {
		for k, v := range want {
			if got[i][k] != v {
				t.Errorf("%s: %v, want %v", k, got[i][k], v)
			}
		}
		if len(got[i]) != len(usage.Columns)+1 {
			t.Errorf("%d columns", len(got[i]))
		}
	}
}
