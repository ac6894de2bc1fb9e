package usage

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// By is what a chart's columns are.
type By string

// The columns.
const (
	ByDay     By = "day"
	ByWeek    By = "week" // from Monday on
	ByMonth   By = "month"
	ByHour    By = "hour"    // of the day
	ByWeekday By = "weekday" // from Monday on
	ByHeat    By = "heat"    // hours of weekdays
)

// Of is what a chart measures.
type Of string

// The measures.
const (
	OfWatched Of = "watched" // seconds, spread evenly from a play's beginning to its end
	OfPlays   Of = "plays"   // by when they began
	OfStreams Of = "streams" // the most at once
	OfBytes   Of = "bytes"   // spread like what was watched
	OfLibrary Of = "library" // how large it is, at the end of each day, week or month: Growth
)

// Bys and Ofs are all of them.
var (
	Bys = []By{ByDay, ByWeek, ByMonth, ByHour, ByWeekday, ByHeat}
	Ofs = []Of{OfWatched, OfPlays, OfStreams, OfBytes, OfLibrary}
)

// Column is one of a chart.
type Column struct {
	Name   string             `json:"name"`
	Begins time.Time          `json:"begins_at,omitzero"` // of days, weeks and months
	Value  float64            `json:"value"`
	Split  map[string]float64 `json:"split,omitempty"` // by group; of streams nothing, since peaks do not add up
}

// Split is by what the values of a chart are split.
type Split string

// The splits. By member it is whose device it was, so that a play on the sofa counts once.
const (
	SplitNone     Split = ""
	SplitMember   Split = "member"
	SplitShelf    Split = "shelf"
	SplitKind     Split = "kind" // of the shelf
	SplitDevice   Split = "device"
	SplitPlatform Split = "platform"
	SplitDelivery Split = "delivery"
	SplitWhere    Split = "where"
	SplitSofa     Split = "sofa" // alone or together
)

// Splits are all of them that split.
var Splits = []Split{SplitMember, SplitShelf, SplitKind, SplitDevice, SplitPlatform, SplitDelivery, SplitWhere,
	SplitSofa}

var splitDims = map[Split]Dim{SplitMember: DimOwner, SplitShelf: DimShelf, SplitKind: DimShelf,
	SplitDevice: DimDevice, SplitPlatform: DimDevice, SplitDelivery: DimDelivery, SplitWhere: DimWhere,
	SplitSofa: DimSofa}

// dim gives the dimension by which sums are split.
func (s Split) dim() Dim { return splitDims[s] }

// Asked is what a chart is to show.
type Asked struct {
	By    By
	Of    Of
	From  time.Time // of days, weeks and months: the first column holds it; zero for that of the first play
	To    time.Time // the last column holds it
	Zone  *time.Location
	Split Split
	Kinds map[string]string // of shelves, by their names
}

// Weekdays are the days as charts have them.
var Weekdays = []string{"Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"}

// mostSpread is how long a play may last that is spread over its time: a clock that was set makes longer ones.
const mostSpread = 48 * time.Hour

// MostColumns bounds a chart.
const MostColumns = 5000

// span gives when a play was watched.
func (p Play) span() (from, to time.Time) {
	from, to = p.Started, p.Seen
	if !p.Ended.IsZero() {
		to = p.Ended
	}
	if to.Before(from) || to.Sub(from) > mostSpread {
		to = from.Add(time.Duration(min(p.Watched, mostSpread.Seconds()) * float64(time.Second)))
	}
	return from, to
}

// monday gives the weekday as charts have it.
func monday(t time.Time) int { return (int(t.Weekday()) + 6) % 7 }

// begins gives when the column of a moment begins.
func (by By) begins(t time.Time) time.Time {
	y, m, d := t.Date()
	switch by {
	case ByWeek:
		d -= monday(t)
	case ByMonth:
		d = 1
	}
	return Midnight(y, m, d, t.Location())
}

