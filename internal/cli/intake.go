package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/core/tidy"
	"cozyshelf/internal/intake"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/rename"

	"github.com/spf13/cobra"
)

func (a *app) intakeCommand() *cobra.Command {
	c := &cobra.Command{Use: "intake", Short: "New media: copied or fetched, checked, then put on a shelf"}
	c.AddCommand(a.intakeCopyCommand(), a.intakeFetchCommand(), a.intakeListCommand(), a.intakeClearCommand())
	return c
}

// onto finds the shelf and its folder that things are brought onto.
func (a *app) onto(h *household.Household, name, folder string) (household.Shelf, string, error) {
	i := slices.IndexFunc(h.Shelves, func(s household.Shelf) bool { return s.Name == name })
	if i < 0 {
		return household.Shelf{}, "", noSuchShelf(h, name)
	}
	s := h.Shelves[i]
	if folder == "" {
		folder = s.Folders[0]
	}
	switch {
	case !slices.Contains(s.Folders, folder):
		return s, "", &problem.Problem{What: fmt.Sprintf("%s is no folder of shelf %s", folder, name),
			Why: "it has: " + strings.Join(s.Folders, ", "), Fix: "give one of these with --folder",
			Exit: problem.ExitUsage}
	case household.IsShare(folder):
		return s, "", &problem.Problem{What: "a share cannot be brought onto from here", Where: folder,
			Why: "only the engine mounts it", Fix: "mount it on this machine too, or bring it in where it lies",
			Exit: problem.ExitUsage}
	}
	if why := machine.Presence(folder, 10*time.Second); why != "" {
		return s, "", &problem.Problem{What: "the shelf's folder is unplugged", Where: folder, Why: why,
			Fix: "mount its disk, and try again"}
	}
	return s, filepath.Clean(folder), nil
}

// brought is what came of bringing something in, as a document.
type brought struct {
	Job    string         `json:"job,omitempty"`
	Shelf  string         `json:"shelf"`
	Folder string         `json:"folder"`
	Entry  int            `json:"entry,omitempty"` // of the ledger
	Files  []intake.File  `json:"files"`
	There  []intake.There `json:"there"`
	Left   []tidy.Left    `json:"left"`
}

