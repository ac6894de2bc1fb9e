package show

import (
	"os"
	"path/filepath"
	"testing"
	"time"
)

func TestProgressTellsHowFarHowFastAndHowLong(t *testing.T) {
	for want, c := range map[string]struct {
		p    Progress
		n    int64
		took time.Duration
	}{
		"scanning: 50 of 200, 10/s, about 15 s left": {Progress{what: "scanning", total: 200}, 50, 5 * time.Second},
		"scanning: 200 of 200, 40/s":                 {Progress{what: "scanning", total: 200}, 200, 5 * time.Second},
		"scanning: 250, 50/s":                        {Progress{what: "scanning", total: 200}, 250, 5 * time.Second},
		"looking: 1,234 files, 617 files/s": {Progress{what: "looking", unit: " files"}, 1234,
			2 * time.Second},
		"opening: 5 of 10 files, 5 files/s, about 1 s left": {Progress{what: "opening", unit: " files", total: 10}, 5,
			time.Second},
		"copying: 1.0 MiB of 4.0 MiB, 512 KiB/s, about 6 s left": {Progress{what: "copying", bytes: true,
			total: 4 << 20}, 1 << 20, 2 * time.Second},
		"fetching: 1.0 MiB, 512 KiB/s": {Progress{what: "fetching", bytes: true}, 1 << 20, 2 * time.Second},
	} {
		if got := c.p.text(c.n, c.took); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}

// TestWatchingIsSilentWhereItIsShort ends before a second has passed: nothing is written.
func TestWatchingIsSilentWhereItIsShort(t *testing.T) {
	f, err := os.Create(filepath.Join(t.TempDir(), "out"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	stop := To(f).Watch("waiting", Time, nil)
	stop()
	stop() // once more does no harm
	if st, err := f.Stat(); err != nil || st.Size() != 0 {
		t.Errorf("%d bytes were written, %v", st.Size(), err)
	}
}
