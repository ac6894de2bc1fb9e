// Package convert makes pictures and sound anew while they are watched, by ffmpeg.
//
// A film is parted into pieces of equal length (Recipe). Who asks for a piece gets it from the
// scratch folder, or waits for the run of ffmpeg that makes it: one run for each rendition and each
// place in the film at which somebody is, shared by all who are near. A run is never further than
// half a minute ahead of the slowest of them; then it waits, since nobody reads what it writes. A
// seek to elsewhere begins a new run, and one that nobody asks any more is ended.
//
// All that is made lies in the scratch folder, within a limit: the piece that was not asked for the
// longest goes first. What is lost of it is made again.
package convert

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"cozyshelf/internal/core/capacity"
	"cozyshelf/internal/core/delivery"
	"cozyshelf/internal/core/encoders"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/repack"
	"cozyshelf/internal/ffmpeg"
)

// How far a run goes ahead of who waits the longest, in seconds; how long a new one takes until its first
// piece, in seconds; when a run that nobody asks ends; and how long a piece may take.
const (
	ahead    = 30.0
	newRun   = 1.5
	idleRun  = 30 * time.Second
	quietRun = 8 * time.Second // where others wait
	idleFilm = 10 * time.Minute
	slowest  = 40 * time.Second

	stuckDevice = 10 * time.Second // a graphics device makes nothing for so long: it hangs
)

// mostAsking is how many files are looked into at once.
const mostAsking = 8

// Sound costs little, but not nothing: so many runs of it go beside each of a picture. And so many
// renditions are known of at once.
const (
	soundsToPicture = 4
	mostRenditions  = 1000
)

// ErrBusy says that as much is converted as may be at once.
var ErrBusy = errors.New("the machine converts as much as it can")

// ErrScratch says that the scratch folder is full, though all was taken out that may be.
var ErrScratch = errors.New("the scratch folder is full")

// Converter makes renditions. Its fields are set before it is used.
type Converter struct {
	Tools  ffmpeg.Tools
	Folder string // the scratch folder; what lies in it below "convert" is this package's
	Limit  int64  // bytes
	Most   int    // runs at once
	Log    *slog.Logger
	// Threads bounds those of a run; 0 leaves that to ffmpeg.
	Threads int
	// Patience is how long a piece that nobody waits for may take; stuckSoftware where it is 0.
	Patience time.Duration
	Fonts    string // a folder of fonts for subtitles; empty for the machine's
	// Ways are those that work here, the preferred first. Where there are none, pictures are made in
	// software.
	Ways []Way

	work       sync.WaitGroup // runs
	mu         sync.Mutex
	closed     bool
	renditions map[string]*rendition
	used       int64 // bytes in the scratch folder
	numbers    int
	begins     map[string]begin
	asking     int                  // files that ffprobe looks into
	broken     map[string]time.Time // ways that do not work any more, and until when they are left alone
}

// Way is a way to make pictures, what one costs by it, and how much there is to spend.
type Way struct {
	encoders.Way
	capacity.Weights
}

type begin struct{ start, length float64 }

// rendition is what is made by one recipe.
type rendition struct {
	recipe Recipe
	name   string // of its files
	init   []byte
	codec  string
	pieces map[int]*piece
	runs   []*run
	asked  time.Time
	failed error // of the way that it was to be made by: it is made in software since
}

// piece is one that was made.
type piece struct {
	size  int64
	asked time.Time
}

// run is a run of ffmpeg.
type run struct {
	way     encoders.Way
	from    int // the piece that it began with
	next    int // the one that it makes
	asked   map[string]int
	last    time.Time
	cancel  context.CancelFunc
	changed chan struct{} // closed, and made anew, at each change
	err     error
	ended   bool
	worked  time.Duration // without the times in which it waited
}

// stir tells all who wait of a change. The converter is locked.
func (r *run) stir() {
	close(r.changed)
	r.changed = make(chan struct{})
}

func (c *Converter) folder() string { return filepath.Join(c.Folder, "convert") }

// Run keeps order until the context ends: it empties the scratch folder at the beginning and at
// the end, and ends runs that nobody asks any more.
func (c *Converter) Run(ctx context.Context) {
	_ = os.RemoveAll(c.folder()) // what cannot be removed now is overwritten
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			c.tidy(time.Now())
		case <-ctx.Done():
			c.mu.Lock()
			c.closed = true
			for _, r := range c.renditions {
				for _, x := range r.runs {
					x.stop()
				}
			}
			c.mu.Unlock()
			c.work.Wait()
			_ = os.RemoveAll(c.folder()) // it is emptied at the next start
			return
		}
	}
}

