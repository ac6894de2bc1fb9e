package operate

import (
	"slices"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/machine"
)

// Unseen is a disk that is mounted below a shelf's folder, and that the server does not see: it
// was mounted after the server started, and the folder's mount is private.
type Unseen struct {
	Shelf  string
	Folder string // of the shelf
	Point  string
	Files  int
}

// Unseen finds such disks, and takes what is on them off the facts: what the server cannot see is
// not counted among what it can read. told are the shelves as the server tells of them.
func (h *House) Unseen(f facts.Facts, shelves []control.Shelf) (facts.Facts, []Unseen) {
	if !h.Facts.Can.Isolates || h.Facts.Elsewhere {
		return f, nil
	}
	var out []Unseen
	f.Shelves = slices.Clone(f.Shelves)
	for i, s := range f.Shelves {
		at := slices.IndexFunc(shelves, func(t control.Shelf) bool { return t.Name == s.Name })
		if at < 0 {
			continue
		}
		f.Shelves[i].Folders = slices.Clone(s.Folders)
		for j, folder := range s.Folders {
			if folder.Share != nil || folder.Access == nil || household.IsShare(folder.Path) {
				continue
			}
			seen, last := *folder.Access, ""
			for _, point := range machine.MountPoints(folder.Path) {
				if slices.Contains(shelves[at].Mounted, point) || last != "" && permit.Below(point, last) {
					continue
				}
				last = point
				u := Unseen{Shelf: s.Name, Folder: folder.Path, Point: point}
				if r, err := h.audit(point, s.Write); err == nil {
					u.Files = r.Files
					seen = without(seen, r)
				}
				out = append(out, u)
			}
			f.Shelves[i].Folders[j].Access = &seen
		}
	}
	return f, out
}

// MayWrite reports whether the server may put files into a folder, as far as that is known.
func (h *House) MayWrite(folder string) bool {
	if h.Facts.Elsewhere || h.Account.Missing {
		return true
	}
	r, err := h.audit(folder, true)
	return err != nil || r.WritableFolders > 0
}

func (h *House) audit(folder string, write bool) (permit.Report, error) {
	id, need := h.Facts.Asks(h.Account, write)
	need.Counted = h.Files
	return machine.Audit(folder, id, need)
}

// without takes what a part of a folder has off what the whole has.
func without(whole, part permit.Report) permit.Report {
	whole.Files -= part.Files
	whole.Folders -= part.Folders
	whole.ReadableFiles -= part.ReadableFiles
	whole.ListableFolders -= part.ListableFolders
	whole.WritableFolders -= part.WritableFolders
	whole.Failing -= part.Failing
	return whole
}
