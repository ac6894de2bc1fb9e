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
	"time"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/whole"

	"github.com/spf13/cobra"
	"golang.org/x/term"
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
				return "", &problem.Problem{What: "the passphrase cannot be read", Where: p.file, Why: err.Error(), Fix: "name a file that you may read", Err: err}
			}
			defer f.Close()
			in = f
		}
		b, err := io.ReadAll(io.LimitReader(in, 1<<16))
		text, _, _ := strings.Cut(string(b), "\n")
		if text = strings.TrimRight(text, "\r"); err == nil && text == "" {
			return "", &problem.Problem{What: "there is no passphrase", Where: p.file, Why: "its first line is empty", Fix: "write the passphrase into the first line", Exit: problem.ExitUsage}
		}
		return text, err
	}
	if !terminal() {
		return "", &problem.Problem{What: "there is no passphrase", Why: "there is nobody here to type it", Fix: "give --passphrase-file FILE, or - for standard input", Exit: problem.ExitUsage}
	}
	ask := func(what string) (string, error) {
		a.err.Printf("%s: ", what)
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		a.err.Printf("\n")
		return string(b), err
	}
	one, err := ask("passphrase")
	if err == nil && fresh {
		var two string
		if two, err = ask("once more"); err == nil && one != two {
			err = &problem.Problem{What: "the two are not the same", Why: "a passphrase that was mistyped would open nothing", Fix: "try again", Exit: problem.ExitUsage}
		}
	}
	if err == nil && one == "" {
		err = &problem.Problem{What: "there is no passphrase", Why: "nothing was typed", Fix: "try again", Exit: problem.ExitUsage}
	}
	return one, err
}

func (a *app) backupCommand() *cobra.Command {
	var to, every, at string
	var keep int
	var encrypt, yes bool
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
			if every != "" || c.Flags().Changed("keep") || c.Flags().Changed("at") {
				if every == "" || encrypt || pass.file != "" {
					return wrongUse(c, "--keep and --at go with --every, and encryption does not: the server must not know a passphrase")
				}
				return a.backupRoutine(ctx, c, every, at, keep, to, yes)
			}
			s, err := a.open(ctx)
			if err != nil {
				return err
			}
			secret := ""
			if encrypt || pass.file != "" {
				if secret, err = pass.take(a, true); err != nil {
					return err
				}
			}
			name := backup.FileName(blueprint.Slug(s.h.Household.Name), s.id, time.Now())
			if secret != "" {
				name += ".age"
			}
			if to == "" {
				to = name
			} else if st, err := os.Stat(to); err == nil && st.IsDir() {
				to = filepath.Join(to, name)
			}
			if _, err := os.Lstat(to); err == nil {
				return &problem.Problem{What: "there is a file already", Where: to, Why: "a backup never replaces anything", Fix: "name another file, or a folder"}
			}
			m, err := a.writeBackup(ctx, s, to, secret)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"file": to, "encrypted": secret != "", "manifest": m})
			}
			st, err := os.Stat(to)
			if err != nil {
				return err
			}
			a.out.Printf("%s: %s in %s, %s\n", to, show.Count(len(m.Files), "file", "files"), show.Size(st.Size()), map[bool]string{true: "encrypted", false: "mode 0600, not encrypted"}[secret != ""])
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "a file, or a folder; with --every a folder")
	c.Flags().BoolVar(&encrypt, "encrypt", false, "encrypt it with a passphrase (the format of age)")
	pass.flags(c)
	c.Flags().StringVar(&every, "every", "", "let the server do it: day, week, or hours such as 12h; never to end it")
	c.Flags().StringVar(&at, "at", "03:30", "with --every day or week: the time of day")
	c.Flags().IntVar(&keep, "keep", 7, "with --every: how many stay")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.AddCommand(a.backupVerifyCommand(), a.backupListCommand())
	return a.reads(c)
}

