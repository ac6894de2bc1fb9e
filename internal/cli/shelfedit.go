package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

func (a *app) shelfAddCommand() *cobra.Command {
	var s household.Shelf
	var kind, access string
	var make, yes bool
	c := &cobra.Command{
		Use:   "add NAME --kind KIND [--folder PATH]",
		Short: "Write a shelf into the household file; all else in it stays as it is",
		Long: `Writes a shelf into the household file and leaves comments, order and blank lines as
they are. Without --folder one beside those of the other shelves is proposed. With
--make a folder that is missing is made: for you to fill, or, with --access change,
for the run-as account. cozyshelf deploy then makes it so.`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			h, err := a.loadLocked(c.Context())
			if err != nil {
				return err
			}
			s.Name, s.Kind, s.Access = args[0], household.Kind(kind), household.Access(access)
			if at := slices.IndexFunc(h.Shelves, func(o household.Shelf) bool { return o.Name == s.Name }); at >= 0 {
				return &problem.Problem{What: fmt.Sprintf("there is a shelf %q already", s.Name), Where: a.household,
					Why: "it is of kind " + string(h.Shelves[at].Kind) + ", from " +
						strings.Join(h.Shelves[at].Folders, ", "),
					Fix: "choose another name, or write further folders into the household " +
						"file", Exit: problem.ExitUsage}
			}
			if len(s.Folders) == 0 {
				root := commonRoot(h)
				if root == "" {
					return wrongUse(c, "no other shelf shows where media lie; name a folder with --folder")
				}
				s.Folders = []string{filepath.Join(root, s.Name)}
			}
			old, err := a.householdText()
			if err != nil {
				return err
			}
			text, err := household.AddShelf(a.household, old, s)
			if err != nil {
				return err
			}
			missing, err := a.showNewShelf(s, make)
			if err != nil {
				return err
			}
			if err := a.agree(yes, "Carry this out?"); err != nil {
				return err
			}
			for _, f := range missing {
				if err := makeShelfFolder(c.Context(), h, f, s.Access); err != nil {
					return &problem.Problem{What: "the folder could not be made", Where: f, Why: err.Error(),
						Fix: "make it yourself, then try again without --make", Err: err}
				}
				a.enter(h, ledger.Entry{At: time.Now(), Who: who(), Command: "shelf add", Action: "make-folder",
					What: "make the folder " + f, Why: "asked for", Outcome: "done",
					Undo: &ledger.Undo{Kind: undoFolder, Path: f}})
			}
			return a.rewrite(h, text, "shelf add", fmt.Sprintf("add shelf %s to %s", s.Name, a.household))
		},
	}
	c.Flags().StringVar(&kind, "kind", "", "films, series, music, photos or recordings")
	c.Flags().StringArrayVar(&s.Folders, "folder", nil,
		"a folder of the shelf, or a share as nfs:// or smb://; may be given again")
	c.Flags().StringVar(&s.Credentials, "credentials", "",
		"for smb://: a file of mode 0600 with username= and password=")
	c.Flags().StringVar(&access, "access", "read", "read, or change")
	c.Flags().BoolVar(&make, "make", false, "make a folder that is missing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	if err := c.MarkFlagRequired("kind"); err != nil {
		panic(err) // the flag is made above
	}
	return a.withJSON(c)
}

