package cli

import (
	"strings"
	"testing"

	"rsc.io/qr"
)

// TestACodeIsDrawnAsItIs reads the drawing back.
func TestACodeIsDrawnAsItIs(t *testing.T) {
	code, err := qr.Encode("http://192.0.2.1:26990/invite/abcdefghijklmnopqrstuvwxyz0123456789", qr.M)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSuffix(drawn(code), "\n"), "\n")
	if want := (code.Size + 8 + 1) / 2; len(lines) != want {
		t.Fatalf("%d lines, not %d", len(lines), want)
	}
	for i, line := range lines {
		row := []rune(line)
		if len(row) != code.Size+8 {
			t.Fatalf("line %d has %d signs", i, len(row))
		}
		for j, sign := range row {
			for half, dark := range []bool{sign == ' ' || sign == '▄', sign == ' ' || sign == '▀'} {
				x, y := j-4, 2*i+half-4
				want := x >= 0 && y >= 0 && x < code.Size && y < code.Size && code.Black(x, y)
				if dark != want {
					t.Fatalf("at %d, %d it is dark: %v", x, y, dark)
				}
			}
		}
	}
}
