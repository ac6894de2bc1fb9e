package process

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"time"

	"cozyshelf/internal/engine"
)

// Logs writes what the server printed.
func (e *Engine) Logs(ctx context.Context, id string, o engine.LogOptions, w io.Writer) error {
	if _, err := e.container(id); err != nil {
		return err
	}
	dir := e.folder(id)
	since := []byte(o.Since.UTC().Format(stamp))
	keep := func(line []byte) bool {
		return o.Since.IsZero() || len(line) < len(since) || bytes.Compare(line[:len(since)], since) >= 0
	}
	var last [][]byte // the tail, while it is not known where it begins
	emit := func(line []byte) error {
		if !keep(line) {
			return nil
		}
		if o.Tail > 0 {
			last = append(last, bytes.Clone(line))
			if len(last) > o.Tail {
				last = last[1:]
			}
			return nil
		}
		_, err := w.Write(line)
		return err
	}
	if f, err := os.Open(filepath.Join(dir, "log.1")); err == nil {
		_, err = lines(f, emit)
		f.Close()
		if err != nil {
			return err
		}
	}
	f, err := os.Open(filepath.Join(dir, "log"))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	defer func() {
		if f != nil {
			f.Close()
		}
	}()
	var rest []byte // a line that is not whole yet
	read := func() error {
		if f == nil {
			return nil
		}
		r, err := lines(io.MultiReader(bytes.NewReader(rest), f), emit)
		rest = r
		return err
	}
	if err := read(); err != nil {
		return err
	}
	for _, line := range last {
		if _, err := w.Write(line); err != nil {
			return err
		}
	}
	o.Tail = 0
	for o.Follow {
		running := alive(dir)
		if err := read(); err != nil {
			return err
		}
		if now, err := os.Stat(filepath.Join(dir, "log")); err == nil {
			var had os.FileInfo
			if f != nil {
				had, _ = f.Stat()
			}
			if had == nil || !os.SameFile(now, had) {
				if f != nil {
					f.Close()
				}
				rest = nil
				if f, err = os.Open(filepath.Join(dir, "log")); err != nil {
					f = nil
				}
				continue
			}
		}
		if !running {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(100 * time.Millisecond):
		}
	}
	return nil
}

// lines gives every whole line to emit and returns what is left over.
func lines(r io.Reader, emit func([]byte) error) (rest []byte, err error) {
	b := bufio.NewReader(r)
	for {
		line, err := b.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			return line, nil
		}
		if err != nil {
			return nil, err
		}
		if err := emit(line); err != nil {
			return nil, err
		}
	}
}