// next gives when the column after one begins.
func (by By) next(t time.Time) time.Time {
	y, m, d := t.Date()
	switch by {
	case ByWeek:
		d += 7
	case ByMonth:
		m++
	default:
		d++
	}
	return Midnight(y, m, d, t.Location())
}

// names are those of columns that have no date.
func (a Asked) names() []string {
	switch a.By {
	case ByHour:
		out := make([]string, 24)
		for h := range out {
			out[h] = fmt.Sprintf("%02d:00", h)
		}
		return out
	case ByWeekday:
		return Weekdays
	}
	return nil
}

// Dated reports whether columns are days, weeks or months.
func (by By) Dated() bool { return by == ByDay || by == ByWeek || by == ByMonth }

// Part gives which sums a chart is made of, of one value of a dimension or of all.
func (a Asked) Part(only Only) Parts {
	switch {
	case !a.By.Dated():
		return PartHours
	case a.of(only) == DimAll:
		return PartWhole
	}
	return PartFew
}

// of gives of which dimension the whole is the sum: each of those by which a chart can be split adds up to it.
func (a Asked) of(only Only) Dim {
	if only.Dim == DimAll {
		return a.Split.dim()
	}
	return only.Dim
}

// Level gives how long the times may be, at most, of which sums a chart is made.
func (a Asked) Level() Level {
	switch a.By {
	case ByDay, ByWeek:
		return LevelDay
	case ByMonth:
		return LevelMonth
	}
	return LevelEver
}

// Gathering gathers what a chart shows: sums of periods, and plays in the order in which they began.
type Gathering struct {
	asked   Asked
	only    Only
	columns []Column  // of days, weeks and months
	sums    []*Sums   // of each of them, or one of all hours
	rollers []*Roller // of those to which plays are added
	settled int       // how many columns are done
}

// Gather begins to gather. first is when the first play began: a chart that has no beginning begins there.
func Gather(a Asked, only Only, first time.Time) *Gathering {
	if a.From.IsZero() || a.To.Sub(a.From) > MostColumns*24*time.Hour {
		if a.From = first; first.IsZero() || first.After(a.To) {
			a.From = a.To
		}
	}
	g := &Gathering{asked: a, only: only}
	n := 1
	if a.By.Dated() {
		for t := a.By.begins(a.From.In(a.Zone)); !t.After(a.To) && len(g.columns) < MostColumns; t = a.By.next(t) {
			name := t.Format(time.DateOnly)
			switch a.By {
			case ByWeek:
				y, w := t.ISOWeek()
				name = fmt.Sprintf("%d-W%02d", y, w)
			case ByMonth:
				name = t.Format("2006-01")
			}
			g.columns = append(g.columns, Column{Name: name, Begins: t})
		}
		n = len(g.columns)
	}
	g.sums, g.rollers = make([]*Sums, n), make([]*Roller, n)
	return g
}

// From gives where the chart begins.
func (g *Gathering) From() time.Time { return g.asked.From }

// at gives in which column a moment lies; -1 for none.
func (g *Gathering) at(t time.Time) int {
	if !g.asked.By.Dated() {
		return 0
	}
	i, found := slices.BinarySearchFunc(g.columns, t, func(c Column, t time.Time) int { return c.Begins.Compare(t) })
	if !found {
		i--
	}
	if i == len(g.columns)-1 && i >= 0 && !t.Before(g.asked.By.next(g.columns[i].Begins)) {
		return -1
	}
	return i
}

func (g *Gathering) of(i int) *Sums {
	if g.sums[i] == nil {
		g.sums[i] = NewSums()
	}
	return g.sums[i]
}

// Decode adds the sums of a period that begins at a moment, as they are kept. What is added before lies before it.
func (g *Gathering) Decode(begins time.Time, b []byte) error {
	if i := g.at(begins); i >= 0 {
		g.settle(i)
		whole, split := g.asked.of(g.only), g.asked.Split.dim()
		return g.of(i).decode(b, func(d Dim) bool { return d == whole || d == split }, false)
	}
	return nil
}

