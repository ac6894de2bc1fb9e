package permit

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
)

// Item is one entry of a folder as the tree gives it.
type Item struct {
	Name   string
	Folder bool
	Link   bool // a symbolic link: counted, never followed
	Other  bool // neither file nor folder: a socket, a device, a pipe
	Attrs  Attrs
	Err    error // why Attrs could not be read; nil when they were

	Special uint16  // set-user-id, set-group-id and sticky, as in a mode
	Default []Entry // a folder's default ACL
	Fixed   string  // "immutable" or "append-only", where that flag is set
	Border  bool    // another mount begins here
	Label   string  // SELinux; empty where it has none or nobody asked
	Links   uint32  // names of a file; 0 where not known
	Inode   uint64
}

// setGID reports whether a folder workers its group on to what is made in it.
func (it Item) setGID() bool { return it.Folder && it.Special&0o2000 != 0 }

// Tree is what an audit walks. Paths are the host's, absolute and clean. With
// more than one worker, folders are listed at the same time.
type Tree interface {
	// Item looks at one path without following a link.
	Item(path string) (Item, error)
	// Items lists a folder, in any order, calling yield for each entry.
	Items(path string, yield func(Item)) error
}

// Mounter is a tree that knows what its paths are mounted from. Without it,
// modes and ACLs alone decide.
type Mounter interface {
	Mount(path string) Mount
}

// Need is what the server wants to do with a folder.
type Need struct {
	Write     bool   // create and remove files in every folder
	Ancestors bool   // the folders above count too (no container around the server)
	Each      bool   // every path that cannot be used is listed by itself, not grouped
	Confined  bool   // SELinux confines the container: labels count
	Aside     string // the name of folders that are left out, wherever they lie; empty for none
	Workers   int    // how many folders are walked at once; 0 stands for 1
	// Inside is the account as numbered inside, where the engine shifts ids; the
	// identity asked about is then the shifted one.
	Inside *Identity
	// Fails, unless nil, hears of every path that fails by itself, from one
	// worker at a time.
	Fails func(Finding)
	// Counted, unless nil, counts the files that were looked at, while it is done.
	Counted *atomic.Int64
}

// Finding is one path that fails, with its cause.
type Finding struct {
	Path   string `json:"path"`
	Kind   string `json:"kind"` // file or folder
	Need   string `json:"need"` // read, list or write
	Cause  string `json:"cause"`
	Unsure bool   `json:"unsure,omitempty"` // the tool itself may not look there

	kind string // of the cause: one of those below
}

// Causes of problems.
const (
	CauseMode     = "mode"            // a class of the mode bits
	CauseACL      = "acl"             // an entry of the ACL
	CauseMask     = "acl mask"        // the entry would do, the mask takes it away
	CauseWay      = "way"             // a folder above may not be passed through
	CauseShift    = "id shift"        // the engine's user namespace makes it another number
	CauseOptions  = "mount options"   // options of the mount rule in place of modes
	CauseReadOnly = "read-only mount" // the file system is mounted read-only
	CauseSELinux  = "selinux"         // the label is not one that containers may use
	CauseFixed    = "flag"            // immutable or append-only
	CauseUnknown  = "not looked"      // the tool itself may not look there
)

// Obstacle is a cause with all paths that it keeps from being used.
type Obstacle struct {
	Path      string `json:"path"` // the first such path; for CauseWay the folder in the way
	Kind      string `json:"kind"` // file or folder
	Need      string `json:"need"` // read, list or write
	Cause     string `json:"cause"`
	DecidedBy string `json:"decided_by"` // such as "other ---"
	Count     int    `json:"count"`      // how many paths
	Detail    string `json:"detail"`

	// What decided, for remedies.
	Class    Class  `json:"-"`
	Mode     uint16 `json:"-"`
	UID, GID uint32 `json:"-"`
	ACL      bool   `json:"-"`
	Point    string `json:"-"` // of the mount, where that decided
	Folders  int    `json:"-"` // how many of the paths are folders
}

