package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/mend"
	"cozyshelf/internal/problem"
)

// mending is what is to be done about one folder of a shelf.
type mending struct {
	folder   accessFolder
	need     permit.Need
	remedies []permit.Remedy // that change files, in this order
	joins    []permit.Remedy // that let the account into groups
	plan     mend.Plan
	written  *os.File // the plan, in a temporary file until it is agreed to
}

// mended is the outcome of mending, as a document.
type mended struct {
	Entry    int      `json:"entry"`
	Shelf    string   `json:"shelf"`
	Host     string   `json:"host"`
	Remedies []string `json:"remedies"`
	Done     int      `json:"done"`
	Already  int      `json:"already"`
	Odd      int      `json:"odd"`
}

// mend mends folders: with the remedies of these ids, or with the least that
// mends all that can be mended.
func (a *accessing) mend(h *household.Household, engine facts.Engine) error {
	folders, ids := a.report.Folders, a.remedies
	if err := a.cutOff(h, a.yes); err != nil {
		return err
	}
	var todo []*mending
	defer func() {
		for _, m := range todo {
			if m.written != nil {
				m.written.Close()
			}
		}
	}()
	used := map[string]bool{}
	for i, f := range folders {
		m := &mending{folder: f, need: a.needs[i]}
		if err := m.choose(engine.Identity(a.account), machine.Who(a.account), ids, used); err != nil {
			return err
		}
		if len(m.remedies)+len(m.joins) > 0 {
			todo = append(todo, m)
		}
	}
	for _, id := range ids {
		if err := a.offered(h, id, used, folders); err != nil {
			return err
		}
	}
	if len(todo) == 0 {
		if a.json {
			return a.document([]mended{})
		}
		a.out.Printf("\n%s\n", nothingToMend(folders))
		return nil
	}
	for _, m := range todo {
		if err := m.write(); err != nil {
			return &problem.Problem{What: "the plan could not be made", Where: m.folder.Host, Why: err.Error(),
				Fix: "nothing was touched; try again, as root where the files are not yours", Err: err}
		}
		a.showMending(m)
		if m.plan.Foreign > 0 && os.Getuid() != 0 {
			return &problem.Problem{What: "you may not do that", Where: m.folder.Host,
				Why: show.Count(m.plan.Foreign, "path belongs", "paths belong") +
					" to others, and only root changes what belongs to others; nothing was touched",
				Fix: "run it as root"}
		}
	}
	if err := a.agree(a.yes, "Carry this out?"); err != nil {
		return err
	}
	done := []mended{}
	for _, m := range todo {
		for _, j := range m.joins {
			if err := a.join(h, engine, a.account, j, m.folder.Shelf); err != nil {
				return err
			}
		}
		if m.plan.Steps() == 0 {
			continue
		}
		one, err := a.carryMend(h, engine, a.account, m)
		done = append(done, one)
		if err != nil {
			return err
		}
	}
	if a.json {
		return a.document(done)
	}
	return nil
}

// offered refuses the name of a remedy that is none, or that would mend nothing here though
// something is to be mended.
func (a *app) offered(h *household.Household, id string, used map[string]bool, folders []accessFolder) error {
	needed := slices.ContainsFunc(folders, func(f accessFolder) bool { return len(f.Problems) > 0 })
	switch {
	case used[id] || permit.IsID(id) && !needed:
		return nil
	case permit.IsID(id):
		return &problem.Problem{What: fmt.Sprintf("%q mends nothing here", id), Where: a.household,
			Why: "remedies follow from what stands in the way, and some are only for your own hands",
			Fix: "cozyshelf access shows those there are", Exit: problem.ExitUsage}
	}
	var known []string
	for _, s := range h.Shelves {
		known = append(known, s.Name)
	}
	for _, k := range permit.Kinds {
		known = append(known, string(k))
	}
	p := &problem.Problem{What: fmt.Sprintf("%q is neither a shelf nor a remedy", id), Where: a.household,
		Why: "no shelf and no remedy has that name", Fix: "cozyshelf access shows shelves and remedies",
		Exit: problem.ExitUsage}
	if near := household.Nearest(id, known); near != "" {
		p.Fix = "did you mean " + near + "? " + p.Fix
	}
	return p
}

