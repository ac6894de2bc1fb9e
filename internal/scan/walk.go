package scan

import (
	"context"
	"encoding/binary"
	"path"
	"path/filepath"
	"strings"
	"sync"

	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/media"
	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/machine"
)

// listing is one folder as the walk found it.
type listing struct {
	path      string // below the root
	signature string
	files     []machine.Entry // media files of the shelf's kind
	links     []string        // names of symbolic links that look like media
	beside    []machine.Entry // files that may go with one
	passed    int
	empty     bool // nothing at all is in it
	err       error
}

// walker walks a tree with a few workers at once.
type walker struct {
	inside string
	kind   household.Kind
	found  chan<- listing
	slots  chan struct{} // holds one for each further worker
	gently bool
	others sync.WaitGroup
}

// begin makes a worker gentle, where that is wanted.
func (w *walker) begin() {
	if w.gently {
		machine.Gently()
	}
}

// walk lists a folder and, with deep, those below it, never following links. A folder
// may come before the one that it lies in.
func (w *walker) walk(ctx context.Context, rel string, deep bool) {
	if ctx.Err() != nil {
		return
	}
	l := listing{path: rel}
	var sub []string
	var sig signature
	l.err = machine.List(filepath.Join(w.inside, rel), func(e machine.Entry) {
		if strings.HasPrefix(e.Name, ".") {
			return // hidden, as the shell has it
		}
		switch {
		case e.Folder:
			sub = append(sub, e.Name)
			return
		case e.File || e.Link || e.Err != nil:
			sig.add(e)
		default:
			return // sockets, pipes, devices
		}
		content, _ := naming.ContentOf(e.Name)
		switch {
		case !naming.Takes(w.kind, content):
			if naming.SortOf(e.Name) != "" && !e.Link {
				l.beside = append(l.beside, e)
				return
			}
			l.passed++
		case e.Link:
			l.links = append(l.links, e.Name)
		default:
			l.files = append(l.files, e)
		}
	})
	l.signature, l.empty = sig.String(), sig.n == 0 && len(sub) == 0
	select {
	case w.found <- l:
	case <-ctx.Done():
		return
	}
	if !deep {
		return
	}
	for _, name := range sub {
		below := path.Join(rel, name)
		select {
		case w.slots <- struct{}{}:
			w.others.Go(func() {
				w.begin()
				w.walk(ctx, below, true)
				<-w.slots
			})
		default:
			w.walk(ctx, below, true)
		}
	}
}

// signature is a sum over the entries of a folder that does not depend on their
// order.
type signature struct {
	n, sum, xor uint64
}

// add mixes name, size and times of an entry in (FNV-1a, 64 bits). The change
// time is part of it, so that a changed permission is noticed too.
func (s *signature) add(e machine.Entry) {
	h := uint64(14695981039346656037)
	for i := range len(e.Name) {
		h = (h ^ uint64(e.Name[i])) * 1099511628211
	}
	for _, v := range []uint64{uint64(e.Size), uint64(e.MTime), uint64(e.CTime)} {
		h = (h ^ v) * 1099511628211
		h ^= h >> 29
	}
	s.n++
	s.sum += h
	s.xor ^= h * h
}

// sumBytes is how long the sum is, without the edition.
const sumBytes = 24

// edition is that in which names and headers are read: where it was another, all of a folder is
// read anew.
const edition = 16*media.Edition + naming.Edition

// String gives the sum with the edition.
func (s *signature) String() string {
	b := [sumBytes + 1]byte{sumBytes: edition}
	binary.LittleEndian.PutUint64(b[:], s.n+1)
	binary.LittleEndian.PutUint64(b[8:], s.sum)
	binary.LittleEndian.PutUint64(b[16:], s.xor)
	return string(b[:])
}

// current reports whether what a folder's signature stands for was read as it is now. Of one that
// is to be looked at again for another reason, that is not known.
func current(signature string) bool {
	return signature == "" || len(signature) == sumBytes+1 && signature[sumBytes] == edition
}

// alike reports whether two signatures stand for the same entries.
func alike(a, b string) bool {
	return len(a) >= sumBytes && len(b) >= sumBytes && a[:sumBytes] == b[:sumBytes]
}