// Exposure is something that is open wider than it need be.
type Exposure struct {
	Path  string `json:"path"` // the first such path
	Kind  string `json:"kind"`
	What  string `json:"what"`
	Count int    `json:"count"`
}

// What exposures say.
const (
	ExposedWrite   = "every account of this machine may write it"
	ExposedRead    = "every account of this machine may read it"
	ExposedProcess = "the server's account may write it, though reading would do"
	ExposedServer  = "the server's account may write it, though reading would do; a read-only mount keeps it from that"
)

// Later says whether files that arrive later, made by another account under the
// umask that most files here show, will be readable.
type Later struct {
	Umask    string `json:"umask"`            // octal, such as "0022"
	Folders  int    `json:"folders"`          // that the account can enter
	Readable int    `json:"readable_folders"` // of these, where a new file will be readable
	Inherits int    `json:"inherits"`         // of these, where a default ACL or the set-group-id bit sees to it
	Path     string `json:"path,omitempty"`   // the first folder where it will not
}

// Report is what an audit of one folder found. Files and folders are counted
// also where the account cannot reach them, as far as the tool itself can.
type Report struct {
	Folder          string `json:"folder"`
	Files           int    `json:"files"`
	Folders         int    `json:"folders"`
	Links           int    `json:"links"`
	ReadableFiles   int    `json:"readable_files"`
	ListableFolders int    `json:"listable_folders"`
	WritableFolders int    `json:"writable_folders"`
	ACLs            int    `json:"acls"` // how many of these carry an ACL
	// Paths that fail by themselves; what lies behind a closed folder is not counted.
	Failing   int        `json:"failing"`
	First     []Finding  `json:"first"` // the first few of them
	Problems  []Obstacle `json:"problems"`
	Exposures []Exposure `json:"exposures"`
	Later     Later      `json:"later"`
	Mounts    []Mount    `json:"mounts,omitempty"` // the mounts that were met
}

// keepFirst is how many findings a report spells out, and keepGroups how many
// causes it tells apart; a tree has few, unless somebody played dice with it.
const (
	keepFirst  = 5
	keepGroups = 500
)

// umasks are those that files are thought to be made under, the usual first.
var umasks = [3]uint16{0o022, 0o027, 0o077}

// Audit walks root and says what id may do there. What it says does not depend
// on the order in which the tree lists. The error is for root only: it does not
// exist, or is no folder.
func Audit(tree Tree, root string, id Identity, need Need) (Report, error) {
	empty := Report{Folder: root, First: []Finding{}, Problems: []Obstacle{}, Exposures: []Exposure{}}
	it, err := tree.Item(root)
	if err != nil {
		return empty, err
	}
	if !it.Folder {
		return empty, &fs.PathError{Op: "open", Path: root, Err: errors.New("not a folder")}
	}
	c := &walk{tree: tree, id: id, need: need}
	c.more.L = &c.lock
	workers := make([]*worker, max(1, need.Workers))
	for i := range workers {
		workers[i] = &worker{walk: c, groups: map[groupKey]*Obstacle{}, exposed: map[Exposure]*Exposure{}}
	}
	start := frame{path: root, it: it, mount: c.mount(root)}
	if need.Ancestors {
		c.above = workers[0].ancestors(root)
	}
	c.todo = append(c.todo, start)
	var wg sync.WaitGroup
	for _, h := range workers {
		wg.Go(h.work)
	}
	wg.Wait()
	return c.report(empty, workers), nil
}

// frame is one folder that is still to be walked.
type frame struct {
	path  string
	it    Item
	way   *groupKey // the problem that keeps the account from getting here
	mount *Mount
}

// walk is what the workers of one audit share.
type walk struct {
	tree    Tree
	id      Identity
	need    Need
	lock    sync.Mutex
	more    sync.Cond
	todo    []frame
	busy    int
	above   *groupKey // a folder above the shelf's own that is in the way
	mounts  []*Mount
	telling sync.Mutex
}

