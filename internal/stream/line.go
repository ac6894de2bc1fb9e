package stream

import (
	"cmp"
	"errors"
	"io"
	"net"
	"os"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Line is one connection on which files are sent.
//
// A device that takes all that is sent at once is served by its own goroutine, through the kernel's
// sendfile. One that takes it no faster than it plays would wake that goroutine again and again for
// a piece of the socket's buffer: so such lines share one sender, which serves many at each waking.
// What is not in memory is read by the line's own goroutine, so that a disk that has to be waited
// for holds nobody else.
type Line struct {
	mu    sync.Mutex
	now   *transfer // what the sender sends on it
	ended error     // why nothing more is sent

	slow bool // the device takes less than fast
}

const (
	fast  = 16 << 20 // bytes a second that tell a device which waits for bytes from one that plays
	piece = 1 << 20  // bytes that are sent at once
)

// Stop ends what is being sent on a line, and lets nothing more be sent.
func (l *Line) Stop(err error) {
	l.mu.Lock()
	l.ended = err
	t := l.now
	l.mu.Unlock()
	if t != nil {
		t.end(err)
	}
}

// ReadFrom sends what r holds on a connection.
func (l *Line) ReadFrom(to *net.TCPConn, r io.Reader) (sent int64, err error) {
	part, limited := r.(*io.LimitedReader)
	if !limited {
		return to.ReadFrom(r)
	}
	f, file := part.R.(*os.File)
	if !file {
		return to.ReadFrom(r)
	}
	began := time.Now()
	if l.slow {
		sent, err = l.shared(to, f, part)
	} else {
		sent, err = to.ReadFrom(r)
	}
	// A little fits into the socket's buffer, however slow the device is.
	if took := time.Since(began); sent >= 4*piece {
		l.slow = float64(sent) < fast*took.Seconds()
	}
	return sent, err
}

// shared sends by the sender what is in memory, and the rest as usual.
func (l *Line) shared(to *net.TCPConn, f *os.File, part *io.LimitedReader) (sent int64, err error) {
	at, err := f.Seek(0, io.SeekCurrent)
	if err != nil {
		return 0, err
	}
	for part.N > 0 {
		n, err := l.send(to, f, at, part.N)
		at, part.N, sent = at+n, part.N-n, sent+n
		if errors.Is(err, errNotInMemory) {
			if _, err = f.Seek(at, io.SeekStart); err == nil {
				n, err = to.ReadFrom(&io.LimitedReader{R: f, N: min(part.N, piece)})
				at, part.N, sent = at+n, part.N-n, sent+n
				if err == nil && n == 0 {
					err = io.ErrUnexpectedEOF // the file has become shorter
				}
			}
		}
		if err != nil {
			return sent, err
		}
	}
	_, err = f.Seek(at, io.SeekStart)
	return sent, err
}

// send has the sender send a part of a file, and waits for it. Both stay open meanwhile.
func (l *Line) send(to *net.TCPConn, f *os.File, at, n int64) (sent int64, err error) {
	s, err := theSender()
	if err != nil {
		return 0, errNotInMemory // as usual, then
	}
	socket, err := to.SyscallConn()
	if err != nil {
		return 0, err
	}
	file, err := f.SyscallConn()
	if err != nil {
		return 0, err
	}
	var ended, closed error
	gone := socket.Control(func(toFD uintptr) {
		closed = file.Control(func(fromFD uintptr) {
			sent, ended = l.wait(s, &transfer{s: s, to: int(toFD), from: int(fromFD), at: at, left: n,
				done: make(chan struct{})})
		})
	})
	return sent, cmp.Or(gone, closed, ended)
}

func (l *Line) wait(s *sender, t *transfer) (sent int64, err error) {
	l.mu.Lock()
	if l.ended != nil {
		defer l.mu.Unlock()
		return 0, l.ended
	}
	l.now = t
	l.mu.Unlock()
	all := t.left
	if err := s.add(t); err != nil {
		t.end(err)
	}
	<-t.done
	l.mu.Lock()
	l.now = nil
	l.mu.Unlock()
	return all - t.left, t.err
}

var errNotInMemory = errors.New("it is not in memory")

// transfer is a part of a file that the sender sends.
type transfer struct {
	s        *sender
	to, from int

	mu       sync.Mutex
	at, left int64
	err      error
	over     bool
	done     chan struct{} // closed when it is over
}

// end ends a transfer, unless it is over.
func (t *transfer) end(err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.finish(err)
}

// finish does so with the lock held. What follows may close both files.
func (t *transfer) finish(err error) {
	if t.over {
		return
	}
	t.over, t.err = true, err
	t.s.remove(t)
	close(t.done)
}

// step sends as much as the socket takes now.
func (t *transfer) step() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for !t.over {
		n := min(t.left, piece)
		if !inMemory(t.from, t.at) || !inMemory(t.from, t.at+n-1) {
			t.finish(errNotInMemory)
			return
		}
		m, err := unix.Sendfile(t.to, t.from, &t.at, int(n))
		t.left -= int64(max(0, m))
		switch {
		case t.left == 0:
			t.finish(nil)
		case errors.Is(err, unix.EINTR) || err == nil && m > 0:
		case errors.Is(err, unix.EAGAIN):
			return
		case err == nil:
			t.finish(io.ErrUnexpectedEOF) // the file has become shorter
		default:
			t.finish(os.NewSyscallError("sendfile", err))
		}
	}
}

// inMemory reports whether a byte of a file can be had without waiting for its disk.
func inMemory(fd int, at int64) bool {
	var b [1]byte
	n, err := unix.Preadv2(fd, [][]byte{b[:]}, at, unix.RWF_NOWAIT)
	return err == nil && n == 1
}

// sender serves the lines whose devices take bytes slowly.
type sender struct {
	epoll int
	mu    sync.Mutex
	of    map[int32]*transfer // by the socket
}

var theSender = sync.OnceValues(func() (*sender, error) {
	fd, err := unix.EpollCreate1(unix.EPOLL_CLOEXEC)
	if err != nil {
		return nil, err
	}
	s := &sender{epoll: fd, of: map[int32]*transfer{}}
	go s.run()
	return s, nil
})

// add takes a transfer in. Its socket is told of at once if it takes bytes.
func (s *sender) add(t *transfer) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.of[int32(t.to)] = t
	const edge = 1 << 31 // EPOLLET, which package unix has as a negative number
	return unix.EpollCtl(s.epoll, unix.EPOLL_CTL_ADD, t.to, &unix.EpollEvent{Events: unix.EPOLLOUT | edge,
		Fd: int32(t.to)})
}

func (s *sender) remove(t *transfer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of[int32(t.to)] == t {
		delete(s.of, int32(t.to))
		_ = unix.EpollCtl(s.epoll, unix.EPOLL_CTL_DEL, t.to, nil) // it was not added, if this fails
	}
}

// rest is how long the sender lets sockets gather room: more is sent at a time then. Of a socket's
// buffer that is less than a device takes which is slower than fast.
const rest = 10 * time.Millisecond

func (s *sender) run() {
	runtime.LockOSThread()
	events := make([]unix.EpollEvent, 256)
	for {
		n, err := unix.EpollWait(s.epoll, events, -1)
		if err != nil { // interrupted
			continue
		}
		for _, e := range events[:n] {
			s.mu.Lock()
			t := s.of[e.Fd]
			s.mu.Unlock()
			if t != nil {
				t.step()
			}
		}
		// Not by the runtime's timers, which cost more than what is gained.
		pause := unix.NsecToTimespec(int64(rest))
		_ = unix.Nanosleep(&pause, nil) // interrupted, it is shorter
	}
}
