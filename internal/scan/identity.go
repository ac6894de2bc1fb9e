package scan

import (
	"context"
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"cozyshelf/internal/machine"
	"cozyshelf/internal/store"

	"github.com/cespare/xxhash/v2"
)

// knownFrom finds a file that was known elsewhere and is no longer there: the same size
// and beginning, or, of several such, the same inode. It gives its id, or 0; own is the id
// of what was known under the file's name.
func (s *scanner) knownFrom(ctx context.Context, f store.Found, own int64) (int64, error) {
	if f.Fingerprint == "" {
		return 0, nil
	}
	twins, err := s.twinsOf(ctx, f)
	if err != nil || len(twins) == 0 {
		return 0, err
	}
	best := int64(0)
	for _, t := range twins {
		if t.ID == own {
			return own, nil
		}
	}
	for _, t := range twins {
		if s.taken[t.ID] {
			continue
		}
		if !t.Gone {
			there, asked := s.stays[t.ID]
			if !asked {
				there = s.there(t, f.Size)
				s.stays[t.ID] = there
			}
			if there {
				continue
			}
		}
		if best == 0 || t.Inode == f.Inode {
			best = t.ID
		}
		if t.Inode == f.Inode {
			break
		}
	}
	if best != 0 {
		s.taken[best] = true
		if s.lately[best] {
			s.report.Gone-- // it was counted before it turned up here
		}
	}
	return best, nil
}

// twinsOf gives the files that were known before this scan and look the same as one that
// is new. Where many are new, most are like none: a list of all that is known tells so
// without asking the store about each.
func (s *scanner) twinsOf(ctx context.Context, f store.Found) ([]store.Twin, error) {
	key := sameness{f.Size, f.Fingerprint}
	if list, ok := s.twins[key]; ok {
		return list, nil
	}
	if s.strangers++; s.strangers == fewStrangers {
		err := s.st.Prints(ctx, func(print string) {
			s.prints = append(s.prints,
				binary.LittleEndian.Uint64([]byte(print)[:8]))
		})
		if err != nil {
			return nil, err
		}
		slices.Sort(s.prints)
	}
	if s.strangers >= fewStrangers {
		if _, known := slices.BinarySearch(s.prints, binary.LittleEndian.Uint64([]byte(f.Fingerprint)[:8])); !known {
			return nil, nil
		}
	}
	list, err := s.st.Twins(ctx, f.Size, f.Fingerprint, f.Inode)
	if err == nil && len(list) > 0 {
		s.twins[key] = list
	}
	return list, err
}

// sameness is what files are told to be the same by.
type sameness struct {
	size  int64
	print string
}

// fewStrangers is how many new files the store is asked about one by one.
const fewStrangers = 200

// there reports whether a file is still where it was last seen, or may be: on a folder
// that is unplugged now.
func (s *scanner) there(t store.Twin, size int64) bool {
	at := s.inside(t.Shelf, t.Root)
	if strings.ContainsRune(t.Path, 0) {
		return false // its name went to another file
	}
	if at == "" {
		return true // a folder that the household no longer has is put aside elsewhere
	}
	if s.presence(at) != "" || s.shelf.Name == t.Shelf && s.lost(path.Dir(t.Path)) {
		return true
	}
	there, err := machine.Patiently(func() (bool, error) {
		st, err := os.Lstat(filepath.Join(at, t.Path))
		if err != nil {
			return !errors.Is(err, fs.ErrNotExist), nil
		}
		// Another may have its name by now.
		return st.Size() == size && st.ModTime().UnixNano() == t.MTime, nil
	})
	return there || err != nil
}

// fingerprint sums up the size of a file and its beginning: what is the same in both is,
// for all that lies on shelves, the same file. It is cheap, since the beginning is read
// anyway.
func fingerprint(h *headReader, size int64) (string, error) {
	b, err := h.start()
	if err != nil {
		return "", err
	}
	var out [16]byte
	binary.LittleEndian.PutUint64(out[:], xxhash.Sum64(b)^uint64(size)*0x9e3779b97f4a7c15)
	d := xxhash.NewWithSeed(uint64(size))
	_, _ = d.Write(b) // a hash takes everything
	binary.LittleEndian.PutUint64(out[8:], d.Sum64())
	return string(out[:]), nil
}
