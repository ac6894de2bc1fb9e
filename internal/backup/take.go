package backup

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"cozyshelf/internal/boundary"
)

// Source is what a server takes a backup of: its own state folder, while it is at work.
type Source struct {
	State    string // the state folder
	Manifest Manifest
	Settings string // name of the settings file in it that counts
	// Snapshot writes a consistent copy of the store to a path where nothing is.
	Snapshot func(ctx context.Context, to string) error
}

// unfinished begins the name of the folder that a copy of the store is made in.
const unfinished = boundary.Unfinished + "backup-"

// Take writes a backup of a state folder, while the server is at work in it.
func Take(ctx context.Context, w io.Writer, s Source) (Manifest, error) {
	d, err := boundary.Open(s.State)
	if err != nil {
		return s.Manifest, err
	}
	defer d.Close()
	name := unfinished + boundary.NewName()[len(boundary.Unfinished):]
	tmp, err := d.Mkdir(name, 0o700, nil)
	if err != nil {
		return s.Manifest, err
	}
	defer d.RemoveAll(name)
	defer tmp.Close()
	if err := s.Snapshot(ctx, s.State+"/"+name+"/"+Store); err != nil {
		return s.Manifest, fmt.Errorf("copying the store: %w", err)
	}
	parts := []Part{In(tmp, Store, nil)}
	for name, from := range map[string]string{Household: Household, Settings: s.Settings} {
		if from == "" {
			continue
		}
		b, err := d.Read(from, MostText, nil)
		if err == nil {
			parts = append(parts, Text(name, b))
		} else if !errors.Is(err, fs.ErrNotExist) {
			return s.Manifest, err
		}
	}
	keys, err := KeysOf(d, nil)
	if err != nil {
		return s.Manifest, err
	}
	parts = append(parts, keys...)
	pictures, err := PicturesOf(d, nil)
	if err != nil {
		return s.Manifest, err
	}
	return Write(ctx, w, s.Manifest, append(parts, pictures...))
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