// Add adds what of a play lies in a part of the time. Plays come in the order in which they began.
func (g *Gathering) Add(p Play, from, until time.Time) {
	begin, end := p.span()
	if begin.Before(from) {
		begin = from
	}
	i := max(0, g.at(begin.In(g.asked.Zone)))
	for ; i < len(g.sums); i++ {
		low, high := from, until
		if g.asked.By.Dated() {
			c := g.columns[i].Begins
			if c.After(end) {
				return
			}
			if c.After(low) {
				low = c
			}
			if next := g.asked.By.next(c); high.IsZero() || next.Before(high) {
				high = next
			}
		}
		if !high.IsZero() && !low.Before(high) {
			continue
		}
		r := g.rollers[i]
		if r == nil || !r.from.Equal(low) || !r.until.Equal(high) { // plays of another part of the time
			g.close(i)
			r = NewRoller(g.asked.Zone, low, high, g.asked.Part(g.only))
			g.rollers[i] = r
		}
		r.Add(p)
	}
}

func (g *Gathering) close(i int) {
	if g.rollers[i] != nil {
		g.of(i).Add(g.rollers[i].End())
		g.rollers[i] = nil
	}
}

// settle fills in the columns before one, and lets their sums go.
func (g *Gathering) settle(before int) {
	for ; g.asked.By.Dated() && g.settled < before; g.settled++ {
		i := g.settled
		g.close(i)
		g.fill(&g.columns[i], g.sums[i], func(h int) bool { return h == 0 })
		g.sums[i] = nil
	}
}

// end closes all.
func (g *Gathering) end() {
	for i := range g.rollers {
		g.close(i)
	}
}

// group gives to what group a name of the dimension belongs by which a chart is split.
func (a Asked) group(name string) string {
	switch a.Split {
	case SplitKind:
		return a.Kinds[name]
	case SplitPlatform:
		if name != "" {
			return Platform(name)
		}
	}
	return name
}

// Only is a figure of one value of a dimension, such as of one shelf. The zero value is of all.
type Only struct {
	Dim  Dim
	Name func(string) bool // which values count; nil for all
}

// Only gives, for a chart of one shelf, one kind, one delivery, one place or some devices, a choice of plays that does
// not bound that, and the figure that does: so it is made of the sums that are kept. Other choices stay.
func (a Asked) Only(f Filter) (Filter, Only) {
	wide := f
	wide.Kind, wide.Shelves = "", nil
	wide.Shelf, wide.Delivery, wide.Where, wide.Device = "", "", "", ""
	var out []Only
	is := func(want string) func(string) bool { return func(name string) bool { return name == want } }
	if f.Shelf != "" {
		out = append(out, Only{DimShelf, is(f.Shelf)})
	}
	if f.Kind != "" {
		out = append(out, Only{DimShelf, func(name string) bool { return slices.Contains(f.Shelves, name) }})
	}
	if f.Delivery != "" {
		out = append(out, Only{DimDelivery, is(f.Delivery)})
	}
	if f.Where != "" {
		out = append(out, Only{DimWhere, is(string(f.Where))})
	}
	if f.Device != "" {
		part := strings.ToLower(f.Device)
		out = append(out, Only{DimDevice, func(name string) bool {
			return strings.Contains(strings.ToLower(name),
				part)
		}})
	}
	if !wide.Rolled() || len(out) != 1 || a.Of == OfStreams || a.Split != SplitNone && a.Split.dim() != out[0].Dim {
		return f, Only{}
	}
	return wide, out[0]
}

// Check says what of a chart cannot be shown.
func (a Asked) Check() error {
	switch {
	case !slices.Contains(Bys, a.By):
		return fmt.Errorf("by is day, week, month, hour, weekday or heat, not %q", a.By)
	case !slices.Contains(Ofs, a.Of):
		return fmt.Errorf("of is watched, plays, streams, bytes or library, not %q", a.Of)
	case a.Split != SplitNone && !slices.Contains(Splits, a.Split):
		return fmt.Errorf("split is member, shelf, kind, device, platform, delivery, where or sofa, not %q", a.Split)
	case a.Of == OfLibrary && (!a.By.Dated() ||
		!slices.Contains([]Split{SplitNone, SplitShelf, SplitKind}, a.Split)):
		return errors.New("the library is shown by day, week or month, and split by shelf or kind")
	case a.Split != SplitNone && (a.Of == OfStreams || a.By == ByHeat):
		return errors.New("streams at once and heat maps cannot be split: choose one member or one shelf instead")
	}
	return nil
}