// maxTodo bounds the folders that wait; beyond it a worker goes down by itself.
const maxTodo = 4096

// worker is one walker with what it has found.
type worker struct {
	*walk
	files, folders, links        int
	readable, listable, writable int
	failing, acls                int
	first                        []Finding
	each                         []Obstacle
	groups                       map[groupKey]*Obstacle
	exposed                      map[Exposure]*Exposure
	later                        [len(umasks)]Later
	looks                        [len(umasks)]int // how many files look as if made under it
}

// groupKey is what problems have in common that are told in one line.
type groupKey struct {
	kind, need, cause, by string
	class                 Class
	mode                  uint16
	uid, gid              uint32
	point                 string
}

func (c *walk) mount(p string) *Mount {
	g, ok := c.tree.(Mounter)
	if !ok {
		return nil
	}
	found := g.Mount(p)
	c.lock.Lock()
	defer c.lock.Unlock()
	for _, have := range c.mounts {
		if have.Point == found.Point {
			return have
		}
	}
	c.mounts = append(c.mounts, &found)
	return &found
}

func (h *worker) work() {
	for {
		h.lock.Lock()
		for len(h.todo) == 0 && h.busy > 0 {
			h.more.Wait()
		}
		if len(h.todo) == 0 {
			h.lock.Unlock()
			h.more.Broadcast()
			return
		}
		f := h.todo[len(h.todo)-1]
		h.todo = h.todo[:len(h.todo)-1]
		h.busy++
		h.lock.Unlock()
		h.folder(f)
		h.lock.Lock()
		h.busy--
		h.lock.Unlock()
		h.more.Broadcast()
	}
}

// put puts a folder off, unless very many wait already.
func (h *worker) put(f frame) {
	h.lock.Lock()
	room := len(h.todo) < maxTodo
	if room {
		h.todo = append(h.todo, f)
	}
	h.lock.Unlock()
	if !room {
		h.folder(f)
		return
	}
	h.more.Signal()
}

// fail notes a path that fails by itself, and gives the key of its problem.
func (h *worker) fail(p, need string, it Item, r *ruling) *groupKey {
	kind := "file"
	if it.Folder {
		kind = "folder"
	}
	h.tell(Finding{Path: p, Kind: kind, Need: need, Cause: r.detail, Unsure: r.cause == CauseUnknown, kind: r.cause})
	return h.note(Obstacle{
		Path: p, Kind: kind, Need: need, Cause: r.cause, DecidedBy: r.by, Count: 1, Detail: r.detail, Class: r.class,
		Mode: it.Attrs.Mode, UID: it.Attrs.UID, GID: it.Attrs.GID, ACL: len(it.Attrs.ACL) > 0, Point: r.point,
	})
}

// unsure notes a path that the tool itself could not look at.
func (h *worker) unsure(p, kind, need, why string) *groupKey {
	return h.fail(p, need, Item{Folder: kind == "folder"}, &ruling{cause: CauseUnknown, detail: why})
}

func (h *worker) tell(f Finding) {
	h.failing++
	if h.need.Fails != nil {
		h.telling.Lock()
		h.need.Fails(f)
		h.telling.Unlock()
	}
	at, _ := slices.BinarySearchFunc(h.first, f, func(a, b Finding) int { return strings.Compare(a.Path, b.Path) })
	if at < keepFirst {
		h.first = slices.Insert(h.first, at, f)
		h.first = h.first[:min(len(h.first), keepFirst)]
	}
}

