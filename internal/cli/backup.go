package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/backup"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/operate"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/secret"
	"cozyshelf/internal/store"

	"github.com/spf13/cobra"
)

// passphrase is where a passphrase comes from: never from the command line.
type passphrase struct{ file string }

func (p *passphrase) flags(c *cobra.Command) {
	c.Flags().StringVar(&p.file, "passphrase-file", "", "read the passphrase from a file; - for standard input")
}

// take gives the passphrase. On a terminal it is asked for, twice where it is new.
func (p *passphrase) take(a *app, fresh bool) (string, error) {
	if p.file != "" {
		in := a.in
		if p.file != "-" {
			f, err := os.Open(p.file)
			if err != nil {
				return "", &problem.Problem{What: "the passphrase cannot be read", Where: p.file, Why: err.Error(),
					Fix: "name a file that you may read", Err: err}
			}
			defer f.Close()
			in = f
		}
		b, err := io.ReadAll(io.LimitReader(in, 1<<16))
		text, _, _ := strings.Cut(string(b), "\n")
		text = strings.TrimRight(text, "\r")
		if why := secret.Judge(text, ""); err == nil && fresh && text != "" && why != "" {
			return "", weakPassphrase(p.file, why)
		}
		if err == nil && text == "" {
			return "", &problem.Problem{What: "there is no passphrase", Where: p.file, Why: "its first line is empty",
				Fix: "write the passphrase into the first line", Exit: problem.ExitUsage}
		}
		return text, err
	}
	if !terminal() {
		return "", &problem.Problem{What: "there is no passphrase", Why: "there is nobody here to type it",
			Fix: "give --passphrase-file FILE, or - for standard input", Exit: problem.ExitUsage}
	}
	one, err := a.unseen("passphrase")
	if err == nil && fresh {
		if why := secret.Judge(one, ""); why != "" {
			return "", weakPassphrase("", why)
		}
		var two string
		if two, err = a.unseen("once more"); err == nil && one != two {
			err = &problem.Problem{What: "the two are not the same",
				Why: "a passphrase that was mistyped would open nothing", Fix: "try again", Exit: problem.ExitUsage}
		}
	}
	if err == nil && one == "" {
		err = &problem.Problem{What: "there is no passphrase", Why: "nothing was typed", Fix: "try again",
			Exit: problem.ExitUsage}
	}
	return one, err
}

// weakPassphrase is a new passphrase that is too easy to guess.
func weakPassphrase(where, why string) error {
	return &problem.Problem{What: "the passphrase cannot be taken", Where: where, Why: why,
		Fix: "choose a longer one: whoever has the file can try as many as they like", Exit: problem.ExitUsage}
}