func (a *app) intakeCopyCommand() *cobra.Command {
	var w copying
	var shelf, folder string
	c := a.withJSON(&cobra.Command{
		Use: "copy SOURCE…", Short: "Copy files, or folders of files, onto a shelf",
		Long: `Shows what would go where under which name, what is on the shelf already, and whether
there is room; then copies into a holding folder on the shelf's own disk, checks every file
against its source by SHA-256, and puts all on the shelf in one go. What was cut off continues
where it was when the same is asked for again. With --move the sources are removed in the
end, each only if it is still what was copied.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			h, err := a.loadLocked(c.Context())
			if err != nil {
				return err
			}
			s, folder, err := a.onto(h, shelf, folder)
			if err != nil {
				return err
			}
			if err := a.finishTidying(h, w.yes); err != nil {
				return err
			}
			return a.intakeCopy(c.Context(), h, s, folder, w, args)
		},
	})
	f := c.Flags()
	f.StringVar(&shelf, "onto", "", "the `SHELF` (required)")
	f.StringVar(&folder, "folder", "", "the folder of the shelf; the first if not given")
	f.BoolVar(&w.move, "move", false, "remove the sources once all is on the shelf")
	f.BoolVar(&w.broken, "broken", false, "also files whose headers cannot be read")
	f.BoolVar(&w.dry, "dry-run", false, "only show")
	f.BoolVar(&w.yes, "yes", false, "do not ask")
	_ = c.MarkFlagRequired("onto") // the flag is there
	return c
}

// copying is what is asked of intake copy.
type copying struct{ move, broken, dry, yes bool }

// intakeCopy shows what would come in, and brings it in.
func (a *app) intakeCopy(whole context.Context, h *household.Household, s household.Shelf, folder string, w copying,
	sources []string) error {
	intake.Sweep(folder)
	ctx, stop := signal.NotifyContext(whole, os.Interrupt, syscall.SIGTERM)
	defer stop()
	look, err := intake.Look(ctx, s.Kind, folder, sources, w.broken)
	if err != nil {
		return a.intakeFault(err, folder)
	}
	job, held, err := earlier(folder, look, sources)
	if err != nil {
		return a.intakeFault(err, folder)
	}
	a.showLook(s, folder, look, held)
	out := brought{Shelf: s.Name, Folder: folder, Files: look.Files, There: look.There, Left: look.Left}
	if need := look.Size - held; need > look.Free-intake.Reserve {
		return &problem.Problem{What: "it does not fit", Where: folder,
			Why: fmt.Sprintf("%s would come in, and %s are free, of which %s stay free", show.Size(need),
				show.Size(look.Free), show.Size(intake.Reserve)),
			Fix: "free some space, take less, or give another folder of the shelf with --folder"}
	}
	if len(look.Files) == 0 || w.dry {
		if a.json {
			return a.document(out)
		}
		if len(look.Files) == 0 {
			a.err.Printf("Nothing comes in\n")
		}
		return nil
	}
	if err := a.agree(w.yes, fmt.Sprintf("Copy %s?", show.Count(len(look.Files), "file", "files"))); err != nil {
		return err
	}
	j, err := intake.Begin(folder,
		intake.Job{ID: job, Way: intake.Copy, Shelf: s.Name, Folder: folder, Who: who(), Began: time.Now(),
			Move: w.move, Files: look.Files})
	if err != nil {
		return a.intakeFault(err, folder)
	}
	defer j.Close()
	// Whatever the job's file says: what is copied is what was shown.
	j.Move, j.Files = w.move, look.Files
	out.Job = j.ID
	progress := a.err.Bytes("copying", look.Size)
	done := int64(0)
	err = j.Copy(ctx, func(n int64) {
		done += n
		progress.AtByte(done)
	})
	progress.End()
	if err != nil {
		return a.intakeFault(err, folder)
	}
	if out.Entry, err = a.place(whole, h, j, folder, "intake copy"); err != nil {
		return err
	}
	out.Files = j.Files
	if w.move {
		n, kept := j.Release()
		a.err.Printf("%s removed where they were\n", show.Count(n, "source", "sources"))
		for _, k := range kept {
			a.err.Printf("  %s stays: %s\n", show.Clean(k.Path), k.Why)
		}
	}
	return a.broughtIn(j, out)
}

// broughtIn ends a job that went well, or tells what is left of it.
func (a *app) broughtIn(j *intake.Job, out brought) error {
	whole := j.State == intake.Placed
	if whole {
		if err := j.Discard(); err != nil {
			warning(a.err, 0, "the holding folder could not be removed: %v", err)
		}
	}
	if a.json {
		if err := a.document(out); err != nil {
			return err
		}
	}
	if whole {
		return nil
	}
	for _, f := range j.Files {
		if f.State != intake.Placed {
			warning(a.err, 0, "%s: %s: %s", f.To, f.State, f.Why)
		}
	}
	return &exit{problem.ExitFound}
}

// earlier finds a job with the same files that was cut off, and how much of it is there;
// else it gives the id of a new one.
func earlier(folder string, look intake.Found, sources []string) (id string, held int64, err error) {
	h := sha256.New()
	for _, s := range sources {
		abs, err := filepath.Abs(s)
		if err != nil {
			return "", 0, err
		}
		fmt.Fprintln(h, abs)
	}
	for _, f := range look.Files {
		fmt.Fprintln(h, f.Source, f.To, f.Size, f.MTime)
	}
	id = hex.EncodeToString(h.Sum(nil))[:12]
	j, err := intake.Read(folder, id)
	if errors.Is(err, os.ErrNotExist) {
		return id, 0, nil
	}
	if err != nil {
		return "", 0, err
	}
	defer j.Close()
	for _, f := range j.Files {
		held += j.There(&f)
	}
	return id, held, nil
}

// place puts what is held on the shelf, as one entry of the ledger.
func (a *app) place(ctx context.Context, h *household.Household, j *intake.Job, folder, command string) (int, error) {
	fail := func(err error) (int, error) {
		return 0, &problem.Problem{What: "what came in could not be put on the shelf; it waits in the holding folder",
			Where: folder, Why: err.Error(),
			Fix: "run it again as root, or as who owns the shelf's folder and the state folder", Err: err}
	}
	if err := a.readyForFiles(h); err != nil {
		return 0, err
	}
	steps, err := j.Steps(folder, intake.Likely(folder))
	if err != nil {
		return fail(err)
	}
	if len(steps) == 0 {
		_, err := j.Placed(folder)
		return 0, err
	}
	kept, err := ledger.Keep(h.Storage.State, "intake")
	if err != nil {
		return fail(err)
	}
	defer kept.Close()
	if err := errors.Join(rename.Write(kept, steps), kept.Sync()); err != nil {
		return fail(err)
	}
	n := 0
	for _, f := range j.Files {
		if f.State == intake.Held {
			n++
		}
	}
	entry, err := ledger.Begin(h.Storage.State,
		ledger.Entry{At: time.Now(), Who: who(), Command: command, Action: "intake",
			What: fmt.Sprintf("put %s on shelf %s in %s", show.Count(n, "file", "files"), j.Shelf, folder),
			Why:  "asked for",
			Undo: &ledger.Undo{Kind: undoTidy, Path: folder, Kept: filepath.Base(kept.Name()),
				Data: fmt.Sprint(len(steps))}})
	if err != nil {
		return fail(err)
	}
	placed := func() error {
		_, err := j.Placed(folder)
		return err
	}
	if _, err := a.renameSteps(h, entry, steps, rename.Carrier{Folder: folder}, placed); err != nil {
		return entry, err
	}
	a.err.Printf("Entry %d: %s on shelf %s; cozyshelf undo %d takes it back into the holding folder\n", entry,
		show.Count(n, "file is", "files are"), j.Shelf, entry)
	a.rescan(ctx, h, []*tidied{{Shelf: j.Shelf, Done: n}})
	return entry, nil
}

func (a *app) intakeFault(err error, folder string) error {
	p := &problem.Problem{What: "it did not all come in", Where: folder, Why: err.Error(),
		Fix: "mend the cause, and ask for the same again: it continues where it stopped; cozyshelf intake " +
			"list shows it", Err: err}
	var pe *os.PathError
	if errors.As(err, &pe) {
		p.Where, p.Why = pe.Path, pe.Op+": "+pe.Err.Error()
	}
	switch {
	case errors.Is(err, intake.ErrBusy):
		p.What, p.Fix = "another command brings that in", "wait for it; cozyshelf intake list shows how far it is"
	case errors.Is(err, os.ErrNotExist):
		p.Fix = "see whether it is there, and its disk is mounted; then ask for the same again"
	case errors.Is(err, os.ErrPermission):
		p.Fix = "run it as root, or as who may read the source and write to the shelf's folder"
	case errors.Is(err, syscall.ENOSPC):
		p.What, p.Fix = "the disk is full", "free some space, and ask for the same again: it continues where it stopped"
	case errors.Is(err, context.Canceled):
		p.What, p.Why, p.Fix = "it was interrupted", "what came in so far is kept",
			"ask for the same again: it continues where it stopped"
	}
	return p
}

func (a *app) showLook(s household.Shelf, folder string, look intake.Found, held int64) {
	out := a.out
	if a.json {
		out = a.err
	}
	out.Printf("%s %s\n", show.Bold(s.Name),
		show.Faint(fmt.Sprintf("%s · %s, %s to come in; %s free", show.Clean(folder),
			show.Count(len(look.Files), "file", "files"), show.Size(look.Size), show.Size(look.Free))))
	if held > 0 {
		out.Printf("  %s of it came in before it was cut off\n", show.Size(held))
	}
	last := ""
	for _, f := range look.Files {
		dir, base := filepath.Split(f.To)
		indent := "  "
		if dir != "" {
			indent = "    "
			if dir != last {
				out.Printf("  %s\n", show.Clean(dir))
			}
		}
		last = dir
		out.Printf("%s%s %s\n%s  %s\n", indent, show.Clean(base), show.Faint(show.Size(f.Size)), indent,
			show.Faint("from "+show.Clean(f.Source)))
	}
	for _, t := range look.There {
		out.Printf("  %s %s\n      %s\n", show.Faint("there already"), show.Clean(t.Is),
			show.Faint("the same bytes as "+show.Clean(t.Source)))
	}
	for _, l := range look.Left {
		out.Printf("  %s %s\n      %s\n", show.Faint("left out"), show.Clean(l.Path), show.Faint(show.Clean(l.Why)))
	}
}

func (a *app) intakeFetchCommand() *cobra.Command {
	w := fetching{atOnce: 3}
	var shelf, folder string
	c := a.withJSON(&cobra.Command{
		Use: "fetch URL…", Short: "Fetch files from the web onto a shelf",
		Long: `Fetches files over HTTP or HTTPS into the holding folder, several at once, and continues
where it was cut off if the server still has the same file; checks that they are what the shelf
takes; and puts them on the shelf under the names they should have. Addresses of this
machine and of private networks are refused unless --private is given, also where a name
or a redirection leads to them.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			h, err := a.loadLocked(c.Context())
			if err != nil {
				return err
			}
			s, folder, err := a.onto(h, shelf, folder)
			if err != nil {
				return err
			}
			intake.Sweep(folder)
			if err := w.judge(c, args); err != nil {
				return err
			}
			return a.intakeFetch(c.Context(), h, s, folder, w)
		},
	})
	f := c.Flags()
	f.StringVar(&shelf, "onto", "", "the `SHELF` (required)")
	f.StringVar(&folder, "folder", "", "the folder of the shelf; the first if not given")
	f.StringSliceVar(&w.sums, "sha256", nil,
		"what the file's SHA-256 must be, in hexadecimal; of several, one for each in their order")
	f.StringVar(&w.name, "name", "", "what to call the file, in place of what the server says")
	f.StringVar(&w.limit, "limit", "", "how large a file may be, such as \"8 GiB\"; what the disk has room "+
		"for if not given")
	f.BoolVar(&w.private, "private", false, "allow addresses of this machine and of private networks")
	f.IntVar(&w.atOnce, "at-once", w.atOnce, "how many at once")
	_ = c.MarkFlagRequired("onto") // the flag is there
	return c
}

