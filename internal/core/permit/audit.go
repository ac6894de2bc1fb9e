package permit

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
)

// Item is one entry of a folder as the tree gives it.
type Item struct {
	Name   string
	Folder bool
	Link   bool // a symbolic link: counted, never followed
	Other  bool // neither file nor folder: a socket, a device, a pipe
	Attrs  Attrs
	Err    error // why Attrs could not be read; nil when they were
}

// Tree is what an audit walks. Paths are the host's, absolute and clean.
type Tree interface {
	// Item looks at one path without following a link.
	Item(path string) (Item, error)
	// Items lists a folder, in any order, calling yield for each entry.
	Items(path string, yield func(Item)) error
}

// Need is what the server wants to do with a folder.
type Need struct {
	Write     bool // create and remove files in every folder
	Ancestors bool // the folders above count too (no container around the server)
	Each      bool // every failing path is a problem of its own, not grouped
}

// Finding is one path that fails, with its cause.
type Finding struct {
	Path   string `json:"path"`
	Kind   string `json:"kind"` // file or folder
	Need   string `json:"need"` // read, list or write
	Cause  string `json:"cause"`
	Unsure bool   `json:"unsure,omitempty"` // the tool itself may not look there
}

// Causes of problems.
const (
	CauseMode    = "mode"       // a class of the mode bits
	CauseACL     = "acl"        // an entry of the ACL
	CauseMask    = "acl mask"   // the entry would do, the mask takes it away
	CauseWay     = "way"        // a folder above may not be passed through
	CauseUnknown = "not looked" // the tool itself may not look there
)

// Problem is a cause with all paths that it keeps from being used.
type Problem struct {
	Path      string `json:"path"` // the first such path; for CauseWay the folder in the way
	Kind      string `json:"kind"` // file or folder
	Need      string `json:"need"` // read, list or write
	Cause     string `json:"cause"`
	DecidedBy string `json:"decided_by"` // such as "other ---"
	Count     int    `json:"count"`      // how many paths
	Detail    string `json:"detail"`

	// What decided, for remedies.
	Mode     uint16 `json:"-"`
	UID, GID uint32 `json:"-"`
	ACL      bool   `json:"-"`
}

// Exposure is something that is open wider than it need be.
type Exposure struct {
	Path  string `json:"path"` // the first such path
	Kind  string `json:"kind"`
	What  string `json:"what"`
	Count int    `json:"count"`
}

// Report is what an audit of one folder found. Files and folders are counted
// also where the account cannot reach them, as far as the tool itself can.
type Report struct {
	Folder          string     `json:"folder"`
	Files           int        `json:"files"`
	Folders         int        `json:"folders"`
	Links           int        `json:"links"`
	ReadableFiles   int        `json:"readable_files"`
	ListableFolders int        `json:"listable_folders"`
	WritableFolders int        `json:"writable_folders"`
	Failing         int        `json:"failing"` // paths that fail by themselves; what lies behind a closed folder is not counted
	First           []Finding  `json:"first"`   // the first few of them
	Problems        []Problem  `json:"problems"`
	Exposures       []Exposure `json:"exposures"`
}

// keepFirst is how many findings a report spells out, and keepGroups how many
// causes it tells apart; a tree has few, unless somebody played dice with it.
const (
	keepFirst  = 5
	keepGroups = 500
)

// Audit walks root and says what id may do there. The error is for root only:
// it does not exist, or is no folder.
func Audit(tree Tree, root string, id Identity, need Need) (Report, error) {
	a := &audit{tree: tree, id: id, need: need, groups: map[groupKey]int{}, exposed: map[Exposure]int{}}
	a.report = Report{Folder: root, First: []Finding{}, Problems: []Problem{}, Exposures: []Exposure{}}
	it, err := tree.Item(root)
	if err != nil {
		return a.report, err
	}
	if !it.Folder {
		return a.report, &fs.PathError{Op: "open", Path: root, Err: errors.New("not a folder")}
	}
	way := -1
	if need.Ancestors {
		way = a.ancestors(root)
	}
	a.folder(root, it, way)
	return a.report, nil
}

type audit struct {
	tree    Tree
	id      Identity
	need    Need
	report  Report
	groups  map[groupKey]int // to the index in report.Problems
	exposed map[Exposure]int // the same, with Path and Count left out
}

// groupKey is what problems have in common that are told in one line.
type groupKey struct {
	kind, need, cause, by string
	mode                  uint16
	uid, gid              uint32
}

// fail notes a path that fails by itself, and gives the index of its problem.
func (a *audit) fail(p, need string, it Item, d Decision, want Perm) int {
	kind, cause := "file", CauseMode
	if it.Folder {
		kind = "folder"
	}
	switch {
	case d.Masked:
		cause = CauseMask
	case len(it.Attrs.ACL) > 0 && it.Attrs.Mode&0o070 != 0:
		cause = CauseACL
	}
	pr := Problem{
		Path: p, Kind: kind, Need: need, Cause: cause, DecidedBy: fmt.Sprintf("%s %s", d.Class, d.Has), Count: 1,
		Detail: Why(a.id, it.Attrs, d, want, it.Folder), Mode: it.Attrs.Mode, UID: it.Attrs.UID, GID: it.Attrs.GID, ACL: len(it.Attrs.ACL) > 0,
	}
	a.first(Finding{p, kind, need, pr.Detail, false})
	return a.note(pr)
}

