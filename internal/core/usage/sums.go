package usage

import (
	"container/heap"
	"maps"
	"math"
	"math/bits"
	"slices"
	"strings"
	"time"
)

// Tally is what figures count. All of it is whole numbers, so that sums of parts are the sum of the whole.
type Tally struct {
	Plays   int64 // that began in the time
	Done    int64 // of those: seen to the end
	Watched int64 // milliseconds, spread evenly from a play's beginning to its end
	Bytes   int64 // spread in the same manner
}

func (t *Tally) add(o Tally) {
	t.Plays, t.Done, t.Watched, t.Bytes = t.Plays+o.Plays, t.Done+o.Done, t.Watched+o.Watched, t.Bytes+o.Bytes
}

// of gives a measure of a tally: seconds, plays or bytes.
func (t Tally) of(of Of) float64 {
	switch of {
	case OfPlays:
		return float64(t.Plays)
	case OfBytes:
		return float64(t.Bytes)
	}
	return float64(t.Watched) / 1000
}

// Dim is by what figures are parted.
type Dim uint8

// The dimensions. Kinds follow from shelves, and platforms from devices.
const (
	DimAll      Dim = iota // not at all
	DimOwner               // the member whose device it was
	DimMember              // each who watched
	DimShelf               // by its name
	DimDevice              // by its name
	DimDelivery            // one of Deliveries, or empty
	DimWhere               // home or away
	DimSofa                // alone, or together
	DimTitle               // the name of a TitleKey
	dims
)

// Key is what a tally is of.
type Key struct {
	Hour int // 0 for all hours, else 1 + 24 × weekday (from Monday on) + hour of the day
	Dim  Dim
	Name string
}

// TitleKey names a part of a title on a shelf.
func TitleKey(shelf, title, part string) string { return shelf + "\x00" + title + "\x00" + part }

// readTitleKey reads what TitleKey made.
func readTitleKey(key string) (shelf, title, part string) {
	shelf, key, _ = strings.Cut(key, "\x00")
	title, part, _ = strings.Cut(key, "\x00")
	return shelf, title, part
}

// Entry is a tally, and who watched: those of titles and devices know that.
type Entry struct {
	Tally
	who []uint64 // a bit for each of the names of the Sums
}

// Sums are the figures of a time.
type Sums struct {
	Of    map[Key]*Entry
	Peaks map[int]int64 // by hour as in Key: how many plays ran at once, at most
	names []string      // of who watched
	index map[string]int
}

// NewSums gives sums of nothing.
func NewSums() *Sums {
	return &Sums{Of: map[Key]*Entry{}, Peaks: map[int]int64{}, index: map[string]int{}}
}

// Get gives one tally; zero where nothing is known.
func (s *Sums) Get(hour int, dim Dim, name string) Tally {
	if e := s.Of[Key{hour, dim, name}]; e != nil {
		return e.Tally
	}
	return Tally{}
}

// Parts says which figures are wanted.
type Parts uint8

// The parts.
const (
	PartWhole  Parts = 1 << iota // of all hours and everything
	PartFew                      // of all hours by everything but titles
	PartHours                    // by hour of the weekday
	PartTitles                   // by title
	PartAll    = PartWhole | PartFew | PartHours | PartTitles
)

// EachPart are the parts one by one.
var EachPart = []Parts{PartWhole, PartFew, PartHours, PartTitles}

// part tells to which part a key belongs.
func (k Key) part() Parts {
	switch {
	case k.Hour > 0:
		return PartHours
	case k.Dim == DimTitle:
		return PartTitles
	case k.Dim == DimAll:
		return PartWhole
	}
	return PartFew
}

func (s *Sums) entry(k Key) *Entry {
	e := s.Of[k]
	if e == nil {
		e = &Entry{}
		s.Of[k] = e
	}
	return e
}

// bit gives the place of a name among those who watched.
func (s *Sums) bit(name string) int {
	i, ok := s.index[name]
	if !ok {
		i = len(s.names)
		s.names = append(s.names, name)
		s.index[name] = i
	}
	return i
}