// note adds a problem to those of the same cause, and gives their key.
func (h *worker) note(pr Obstacle) *groupKey {
	k := groupKey{kind: pr.Kind, need: pr.Need, cause: pr.Cause, by: pr.DecidedBy, class: pr.Class, mode: pr.Mode,
		uid: pr.UID, gid: pr.GID, point: pr.Point}
	if pr.Cause == CauseUnknown {
		k.by = pr.Detail
	}
	if pr.Kind == "folder" {
		pr.Folders = pr.Count
	}
	if h.need.Each {
		h.each = append(h.each, pr)
	}
	have, ok := h.groups[k]
	if !ok && len(h.groups) >= keepGroups {
		k = groupKey{by: "many"}
		pr.DecidedBy, pr.Detail = "", "and many other causes besides; list every path to see them"
		have, ok = h.groups[k]
	}
	if !ok {
		h.groups[k] = &pr
		return &k
	}
	join(have, pr)
	return &k
}

// join adds a problem to one of the same cause.
func join(to *Obstacle, pr Obstacle) {
	to.Count += pr.Count
	to.Folders += pr.Folders
	to.ACL = to.ACL || pr.ACL
	if pr.Path < to.Path {
		to.Path, to.Detail = pr.Path, pr.Detail
	}
}

// decideAll decides as the kernel is asked. To list a folder, reading it and
// passing through it are two questions, and different entries of an ACL may
// answer them; to make or remove a name in it, writing and passing are one.
func decideAll(id Identity, f Attrs, want Perm) Decision {
	if want != Read|Exec {
		return Decide(id, f, want)
	}
	d := Decide(id, f, Read)
	if x := Decide(id, f, Exec); d.Granted && x.Granted {
		return d
	} else if d.Granted {
		return x
	}
	return d
}

// ruling is what keeps the account from doing something.
type ruling struct {
	cause  string
	by     string // in short: "other ---"
	class  Class  // of the entry that decided; empty where none did
	detail string // in words
	point  string // of the mount, where that decided
}

// judge says what keeps the account from doing want; nil for nothing.
func (h *worker) judge(it Item, g *Mount, want Perm) *ruling {
	if g != nil {
		if g.Only != nil && *g.Only != h.id.UID {
			return &ruling{cause: CauseOptions, by: "no allow_other", point: g.Point,
				detail: fmt.Sprintf("%s (%s) is mounted without allow_other: nobody but uid %d may use it", g.Point,
					g.Type, *g.Only)}
		}
		if want&Write != 0 && g.ReadOnly {
			return &ruling{cause: CauseReadOnly, by: "ro", point: g.Point,
				detail: fmt.Sprintf("%s (%s) is mounted read-only", g.Point, g.Type)}
		}
	}
	if want&Write != 0 && it.Fixed != "" {
		return &ruling{cause: CauseFixed, by: it.Fixed, detail: "the flag " + it.Fixed +
			" is set on it: nobody may change it"}
	}
	if g == nil || !g.Daemon {
		if d := decideAll(h.id, it.Attrs, want); !d.Granted {
			return h.denied(it, g, want, d)
		}
	}
	if h.need.Confined && !labelled(it.Label, want&Write != 0) {
		return &ruling{cause: CauseSELinux, by: it.Label,
			detail: "SELinux keeps containers from it: its label is " + it.Label}
	}
	return nil
}

// denied says why owners, modes and ACLs keep the account from doing want.
func (h *worker) denied(it Item, g *Mount, want Perm, d Decision) *ruling {
	r := &ruling{cause: CauseMode, by: fmt.Sprintf("%s %s", d.Class, d.Has), class: d.Class,
		detail: Why(h.id, it.Attrs, d, want, it.Folder)}
	switch {
	case g != nil && g.Ruled != "":
		r.cause, r.point = CauseOptions, g.Point
		r.detail = fmt.Sprintf("%s; owner and mode come from the options of the mount %s (%s: %s)", r.detail, g.Point,
			g.Type,
			g.Ruled)
		return r
	case d.Masked:
		r.cause = CauseMask
	case len(it.Attrs.ACL) > 0 && it.Attrs.Mode&0o070 != 0:
		r.cause = CauseACL
	}
	if in := h.need.Inside; in != nil && decideAll(*in, it.Attrs, want).Granted {
		r.cause = CauseShift
		r.detail = fmt.Sprintf("%d inside is %d on this machine, since the engine shifts ids; %s", in.UID, h.id.UID,
			r.detail)
	}
	return r
}

