// Package syslog sends the server's log to a collector of logs, in the form of RFC 5424: over UDP (RFC 5426),
// TCP (RFC 6587, by octet counting) or TLS (RFC 5425).
//
// The server never waits for a collector. What it says while none answers waits in memory, up to a bound; what does
// not fit is counted, and told once the collector answers again.
package syslog

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Bounds of what is sent and what waits.
const (
	mostWaiting  = 2000
	mostMessage  = 8192 // bytes
	dialWithin   = 10 * time.Second
	writeWithin  = 10 * time.Second
	firstPause   = time.Second
	longestPause = time.Minute
	leaveWithin  = 2 * time.Second
)

// facility is that of system daemons.
const facility = 3

// Collector is a collector of logs.
type Collector struct {
	scheme, address, host string
	roots                 *x509.CertPool // nil for the machine's
	lines                 chan []byte
	lost                  atomic.Int64
	machine               string
	end                   chan struct{}
	done                  sync.WaitGroup
}

// Open begins to send to a collector at udp://, tcp:// or tls:// with a host and a port.
func Open(address string, roots *x509.CertPool) (*Collector, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	machine, err := os.Hostname()
	if err != nil || machine == "" {
		machine = "-"
	}
	c := &Collector{scheme: u.Scheme, address: u.Host, host: u.Hostname(), roots: roots,
		lines: make(chan []byte, mostWaiting), machine: field(machine, 255), end: make(chan struct{})}
	c.done.Go(c.run)
	return c, nil
}

// Close sends what waits, as far as that goes within a moment, and ends.
func (c *Collector) Close() {
	close(c.end)
	c.done.Wait()
}

// field makes a text one of those between blanks: of printable ASCII, and never empty.
func field(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return -1
		}
		return r
	}, s)
	if s == "" {
		return "-"
	}
	return s[:min(len(s), most)]
}

// message gives a message.
func (c *Collector) message(at time.Time, level slog.Level, text []byte) []byte {
	severity := 7 // debug
	switch {
	case level >= slog.LevelError:
		severity = 3
	case level >= slog.LevelWarn:
		severity = 4
	case level >= slog.LevelInfo:
		severity = 6
	}
	b := fmt.Appendf(nil, "<%d>1 %s %s cozyshelf %d - - ", facility*8+severity,
		at.UTC().Format("2006-01-02T15:04:05.000000Z07:00"), c.machine, os.Getpid())
	b = append(b, "\uFEFF"...) // what follows is UTF-8
	b = append(b, bytes.ToValidUTF8(bytes.TrimRight(text, "\n"), []byte("\uFFFD"))...)
	if len(b) > mostMessage {
		b = bytes.ToValidUTF8(b[:mostMessage], nil)
	}
	return b
}

// put has a message wait to be sent.
func (c *Collector) put(b []byte) {
	select {
	case c.lines <- b:
	default:
		c.lost.Add(1)
	}
}

// run sends until the collector is closed.
func (c *Collector) run() {
	var conn net.Conn
	defer func() {
		if conn != nil {
			conn.Close()
		}
	}()
	pause := firstPause
	ending := false
	for {
		var line []byte
		if ending {
			select {
			case line = <-c.lines:
			default:
				return
			}
		} else {
			select {
			case line = <-c.lines:
			case <-c.end:
				ending = true
				continue
			}
		}
		for {
			var err error
			if conn == nil {
				if conn, err = c.dial(); err == nil {
					if n := c.lost.Swap(0); n > 0 {
						text := fmt.Appendf(nil, "msg=\"the collector did not answer; messages were lost\" lost=%d", n)
						err = c.write(conn, c.message(time.Now(), slog.LevelWarn, text))
					}
				}
			}
			if err == nil {
				err = c.write(conn, line)
			}
			if err == nil {
				pause = firstPause
				break
			}
			if conn != nil {
				conn.Close()
				conn = nil
			}
			if ending {
				return // it does not answer now
			}
			select {
			case <-time.After(pause):
			case <-c.end:
				ending = true
			}
			pause = min(2*pause, longestPause)
		}
	}
}

func (c *Collector) dial() (net.Conn, error) {
	ctx, cancel := context.WithTimeout(context.Background(), dialWithin)
	defer cancel()
	go func() { // whoever ends does not wait for a connection
		select {
		case <-c.end:
			time.Sleep(leaveWithin)
			cancel()
		case <-ctx.Done():
		}
	}()
	d := &net.Dialer{}
	switch c.scheme {
	case "udp":
		return d.DialContext(ctx, "udp", c.address)
	case "tls":
		t := &tls.Dialer{NetDialer: d, Config: &tls.Config{ServerName: c.host, RootCAs: c.roots}}
		return t.DialContext(ctx, "tcp", c.address)
	}
	return d.DialContext(ctx, "tcp", c.address)
}

func (c *Collector) write(conn net.Conn, line []byte) error {
	if c.scheme != "udp" {
		line = append(fmt.Appendf(nil, "%d ", len(line)), line...)
	}
	if err := conn.SetWriteDeadline(time.Now().Add(writeWithin)); err != nil {
		return err
	}
	_, err := conn.Write(line)
	return err
}

// Handler gives a handler of log/slog that sends what is logged.
func (c *Collector) Handler(level slog.Leveler) slog.Handler {
	s := &shared{of: c}
	return &handler{s, slog.NewTextHandler(&s.b, &slog.HandlerOptions{Level: level,
		ReplaceAttr: func(groups []string, a slog.Attr) slog.Attr {
			if len(groups) == 0 && (a.Key == slog.TimeKey || a.Key == slog.LevelKey) {
				return slog.Attr{} // they stand before it
			}
			return a
		}})}
}

// shared is where a message is written, one after the other.
type shared struct {
	mu sync.Mutex
	b  bytes.Buffer
	of *Collector
}

type handler struct {
	*shared
	text slog.Handler
}

func (h *handler) Enabled(ctx context.Context, l slog.Level) bool { return h.text.Enabled(ctx, l) }

func (h *handler) Handle(ctx context.Context, r slog.Record) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.b.Reset()
	if err := h.text.Handle(ctx, r); err != nil {
		return err
	}
	h.of.put(h.of.message(r.Time, r.Level, h.b.Bytes()))
	return nil
}

func (h *handler) WithAttrs(a []slog.Attr) slog.Handler {
	return &handler{h.shared, h.text.WithAttrs(a)}
}
func (h *handler) WithGroup(name string) slog.Handler {
	return &handler{h.shared, h.text.WithGroup(name)}
}
