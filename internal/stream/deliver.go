// Package stream delivers files and keeps account of it. Files are sent as they
// are, by byte ranges (RFC 9110, 14), through the kernel's sendfile; what a
// device is being sent, and how far its member has watched, is kept by Tracker.
//
// A device opens a file, asks for many ranges of it, and reports its position now and then. All
// that is one play, as long as it does not fall silent (usage.Silence), and one that is taken up
// again soon is continued (usage.MergeWithin). The tracker keeps running plays in memory and writes
// them to the store from time to time, so that a range costs no write; what a crash can lose is
// the time since the last one.
package stream

import (
	"fmt"
	"io"
	"net/http"
	"os"
)

// Deliver sends an open file, or the ranges of it that are asked for. count is
// told of bytes as they leave, now and then.
func Deliver(w http.ResponseWriter, r *http.Request, f *os.File, mime string, count func(bytes int64)) error {
	st, err := f.Stat()
	if err != nil {
		return err
	}
	h := w.Header()
	h.Set("Content-Type", mime)
	h.Set("ETag", fmt.Sprintf(`"%x-%x"`, st.ModTime().UnixNano(), st.Size()))
	h.Set("Cache-Control", "private, no-cache")
	http.ServeContent(&counted{w, count}, r, "", st.ModTime(), f)
	return nil
}

// counted tells how many bytes leave, without taking sendfile away: it passes
// ReadFrom on to the connection, a few MiB at a time.
type counted struct {
	http.ResponseWriter
	count func(int64)
}

func (c *counted) Write(b []byte) (int, error) {
	n, err := c.ResponseWriter.Write(b)
	c.count(int64(n))
	return n, err
}

// stride is how much is sent between two reports.
const stride = 8 << 20

// ReadFrom sends what r holds. io.CopyN gives it a limited reader over the
// file, which the kernel can send by itself.
func (c *counted) ReadFrom(r io.Reader) (int64, error) {
	to, ok := c.ResponseWriter.(io.ReaderFrom)
	from, limited := r.(*io.LimitedReader)
	if !ok || !limited {
		n, err := io.Copy(struct{ io.Writer }{c.ResponseWriter}, r)
		c.count(n)
		return n, err
	}
	var sent int64
	for from.N > 0 {
		step := &io.LimitedReader{R: from.R, N: min(from.N, stride)}
		n, err := to.ReadFrom(step)
		sent += n
		from.N -= n
		c.count(n)
		if err != nil || n == 0 {
			return sent, err
		}
	}
	return sent, nil
}

// Unwrap lets http.ResponseController reach the connection.
func (c *counted) Unwrap() http.ResponseWriter { return c.ResponseWriter }