// nothingToMend says so of the folders that were looked at.
func nothingToMend(folders []accessFolder) string {
	var names []string
	for _, f := range folders {
		if !slices.Contains(names, f.Shelf) {
			names = append(names, f.Shelf)
		}
	}
	if len(names) == 0 {
		return "There is nothing to mend."
	}
	return "Nothing on " + strings.Join(names, ", ") + " needs mending."
}

// choose chooses the remedies for a folder.
func (m *mending) choose(id permit.Identity, who permit.Who, ids []string, used map[string]bool) error {
	var list []permit.Remedy
	if len(ids) > 0 {
		for _, r := range m.folder.Remedies {
			if slices.Contains(ids, r.ID) && !r.ByHand {
				used[r.ID] = true
				list = append(list, r)
			}
		}
	} else {
		var err error
		if list, _, err = machine.Enough(m.folder.report, id, who, m.need); err != nil {
			return &problem.Problem{What: "the folder cannot be looked at", Where: m.folder.Host, Why: err.Error(),
				Fix: "see to the disk or the network behind it", Err: err}
		}
	}
	for _, r := range list {
		if r.Kind == permit.Join {
			m.joins = append(m.joins, r)
		} else {
			m.remedies = append(m.remedies, r)
		}
	}
	return nil
}

// write writes the plan into a temporary file: nothing is kept before it is
// agreed to.
func (m *mending) write() error {
	if len(m.remedies) == 0 {
		return nil
	}
	f, err := os.CreateTemp("", "cozyshelf-plan-*")
	if err != nil {
		return err
	}
	m.written = f
	// It is of no use to anybody else, and is gone with this program however that ends.
	if err := os.Remove(f.Name()); err != nil {
		return err
	}
	m.plan, err = mend.Write(f, &machine.Tree{}, m.remedies)
	return err
}

func (a *app) showMending(m *mending) {
	a.err.Printf("\n%s %s\n", show.Bold(m.folder.Shelf), show.Faint(show.Clean(m.folder.Host)))
	for _, r := range append(slices.Clone(m.joins), m.remedies...) {
		a.err.Printf("  • %s: %s\n", show.Bold(r.ID), show.Clean(r.What))
		a.err.Printf("    who gains: %s\n", r.WhoGains)
	}
	if m.plan.Steps() > 0 {
		a.err.Printf("  in all %s and %s change; what they were is kept in the ledger\n",
			show.Count(m.plan.Files, "file", "files"), show.Count(m.plan.Folders, "folder", "folders"))
	}
	if m.plan.Linked > 0 {
		a.err.Printf("  %s of the files have further names elsewhere (hard links), which change with them\n",
			show.Count(m.plan.Linked, "one", "of them"))
	}
}

// ready makes the state folder where the ledger is kept, if it is not there yet,
// as a deployment would.
func (a *app) ready(h *household.Household, owner permit.Identity) error {
	state := h.Storage.State
	if _, err := os.Stat(state); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	var to *atomicfile.Owner
	if os.Getuid() == 0 {
		to = &atomicfile.Owner{UID: int(owner.UID), GID: int(owner.Groups[0])}
	}
	if err := deploy.MakeFolder(state, to); err != nil {
		return &problem.Problem{What: "the state folder, where the ledger is kept, could not be made", Where: state,
			Why: err.Error(), Fix: "make it, or run this as root; nothing was touched", Err: err}
	}
	a.err.Printf("Made the state folder %s, where the ledger is kept\n", state)
	return nil
}

