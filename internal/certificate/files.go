package certificate

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"os"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

// files is a certificate that somebody else renews.
type files struct {
	keeper *Keeper
	have   atomic.Pointer[tls.Certificate]
	seen   [2]stamp // of the chain and the key, as they were loaded or refused
}

// stamp tells whether a file is another than before.
type stamp struct {
	size int64
	at   time.Time
	file os.FileInfo
}

func (s stamp) same(o stamp) bool {
	return s.size == o.size && s.at.Equal(o.at) && s.file != nil && o.file != nil && os.SameFile(s.file, o.file)
}

// look is how often it is looked whether there is another one.
const look = 5 * time.Second

// mostPEM is how large such a file may be.
const mostPEM = 1 << 20

func (f *files) certificate(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	if c := f.have.Load(); c != nil {
		return c, nil
	}
	return nil, errNone
}

func (f *files) current(string) (*tls.Certificate, error) { return f.certificate(nil) }

func (f *files) names() []string {
	if c := f.have.Load(); c != nil {
		return append(c.Leaf.DNSNames, addresses(c.Leaf)...)
	}
	return nil
}

func (f *files) run(ctx context.Context) {
	for {
		f.load()
		select {
		case <-ctx.Done():
			return
		case <-time.After(look):
		}
	}
}

// load loads the files if one of them is another than before. One that cannot be used leaves the one
// before: whoever writes both writes one first.
func (f *files) load() {
	from := f.keeper.From
	var now [2]stamp
	for i, p := range []string{from.Chain, from.Key} {
		st, err := os.Stat(p)
		if err != nil {
			f.keeper.said(fmt.Errorf("its file cannot be read: %w", err))
			return
		}
		now[i] = stamp{st.Size(), st.ModTime(), st}
	}
	if now[0].same(f.seen[0]) && now[1].same(f.seen[1]) {
		return
	}
	f.seen = now
	c, err := f.read()
	if err != nil {
		f.keeper.said(err)
		return
	}
	f.have.Store(&c)
	f.keeper.said(nil)
	f.keeper.Log.Info("another certificate is used from now on", "names", c.Leaf.DNSNames, "ends", c.Leaf.NotAfter)
}

func (f *files) read() (c tls.Certificate, err error) {
	chain, err := text(f.keeper.From.Chain)
	if err != nil {
		return c, err
	}
	key, err := text(f.keeper.From.Key)
	if err != nil {
		return c, err
	}
	if c, err = tls.X509KeyPair(chain, key); err != nil {
		err = fmt.Errorf("%s and %s do not make one: %w", f.keeper.From.Chain, f.keeper.From.Key, err)
	}
	return c, err
}

func text(path string) ([]byte, error) {
	file, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0) // a pipe would keep us for ever
	if err != nil {
		return nil, fmt.Errorf("its file cannot be read: %w", err)
	}
	defer file.Close()
	if st, err := file.Stat(); err == nil && !st.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no file", path)
	}
	b, err := io.ReadAll(io.LimitReader(file, mostPEM+1))
	if err == nil && len(b) > mostPEM {
		err = fmt.Errorf("%s is larger than a certificate can be", path)
	}
	return b, err
}