func (e *Entry) set(bit int) {
	for len(e.who) <= bit/64 {
		e.who = append(e.who, 0)
	}
	e.who[bit/64] |= 1 << (bit % 64)
}

func (e *Entry) has(bit int) bool { return bit/64 < len(e.who) && e.who[bit/64]>>(bit%64)&1 == 1 }

// count gives how many watched.
func (e *Entry) count() (n int) {
	for _, w := range e.who {
		n += bits.OnesCount64(w)
	}
	return n
}

// join adds those who watched another entry, of the same sums.
func (e *Entry) join(o *Entry) {
	for i, w := range o.who {
		for len(e.who) <= i {
			e.who = append(e.who, 0)
		}
		e.who[i] |= w
	}
}

// Viewers gives the names of those who watched, as far as it is known.
func (s *Sums) Viewers(k Key) (out []string) {
	if e := s.Of[k]; e != nil {
		for i, name := range s.names {
			if e.has(i) {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Add adds the figures of another time.
func (s *Sums) Add(o *Sums) {
	to := make([]int, len(o.names))
	for i, name := range o.names {
		to[i] = s.bit(name)
	}
	for k, e := range o.Of {
		mine := s.entry(k)
		mine.add(e.Tally)
		for i := range o.names {
			if e.has(i) {
				mine.set(to[i])
			}
		}
	}
	for hour, n := range o.Peaks {
		s.Peaks[hour] = max(s.Peaks[hour], n)
	}
}

// Equal reports whether two sums say the same, whatever the order in which they were made.
func (s *Sums) Equal(o *Sums) bool {
	if len(s.Of) != len(o.Of) || !maps.Equal(s.Peaks, o.Peaks) {
		return false
	}
	for k, e := range s.Of {
		f := o.Of[k]
		if f == nil || e.Tally != f.Tally || !slices.Equal(s.Viewers(k), o.Viewers(k)) {
			return false
		}
	}
	return true
}

// Roller makes sums of the plays of a time, which it gets in the order in which they began.
type Roller struct {
	Sums        *Sums
	zone        *time.Location
	from, until time.Time // zero until: no end
	want        Parts
	sweep       sweep
}

// NewRoller makes a roller for the parts that are wanted. A zero from or until does not bound the time.
func NewRoller(zone *time.Location, from, until time.Time, want Parts) *Roller {
	r := &Roller{Sums: NewSums(), zone: zone, from: from, until: until, want: want}
	r.sweep.running = func(from, to time.Time, n int) { // at least one
		r.peak(0, n)
		if want&PartHours != 0 {
			eachHour(from.In(zone), to, func(at, _ time.Time) { r.peak(hourOf(at), n) })
		}
	}
	return r
}

func (r *Roller) peak(hour, n int) {
	if hour == 0 && r.want&PartWhole == 0 {
		return
	}
	r.Sums.Peaks[hour] = max(r.Sums.Peaks[hour], int64(n))
}

// hourOf gives the hour of a key.
func hourOf(local time.Time) int { return 1 + 24*monday(local) + local.Hour() }

// eachHour cuts a time at the hours of its zone's clocks.
func eachHour(from, to time.Time, do func(at, next time.Time)) {
	for at := from; ; {
		past := time.Duration(at.Minute())*time.Minute + time.Duration(at.Second())*time.Second +
			time.Duration(at.Nanosecond())
		next := at.Add(time.Hour - past)
		if !next.Before(to) {
			do(at, to)
			return
		}
		do(at, next)
		at = next
	}
}

// cut gives how much of a whole lies before a part of a time.
func cut(whole int64, part, time time.Duration) int64 {
	if whole <= 0 || part <= 0 {
		return 0
	}
	if part >= time {
		return whole
	}
	hi, lo := bits.Mul64(uint64(whole), uint64(part))
	q, _ := bits.Div64(hi, lo, uint64(time))
	return int64(q)
}

// Within reports whether a play counts in a time. Zero from or until do not bound it.
func (p Play) Within(from, until time.Time) bool {
	begin, end := p.span()
	return (until.IsZero() || begin.Before(until)) && (end.After(from) || !begin.Before(from))
}

// Add counts a play.
func (r *Roller) Add(p Play) {
	if !p.Within(r.from, r.until) {
		return
	}
	begin, end := p.span()
	from, to := begin, end
	if from.Before(r.from) {
		from = r.from
	}
	if !r.until.IsZero() && to.After(r.until) {
		to = r.until
	}
	r.sweep.begin(from, to)
	watched := int64(math.Round(min(p.Watched, 1e12) * 1000))
	upTo := func(at time.Time) Tally {
		past, whole := at.Sub(begin), end.Sub(begin)
		return Tally{Watched: cut(watched, past, whole), Bytes: cut(p.Bytes, past, whole)}
	}
	piece := func(at, next time.Time) Tally {
		before, after := upTo(at), upTo(next)
		if !end.After(begin) { // it took no time at all
			before, after = Tally{}, Tally{Watched: max(0, watched), Bytes: max(0, p.Bytes)}
		}
		t := Tally{Watched: after.Watched - before.Watched, Bytes: after.Bytes - before.Bytes}
		if at.Equal(begin) {
			if t.Plays = 1; p.Done {
				t.Done = 1
			}
		}
		return t
	}
	if r.want&^PartHours != 0 {
		r.count(0, p, piece(from, to))
	}
	if r.want&PartHours != 0 {
		eachHour(from.In(r.zone), to, func(at, next time.Time) { r.count(hourOf(at), p, piece(at, next)) })
	}
}

func (r *Roller) count(hour int, p Play, t Tally) {
	viewers := p.Viewers()
	add := func(dim Dim, name string) *Entry {
		e := r.Sums.entry(Key{hour, dim, name})
		e.add(t)
		return e
	}
	know := func(e *Entry) {
		for _, v := range viewers {
			e.set(r.Sums.bit(v))
		}
	}
	if hour == 0 && r.want&PartTitles != 0 {
		know(add(DimTitle, TitleKey(p.Shelf, p.Title, p.Part)))
	}
	if hour > 0 || r.want&PartWhole != 0 {
		add(DimAll, "")
	}
	if hour == 0 && r.want&PartFew == 0 {
		return
	}
	add(DimOwner, p.Member)
	add(DimShelf, p.Shelf)
	add(DimDelivery, p.Delivery)
	add(DimWhere, string(p.where()))
	add(DimSofa, p.sofa())
	if device := add(DimDevice, p.Device); hour == 0 {
		know(device)
		for _, v := range viewers {
			add(DimMember, v)
		}
	}
}

// where says where a play was watched.
func (p Play) where() Where {
	if p.Away {
		return Away
	}
	return AtHome
}

// sofa says whether one member watched a play, or several.
func (p Play) sofa() string {
	if len(p.Sofa) > 0 {
		return "together"
	}
	return "alone"
}

// End is called after the last play, and gives the sums.
func (r *Roller) End() *Sums {
	r.sweep.end()
	return r.Sums
}

// sweep goes along plays in the order in which they began, and tells how many ran when. What ends when another
// begins does not run beside it.
type sweep struct {
	ends    ends // of those that run
	last    time.Time
	running func(from, to time.Time, n int)
}

func (s *sweep) begin(from, to time.Time) {
	s.until(from)
	s.last = from
	if to.After(from) {
		heap.Push(&s.ends, to)
	} else {
		s.running(from, to, len(s.ends)+1) // it took no time at all
	}
}

// until goes on to a moment.
func (s *sweep) until(t time.Time) {
	for len(s.ends) > 0 && !s.ends[0].After(t) {
		s.pass(s.ends[0])
		heap.Pop(&s.ends)
	}
	if len(s.ends) > 0 {
		s.pass(t)
	}
}

func (s *sweep) pass(t time.Time) {
	if t.After(s.last) {
		s.running(s.last, t, len(s.ends))
		s.last = t
	}
}

func (s *sweep) end() {
	for len(s.ends) > 0 {
		s.until(s.ends[0])
	}
}

// ends are moments, the earliest first.
type ends []time.Time

func (e ends) Len() int           { return len(e) }
func (e ends) Less(i, j int) bool { return e[i].Before(e[j]) }
func (e ends) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *ends) Push(v any)        { *e = append(*e, v.(time.Time)) }
func (e *ends) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}
