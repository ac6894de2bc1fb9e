package cli

import (
	"io"
	"os"
	"strings"
	"testing"
)

// said gives what is printed on standard output.
func said(t *testing.T, do func()) string {
	t.Helper()
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	old := os.Stdout
	os.Stdout = w
	do()
	os.Stdout = old
	w.Close()
	b, err := io.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func TestLogsAreShownNotObeyed(t *testing.T) {
	long := strings.Repeat("x", 3<<20)
	got := said(t, func() {
		f := &logFilter{all: true}
		for _, part := range []string{"one\x1b[2J\u009b1m\u202e\n", long, "\ntwo", "\n\xff\n", "rest"} {
			if n, err := f.Write([]byte(part)); err != nil || n != len(part) {
				t.Error(n, err)
			}
		}
		if len(f.rest) > mostLogLine {
			t.Errorf("%d bytes are held back", len(f.rest))
		}
		if err := f.flush(); err != nil {
			t.Error(err)
		}
	})
	for _, bad := range []string{"\x1b", "\u009b", "\u202e", "\xff"} {
		if strings.Contains(got, bad) {
			t.Errorf("%q is printed", bad)
		}
	}
	if !strings.HasPrefix(got, `one\x1b[2J\u009b1m\u202e`+"\n") ||
		!strings.HasSuffix(got, "two\n"+`\xff`+"\nrest\n") || len(got) > 1<<20 {
		t.Errorf("got %d bytes, %.60q … %q", len(got), got, got[len(got)-30:])
	}
}