func (a *app) backupCommand() *cobra.Command {
	var w routine
	var encrypt bool
	var pass passphrase
	c := &cobra.Command{
		Use: "backup", Short: "Back up members, positions, plays, settings and pictures; media are not in it",
		Long: `Writes one archive with the store, the settings, the household file, the ledger and
the pictures, also while the server runs and people watch. It holds hashes of
passwords: its mode is 0600, and --encrypt asks for a passphrase. With --every the
server does it by itself: that is written into the household file, and deploy makes
it so.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx := c.Context()
			if w.timed = c.Flags().Changed("at"); w.every != "" || w.timed || c.Flags().Changed("keep") {
				if w.every == "" || encrypt || pass.file != "" {
					return wrongUse(c, "--keep and --at go with --every, and encryption does not: the server must "+
						"not know a passphrase")
				}
				return a.backupRoutine(ctx, c, w)
			}
			h, err := a.open(ctx)
			if err != nil {
				return err
			}
			secret := ""
			if encrypt || pass.file != "" {
				if secret, err = pass.take(a, true); err != nil {
					return err
				}
			}
			name := backup.FileName(blueprint.Slug(h.Name()), h.ID, time.Now())
			if secret != "" {
				name += ".age"
			}
			if w.to == "" {
				w.to = name
			} else if st, err := os.Stat(w.to); err == nil && st.IsDir() {
				w.to = filepath.Join(w.to, name)
			} else if err := meantAsFolder(w.to); err != nil {
				return err
			}
			if _, err := os.Lstat(w.to); err == nil {
				return &problem.Problem{What: "there is a file already", Where: w.to,
					Why: "a backup never replaces anything", Fix: "name another file, or a folder"}
			}
			stop := a.err.Watch("writing the backup", show.Bytes, func() (int64, int64) { return h.Bytes.Load(), 0 })
			m, err := h.Backup(ctx, w.to, secret)
			stop()
			if err != nil {
				return err
			}
			if a.json {
				return a.document(backupTaken{File: w.to, Encrypted: secret != "", Manifest: reportManifest(m)})
			}
			st, err := os.Stat(w.to)
			if err != nil {
				return err
			}
			a.out.Printf("%s: %s in %s, %s\n", w.to, show.Count(len(m.Files), "file", "files"), show.Size(st.Size()),
				map[bool]string{true: "encrypted", false: "mode 0600, not encrypted"}[secret != ""])
			return nil
		},
	}
	c.Flags().StringVar(&w.to, "to", "", "a file, or a folder; with --every a folder")
	c.Flags().BoolVar(&encrypt, "encrypt", false, "encrypt it with a passphrase (the format of age)")
	pass.flags(c)
	c.Flags().StringVar(&w.every, "every", "", "let the server do it: day, week, or hours such as 12h; never to end it")
	c.Flags().StringVar(&w.at, "at", "03:30", "with --every day or week: the time of day")
	c.Flags().IntVar(&w.keep, "keep", 7, "with --every: how many stay")
	c.Flags().BoolVar(&w.yes, "yes", false, "do not ask")
	c.AddCommand(a.backupVerifyCommand(), a.backupListCommand())
	return a.withJSON(c)
}

// routine is how the server is to make backups by itself.
type routine struct {
	every, at, to string
	keep          int
	timed         bool // at was given
	yes           bool
}

// backupRoutine writes into the household file how often the server makes backups.
func (a *app) backupRoutine(ctx context.Context, c *cobra.Command, w routine) error {
	h, err := a.loadLocked(ctx)
	if err != nil {
		return err
	}
	text, err := a.householdText()
	if err != nil {
		return err
	}
	old := bytes.Clone(text)
	if w.to != "" {
		if w.to, err = filepath.Abs(w.to); err != nil {
			return err
		}
	}
	if err := w.judge(c, h); err != nil {
		return err
	}
	what := fmt.Sprintf("the server makes a backup every %s and keeps %d", w.every, w.keep)
	if w.every == "never" {
		what = "the server makes no backups by itself"
		if h.Backup.Every == "" {
			a.say("Nothing to do: %s\n", what)
			return nil
		}
		if text, err = household.RemoveSection(a.household, text, "backup"); err != nil {
			return err
		}
	} else {
		set := func(key, value string) {
			if err == nil {
				text, err = household.Set(a.household, text, "backup", key, value)
			}
		}
		set("every", household.Quote(w.every))
		set("keep", fmt.Sprint(w.keep))
		if w.timed {
			set("at", household.Quote(w.at))
		}
		if w.to != "" {
			set("folder", household.Quote(w.to))
			what += " in " + w.to
		}
		if err != nil {
			return err
		}
	}
	if bytes.Equal(old, text) {
		a.say("Nothing to do: %s already\n", what)
		return nil
	}
	a.say("%s\n  • %s\n", show.Bold(a.household), what)
	if err := a.agree(w.yes, "Carry this out?"); err != nil {
		return err
	}
	if err := a.rewrite(h, text, "backup", what); err != nil || w.to == "" {
		return err
	}
	if house, err := a.find(ctx); err == nil && !house.MayWrite(w.to) {
		a.warn(fmt.Sprintf("the server's account may not write in %s, and deploy will refuse until it may: "+
			"chown %d:%d %s", w.to, house.Account.UID, house.Account.GID, show.Clean(w.to)))
	}
	return nil
}

// meantAsFolder refuses a name that is no folder and has nothing that a file's name has: it is
// meant as a folder, such as that of a disk that is not mounted.
func meantAsFolder(to string) error {
	_, err := os.Lstat(to)
	if filepath.Ext(to) != "" && !strings.HasSuffix(to, "/") || err == nil {
		return nil
	}
	return &problem.Problem{What: "there is no folder of that name", Where: to,
		Why: "its name has no ending such as .tar.zst, so a folder is meant, and it is not there",
		Fix: "mount its disk, or make it: mkdir " + to + "; or name a file, such as " + strings.TrimSuffix(to, "/") +
			".tar.zst",
		Exit: problem.ExitUsage, Err: os.ErrNotExist}
}

// judge holds flags that are written into the household file to its own checks.
func (w routine) judge(c *cobra.Command, h *household.Household) error {
	if w.every == "never" {
		return nil
	}
	with := *h
	with.Backup = household.Backup{Every: w.every, Keep: w.keep, Folder: w.to}
	if w.timed {
		with.Backup.At = w.at
	}
	if w.keep == 0 {
		with.Backup.Keep = -1 // none at all, which the file says by leaving the section out
	}
	for _, key := range []string{"every", "at", "keep", "folder"} {
		f, bad := with.Fault("backup." + key)
		if !bad {
			continue
		}
		if key == "keep" {
			f.Why = fmt.Sprintf("%d cannot be kept", w.keep)
		}
		flag := key
		if key == "folder" {
			flag = "to"
		}
		return wrongFlag(c, flag, f)
	}
	return nil
}

func (a *app) backupListCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "list", Short: "The backups that the server made, and those taken before changes", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			h, err := a.load()
			if err != nil {
				return err
			}
			list, err := backups(h)
			if err != nil {
				return &problem.Problem{What: "the backups cannot be listed", Where: h.Storage.State, Why: err.Error(),
					Fix: "run as root or as the run-as account", Err: err}
			}
			if a.json {
				return a.document(list)
			}
			rows := [][]string{}
			for _, b := range list {
				rows = append(rows, []string{show.When(b.Made), show.Size(b.Size), b.Path})
			}
			a.out.Table([]show.Column{{Head: "made", Whole: true}, {Head: "size", Right: true}, {Head: "file"}}, rows)
			return nil
		},
	}
	return a.withJSON(c)
}

// backups lists what lies in the household's folders of backups.
func backups(h *household.Household) ([]backup.Found, error) {
	inside := filepath.Join(h.Storage.State, blueprint.Backups)
	id := blueprint.ID(h.Storage.State)
	list, err := backup.List(inside, id)
	if err != nil {
		return nil, err
	}
	if h.Backup.Folder != "" {
		more, err := backup.List(h.Backup.Folder, id)
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	before, err := os.ReadDir(deploy.BackupsFolder(h.Storage.State))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	for _, d := range before {
		st, err := d.Info()
		if ok, _ := filepath.Match("before-*.tar.zst", d.Name()); ok && err == nil {
			list = append(list, backup.Found{Path: filepath.Join(deploy.BackupsFolder(h.Storage.State), d.Name()),
				Made: st.ModTime(), Size: st.Size()})
		}
	}
	if list == nil {
		list = []backup.Found{}
	}
	slices.SortStableFunc(list, func(a, b backup.Found) int { return a.Made.Compare(b.Made) })
	return list, nil
}

func (a *app) backupVerifyCommand() *cobra.Command {
	var pass passphrase
	c := &cobra.Command{
		Use: "verify FILE", Short: "Read every byte of a backup and open the store in it", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			secret, err := a.secretFor(args[0], &pass)
			if err != nil {
				return err
			}
			state, owner := a.known()
			file, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			u, err := a.unpack(c.Context(), file, secret, state, owner)
			if err != nil {
				return err
			}
			defer u.Close()
			if a.json {
				return a.document(backupSeen{File: args[0], Manifest: reportManifest(u.Manifest), Store: u.Store})
			}
			a.showBackup(args[0], u)
			return nil
		},
	}
	pass.flags(c)
	return a.withJSON(c)
}

// unpack reads a whole backup, and shows how far it is.
func (a *app) unpack(ctx context.Context, file, secret, state string, owner *atomicfile.Owner) (deploy.Unpacked,
	error) {
	var read atomic.Int64
	var size int64
	if st, err := os.Stat(file); err == nil {
		size = st.Size()
	}
	stop := a.err.Watch("reading the backup", show.Bytes, func() (int64, int64) { return read.Load(), size })
	defer stop()
	return deploy.Unpack(ctx, file, secret, state, owner, &read)
}

// secretFor takes the passphrase where a backup needs one.
func (a *app) secretFor(file string, pass *passphrase) (string, error) {
	f, err := boundary.PlainFile(file)
	if err != nil {
		return "", &problem.Problem{What: "the backup cannot be read", Where: file, Why: err.Error(),
			Fix: "name another, or run as an account that may read it", Err: err}
	}
	defer f.Close()
	if !backup.IsEncrypted(f) {
		return "", nil
	}
	return pass.take(a, false)
}

func (a *app) showBackup(file string, u deploy.Unpacked) {
	m := u.Manifest
	a.out.Printf("%s is sound: %s, %s\n", file, show.Count(len(m.Files), "file", "files"), show.Size(m.Size()))
	a.out.Printf("  %s, made %s by %s; store format %d\n", show.Bold(m.Name), show.When(m.Made), m.Version,
		u.Store.Format)
	last := ""
	if !u.Store.Last.IsZero() {
		last = ", the last " + show.When(u.Store.Last)
	}
	a.out.Printf("  %s, %s, %s%s\n", show.Count(u.Store.Members, "member", "members"),
		show.Count(u.Store.Titles, "title", "titles"), show.Count(u.Store.Plays, "play", "plays"), last)
}

func (a *app) restoreCommand() *cobra.Command {
	var yes bool
	var pass passphrase
	var g gentle
	c := &cobra.Command{
		Use: "restore FILE", Short: "Put a backup's members, positions, plays and pictures in place",
		Long: `Reads the whole backup first and refuses one that is damaged. Then it shows what will
be done. What is there now is backed up before it is replaced, so cozyshelf undo takes
it back. On a fresh machine, where there is no household file, the one in the backup
is written first: look at its folders and its account, then restore again.`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := g.judge(c); err != nil {
				return err
			}
			ctx := c.Context()
			file, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			if a.json {
				a.out = a.err // standard output is for the document alone
			}
			secret, err := a.secretFor(file, &pass)
			if err != nil {
				return err
			}
			state, owner := a.known()
			u, err := a.unpack(ctx, file, secret, state, owner)
			if err != nil {
				return err
			}
			defer u.Close()
			a.showBackup(args[0], u)
			if _, err := os.Stat(a.household); errors.Is(err, os.ErrNotExist) {
				return a.restoreHouseholdFile(u, yes)
			}
			return a.restore(ctx, operate.Backup{File: file, Secret: secret, Unpacked: u}, yes, "restore", 0, g)
		},
	}
	pass.flags(c)
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	g.flags(c)
	return a.withJSON(c)
}

// restoreHouseholdFile writes the household file of a backup where there is none.
func (a *app) restoreHouseholdFile(u deploy.Unpacked, yes bool) error {
	text, err := u.Text(backup.Household)
	if err != nil {
		return &problem.Problem{What: "there is no household file, and none in the backup", Where: a.household,
			Why: "every command needs to know which household it is about",
			Fix: "write one with cozyshelf new, then restore again", Exit: problem.ExitUsage}
	}
	a.out.Printf("  • write the backup's household file to %s\n", a.household)
	a.warn("what a household file says is done with your powers, and a server that makes its own backups could " +
		"have written this one: read it")
	for line := range strings.Lines(string(text)) {
		a.out.Printf("    %s\n", show.Clean(strings.TrimRight(line, "\n")))
	}
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	if err := atomicfile.Create(a.household, text, 0o644, nil); err != nil {
		return err
	}
	if a.json {
		return a.document(householdWritten{HouseholdFile: a.household, Written: true})
	}
	a.out.Printf("Written. Now see that its folders and its account are right for this machine (cozyshelf check), " +
		"and run cozyshelf restore again\n")
	return nil
}

// restore puts the store of a backup in place; on the engine only what runs is
// stopped and started.
func (a *app) restore(ctx context.Context, b operate.Backup, yes bool, command string, undoes int, g gentle) error {
	h, err := a.openAlone(ctx)
	if err == nil {
		err = h.Here(ctx)
	}
	if err != nil {
		return err
	}
	r, err := h.Restore(ctx, command, b, undoes)
	if err != nil {
		return err
	}
	if r.Before != "" && r.Open != nil {
		a.out.Printf("  an earlier %s was cut off (entry %d, %s): this continues from there; what was there before "+
			"is in "+
			"%s\n", r.Open.Command, r.Open.ID, show.When(r.Open.At), r.Before)
	}
	if r.Damaged != "" {
		warning(a.out, 2, "the store that is there cannot be backed up (%s): it is put aside as it is, in "+
			"%s", r.Damaged,
			deploy.BackupsFolder(h.State()))
	}
	a.showChanges(r.Changes)
	a.showPasskeys(h, b.Unpacked.Store.Passkeys)
	if err := deploy.Room(h.State(), b.Unpacked.Manifest); err != nil {
		return err
	}
	if r.Lost != nil {
		warning(a.out, 2, "what came into the store after %s is not in the backup: %s",
			show.When(r.Lost.At), lostWords(*r.Lost))
	}
	a.showInterrupted(r.Watching)
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	if err := g.wait(ctx, a, h, r.Watching); err != nil {
		return err
	}
	d, err := a.carry(ctx, r.Plan)
	if err != nil {
		return err
	}
	switch {
	case a.json:
		return a.document(backupRestored{backupSeen{File: b.File, Manifest: reportManifest(b.Unpacked.Manifest),
			Store: b.Unpacked.Store}, r.Running})
	case r.Running:
		a.out.Printf("Restored; the server runs with it, and was away for %s\n", show.Took(d.Gap))
	default:
		a.out.Printf("Restored; cozyshelf deploy or cozyshelf start lets the server use it\n")
	}
	return nil
}

// showPasskeys tells which passkeys of a backup are good here: each is for one name of the server.
func (a *app) showPasskeys(h *operate.House, list []store.PasskeysFor) {
	for _, p := range list {
		if h.Household.AnswersTo(p.Name) {
			a.out.Printf("  %s for %s stay good: this household has that name, too\n", show.Count(p.Count, "passkey",
				"passkeys"), show.Clean(p.Name))
			continue
		}
		text := fmt.Sprintf("%s for %s open nothing here, until this household has that name ([server] names, or [remote] "+
			"address)", show.Count(p.Count, "passkey", "passkeys"), show.Clean(p.Name))
		if len(p.Only) > 0 {
			text += "; " + show.Clean(strings.Join(p.Only, ", ")) + " can come in by nothing else: cozyshelf member " +
				"password gives a password"
		}
		warning(a.out, 2, "%s", text)
	}
}

// undoStore puts the store back that was there before a restore.
func (a *app) undoStore(ctx context.Context, e ledger.Entry, yes bool, g gentle) error {
	state, owner := a.known()
	if filepath.Dir(e.Undo.Path) != deploy.BackupsFolder(state) {
		return &problem.Problem{What: "the entry names no backup of this household", Where: e.Undo.Path,
			Why: "such backups lie in " + deploy.BackupsFolder(state),
			Fix: "restore the file by its name, if it is the right one: cozyshelf restore"}
	}
	if _, err := os.Lstat(e.Undo.Path); errors.Is(err, os.ErrNotExist) && e.Outcome == ledger.Open {
		return a.undoUnbegun(ctx, e, yes)
	}
	u, err := a.unpack(ctx, e.Undo.Path, "", state, owner)
	if err != nil {
		return err
	}
	defer u.Close()
	return a.restore(ctx, operate.Backup{File: e.Undo.Path, Unpacked: u}, yes, "undo", e.ID, g)
}

// undoUnbegun takes back a restore that was cut off before anything was replaced.
func (a *app) undoUnbegun(ctx context.Context, e ledger.Entry, yes bool) error {
	h, err := a.openAlone(ctx)
	if err != nil {
		return err
	}
	u, err := h.Unbegun(ctx, e)
	if err != nil {
		return err
	}
	a.err.Printf("It was cut off before anything was replaced\n")
	if u.Stopped != "" {
		a.err.Printf("  • start %s  (it was stopped for it)\n", u.Stopped)
		if err := a.agree(yes, "Carry this out?"); err != nil {
			return err
		}
	}
	return u.Carry(ctx)
}

// known gives the state folder and the account of the household, where there is a
// household file; without one nothing is known.
func (a *app) known() (state string, owner *atomicfile.Owner) {
	h, err := a.load()
	if err != nil {
		return "", nil
	}
	if account := machine.Account(h.Server); account.Known {
		owner = &atomicfile.Owner{UID: int(account.UID), GID: int(account.GID)}
	}
	return h.Storage.State, owner
}