// showNewShelf shows a shelf that is to be added, and gives its folders that have to be made. It
// refuses what cannot be a folder of a shelf.
func (a *app) showNewShelf(s household.Shelf, mayMake bool) (missing []string, err error) {
	a.say("%s\n", show.Bold(a.household))
	a.say("  • new shelf %s of kind %s, to %s, from %s\n", s.Name, s.Kind, s.Access,
		strings.Join(s.Folders, ", "))
	for _, f := range s.Folders {
		if household.IsShare(f) {
			continue
		}
		if machine.Silent(f) {
			return nil, &problem.Problem{What: "the folder does not answer", Where: f,
				Why: machine.ErrSilent.Error(), Fix: "see to the disk or the network behind it, and try again"}
		}
		if why := notFolder(f); why != "" {
			return nil, &problem.Problem{What: "the folder of a shelf must be a folder", Where: f, Why: why,
				Fix: "name the folder that it lies in", Exit: problem.ExitUsage}
		}
		if _, err := os.Stat(f); errors.Is(err, os.ErrNotExist) {
			if !mayMake {
				return nil, &problem.Problem{What: "the folder does not exist", Where: f,
					Why: "a shelf needs its folder", Fix: "give --make to have it made, or make it yourself"}
			}
			missing = append(missing, f)
			a.say("  • make the folder %s\n", f)
		}
	}
	return missing, nil
}

func (a *app) shelfRemoveCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "remove NAME", Short: "Take a shelf out of the household file; its media are not touched",
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			h, err := a.loadLocked(c.Context())
			if err != nil {
				return err
			}
			old, err := a.householdText()
			if err != nil {
				return err
			}
			text, err := household.RemoveShelf(a.household, old, args[0])
			if errors.Is(err, household.ErrNoShelf) {
				var known []string
				for _, s := range h.Shelves {
					known = append(known, s.Name)
				}
				return &problem.Problem{What: fmt.Sprintf("there is no shelf %q", args[0]), Where: a.household,
					Why: "the household has: " + strings.Join(known, ", "), Fix: "name one of these",
					Exit: problem.ExitUsage, Err: err}
			}
			if err != nil {
				return err
			}
			a.say("%s\n  • shelf %s goes; its media stay where they are\n", show.Bold(a.household), args[0])
			if err := a.agree(yes, "Carry this out?"); err != nil {
				return err
			}
			return a.rewrite(h, text, "shelf remove", fmt.Sprintf("take shelf %s out of %s", args[0], a.household))
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return a.withJSON(c)
}

// commonRoot gives the deepest folder that the folders of all shelves lie below;
// nothing where that is the top of the machine.
func commonRoot(h *household.Household) string {
	root := ""
	for _, s := range h.Shelves {
		for _, f := range s.Folders {
			if household.IsShare(f) {
				continue
			}
			up := filepath.Dir(filepath.Clean(f))
			if root == "" {
				root = up
			}
			for root != up && !household.Within(up, root) {
				root = filepath.Dir(root)
			}
		}
	}
	if root == "/" {
		return ""
	}
	return root
}

// makeShelfFolder makes a folder of a shelf: for the caller to fill, or for the
// run-as account where the server is to change it.
func makeShelfFolder(ctx context.Context, h *household.Household, path string, access household.Access) error {
	above, err := boundary.MakeAll(filepath.Dir(path), 0o755)
	if err != nil {
		return err
	}
	defer above.Close()
	made, err := above.Mkdir(filepath.Base(path), 0o755, nil)
	if err != nil {
		return err
	}
	defer made.Close()
	account := machine.Account(h.Server)
	if access != household.Change || !account.Known || os.Getuid() != 0 {
		return nil
	}
	engine, err := choose(ctx, h)
	if err != nil {
		return err
	}
	owner := engine.Identity(account)
	return made.Chown(boundary.Owner{UID: int(owner.UID), GID: int(owner.Groups[0])})
}

// rewrite replaces the household file, with the owner and mode that it had. The
// former text is kept to undo it, once there is a state folder.
func (a *app) rewrite(h *household.Household, text []byte, command, what string) error {
	return a.rewriteFor(h, text, command, what, 0)
}

