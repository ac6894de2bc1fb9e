package server

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"cozyshelf/internal/control"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/server/live"

	"golang.org/x/sys/unix"
)

// mostTogether is how many requests of one client are answered at once on one connection (HTTP/2).
const mostTogether = 32

// entrance is one listener with what answers there.
type entrance struct {
	blueprint.SettingsListener
	socket net.Listener
	server *http.Server
}

// entrances are all ways in to the server: those that are published, and the control socket.
type entrances struct {
	list   []*entrance
	admin  *http.Server
	socket net.Listener
	failed chan error
}

// openEntrances begins to listen everywhere. Nothing is answered yet.
func (s *Server) openEntrances(ctx context.Context) (*entrances, error) {
	sock, err := control.Listen(s.Settings.State)
	if err != nil {
		return nil, fmt.Errorf("making the control socket: %w", err)
	}
	errs := slog.NewLogLogger(s.Log.Handler(), slog.LevelDebug)
	e := &entrances{socket: sock, failed: make(chan error, 1+len(s.Settings.Listeners)),
		admin: &http.Server{Handler: s.gate(sync.OnceValue(s.admin.Handler), true),
			ReadHeaderTimeout: 10 * time.Second, ErrorLog: errs}}
	public := s.Door.Handle(s.gate(sync.OnceValue(s.public), false))
	for _, l := range s.Settings.Listeners {
		address := l.Address
		if ap, err := netip.ParseAddrPort(address); err == nil && ap.Addr().IsUnspecified() {
			address = fmt.Sprintf(":%d", ap.Port()) // also where there is no IPv6
		}
		port, err := listenOn(ctx, address)
		if err != nil {
			e.close()
			return nil, fmt.Errorf("listening for %s: %w", l.Purpose, err)
		}
		e.list = append(e.list, &entrance{SettingsListener: l, socket: port, server: &http.Server{
			Handler: public, ConnContext: s.Door.Context, ReadHeaderTimeout: live.HeaderTime,
			IdleTimeout:    live.IdleTime,
			MaxHeaderBytes: 32 << 10, ErrorLog: errs,
			HTTP2: &http.HTTP2Config{MaxConcurrentStreams: mostTogether}}})
		if l.TLS {
			e.list[len(e.list)-1].server.TLSConfig = s.Certificate.Config()
		}
	}
	return e, nil
}

// serve answers everywhere; ended is called where one of them fails.
func (e *entrances) serve(s *Server, ended func()) {
	answer := func(srv *http.Server, l net.Listener) {
		serve := srv.Serve
		if srv.TLSConfig != nil {
			serve = func(l net.Listener) error { return srv.ServeTLS(l, "", "") }
		}
		if err := serve(l); !errors.Is(err, http.ErrServerClosed) {
			e.failed <- err
			ended()
		}
	}
	for _, one := range e.list {
		go answer(one.server, s.Door.Listen(one.socket, s.Trusted, one.TLS))
		s.Log.Info("serving", "household", s.Settings.Name, "version", s.Version, "for", one.Purpose,
			"address", one.socket.Addr().String(), "shelves", len(s.Settings.Shelves))
	}
	go answer(e.admin, e.socket)
}

// end lets requests finish for a moment.
func (e *entrances) end(ctx context.Context) error {
	end, stop := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
	defer stop()
	var all sync.WaitGroup
	for _, srv := range e.servers() {
		all.Go(func() {
			// Streams that are running are cut after a moment; their devices come back.
			if srv.Shutdown(end) != nil {
				srv.Close()
			}
		})
	}
	all.Wait()
	select {
	case err := <-e.failed:
		return err
	default:
		return nil
	}
}

func (e *entrances) servers() []*http.Server {
	out := []*http.Server{e.admin}
	for _, one := range e.list {
		out = append(out, one.server)
	}
	return out
}

// close lets go of all that is listened on.
func (e *entrances) close() {
	e.socket.Close()
	for _, one := range e.list {
		one.socket.Close()
	}
}

// takenFor is for how long a port may be taken when the server begins: a server that was
// killed in the midst of starting a child has left its port to that for a moment.
const takenFor = 2 * time.Second

// listenOn listens on a published port.
func listenOn(ctx context.Context, address string) (net.Listener, error) {
	for began := time.Now(); ; {
		l, err := net.Listen("tcp", address)
		if !errors.Is(err, unix.EADDRINUSE) || time.Since(began) > takenFor {
			return l, err
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(50 * time.Millisecond):
		}
	}
}
