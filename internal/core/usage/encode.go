package usage

import (
	"cmp"
	"encoding/binary"
	"errors"
	"maps"
	"slices"
)

// ErrSums says that bytes are no sums.
var ErrSums = errors.New("these are no sums")

// sumsForm is the first byte of sums as they are kept.
const sumsForm = 1

// Encode writes one part of sums: the form, the names that stand in it, the entries by hour and dimension, and the
// peaks. All numbers are varints. Sums that say the same are the same bytes. A part of nothing is empty.
func (s *Sums) Encode(part Parts) []byte {
	keys := slices.SortedFunc(maps.Keys(s.Of), func(a, b Key) int {
		return cmp.Or(cmp.Compare(a.Hour, b.Hour), cmp.Compare(a.Dim, b.Dim), cmp.Compare(a.Name, b.Name))
	})
	keys = slices.DeleteFunc(keys, func(k Key) bool { return k.part() != part })
	if len(keys) == 0 {
		return nil
	}
	at := map[string]uint64{}
	for _, k := range keys {
		at[k.Name] = 0
	}
	watched := map[int]bool{} // the bits of those who watched, in this part
	for _, k := range keys {
		for i, name := range s.names {
			if s.Of[k].has(i) {
				at[name], watched[i] = 0, true
			}
		}
	}
	names := slices.Sorted(maps.Keys(at))
	out := binary.AppendUvarint([]byte{sumsForm}, uint64(len(names)))
	for i, name := range names {
		at[name] = uint64(i)
		out = binary.AppendUvarint(out, uint64(len(name)))
		out = append(out, name...)
	}
	order := slices.SortedFunc(maps.Keys(watched), func(a, b int) int { return cmp.Compare(s.names[a], s.names[b]) })
	var groups [][]Key // of one hour and dimension
	for i, k := range keys {
		if i == 0 || k.Hour != keys[i-1].Hour || k.Dim != keys[i-1].Dim {
			groups = append(groups, nil)
		}
		groups[len(groups)-1] = append(groups[len(groups)-1], k)
	}
	out = binary.AppendUvarint(out, uint64(len(groups)))
	for _, group := range groups {
		rows := binary.AppendUvarint(nil, uint64(len(group)))
		for _, k := range group {
			e := s.Of[k]
			for _, n := range []uint64{at[k.Name], uint64(e.Plays), uint64(e.Done), uint64(e.Watched), uint64(e.Bytes),
				uint64(e.count())} {
				rows = binary.AppendUvarint(rows, n)
			}
			for _, i := range order {
				if e.has(i) {
					rows = binary.AppendUvarint(rows, at[s.names[i]])
				}
			}
		}
		for _, n := range []int{group[0].Hour, int(group[0].Dim), len(rows)} {
			out = binary.AppendUvarint(out, uint64(n))
		}
		out = append(out, rows...)
	}
	hours := slices.Sorted(maps.Keys(s.Peaks))
	hours = slices.DeleteFunc(hours, func(h int) bool { return h == 0 && part != PartWhole || h > 0 && part != PartHours })
	out = binary.AppendUvarint(out, uint64(len(hours)))
	for _, h := range hours {
		out = binary.AppendUvarint(binary.AppendUvarint(out, uint64(h)), uint64(s.Peaks[h]))
	}
	return out
}

// Decode adds what Encode wrote to sums. Nothing is added of bytes that are none.
func (s *Sums) Decode(b []byte) error { return s.decode(b, func(Dim) bool { return true }, true) }

// decode adds only the dimensions that are wanted, with or without those who watched, and the peaks.
func (s *Sums) decode(b []byte, want func(Dim) bool, who bool) error {
	if len(b) == 0 {
		return nil
	}
	r := reader{rest: string(b[1:]), failed: b[0] != sumsForm}
	names := make([]string, 0, r.count(1))
	for range cap(names) {
		names = append(names, r.text())
	}
	type row struct {
		key   Key
		entry Tally
		who   []int
	}
	var rows []row
	var all []int // who watched what, in one piece of memory
	for range r.count(3) {
		hour, dim := r.below(1+7*24), Dim(r.below(int(dims)))
		group := reader{rest: r.text()}
		if !want(dim) {
			continue
		}
		n := group.count(6)
		rows = slices.Grow(rows, n)
		for range n {
			v := row{key: Key{hour, dim, group.name(names)}}
			v.entry = Tally{Plays: group.number(), Done: group.number(), Watched: group.number(), Bytes: group.number()}
			begin := len(all)
			for range group.count(1) {
				if i := group.below(len(names)); who {
					all = append(all, i)
				}
			}
			v.who = all[begin:len(all):len(all)]
			rows = append(rows, v)
		}
		r.failed = r.failed || group.failed || group.rest != ""
	}
	var peaks []peak
	for range r.count(2) {
		peaks = append(peaks, peak{r.below(1 + 7*24), r.number()})
	}
	if r.failed || r.rest != "" {
		return ErrSums
	}
	var to []int     // the bits of names, each looked up once; 0 for not yet
	var room []Entry // for all that is new, in one piece of memory, too
	if len(s.Of) == 0 {
		s.Of, room = make(map[Key]*Entry, len(rows)), make([]Entry, len(rows))
	}
	for n, v := range rows {
		e := s.Of[v.key]
		switch {
		case e != nil:
		case room != nil:
			e = &room[n]
			s.Of[v.key] = e
		default:
			e = s.entry(v.key)
		}
		e.add(v.entry)
		for _, i := range v.who {
			if to == nil {
				to = make([]int, len(names))
			}
			if to[i] == 0 {
				to[i] = 1 + s.bit(names[i])
			}
			e.set(to[i] - 1)
		}
	}
	for _, p := range peaks {
		s.Peaks[p.hour] = max(s.Peaks[p.hour], p.most)
	}
	return nil
}

// peak is how many plays ran at once in an hour, at most.
type peak struct {
	hour int
	most int64
}

// reader reads varints and texts. After the first that is not there all are zero.
type reader struct {
	rest   string
	failed bool
}

func (r *reader) number() int64 {
	var v uint64
	for i := 0; i < len(r.rest) && i < 9 && !r.failed; i++ { // 9 × 7 bits are what fits into an int64
		c := r.rest[i]
		v |= uint64(c&0x7f) << (7 * i)
		if c < 0x80 {
			r.rest = r.rest[i+1:]
			return int64(v)
		}
	}
	r.failed = true
	return 0
}

// count reads how many there are, of things that take so many bytes at least.
func (r *reader) count(least int) int {
	n := r.number()
	if n > int64(len(r.rest)/least) {
		r.failed = true
		return 0
	}
	return int(n)
}

func (r *reader) text() string {
	n := r.count(1)
	out := r.rest[:n]
	r.rest = r.rest[n:]
	return out
}

func (r *reader) below(bound int) int {
	n := r.number()
	if n >= int64(bound) {
		r.failed = true
		return 0
	}
	return int(n)
}

func (r *reader) name(names []string) string {
	if i := r.below(len(names)); !r.failed {
		return names[i]
	}
	return ""
}
