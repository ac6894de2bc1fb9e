package scan

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"cozyshelf/internal/core/naming"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/store"

	"golang.org/x/sys/unix"
)

// ahead is how many folders are prepared at once.
const ahead = 3

// next waits for the next listing, if there are more and not too many folders are being
// worked on, or for the first of these to be prepared. It does not wait for ever: those
// see to it themselves that they end.
func next(ctx context.Context, found <-chan listing, more bool, going []*work) (l listing, again bool, p *work,
	err error) {
	var prepared <-chan error
	var silent <-chan time.Time
	if len(going) > 0 {
		prepared = going[0].done
	} else {
		timer := time.NewTimer(Patience)
		defer timer.Stop()
		silent = timer.C
	}
	if !more || len(going) >= ahead {
		found = nil
	}
	select {
	case l, more = <-found:
		return l, more, nil, nil
	case err := <-prepared:
		return l, more, going[0], err
	case <-ctx.Done():
		return l, more, nil, ctx.Err()
	case <-silent:
		return l, more, nil, machine.ErrSilent
	}
}

// work is what is to be done for one listing.
type work struct {
	listing
	old   store.Folder // what was known of the folder
	known bool

	// What prepare finds out.
	entries []machine.Entry
	found   []store.Found // of the entries
	samples int
	growing int   // files that may still grow
	there   int   // of these, those that were known before
	todo    []int // which entries are new or changed
	byName  map[string]store.Known
	out     store.FolderFound
	done    chan error
}

// begin looks at a listing, and gives what is to be done for it: nothing, where all is as
// it was.
func (s *scanner) begin(ctx context.Context, shown string, l listing, had map[string]store.Folder) (*work, error) {
	if s.lost(l.path) {
		return nil, nil
	}
	old, known := had[l.path]
	delete(had, l.path)
	if s.report.Folders++; s.progress != nil {
		s.progress(s.report.Folders, s.report.Files)
	}
	if errors.Is(l.err, fs.ErrNotExist) || errors.Is(l.err, unix.ENOTDIR) {
		s.report.Folders--
		had[l.path] = old // it vanished meanwhile
		if !known {
			delete(had, l.path)
		}
		return nil, nil
	}
	if l.err != nil {
		had["!"+l.path] = old
		s.report.Unreadable++
		s.name("unreadable", path.Join(shown, l.path)+"/", cause(l.err, "list"))
		return nil, s.w.Folder(ctx, store.FolderFound{Root: shown, Path: l.path, Problem: cause(l.err, "list")})
	}
	if known && l.empty && old.Signature != "" && !alike(old.Signature, l.signature) {
		had[l.path] = old // emptied, or what was mounted went: the end of the walk tells
		return nil, nil
	}
	s.report.Passed += l.passed
	if known && old.Signature == l.signature && !old.Failing && old.Problem == "" {
		s.report.Files += len(l.files) - old.Samples
		s.report.Samples += old.Samples
		return nil, nil
	}
	return &work{listing: l, old: old, known: known, out: store.FolderFound{Root: shown, Path: l.path},
		done: make(chan error, 1)}, nil
}

// prepare reads names, finds what is new or changed, and opens that. It runs while
// others are finished, and so touches nothing of the scanner.
func (s *scanner) prepare(ctx context.Context, inside string, p *work) error {
	p.found = make([]store.Found, 0, len(p.files))
	p.entries = make([]machine.Entry, 0, len(p.files))
	for _, e := range p.files {
		f, sample := s.found(p.path, e)
		if sample {
			continue
		}
		p.found, p.entries = append(p.found, f), append(p.entries, e)
	}
	p.samples = len(p.files) - len(p.found)
	goes := beside(p.found, p.listing.beside)
	p.out.Signature, p.out.Samples = p.signature, p.samples
	var files []store.Known
	if p.known {
		var err error
		if files, err = s.st.Known(ctx, p.old.ID); err != nil {
			return err
		}
	}
	p.byName = make(map[string]store.Known, len(files))
	for _, k := range files {
		p.byName[k.Name] = k
	}
	for i, e := range p.entries {
		p.found[i].Beside = goes[i]
		k, ok := p.byName[e.Name]
		if at := time.Unix(0, e.MTime); s.quiet > 0 && s.now.Sub(at).Abs() < s.quiet &&
			!(ok && !k.Gone && k.Size == e.Size && k.MTime == e.MTime) {
			p.growing++
			if ok && !k.Gone {
				p.there++
			}
			delete(p.byName, e.Name)
			p.out.Signature = ""
			continue
		}
		if ok && !k.Gone && k.Size == e.Size && k.MTime == e.MTime && k.CTime == e.CTime && k.Problem == "" &&
			k.Fingerprint != "" && current(p.old.Signature) {
			delete(p.byName, e.Name)
			if k.Beside != goes[i] {
				if p.out.Beside == nil {
					p.out.Beside = map[int64]string{}
				}
				p.out.Beside[k.ID] = goes[i]
			}
			continue
		}
		p.todo = append(p.todo, i)
	}
	return s.open(ctx, inside, p.path, p.entries, p.found, p.todo)
}