// tidy ends what nobody asks any more.
func (c *Converter) tidy(now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for key, r := range c.renditions {
		for _, x := range r.runs {
			if now.Sub(x.last) > idleRun {
				x.cancel()
			}
		}
		r.runs = slices.DeleteFunc(r.runs, func(x *run) bool { return x.ended && now.Sub(x.last) > idleRun })
		if len(r.runs) == 0 && now.Sub(r.asked) > idleFilm {
			for n := range r.pieces {
				c.remove(r, n)
			}
			delete(c.renditions, key)
		}
	}
}

// Streams is how many runs there are.
func (c *Converter) Streams() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.running(true)
}

// running counts the runs that make pictures, or those that make sound.
func (c *Converter) running(pictures bool) (n int) {
	for _, r := range c.renditions {
		for _, x := range r.runs {
			if !x.ended && r.recipe.picture() == pictures {
				n++
			}
		}
	}
	return n
}

// ask has ffprobe look into a file, and into few at once.
func (c *Converter) ask(ctx context.Context, open func() (*os.File, error),
	look func(context.Context, *os.File) error) error {
	c.mu.Lock()
	busy := c.asking >= mostAsking
	if !busy {
		c.asking++
	}
	c.mu.Unlock()
	if busy {
		return ErrBusy
	}
	defer func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.asking--
	}()
	ctx, cancel := context.WithTimeout(ctx, slowest)
	defer cancel()
	f, err := open()
	if err != nil {
		return err
	}
	defer f.Close()
	return look(ctx, f)
}

// Tracks gives what a file holds that our own readers do not open.
func (c *Converter) Tracks(ctx context.Context, open func() (*os.File, error)) (info media.Info, err error) {
	err = c.ask(ctx, open, func(ctx context.Context, f *os.File) error {
		info, err = c.Tools.Tracks(ctx, f)
		return err
	})
	return info, err
}

// Begins gives the moment from which ffmpeg counts in a file, and its length. It is asked once.
func (c *Converter) Begins(ctx context.Context, file string, open func() (*os.File, error)) (start, length float64,
	err error) {
	c.mu.Lock()
	b, ok := c.begins[file]
	c.mu.Unlock()
	if ok {
		return b.start, b.length, nil
	}
	err = c.ask(ctx, open, func(ctx context.Context, f *os.File) error {
		start, length, err = c.Tools.Begins(ctx, f)
		return err
	})
	if err != nil {
		return 0, 0, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.begins == nil || len(c.begins) > 1000 {
		c.begins = map[string]begin{}
	}
	c.begins[file] = begin{start, length}
	return start, length, nil
}

// Init gives the initialization segment of a recipe.
func (c *Converter) Init(ctx context.Context, r Recipe, viewer string, open func() (*os.File, error)) ([]byte, error) {
	c.mu.Lock()
	have := c.rendition(r)
	init := have.init
	c.mu.Unlock()
	if init != nil {
		return init, nil
	}
	if _, err := c.Piece(ctx, r, 0, viewer, open); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return have.init, nil
}

// rendition finds one, or makes it. The converter is locked.
func (c *Converter) rendition(r Recipe) *rendition {
	if c.renditions == nil {
		c.renditions = map[string]*rendition{}
	}
	have := c.renditions[r.key()]
	if have == nil {
		c.numbers++
		have = &rendition{recipe: r, name: fmt.Sprintf("%d", c.numbers), pieces: map[int]*piece{}}
		c.renditions[r.key()] = have
	}
	have.asked = time.Now()
	return have
}

// tail is by how many seconds a track may end before the file does: of picture and sound one goes on
// longer. A film that ends earlier is not whole.
const tail = 10

// Piece gives a piece of a recipe, and waits for it where it is being made. viewer tells who asks.
func (c *Converter) Piece(ctx context.Context, r Recipe, number int, viewer string,
	open func() (*os.File, error)) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, slowest)
	defer cancel()
	for tries := 0; ; tries++ {
		b, wait, err := c.attempt(r, number, viewer, open)
		if b != nil || err != nil && tries > 0 {
			return b, err
		}
		if err != nil {
			left := r.End - r.Start - float64(number)*r.Step()
			if errors.Is(err, io.EOF) && number > 0 && left > 0 && left < tail {
				return repack.Nothing(number, r.End-left, r.scale()), nil
			}
			if errors.Is(err, ErrBusy) || errors.Is(err, io.EOF) || errors.Is(err, os.ErrNotExist) {
				return nil, err
			}
			c.Log.Warn("a conversion ended; it is begun once more", "why", err)
			if errors.Is(err, errWay) {
				tries-- // the next is made in software
			}
			continue
		}
		select {
		case <-wait:
			tries--
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return nil, fmt.Errorf("converting takes longer than %s for one piece", slowest)
			}
			return nil, ctx.Err()
		}
	}
}

