package deploy

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/backup"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
	"cozyshelf/internal/storework"

	"golang.org/x/sys/unix"
)

// Unpacked is a backup that was read to its end, found sound, and unpacked into a folder
// of the administrator's. Close it.
type Unpacked struct {
	Dir      *boundary.Dir
	Manifest backup.Manifest
	Store    store.Facts
	end      func()
}

// Close removes the folder.
func (u Unpacked) Close() {
	if u.end != nil {
		u.end()
	}
}

// Text reads a text of the backup; it is fs.ErrNotExist where the backup has none.
func (u Unpacked) Text(name string) ([]byte, error) { return u.Dir.Read(name, backup.MostText, nil) }

// Unpack reads a whole backup, every byte of it, into a new folder of the administrator's,
// and has the store in it looked at by the account that it is for, or by nobody's where
// that is not known. Nothing else is touched. The backup may have been made by the
// server, so nothing in it is believed before it has been judged. An empty state stands
// for a household that is not known yet.
func Unpack(ctx context.Context, file, passphrase, state string, owner *atomicfile.Owner,
	counted *atomic.Int64) (u Unpacked, err error) {
	f, err := openBackup(file, state)
	if err != nil {
		return u, &problem.Problem{What: "the backup cannot be read", Where: file, Why: plainly(err),
			Fix: "name another, or run as an account that may read it", Err: err}
	}
	defer f.Close()
	if u.Dir, u.end, err = room(state); err != nil {
		return u, notOurs(state, err)
	}
	defer func() {
		if err != nil {
			u.Close()
		}
	}()
	if u.Manifest, err = backup.Read(bufio.NewReaderSize(counting{f, counted}, 1<<20), passphrase, u.Dir); err != nil {
		return u, unreadable(file, err)
	}
	if err = giveStore(u.Dir, owner); err != nil {
		return u, err
	}
	u.Store, err = storework.Work{Dir: u.Dir, Name: backup.Store, Owner: owner}.Inspect(ctx, true)
	if err != nil {
		return u, unreadable(file, fmt.Errorf("its store: %w", err))
	}
	if u.Store.Format > store.Newest() {
		return u, &problem.Problem{What: "the backup was made by a newer program", Where: file,
			Why: fmt.Sprintf("its store has format %d, this program (%s made it) knows %d", u.Store.Format,
				u.Manifest.Version, store.Newest()), Fix: "restore it with program " + u.Manifest.Version +
				" or a later one", Err: store.ErrNewer}
	}
	return u, nil
}

// counting counts the bytes that are read, unless n is nil.
type counting struct {
	io.Reader
	n *atomic.Int64
}

func (c counting) Read(b []byte) (int, error) {
	n, err := c.Reader.Read(b)
	if c.n != nil {
		c.n.Add(int64(n))
	}
	return n, err
}

