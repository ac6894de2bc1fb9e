package stream

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"
)

// pair is a connection with both its ends.
func pair(t testing.TB) (near, far *net.TCPConn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	a, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	b, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { a.Close(); b.Close() })
	return b.(*net.TCPConn), a.(*net.TCPConn)
}

// film is a file of so many random bytes.
func film(t testing.TB, size int) (string, []byte) {
	t.Helper()
	b := make([]byte, size)
	r := rand.NewChaCha8([32]byte{7})
	_, _ = r.Read(b) // it never fails
	path := filepath.Join(t.TempDir(), "film")
	if err := os.WriteFile(path, b, 0o600); err != nil {
		t.Fatal(err)
	}
	return path, b
}

// TestSlowDevicesGetEveryByte has many devices take a file slowly, each from elsewhere on.
func TestSlowDevicesGetEveryByte(t *testing.T) {
	path, want := film(t, 6<<20)
	var wg sync.WaitGroup
	for i := range 40 {
		near, far := pair(t)
		at := i * 100_001
		wg.Go(func() {
			f, err := os.Open(path)
			if err != nil {
				t.Error(err)
				return
			}
			defer f.Close()
			if _, err := f.Seek(int64(at), io.SeekStart); err != nil {
				t.Error(err)
			}
			l := &Line{slow: true}
			// Two parts on one connection, as a range and the next.
			for _, n := range []int64{1_000_000, int64(len(want)-at) - 1_000_000} {
				if sent, err := l.ReadFrom(near, &io.LimitedReader{R: f, N: n}); sent != n || err != nil {
					t.Errorf("device %d: %d of %d bytes were sent, %v", i, sent, n, err)
				}
			}
			near.Close()
		})
		wg.Go(func() {
			var got bytes.Buffer
			for {
				n, err := io.CopyN(&got, far, 300_000)
				if err != nil || n == 0 {
					break
				}
				time.Sleep(time.Duration(i%5) * time.Millisecond)
			}
			if !bytes.Equal(got.Bytes(), want[at:]) {
				t.Errorf("device %d: got %d bytes, want %d", i, got.Len(), len(want)-at)
			}
		})
	}
	wg.Wait()
	if s, err := theSender(); err != nil || len(s.of) != 0 {
		t.Errorf("the sender still has %d transfers, %v", len(s.of), err)
	}
}

// TestALineEnds ends what is sent in each of the ways that there are: the device goes, the server
// cuts it off, the file becomes shorter.
func TestALineEnds(t *testing.T) {
	for name, end := range map[string]func(l *Line, far *net.TCPConn, path string) error{
		"the device goes": func(_ *Line, far *net.TCPConn, _ string) error { return far.Close() },
		"it is cut off":   func(l *Line, _ *net.TCPConn, _ string) error { l.Stop(os.ErrDeadlineExceeded); return nil },
		"the file becomes shorter": func(_ *Line, far *net.TCPConn, path string) error {
			err := os.Truncate(path, 4<<20)
			go io.Copy(io.Discard, far)
			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			path, _ := film(t, 32<<20)
			near, far := pair(t)
			f, err := os.Open(path)
			if err != nil {
				t.Fatal(err)
			}
			defer f.Close()
			l := &Line{slow: true}
			ended := make(chan error, 1)
			go func() {
				_, err := l.ReadFrom(near, &io.LimitedReader{R: f, N: 32 << 20})
				ended <- err
			}()
			time.Sleep(50 * time.Millisecond) // its buffer is full by then
			if err := end(l, far, path); err != nil {
				t.Fatal(err)
			}
			select {
			case err := <-ended:
				if err == nil {
					t.Error("it ended without an error")
				}
			case <-time.After(10 * time.Second):
				t.Fatal("it goes on")
			}
			if name == "it is cut off" {
				if _, err := l.ReadFrom(near, &io.LimitedReader{R: f, N: 1}); !errors.Is(err, os.ErrDeadlineExceeded) {
					t.Errorf("afterwards: %v", err)
				}
			}
			near.Close() // it would wait for a transfer that was forgotten
		})
	}
}

// TestWhatIsNotInMemoryIsSentToo sends a file that the kernel has let go of.
func TestWhatIsNotInMemoryIsSentToo(t *testing.T) {
	path, want := film(t, 5<<20)
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := f.Sync(); err != nil {
		t.Fatal(err)
	}
	forget(t, f)
	near, far := pair(t)
	got := make(chan []byte)
	go func() {
		b, _ := io.ReadAll(far) // what is missing is seen below
		got <- b
	}()
	l := &Line{slow: true}
	if n, err := l.ReadFrom(near, &io.LimitedReader{R: f, N: int64(len(want))}); n != int64(len(want)) || err != nil {
		t.Errorf("%d bytes were sent, %v", n, err)
	}
	near.Close()
	if b := <-got; !bytes.Equal(b, want) {
		t.Errorf("got %d bytes, want %d", len(b), len(want))
	}
}

// TestTheRateTellsWhoIsSlow serves a device at its own pace, then at full speed.
func TestTheRateTellsWhoIsSlow(t *testing.T) {
	path, _ := film(t, 8<<20)
	near, far := pair(t)
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	pause := make(chan time.Duration, 1)
	pause <- 20 * time.Millisecond
	go func() {
		wait := <-pause
		for {
			select {
			case wait = <-pause:
			default:
			}
			if _, err := io.CopyN(io.Discard, far, 200_000); err != nil {
				return
			}
			time.Sleep(wait)
		}
	}()
	l := &Line{}
	for _, slow := range []bool{true, false} {
		for range 3 { // until what was buffered before is gone
			if _, err := f.Seek(0, io.SeekStart); err != nil {
				t.Fatal(err)
			}
			if _, err := l.ReadFrom(near, &io.LimitedReader{R: f, N: 8 << 20}); err != nil {
				t.Fatal(err)
			}
		}
		if l.slow != slow {
			t.Errorf("slow is %v, want %v", l.slow, slow)
		}
		pause <- 0
	}
}