// fetching is what is asked of intake fetch.
type fetching struct {
	addresses []string
	sums      []string // one for each address, or none
	name      string
	limit     string
	most      household.Size // the same, read
	private   bool
	atOnce    int
}

// judge takes the addresses, and refuses what does not fit together.
func (w *fetching) judge(c *cobra.Command, addresses []string) error {
	if w.limit != "" {
		if err := w.most.UnmarshalText([]byte(w.limit)); err != nil {
			return wrongUse(c, err.Error())
		}
	}
	for _, sum := range w.sums {
		if b, err := hex.DecodeString(sum); err != nil || len(b) != sha256.Size {
			return wrongUse(c, "--sha256 takes 64 hexadecimal digits")
		}
	}
	switch {
	case len(w.sums) > 0 && len(w.sums) != len(addresses):
		return wrongUse(c, "--sha256 is given once for each address, in their order")
	case len(addresses) > 1 && w.name != "":
		return wrongUse(c, "--name is for one address")
	case w.atOnce < 1 || w.atOnce > 16:
		return wrongUse(c, "--at-once takes 1 to 16")
	}
	for _, u := range addresses {
		if _, err := intake.ParseAddress(u); err != nil {
			return &problem.Problem{What: "it cannot be fetched", Where: u, Why: err.Error(),
				Fix: "give an address as https://example.net/film.mp4", Exit: problem.ExitUsage}
		}
	}
	w.addresses = addresses
	return nil
}

