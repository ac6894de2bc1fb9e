package test

import (
	"os"
	"strings"
	"testing"
)

// TestShelvesComeAndGoInTheFileAndOnTheServer adds a shelf, deploys, and takes it
// away again; the file and the media end as they began.
func TestShelvesComeAndGoInTheFileAndOnTheServer(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.edit("# After a change", "# Kept by wren. After a change")
	before, err := os.ReadFile(m.path("household.toml"))
	if err != nil {
		t.Fatal(err)
	}
	m.must("deploy", "--yes")
	if _, errs, code := m.run("", "shelf", "add", "music", "--kind", "music"); code != 4 ||
		!strings.Contains(errs, "--yes") {
		t.Errorf("without --yes: code %d, %s", code, errs)
	}
	// With no folder given, the one beside the others is proposed.
	if out := m.must("shelf", "add", "music", "--kind", "music", "--yes"); !strings.Contains(out,
		m.path("media/music")) {
		t.Errorf("shelf add said:\n%s", out)
	}
	if _, errs, code := m.run("", "shelf", "add", "new", "--kind", "photos", "--folder", m.path("media/new"),
		"--yes"); code != 1 || !strings.Contains(errs, "--make") {
		t.Errorf("a missing folder: code %d, %s", code, errs)
	}
	m.must("shelf", "add", "new", "--kind", "photos", "--folder", m.path("media/new"), "--access", "change", "--make",
		"--yes")
	for _, args := range [][]string{{"music", "--kind", "music"},
		{"x", "--kind", "books", "--folder", m.path("media/photos")},
		{"y", "--kind", "films", "--folder", m.path("media/films/below")}} {
		if _, errs, code := m.run("", append([]string{"shelf", "add", "--yes"}, args...)...); code != 2 {
			t.Errorf("%v: code %d, %s", args, code, errs)
		}
	}
	if out := m.must("deploy", "--yes"); !strings.Contains(out, "new: music ("+m.path("media/music")+")") {
		t.Errorf("deploy said:\n%s", out)
	}
	m.must("shelf", "scan")
	if out := m.must("shelf", "show", "music"); !strings.Contains(out, "Songs for Slow Trains") {
		t.Errorf("shelf show said:\n%s", out)
	}
	m.must("shelf", "remove", "new", "--yes")
	m.must("shelf", "remove", "music", "--yes")
	if after, err := os.ReadFile(m.path("household.toml")); err != nil || string(after) != string(before) {
		t.Errorf("the file is another: %v\n%s\nwas\n%s", err, after, before)
	}
	if _, errs, code := m.run("", "shelf", "remove", "music", "--yes"); code != 2 ||
		!strings.Contains(errs, "films, series") {
		t.Errorf("removing what is not there: code %d, %s", code, errs)
	}
	if out := m.must("deploy", "--yes"); !strings.Contains(out, "no more music (") {
		t.Errorf("deploy said:\n%s", out)
	}
	if _, err := os.Stat(m.path("media/music/The Gravel Choir")); err != nil {
		t.Errorf("the media: %v", err)
	}
	if out := m.must("ledger"); !strings.Contains(out, "add shelf music") || !strings.Contains(out, "make the folder") {
		t.Errorf("the ledger says:\n%s", out)
	}
}
