package parquet

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
)

// row is one as the package reads it that judges what is written.
type row struct {
	Text   string     `parquet:"text"`
	Whole  int64      `parquet:"whole"`
	Number float64    `parquet:"number"`
	Truth  bool       `parquet:"truth"`
	Moment *time.Time `parquet:"moment,timestamp(millisecond),optional"`
}

// TestAnotherReaderReadsWhatIsWritten writes random tables of none, one and many rows, and has another implementation
// read them.
func TestAnotherReaderReadsWhatIsWritten(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 9))
	for _, n := range []int{0, 1, 7, 8, 9, 1000, maxGroup, 2*maxGroup + 3} {
		var b bytes.Buffer
		w, err := NewWriter(&b, []Column{{"text", Text}, {"whole", Whole}, {"number", Number}, {"truth", Truth},
			{"moment", Moment}})
		if err != nil {
			t.Fatal(err)
		}
		var want []row
		for i := range n {
			v := row{Text: fmt.Sprint([]string{"", "Ödön", "The Paper Lighthouse\n"}[r.IntN(3)], r.IntN(5)),
				Whole: r.Int64() - r.Int64(), Number: r.NormFloat64(), Truth: r.IntN(2) == 0}
			var at time.Time
			if r.IntN(3) > 0 && i != 1 {
				at = time.UnixMilli(r.Int64N(1 << 42)).UTC()
				v.Moment = &at
			}
			want = append(want, v)
			if err := w.Row(v.Text, v.Whole, v.Number, v.Truth, at); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		f, err := parquet.OpenFile(bytes.NewReader(b.Bytes()), int64(b.Len()))
		if err != nil {
			t.Fatalf("%d rows: %v", n, err)
		}
		if f.NumRows() != int64(n) || len(f.RowGroups()) != (n+maxGroup-1)/maxGroup {
			t.Errorf("%d rows in %d groups, want %d", f.NumRows(), len(f.RowGroups()), n)
		}
		reader := parquet.NewGenericReader[row](f)
		got := make([]row, n+1)
		read := 0
		for read < len(got) {
			k, err := reader.Read(got[read:])
			read += k
			if err == io.EOF {
				break
			}
			if err != nil {
				t.Fatalf("%d rows: %v", n, err)
			}
		}
		if read != n {
			t.Fatalf("%d rows are read, want %d", read, n)
		}
		for i, v := range want {
			g := got[i]
			if g.Text != v.Text || g.Whole != v.Whole || g.Number != v.Number || g.Truth != v.Truth ||
				(g.Moment == nil) != (v.Moment == nil) || g.Moment != nil && !g.Moment.Equal(*v.Moment) {
				t.Fatalf("row %d of %d: %+v, want %+v", i, n, g, v)
			}
		}
	}
}

func TestRowsThatDoNotFit(t *testing.T) {
	for _, bad := range [][]any{{"a"}, {"a", "b"}, {"a", 1}, {nil, int64(1)}} {
		w, err := NewWriter(io.Discard, []Column{{"text", Text}, {"whole", Whole}})
		if err != nil {
			t.Fatal(err)
		}
		if w.Row(bad...) == nil {
			t.Errorf("%v is taken", bad)
		}
	}
}
