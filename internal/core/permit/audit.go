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
}

// Finding is one path that fails, with its cause.
type Finding struct {
	Path   string `json:"path"`
	Kind   string `json:"kind"` // file or folder
	Need   string `json:"need"` // read, list or write
	Cause  string `json:"cause"`
	Unsure bool   `json:"unsure,omitempty"` // the tool itself may not look there
}

// Report is what an audit of one folder found.
type Report struct {
	Folder          string    `json:"folder"`
	Files           int       `json:"files"`
	Folders         int       `json:"folders"`
	Links           int       `json:"links"`
	ReadableFiles   int       `json:"readable_files"`
	ListableFolders int       `json:"listable_folders"`
	WritableFolders int       `json:"writable_folders"`
	Failing         int       `json:"failing"` // paths that fail, all of them; what lies below an unlistable folder is not counted
	First           []Finding `json:"first"`   // the first few of them
}

// keepFirst is how many findings a report spells out.
const keepFirst = 5

// Audit walks root and says what id may do there. The error is for root only:
// it does not exist, or is no folder.
func Audit(tree Tree, root string, id Identity, need Need) (Report, error) {
	a := &audit{tree: tree, id: id, need: need, report: Report{Folder: root, First: []Finding{}}}
	it, err := tree.Item(root)
	if err != nil {
		return a.report, err
	}
	if !it.Folder {
		return a.report, &fs.PathError{Op: "open", Path: root, Err: errors.New("not a folder")}
	}
	if need.Ancestors && !a.ancestors(root) {
		a.report.Folders = 1
		return a.report, nil
	}
	a.folder(root, it)
	return a.report, nil
}

type audit struct {
	tree   Tree
	id     Identity
	need   Need
	report Report
}

func (a *audit) fail(p, kind, need, cause string, unsure bool) {
	a.report.Failing++
	if len(a.report.First) < keepFirst {
		a.report.First = append(a.report.First, Finding{p, kind, need, cause, unsure})
	}
}

// ancestors reports whether every folder above p can be passed through.
func (a *audit) ancestors(p string) bool {
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
			a.fail(up[i], "folder", "list", "could not be looked at: "+err.Error(), true)
			return false
		}
		if d := Decide(a.id, it.Attrs, Exec); !d.Granted {
			a.fail(up[i], "folder", "list", "it stands in the way: "+Why(a.id, it.Attrs, d, Exec, true), false)
			return false
		}
	}
	return true
}

func (a *audit) folder(p string, it Item) {
	a.report.Folders++
	if it.Err != nil {
		a.fail(p, "folder", "list", "could not be looked at: "+it.Err.Error(), true)
		return
	}
	want := Read | Exec
	d := Decide(a.id, it.Attrs, want)
	if !d.Granted {
		a.fail(p, "folder", "list", Why(a.id, it.Attrs, d, want, true), false)
		return
	}
	a.report.ListableFolders++
	if a.need.Write {
		if d := Decide(a.id, it.Attrs, Write|Exec); d.Granted {
			a.report.WritableFolders++
		} else {
			a.fail(p, "folder", "write", Why(a.id, it.Attrs, d, Write|Exec, true), false)
		}
	}
	err := a.tree.Items(p, func(sub Item) {
		at := path.Join(p, sub.Name)
		switch {
		case sub.Link:
			a.report.Links++
		case sub.Folder:
			a.folder(at, sub)
		case sub.Other:
		default:
			a.file(at, sub)
		}
	})
	if err != nil {
		a.fail(p, "folder", "list", "this tool could not list it: "+err.Error(), true)
	}
}

func (a *audit) file(p string, it Item) {
	a.report.Files++
	if it.Err != nil {
		a.fail(p, "file", "read", "could not be looked at: "+it.Err.Error(), true)
		return
	}
	if d := Decide(a.id, it.Attrs, Read); d.Granted {
		a.report.ReadableFiles++
	} else {
		a.fail(p, "file", "read", Why(a.id, it.Attrs, d, Read, false), false)
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
