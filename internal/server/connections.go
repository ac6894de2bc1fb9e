package server

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/allowance"
)

// The bounds of connections to the published port. Strangers may open as many as they like;
// whoever is new takes the place of the one that has waited longest without having asked
// for anything, or without having sent all that it wants to send. A connection on which a
// member is answered keeps its place.
const (
	mostConnections = 1024
	mostOfOne       = 512 // from one network; proxies that are trusted have all
	headerTime      = 5 * time.Second
	idleTime        = time.Minute
	bodyTime        = 20 * time.Second
)

// door keeps the connections.
type door struct {
	mu      sync.Mutex
	all     map[*conn]bool
	of      map[netip.Addr]int
	turned  int64 // that were closed for others, or refused
	peak    int
	trusted []netip.Prefix
}

// conn is one connection. It is the TCP connection itself in all else, so that the kernel
// sends files by itself.
type conn struct {
	*net.TCPConn
	door  *door
	from  netip.Addr
	since time.Time // that it rests
	kept  bool      // it is being answered, and does not give way
	gone  bool
}

type listener struct {
	net.Listener
	door *door
}

// listen lets a listener's connections be kept.
func (d *door) listen(l net.Listener, trusted []netip.Prefix) net.Listener {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.all, d.of, d.trusted = map[*conn]bool{}, map[netip.Addr]int{}, trusted
	return &listener{l, d}
}

// Accept gives the next connection that there is room for.
func (l *listener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		tcp, ok := c.(*net.TCPConn)
		if !ok {
			return c, nil
		}
		if kept := l.door.enter(tcp); kept != nil {
			return kept, nil
		}
		go refuse(tcp)
	}
}

// refusal is what a connection hears that there is no room for.
const refusal = "HTTP/1.1 503 Service Unavailable\r\nContent-Type: text/plain; charset=utf-8\r\nRetry-After: 5\r\nConnection: close\r\nContent-Length: 60\r\n\r\n" +
	"There are too many connections just now; try again shortly.\n"

func refuse(c *net.TCPConn) {
	_ = c.SetDeadline(time.Now().Add(time.Second))
	_, _ = io.WriteString(c, refusal) // whoever it is may have gone
	c.Close()
}

// enter notes a connection, letting another give way if need be. nil says that there is no
// room.
func (d *door) enter(tcp *net.TCPConn) *conn {
	c := &conn{TCPConn: tcp, door: d, since: time.Now()}
	if a, err := netip.ParseAddrPort(tcp.RemoteAddr().String()); err == nil {
		c.from = allowance.Network(a.Addr())
	}
	var gives *conn
	d.mu.Lock()
	most := mostOfOne
	if slices.ContainsFunc(d.trusted, func(p netip.Prefix) bool { return p.Contains(c.from) }) {
		most = mostConnections
	}
	ok := true
	switch {
	case d.of[c.from] >= most:
		gives = d.oldest(&c.from)
		ok = gives != nil
	case len(d.all) >= mostConnections:
		gives = d.oldest(nil)
		ok = gives != nil
	}
	if !ok || gives != nil {
		d.turned++
	}
	if gives != nil {
		d.leave(gives)
	}
	if ok {
		d.all[c] = true
		d.of[c.from]++
		d.peak = max(d.peak, len(d.all))
	}
	d.mu.Unlock()
	if gives != nil {
		gives.TCPConn.Close()
	}
	if !ok {
		return nil
	}
	return c
}

// oldest finds the one that has rested longest, of a network unless that is nil. The lock is
// held.
func (d *door) oldest(of *netip.Addr) *conn {
	var found *conn
	for c := range d.all {
		if !c.kept && (of == nil || c.from == *of) && (found == nil || c.since.Before(found.since)) {
			found = c
		}
	}
	return found
}

// leave forgets a connection. The lock is held.
func (d *door) leave(c *conn) {
	if c.gone {
		return
	}
	c.gone = true
	delete(d.all, c)
	if d.of[c.from]--; d.of[c.from] <= 0 {
		delete(d.of, c.from)
	}
}

// Close closes the connection and gives its place back.
func (c *conn) Close() error {
	c.door.mu.Lock()
	c.door.leave(c)
	c.door.mu.Unlock()
	return c.TCPConn.Close()
}

type connKey struct{}

// context lets a request find its connection.
func (d *door) context(ctx context.Context, c net.Conn) context.Context {
	if c, ok := c.(*conn); ok {
		return context.WithValue(ctx, connKey{}, c)
	}
	return ctx
}

func (d *door) keep(r *http.Request, kept bool) {
	c, ok := r.Context().Value(connKey{}).(*conn)
	if !ok {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	c.kept = kept
	if !kept {
		c.since = time.Now()
	}
}

// known says that a member asks on the connection of a request.
func (d *door) known(r *http.Request) { d.keep(r, true) }

// handle keeps a connection while it is answered: at once where nothing is still to come,
// or else when all has come, or a member is known.
func (d *door) handle(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.ContentLength == 0 {
			d.keep(r, true)
		} else {
			d.keep(r, false)
			r.Body = &arriving{r.Body, func() { d.keep(r, true) }}
		}
		defer d.keep(r, false)
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

// status tells about the connections.
func (d *door) status() control.Door {
	d.mu.Lock()
	defer d.mu.Unlock()
	return control.Door{Connections: len(d.all), Peak: d.peak, Most: mostConnections, Turned: d.turned}
}