// attempt gives a piece if it is there; else what to wait for.
func (c *Converter) attempt(r Recipe, number int, viewer string, open func() (*os.File, error)) (b []byte,
	wait <-chan struct{}, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	have := c.rendition(r)
	if p := have.pieces[number]; p != nil {
		if b, err = os.ReadFile(c.file(have, number)); err == nil && int64(len(b)) == p.size {
			p.asked = time.Now()
		} else {
			b = nil
			c.remove(have, number) // somebody has emptied the folder
		}
	}
	x := have.nearest(number)
	if b == nil && x != nil && number < x.next {
		x = nil // it has made the piece already, which was thrown away since
	}
	for _, other := range have.runs {
		if other != x {
			delete(other.asked, viewer)
			if len(other.asked) == 0 && !other.ended {
				other.stop() // who asked it has gone elsewhere
			}
		}
	}
	if b != nil {
		if x != nil {
			x.note(viewer, number)
		}
		return b, nil, nil
	}
	if x == nil {
		if len(c.renditions) > mostRenditions || r.picture() && c.running(true) >= max(1, c.Most) &&
			!c.leave(have, viewer) || !r.picture() && c.running(false) >= soundsToPicture*max(1, c.Most) {
			return nil, nil, ErrBusy
		}
		if x, err = c.begin(have, number, open); err != nil {
			return nil, nil, err
		}
	}
	x.note(viewer, number)
	if x.ended {
		have.runs = slices.DeleteFunc(have.runs, func(y *run) bool { return y == x })
		if x.err != nil && x.way.Hardware() && have.failed == nil && x.way.Codec == "h264" {
			have.failed = x.err
			return nil, nil, fmt.Errorf("%w: %s: %w", errWay, x.way.Name(), x.err)
		}
		return nil, nil, cmp.Or(x.err, io.EOF)
	}
	return nil, x.changed, nil
}

// errWay says that a graphics device did not do it, and software is tried next.
var errWay = errors.New("a graphics device failed")

// leftAlone is for how long a way is not used that failed where software did not.
const leftAlone = 10 * time.Minute

// way gives the one by which a rendition is made now. The converter is locked.
func (c *Converter) way(r *rendition) encoders.Way {
	w, ok := c.named(r.recipe.Way)
	if !ok || w.Codec == "h264" && (r.failed != nil || time.Now().Before(c.broken[w.Name()])) {
		return encoders.InSoftware
	}
	return w.Way
}

// named finds a way.
func (c *Converter) named(name string) (Way, bool) {
	i := slices.IndexFunc(c.Ways, func(w Way) bool { return w.Name() == name })
	if i < 0 {
		return Way{Way: encoders.InSoftware, Weights: capacity.Expected(1)}, false
	}
	return c.Ways[i], true
}

// blame leaves a way alone for a while: software made what it could not. The converter is locked.
func (c *Converter) blame(r *rendition) {
	w, ok := c.named(r.recipe.Way)
	if !ok || !w.Hardware() || time.Now().Before(c.broken[w.Name()]) {
		return
	}
	if c.broken == nil {
		c.broken = map[string]time.Time{}
	}
	c.broken[w.Name()] = time.Now().Add(leftAlone)
	c.Log.Warn("a graphics device does not convert any more; software does it for a while", "way", w.Name(),
		"why", r.failed)
}