// intakeFetch fetches all that is asked for, and puts on the shelf what came.
func (a *app) intakeFetch(ctx context.Context, h *household.Household, s household.Shelf, folder string,
	w fetching) error {
	jobs := make([]*intake.Job, len(w.addresses))
	for i, u := range w.addresses {
		j, err := beginFetch(s, folder, u)
		if err != nil {
			return a.intakeFault(err, u)
		}
		defer j.Close()
		jobs[i] = j
	}
	faults := a.fetchAll(ctx, jobs, s.Kind, w)
	outs := []brought{}
	var worst error
	for i, j := range jobs {
		if faults[i] != nil {
			worst = a.fetchFault(faults[i], w.addresses[i])
			var p *problem.Problem
			if len(jobs) > 1 && errors.As(worst, &p) {
				warning(a.err, 0, "%s: %s", w.addresses[i], p.Why)
			}
			continue
		}
		out := brought{Job: j.ID, Shelf: s.Name, Folder: folder, There: []intake.There{}, Left: []tidy.Left{}}
		var err error
		if out.Entry, err = a.place(ctx, h, j, folder, "intake fetch"); err != nil {
			return err
		}
		f := j.Files[0]
		if f.State != intake.Placed {
			worst = &problem.Problem{What: "what came in waits in the holding folder", Where: f.To, Why: f.Why,
				Fix: "give it another name with --name, or remove it with cozyshelf intake clear " + j.ID}
			continue
		}
		a.showFetched(f)
		out.Files = j.Files
		outs = append(outs, out)
		if err := j.Discard(); err != nil {
			return err
		}
	}
	if a.json {
		if err := a.document(outs); err != nil {
			return err
		}
	}
	return worst
}

