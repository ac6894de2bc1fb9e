package live

import (
	"crypto/tls"
	"net"
	"testing"
	"time"
)

// greeting is what a client of TLS sends first.
func greeting(t testing.TB, name string) []byte {
	t.Helper()
	here, there := net.Pipe()
	defer there.Close()
	go func() {
		_ = here.SetDeadline(time.Now().Add(time.Second))
		_ = tls.Client(here, &tls.Config{ServerName: name}).Handshake() // nobody answers
	}()
	b := make([]byte, 16<<10)
	n, err := there.Read(b)
	if err != nil {
		t.Fatal(err)
	}
	return b[:n]
}

func TestAGreetingIsWholeAtItsEnd(t *testing.T) {
	b := greeting(t, "mill.home.arpa")
	for n := 1; n <= len(b); n++ {
		if got := wholeHello(b[:n], 1); got != (n == len(b)) {
			t.Fatalf("%d of %d bytes: %v", n, len(b), got)
		}
	}
	if !wholeHello([]byte("GET / HTTP/1.1\r\n"), 5) || wholeHello(nil, 0) {
		t.Error("what is none is waited for, or nothing is not")
	}
}

func FuzzHello(f *testing.F) {
	f.Add(greeting(f, "mill.home.arpa"))
	f.Add([]byte{22, 3, 1, 0xff, 0xff})
	f.Fuzz(func(t *testing.T, b []byte) {
		// Whatever more comes, what was whole stays so.
		if wholeHello(b, len(b)) && !wholeHello(append(b[:len(b):len(b)], 0), 1) {
			t.Errorf("%x", b)
		}
	})
}
