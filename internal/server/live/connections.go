package live

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"sync"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/stream"

	"golang.org/x/sys/unix"
)

// The bounds of connections to the published port. Strangers may open as many as they like.
// One that has not sent a whole header yet is held in little memory and handed on only then,
// so slow ones cost next to nothing; they have headerTime. Beyond the bounds whoever is new
// takes the place of the one that has waited longest without having asked for anything, or
// without having sent all that it wants to send, but gives it graceTime first. A connection
// on which a member is answered keeps its place.
const (
	mostConnections = 6144
	mostOfOne       = 5120 // from one network; proxies that are trusted have all
	HeaderTime      = 5 * time.Second
	IdleTime        = time.Minute
	bodyTime        = 20 * time.Second
	graceTime       = 500 * time.Millisecond
	mostHeader      = 32 << 10 // bytes
)

// Door keeps the connections.
type Door struct {
	mu      sync.Mutex
	all     map[*conn]bool
	of      map[netip.Addr]int
	asked   int // requests that are being answered: over HTTP/2 there are several on a connection
	askedOf map[netip.Addr]int
	turned  int64 // that were closed for others, or refused
	peak    int
	Most    int // connections in all; mostConnections where zero
	OfOne   int // from one network; mostOfOne where zero
	trusted []netip.Prefix
}

// conn is one connection. It is the TCP connection itself in all else, so that the kernel
// sends files by itself.
type conn struct {
	*net.TCPConn
	door  *Door
	from  netip.Addr
	since time.Time // that it rests
	kept  bool      // it is being answered, and does not give way
	busy  int       // requests that are being answered on it: over HTTP/2 several at once
	gone  bool
	head  []byte // what was read before it was handed on
	line  stream.Line
}

// Read gives what was read before, then what comes.
func (c *conn) Read(b []byte) (int, error) {
	if len(c.head) > 0 {
		n := copy(b, c.head)
		if c.head = c.head[n:]; len(c.head) == 0 {
			c.head = nil
		}
		return n, nil
	}
	return c.TCPConn.Read(b)
}

// listener hands on connections that have sent a whole header.
type listener struct {
	net.Listener
	door  *Door
	ready chan net.Conn
	over  chan struct{}
	whole func(head []byte, n int) bool // enough was read, n bytes of it just now
	once  sync.Once
	fault error
}

// Listen lets a listener's connections be kept; encrypted is for one on which TLS is spoken.
func (d *Door) Listen(l net.Listener, trusted []netip.Prefix, encrypted bool) net.Listener {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.all == nil {
		d.all, d.of, d.askedOf = map[*conn]bool{}, map[netip.Addr]int{}, map[netip.Addr]int{}
	}
	d.trusted = trusted
	d.Most, d.OfOne = cmp.Or(d.Most, mostConnections), cmp.Or(d.OfOne, mostOfOne)
	out := &listener{Listener: l, door: d, ready: make(chan net.Conn), over: make(chan struct{}),
		whole: wholeHeader}
	if encrypted {
		out.whole = wholeHello
	}
	go out.run()
	return out
}

// run takes connections as they come.
func (l *listener) run() {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			var ne net.Error
			if errors.As(err, &ne) && ne.Timeout() || errors.Is(err, unix.EMFILE) || errors.Is(err, unix.ENFILE) ||
				errors.Is(err, unix.ECONNABORTED) {
				time.Sleep(20 * time.Millisecond) // some end meanwhile
				continue
			}
			l.end(err)
			return
		}
		tcp, ok := c.(*net.TCPConn)
		if !ok {
			l.hand(c)
			continue
		}
		kept, wait := l.door.enter(tcp)
		for range 4 {
			if kept != nil || wait <= 0 {
				break
			}
			time.Sleep(wait) // those that wait to be taken wait in the kernel
			kept, wait = l.door.enter(tcp)
		}
		if kept == nil {
			go refuse(tcp)
			continue
		}
		go l.await(kept)
	}
}