// writeBackup writes a backup to a file: by the server where it runs, else here. It
// is read back before it counts.
func (a *app) writeBackup(ctx context.Context, s *site, to, secret string) (backup.Manifest, error) {
	var m backup.Manifest
	// One that was cut off leaves nothing, but on disks that know no files without names.
	whole.Sweep(filepath.Dir(to), func(name string) bool {
		id, _, ok := backup.ParseName(name)
		return name == filepath.Base(to) || ok && id == s.id
	})
	err := whole.WriteNew(to, 0o600, nil, func(f io.Writer) error {
		w := io.WriteCloser(nopCloser{f})
		if secret != "" {
			var err error
			if w, err = backup.Encrypt(f, secret); err != nil {
				return err
			}
		}
		// What the server sends is read here as it passes: every byte is checked.
		pr, pw := io.Pipe()
		read := make(chan error, 1)
		go func() {
			var err error
			m, err = backup.Read(pr, "", nil)
			_, _ = io.Copy(io.Discard, pr) // until the writer ends
			read <- err
		}()
		err := a.streamBackup(ctx, s, io.MultiWriter(w, pw))
		if errors.Is(err, control.ErrUnreachable) {
			if err = s.running(ctx); err == nil {
				_, err = s.writeBackup(ctx, io.MultiWriter(w, pw))
			}
		}
		pw.CloseWithError(err)
		rerr := <-read
		if err == nil {
			err = rerr
		}
		return errors.Join(err, w.Close())
	})
	if err != nil {
		var p *problem.Problem
		if errors.As(err, &p) {
			return m, p
		}
		return m, &problem.Problem{What: "the backup could not be made; nothing was left behind", Where: to, Why: err.Error(), Fix: "see that the disk has room, there and in the state folder", Err: err}
	}
	return m, nil
}

// streamBackup takes what is the server's from the server, and adds what is the
// administrator's: the household file, the settings and the ledger.
func (a *app) streamBackup(ctx context.Context, s *site, w io.Writer) error {
	parts, err := s.texts().Parts(s.h.Storage.State)
	if err != nil {
		return err
	}
	pr, pw := io.Pipe()
	sent := make(chan error, 1)
	go func() {
		err := s.client().Backup(ctx, pw)
		pw.CloseWithError(err)
		sent <- err
	}()
	_, err = backup.Merge(ctx, w, pr, parts)
	_, _ = io.Copy(io.Discard, pr) // until the server ends
	// What the server says goes before what became of its half answer.
	if serr := <-sent; serr != nil {
		return serr
	}
	return err
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

// running gives an error where the server runs, though it cannot be asked.
func (s *site) running(ctx context.Context) error {
	o, err := s.observe(ctx)
	if err != nil {
		return err
	}
	if _, ok := o.Running(); ok {
		_, err = s.client().Status(ctx)
		if err != nil {
			return err
		}
	}
	return nil
}

// backupRoutine writes into the household file how often the server makes backups.
func (a *app) backupRoutine(ctx context.Context, c *cobra.Command, every, at string, keep int, to string, yes bool) error {
	h, err := a.loadAlone(ctx)
	if err != nil {
		return err
	}
	text, err := a.householdText()
	if err != nil {
		return err
	}
	old := bytes.Clone(text)
	what := fmt.Sprintf("the server makes a backup every %s and keeps %d", every, keep)
	if every == "never" {
		what = "the server makes no backups by itself"
		if h.Backup.Every == "" {
			a.out.Printf("nothing to do: %s\n", what)
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
		set("every", household.Quote(every))
		set("keep", fmt.Sprint(keep))
		if c.Flags().Changed("at") {
			set("at", household.Quote(at))
		}
		if to != "" {
			if to, err = filepath.Abs(to); err == nil {
				set("folder", household.Quote(to))
				what += " in " + to
			}
		}
		if err != nil {
			return err
		}
	}
	if bytes.Equal(old, text) {
		a.out.Printf("nothing to do: %s already\n", what)
		return nil
	}
	a.out.Printf("%s\n  • %s\n", show.Bold(a.household), what)
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	return a.rewrite(h, text, "backup", what)
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
				return &problem.Problem{What: "the backups cannot be listed", Where: h.Storage.State, Why: err.Error(), Fix: "run as root or as the run-as account", Err: err}
			}
			if a.json {
				return a.document(list)
			}
			rows := [][]string{}
			for _, b := range list {
				rows = append(rows, []string{show.When(b.Made), show.Size(b.Size), b.Path})
			}
			a.out.Table([]show.Column{{Head: "made"}, {Head: "size", Right: true}, {Head: "file"}}, rows)
			return nil
		},
	}
	return a.reads(c)
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
			list = append(list, backup.Found{Path: filepath.Join(deploy.BackupsFolder(h.Storage.State), d.Name()), Made: st.ModTime(), Size: st.Size()})
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
			u, err := deploy.Unpack(c.Context(), file, secret, state, owner)
			if err != nil {
				return err
			}
			defer u.Close()
			if a.json {
				return a.document(map[string]any{"file": args[0], "manifest": u.Manifest, "store": u.Store})
			}
			a.showBackup(args[0], u)
			return nil
		},
	}
	pass.flags(c)
	return a.reads(c)
}