// carryMend carries one plan out, with its entry in the ledger.
func (a *app) carryMend(h *household.Household, engine facts.Engine, account facts.Account, m *mending) (mended,
	error) {
	out := mended{Shelf: m.folder.Shelf, Host: m.folder.Host}
	for _, r := range m.remedies {
		out.Remedies = append(out.Remedies, r.ID)
	}
	fail := func(err error) (mended, error) {
		return out, &problem.Problem{What: "the ledger could not be written, so nothing was touched",
			Where: h.Storage.State, Why: err.Error(), Fix: "run this as root, or as the run-as account", Err: err}
	}
	if err := a.ready(h, engine.Identity(account)); err != nil {
		return out, err
	}
	kept, err := ledger.Keep(h.Storage.State, "access")
	if err != nil {
		return fail(err)
	}
	defer kept.Close()
	if _, err = m.written.Seek(0, io.SeekStart); err == nil {
		if _, err = io.Copy(kept, m.written); err == nil {
			err = kept.Sync()
		}
	}
	if err != nil {
		return fail(err)
	}
	out.Entry, err = ledger.Begin(h.Storage.State, ledger.Entry{
		At: time.Now(), Who: who(), Command: "access --mend", Action: "mend",
		What: fmt.Sprintf("%s on %s: %s, %s", strings.Join(out.Remedies, ", "), m.folder.Host,
			show.Count(m.plan.Files, "file", "files"), show.Count(m.plan.Folders, "folder", "folders")),
		Why: fmt.Sprintf("for %d:%d to %s shelf %s", account.UID, account.GID, m.folder.Need, m.folder.Shelf),
		Undo: &ledger.Undo{Kind: undoAccess, Path: m.folder.Host, Kept: filepath.Base(kept.Name()),
			Data: fmt.Sprint(m.plan.Steps())},
	})
	if err != nil {
		return fail(err)
	}
	o, err := a.steps(h, out.Entry, kept, mend.Carrier{}, m.plan.Steps())
	out.Done, out.Already, out.Odd = o.Done, o.Already, o.Odds
	if err == nil {
		a.err.Printf("Entry %d: %s mended; cozyshelf undo %d takes it back\n", out.Entry,
			show.Count(o.Done, "path", "paths"), out.Entry)
	}
	return out, err
}

// steps takes the steps of a plan and ends its entry in the ledger. One that
// fails half-way stays open, to be finished or undone.
func (a *app) steps(h *household.Household, entry int, plan io.ReadSeeker, c mend.Carrier, total int) (mend.Outcome,
	error) {
	lock, err := a.lockMending(h)
	if err != nil {
		return mend.Outcome{}, err
	}
	defer lock.Close()
	if _, err := plan.Seek(0, io.SeekStart); err != nil {
		return mend.Outcome{}, err
	}
	progress := a.err.Progress("mending", total)
	c.Progress = progress.At
	o, err := c.Carry(plan)
	progress.End()
	a.showOdd(o)
	if err != nil {
		p := &problem.Problem{What: fmt.Sprintf("it stopped after %s", show.Count(o.Done+o.Already, "path", "paths")),
			Where: h.Storage.State, Why: err.Error(),
			Fix: fmt.Sprintf("mend the cause; then cozyshelf access --mend finishes it, or cozyshelf undo %d takes "+
				"back what was done", entry), Err: err}
		var pe *os.PathError
		if errors.As(err, &pe) {
			p.Where, p.Why = pe.Path, pe.Op+": "+pe.Err.Error()
			if errors.Is(err, os.ErrPermission) {
				p.Fix = "run it as root, or as the owner; " + p.Fix
			}
		}
		return o, p
	}
	if err := ledger.End(h.Storage.State, entry, "done"); err != nil {
		return o, &problem.Problem{What: "it is done, but the ledger could not be written", Where: h.Storage.State,
			Why: err.Error(), Fix: "free some space, and run cozyshelf access --mend once more", Err: err}
	}
	return o, nil
}