// plainly gives an error's cause without the path, which is shown beside it.
func plainly(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// notOurs is the problem where the administrator's folder cannot be had.
func notOurs(state string, err error) error {
	if errors.Is(err, unix.ENOSPC) {
		return &problem.Problem{What: "there is no room for it", Where: filepath.Dir(boundary.Admin(state)),
			Why: plainly(err), Fix: "free some space there, and try again", Err: err}
	}
	return &problem.Problem{What: "there is no place that only you can write to", Where: boundary.Admin(state),
		Why: plainly(err), Fix: "run as root, and see that the folder above the state folder belongs to root and " +
			"nobody else may write to it", Err: err}
}

// room gives a folder to unpack into: the administrator's for a household, or one of the
// caller's own.
func room(state string) (*boundary.Dir, func(), error) {
	if state != "" {
		if _, err := os.Stat(filepath.Dir(boundary.Admin(state))); err == nil {
			return boundary.Work(state)
		}
	}
	path, err := os.MkdirTemp("", "cozyshelf-restore-")
	if err != nil {
		return nil, nil, err
	}
	d, err := boundary.OpenOwn(path)
	if err != nil {
		os.Remove(path)
		return nil, nil, err
	}
	return d, func() {
		d.Close()
		os.RemoveAll(path)
	}, nil
}

// BackupsFolder is where the backups lie that commands take before they change something.
func BackupsFolder(state string) string {
	return filepath.Join(boundary.Admin(state), blueprint.Backups)
}

// openBackup opens an archive: one of the administrator's as such, all others as plain
// files.
func openBackup(file, state string) (*os.File, error) {
	if state != "" && filepath.Dir(file) == BackupsFolder(state) {
		admin, err := boundary.OpenAdmin(state, false)
		if err != nil {
			return nil, err
		}
		defer admin.Close()
		return admin.File(blueprint.Backups+"/"+filepath.Base(file), []int{os.Geteuid()})
	}
	return boundary.PlainFile(file)
}

// giveStore gives the folder and the store in it to the account that looks at it. All
// above stays the administrator's, so nobody else comes there.
func giveStore(d *boundary.Dir, owner *atomicfile.Owner) error {
	if os.Geteuid() != 0 {
		return nil
	}
	if owner == nil {
		owner = &boundary.Owner{UID: 65534, GID: 65534}
	}
	f, err := d.File(backup.Store, []int{os.Geteuid()})
	if errors.Is(err, fs.ErrNotExist) {
		return nil // looking at it tells
	}
	if err != nil {
		return err
	}
	return errors.Join(f.Chown(owner.UID, owner.GID), f.Close(), d.Chown(*owner))
}

func unreadable(file string, err error) error {
	p := &problem.Problem{What: "the backup cannot be used; nothing was touched", Where: file, Why: err.Error(),
		Fix: "take another one", Err: err}
	switch {
	case errors.Is(err, backup.ErrEncrypted):
		p.Fix = "give --passphrase-file FILE, or run it on a terminal and type the passphrase"
	case errors.Is(err, backup.ErrPassphrase):
		p.Fix = "try another passphrase"
	case errors.Is(err, store.ErrFull):
		p.Fix = "free some space in the state folder, and try again"
	}
	return p
}

// PutStore puts the store and the pictures of a backup in place of those of a state
// folder. The server must not run. A store that is there and damaged is put aside,
// not away. Done twice, it does no harm.
func PutStore(ctx context.Context, state, file, passphrase string, owner *atomicfile.Owner) (backup.Manifest, error) {
	let, err := idle(ctx, state)
	if err != nil {
		return backup.Manifest{}, err
	}
	defer let()
	u, err := Unpack(ctx, file, passphrase, state, owner, nil)
	if err != nil {
		return u.Manifest, err
	}
	defer u.Close()
	to, err := boundary.Open(state)
	if err != nil {
		return u.Manifest, err
	}
	defer to.Close()
	if to.Exists(backup.Store) {
		// A log that belongs to the former store must not meet the new one.
		if err := (storework.Work{Dir: to, Name: backup.Store, Owner: owner}).Settle(ctx); err != nil {
			if err := putAside(state, to); err != nil {
				return u.Manifest, err
			}
		}
	}
	for _, log := range []string{"-wal", "-shm", "-journal"} {
		if err := to.RemoveAll(backup.Store + log); err != nil {
			return u.Manifest, err
		}
	}
	if err := pictures(u.Dir, to, owner); err != nil {
		return u.Manifest, err
	}
	if err := keys(u.Dir, to, owner); err != nil {
		return u.Manifest, err
	}
	if st, err := to.Lstat(backup.Store); err == nil && st.Mode&unix.S_IFMT == unix.S_IFDIR {
		if err := to.RemoveAll(backup.Store); err != nil { // nothing takes a folder's place
			return u.Manifest, err
		}
	}
	if err := u.Dir.Rename(backup.Store, to, backup.Store); err != nil {
		return u.Manifest, err
	}
	return u.Manifest, to.Sync()
}

// Room gives an error where there is too little room to put a backup's store in place: for
// what is in it, for a backup of what is there, and for the server afterwards.
func Room(state string, m backup.Manifest) error {
	need := m.Size() + goesOn
	for _, part := range []string{"", "-wal"} {
		if st, err := os.Lstat(filepath.Join(state, backup.Store+part)); err == nil {
			need += st.Size()
		}
	}
	at := filepath.Dir(boundary.Admin(state))
	var fs unix.Statfs_t
	if err := unix.Statfs(at, &fs); err != nil {
		return nil // putting it there tells
	}
	free := int64(fs.Bavail) * int64(fs.Bsize)
	if free >= need {
		return nil
	}
	why := fmt.Sprintf("%d MiB are free, and %d MiB are needed: for the store of the backup, "+
		"for a backup of the one that is there, and for the server afterwards", free>>20, need>>20+1)
	return &problem.Problem{What: "there is not enough room; nothing was touched", Where: at, Why: why,
		Fix: "free some space there, and try again", Err: unix.ENOSPC}
}

// goesOn is how much has to be free for a server, and for what it writes when it starts.
const goesOn = 16 << 20

// ended is how long a server that was stopped may take to be gone.
const ended = 5 * time.Second

// idle sees to it that no server is at work on a state folder, until the function that it
// gives is called.
func idle(ctx context.Context, state string) (func(), error) {
	let, err := atomicfile.Claim(ctx, state, ended)
	if errors.Is(err, atomicfile.ErrClaimed) {
		err = &problem.Problem{What: "a server still works on the state folder", Where: state,
			Why: "it holds the folder; what is changed under it would be damaged",
			Fix: "stop it: cozyshelf check says whether it runs on another engine", Err: err}
	}
	return let, err
}

// keys moves the keys of a backup to those that are there. Those of passwords are named by what they are, so one
// of the same name is the same, or damaged; the authority for HTTPS is the backup's from now on.
func keys(from, to *boundary.Dir, owner *atomicfile.Owner) error {
	names, err := from.Names()
	if err != nil {
		return err
	}
	for _, name := range names {
		if !layout.Secret(name) {
			continue
		}
		if err := give(from, name, owner); err != nil {
			return err
		}
		if st, err := to.Lstat(name); err == nil && st.Mode&unix.S_IFMT == unix.S_IFDIR {
			if err := to.RemoveAll(name); err != nil { // nothing takes a folder's place
				return err
			}
		}
		if err := from.Rename(name, to, name); err != nil {
			return err
		}
	}
	return nil
}

// give gives a file of ours to an account.
func give(d *boundary.Dir, name string, owner *atomicfile.Owner) error {
	if owner == nil {
		return nil
	}
	f, err := d.File(name, []int{os.Geteuid()})
	if err != nil {
		return err
	}
	return errors.Join(f.Chown(owner.UID, owner.GID), f.Close())
}

// pictures moves the pictures of a backup to those that are there; none is replaced,
// since each is named by what it holds.
func pictures(from, to *boundary.Dir, owner *atomicfile.Owner) error {
	name := strings.TrimSuffix(backup.Pictures, "/")
	err := from.Walk(name, func(p string, st unix.Stat_t) error {
		if st.Mode&unix.S_IFMT != unix.S_IFREG || to.Exists(p) {
			return nil
		}
		in, err := to.MkdirAll(filepath.Dir(p), 0o700, owner)
		if err != nil {
			return err
		}
		defer in.Close()
		if err := give(from, p, owner); err != nil {
			return err
		}
		return from.Rename(p, in, filepath.Base(p))
	})
	return ignore(err, fs.ErrNotExist)
}

// putAside keeps a store that cannot be opened, with its logs, in a folder of the
// administrator's.
func putAside(state string, from *boundary.Dir) error {
	admin, err := boundary.OpenAdmin(state, true)
	if err != nil {
		return err
	}
	defer admin.Close()
	aside, err := admin.MkdirAll(blueprint.Backups+"/damaged-"+time.Now().UTC().Format("20060102-150405"), 0o700, nil)
	if err != nil {
		return err
	}
	defer aside.Close()
	for _, part := range []string{"-wal", "-shm", "-journal", ""} {
		st, err := from.Lstat(backup.Store + part)
		if err == nil && st.Mode&unix.S_IFMT == unix.S_IFREG {
			err = from.Rename(backup.Store+part, aside, backup.Store+part)
		}
		if err := ignore(err, fs.ErrNotExist); err != nil {
			return err
		}
	}
	return errors.Join(aside.Sync(), from.Sync())
}

// storeBack puts the store of a backup back where that is needed: always, or else
// where another program has brought the store to a format of its own.
func storeBack(ctx context.Context, state, file string, always bool, owner *atomicfile.Owner) (bool, error) {
	m, err := ReadBackup(file, state)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil // it had not come to that
	}
	if err != nil {
		return false, err
	}
	now, err := Inspect(ctx, state, owner)
	if !always && err == nil && now.Format == m.StoreFormat {
		return false, nil
	}
	_, err = PutStore(ctx, state, file, "", owner)
	return err == nil, err
}

