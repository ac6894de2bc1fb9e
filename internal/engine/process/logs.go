package process

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"time"

	"cozyshelf/internal/engine"
)

// Logs writes what the server printed.
func (e *Engine) Logs(ctx context.Context, id string, o engine.LogOptions, w io.Writer) error {
	dir, c, err := e.container(id)
	if err != nil {
		return err
	}
	defer dir.Close()
	// The account's own: a link or another's file in its place is no log.
	// It is never larger than it may grow; of what is, only the end is read, as the account can make
	// it as large as it likes.
	most := max(c.LogLimit, 2*maxLog)
	open := func(name string) (*os.File, error) {
		f, err := dir.File(runFolder+"/"+name, []int{int(c.UID)})
		if err != nil {
			return nil, err
		}
		if st, err := f.Stat(); err == nil && st.Size() > most {
			if _, err := f.Seek(-most, io.SeekEnd); err != nil {
				f.Close()
				return nil, err
			}
		}
		return f, nil
	}
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
	if f, err := open("log.1"); err == nil {
		_, err = lines(io.LimitReader(f, most), emit)
		f.Close()
		if err != nil {
			return err
		}
	}
	f, err := open("log")
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
		r, err := lines(io.MultiReader(bytes.NewReader(rest), io.LimitReader(f, most)), emit)
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
		running := e.runs(c, dir.Path())
		if err := read(); err != nil {
			return err
		}
		if now, err := open("log"); err == nil {
			if !sameFile(now, f) {
				if f != nil {
					f.Close()
				}
				rest, f = nil, now
				continue
			}
			now.Close()
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

// sameFile reports whether two open files are one.
func sameFile(a, b *os.File) bool {
	if b == nil {
		return false
	}
	x, err := a.Stat()
	y, yerr := b.Stat()
	return err == nil && yerr == nil && os.SameFile(x, y)
}

// mostLine is how long a line may be; a longer one is given in pieces. The log is the
// account's, so it may be of any form.
const mostLine = 256 << 10

// lines gives every whole line to emit and returns what is left over.
func lines(r io.Reader, emit func([]byte) error) (rest []byte, err error) {
	b := bufio.NewReaderSize(r, mostLine)
	for {
		line, err := b.ReadSlice('\n')
		switch {
		case errors.Is(err, io.EOF):
			return bytes.Clone(line), nil
		case errors.Is(err, bufio.ErrBufferFull):
			line = append(bytes.Clone(line), '\n')
		case err != nil:
			return nil, err
		}
		if err := emit(line); err != nil {
			return nil, err
		}
	}
}