// ancestors gives the problem where a folder above cannot be passed through.
func (h *worker) ancestors(p string) *groupKey {
	var up []string
	for d := path.Dir(p); ; d = path.Dir(d) {
		up = append(up, d)
		if d == "/" || d == "." {
			break
		}
	}
	for i := len(up) - 1; i >= 0; i-- {
		it, err := h.tree.Item(up[i])
		if err != nil {
			return h.unsure(up[i], "folder", "list", "could not be looked at: "+err.Error())
		}
		if r := h.judge(it, nil, Exec); r != nil {
			r.cause, r.point = CauseWay, up[i]
			return h.fail(up[i], "list", it, r)
		}
	}
	return nil
}

// folder audits a folder, and puts those in it off.
func (h *worker) folder(f frame) {
	p, it, way := f.path, f.it, f.way
	if h.need.Aside != "" && path.Base(p) == h.need.Aside {
		return
	}
	h.folders++
	if it.Err != nil {
		h.unsure(p, "folder", "list", "could not be looked at: "+it.Err.Error())
		return
	}
	h.expose(path.Dir(p), path.Base(p), it, f.mount)
	if way != nil {
		h.behind(p, "folder", "list", way)
	} else if r := h.judge(it, f.mount, Read|Exec); r == nil {
		h.listable++
		h.foresee(p, it)
	} else {
		// Without the right to list, nothing is found; without the right to
		// enter, nothing is reached.
		if r.cause == CauseMode || r.cause == CauseACL || r.cause == CauseMask {
			r.cause = CauseWay
		}
		way = h.fail(p, "list", it, r)
	}
	if h.need.Write && way == nil {
		if r := h.judge(it, f.mount, Write|Exec); r == nil {
			h.writable++
		} else {
			h.fail(p, "write", it, r)
		}
	}
	err := h.tree.Items(p, func(sub Item) {
		switch {
		case sub.Link:
			h.links++
		case sub.Folder:
			mount := f.mount
			at := path.Join(p, sub.Name)
			if sub.Border {
				mount = h.mount(at)
			}
			h.put(frame{at, sub, way, mount})
		case sub.Other:
		default:
			h.file(p, sub, way, f.mount)
		}
	})
	if err != nil && way == nil && !errors.Is(err, fs.ErrNotExist) {
		h.unsure(p, "folder", "list", "this tool could not list it: "+err.Error())
	}
}

// behind counts a path behind a closed folder towards that folder's problem.
func (h *worker) behind(p, kind, need string, way *groupKey) {
	have, ok := h.groups[*way]
	if !ok {
		// Another worker met the closed folder.
		have = &Obstacle{Kind: way.kind, Need: way.need, Cause: way.cause, DecidedBy: way.by, Class: way.class,
			Mode: way.mode, UID: way.uid, GID: way.gid, Point: way.point}
		h.groups[*way] = have
	}
	have.Count++
	if kind == "folder" {
		have.Folders++
	}
	if h.need.Each {
		h.each = append(h.each, Obstacle{Path: p, Kind: kind, Need: need, Cause: way.cause, DecidedBy: way.by, Count: 1,
			Detail: "behind a closed folder"})
	}
}

func (h *worker) file(folder string, it Item, way *groupKey, g *Mount) {
	h.files++
	if h.need.Counted != nil {
		h.need.Counted.Add(1)
	}
	switch {
	case way != nil:
		p := ""
		if h.need.Each {
			p = path.Join(folder, it.Name)
		}
		h.behind(p, "file", "read", way)
	case it.Err != nil:
		h.unsure(path.Join(folder, it.Name), "file", "read", "could not be looked at: "+it.Err.Error())
	default:
		if it.Attrs.Mode&0o004 != 0 {
			h.looks[0]++
		} else if it.Attrs.Mode&0o040 != 0 && len(it.Attrs.ACL) == 0 {
			h.looks[1]++
		} else {
			h.looks[2]++
		}
		h.expose(folder, it.Name, it, g)
		if r := h.judge(it, g, Read); r == nil {
			h.readable++
		} else {
			h.fail(path.Join(folder, it.Name), "read", it, r)
		}
	}
}

