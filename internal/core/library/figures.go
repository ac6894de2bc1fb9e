package library

import (
	"cmp"
	"encoding/json"
	"slices"

	"cozyshelf/internal/core/household"
)

// KindFigures counts what is there of one kind.
type KindFigures struct {
	Kind     household.Kind `json:"kind"`
	Titles   int            `json:"titles"`
	Seasons  int            `json:"seasons,omitempty"` // of series
	Files    int            `json:"files"`             // episodes, tracks, pictures
	Duration float64        `json:"duration"`          // in seconds
	Size     int64          `json:"size"`              // in bytes
}

// CodecFigures counts the files with a codec.
type CodecFigures struct {
	Content string `json:"content"` // video, audio, subtitle
	Codec   string `json:"codec"`
	Files   int    `json:"files"`
	Size    int64  `json:"size"`
}

// SizeFigures counts files by the height of their picture.
type SizeFigures struct {
	Height int   `json:"height"` // in pixels, the next usual one at or above
	Files  int   `json:"files"`
	Size   int64 `json:"size"`
}

// heights are the usual ones. What is higher counts as the last.
var heights = []int{240, 360, 480, 576, 720, 1080, 1440, 2160, 4320}

// Counted is what is counted of a file.
type Counted struct {
	Title    int64
	Kind     household.Kind
	Season   int
	Duration float64
	Size     int64
	Info     []byte // media.Info as JSON; empty where it was not opened
}

// Counter adds files up, however many there are. Those of a title must come one after the
// other.
type Counter struct {
	kinds  map[household.Kind]*KindFigures
	codecs map[[2]string]*CodecFigures
	sizes  map[int]*SizeFigures

	title   int64
	seasons []int // of the title
	info    struct {
		Tracks []struct {
			Kind, Codec string
			Height      int
		}
	}
}

// Add adds a file. The error is of what it says it holds.
func (c *Counter) Add(f Counted) error {
	if c.kinds == nil {
		c.kinds, c.codecs, c.sizes = map[household.Kind]*KindFigures{}, map[[2]string]*CodecFigures{},
			map[int]*SizeFigures{}
	}
	k := c.kinds[f.Kind]
	if k == nil {
		k = &KindFigures{Kind: f.Kind}
		c.kinds[f.Kind] = k
	}
	if f.Title != c.title || k.Files == 0 {
		k.Titles++
		c.title, c.seasons = f.Title, c.seasons[:0]
	}
	if f.Kind == household.Series && !slices.Contains(c.seasons, f.Season) {
		k.Seasons++
		c.seasons = append(c.seasons, f.Season)
	}
	k.Files, k.Duration, k.Size = k.Files+1, k.Duration+f.Duration, k.Size+f.Size
	if len(f.Info) == 0 {
		return nil
	}
	clear(c.info.Tracks) // the decoder leaves what it is not told
	c.info.Tracks = c.info.Tracks[:0]
	if err := json.Unmarshal(f.Info, &c.info); err != nil {
		return err
	}
	height := 0
	for i, t := range c.info.Tracks {
		height = max(height, t.Height)
		key := [2]string{t.Kind, t.Codec}
		again := false // two tracks of a codec are one file with it
		for _, before := range c.info.Tracks[:i] {
			again = again || key == [2]string{before.Kind, before.Codec}
		}
		if t.Codec == "" || again {
			continue
		}
		if c.codecs[key] == nil {
			c.codecs[key] = &CodecFigures{Content: t.Kind, Codec: t.Codec}
		}
		c.codecs[key].Files++
		c.codecs[key].Size += f.Size
	}
	if height > 0 {
		i, _ := slices.BinarySearch(heights, height)
		h := heights[min(i, len(heights)-1)]
		if c.sizes[h] == nil {
			c.sizes[h] = &SizeFigures{Height: h}
		}
		c.sizes[h].Files++
		c.sizes[h].Size += f.Size
	}
	return nil
}

// Kinds gives the figures of each kind, by name.
func (c *Counter) Kinds() []KindFigures {
	return sorted(c.kinds, func(a, b KindFigures) int { return cmp.Compare(a.Kind, b.Kind) })
}

// Codecs gives the figures of each codec: of video, then of sound, then of the rest; the
// most frequent first.
func (c *Counter) Codecs() []CodecFigures {
	place := func(content string) int {
		return slices.Index([]string{"", "audio", "video"}, content) * -1
	}
	return sorted(c.codecs, func(a, b CodecFigures) int {
		return cmp.Or(cmp.Compare(place(a.Content), place(b.Content)), cmp.Compare(b.Files, a.Files),
			cmp.Compare(a.Content, b.Content), cmp.Compare(a.Codec, b.Codec))
	})
}

// Sizes gives the figures of each height, the highest first.
func (c *Counter) Sizes() []SizeFigures {
	return sorted(c.sizes, func(a, b SizeFigures) int { return cmp.Compare(b.Height, a.Height) })
}

func sorted[K comparable, V any](m map[K]*V, by func(a, b V) int) []V {
	out := make([]V, 0, len(m))
	for _, v := range m {
		out = append(out, *v)
	}
	slices.SortFunc(out, by)
	return out
}