// ReadBackup reads an archive that is not encrypted to its end, and gives what it says.
func ReadBackup(file, state string) (backup.Manifest, error) {
	f, err := openBackup(file, state)
	if err != nil {
		return backup.Manifest{}, err
	}
	defer f.Close()
	return backup.Read(f, "", nil)
}

// Inspect looks at the store of a state folder, with the account's powers.
func Inspect(ctx context.Context, state string, owner *atomicfile.Owner) (store.Facts, error) {
	var f store.Facts
	err := withStore(state, owner, func(w storework.Work) (err error) {
		f, err = w.Inspect(ctx, false)
		return err
	})
	return f, err
}

// LookSince says what came into the store of a state folder after a time.
func LookSince(ctx context.Context, state string, owner *atomicfile.Owner, t time.Time) (store.Since, error) {
	var s store.Since
	err := withStore(state, owner, func(w storework.Work) (err error) {
		s, err = w.LookSince(ctx, t)
		return err
	})
	return s, err
}

func withStore(state string, owner *atomicfile.Owner, do func(storework.Work) error) error {
	d, err := boundary.Open(state)
	if err != nil {
		return err
	}
	defer d.Close()
	if owner == nil {
		if o, err := d.Owner(); err == nil {
			owner = &o
		}
	}
	return do(storework.Work{Dir: d, Name: backup.Store, Owner: owner})
}