// foresee says whether files that come into a folder later will be readable.
func (h *worker) foresee(p string, it Item) {
	const stranger = 1<<32 - 2 // made by an account that shares nothing with ours
	if h.id.UID == stranger {
		return
	}
	for i, umask := range umasks {
		f := Attrs{Mode: 0o666 &^ umask, UID: stranger, GID: stranger}
		if it.setGID() {
			f.GID = it.Attrs.GID
		}
		if len(it.Default) > 0 {
			f = inherit(f, it.Default)
		}
		l := &h.later[i]
		l.Folders++
		if Decide(h.id, f, Read).Granted {
			l.Readable++
			if len(it.Default) > 0 || it.setGID() {
				l.Inherits++
			}
		} else if l.Path == "" || p < l.Path {
			l.Path = p
		}
	}
}

// inherit gives what a file made in a folder with a default ACL gets: that ACL,
// cut down to what the maker asked for, and no umask (acl(5), "object creation").
func inherit(f Attrs, def []Entry) Attrs {
	f.ACL = slices.Clone(def)
	hasMask := slices.ContainsFunc(def, func(e Entry) bool { return e.Tag == Mask })
	f.Mode = 0
	for i := range f.ACL {
		e := &f.ACL[i]
		e.Perm &= Read | Write
		switch {
		case e.Tag == UserObj:
			f.Mode |= uint16(e.Perm) << 6
		case e.Tag == Mask, e.Tag == GroupObj && !hasMask:
			f.Mode |= uint16(e.Perm) << 3
		case e.Tag == Other:
			f.Mode |= uint16(e.Perm)
		}
	}
	if !hasMask {
		f.ACL = nil
	}
	return f
}

// expose notes what is open wider than it need be.
func (h *worker) expose(folder, name string, it Item, g *Mount) {
	if len(it.Attrs.ACL) > 0 || len(it.Default) > 0 {
		h.acls++
	}
	if g != nil && (g.Daemon || g.Only != nil) {
		return // modes do not say
	}
	kind := "file"
	if it.Folder {
		kind = "folder"
	}
	say := func(what string) {
		k := Exposure{Kind: kind, What: what}
		e, ok := h.exposed[k]
		if !ok {
			e = &Exposure{"", kind, what, 0}
			h.exposed[k] = e
		}
		e.Count++
		if e.Path == "" || before(folder, name, e.Path) {
			e.Path = path.Join(folder, name)
		}
	}
	other := Perm(it.Attrs.Mode) & 7
	if other&Write != 0 {
		say(ExposedWrite)
	} else if other&Read != 0 && !it.Folder {
		say(ExposedRead)
	}
	if other&Write == 0 && !h.need.Write && (g == nil || !g.ReadOnly) && it.Fixed == "" &&
		Decide(h.id, it.Attrs, Write).Granted {
		if h.need.Ancestors { // no container, so no mount of its own
			say(ExposedProcess)
		} else {
			say(ExposedServer)
		}
	}
}

// before reports whether folder/name comes before p, without making a path of
// the two for each of a million files.
func before(folder, name, p string) bool {
	if n := min(len(folder), len(p)); folder[:n] != p[:n] {
		return folder < p
	}
	if len(p) <= len(folder) {
		return false
	}
	if p[len(folder)] != '/' {
		return path.Join(folder, name) < p
	}
	return name < p[len(folder)+1:]
}

