// Package parquet writes tables as Apache Parquet files: columns of whole numbers, numbers, truth values, moments
// and texts, in groups of rows, plainly encoded and packed by Zstandard. It only writes.
package parquet

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"time"

	"github.com/klauspost/compress/zstd"
)

// Kind is what a column holds.
type Kind int

// The kinds.
const (
	Text   Kind = iota // string
	Whole              // int64
	Number             // float64
	Truth              // bool
	Moment             // time.Time, in milliseconds of UTC; the zero time is null
)

// Column is one of a table.
type Column struct {
	Name string
	Kind Kind
}

// The numbers of the format.
const (
	magic    = "PAR1"
	maxGroup = 50_000 // rows

	typeBoolean, typeInt64, typeDouble, typeByteArray = 0, 2, 5, 6
	required, optional                                = 0, 1
	asUTF8, asMillis                                  = 0, 9 // converted types
	logicalString, logicalTimestamp                   = 1, 8
	codecZstd                                         = 6
	encodingPlain, encodingRLE                        = 0, 3
	pageData                                          = 0
)

func (k Kind) physical() int32 {
	return map[Kind]int32{Text: typeByteArray, Whole: typeInt64, Number: typeDouble, Truth: typeBoolean,
		Moment: typeInt64}[k]
}

// Writer writes one file.
type Writer struct {
	out     *bufio.Writer
	at      int64
	columns []Column
	packer  *zstd.Encoder
	values  [][]byte // of each column, in the group that is gathered
	bits    [][]bool // of each column: truth values, or which moments are there
	rows    int
	all     int64
	groups  []group
	err     error
}

type group struct {
	rows   int64
	size   int64
	chunks []chunk
}

type chunk struct {
	at, unpacked, packed int64
	values               int64
}

// NewWriter begins a file.
func NewWriter(out io.Writer, columns []Column) (*Writer, error) {
	packer, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	w := &Writer{out: bufio.NewWriter(out), columns: columns, packer: packer, values: make([][]byte, len(columns)),
		bits: make([][]bool, len(columns))}
	w.write([]byte(magic))
	return w, w.err
}

func (w *Writer) write(b []byte) {
	if w.err == nil {
		_, w.err = w.out.Write(b)
	}
	w.at += int64(len(b))
}

// Row adds a row: a value for each column.
func (w *Writer) Row(values ...any) error {
	if len(values) != len(w.columns) {
		return fmt.Errorf("%d values for %d columns", len(values), len(w.columns))
	}
	for i, c := range w.columns {
		ok := true
		switch c.Kind {
		case Text:
			var s string
			s, ok = values[i].(string)
			w.values[i] = append(binary.LittleEndian.AppendUint32(w.values[i], uint32(len(s))), s...)
		case Whole:
			var n int64
			n, ok = values[i].(int64)
			w.values[i] = binary.LittleEndian.AppendUint64(w.values[i], uint64(n))
		case Number:
			var f float64
			f, ok = values[i].(float64)
			w.values[i] = binary.LittleEndian.AppendUint64(w.values[i], math.Float64bits(f))
		case Truth:
			var b bool
			b, ok = values[i].(bool)
			w.bits[i] = append(w.bits[i], b)
		case Moment:
			var t time.Time
			if t, ok = values[i].(time.Time); !t.IsZero() {
				w.values[i] = binary.LittleEndian.AppendUint64(w.values[i], uint64(t.UnixMilli()))
			}
			w.bits[i] = append(w.bits[i], !t.IsZero())
		}
		if !ok { // nothing can come after half a row
			w.err = fmt.Errorf("the value of %s is a %T", c.Name, values[i])
			return w.err
		}
	}
	w.all++
	if w.rows++; w.rows == maxGroup {
		w.flush()
	}
	return w.err
}

// packed puts truth values into bits, the first into the lowest.
func packed(list []bool) []byte {
	out := make([]byte, (len(list)+7)/8)
	for i, b := range list {
		if b {
			out[i/8] |= 1 << (i % 8)
		}
	}
	return out
}

// flush writes the group that is gathered.
func (w *Writer) flush() {
	if w.rows == 0 {
		return
	}
	g := group{rows: int64(w.rows)}
	for i, c := range w.columns {
		body := w.values[i]
		switch c.Kind {
		case Truth:
			body = packed(w.bits[i])
		case Moment: // first which are there: levels in one run of groups of eight bits
			levels := packed(w.bits[i])
			run := append(binary.AppendUvarint(nil, uint64(len(levels))<<1|1), levels...)
			body = append(append(binary.LittleEndian.AppendUint32(nil, uint32(len(run))), run...), body...)
		}
		small := w.packer.EncodeAll(body, nil)
		var head record
		head.i32(1, pageData)
		head.i32(2, int32(len(body)))
		head.i32(3, int32(len(small)))
		head.begin(5)
		head.i32(1, int32(w.rows))
		head.i32(2, encodingPlain)
		head.i32(3, encodingRLE)
		head.i32(4, encodingRLE)
		head.end()
		head.end()
		ch := chunk{at: w.at, values: int64(w.rows), unpacked: int64(len(head.b) + len(body)),
			packed: int64(len(head.b) + len(small))}
		w.write(head.b)
		w.write(small)
		g.chunks, g.size = append(g.chunks, ch), g.size+ch.unpacked
		w.values[i], w.bits[i] = w.values[i][:0], w.bits[i][:0]
	}
	w.groups, w.rows = append(w.groups, g), 0
}

