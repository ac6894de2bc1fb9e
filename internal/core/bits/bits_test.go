package bits

import "testing"

func TestRead(t *testing.T) {
	r := Of([]byte{0b1010_0110, 0b0001_0000})
	for i, c := range []struct{ n, want int }{{1, 1}, {3, 2}, {0, 0}, {4, 6}, {8, 16}, {5, 0}} {
		if got := r.Int(c.n); got != c.want {
			t.Errorf("%d: %d bits are %d, not %d", i, c.n, got, c.want)
		}
	}
	if !r.Over() {
		t.Error("beyond the end nothing is over")
	}
}

// TestGolomb reads the first numbers of ITU-T H.264, table 9-2, and what never ends.
func TestGolomb(t *testing.T) {
	r := Of([]byte{0b1_010_011_0, 0b0100_0010, 0b1_0011000}) // 0 1 2 3 4 5
	for want := range uint32(6) {
		if got := r.Golomb(); got != want {
			t.Errorf("got %d, not %d", got, want)
		}
	}
	r = Of([]byte{0b1_010_011_0, 0b0100_0010, 0b1_0000000})
	for i, want := range []int32{0, 1, -1, 2, -2} {
		if got := r.Signed(); got != want {
			t.Errorf("%d: got %d, not %d", i, got, want)
		}
	}
	Of(make([]byte, 100)).Golomb()
	if r := Of(nil); r.Golomb() != 0 && !r.Over() {
		t.Error("of nothing something is read")
	}
}
