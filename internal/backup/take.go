package backup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Source is what a backup is taken of.
type Source struct {
	State    string // the state folder
	Manifest Manifest
	Settings string // name of the settings file in it that counts
	// Snapshot writes a consistent copy of the store to a path where nothing is.
	Snapshot func(ctx context.Context, to string) error
}

// Take writes a backup of a state folder, also while the server is at work in it.
func Take(ctx context.Context, w io.Writer, s Source) (Manifest, error) {
	tmp, err := os.MkdirTemp(s.State, ".new-backup-")
	if err != nil {
		return s.Manifest, err
	}
	defer os.RemoveAll(tmp)
	copied := filepath.Join(tmp, Store)
	if err := s.Snapshot(ctx, copied); err != nil {
		return s.Manifest, fmt.Errorf("copying the store: %w", err)
	}
	parts := []Part{{Store, copied}}
	for name, from := range map[string]string{Household: Household, Settings: s.Settings, Ledger: Ledger} {
		p := filepath.Join(s.State, from)
		if _, err := os.Stat(p); from != "" && err == nil {
			parts = append(parts, Part{name, p})
		}
	}
	pictures := filepath.Join(s.State, strings.TrimSuffix(Pictures, "/"))
	err = filepath.WalkDir(pictures, func(p string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		name, err := filepath.Rel(s.State, p)
		if err == nil && known(filepath.ToSlash(name)) {
			parts = append(parts, Part{filepath.ToSlash(name), p})
		}
		return err
	})
	if err != nil {
		return s.Manifest, err
	}
	return Write(contextWriter{ctx, w}, s.Manifest, parts)
}

// contextWriter stops writing when its context ends.
type contextWriter struct {
	ctx context.Context
	w   io.Writer
}

func (c contextWriter) Write(b []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.w.Write(b)
}
