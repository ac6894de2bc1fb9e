package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/mend"
	"cozyshelf/internal/operate"
	"cozyshelf/internal/problem"

	"github.com/spf13/cobra"
)

// Kinds of what can be taken back.
const (
	undoAccess  = "access"      // owners, modes and ACLs: a plan is kept
	undoFile    = "file"        // the household file: its former text is kept
	undoFolder  = "folder"      // a folder that was made
	undoGroup   = "group"       // an account that joined a group
	undoAccount = "account"     // an account that was made
	undoStore   = ledger.Stored // a store that was replaced: a backup is kept
)

func (a *app) undoCommand() *cobra.Command {
	var yes bool
	var g gentle
	c := &cobra.Command{
		Use: "undo ENTRY", Short: "Take back what an entry of the ledger records",
		Long: `Puts back what an entry of the ledger changed, as cozyshelf ledger lists it. What
somebody else changed since is shown and left alone. Undoing is an entry too, and
can be undone. Exit code 3 when something was left alone.`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := g.judge(c); err != nil {
				return err
			}
			h, err := a.loadLocked(c.Context())
			if err != nil {
				return err
			}
			n, err := strconv.Atoi(args[0])
			if err != nil {
				return wrongUse(c, fmt.Sprintf("%q is no number of an entry", args[0]))
			}
			e, err := a.entry(h, n)
			if err != nil {
				return err
			}
			a.err.Printf("Entry %d, %s by %s: %s\n", e.ID, show.When(e.At), e.Who, show.Clean(e.What))
			switch e.Undo.Kind {
			case ledger.Deployment:
				house, err := a.openAlone(c.Context())
				if err != nil {
					return err
				}
				return a.undoDeployment(c.Context(), house, "undo", e, yes, g)
			case undoStore:
				return a.undoStore(c.Context(), e, yes, g)
			case undoAccess:
				return a.undoAccess(h, e, yes)
			case ledger.Upload:
				return a.undoUpload(c.Context(), h, e, yes)
			case undoTidy:
				return a.undoTidied(c.Context(), h, e, yes)
			case undoFile:
				return a.undoFile(h, e, yes)
			case undoFolder, undoGroup, undoAccount, undoMade:
				return a.undoThing(c.Context(), h, e, yes)
			}
			return &problem.Problem{What: "this entry cannot be taken back by this program", Where: h.Storage.State,
				Why: fmt.Sprintf("it is of a kind %q that is not known here", e.Undo.Kind),
				Fix: "use the program that wrote it"}
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	g.flags(c)
	return a.withJSON(c)
}

// entry finds an entry that can be taken back.
func (a *app) entry(h *household.Household, n int) (ledger.Entry, error) {
	list, _, err := ledger.Read(h.Storage.State)
	if err != nil {
		return ledger.Entry{}, &problem.Problem{What: "the ledger cannot be read", Where: h.Storage.State,
			Why: err.Error(), Fix: "run as root or as the run-as account", Err: err}
	}
	for _, e := range list {
		switch {
		case e.ID != n:
		case e.UndoneBy != 0:
			return e, &problem.Problem{What: fmt.Sprintf("entry %d has been taken back already", n),
				Where: h.Storage.State, Why: fmt.Sprintf("entry %d did it", e.UndoneBy),
				Fix: fmt.Sprintf("cozyshelf undo %d makes it so again", e.UndoneBy)}
		case e.Outcome == ledger.TakenBack:
			return e, &problem.Problem{What: fmt.Sprintf("entry %d has been taken back already", n),
				Where: h.Storage.State,
				Why:   "it was cut off before it had changed anything that lasts, and was ended so",
				Fix:   "nothing is left to do"}
		case e.Undo == nil && e.Of != 0:
			return e, &problem.Problem{What: fmt.Sprintf("entry %d cannot be taken back by itself", n),
				Where: h.Storage.State, Why: fmt.Sprintf("it is a step of entry %d: %s", e.Of, e.What),
				Fix: fmt.Sprintf("cozyshelf undo %d takes back the whole", e.Of)}
		case e.Undo == nil:
			return e, &problem.Problem{What: fmt.Sprintf("entry %d cannot be taken back", n), Where: h.Storage.State,
				Why: e.Command + ": " + e.What, Fix: "change the household file back, and deploy"}
		default:
			return e, nil
		}
	}
	return ledger.Entry{}, &problem.Problem{What: fmt.Sprintf("there is no entry %d", n), Where: h.Storage.State,
		Why: fmt.Sprintf("the ledger has %d", len(list)), Fix: "cozyshelf ledger lists them", Exit: problem.ExitUsage}
}

// undoAccess puts owners, modes and ACLs back. A mend that undid another is
// carried out the way round that it was not.
func (a *app) undoAccess(h *household.Household, e ledger.Entry, yes bool) error {
	kept, err := ledger.OpenKept(h.Storage.State, e.Undo.Kept)
	if err != nil {
		return &problem.Problem{What: "what is needed to take it back cannot be read", Where: h.Storage.State,
			Why: err.Error(), Fix: "run as the account that did it", Err: err}
	}
	defer kept.Close()
	back := !backwards(h, e)
	o, err := mend.Carrier{Back: back, Dry: true}.Carry(kept)
	if errors.Is(err, mend.ErrCut) {
		a.err.Printf("%s\n", err)
		return ledger.End(h.Storage.State, e.ID, "nothing was done")
	}
	if err != nil {
		return &problem.Problem{What: "what it changed cannot be looked at", Where: e.Undo.Path, Why: err.Error(),
			Fix: "run as root", Err: err}
	}
	a.err.Printf("  • put %s back to the former owner, mode and ACL\n", show.Count(o.Done, "path", "paths"))
	if o.Already > 0 {
		a.err.Printf("  %s as before already\n", show.Count(o.Already, "path is", "paths are"))
	}
	if o.Odds > 0 {
		a.err.Printf("  changed since, or gone: %s\n", show.Count(o.Odds, "path", "paths"))
		a.showOdd(o)
	}
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	id, err := beginUndo(h, e)
	if err != nil {
		return err
	}
	total := o.Done + o.Already + o.Odds
	if o, err = a.steps(h, id, kept, mend.Carrier{Back: back}, total); err != nil {
		return err
	}
	if e.Outcome == ledger.Open {
		if err := ledger.End(h.Storage.State, e.ID, ledger.TakenBack); err != nil {
			return err
		}
	}
	a.err.Printf("Entry %d: %s put back\n", id, show.Count(o.Done, "path", "paths"))
	if a.json {
		err = a.document(pathsUndone{Entry: id, Undoes: e.ID, Done: o.Done, Already: o.Already, Odd: o.Odds})
	}
	if err == nil && o.Odds > 0 {
		return &exit{problem.ExitFound}
	}
	return err
}

// beginUndo begins the entry that takes another back, by what that one keeps; so it can be
// taken back in turn. One that was cut off is continued.
func beginUndo(h *household.Household, e ledger.Entry) (int, error) {
	list, _, _ := ledger.Read(h.Storage.State) // read a moment ago
	if o, ok := ledger.Undoing(list, e.ID); ok && o.Undo != nil && *o.Undo == *e.Undo {
		return o.ID, nil
	}
	undo := *e.Undo
	id, err := ledger.Begin(h.Storage.State, ledger.Entry{At: time.Now(), Who: who(), Command: "undo", Action: "undo",
		What: fmt.Sprintf("take back entry %d: %s", e.ID, e.What), Why: "asked for", Undoes: e.ID, Undo: &undo})
	if err != nil {
		return 0, &problem.Problem{What: "the ledger could not be written, so nothing was touched",
			Where: h.Storage.State, Why: err.Error(), Fix: "run this as root, or as the run-as account", Err: err}
	}
	return id, nil
}

// backwards tells which way round an entry carried its plan out: one that undoes
// another goes the other way.
func backwards(h *household.Household, e ledger.Entry) bool {
	list, _, _ := ledger.Read(h.Storage.State) // read a moment ago
	return operate.Backwards(list, e)
}

// undoFile puts the former text of the household file back.
func (a *app) undoFile(h *household.Household, e ledger.Entry, yes bool) error {
	kept, err := ledger.OpenKept(h.Storage.State, e.Undo.Kept)
	if err != nil {
		return &problem.Problem{What: "the former text cannot be read", Where: h.Storage.State, Why: err.Error(),
			Fix: "run as the account that did it", Err: err}
	}
	defer kept.Close()
	former, err := io.ReadAll(kept)
	if err != nil {
		return err
	}
	path, err := filepath.Abs(a.household)
	if err != nil {
		return err
	}
	now, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	if path != e.Undo.Path || sum(now) != e.Undo.Data {
		return &problem.Problem{What: "the household file was changed since", Where: path,
			Why: "putting the former text back would lose what was changed",
			Fix: "edit it by hand; the former text is kept in " + kept.Name(), Exit: problem.ExitFound}
	}
	a.err.Printf("  • put the former text of %s back\n", path)
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	return a.rewriteFor(h, former, "undo", fmt.Sprintf("take back entry %d: %s", e.ID, e.What), e.ID)
}

func sum(b []byte) string {
	s := sha256.Sum256(b)
	return hex.EncodeToString(s[:])
}

// above opens the folder that something lies in.
func above(path string, do func(d *boundary.Dir, name string) error) error {
	d, err := boundary.Open(filepath.Dir(path))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer d.Close()
	return do(d, filepath.Base(path))
}

// thing is a change to the host that has no plan of its own: what the taking back of it is, or
// the taking back of that.
type thing struct {
	what  string // "remove the folder X"
	did   string // "removed the folder X"
	do    func() error
	again bool // it can be taken back in turn
}

// thing says how an entry is taken back; back is that the entry itself took another back.
func (e undoable) thing(back bool) thing {
	u := e.Undo
	switch {
	case u.Kind == undoFolder && back:
		return thing{what: "make the folder " + u.Path + " again", did: "made the folder " + u.Path, again: true,
			do: func() error {
				return above(u.Path, func(d *boundary.Dir, name string) error {
					made, err := d.Mkdir(name, 0o755, nil)
					if err != nil {
						return ignoreExists(err)
					}
					return made.Close()
				})
			}}
	case u.Kind == undoFolder:
		return thing{what: fmt.Sprintf("remove the folder %s, if it is empty", u.Path), did: "removed the folder " +
			u.Path, again: true, do: func() error {
			return above(u.Path, func(d *boundary.Dir, name string) error { return d.RemoveDir(name) })
		}}
	case u.Kind == undoMade:
		return thing{what: fmt.Sprintf("remove %s, if it is as it was written", u.Path), did: "removed " + u.Path,
			do: func() error {
				return above(u.Path, func(d *boundary.Dir,
					name string) error {
					return removeAsWritten(d, name, u.Data)
				})
			}}
	case u.Kind == undoGroup:
		join, what, did := machine.LeaveGroup, "take %s out of group %s", "took %s out of group %s"
		if back {
			join, what, did = machine.JoinGroup, "add %s to group %s again", "added %s to group %s"
		}
		return thing{what: fmt.Sprintf(what, u.Path, u.Data), did: fmt.Sprintf(did, u.Path, u.Data), again: true,
			do: func() error {
				gid, err := strconv.ParseUint(u.Data, 10, 32)
				if err != nil {
					return err
				}
				return join(u.Path, uint32(gid))
			}}
	case back:
		return thing{what: "make the account " + u.Path + " again, with the numbers that it had",
			did: "made the account " + u.Path, again: true, do: func() error {
				uid, gid, groups, err := accountNumbers(u.Data)
				if err != nil {
					return err
				}
				return machine.RestoreAccount(u.Path, uid, gid, groups)
			}}
	}
	return thing{what: "remove the account " + u.Path, did: "removed the account " + u.Path, again: u.Data != "",
		do: func() error { return machine.RemoveAccount(u.Path) }}
}

// undoable is an entry that can be taken back.
type undoable struct{ ledger.Entry }

func ignoreExists(err error) error {
	if errors.Is(err, os.ErrExist) {
		return nil
	}
	return err
}

// removeAsWritten removes a file, unless it was changed since.
func removeAsWritten(d *boundary.Dir, name, wrote string) error {
	b, err := d.Read(name, 16<<20, nil)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err == nil && sum(b) != wrote {
		err = errors.New("it was changed since")
	}
	if err != nil {
		return err
	}
	return d.Remove(name)
}

// undoThing takes back what has no plan.
func (a *app) undoThing(ctx context.Context, h *household.Household, e ledger.Entry, yes bool) error {
	back := backwards(h, e)
	if e.Undo.Kind == undoAccount && !back {
		if err := a.unused(ctx, e.Undo.Path); err != nil {
			return err
		}
	}
	t := undoable{e}.thing(back)
	a.err.Printf("  • %s\n", t.what)
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	note := ledger.Entry{At: time.Now(), Who: who(), Command: "undo", Action: "undo", What: t.what,
		Why: fmt.Sprintf("entry %d is taken back", e.ID), Undoes: e.ID}
	if t.again {
		undo := *e.Undo
		note.Undo = &undo
	}
	id, err := ledger.Begin(h.Storage.State, note)
	if err != nil {
		return &problem.Problem{What: "the ledger could not be written, so nothing was touched",
			Where: h.Storage.State, Why: err.Error(), Fix: "run this as root, or as the run-as account", Err: err}
	}
	if err := t.do(); err != nil {
		_ = ledger.End(h.Storage.State, id, err.Error()) // the error below tells
		return &problem.Problem{What: "it could not be taken back", Where: e.Undo.Path, Why: err.Error(),
			Fix: "see what uses it, and try again", Err: err}
	}
	if err := ledger.End(h.Storage.State, id, "done"); err != nil {
		return err
	}
	a.err.Printf("Entry %d: %s\n", id, t.did)
	if a.json {
		return a.document(thingUndone{Entry: id, Undoes: e.ID, What: t.what})
	}
	return nil
}

// unused refuses to remove an account that a server runs as, and warns where it would.
func (a *app) unused(ctx context.Context, account string) error {
	h, err := a.find(ctx)
	if err != nil || !h.Facts.Answers {
		return nil // nothing is known of a server
	}
	seen, err := h.Deployed(ctx)
	if err != nil || h.Account.Name != account {
		return nil // there is none, or it runs as another
	}
	if !seen.Running {
		a.warn(fmt.Sprintf("%s is deployed, though stopped, and is to run as this account: without it the next "+
			"deploy asks for "+
			"another", h.Name()))
		return nil
	}
	return &problem.Problem{What: "the account is in use", Where: account,
		Why: fmt.Sprintf("the server of %s runs as it (%s)", h.Name(), seen.Name),
		Fix: "cozyshelf stop or cozyshelf retire first; or write another run_as under [server], and deploy"}
}