// unsure notes a path that the tool itself could not look at.
func (a *audit) unsure(p, kind, need, why string) int {
	a.first(Finding{p, kind, need, why, true})
	return a.note(Problem{Path: p, Kind: kind, Need: need, Cause: CauseUnknown, Count: 1, Detail: why})
}

func (a *audit) first(f Finding) {
	a.report.Failing++
	if len(a.report.First) < keepFirst {
		a.report.First = append(a.report.First, f)
	}
}

// note adds a problem to those of the same cause, and gives its index.
func (a *audit) note(pr Problem) int {
	k := groupKey{pr.Kind, pr.Need, pr.Cause, pr.DecidedBy, pr.Mode, pr.UID, pr.GID}
	if pr.Cause == CauseUnknown {
		k.by = pr.Detail
	}
	i, ok := a.groups[k]
	if ok && !a.need.Each {
		a.report.Problems[i].Count += pr.Count
		return i
	}
	if len(a.report.Problems) >= keepGroups && !a.need.Each {
		last := &a.report.Problems[keepGroups-1]
		last.Count += pr.Count
		last.Detail = "and many other causes besides; list every path to see them"
		return keepGroups - 1
	}
	a.report.Problems = append(a.report.Problems, pr)
	a.groups[k] = len(a.report.Problems) - 1
	return a.groups[k]
}

// ancestors gives the index of the problem where a folder above cannot be passed
// through; -1 where all can.
func (a *audit) ancestors(p string) int {
	var up []string
	for d := path.Dir(p); ; d = path.Dir(d) {
		up = append(up, d)
		if d == "/" || d == "." {
			break
		}
	}
	for i := len(up) - 1; i >= 0; i-- {
		it, err := a.tree.Item(up[i])
		if err != nil {
			return a.unsure(up[i], "folder", "list", "could not be looked at: "+err.Error())
		}
		if d := Decide(a.id, it.Attrs, Exec); !d.Granted {
			way := a.fail(up[i], "list", it, d, Exec)
			a.report.Problems[way].Cause = CauseWay
			return way
		}
	}
	return -1
}

// folder audits a folder and what lies below. way is the index of the problem
// that keeps the account from getting here, or -1.
func (a *audit) folder(p string, it Item, way int) {
	a.report.Folders++
	if it.Err != nil {
		a.unsure(p, "folder", "list", "could not be looked at: "+it.Err.Error())
		return
	}
	a.expose(p, it)
	if way < 0 {
		if d := Decide(a.id, it.Attrs, Read|Exec); d.Granted {
			a.report.ListableFolders++
		} else {
			// Without the right to list, nothing is found; without the right
			// to enter, nothing is reached.
			way = a.fail(p, "list", it, d, Read|Exec)
			a.report.Problems[way].Cause = CauseWay
		}
	} else {
		a.behind(p, "folder", "list", way)
	}
	if a.need.Write && way < 0 {
		if d := Decide(a.id, it.Attrs, Write|Exec); d.Granted {
			a.report.WritableFolders++
		} else {
			a.fail(p, "write", it, d, Write|Exec)
		}
	}
	err := a.tree.Items(p, func(sub Item) {
		at := path.Join(p, sub.Name)
		switch {
		case sub.Link:
			a.report.Links++
		case sub.Folder:
			a.folder(at, sub, way)
		case sub.Other:
		default:
			a.file(at, sub, way)
		}
	})
	if err != nil && way < 0 {
		a.unsure(p, "folder", "list", "this tool could not list it: "+err.Error())
	}
}

// behind counts a path behind a closed folder towards that folder's problem.
func (a *audit) behind(p, kind, need string, way int) {
	w := a.report.Problems[way]
	if a.need.Each {
		a.report.Problems = append(a.report.Problems, Problem{Path: p, Kind: kind, Need: need, Cause: CauseWay, DecidedBy: w.DecidedBy, Count: 1, Detail: "behind " + w.Path})
		return
	}
	a.report.Problems[way].Count++
}

func (a *audit) file(p string, it Item, way int) {
	a.report.Files++
	switch {
	case way >= 0:
		a.behind(p, "file", "read", way)
	case it.Err != nil:
		a.unsure(p, "file", "read", "could not be looked at: "+it.Err.Error())
	default:
		a.expose(p, it)
		if d := Decide(a.id, it.Attrs, Read); d.Granted {
			a.report.ReadableFiles++
		} else {
			a.fail(p, "read", it, d, Read)
		}
	}
}

// expose notes what is open wider than it need be.
func (a *audit) expose(p string, it Item) {
	kind := "file"
	if it.Folder {
		kind = "folder"
	}
	say := func(what string) {
		k := Exposure{Kind: kind, What: what}
		i, ok := a.exposed[k]
		if !ok {
			a.report.Exposures = append(a.report.Exposures, Exposure{p, kind, what, 0})
			i = len(a.report.Exposures) - 1
			a.exposed[k] = i
		}
		a.report.Exposures[i].Count++
	}
	other := Perm(it.Attrs.Mode) & 7
	if other&Write != 0 {
		say("every account of this machine may write it")
	}
	if d := Decide(a.id, it.Attrs, Write); d.Granted && !a.need.Write && other&Write == 0 {
		say("the server's account may write it, though reading would do; a read-only mount keeps it from that")
	}
}

// Summary is the report in one line.
func (r Report) Summary(write bool) string {
	s := fmt.Sprintf("%d of %d files readable, %d of %d folders listable", r.ReadableFiles, r.Files, r.ListableFolders, r.Folders)
	if write {
		s += fmt.Sprintf(", %d writable", r.WritableFolders)
	}
	return s
}