// leave ends a run that somebody can do without: of another size of the same film that only this
// viewer asked, else the one that nobody has asked for the longest. It reports whether there was one.
func (c *Converter) leave(to *rendition, viewer string) bool {
	var least *run
	for _, r := range c.renditions {
		if r == to || !r.recipe.picture() {
			continue
		}
		for _, x := range r.runs {
			_, ours := x.asked[viewer]
			switch {
			case x.ended:
			case ours && len(x.asked) == 1 && r.recipe.File == to.recipe.File:
				x.stop()
				return true
			case time.Since(x.last) > quietRun && (least == nil || x.last.Before(least.last)):
				least = x
			}
		}
	}
	if least != nil {
		least.stop()
	}
	return least != nil
}

// stop ends a run. The converter is locked.
func (x *run) stop() {
	x.cancel()
	x.ended = true // it makes nothing any more
	x.stir()
}

// note notes who is where. The converter is locked.
func (x *run) note(viewer string, number int) {
	x.asked[viewer], x.last = number, time.Now()
	x.stir()
}

// soon is how many pieces a run makes in the time in which a new one would begin. The locked converter asks.
func (x *run) soon(step float64) int {
	speed := 1.5
	if x.worked > time.Second {
		speed = float64(x.next-x.from) * step / x.worked.Seconds()
	}
	return max(2, int(newRun*speed/step))
}

// nearest gives the run that makes a piece, or will soon.
func (r *rendition) nearest(number int) *run {
	for _, x := range r.runs {
		if number >= x.from && number-x.next <= x.soon(r.recipe.Step()) && (!x.ended || number >= x.next) {
			return x
		}
	}
	return nil
}

func (c *Converter) file(r *rendition, number int) string {
	return filepath.Join(c.folder(), fmt.Sprintf("%s-%d", r.name, number))
}

func (c *Converter) remove(r *rendition, number int) {
	if p := r.pieces[number]; p != nil {
		c.used -= p.size
		delete(r.pieces, number)
		_ = os.Remove(c.file(r, number)) // it may be gone already
	}
}

// begin begins a run. The converter is locked.
func (c *Converter) begin(r *rendition, number int, open func() (*os.File, error)) (*run, error) {
	if c.closed {
		return nil, context.Canceled
	}
	f, err := open()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	x := &run{way: c.way(r), from: number, next: number, asked: map[string]int{}, last: time.Now(), cancel: cancel,
		changed: make(chan struct{})}
	r.runs = append(r.runs, x)
	c.work.Add(1)
	go func() {
		defer c.work.Done()
		defer f.Close()
		err := c.make(ctx, r, x, f, open)
		cancel()
		c.mu.Lock()
		defer c.mu.Unlock()
		x.ended = true
		if r.recipe.picture() && x.next > x.from && x.worked > 0 {
			made := float64(x.next-x.from) * r.recipe.Step()
			c.Log.Info("conversion ended", "file", r.recipe.File, "lines", r.recipe.Height, "way", x.way.Name(),
				"seconds", math.Round(made), "speed", math.Round(10*made/x.worked.Seconds())/10)
		}
		if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, context.Canceled) {
			x.err = err
		}
		r.runs = slices.DeleteFunc(r.runs, func(y *run) bool { return y == x && len(x.asked) == 0 })
		x.stir()
	}()
	return x, nil
}

// make runs ffmpeg, and keeps what it makes.
func (c *Converter) make(ctx context.Context, r *rendition, x *run, f *os.File,
	open func() (*os.File, error)) error {
	return c.produce(ctx, r.recipe, x.way, x.from, f, open, production{
		begun: func(in *repack.Incoming) error {
			c.mu.Lock()
			defer c.mu.Unlock()
			if r.init == nil {
				r.init, r.codec = in.Init(), in.Name()
			}
			return nil
		},
		wait: func(n int, worked time.Duration) error {
			c.mu.Lock()
			x.worked += worked
			c.mu.Unlock()
			return c.mayGoOn(ctx, r, x, n)
		},
		take: func(n int, b []byte) error { return c.keep(r, x, n, b) },
	})
}

// production is what becomes of what ffmpeg makes.
type production struct {
	begun func(in *repack.Incoming) error
	wait  func(n int, worked time.Duration) error // before a piece, with the time that the last one took
	take  func(n int, b []byte) error
	// patience is how long a piece may take; 0 where who asks for it gives up by themselves.
	patience time.Duration
}

