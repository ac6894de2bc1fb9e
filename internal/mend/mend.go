// Package mend carries remedies out on files and folders, and takes them back.
// First the whole plan is written down: each path with its former owner, mode
// and ACLs and those it is to have. Only then is anything touched. So a mend that
// was cut off can be finished, or undone, from what is written; and what somebody
// changed since is noticed, since each path must be found in one of the two
// states.
package mend

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strconv"
	"unicode/utf8"

	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/crashpoint"
	"cozyshelf/internal/machine"
)

// Step is one path of a plan.
type Step struct {
	Path   string
	Folder bool
	Inode  uint64
	Was    permit.State
	Now    permit.State
}

// stepLine is a step as it is written.
type stepLine struct {
	Path   string    `json:"path,omitempty"`
	Raw    string    `json:"raw,omitempty"` // base64 of a path that is not valid UTF-8
	Folder bool      `json:"folder,omitempty"`
	Inode  uint64    `json:"inode"`
	Was    stateLine `json:"was"`
	Now    stateLine `json:"now"`
	// The last line has only this: how many steps stand before it.
	Steps *int `json:"steps,omitempty"`
}

type stateLine struct {
	Mode    string `json:"mode"` // octal
	UID     uint32 `json:"uid"`
	GID     uint32 `json:"gid"`
	ACL     []byte `json:"acl,omitempty"` // as the kernel has it (linux/posix_acl_xattr.h)
	Default []byte `json:"default,omitempty"`
	Fixed   string `json:"flag,omitempty"`
}

func writeState(s permit.State) stateLine {
	return stateLine{fmt.Sprintf("%04o", s.Mode), s.UID, s.GID, permit.FormatACL(s.ACL), permit.FormatACL(s.Default),
		s.Fixed}
}

func (l stateLine) state() (permit.State, error) {
	mode, err := strconv.ParseUint(l.Mode, 8, 12)
	acl, aerr := permit.ParseACL(l.ACL)
	def, derr := permit.ParseACL(l.Default)
	return permit.State{Mode: uint16(mode), UID: l.UID, GID: l.GID, ACL: acl, Default: def, Fixed: l.Fixed},
		errors.Join(err, aerr, derr)
}

// Plan is how much is to be done. Linked is how many of the files have further
// names, which change with them; Foreign how many paths belong to others than
// whoever made the plan, so that only root may change them.
type Plan struct{ Files, Folders, Linked, Foreign int }

// Steps is how many steps it has.
func (p Plan) Steps() int { return p.Files + p.Folders }

// Write writes the plan of remedies, one after the other on the same files, and
// syncs it. Nothing else is touched. Paths that stay as they are have no step.
func Write(to *os.File, tree permit.Tree, remedies []permit.Remedy) (Plan, error) {
	w := bufio.NewWriterSize(to, 64<<10)
	enc := json.NewEncoder(w)
	p := &planner{tree: tree, remedies: remedies, write: enc.Encode}
	var roots []permit.Target
	for _, m := range remedies {
		roots = append(roots, m.Targets...)
	}
	for i, t := range roots {
		inside := false
		for j, o := range roots {
			inside = inside || j != i && (o.Deep && permit.Below(t.Path, o.Path) && o.Path != t.Path ||
				o.Path == t.Path && (o.Deep && !t.Deep || o.Deep == t.Deep && j < i))
		}
		if inside {
			continue
		}
		it, err := tree.Item(t.Path)
		if err != nil {
			return p.plan, err
		}
		if err := p.item(t.Path, it, t.Deep); err != nil {
			return p.plan, err
		}
	}
	n := p.plan.Steps()
	if err := enc.Encode(struct {
		Steps int `json:"steps"`
	}{n}); err != nil {
		return p.plan, err
	}
	return p.plan, errors.Join(w.Flush(), to.Sync())
}

type planner struct {
	tree     permit.Tree
	remedies []permit.Remedy
	write    func(any) error
	plan     Plan
}

func (p *planner) item(at string, it permit.Item, deep bool) error {
	if it.Err != nil {
		return &os.PathError{Op: "look at", Path: at, Err: it.Err}
	}
	if it.Link || it.Other {
		return nil
	}
	was := it.State()
	now := was
	for _, m := range p.remedies {
		if t, ok := m.Target(at); ok {
			now = m.Apply(now, it.Folder, t)
		}
	}
	if !was.Same(now) {
		l := stepLine{Path: at, Folder: it.Folder, Inode: it.Inode, Was: writeState(was), Now: writeState(now)}
		if !utf8.ValidString(at) {
			l.Path, l.Raw = "", base64.StdEncoding.EncodeToString([]byte(at))
		}
		if err := p.write(l); err != nil {
			return err
		}
		if int(was.UID) != os.Getuid() {
			p.plan.Foreign++
		}
		if it.Folder {
			p.plan.Folders++
		} else {
			p.plan.Files++
			if it.Links > 1 {
				p.plan.Linked++
			}
		}
	}
	if !it.Folder || !deep {
		return nil
	}
	var below error
	err := p.tree.Items(at, func(sub permit.Item) {
		if below == nil {
			below = p.item(path.Join(at, sub.Name), sub, true)
		}
	})
	if errors.Is(err, fs.ErrNotExist) {
		err = nil // it vanished meanwhile
	}
	return errors.Join(below, err)
}