// Texts are what the administrator's own archive holds beside what is the server's.
type Texts struct {
	Household string // the household file
	Settings  string
}

// Parts gives the archive's parts that are the administrator's: texts that are known here,
// and the ledger. Nothing of it is read from the state folder.
func (t Texts) Parts(state string) ([]backup.Part, error) {
	var out []backup.Part
	for name, text := range map[string]string{backup.Household: t.Household, backup.Settings: t.Settings} {
		if text != "" {
			out = append(out, backup.Text(name, []byte(text)))
		}
	}
	admin, err := boundary.OpenAdmin(state, false)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	defer admin.Close()
	b, err := admin.Read(backup.Ledger, 256<<20, []int{os.Geteuid()})
	if err == nil {
		out = append(out, backup.Text(backup.Ledger, b))
	}
	return out, ignore(err, fs.ErrNotExist)
}

// WriteBackup writes an archive of a state folder in which no server is at work. It
// belongs to whoever runs this.
func WriteBackup(ctx context.Context, to io.Writer, m backup.Manifest, state string, t Texts,
	owner *atomicfile.Owner) (backup.Manifest, error) {
	let, err := idle(ctx, state)
	if err != nil {
		return m, err
	}
	defer let()
	d, err := boundary.Open(state)
	if err != nil {
		return m, err
	}
	defer d.Close()
	work := storework.Work{Dir: d, Name: backup.Store, Owner: owner}
	// What its write-ahead log holds is brought into the one file, by the account; what
	// that file is then is copied, whatever it is.
	if err := work.Settle(ctx); err != nil {
		return m, err
	}
	facts, err := work.Inspect(ctx, false)
	if err != nil {
		return m, err
	}
	m.StoreFormat = facts.Format
	may := []int{os.Geteuid()}
	if o, err := d.Owner(); err == nil {
		may = append(may, o.UID)
	}
	if owner != nil {
		may = append(may, owner.UID)
	}
	parts := []backup.Part{backup.In(d, backup.Store, may)}
	own, err := t.Parts(state)
	if err != nil {
		return m, err
	}
	parts = append(parts, own...)
	keys, err := backup.KeysOf(d, may)
	if err != nil {
		return m, err
	}
	parts = append(parts, keys...)
	pics, err := backup.PicturesOf(d, may)
	if err != nil {
		return m, err
	}
	return backup.Write(ctx, to, m, append(parts, pics...))
}

// TakeBackup writes such an archive to a file among the administrator's backups.
func TakeBackup(ctx context.Context, path string, m backup.Manifest, state string, t Texts,
	owner *atomicfile.Owner) (backup.Manifest, error) {
	if filepath.Dir(path) != BackupsFolder(state) {
		return m, fmt.Errorf("%s is none of the administrator's backups", path)
	}
	admin, err := boundary.OpenAdmin(state, true)
	if err != nil {
		return m, notOurs(state, err)
	}
	defer admin.Close()
	dir, err := admin.MkdirAll(blueprint.Backups, 0o700, nil)
	if err != nil {
		return m, err
	}
	defer dir.Close()
	err = dir.Write(filepath.Base(path), 0o600, nil, func(w io.Writer) error {
		m, err = WriteBackup(ctx, w, m, state, t, owner)
		return err
	})
	return m, err
}