// produce runs ffmpeg from a piece on.
func (c *Converter) produce(ctx context.Context, r Recipe, way encoders.Way, number int, f *os.File,
	open func() (*os.File, error), to production) error {
	start, _, err := c.Begins(ctx, r.File, open)
	if err != nil {
		return err
	}
	from := r.Start + float64(number)*r.Step()
	seek := max(0, from-r.lead()-start)
	base := seek + start // the moment that ffmpeg counts from
	if number == 0 {
		from = min(from, base)
	}
	first := r.Start + float64(number)*r.Step()
	r.fonts = c.Fonts
	before, after := r.arguments(way, seek, max(0, base-first), c.Threads)
	// A device that hangs is given up; software may only be slow.
	patience := to.patience
	if way.Hardware() {
		patience = stuckDevice
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	watched := func() (moved func()) {
		if patience == 0 {
			return func() {}
		}
		t := time.AfterFunc(patience, func() { cancel(fmt.Errorf("ffmpeg makes nothing for %s", patience)) })
		return func() { t.Stop() }
	}
	err = c.Tools.Pipe(ctx, f, before, after, func(out io.Reader) error {
		began := time.Now()
		moved := watched()
		defer func() { moved() }()
		in, err := repack.NewIncoming(out)
		if err != nil {
			return err
		}
		if err := to.begun(in); err != nil {
			return err
		}
		for n := number; n < number+longestRun; n++ {
			moved()
			if err := to.wait(n, time.Since(began)); err != nil {
				return err
			}
			began = time.Now()
			moved = watched()
			until := r.Start + float64(n+1)*r.Step() - base
			b, err := in.Next(from-base, until, base, n)
			if err != nil {
				return err
			}
			from = base + until
			if err := to.take(n, b); err != nil {
				return err
			}
		}
		return errLong // another run goes on
	})
	if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.Canceled) {
		return cause
	}
	return err
}

// errLong ends a run that has made as much as one may.
var errLong = fmt.Errorf("as much as one run makes: %w", context.Canceled)

// Whole makes all of a recipe from a piece on, one piece after the other, for nobody who waits: by the
// way that the recipe names, and in software where that fails before its first piece. begun hears how
// the film begins, take gets each piece.
func (c *Converter) Whole(ctx context.Context, r Recipe, from int, open func() (*os.File, error),
	begun func(init []byte) error, take func(n int, b []byte) error) error {
	way := encoders.InSoftware
	c.mu.Lock()
	if w, ok := c.named(r.Way); ok {
		way = w.Way
	}
	c.mu.Unlock()
	for {
		f, err := open()
		if err != nil {
			return err
		}
		next := from
		err = c.produce(ctx, r, way, from, f, open, production{
			begun: func(in *repack.Incoming) error { return begun(in.Init()) },
			wait:  func(int, time.Duration) error { return c.unwatched(ctx) },
			take: func(n int, b []byte) error {
				next = n + 1
				return take(n, b)
			},
			patience: c.patience(),
		})
		f.Close()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case errors.Is(err, errLong):
		case way.Hardware() && next == from:
			c.Log.Warn("a graphics device does not convert; software does it", "way", way.Name(), "why", err)
			way = encoders.InSoftware
		default:
			return err
		}
		from = next
	}
}

// stuckSoftware is how long software may make nothing where nobody waits for it.
const stuckSoftware = 5 * time.Minute

func (c *Converter) patience() time.Duration { return cmp.Or(c.Patience, stuckSoftware) }

