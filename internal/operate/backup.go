package operate

import (
	"context"
	"errors"
	"io"
	"path/filepath"
	"sync/atomic"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/backup"
	"cozyshelf/internal/control"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/problem"
)

// Backup writes a backup to a file: by the server where it runs, else here. It
// is read back before it counts. Without a secret it is not encrypted.
func (h *House) Backup(ctx context.Context, to, secret string) (backup.Manifest, error) {
	var m backup.Manifest
	// One that was cut off leaves nothing, but on disks that know no files without names.
	atomicfile.Sweep(filepath.Dir(to), func(name string) bool {
		id, _, ok := backup.ParseName(name)
		return name == filepath.Base(to) || ok && id == h.ID
	})
	err := atomicfile.WriteNew(to, 0o600, nil, func(f io.Writer) error {
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
		both := io.MultiWriter(counting{w, h.Bytes}, pw)
		err := h.streamBackup(ctx, both)
		if errors.Is(err, control.ErrUnreachable) {
			if err = h.silentOrStopped(ctx); err == nil {
				_, err = deploy.WriteBackup(ctx, both, h.manifest(), h.State(), h.texts(), h.Owner())
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
		return m, &problem.Problem{What: "the backup could not be made; nothing was left behind", Where: to,
			Why: err.Error(), Fix: "see that the disk has room, there and in the state folder", Err: err}
	}
	return m, nil
}

// streamBackup takes what is the server's from the server, and adds what is the
// administrator's: the household file, the settings and the ledger.
func (h *House) streamBackup(ctx context.Context, w io.Writer) error {
	parts, err := h.texts().Parts(h.State())
	if err != nil {
		return err
	}
	pr, pw := io.Pipe()
	sent := make(chan error, 1)
	go func() {
		err := h.Client().Backup(ctx, pw)
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

// counting counts the bytes that are written, unless n is nil.
type counting struct {
	io.Writer
	n *atomic.Int64
}

func (c counting) Write(b []byte) (int, error) {
	n, err := c.Writer.Write(b)
	if c.n != nil {
		c.n.Add(int64(n))
	}
	return n, err
}

type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

// silentOrStopped gives an error where the server runs, though it cannot be asked.
func (h *House) silentOrStopped(ctx context.Context) error {
	o, err := h.Observe(ctx)
	if err != nil {
		return err
	}
	if _, ok := o.Running(); ok {
		_, err = h.Client().Status(ctx)
	}
	return err
}