// secretFor takes the passphrase where a backup needs one.
func (a *app) secretFor(file string, pass *passphrase) (string, error) {
	f, err := boundary.PlainFile(file)
	if err != nil {
		return "", &problem.Problem{What: "the backup cannot be read", Where: file, Why: err.Error(), Fix: "name another, or run as an account that may read it", Err: err}
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
	a.out.Printf("  %s, made %s by %s; store format %d\n", show.Bold(m.Name), show.When(m.Made), m.Version, u.Store.Format)
	last := ""
	if !u.Store.Last.IsZero() {
		last = ", the last " + show.When(u.Store.Last)
	}
	a.out.Printf("  %s, %s, %s%s\n", show.Count(u.Store.Members, "member", "members"), show.Count(u.Store.Titles, "title", "titles"), show.Count(u.Store.Plays, "play", "plays"), last)
}

func (a *app) restoreCommand() *cobra.Command {
	var yes bool
	var pass passphrase
	c := &cobra.Command{
		Use: "restore FILE", Short: "Put a backup's members, positions, plays and pictures in place",
		Long: `Reads the whole backup first and refuses one that is damaged. Then it shows what will
be done. What is there now is backed up before it is replaced, so cozyshelf undo takes
it back. On a fresh machine, where there is no household file, the one in the backup
is written first: look at its folders and its account, then restore again.`,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			file, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			secret, err := a.secretFor(file, &pass)
			if err != nil {
				return err
			}
			state, owner := a.known()
			u, err := deploy.Unpack(ctx, file, secret, state, owner)
			if err != nil {
				return err
			}
			defer u.Close()
			a.showBackup(args[0], u)
			if _, err := os.Stat(a.household); errors.Is(err, os.ErrNotExist) {
				return a.restoreHouseholdFile(u, yes)
			}
			return a.restore(ctx, file, secret, u, yes, "restore", 0)
		},
	}
	pass.flags(c)
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return a.reads(c)
}

// restoreHouseholdFile writes the household file of a backup where there is none.
func (a *app) restoreHouseholdFile(u deploy.Unpacked, yes bool) error {
	text, err := u.Text(backup.Household)
	if err != nil {
		return &problem.Problem{What: "there is no household file, and none in the backup", Where: a.household, Why: "every command needs to know which household it is about", Fix: "write one with cozyshelf new, then restore again", Exit: problem.ExitUsage}
	}
	a.out.Printf("  • write the backup's household file to %s\n", a.household)
	a.warn("what a household file says is done with your powers, and a server that makes its own backups could have written this one: read it")
	for line := range strings.Lines(string(text)) {
		a.out.Printf("    %s\n", show.Clean(strings.TrimRight(line, "\n")))
	}
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	if err := whole.Create(a.household, text, 0o644, nil); err != nil {
		return err
	}
	a.out.Printf("written. Now see that its folders and its account are right for this machine (cozyshelf check), and run cozyshelf restore again\n")
	return nil
}