// finish tells what the files are that were found, and writes them.
func (s *scanner) finish(ctx context.Context, shown string, p *work) error {
	l, byName, found, out := p.listing, p.byName, p.found, p.out
	s.report.Samples += p.samples
	s.report.Growing += p.growing
	s.report.Files += len(found) - p.growing + p.there
	for _, i := range p.todo {
		f := found[i]
		k, ok := byName[f.Name]
		if f.Problem == vanished {
			// Between listing and opening it: the next scan tells whether it is gone.
			s.report.Files--
			delete(byName, f.Name)
			out.Signature, s.vanished = "", true
			continue
		}
		one := store.FileFound{ID: k.ID, Found: f}
		// Under a known name lies what it was, in another state; unless another file
		// was put there, one that is known from elsewhere.
		if s.any && (!ok || k.Gone || k.Inode != f.Inode && k.Fingerprint != f.Fingerprint) {
			id, err := s.knownFrom(ctx, f, k.ID)
			if err != nil {
				return err
			}
			if id != 0 && id != k.ID {
				one.ID, one.Moved, ok = id, true, false
			}
		}
		switch {
		case one.Moved:
			s.report.Moved++
			s.name("moved", path.Join(shown, l.path, f.Name), "")
		case s.any && ok && !k.Gone && k.Inode != f.Inode && k.Fingerprint != f.Fingerprint && k.Fingerprint != "" &&
			f.Fingerprint != "":
			// Another file under a known name: a better copy of the same, or the one
			// that was here went elsewhere. The end of the scan tells.
			delete(byName, f.Name)
			out.Signature = ""
			s.later = append(s.later, later{store.FolderFound{Root: shown, Path: l.path, Signature: l.signature,
				Samples: p.samples}, one})
			continue
		default:
			delete(byName, f.Name)
			if !ok || k.Gone {
				s.report.New++
				s.name("new", path.Join(shown, l.path, f.Name), "")
			} else if k.Size != f.Size || k.MTime != f.MTime || k.Problem != f.Problem {
				s.report.Changed++
				s.name("changed", path.Join(shown, l.path, f.Name), "")
			}
		}
		s.note(shown, l.path, f)
		out.Files = append(out.Files, one)
	}
	for _, name := range l.links {
		k := byName[name]
		delete(byName, name)
		f, _ := s.found(l.path, machine.Entry{Name: name})
		f.Problem = "it is a symbolic link, and links are not followed out of a shelf; put the file itself here"
		s.report.Unreadable++
		s.name("unreadable", path.Join(shown, l.path, name), f.Problem)
		s.report.Files++
		if k.ID == 0 || k.Gone {
			s.report.New++
		}
		out.Files = append(out.Files, store.FileFound{ID: k.ID, Found: f})
	}
	for _, k := range byName {
		if k.Gone || s.taken[k.ID] {
			continue
		}
		s.goneFrom(k.ID, path.Join(shown, l.path, k.Name))
		out.Gone = append(out.Gone, k.ID)
	}
	return s.w.Folder(ctx, out)
}

// later is a file whose identity the end of the scan tells.
type later struct {
	folder store.FolderFound
	file   store.FileFound
}

// settle writes the files whose identity could not be told before.
func (s *scanner) settle(ctx context.Context) error {
	for _, l := range s.later {
		at := path.Join(l.folder.Root, l.folder.Path, l.file.Name)
		if s.taken[l.file.ID] {
			l.file.ID = 0
			s.report.New++
			s.name("new", at, "")
		} else {
			s.report.Changed++
			s.name("changed", at, "")
		}
		s.note(l.folder.Root, l.folder.Path, l.file.Found)
		l.folder.Files = []store.FileFound{l.file}
		if err := s.w.Folder(ctx, l.folder); err != nil {
			return err
		}
	}
	at := map[string]bool{}
	for id, p := range s.gone {
		if !s.taken[id] {
			at[p] = true
		}
	}
	for _, p := range slices.Sorted(maps.Keys(at)) {
		s.name("gone", p, "")
	}
	return nil
}

// beside finds what goes with each of the files of a folder, as JSON, with size and time,
// so that another sidecar or picture under the same name is noticed.
func beside(found []store.Found, others []machine.Entry) []string {
	out := make([]string, len(found))
	if len(others) == 0 {
		return out
	}
	slices.SortFunc(others, func(a, b machine.Entry) int { return strings.Compare(a.Name, b.Name) })
	for i, f := range found {
		stem := strings.TrimSuffix(f.Name, path.Ext(f.Name))
		var list []naming.Beside
		for _, e := range others {
			if b, ok := naming.BesideOf(stem, e.Name); ok && utf8.ValidString(e.Name) {
				b.Size, b.Modified = e.Size, e.MTime/int64(time.Millisecond)
				list = append(list, b)
			}
		}
		if len(list) > 0 {
			b, err := json.Marshal(list)
			if err == nil {
				out[i] = string(b)
			}
		}
	}
	return out
}