// await waits until a connection has sent a whole header, and hands it on.
func (l *listener) await(c *conn) {
	_ = c.SetReadDeadline(time.Now().Add(HeaderTime)) // it may be gone already; reading tells
	head := make([]byte, 0, 512)
	// Nearly everybody sends a header at once. Whoever does not is looked at more and more
	// seldom, so that many such keep nobody busy.
	pause := time.Duration(0)
	for {
		if len(head) > 0 {
			time.Sleep(pause)
			pause = min(time.Second, max(50*time.Millisecond, 2*pause))
		}
		if len(head) == cap(head) {
			head = append(head, 0)[:len(head)]
		}
		n, err := c.TCPConn.Read(head[len(head):cap(head)])
		head = head[:len(head)+n]
		if err != nil && len(head) == 0 || err != nil && !errors.Is(err, io.EOF) {
			c.Close()
			return
		}
		// What is no header at all is answered, too, by whoever knows how.
		if err != nil || len(head) > mostHeader || l.whole(head, n) {
			break
		}
	}
	_ = c.SetReadDeadline(time.Time{})
	c.head = head
	l.door.mu.Lock()
	c.since = time.Now() // that it waited is no fault of its own any more
	l.door.mu.Unlock()
	l.hand(c)
}

// wholeHeader reports whether there is a whole header.
func wholeHeader(head []byte, n int) bool {
	return bytes.Contains(head[max(0, len(head)-n-3):], []byte("\r\n\r\n")) ||
		bytes.Contains(head[max(0, len(head)-n-1):], []byte("\n\n"))
}

// wholeHello reports whether there is the whole first record of TLS, by which a client greets, or none at
// all: five bytes, the last two of which are the length of what follows (RFC 8446, 5.1).
func wholeHello(head []byte, _ int) bool {
	const handshake, before = 22, 5
	return len(head) > 0 && head[0] != handshake || len(head) >= before &&
		len(head) >= before+(int(head[3])<<8|int(head[4]))
}

func (l *listener) hand(c net.Conn) {
	select {
	case l.ready <- c:
	case <-l.over:
		c.Close()
	}
}

// Accept gives the next connection that has sent a whole header.
func (l *listener) Accept() (net.Conn, error) {
	select {
	case c := <-l.ready:
		return c, nil
	case <-l.over:
		return nil, l.fault
	}
}

// Close ends listening.
func (l *listener) Close() error {
	err := l.Listener.Close()
	l.end(net.ErrClosed)
	return err
}

func (l *listener) end(err error) {
	l.once.Do(func() {
		l.fault = err
		close(l.over)
	})
}

// refusal is what a connection hears that there is no room for.
const refusal = "HTTP/1.1 503 Service Unavailable\r\nContent-Type: text/plain; charset=utf-8\r\nRetry-After: " +
	"5\r\nConnection: close\r\nContent-Length: 60\r\n\r\n" +
	"There are too many connections just now; try again shortly.\n"

func refuse(c *net.TCPConn) {
	_ = c.SetDeadline(time.Now().Add(time.Second))
	_, _ = io.WriteString(c, refusal) // whoever it is may have gone
	c.Close()
}

// enter notes a connection, letting another give way if need be. nil says that there is no
// room: for now, if wait is more than zero.
func (d *Door) enter(tcp *net.TCPConn) (c *conn, wait time.Duration) {
	c = &conn{TCPConn: tcp, door: d, since: time.Now()}
	if a, err := netip.ParseAddrPort(tcp.RemoteAddr().String()); err == nil {
		c.from = allowance.Network(a.Addr())
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	most := d.mostOf(c.from)
	var of *netip.Addr
	full := len(d.all) >= d.Most
	if d.of[c.from] >= most {
		full, of = true, &c.from
	}
	if full {
		gives := d.oldest(of)
		if gives == nil {
			d.turned++
			return nil, 0
		}
		if wait := graceTime - time.Since(gives.since); wait > 0 {
			return nil, wait
		}
		d.turned++
		d.leave(gives)
		gives.line.Stop(net.ErrClosed)
		go gives.TCPConn.Close()
	}
	d.all[c] = true
	d.of[c.from]++
	d.peak = max(d.peak, len(d.all))
	return c, 0
}

// oldest finds the one that has rested longest, of a network unless that is nil. The lock is
// held.
func (d *Door) oldest(of *netip.Addr) *conn {
	var found *conn
	for c := range d.all {
		if !c.kept && (of == nil || c.from == *of) && (found == nil || c.since.Before(found.since)) {
			found = c
		}
	}
	return found
}

// leave forgets a connection. The lock is held.
func (d *Door) leave(c *conn) {
	if c.gone {
		return
	}
	c.gone = true
	delete(d.all, c)
	if d.of[c.from]--; d.of[c.from] <= 0 {
		delete(d.of, c.from)
	}
}

// ReadFrom sends a file, or a part of one.
func (c *conn) ReadFrom(r io.Reader) (int64, error) { return c.line.ReadFrom(c.TCPConn, r) }

// SetWriteDeadline also ends what is being sent, where the deadline is past.
func (c *conn) SetWriteDeadline(t time.Time) error {
	if !t.IsZero() && !t.After(time.Now()) {
		c.line.Stop(os.ErrDeadlineExceeded)
	}
	return c.TCPConn.SetWriteDeadline(t)
}

// SetDeadline sets both.
func (c *conn) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.SetWriteDeadline(t))
}