// Chart gives the columns of a chart of plays.
func Chart(plays []Play, a Asked) []Column {
	plays = slices.SortedFunc(slices.Values(plays), func(a, b Play) int { return a.Started.Compare(b.Started) })
	var first time.Time
	if len(plays) > 0 {
		first = plays[0].Started
	}
	g := Gather(a, Only{}, first)
	for _, p := range plays {
		g.Add(p, g.From(), time.Time{})
	}
	return g.Chart()
}

// value gives a measure of some hours of sums, and how it is split.
func (a Asked) value(s *Sums, hour func(int) bool, only Only) (v float64, split map[string]float64) {
	if s == nil {
		return 0, nil
	}
	if a.Of == OfStreams {
		for h, n := range s.Peaks {
			if hour(h) {
				v = max(v, float64(n))
			}
		}
		return v, nil
	}
	// Summed in whole numbers, so that the order is all the same.
	of, dim, whole := a.of(only), a.Split.dim(), Tally{}
	var groups map[string]Tally
	if a.Split != SplitNone {
		groups = make(map[string]Tally, len(s.Of))
	}
	for k, e := range s.Of {
		if !hour(k.Hour) {
			continue
		}
		if only.Name != nil && !only.Name(k.Name) {
			continue
		}
		if k.Dim == of {
			whole.add(e.Tally)
		}
		if groups != nil && k.Dim == dim {
			group := a.group(k.Name)
			t := groups[group]
			t.add(e.Tally)
			groups[group] = t
		}
	}
	for name, t := range groups {
		if x := t.of(a.Of); x != 0 {
			if split == nil {
				split = make(map[string]float64, len(groups))
			}
			split[name] = x
		}
	}
	return whole.of(a.Of), split
}

// Chart gives the columns that were gathered.
func (g *Gathering) Chart() []Column {
	g.end()
	out := g.columns
	for i, name := range g.asked.names() {
		c := Column{Name: name}
		g.fill(&c, g.sums[0], func(h int) bool {
			return h > 0 && (g.asked.By == ByHour && (h-1)%24 == i || g.asked.By == ByWeekday && (h-1)/24 == i)
		})
		out = append(out, c)
	}
	g.settle(len(g.columns))
	if out == nil {
		out = []Column{}
	}
	return out
}

func (g *Gathering) fill(c *Column, s *Sums, hour func(int) bool) {
	c.Value, c.Split = g.asked.value(s, hour, g.only)
}

// Heat gives a measure by weekday, from Monday on, and hour of the day.
func (g *Gathering) Heat() [][]float64 {
	g.end()
	return HeatOf(g.sums[0], g.asked.Of, g.only)
}

// HeatOf gives a measure of sums by weekday, from Monday on, and hour of the day.
func HeatOf(s *Sums, of Of, only Only) [][]float64 {
	out := make([][]float64, 7)
	for d := range out {
		out[d] = make([]float64, 24)
	}
	if s == nil {
		return out
	}
	if of == OfStreams {
		for h, n := range s.Peaks {
			if h > 0 {
				out[(h-1)/24][(h-1)%24] = float64(n)
			}
		}
		return out
	}
	var hours [7 * 24]Tally
	for k, e := range s.Of {
		if k.Hour > 0 && k.Dim == only.Dim && (only.Name == nil || only.Name(k.Name)) {
			hours[k.Hour-1].add(e.Tally)
		}
	}
	for h, t := range hours {
		out[h/24][h%24] = t.of(of)
	}
	return out
}