// rewriteFor does the same, as the undoing of an entry, if one is given.
func (a *app) rewriteFor(h *household.Household, text []byte, command, what string, undoes int) error {
	path, err := filepath.Abs(a.household)
	if err != nil {
		return err
	}
	former, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	state := h.Storage.State
	id := 0
	if _, err := os.Stat(state); err == nil {
		id, err = beginEdit(state, path, former, text, ledger.Entry{At: time.Now(), Who: who(), Command: command,
			Action: "edit-file", What: what, Why: "asked for", Undoes: undoes})
		switch {
		case errors.Is(err, os.ErrPermission):
			a.warn("you may not write the ledger: there will be no entry of this, " +
				"and cozyshelf undo cannot take it back") // the file is theirs to change
		case err != nil:
			return &problem.Problem{What: "the ledger could not be written, so nothing was touched", Where: state,
				Why: err.Error(),
				Fix: "see that the folder above the state folder belongs to root, and that its disk has room", Err: err}
		}
	}
	if err := replace(a.household, text); err != nil {
		if id > 0 {
			_ = ledger.End(state, id, err.Error()) // the error is told
		}
		return &problem.Problem{What: "the household file could not be written", Where: a.household, Why: err.Error(),
			Fix: "check that you may write there; the file is as it was", Err: err}
	}
	if id != 0 {
		if err := ledger.End(state, id, "done"); err != nil {
			a.err.Printf("The ledger could not be written: %s\n", err) // the next command ends the entry
		}
	}
	switch {
	case a.json:
		return a.document(householdChanged{HouseholdFile: path, What: what, Entry: id, ToDeploy: true})
	case id == 0:
		a.out.Printf("Written: %s. cozyshelf deploy makes it so.\n", show.Clean(what))
	default:
		a.out.Printf("Written, as entry %d of the ledger: %s. cozyshelf deploy makes it so.\n", id, show.Clean(what))
	}
	return nil
}

// beginEdit keeps the former text of the household file, and begins the entry of a change.
func beginEdit(state, path string, former, text []byte, e ledger.Entry) (int, error) {
	kept, err := ledger.Keep(state, "file")
	if err != nil {
		return 0, err
	}
	_, err = kept.Write(former)
	e.Undo = &ledger.Undo{Kind: undoFile, Path: path, Kept: filepath.Base(kept.Name()), Data: sum(text)}
	id := 0
	if err = errors.Join(err, kept.Sync()); err == nil {
		id, err = ledger.Begin(state, e)
	}
	return id, errors.Join(err, kept.Close())
}

// endEdits ends what commands that were cut off left open about the household file: what
// came of them follows from what the file says.
func endEdits(state string) {
	list, _, err := ledger.Read(state)
	if err != nil {
		return // there is none yet, or what comes next tells
	}
	for _, e := range list {
		if e.Outcome != ledger.Open || e.Undo == nil || e.Undo.Kind != undoFile {
			continue
		}
		outcome := "cut off; the file stayed as it was"
		if now, err := os.ReadFile(e.Undo.Path); err != nil {
			continue
		} else if sum(now) == e.Undo.Data {
			outcome = "done"
		}
		_ = ledger.End(state, e.ID, outcome) // the next command tries again
	}
}

// replace writes the household file anew, with the owner and mode that it had.
func replace(path string, text []byte) error {
	path, err := filepath.EvalSymlinks(path)
	if err != nil {
		return err
	}
	st, err := os.Stat(path)
	if err != nil {
		return err
	}
	var owner *atomicfile.Owner
	if os.Getuid() == 0 {
		had := st.Sys().(*syscall.Stat_t)
		owner = &atomicfile.Owner{UID: int(had.Uid), GID: int(had.Gid)}
	}
	return atomicfile.Replace(path, text, st.Mode().Perm(), owner)
}

// enter notes a change in the ledger, once there is a state folder to keep it in,
// and gives its number.
func (a *app) enter(h *household.Household, e ledger.Entry) int {
	if _, err := os.Stat(h.Storage.State); err != nil {
		return 0
	}
	id, err := ledger.Append(h.Storage.State, e)
	if err != nil {
		a.err.Printf("The ledger could not be written: %s\n", err)
		return 0
	}
	return id
}