// report puts together what the workers have found.
func (c *walk) report(r Report, workers []*worker) Report {
	groups := map[groupKey]*Obstacle{}
	exposed := map[Exposure]*Exposure{}
	var looks [len(umasks)]int
	var later [len(umasks)]Later
	var each []Obstacle
	for _, h := range workers {
		h.count(&r)
		each = append(each, h.each...)
		h.joinGroups(groups)
		h.joinExposed(exposed)
		for i := range umasks {
			looks[i] += h.looks[i]
			later[i].join(h.later[i])
		}
	}
	if c.above != nil {
		// All lies behind that folder. The causes inside were looked for all the
		// same, since they would be the next in the way.
		pr := groups[*c.above]
		pr.Count, pr.Folders = 1+r.Files+r.Folders, 1+r.Folders
		r.ReadableFiles, r.ListableFolders, r.WritableFolders = 0, 0, 0
	}
	slices.SortFunc(r.First, func(a, b Finding) int { return strings.Compare(a.Path, b.Path) })
	r.First = r.First[:min(len(r.First), keepFirst)]
	if c.need.Each {
		r.Problems = append(r.Problems, each...)
	} else {
		for _, pr := range groups {
			r.Problems = append(r.Problems, *pr)
		}
	}
	slices.SortFunc(r.Problems, func(a, b Obstacle) int {
		return cmp.Or(strings.Compare(a.Path, b.Path), strings.Compare(a.Need+a.DecidedBy, b.Need+b.DecidedBy))
	})
	for _, e := range exposed {
		r.Exposures = append(r.Exposures, *e)
	}
	slices.SortFunc(r.Exposures, func(a, b Exposure) int { return strings.Compare(a.What+a.Kind, b.What+b.Kind) })
	best := 0
	for i := range umasks {
		if looks[i] > looks[best] {
			best = i
		}
	}
	r.Later = later[best]
	r.Later.Umask = fmt.Sprintf("%04o", umasks[best])
	for _, g := range c.mounts {
		r.Mounts = append(r.Mounts, *g)
	}
	slices.SortFunc(r.Mounts, func(a, b Mount) int { return strings.Compare(a.Point, b.Point) })
	return r
}

// count adds what a worker counted.
func (h *worker) count(r *Report) {
	r.Files += h.files
	r.Folders += h.folders
	r.Links += h.links
	r.ReadableFiles += h.readable
	r.ListableFolders += h.listable
	r.WritableFolders += h.writable
	r.Failing += h.failing
	r.ACLs += h.acls
	r.First = append(r.First, h.first...)
}

// joinGroups joins a worker's problems with those of the same cause.
func (h *worker) joinGroups(groups map[groupKey]*Obstacle) {
	for k, pr := range h.groups {
		have, ok := groups[k]
		switch {
		case !ok:
			groups[k] = pr
		case have.Path == "": // only counted behind it
			pr.Count += have.Count
			pr.Folders += have.Folders
			groups[k] = pr
		case pr.Path == "":
			have.Count += pr.Count
			have.Folders += pr.Folders
		default:
			join(have, *pr)
		}
	}
}

// joinExposed adds what a worker found open to more than the account.
func (h *worker) joinExposed(exposed map[Exposure]*Exposure) {
	for k, e := range h.exposed {
		if have, ok := exposed[k]; ok {
			have.Count += e.Count
			have.Path = min(have.Path, e.Path)
		} else {
			exposed[k] = e
		}
	}
}

// join adds the folders that another worker looked at.
func (l *Later) join(o Later) {
	l.Folders += o.Folders
	l.Readable += o.Readable
	l.Inherits += o.Inherits
	if o.Path != "" && (l.Path == "" || o.Path < l.Path) {
		l.Path = o.Path
	}
}

// Summary is the report in one line.
func (r Report) Summary(write bool) string {
	s := fmt.Sprintf("%d of %d files readable, %d of %d folders listable", r.ReadableFiles, r.Files, r.ListableFolders,
		r.Folders)
	if write {
		s += fmt.Sprintf(", %d writable", r.WritableFolders)
	}
	return s
}