// unwatched waits while somebody watches what is being converted, who goes before.
func (c *Converter) unwatched(ctx context.Context) error {
	for c.Streams() > 0 {
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return ctx.Err()
}

// mayGoOn waits while a run is far enough ahead.
func (c *Converter) mayGoOn(ctx context.Context, r *rendition, x *run, n int) error {
	for {
		c.mu.Lock()
		slow := n
		for _, at := range x.asked {
			slow = min(slow, at)
		}
		wait := x.changed
		c.mu.Unlock()
		if float64(n-slow)*r.recipe.Step() <= ahead {
			return nil
		}
		select {
		case <-wait:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// keep puts a piece into the scratch folder.
func (c *Converter) keep(r *rendition, x *run, n int, b []byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.room(int64(len(b)))
	name := c.file(r, n)
	err := os.MkdirAll(c.folder(), 0o700)
	if err == nil {
		err = os.WriteFile(name, b, 0o600)
	}
	if err != nil {
		// The folder may be shared with others: what is ours there goes, and it is tried once more.
		_ = os.Remove(name)
		c.roomFor(0)
		if err = os.WriteFile(name, b, 0o600); err != nil {
			_ = os.Remove(name)
			return fmt.Errorf("%w: %w", ErrScratch, err)
		}
	}
	c.used += int64(len(b))
	if r.failed != nil && !x.way.Hardware() {
		c.blame(r)
	}
	r.pieces[n] = &piece{size: int64(len(b)), asked: time.Now()}
	x.next = n + 1
	x.stir()
	return nil
}

// room makes room for so many bytes within the limit.
func (c *Converter) room(n int64) {
	if c.Limit > 0 && c.used+n > c.Limit {
		c.roomFor(max(0, c.Limit-n))
	}
}

// roomFor removes the pieces that were not asked for the longest, until so much is left.
func (c *Converter) roomFor(left int64) {
	type old struct {
		r *rendition
		n int
		p *piece
	}
	var list []old
	for _, r := range c.renditions {
		for n, p := range r.pieces {
			list = append(list, old{r, n, p})
		}
	}
	slices.SortFunc(list, func(a, b old) int { return a.p.asked.Compare(b.p.asked) })
	for _, o := range list {
		if c.used <= left {
			return
		}
		c.remove(o.r, o.n)
	}
}

// Codec gives the name of what a recipe makes, once it is known.
func (c *Converter) Codec(r Recipe) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.rendition(r).codec
}

// Offers gives the ways that work now, with how many pixels a second can still be made by each: what
// it can, less what is being made.
func (c *Converter) Offers() (out []delivery.Way) {
	c.mu.Lock()
	defer c.mu.Unlock()
	full := c.running(true) >= max(1, c.Most)
	for _, w := range c.Ways {
		if time.Now().Before(c.broken[w.Name()]) {
			continue
		}
		room := w.Room
		for _, r := range c.renditions {
			for _, x := range r.runs {
				if v := r.recipe; !x.ended && v.picture() && x.way.API == w.API && x.way.Device == w.Device {
					room -= w.Cost(v.Source.Width, v.Source.Height, v.Width, v.Height, cmp.Or(v.Source.FrameRate, 25),
						v.ToneMap)
				}
			}
		}
		if full {
			room = 0
		}
		out = append(out, delivery.Way{Name: w.Name(), Hardware: w.Hardware(), Codec: w.Codec, Room: max(0, room),
			Decode: w.Decode, ToneMap: w.ToneMap})
	}
	return out
}

// Reckon goes by other figures from now on.
func (c *Converter) Reckon(ways []Way, most int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.Ways, c.Most = ways, most
}

// Bounds gives how many pictures are made at once, and how much is kept in the scratch folder.
func (c *Converter) Bounds() (most int, scratch int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.Most, c.used
}

// Running is a conversion that is going on.
type Running struct {
	File    string  `json:"file"` // the store's number
	Height  int     `json:"height"`
	Bitrate int64   `json:"bitrate"`
	Way     string  `json:"way"`
	Speed   float64 `json:"speed"` // seconds of film a second, while it works
	Viewers int     `json:"viewers"`
}

// Running gives the conversions of pictures that are going on.
func (c *Converter) Running() (out []Running) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, r := range c.renditions {
		for _, x := range r.runs {
			if x.ended || !r.recipe.picture() {
				continue
			}
			file, _, _ := strings.Cut(r.recipe.File, "-")
			v := Running{File: file, Height: r.recipe.Height, Bitrate: r.recipe.Bitrate, Way: x.way.Name(),
				Viewers: len(x.asked)}
			if x.worked > 0 {
				v.Speed = float64(x.next-x.from) * r.recipe.Step() / x.worked.Seconds()
			}
			out = append(out, v)
		}
	}
	slices.SortFunc(out, func(a, b Running) int { return cmp.Or(cmp.Compare(a.File, b.File), b.Height-a.Height) })
	return out
}

// Reason says in words why a conversion did not come about.
func Reason(err error) string {
	switch {
	case errors.Is(err, ErrBusy):
		return "the machine converts as much as it can; it works once somebody else stops"
	case errors.Is(err, ErrScratch):
		return "there is no room to convert in; the administrator can raise scratch_limit under [storage]"
	}
	return strings.TrimSpace(err.Error())
}