// beginFetch begins the job of one address, or takes up the one that was cut off.
func beginFetch(s household.Shelf, folder, address string) (*intake.Job, error) {
	id := sha256.Sum256([]byte(address))
	j, err := intake.Begin(folder,
		intake.Job{ID: hex.EncodeToString(id[:])[:12], Way: intake.Fetch, Shelf: s.Name, Folder: folder,
			Who: who(), Began: time.Now(),
			Files: []intake.File{{Source: address, To: "file", Held: "1", Size: -1, State: intake.Waiting}}})
	if err != nil {
		return nil, err
	}
	if len(j.Files) != 1 {
		j.Close()
		return nil, fmt.Errorf("job %s is none of this address", j.ID)
	}
	j.Files[0].Source, j.Files[0].Held = address, "1"
	return j, nil
}

// fetchAll fetches the files of jobs, some at once, until a signal ends it. It gives what went
// wrong with each.
func (a *app) fetchAll(ctx context.Context, jobs []*intake.Job, kind household.Kind, w fetching) []error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	with := intake.Fetcher{Private: w.private, Limit: int64(w.most), Version: a.version}
	progress := a.err.Bytes("fetching", 0)
	defer progress.End()
	var mu sync.Mutex
	var wg sync.WaitGroup
	done, slots := int64(0), make(chan struct{}, w.atOnce)
	faults := make([]error, len(jobs))
	for i, j := range jobs {
		wg.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			j.State = intake.Coming
			want := intake.Wanted{Name: w.name}
			if len(w.sums) > 0 {
				want.Sum = w.sums[i]
			}
			faults[i] = j.Fetch(ctx, &j.Files[0], kind, want, with, func(n int64) {
				mu.Lock()
				defer mu.Unlock()
				done += n
				progress.AtByte(done)
			})
			if faults[i] != nil && !errors.Is(faults[i], context.Canceled) {
				_ = j.Fail(&j.Files[0], faults[i].Error()) // the error is told
			}
		})
	}
	wg.Wait()
	return faults
}

