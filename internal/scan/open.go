package scan

import (
	"io"
	"io/fs"
	"sync"

	"golang.org/x/sys/unix"
)

// plainFile is an open file, read with pread and nothing else: a scan opens many
// files for a few reads each, so what os.File does beside that would show.
type plainFile int

// openPlain opens a file to read it, not waiting for a writer, should it have
// become a pipe meanwhile.
func openPlain(name string) (plainFile, error) {
	for {
		fd, err := unix.Open(name, unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NONBLOCK|unix.O_NOCTTY, 0)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return -1, &fs.PathError{Op: "open", Path: name, Err: err}
		}
		return plainFile(fd), nil
	}
}

// Close closes the file.
func (f plainFile) Close() error { return unix.Close(int(f)) }

// ReadAt reads as io.ReaderAt has it.
func (f plainFile) ReadAt(b []byte, off int64) (int, error) {
	n := 0
	for n < len(b) {
		m, err := unix.Pread(int(f), b[n:], off+int64(n))
		switch {
		case err == unix.EINTR:
		case err != nil:
			return n, err
		case m == 0:
			return n, io.EOF
		default:
			n += m
		}
	}
	return n, nil
}

// headReader keeps the first bytes of a file, where most headers lie, so that
// one read serves for many.
type headReader struct {
	file plainFile
	b    []byte
	n    int
	read bool
	err  error
}

var heads = sync.Pool{New: func() any { return &headReader{b: make([]byte, 16<<10)} }}

func (h *headReader) reset(f plainFile) { h.file, h.n, h.read, h.err = f, 0, false, nil }

// start gives the first bytes.
func (h *headReader) start() ([]byte, error) {
	if !h.read {
		h.read = true
		h.n, h.err = h.file.ReadAt(h.b, 0)
	}
	if h.err != nil && h.err != io.EOF {
		return nil, h.err
	}
	return h.b[:h.n], nil
}

// ReadAt reads as io.ReaderAt has it.
func (h *headReader) ReadAt(b []byte, off int64) (int, error) {
	_, _ = h.start() // what it fails with, the file will give again
	if h.err != nil && h.err != io.EOF || off < 0 || off+int64(len(b)) > int64(h.n) {
		return h.file.ReadAt(b, off)
	}
	return copy(b, h.b[off:h.n]), nil
}
