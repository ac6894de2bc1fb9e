package process

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"time"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/engine"
)

// Logs writes what the server printed.
func (e *Engine) Logs(ctx context.Context, id string, o engine.LogOptions, w io.Writer) error {
	dir, c, err := e.container(id)
	if err != nil {
		return err
	}
	defer dir.Close()
	r := &logReader{dir: dir, uid: int(c.UID), most: max(c.LogLimit, 2*maxLog), w: w, tail: o.Tail}
	if !o.Since.IsZero() {
		r.since = []byte(o.Since.UTC().Format(stamp))
	}
	defer r.close()
	if err := r.all(); err != nil {
		return err
	}
	for o.Follow {
		running := e.runs(c, dir.Path())
		if err := r.more(); err != nil {
			return err
		}
		if r.turned() {
			continue
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

// logReader reads a container's log, and follows it from file to file.
//
// The log is the account's own: a link or another's file in its place is no log. It is never
// larger than it may grow; of what is, only the end is read, as the account can make it as large
// as it likes.
type logReader struct {
	dir   *boundary.Dir
	uid   int
	most  int64 // bytes that are read of a file
	w     io.Writer
	since []byte // the stamp of the first line wanted; none for all
	tail  int
	last  [][]byte // the tail, while it is not known where it begins
	f     *os.File // the file that grows; nil where there is none
	rest  []byte   // of a line that has not ended
}

func (r *logReader) open(name string) (*os.File, error) {
	f, err := r.dir.File(runFolder+"/"+name, []int{r.uid})
	if err != nil {
		return nil, err
	}
	if st, err := f.Stat(); err == nil && st.Size() > r.most {
		if _, err := f.Seek(-r.most, io.SeekEnd); err != nil {
			f.Close()
			return nil, err
		}
	}
	return f, nil
}

func (r *logReader) close() {
	if r.f != nil {
		r.f.Close()
	}
}

// line takes one line: it is written, or kept where only the last are wanted.
func (r *logReader) line(line []byte) error {
	if n := len(r.since); len(line) >= n && bytes.Compare(line[:n], r.since) < 0 {
		return nil
	}
	if r.tail > 0 {
		r.last = append(r.last, bytes.Clone(line))
		if len(r.last) > r.tail {
			r.last = r.last[1:]
		}
		return nil
	}
	_, err := r.w.Write(line)
	return err
}

// all reads what is there: the former file, then the one that grows.
func (r *logReader) all() error {
	if f, err := r.open("log.1"); err == nil {
		_, err = lines(io.LimitReader(f, r.most), r.line)
		f.Close()
		if err != nil {
			return err
		}
	}
	var err error
	if r.f, err = r.open("log"); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err := r.more(); err != nil {
		return err
	}
	for _, line := range r.last {
		if _, err := r.w.Write(line); err != nil {
			return err
		}
	}
	r.tail, r.last = 0, nil
	return nil
}

// more reads what has come since.
func (r *logReader) more() (err error) {
	if r.f != nil {
		r.rest, err = lines(io.MultiReader(bytes.NewReader(r.rest), io.LimitReader(r.f, r.most)), r.line)
	}
	return err
}

// turned takes up the next file, where the log has begun a new one.
func (r *logReader) turned() bool {
	now, err := r.open("log")
	if err != nil {
		return false
	}
	if sameFile(now, r.f) {
		now.Close()
		return false
	}
	r.close()
	r.rest, r.f = nil, now
	return true
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
