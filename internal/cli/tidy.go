package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/permit"
	"cozyshelf/internal/core/tidy"
	"cozyshelf/internal/intake"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/rename"

	"github.com/spf13/cobra"
)

// undoTidy is the kind of an entry that renamed files: its steps are kept.
const undoTidy = "tidy"

// tidied is the plan for one folder of a shelf, as a document.
type tidied struct {
	Shelf  string `json:"shelf"`
	Folder string `json:"folder"`
	tidy.Plan
	Watched []string `json:"watched"`         // files that somebody watches now: they are left
	Entry   int      `json:"entry,omitempty"` // of the ledger, once it is done
	Done    int      `json:"done"`            // files renamed
	Odd     []string `json:"odd"`             // what was left alone, and why
	kind    household.Kind
}

func (a *app) tidyCommand() *cobra.Command {
	var w tidying
	c := a.withJSON(&cobra.Command{
		Use: "tidy [SHELF]", Short: "Names on disk: shows what should be renamed and why, and does it",
		Long: `Reads the names of the files on a shelf, or on all, and shows what would be renamed or
moved, why, and how sure that is. Subtitles, pictures and all else that goes with a file
goes along. Nothing is ever written over or copied, and no byte of a file changes; that is
proven after each. What it did is one entry of the ledger, and undo puts every name back.

Names it is not sure of are shown, and changed only when they are picked.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			h, err := a.loadLocked(c.Context())
			if err != nil {
				return err
			}
			return a.tidy(c, h, strings.Join(args, ""), w)
		},
	})
	f := c.Flags()
	f.StringVar(&w.scheme, "scheme", string(tidy.AsItIs),
		"as-it-is (films that lie in no folder stay so), folders, or flat")
	f.StringVar(&w.pick, "pick", "", "only these, by their numbers: 1,4-6")
	f.BoolVar(&w.all, "all", false, "also those that are not sure")
	f.BoolVar(&w.sums, "hash", false, "prove by SHA-256, too, that no content changed: reads every file twice")
	f.BoolVar(&w.dry, "dry-run", false, "only show")
	f.BoolVar(&w.yes, "yes", false, "do not ask")
	return c
}

// tidying is what is asked of tidy.
type tidying struct {
	scheme, pick        string
	yes, all, sums, dry bool
}

// tidy shows what would be renamed on one shelf, or on all where no name is given, and does it.
func (a *app) tidy(c *cobra.Command, h *household.Household, name string, w tidying) error {
	if !slices.Contains(tidy.Schemes, tidy.Scheme(w.scheme)) {
		return wrongUse(c, fmt.Sprintf("there is no scheme %q; there are as-it-is, folders and flat", w.scheme))
	}
	picked, err := numbers(w.pick)
	if err != nil {
		return wrongUse(c, err.Error())
	}
	i := slices.IndexFunc(h.Shelves, func(s household.Shelf) bool { return s.Name == name })
	if name != "" && i < 0 {
		return noSuchShelf(h, name)
	}
	if err := a.finishTidying(h, w.yes); err != nil {
		return err
	}
	plans, n, err := a.planAll(c.Context(), h, name, tidy.Scheme(w.scheme))
	if err != nil {
		return err
	}
	if len(picked) > 0 && slices.Max(picked) > n {
		return wrongUse(c, fmt.Sprintf("there is no number %d; there are %d", slices.Max(picked), n))
	}
	a.showTidy(plans)
	files := keepMoves(plans, picked, w.all)
	if w.dry || files == 0 {
		if a.json {
			return a.document(plans)
		}
		return nil
	}
	if err := a.agree(w.yes, fmt.Sprintf("Rename %s?", show.Count(files, "file", "files"))); err != nil {
		if a.json {
			return errors.Join(a.document(plans), err)
		}
		return err
	}
	for _, p := range plans {
		if len(p.Moves) == 0 {
			continue
		}
		if err := a.carryTidy(h, p, w.sums); err != nil {
			return err
		}
	}
	a.rescan(c.Context(), h, plans)
	if a.json {
		return a.document(plans)
	}
	if slices.ContainsFunc(plans, func(p *tidied) bool { return len(p.Odd) > 0 }) {
		return &exit{problem.ExitFound}
	}
	return nil
}

// planAll plans the folders of one shelf, or of all where no name is given. The moves are
// numbered through, from 1 to n.
func (a *app) planAll(ctx context.Context, h *household.Household, name string, scheme tidy.Scheme) (plans []*tidied,
	n int, err error) {
	watched := a.watched(ctx)
	plans = []*tidied{}
	for _, s := range h.Shelves {
		if name != "" && s.Name != name {
			continue
		}
		for _, folder := range s.Folders {
			p, err := a.planTidy(s, folder, scheme, watched)
			if err != nil {
				return nil, 0, err
			}
			if p == nil {
				continue
			}
			for i := range p.Moves {
				n++
				p.Moves[i].N = n
			}
			plans = append(plans, p)
		}
	}
	return plans, n, nil
}

// keepMoves leaves the moves that are picked, or, where none is, those that are sure (with all:
// every one). It gives how many files they rename.
func keepMoves(plans []*tidied, picked []int, all bool) (files int) {
	for _, p := range plans {
		p.Moves = slices.DeleteFunc(p.Moves, func(m tidy.Move) bool {
			if len(picked) > 0 {
				return !slices.Contains(picked, m.N)
			}
			return !all && m.Confidence < tidy.Sure
		})
		for _, m := range p.Moves {
			files += 1 + len(m.With)
		}
	}
	return files
}

// noSuchShelf says that the household file has no such shelf.
func noSuchShelf(h *household.Household, name string) error {
	var known []string
	for _, s := range h.Shelves {
		known = append(known, s.Name)
	}
	return &problem.Problem{What: fmt.Sprintf("there is no shelf %q", name), Why: "the household has: " +
		strings.Join(known, ", "), Fix: "see cozyshelf shelf list", Exit: problem.ExitUsage}
}

// numbers reads 1,4-6.
func numbers(s string) ([]int, error) {
	var out []int
	for _, part := range strings.FieldsFunc(s, func(r rune) bool { return r == ',' || r == ' ' }) {
		from, to, ranged := strings.Cut(part, "-")
		a, err := strconv.Atoi(from)
		b := a
		if err == nil && ranged {
			b, err = strconv.Atoi(to)
		}
		if err != nil || a < 1 || b < a || b-a > 100000 {
			return nil, fmt.Errorf("%q is no number, and no range of numbers such as 4-6", part)
		}
		for n := a; n <= b; n++ {
			out = append(out, n)
		}
	}
	return out, nil
}

// watched gives the files that somebody watches now, by their paths on the host.
func (a *app) watched(ctx context.Context) map[string]string {
	s, err := a.open(ctx)
	if err != nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	list, err := s.Client().Watched(ctx)
	if err != nil {
		if o, oerr := s.Engine.Observe(ctx, s.ID); oerr == nil {
			if _, runs := o.Running(); runs {
				warning(a.err, 0, "the server does not say who watches what: %v", err)
			}
		}
		return nil
	}
	out := map[string]string{}
	for _, w := range list {
		out[path.Join(w.Root, w.Path)] = w.Member
	}
	return out
}

// planTidy works out the plan for a folder; nil where it is none of this machine.
func (a *app) planTidy(s household.Shelf, folder string, scheme tidy.Scheme, watched map[string]string) (*tidied,
	error) {
	p := &tidied{Shelf: s.Name, Folder: folder, Watched: []string{}, Odd: []string{}, kind: s.Kind}
	if household.IsShare(folder) {
		warning(a.err, 0, "%s is a share that the engine mounts; tidy it where it lies", folder)
		return nil, nil
	}
	if why := machine.Presence(folder, 10*time.Second); why != "" {
		warning(a.err, 0, "%s is unplugged: %s", folder, why)
		return nil, nil
	}
	var files []string
	err := filepath.WalkDir(folder, func(at string, d fs.DirEntry, err error) error {
		switch {
		case err != nil && at == folder:
			return err
		case err != nil:
			warning(a.err, 0, "%s is passed over: %v", at, err)
			return nil
		case at != folder && strings.HasPrefix(d.Name(), "."):
			if d.IsDir() {
				return filepath.SkipDir
			}
		case d.Type().IsRegular():
			rel, err := filepath.Rel(folder, at)
			if err != nil {
				return err
			}
			files = append(files, filepath.ToSlash(rel))
		}
		return nil
	})
	if err != nil {
		return nil, &problem.Problem{What: "the folder cannot be looked at", Where: folder, Why: err.Error(),
			Fix: "run it as root, or as the owner", Err: err}
	}
	p.Plan = tidy.Draw(s.Kind, scheme, files)
	p.Moves = slices.DeleteFunc(p.Moves, func(m tidy.Move) bool {
		for _, f := range append([]tidy.Pair{{From: m.From}}, m.With...) {
			if who := watched[path.Join(folder, f.From)]; who != "" {
				p.Watched = append(p.Watched, m.From)
				p.Left = append(p.Left, tidy.Left{Path: m.From, Why: who + " watches it now"})
				return true
			}
		}
		return false
	})
	return p, nil
}

// showTidy shows plans as a tree of how it would be, with what it is now beside.
func (a *app) showTidy(plans []*tidied) {
	out := a.out
	if a.json {
		out = a.err
	}
	for i, p := range plans {
		if i > 0 {
			out.Printf("\n")
		}
		unsure := 0
		for _, m := range p.Moves {
			if m.Confidence < tidy.Sure {
				unsure++
			}
		}
		out.Printf("%s %s\n", show.Bold(p.Shelf),
			show.Faint(fmt.Sprintf("%s · %s right, %s to rename, %d left as they are", show.Clean(p.Folder),
				show.Count(p.Fine, "name is", "names are"), show.Count(len(p.Moves), "file", "files"), len(p.Left))))
		a.treeOf(out, p.Moves, func(m tidy.Move) bool { return m.Confidence >= tidy.Sure })
		if unsure > 0 {
			out.Printf("  %s\n", show.Bold("not sure: only if picked, with --pick or --all"))
			a.treeOf(out, p.Moves, func(m tidy.Move) bool { return m.Confidence < tidy.Sure })
		}
		if len(p.Left) > 0 {
			out.Printf("  %s\n", show.Bold("left as they are"))
			for _, l := range p.Left {
				out.Printf("    %s\n        %s\n", show.Clean(l.Path), show.Faint(show.Clean(l.Why)))
			}
		}
	}
}

// treeOf shows some of the moves below their new folders.
func (a *app) treeOf(out show.Out, moves []tidy.Move, take func(tidy.Move) bool) {
	last := ""
	for _, m := range moves {
		if !take(m) {
			continue
		}
		dir, indent := path.Dir(m.To), "  "
		if dir != "." {
			indent = "    "
			if dir != last {
				out.Printf("  %s/\n", show.Clean(dir))
			}
		}
		last = dir
		out.Printf("%s%s %s\n", indent, show.Faint(fmt.Sprintf("%3d", m.N)), show.Clean(path.Base(m.To)))
		out.Printf("%s    %s %s\n", indent, show.Faint("was"), show.Clean(m.From))
		out.Printf("%s    %s\n", indent, show.Faint(fmt.Sprintf("%d %% sure: %s", int(math.Round(m.Confidence*100)),
			show.Clean(m.Why))))
		for _, w := range m.With {
			to := w.To
			if path.Dir(to) == dir {
				to = path.Base(to)
			}
			out.Printf("%s    %s %s %s\n", indent, show.Faint("with"), show.Clean(to),
				show.Faint("was "+show.Clean(path.Base(w.From))))
		}
	}
}

// readyForFiles makes the state folder for the ledger, for a command that needs no engine:
// it belongs to the run-as account where that is known and may be given to it.
func (a *app) readyForFiles(h *household.Household) error {
	owner := permit.Identity{UID: uint32(os.Getuid()), Groups: []uint32{uint32(os.Getgid())}}
	if account := machine.Account(h.Server); account.Known && os.Getuid() == 0 {
		owner = permit.Identity{UID: account.UID, Groups: []uint32{account.GID}}
	}
	return a.ready(h, owner)
}

// carryTidy renames the files of a plan, as one entry of the ledger.
func (a *app) carryTidy(h *household.Household, p *tidied, sums bool) error {
	fail := func(err error) error {
		return &problem.Problem{What: "nothing was renamed", Where: p.Folder, Why: err.Error(),
			Fix: "run it as root, or as who owns the files and the state folder; then try again", Err: err}
	}
	if err := a.readyForFiles(h); err != nil {
		return err
	}
	files := 0
	for _, m := range p.Moves {
		files += 1 + len(m.With)
	}
	var progress func(int)
	if sums {
		reading := a.err.Progress("reading", files)
		defer reading.End()
		progress = reading.At
	}
	steps, err := rename.Prepare(p.Folder, p.Moves, sums, progress)
	if err != nil {
		return fail(err)
	}
	kept, err := ledger.Keep(h.Storage.State, undoTidy)
	if err != nil {
		return fail(err)
	}
	defer kept.Close()
	if err := rename.Write(kept, steps); err != nil {
		return fail(err)
	}
	if err := kept.Sync(); err != nil {
		return fail(err)
	}
	p.Entry, err = ledger.Begin(h.Storage.State,
		ledger.Entry{At: time.Now(), Who: who(), Command: "tidy", Action: "rename",
			What: fmt.Sprintf("rename %s of shelf %s in %s", show.Count(files, "file", "files"), p.Shelf, p.Folder),
			Why:  "names as they should be",
			Undo: &ledger.Undo{Kind: undoTidy, Path: p.Folder, Kept: filepath.Base(kept.Name()),
				Data: fmt.Sprint(len(steps))}})
	if err != nil {
		return fail(err)
	}
	o, err := a.renameSteps(h, p.Entry, steps, rename.Carrier{Folder: p.Folder}, nil)
	p.Done = o.Done
	for _, x := range o.Odd {
		p.Odd = append(p.Odd, x.Path+": "+x.Why)
	}
	if err == nil {
		a.err.Printf("Entry %d: %s renamed on %s, the same bytes as before; cozyshelf undo %d puts every name back\n",
			p.Entry, show.Count(o.Done, "file", "files"), p.Shelf, p.Entry)
	}
	return err
}

// renameSteps takes steps and ends their entry in the ledger. then, unless nil, is done
// before that, so that it is done again where we are ended in between.
func (a *app) renameSteps(h *household.Household, entry int, steps []rename.Step, c rename.Carrier,
	then func() error) (rename.Outcome, error) {
	lock, err := a.lockMending(h)
	if err != nil {
		return rename.Outcome{}, err
	}
	defer lock.Close()
	progress := a.err.Progress("renaming", len(steps))
	c.Told = progress.At
	o, err := c.Carry(steps)
	progress.End()
	a.showOddNames(o)
	if err != nil {
		p := &problem.Problem{What: fmt.Sprintf("it stopped after %s", show.Count(o.Done+o.Already, "file", "files")),
			Where: c.Folder, Why: err.Error(),
			Fix: fmt.Sprintf("mend the cause; then cozyshelf tidy finishes it, or cozyshelf undo %d puts the "+
				"names back", entry), Err: err}
		var pe *os.PathError
		if errors.As(err, &pe) {
			p.Where, p.Why = pe.Path, pe.Op+": "+pe.Err.Error()
		}
		return o, p
	}
	if then != nil {
		if err := then(); err != nil {
			warning(a.err, 0, "the holding folder could not be brought up to date: %v", err)
		}
	}
	if err := ledger.End(h.Storage.State, entry, "done"); err != nil {
		return o, &problem.Problem{What: "it is done, but the ledger could not be written", Where: h.Storage.State,
			Why: err.Error(), Fix: "free some space, and run cozyshelf tidy once more", Err: err}
	}
	return o, nil
}

func (a *app) showOddNames(o rename.Outcome) {
	for i, x := range o.Odd {
		if i == 20 {
			a.err.Printf("  and %s more\n", show.Count(len(o.Odd)-i, "file", "files"))
			break
		}
		a.err.Printf("  left alone: %s: %s\n", show.Clean(x.Path), show.Clean(x.Why))
	}
}

// keptSteps reads the steps that an entry keeps.
func (a *app) keptSteps(h *household.Household, e ledger.Entry) ([]rename.Step, error) {
	unreadable := func(err error) error {
		return &problem.Problem{What: "the former names cannot be read", Where: h.Storage.State, Why: err.Error(),
			Fix: "run as root, or as the account that did it", Err: err}
	}
	kept, err := ledger.OpenKept(h.Storage.State, e.Undo.Kept)
	if err != nil {
		return nil, unreadable(err)
	}
	defer kept.Close()
	steps, err := rename.Read(kept)
	if err == nil && fmt.Sprint(len(steps)) != e.Undo.Data {
		err = fmt.Errorf("%d steps were kept, and %s are wanted", len(steps), e.Undo.Data)
	}
	if err != nil {
		return nil, unreadable(err)
	}
	return steps, nil
}

// finishTidying finishes renames that were cut off, if that is agreed to.
func (a *app) finishTidying(h *household.Household, yes bool) error {
	list, _, err := ledger.Read(h.Storage.State)
	if err != nil {
		return &problem.Problem{What: "the ledger cannot be read", Where: h.Storage.State, Why: err.Error(),
			Fix: "run as root or as the run-as account", Err: err}
	}
	for _, e := range list {
		if e.Outcome != ledger.Open || e.Undo == nil || e.Undo.Kind != undoTidy ||
			slices.ContainsFunc(list, func(o ledger.Entry) bool { return o.Undoes == e.ID }) {
			continue
		}
		a.err.Printf("Entry %d was cut off: %s\n", e.ID, show.Clean(e.What))
		if err := a.agree(yes, fmt.Sprintf("Finish it now? (no leaves it; cozyshelf undo %d puts the names back)",
			e.ID)); err != nil {
			return err
		}
		steps, err := a.keptSteps(h, e)
		if err != nil {
			return err
		}
		back := backwards(h, e)
		o, err := a.renameSteps(h, e.ID, steps, rename.Carrier{Folder: e.Undo.Path, Back: back},
			heldAfter(h, e.Undo.Path, steps, back))
		if err != nil {
			return err
		}
		a.err.Printf("Entry %d: finished; %s were left to do\n", e.ID, show.Count(o.Done, "file", "files"))
	}
	return nil
}

// heldAfter gives what brings the holding folder up to date after steps that put what came
// in on the shelf, or took it back.
func heldAfter(h *household.Household, folder string, steps []rename.Step, back bool) func() error {
	return func() error {
		if !back {
			return intake.PlacedAgain(folder, steps)
		}
		shelf := ""
		for _, s := range h.Shelves {
			if slices.Contains(s.Folders, folder) {
				shelf = s.Name
			}
		}
		return intake.TakenBack(folder, shelf, who(), steps)
	}
}

// undoUpload takes what a member uploaded back into the holding folder. The server wrote
// the entry, so nothing in it is believed: only a plain file below a folder of the
// household's shelves goes, into that folder's own holding folder.
func (a *app) undoUpload(ctx context.Context, h *household.Household, e ledger.Entry, yes bool) error {
	var u ledger.Uploaded
	ok := json.Unmarshal([]byte(e.Undo.Data), &u) == nil && fs.ValidPath(u.To) && u.To != "." &&
		!strings.HasPrefix(u.To, ".") &&
		u.Job != "" && filepath.Base(u.Job) == u.Job && filepath.Base(u.Held) == u.Held &&
		!strings.HasPrefix(u.Job, ".") && !strings.HasPrefix(u.Held, ".")
	ok = ok && slices.ContainsFunc(h.Shelves,
		func(s household.Shelf) bool { return slices.Contains(s.Folders, e.Undo.Path) })
	if !ok {
		return &problem.Problem{What: "this entry cannot be taken back", Where: h.Storage.State,
			Why: "it tells of no file of a shelf that the household has", Fix: "move the file by hand"}
	}
	steps := []rename.Step{{Op: rename.Move, From: path.Join(intake.Holding, u.Job, u.Held), To: u.To, Size: u.Size,
		MTime: u.MTime}}
	for d := path.Dir(u.To); d != "."; d = path.Dir(d) {
		if st, err := os.Lstat(filepath.Join(e.Undo.Path, d)); err == nil && st.IsDir() {
			sys := st.Sys().(*syscall.Stat_t)
			steps = append([]rename.Step{{Op: rename.MakeDir, From: d, Mode: sys.Mode & 0o7777, UID: sys.Uid,
				GID: sys.Gid}}, steps...)
		}
	}
	if st, err := os.Stat(e.Undo.Path); err == nil {
		sys := st.Sys().(*syscall.Stat_t)
		for _, d := range []string{path.Join(intake.Holding, u.Job), intake.Holding} {
			steps = append(steps, rename.Step{Op: rename.LeaveDir, From: d, Mode: 0o700, UID: sys.Uid, GID: sys.Gid})
		}
	}
	kept, err := ledger.Keep(h.Storage.State, undoTidy)
	if err != nil {
		return &problem.Problem{What: "nothing was touched", Where: h.Storage.State, Why: err.Error(),
			Fix: "run it as root", Err: err}
	}
	defer kept.Close()
	if err := errors.Join(rename.Write(kept, steps), kept.Sync()); err != nil {
		return err
	}
	e.Undo = &ledger.Undo{Kind: undoTidy, Path: e.Undo.Path, Kept: filepath.Base(kept.Name()),
		Data: fmt.Sprint(len(steps))}
	return a.undoTidied(ctx, h, e, yes)
}

// undoTidied puts names back.
func (a *app) undoTidied(ctx context.Context, h *household.Household, e ledger.Entry, yes bool) error {
	if !slices.ContainsFunc(h.Shelves, func(s household.Shelf) bool {
		return slices.Contains(s.Folders,
			e.Undo.Path)
	}) {
		return &problem.Problem{What: "this entry cannot be taken back", Where: e.Undo.Path,
			Why: "the household has no such folder any more",
			Fix: "put the folder back into the household file, under [[shelf]]", Exit: problem.ExitFailed}
	}
	steps, err := a.keptSteps(h, e)
	if err != nil {
		return err
	}
	back := !backwards(h, e)
	c := rename.Carrier{Folder: e.Undo.Path, Back: back}
	watched := a.watched(ctx)
	for _, s := range steps {
		for _, p := range []string{s.From, s.To} {
			if who := watched[path.Join(e.Undo.Path, p)]; who != "" && s.Op == rename.Move {
				return &problem.Problem{What: "a file is watched now", Where: path.Join(e.Undo.Path, p), Why: who +
					" watches it", Fix: "wait until it is over; cozyshelf usage now shows it"}
			}
		}
	}
	dry := c
	dry.Dry = true
	o, err := dry.Carry(steps)
	if err != nil {
		return &problem.Problem{What: "the files cannot be looked at", Where: e.Undo.Path, Why: err.Error(),
			Fix: "is its disk mounted? run it as root, or as the owner", Err: err}
	}
	a.err.Printf("  • put the former names of %s back in %s\n", show.Count(o.Done, "file", "files"),
		show.Clean(e.Undo.Path))
	if o.Already > 0 {
		a.err.Printf("  %s as before already\n", show.Count(o.Already, "file is", "files are"))
	}
	a.showOddNames(o)
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	id, err := beginUndo(h, e)
	if err != nil {
		return err
	}
	if o, err = a.renameSteps(h, id, steps, c, heldAfter(h, e.Undo.Path, steps, back)); err != nil {
		return err
	}
	if e.Outcome == ledger.Open {
		if err := ledger.End(h.Storage.State, e.ID, ledger.TakenBack); err != nil {
			return err
		}
	}
	a.err.Printf("Entry %d: %s again\n", id,
		show.Count(o.Done, "file has its former name", "files have their former names"))
	a.rescan(ctx, h, nil)
	if a.json {
		err = a.document(pathsUndone{Entry: id, Undoes: e.ID, Done: o.Done, Already: o.Already, Odd: len(o.Odd)})
	}
	if err == nil && len(o.Odd) > 0 {
		return &exit{problem.ExitFound}
	}
	return err
}

// rescan has the server look at what was renamed, where it runs.
func (a *app) rescan(ctx context.Context, h *household.Household, plans []*tidied) {
	s, err := a.open(ctx)
	if err != nil {
		return
	}
	o, err := s.Engine.Observe(ctx, s.ID)
	if err != nil {
		return
	}
	if _, runs := o.Running(); !runs {
		return
	}
	names := map[string]bool{}
	for _, p := range plans {
		if p.Done > 0 {
			names[p.Shelf] = true
		}
	}
	if plans == nil {
		names[""] = true
	}
	look, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	for n := range names {
		if _, err := s.Client().Scan(look, n, "", false, false); err != nil {
			warning(a.err, 0, "the server could not look at it yet: %v", err)
		}
	}
}