// restore puts the store of a backup in place; on the engine only what runs is
// stopped and started.
func (a *app) restore(ctx context.Context, file, secret string, u deploy.Unpacked, yes bool, command string, undoes int) error {
	if err := a.alone(ctx); err != nil {
		return err
	}
	s, err := a.open(ctx)
	if err == nil {
		err = s.here(ctx)
	}
	if err == nil {
		err = a.takeOver(s.h)
	}
	if err != nil {
		return err
	}
	if err := a.draw(ctx, s); err != nil {
		return err
	}
	state := s.h.Storage.State
	have, err := s.observe(ctx)
	if err != nil {
		return err
	}
	now, running := have.Running()
	// One that was cut off is gone on with, unless the server has run since: then what it
	// wrote is to be backed up, too.
	var open *ledger.Entry
	e, placed, ok := s.restoring()
	same := ok && e.Undoes == undoes && e.What == putting(file)
	if ok && !running {
		now, running = have.Current() // which it had stopped
	}
	if same && (!now.Running || placed) {
		open = &e
	}
	var changes []blueprint.Change
	add := func(act blueprint.Action, target, what, why string) {
		changes = append(changes, blueprint.Change{Action: act, Target: target, What: what, Why: why})
	}
	storePath := filepath.Join(state, backup.Store)
	if _, err := os.Stat(state); errors.Is(err, os.ErrNotExist) {
		add(blueprint.MakeState, state, "make the state folder "+state, "it does not exist")
	}
	// One that has put the store in place and started the server was only to see it get well.
	ran := open != nil && now.Running
	if now.Running && !ran {
		add(blueprint.StopOld, now.ID, "stop "+now.Name, "its store is replaced")
	}
	var undo *ledger.Undo
	before := beforeName(state)
	damaged := ""
	if open != nil && open.Undo != nil {
		undo, before = open.Undo, open.Undo.Path
	}
	if _, err := os.Lstat(before); err == nil {
		a.out.Printf("  an earlier %s was cut off (entry %d, %s): this goes on from there; what was there before is in "+
			"%s\n", open.Command, open.ID, show.When(open.At), before)
	} else if _, err := os.Lstat(storePath); err == nil {
		if _, err := deploy.Inspect(ctx, state, s.owner()); err != nil {
			damaged = err.Error()
			a.out.Printf("  %s the store that is there cannot be backed up (%s): it is put aside as it is, in %s\n", show.Mark("warning"), show.Clean(damaged), deploy.BackupsFolder(state))
		} else {
			add(blueprint.TakeBackup, before, "back up what is there to "+before, "nothing of it is to be lost")
			undo = &ledger.Undo{Kind: undoStore, Path: before}
		}
	}
	if !ran {
		add(blueprint.PutStore, file, "put the store of "+file+" in place", "asked for")
	}
	if running && !ran {
		add(blueprint.Start, now.Name, "start "+now.Name, "it was running")
	}
	if running {
		add(blueprint.AwaitHealthy, now.Name, "wait until it is healthy", "else what was there is put back")
	}
	a.showChanges(changes)
	if err := deploy.Room(state, u.Manifest); err != nil {
		return err
	}
	if undo != nil {
		if l, err := s.lostSince(ctx, u.Manifest.Made); err == nil {
			a.out.Printf("  %s what came into the store after %s is not in the backup: %s\n", show.Mark("warning"), show.When(u.Manifest.Made), l.says())
		}
	}
	a.showInterrupted(s.interrupted(ctx, changes))
	if err := a.agree(yes, "Carry this out?"); err != nil {
		return err
	}
	if running {
		s.blueprint.Container = now.Container
	}
	s.blueprint.Store, s.blueprint.Backup = file, ""
	if undo != nil {
		s.blueprint.Backup = before
	}
	d := a.carrier(s, command, len(changes))
	d.Secret = secret
	d.Entry = &ledger.Entry{Action: "restore", What: putting(file), Why: "asked for", Undo: undo, Undoes: undoes}
	if open != nil {
		d.Continues = open.ID
	}
	d.KeepSettings = true
	if err := d.Carry(ctx, changes); err != nil {
		a.err.Printf("failed\n")
		return err
	}
	switch {
	case a.json:
		return a.document(map[string]any{"file": file, "manifest": u.Manifest, "store": u.Store, "running": running})
	case running:
		a.out.Printf("restored; the server runs with it, and was away for %s\n", show.Took(d.Gap))
	default:
		a.out.Printf("restored; cozyshelf deploy or cozyshelf start lets the server use it\n")
	}
	return nil
}