// Close closes the connection and gives its place back.
func (c *conn) Close() error {
	c.line.Stop(net.ErrClosed)
	c.door.mu.Lock()
	c.door.leave(c)
	c.door.mu.Unlock()
	return c.TCPConn.Close()
}

type connKey struct{}

// Context lets a request find its connection.
func (d *Door) Context(ctx context.Context, c net.Conn) context.Context {
	if t, ok := c.(*tls.Conn); ok {
		c = t.NetConn()
	}
	if c, ok := c.(*conn); ok {
		return context.WithValue(ctx, connKey{}, c)
	}
	return ctx
}

func (d *Door) keep(r *http.Request, kept bool) {
	c, ok := r.Context().Value(connKey{}).(*conn)
	if !ok {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if !kept && c.busy > 1 {
		return // others are being answered on it
	}
	c.kept = kept
	if !kept {
		c.since = time.Now()
	}
}

// ask counts a request that is to be answered, unless there are as many as there may be connections: in all, or from
// one network. The function that it gives says that it has been.
func (d *Door) ask(r *http.Request) (over func(), ok bool) {
	c, ours := r.Context().Value(connKey{}).(*conn)
	if !ours {
		return func() {}, true
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.asked >= d.Most || d.askedOf[c.from] >= d.mostOf(c.from) {
		d.turned++
		return nil, false
	}
	c.busy++
	d.asked++
	d.askedOf[c.from]++
	return func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		c.busy--
		d.asked--
		if d.askedOf[c.from]--; d.askedOf[c.from] <= 0 {
			delete(d.askedOf, c.from)
		}
	}, true
}

// mostOf is how much a network may have. The lock is held.
func (d *Door) mostOf(from netip.Addr) int {
	if slices.ContainsFunc(d.trusted, func(p netip.Prefix) bool { return p.Contains(from) }) {
		return d.Most
	}
	return d.OfOne
}

// Known says that a member asks on the connection of a request.
func (d *Door) Known(r *http.Request) { d.keep(r, true) }

// Handle keeps a connection while it is answered: at once where nothing is still to come,
// or else when all has come, or a member is known.
func (d *Door) Handle(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		over, ok := d.ask(r)
		if !ok {
			w.Header().Set("Retry-After", "5")
			http.Error(w, "There are too many requests just now; try again shortly.", http.StatusServiceUnavailable)
			return
		}
		if r.ContentLength == 0 {
			d.keep(r, true)
		} else {
			d.keep(r, false)
			r.Body = &arriving{ReadCloser: r.Body, whole: func() { d.keep(r, true) }}
		}
		defer func() {
			d.keep(r, false)
			over()
		}()
		next.ServeHTTP(w, r)
	})
}

// arriving is a body that tells when all of it has come.
type arriving struct {
	io.ReadCloser
	whole func()
}

func (a *arriving) Read(b []byte) (int, error) {
	n, err := a.ReadCloser.Read(b)
	if err == io.EOF {
		a.whole()
	}
	return n, err
}

// Status tells about the connections.
func (d *Door) Status() control.Door {
	d.mu.Lock()
	defer d.mu.Unlock()
	return control.Door{Connections: len(d.all), Peak: d.peak, Most: cmp.Or(d.Most, mostConnections), Turned: d.turned}
}
