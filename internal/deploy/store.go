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
	"time"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/store"
	"cozyshelf/internal/whole"
)

// Unpacked is a backup that was read to its end, found sound, and unpacked.
type Unpacked struct {
	Folder   string
	Manifest backup.Manifest
	Store    store.Facts
}

// Unpack reads a whole backup, every byte of it, into a new folder inside another,
// and opens the store in it. Nothing else is touched. The caller removes the folder.
func Unpack(ctx context.Context, file, passphrase, inside string) (u Unpacked, err error) {
	f, err := os.Open(file)
	if err != nil {
		return u, &problem.Problem{What: "the backup cannot be read", Where: file, Why: err.Error(), Fix: "name another, or run as an account that may read it", Err: err}
	}
	defer f.Close()
	if u.Folder, err = os.MkdirTemp(inside, ".new-restore-"); err != nil {
		return u, err
	}
	defer func() {
		if err != nil {
			os.RemoveAll(u.Folder)
		}
	}()
	if u.Manifest, err = backup.Read(bufio.NewReaderSize(f, 1<<20), passphrase, u.Folder); err != nil {
		return u, unreadable(file, err)
	}
	u.Store, err = store.Inspect(ctx, filepath.Join(u.Folder, backup.Store), true)
	if err != nil {
		return u, unreadable(file, fmt.Errorf("its store: %w", err))
	}
	if u.Store.Format > store.Newest() {
		return u, &problem.Problem{What: "the backup was made by a newer program", Where: file, Why: fmt.Sprintf("its store has format %d, this program (%s made it) knows %d", u.Store.Format, u.Manifest.Version, store.Newest()), Fix: "restore it with program " + u.Manifest.Version + " or a later one", Err: store.ErrNewer}
	}
	return u, nil
}

func unreadable(file string, err error) error {
	p := &problem.Problem{What: "the backup cannot be used; nothing was touched", Where: file, Why: err.Error(), Fix: "take another one", Err: err}
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
func PutStore(ctx context.Context, state, file, passphrase string, owner *whole.Owner) (backup.Manifest, error) {
	let, err := idle(ctx, state)
	if err != nil {
		return backup.Manifest{}, err
	}
	defer let()
	u, err := Unpack(ctx, file, passphrase, state)
	if err != nil {
		return u.Manifest, err
	}
	defer os.RemoveAll(u.Folder)
	if err := give(u.Folder, owner); err != nil {
		return u.Manifest, err
	}
	to := filepath.Join(state, backup.Store)
	if _, err := os.Stat(to); err == nil {
		// A log that belongs to the former store must not meet the new one.
		if err := store.Settle(ctx, to); err != nil {
			if err := putAside(state, owner); err != nil {
				return u.Manifest, err
			}
		}
	}
	for _, log := range []string{"-wal", "-shm"} {
		if err := ignore(os.Remove(to+log), os.ErrNotExist); err != nil {
			return u.Manifest, err
		}
	}
	if err := os.Rename(filepath.Join(u.Folder, backup.Store), to); err != nil {
		return u.Manifest, err
	}
	if err := pictures(u.Folder, state, owner); err != nil {
		return u.Manifest, err
	}
	return u.Manifest, syncFolder(state)
}

// ended is how long a server that was stopped may take to be gone.
const ended = 5 * time.Second

// idle sees to it that no server is at work on a state folder, until the function that it
// gives is called.
func idle(ctx context.Context, state string) (func(), error) {
	let, err := whole.Claim(ctx, state, ended)
	if errors.Is(err, whole.ErrClaimed) {
		err = &problem.Problem{What: "a server still works on the state folder", Where: state, Why: "it holds the folder; what is changed under it would be damaged", Fix: "stop it: cozyshelf check says whether it runs on another engine", Err: err}
	}
	return let, err
}

// give gives all below a folder, and itself, to its owner.
func give(folder string, owner *whole.Owner) error {
	if owner == nil {
		return nil
	}
	return filepath.WalkDir(folder, func(p string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(p, owner.UID, owner.GID)
	})
}

// pictures moves the pictures of a backup to those that are there; none is replaced,
// since each is named by what it holds.
func pictures(from, state string, owner *whole.Owner) error {
	name := strings.TrimSuffix(backup.Pictures, "/")
	err := filepath.WalkDir(filepath.Join(from, name), func(p string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, p)
		if err != nil {
			return err
		}
		to := filepath.Join(state, rel)
		if d.IsDir() {
			if err := os.Mkdir(to, 0o700); err != nil || owner == nil {
				return ignore(err, os.ErrExist)
			}
			return os.Lchown(to, owner.UID, owner.GID)
		}
		return ignore(os.Link(p, to), os.ErrExist)
	})
	return err
}

// putAside keeps a store that cannot be opened, with its logs, under another name.
func putAside(state string, owner *whole.Owner) error {
	dir := filepath.Join(state, blueprint.Backups)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	aside := filepath.Join(dir, "damaged-"+time.Now().UTC().Format("20060102-150405"))
	if err := ignore(os.Mkdir(aside, 0o700), os.ErrExist); err != nil {
		return err
	}
	for _, part := range []string{"", "-wal", "-shm"} {
		from := filepath.Join(state, backup.Store+part)
		if err := ignore(ignore(os.Link(from, filepath.Join(aside, backup.Store+part)), os.ErrNotExist), os.ErrExist); err != nil {
			return err
		}
	}
	if owner != nil {
		if err := os.Lchown(dir, owner.UID, owner.GID); err != nil {
			return err
		}
	}
	return errors.Join(give(aside, owner), syncFolder(aside))
}

func syncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

// storeBack puts the store of a backup back where that is needed: always, or else
// where another program has brought the store to a format of its own.
func storeBack(ctx context.Context, state, file string, always bool, owner *whole.Owner) (bool, error) {
	f, err := os.Open(file)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil // it had not come to that
	}
	if err != nil {
		return false, err
	}
	m, err := backup.Read(f, "", "")
	if err = errors.Join(err, f.Close()); err != nil {
		return false, err
	}
	now, err := store.Inspect(ctx, filepath.Join(state, backup.Store), false)
	if !always && err == nil && now.Format == m.StoreFormat {
		return false, nil
	}
	_, err = PutStore(ctx, state, file, "", owner)
	return err == nil, err
}

// TakeBackup writes a backup of a state folder in which no server is at work.
func TakeBackup(ctx context.Context, path string, m backup.Manifest, state, settings string, owner *whole.Owner) (backup.Manifest, error) {
	dir := filepath.Dir(path)
	if filepath.Dir(dir) == state {
		if err := ignore(os.Mkdir(dir, 0o700), os.ErrExist); err != nil {
			return m, err
		}
		if owner != nil {
			if err := os.Lchown(dir, owner.UID, owner.GID); err != nil {
				return m, err
			}
		}
	}
	from := filepath.Join(state, backup.Store)
	facts, err := store.Inspect(ctx, from, false)
	if err != nil {
		return m, err
	}
	m.StoreFormat = facts.Format
	err = whole.Write(path, 0o600, owner, func(w io.Writer) error {
		m, err = backup.Take(ctx, w, backup.Source{State: state, Manifest: m, Settings: settings,
			Snapshot: func(ctx context.Context, to string) error { return store.Copy(ctx, from, to) }})
		return err
	})
	return m, err
}