// showFetched shows one file that came.
func (a *app) showFetched(f intake.File) {
	switch {
	case a.json:
	case f.Why != "":
		a.out.Printf("%s %s\n  %s\n", show.Faint("there already"), show.Clean(f.To),
			show.Faint("the same bytes as "+show.Clean(f.Source)))
	default:
		a.out.Printf("%s %s\n  %s\n", show.Clean(f.To), show.Faint(show.Size(f.Size)), show.Faint("sha256 "+f.Sum))
	}
}

func (a *app) fetchFault(err error, address string) error {
	p := &problem.Problem{What: "it was not fetched", Where: address, Why: err.Error(),
		Fix: "see to the cause, and ask for the same again: it continues where it stopped; cozyshelf intake list " +
			"shows it", Err: err}
	switch {
	case errors.Is(err, intake.ErrPrivate):
		p.Fix = "give --private, if it is a server of yours"
	case errors.Is(err, intake.ErrTooLarge):
		p.Fix = "give a larger --limit, or free some space"
	case errors.Is(err, intake.ErrSum):
		p.Fix = "see whether the sum and the address belong together; what came is thrown away with the next try"
	case errors.Is(err, context.Canceled):
		p.Why = "it was interrupted; what came so far is kept"
	}
	return p
}

// sweepHeld removes, from the holding folders, what is left of jobs that are over and of
// those that were cut off before anything came in. Folders of the network, which may not
// answer, are left to the commands that use them.
func sweepHeld(h *household.Household) {
	for _, s := range h.Shelves {
		for _, folder := range s.Folders {
			if !household.IsShare(folder) && !machine.Far(folder) {
				intake.Sweep(folder)
			}
		}
	}
}

// waiting is a job as a document.
type waiting struct {
	job *intake.Job

	ID      string        `json:"id"`
	Way     string        `json:"way"`
	Shelf   string        `json:"shelf"`
	Folder  string        `json:"folder"`
	Who     string        `json:"who"`
	BegunAt time.Time     `json:"begun_at"`
	Now     string        `json:"state"` // coming in, cut off, or held
	Why     string        `json:"why,omitempty"`
	Move    bool          `json:"move,omitempty"` // sources go once all is on the shelf
	All     int64         `json:"size"`
	Done    int64         `json:"done"`
	Files   []intake.File `json:"files"`
}

func (a *app) jobs(h *household.Household) ([]waiting, error) {
	out := []waiting{}
	for _, s := range h.Shelves {
		for _, folder := range s.Folders {
			if household.IsShare(folder) || machine.Presence(folder, 10*time.Second) != "" {
				continue
			}
			list, err := intake.Jobs(folder)
			if err != nil {
				return nil, &problem.Problem{What: "the holding folder cannot be looked at", Where: folder,
					Why: err.Error(), Fix: "run it as root, or as who owns the shelf's folder", Err: err}
			}
			for _, j := range list {
				w := waiting{job: j, ID: j.ID, Way: j.Way, Shelf: j.Shelf, Folder: j.Folder, Who: j.Who,
					BegunAt: j.Began, Now: j.State, Why: j.Why, Move: j.Move, Files: j.Files}
				w.All, w.Done = j.Size()
				if j.Over() {
					continue // the next command removes what is left of it
				}
				if busy := j.Busy(); busy && j.State != intake.Held {
					w.Now = intake.Coming
				} else if !busy && j.State == intake.Coming {
					w.Now = "cut off"
				}
				out = append(out, w)
			}
		}
	}
	return out, nil
}