// ErrCut says that a plan has no end: it was never carried out, not even begun.
var ErrCut = errors.New("the plan was not written to its end, so nothing of it was done")

// Read reads a plan, calling do for each step in turn.
func Read(from io.Reader, do func(Step) error) error {
	dec := json.NewDecoder(from)
	for n := 0; ; n++ {
		var l stepLine
		if err := dec.Decode(&l); errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return ErrCut
		} else if err != nil {
			return fmt.Errorf("step %d of the plan cannot be read: %w", n+1, err)
		}
		if l.Steps != nil {
			if *l.Steps != n {
				return fmt.Errorf("the plan has %d steps and says %d", n, *l.Steps)
			}
			return nil
		}
		s := Step{Path: l.Path, Folder: l.Folder, Inode: l.Inode}
		var err, werr, nerr error
		if l.Raw != "" {
			var b []byte
			b, err = base64.StdEncoding.DecodeString(l.Raw)
			s.Path = string(b)
		}
		s.Was, werr = l.Was.state()
		s.Now, nerr = l.Now.state()
		if err := errors.Join(err, werr, nerr); err != nil {
			return fmt.Errorf("step %d of the plan cannot be read: %w", n+1, err)
		}
		if err := do(s); err != nil {
			return err
		}
	}
}

// Odd is a path that was found in neither of its two states.
type Odd struct {
	Path string
	Why  string
}

// Outcome is what came of a plan.
type Outcome struct {
	Done    int   // steps taken now
	Already int   // paths that were as wanted
	Odd     []Odd // the first of those changed since, or gone; left alone
	Odds    int   // how many there are
}

// maxOdd is how many odd paths an outcome names.
const maxOdd = 20

// Carrier carries plans out.
type Carrier struct {
	Back bool // from the states that are to be, to the former ones
	Dry  bool // only look
	// Before, unless nil, may refuse a step: it is where tests let steps fail.
	Before func(n int, path string) error
	// Told, unless nil, hears of each step once it is taken.
	Progress func(n int)
}

// Carry takes the steps of a plan. What is in the wanted state already is passed
// over, so that a plan that was cut off can be carried out again. What is in
// neither state was changed by somebody since, and is left alone.
func (c Carrier) Carry(plan io.ReadSeeker) (Outcome, error) {
	var out Outcome
	// Whole, before anything is touched.
	if err := Read(plan, func(Step) error { return nil }); err != nil {
		return out, err
	}
	if _, err := plan.Seek(0, io.SeekStart); err != nil {
		return out, err
	}
	n := 0
	err := Read(plan, func(s Step) error {
		if c.Before != nil {
			if err := c.Before(n, s.Path); err != nil {
				return err
			}
		}
		n++
		do := func() error { return c.step(s, &out) }
		if !c.Dry {
			do = func() error { return crashpoint.Step(func() error { return c.step(s, &out) }) }
		}
		if err := do(); err != nil {
			return err
		}
		if c.Progress != nil {
			c.Progress(n)
		}
		return nil
	})
	return out, err
}

func (c Carrier) step(s Step, out *Outcome) error {
	odd := func(why string) error {
		out.Odds++
		if len(out.Odd) < maxOdd {
			out.Odd = append(out.Odd, Odd{s.Path, why})
		}
		return nil
	}
	from, to := s.Was, s.Now
	if c.Back {
		from, to = to, from
	}
	h, err := machine.Hold(s.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return odd("it is gone")
	case err != nil:
		return odd(err.Error())
	}
	defer h.Close()
	is, err := h.State()
	if err != nil {
		return err
	}
	switch {
	case h.Inode != s.Inode || h.Folder != s.Folder:
		return odd("another one stands in its place")
	case is.Same(to):
		out.Already++
		return nil
	case !is.Same(from):
		// A step that was cut off in its middle lies between the two.
		if !between(is, from, to) {
			return odd("somebody changed it since: " + Describe(is) + " instead of " + Describe(from))
		}
	}
	if !c.Dry {
		if err := h.Set(is, to); err != nil {
			return err
		}
	}
	out.Done++
	return nil
}

// between reports whether every part of a state is that of one or the other, or
// the mode one that the way between them leads through.
func between(is, a, b permit.State) bool {
	part := func(is, a, b any) bool { return is == a || is == b }
	same := func(x, y []permit.Entry) bool { return string(permit.FormatACL(x)) == string(permit.FormatACL(y)) }
	if !part(is.UID, a.UID, b.UID) || !part(is.GID, a.GID, b.GID) || !part(is.Fixed, a.Fixed, b.Fixed) ||
		!(same(is.ACL, a.ACL) || same(is.ACL, b.ACL)) || !(same(is.Default, a.Default) || same(is.Default, b.Default)) {
		return false
	}
	// Nothing was begun unless something else differs from where it began, or the
	// mode is one of the two.
	return part(is.Mode, a.Mode, b.Mode) || !same(is.ACL, a.ACL) || !same(is.Default, a.Default) || is.GID != a.GID ||
		is.Fixed != a.Fixed
}

// Describe writes a state for people.
func Describe(s permit.State) string {
	t := fmt.Sprintf("mode %04o, owner %d, group %d", s.Mode, s.UID, s.GID)
	if len(s.ACL) > 0 {
		t += ", with an ACL"
	}
	if len(s.Default) > 0 {
		t += ", with a default ACL"
	}
	if s.Fixed != "" {
		t += ", " + s.Fixed
	}
	return t
}