// lostSince says what came into the store after a time.
func (s *site) lostSince(ctx context.Context, t time.Time) (lost, error) {
	got, err := deploy.LookSince(ctx, s.h.Storage.State, s.owner(), t)
	return lost{t, got}, err
}

// undoStore puts the store back that was there before a restore.
func (a *app) undoStore(ctx context.Context, e ledger.Entry, yes bool) error {
	state, owner := a.known()
	if filepath.Dir(e.Undo.Path) != deploy.BackupsFolder(state) {
		return &problem.Problem{What: "the entry names no backup of this household", Where: e.Undo.Path, Why: "such backups lie in " + deploy.BackupsFolder(state), Fix: "restore the file by its name, if it is the right one: cozyshelf restore"}
	}
	if _, err := os.Lstat(e.Undo.Path); errors.Is(err, os.ErrNotExist) && e.Outcome == ledger.Open {
		return a.undoUnbegun(ctx, e, yes)
	}
	u, err := deploy.Unpack(ctx, e.Undo.Path, "", state, owner)
	if err != nil {
		return err
	}
	defer u.Close()
	return a.restore(ctx, e.Undo.Path, "", u, yes, "undo", e.ID)
}

// undoUnbegun takes back a restore that was cut off before what was there had been backed up,
// and so before anything was replaced: at most the server had been stopped.
func (a *app) undoUnbegun(ctx context.Context, e ledger.Entry, yes bool) error {
	if err := a.alone(ctx); err != nil {
		return err
	}
	s, err := a.open(ctx)
	if err != nil {
		return err
	}
	have, err := s.observe(ctx)
	if err != nil {
		return err
	}
	now, there := have.Current()
	a.err.Printf("it was cut off before anything was replaced\n")
	if there && !now.Running {
		a.err.Printf("  • start %s  (it was stopped for it)\n", now.Name)
		if err := a.agree(yes, "Carry this out?"); err != nil {
			return err
		}
		if err := s.engine.Start(ctx, now.ID); err != nil {
			return &problem.Problem{What: "the server could not be started", Where: now.Name, Why: err.Error(), Fix: "cozyshelf start; cozyshelf logs shows more", Err: err}
		}
		d := &deploy.Carrier{Engine: s.engine, Health: s.client().Health, Command: "undo", Who: who()}
		d.Blueprint.Container, d.Blueprint.State = now.Container, s.h.Storage.State
		if err := d.Carry(ctx, []blueprint.Change{{Action: blueprint.AwaitHealthy, Target: now.Name,
			What: "wait until it is healthy"}}); err != nil {
			return err
		}
	}
	return ledger.End(s.h.Storage.State, e.ID, ledger.TakenBack)
}

// known gives the state folder and the account of the household, where there is a
// household file; without one nothing is known.
func (a *app) known() (state string, owner *whole.Owner) {
	h, err := a.load()
	if err != nil {
		return "", nil
	}
	if account := machine.Account(h.Server); account.Known {
		owner = &whole.Owner{UID: int(account.UID), GID: int(account.GID)}
	}
	return h.Storage.State, owner
}

// putting says in the ledger what a restore does.
func putting(file string) string { return "put the store of " + file + " in place" }

// restoring gives the restore that was cut off, if one was and nobody has started the server
// since, and whether its store was in place by then.
func (s *site) restoring() (open ledger.Entry, placed, ok bool) {
	list, _, err := ledger.Read(s.h.Storage.State)
	if err != nil {
		return open, false, false // there is no ledger yet, or the first new entry tells
	}
	for _, e := range list {
		switch {
		case e.Outcome == ledger.Open && e.Action == "restore" && e.Of == 0:
			open, placed, ok = e, false, true
		case e.Action == string(blueprint.Start) && e.Of == 0:
			ok = false
		case e.Of == open.ID && e.Of != 0 && e.Action == string(blueprint.PutStore):
			placed = e.Outcome == "done"
		}
	}
	return open, placed, ok
}
