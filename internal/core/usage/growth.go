package usage

import "time"

// Growth gives the columns of a chart of the library: how many bytes there are at the end of each day, week or month,
// of the files that are there now. files are sorted by when they arrived, or are sums of such; on tells of which
// shelves it is, nil for all.
func Growth(files []Stored, a Asked, on func(shelf string) bool) []Column {
	var first time.Time
	if len(files) > 0 {
		first = files[0].Added
	}
	g := Gather(a, Only{}, first)
	whole, split := 0.0, map[string]float64{}
	next := 0
	for i := range g.columns {
		c := &g.columns[i]
		end := a.By.next(c.Begins)
		for ; next < len(files) && files[next].Added.Before(end); next++ {
			f := files[next]
			if on != nil && !on(f.Shelf) {
				continue
			}
			whole += float64(f.Size)
			split[a.group(f.Shelf)] += float64(f.Size)
		}
		c.Value = whole
		if a.Split == SplitNone || len(split) == 0 {
			continue
		}
		c.Split = map[string]float64{}
		for name, v := range split {
			c.Split[name] = v
		}
	}
	if g.columns == nil {
		return []Column{}
	}
	return g.columns
}
