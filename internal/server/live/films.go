package live

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os"
	"slices"
	"sync"
	"time"

	"cozyshelf/internal/core/delivery"
	"cozyshelf/internal/core/repack"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
)

// films keeps what is known of films that are sent in pieces. The store has it of each that was
// sent once.
type films struct {
	mu   sync.Mutex
	have map[int64]*filmEntry
	busy chan struct{} // places for looking through
	wait int           // how many are looked through, or wait for it
}

// Bounds of it: how many films are held in memory, how many are looked through at once, and for
// how long one may take.
const (
	mostFilms   = 24
	mostLooking = 2
	mostWaiting = 20
	longestLook = 5 * time.Minute
	mostKept    = 64 << 20 // of a film, when it is unpacked
)

type filmEntry struct {
	stamp [2]int64 // size and time of the file
	film  *repack.Film
	err   error
	used  time.Time
	done  chan struct{} // closed when film or err is there
}

// Film gives a file as it is sent in pieces. It is looked through once, whoever asks.
func (s *Server) Film(ctx context.Context, f store.File) (*repack.Film, error) {
	stamp := [2]int64{f.Size, f.Modified.UnixNano()}
	c := &s.films
	c.mu.Lock()
	if c.have == nil {
		c.have, c.busy = map[int64]*filmEntry{}, make(chan struct{}, mostLooking)
	}
	e := c.have[f.ID]
	if e == nil || e.stamp != stamp {
		if c.wait >= mostWaiting {
			c.mu.Unlock()
			return nil, busyLooking()
		}
		c.wait++
		e = &filmEntry{stamp: stamp, done: make(chan struct{})}
		c.have[f.ID] = e
		c.trim()
		go s.lookThrough(f, e)
	}
	e.used = time.Now()
	c.mu.Unlock()
	select {
	case <-e.done:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	var unfit *repack.Unfit
	if e.err != nil && !errors.As(e.err, &unfit) {
		c.mu.Lock() // it is tried again when it is asked for again
		if c.have[f.ID] == e {
			delete(c.have, f.ID)
		}
		c.mu.Unlock()
	}
	return e.film, e.err
}

// trim lets go of the film that was not asked for the longest.
func (c *films) trim() {
	for len(c.have) > mostFilms {
		var oldest int64
		var at time.Time
		for id, e := range c.have {
			if at.IsZero() || e.used.Before(at) {
				oldest, at = id, e.used
			}
		}
		delete(c.have, oldest)
	}
}

// lookThrough fills an entry, from the store or the file.
func (s *Server) lookThrough(f store.File, e *filmEntry) {
	defer func() {
		close(e.done)
		s.films.mu.Lock()
		defer s.films.mu.Unlock()
		s.films.wait--
	}()
	ctx, cancel := context.WithTimeout(s.Life, longestLook)
	defer cancel()
	if b, err := s.Store.Pieces(ctx, f); err == nil {
		if e.film = unpackFilm(b); e.film != nil && e.film.Size == f.Size {
			return
		}
	}
	select {
	case s.films.busy <- struct{}{}:
		defer func() { <-s.films.busy }()
	case <-ctx.Done():
		e.err = busyLooking()
		return
	}
	file, err := s.Find(f)
	if err != nil {
		e.err = err
		return
	}
	defer file.Close()
	e.err = s.AsSuspect("pieces", f, func() (err error) {
		e.film, err = repack.Open(patientReader{ctx, file}, f.Size)
		return err
	})
	if e.err != nil {
		e.film = nil
		return
	}
	if b, err := packFilm(e.film); err == nil {
		err = s.Store.KeepPieces(ctx, f, b)
		if err != nil && !errors.Is(err, store.ErrFull) {
			s.Log.Warn("what was found of a film could not be kept", "file", f.Path, "why", err)
		}
	}
}

func busyLooking() error {
	return &StatusError{Problem: &problem.Problem{What: "the film cannot be looked through now",
		Why: "others are being looked through, or it takes too long", Fix: "try again in a minute"},
		Status: http.StatusServiceUnavailable, Wait: time.Minute}
}

// patientReader reads a file until its time is over.
type patientReader struct {
	ctx context.Context
	r   *os.File
}

// ReadAt reads.
func (p patientReader) ReadAt(b []byte, at int64) (int, error) {
	if err := p.ctx.Err(); err != nil {
		return 0, err
	}
	return p.r.ReadAt(b, at)
}

func packFilm(f *repack.Film) ([]byte, error) {
	var b bytes.Buffer
	w, err := gzip.NewWriterLevel(&b, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	if err := json.NewEncoder(w).Encode(f); err != nil {
		return nil, err
	}
	return b.Bytes(), w.Close()
}

// unpackFilm reads what was kept. What cannot be read, or is of another edition, counts as not
// there.
func unpackFilm(b []byte) *repack.Film {
	r, err := gzip.NewReader(bytes.NewReader(b))
	if err != nil {
		return nil
	}
	f := &repack.Film{}
	if json.NewDecoder(io.LimitReader(r, mostKept)).Decode(f) != nil || f.Edition != repack.Edition {
		return nil
	}
	return f
}

// Machine is what this machine can do besides sending bytes, now.
func (s *Server) Machine() delivery.Machine {
	c := s.Converter.Load()
	if v := s.Settings.Convert; v != nil && v.Never {
		return delivery.Machine{Never: true}
	}
	if c == nil {
		return delivery.Machine{}
	}
	m := delivery.Machine{Sound: true, Ways: c.Offers()}
	if v := s.Settings.Convert; v != nil {
		m.Ladder = slices.Sorted(slices.Values(v.Ladder))
		slices.Reverse(m.Ladder)
	}
	return m
}