func (a *app) intakeListCommand() *cobra.Command {
	return a.withJSON(&cobra.Command{
		Use: "list", Short: "What is coming in, waits or failed, and why", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			h, err := a.load()
			if err != nil {
				return err
			}
			list, err := a.jobs(h)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(list)
			}
			if len(list) == 0 {
				a.out.Printf("Nothing is coming in\n")
				return nil
			}
			var rows [][]string
			for _, w := range list {
				what := show.Count(len(w.Files), "file", "files")
				if len(w.Files) == 1 {
					if what = w.Files[0].To; what == "file" {
						what = w.Files[0].Source
					}
				}
				rows = append(rows, []string{w.ID, show.When(w.BegunAt), w.Who, w.Way, w.Shelf, what,
					show.Bar(float64(w.Done), float64(max(1, w.All))), show.Size(w.Done) + " of " + show.Size(w.All),
					w.Now})
			}
			a.out.Table([]show.Column{{Head: "job", Whole: true}, {Head: "since", Whole: true, Drop: 3},
				{Head: "who", Most: 14, Drop: 2}, {Head: "way", Whole: true, Drop: 1}, {Head: "onto", Whole: true},
				{Head: "what", Most: 60}, {Head: "", Drop: 4}, {Head: "there", Right: true, Drop: 5}, {Head: "state"}},
				rows)
			for _, w := range list {
				if w.Why != "" {
					a.out.Printf("\n")
					warning(a.out, 0, "%s: %s", w.ID, w.Why)
				}
			}
			return nil
		},
	})
}

func (a *app) intakeClearCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "clear JOB…", Short: "Remove what is held of jobs that failed, were cut off or taken back",
		Args: cobra.MinimumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			h, err := a.loadLocked(c.Context())
			if err != nil {
				return err
			}
			list, err := a.jobs(h)
			if err != nil {
				return err
			}
			var todo []waiting
			cleared := []clearedJob{}
			for _, id := range args {
				i := slices.IndexFunc(list, func(w waiting) bool { return w.ID == id })
				if i < 0 {
					return &problem.Problem{What: fmt.Sprintf("there is no job %q", id),
						Why: "nothing of that name is held", Fix: "cozyshelf intake list shows what is",
						Exit: problem.ExitUsage}
				}
				todo = append(todo, list[i])
				list[i].Done = list[i].job.Done()
				a.err.Printf("  • remove %s of job %s from the holding folder of %s\n", show.Size(list[i].Done), id,
					list[i].Folder)
			}
			if err := a.agree(yes, "Carry this out? It cannot be taken back."); err != nil {
				return err
			}
			for _, w := range todo {
				j, err := intake.Open(w.Folder, w.ID)
				if err != nil {
					return a.intakeFault(err, w.Folder)
				}
				if _, err := os.Stat(h.Storage.State); errors.Is(err, os.ErrNotExist) {
					// The household has retired, and its ledger with it.
					if err := j.Discard(); err != nil {
						return a.intakeFault(err, w.Folder)
					}
					a.err.Printf("%s removed\n", show.Size(w.Done))
					cleared = append(cleared, clearedJob{Job: w.ID, Bytes: w.Done})
					continue
				}
				entry, err := ledger.Begin(h.Storage.State,
					ledger.Entry{At: time.Now(), Who: who(), Command: "intake clear", Action: "discard",
						What: fmt.Sprintf("remove %s of job %s from the holding folder of %s", show.Size(w.Done), w.ID,
							w.Folder), Why: "asked for"})
				if err != nil {
					return errors.Join(a.intakeFault(err, h.Storage.State), j.Close())
				}
				if err := j.Discard(); err != nil {
					_ = ledger.End(h.Storage.State, entry, err.Error()) // the error below tells
					return a.intakeFault(err, w.Folder)
				}
				if err := ledger.End(h.Storage.State, entry, "done"); err != nil {
					return a.intakeFault(err, h.Storage.State)
				}
				a.err.Printf("Entry %d: %s removed\n", entry, show.Size(w.Done))
				cleared = append(cleared, clearedJob{Job: w.ID, Entry: entry, Bytes: w.Done})
			}
			if a.json {
				return a.document(cleared)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return a.withJSON(c)
}

// clearedJob is what was removed of a job, as a document.
type clearedJob struct {
	Job   string `json:"job"`
	Entry int    `json:"entry,omitempty"` // of the ledger; none where the household has retired
	Bytes int64  `json:"bytes"`
}