// Close writes what is left, and what the file holds. The caller closes what it is written to.
func (w *Writer) Close() error {
	w.flush()
	var meta record
	meta.i32(1, 1) // the format's version
	meta.list(2, len(w.columns)+1, kindStruct)
	meta.inList()
	meta.text(4, "table")
	meta.i32(5, int32(len(w.columns)))
	meta.end()
	for _, c := range w.columns {
		meta.inList()
		meta.i32(1, c.Kind.physical())
		meta.i32(3, map[bool]int32{true: optional, false: required}[c.Kind == Moment])
		meta.text(4, c.Name)
		switch c.Kind {
		case Text:
			meta.i32(6, asUTF8)
			meta.begin(10)
			meta.begin(logicalString)
			meta.end()
			meta.end()
		case Moment:
			meta.i32(6, asMillis)
			meta.begin(10)
			meta.begin(logicalTimestamp)
			meta.truth(1, true) // in UTC
			meta.begin(2)
			meta.begin(1) // milliseconds
			meta.end()
			meta.end()
			meta.end()
			meta.end()
		}
		meta.end()
	}
	meta.i64(3, w.all)
	meta.list(4, len(w.groups), kindStruct)
	for _, g := range w.groups {
		meta.inList()
		meta.list(1, len(g.chunks), kindStruct)
		for i, ch := range g.chunks {
			meta.inList()
			meta.i64(2, ch.at)
			meta.begin(3)
			meta.i32(1, w.columns[i].Kind.physical())
			meta.list(2, 2, kindI32)
			meta.number(encodingPlain)
			meta.number(encodingRLE)
			meta.list(3, 1, kindText)
			meta.bytes(w.columns[i].Name)
			meta.i32(4, codecZstd)
			meta.i64(5, ch.values)
			meta.i64(6, ch.unpacked)
			meta.i64(7, ch.packed)
			meta.i64(9, ch.at)
			meta.end()
			meta.end()
		}
		meta.i64(2, g.size)
		meta.i64(3, g.rows)
		meta.end()
	}
	meta.text(6, "cozyshelf")
	meta.end()
	w.write(meta.b)
	w.write(binary.LittleEndian.AppendUint32(nil, uint32(len(meta.b))))
	w.write([]byte(magic))
	if w.err == nil {
		w.err = w.out.Flush()
	}
	return w.err
}

// record is a structure in Thrift's compact protocol, and those that stand within it.
type record struct {
	b    []byte
	last []int // the number of the field before, of each structure that is open; the outermost is always
	now  int
}

// Kinds of fields.
const (
	kindTrue, kindFalse, kindI32, kindI64, kindText, kindList, kindStruct = 1, 2, 5, 6, 8, 9, 12
)

func (r *record) field(id, kind int) {
	if d := id - r.now; d > 0 && d < 16 {
		r.b = append(r.b, byte(d<<4|kind))
	} else {
		r.b = binary.AppendVarint(append(r.b, byte(kind)), int64(id))
	}
	r.now = id
}

func (r *record) number(n int64) { r.b = binary.AppendVarint(r.b, n) } // zigzag, as Thrift has it

func (r *record) i32(id int, n int32) {
	r.field(id, kindI32)
	r.number(int64(n))
}

func (r *record) i64(id int, n int64) {
	r.field(id, kindI64)
	r.number(n)
}

func (r *record) truth(id int, is bool) {
	r.field(id, map[bool]int{true: kindTrue, false: kindFalse}[is])
}

func (r *record) bytes(s string) {
	r.b = append(binary.AppendUvarint(r.b, uint64(len(s))), s...)
}

func (r *record) text(id int, s string) {
	r.field(id, kindText)
	r.bytes(s)
}

func (r *record) list(id, n, kind int) {
	r.field(id, kindList)
	if n < 15 {
		r.b = append(r.b, byte(n<<4|kind))
	} else {
		r.b = binary.AppendUvarint(append(r.b, byte(0xf0|kind)), uint64(n))
	}
}

// begin begins a structure that is a field; inList one that stands in a list; end ends the last that was begun, or
// the outermost.
func (r *record) begin(id int) {
	r.field(id, kindStruct)
	r.inList()
}

func (r *record) inList() {
	r.last = append(r.last, r.now)
	r.now = 0
}

func (r *record) end() {
	r.b = append(r.b, 0)
	if n := len(r.last); n > 0 {
		r.now, r.last = r.last[n-1], r.last[:n-1]
	}
}