func (a *app) showOdd(o mend.Outcome) {
	for _, x := range o.Odd {
		a.err.Printf("  left alone: %s: %s\n", show.Clean(x.Path), x.Why)
	}
	if more := o.Odds - len(o.Odd); more > 0 {
		a.err.Printf("  and %s more\n", show.Count(more, "path", "paths"))
	}
}

// lockMending lets one mend of a household run at a time. Closing it lets go.
func (a *app) lockMending(h *household.Household) (io.Closer, error) {
	f, err := ledger.OpenFolder(h.Storage.State)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(f.Fd(), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, &problem.Problem{What: "another mend or undo of this household is running", Where: h.Storage.State,
			Why: "two at once would undo each other", Fix: "wait for it to end, and try again"}
	}
	return f, nil
}

// cutOff finishes mends that were cut off, if that is agreed to.
func (a *app) cutOff(h *household.Household, yes bool) error {
	list, _, err := ledger.Read(h.Storage.State)
	if err != nil {
		return &problem.Problem{What: "the ledger cannot be read", Where: h.Storage.State, Why: err.Error(),
			Fix: "run as root or as the run-as account", Err: err}
	}
	for _, e := range list {
		if e.Outcome != ledger.Open || e.Undo == nil || e.Undo.Kind != undoAccess {
			continue
		}
		if slices.ContainsFunc(list, func(o ledger.Entry) bool { return o.Undoes == e.ID }) {
			continue // taken back already, or begun to be
		}
		a.err.Printf("Entry %d was cut off: %s\n", e.ID, show.Clean(e.What))
		if err := a.agree(yes, fmt.Sprintf("Finish it now? (no leaves it; cozyshelf undo %d takes it back)",
			e.ID)); err != nil {
			return err
		}
		kept, err := ledger.OpenKept(h.Storage.State, e.Undo.Kept)
		if err != nil {
			return &problem.Problem{What: "what is needed to finish it cannot be read", Where: h.Storage.State,
				Why: err.Error(), Fix: "run as the account that began it", Err: err}
		}
		total := 0
		fmt.Sscan(e.Undo.Data, &total)
		o, err := a.steps(h, e.ID, kept, mend.Carrier{Back: backwards(h, e)}, total)
		kept.Close()
		if err != nil {
			return err
		}
		a.err.Printf("Entry %d: finished; %s were left to do\n", e.ID, show.Count(o.Done, "path", "paths"))
	}
	return nil
}

// join lets the account into a group: on this machine where it has a name here,
// else in the household file.
func (a *app) join(h *household.Household, engine facts.Engine, account facts.Account, m permit.Remedy,
	shelf string) error {
	if err := a.ready(h, engine.Identity(account)); err != nil {
		return err
	}
	group := fmt.Sprint(m.Subject)
	if account.Name == "" || machine.GroupName(m.Subject) == "" {
		return a.addGroup(h, m.Subject, "access --mend", "it owns what shelf "+shelf+" holds")
	}
	id, err := ledger.Begin(h.Storage.State,
		ledger.Entry{At: time.Now(), Who: who(), Command: "access --mend", Action: "join-group",
			What: fmt.Sprintf("add %s to group %s", account.Name, group), Why: "it owns what shelf " + shelf + " holds",
			Undo: &ledger.Undo{Kind: undoGroup, Path: account.Name, Data: group}})
	if err != nil {
		return err
	}
	if err := machine.JoinGroup(account.Name, m.Subject); err != nil {
		_ = ledger.End(h.Storage.State, id, err.Error()) // the error below tells
		return &problem.Problem{What: fmt.Sprintf("%s could not be added to group %s", account.Name, group),
			Why: err.Error(), Fix: "add it with this machine's own tools, as root; or take another remedy", Err: err}
	}
	a.err.Printf("Entry %d: %s is in group %s now; cozyshelf deploy lets the server know\n", id, account.Name, group)
	return ledger.End(h.Storage.State, id, "done")
}
