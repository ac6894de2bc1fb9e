package syslog

import (
	"bufio"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"cozyshelf/internal/testbuild"
)

// collector runs rsyslog, which writes what it understood of each message into a file.
func collector(t *testing.T) (port int, file string) {
	t.Helper()
	program, err := exec.LookPath("rsyslogd")
	if err != nil {
		testbuild.Missing(t, "rsyslog")
	}
	dir, port := t.TempDir(), testbuild.Port(t)
	file = filepath.Join(dir, "out")
	conf := filepath.Join(dir, "rsyslog.conf")
	if err := os.WriteFile(conf, fmt.Appendf(nil, `global(workDirectory="%s" maxMessageSize="16k")
module(load="imtcp") input(type="imtcp" port="%d" address="127.0.0.1")
module(load="imudp") input(type="imudp" port="%d" address="127.0.0.1")
template(name="seen" type="string" string="%%pri%%|%%protocol-version%%|%%timestamp:::date-rfc3339%%|%%hostname%%|%%app-name%%|%%procid%%|%%msgid%%|%%structured-data%%|%%msg%%\n")
action(type="omfile" file="%s" template="seen")
`, dir, port, port, file), 0o600); err != nil {
		t.Fatal(err)
	}
	c := exec.Command(program, "-n", "-f", conf, "-i", filepath.Join(dir, "pid"))
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait()
	})
	wait(t, "rsyslog listens", func() bool {
		conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	return port, file
}

func wait(t *testing.T, what string, is func() bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); !is(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("not within 20 s: " + what)
		}
	}
}

// TestACollectorUnderstandsTheLog has rsyslog read it, over UDP and TCP.
func TestACollectorUnderstandsTheLog(t *testing.T) {
	port, file := collector(t)
	for n, scheme := range []string{"udp", "tcp"} {
		c, err := Open(fmt.Sprintf("%s://127.0.0.1:%d", scheme, port), nil)
		if err != nil {
			t.Fatal(err)
		}
		log := slog.New(c.Handler(slog.LevelInfo)).With("by", scheme)
		began := time.Now().Add(-time.Second)
		log.Debug("not told")
		log.Info("signed in", "member", "wren", "device", "Größe\nof two lines")
		log.Warn("held back")
		log.Error("failed")
		log.Info(strings.Repeat("long ", 4000))
		c.Close()
		var lines [][]string
		wait(t, "all came by "+scheme, func() bool {
			b, err := os.ReadFile(file)
			lines = nil
			for line := range strings.Lines(string(b)) {
				lines = append(lines, strings.SplitN(strings.TrimSuffix(line, "\n"), "|", 9))
			}
			return err == nil && len(lines) == 4*(n+1)
		})
		host, err := os.Hostname()
		if err != nil {
			t.Fatal(err)
		}
		for i, want := range []struct{ pri, says string }{
			{"30", `by=` + scheme + ` member=wren device="Größe\nof two lines"`}, {"28", `msg="held back" by=` + scheme},
			{"27", "msg=failed by=" + scheme}, {"30", "long long"}} {
			got := lines[4*n+i]
			at, err := time.Parse(time.RFC3339Nano, got[2])
			if got[0] != want.pri || got[1] != "1" || err != nil || at.Before(began) || at.After(time.Now()) || got[3] != host ||
				got[4] != "cozyshelf" || got[5] != strconv.Itoa(os.Getpid()) || got[6] != "-" || got[7] != "-" ||
				!strings.Contains(got[8], want.says) || len(got[8]) > mostMessage {
				t.Errorf("%s: %q", scheme, got)
			}
		}
	}
}

// TestACollectorThatIsAwayHoldsUpNothing has one come back after more was said than waits. It speaks TLS.
func TestACollectorThatIsAwayHoldsUpNothing(t *testing.T) {
	a := testbuild.NewAuthority(t, "logs")
	cert, key := a.Issue(time.Now().Add(-time.Hour), time.Now().AddDate(0, 1, 0), "localhost")
	roots := x509.NewCertPool()
	roots.AddCert(a.Cert)
	port := testbuild.Port(t)
	c, err := Open(fmt.Sprintf("tls://localhost:%d", port), roots)
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(c.Handler(slog.LevelInfo))
	began := time.Now()
	for n := range mostWaiting + 500 {
		log.Info("said", "n", n)
	}
	if took := time.Since(began); took > 2*time.Second {
		t.Errorf("what was said took %s", took)
	}
	l, err := tls.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port), &tls.Config{Certificates: []tls.Certificate{{
		Certificate: [][]byte{cert.Raw}, PrivateKey: key}}})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	came := make(chan []string)
	go func() {
		var out []string
		defer func() { came <- out }()
		conn, err := l.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		r := bufio.NewReader(conn)
		for {
			size, err := r.ReadString(' ')
			n, bad := strconv.Atoi(strings.TrimSpace(size))
			if err != nil || bad != nil {
				return
			}
			b := make([]byte, n)
			if _, err := io.ReadFull(r, b); err != nil {
				return
			}
			out = append(out, string(b))
			if strings.Contains(string(b), fmt.Sprintf("n=%d", mostWaiting-1)) {
				return
			}
		}
	}()
	out := <-came
	c.Close()
	if len(out) < mostWaiting || !strings.Contains(out[0], "lost=") {
		t.Fatalf("%d came, first %.300q", len(out), out)
	}
	for i, s := range out[1:] {
		if !strings.Contains(s, fmt.Sprintf("msg=said n=%d", i)) || !utf8.ValidString(s) {
			t.Fatalf("%d: %q", i, s)
		}
	}
	// One whose certificate nobody vouches for gets nothing, and the end does not wait for it.
	stranger, err := Open(fmt.Sprintf("tls://localhost:%d", port), x509.NewCertPool())
	if err != nil {
		t.Fatal(err)
	}
	slog.New(stranger.Handler(slog.LevelInfo)).Info("secret")
	began = time.Now()
	stranger.Close()
	if took := time.Since(began); took > 5*time.Second {
		t.Errorf("the end took %s", took)
	}
}

func FuzzMessage(f *testing.F) {
	f.Add("said", int64(0))
	f.Add("\xff\x00\n<1>", int64(1<<40))
	c := &Collector{machine: field("mill house\n", 255)}
	f.Fuzz(func(t *testing.T, text string, at int64) {
		b := c.message(time.UnixMilli(at), slog.LevelInfo, []byte(text))
		head, _, ok := strings.Cut(string(b), " cozyshelf ")
		if !ok || !strings.HasPrefix(head, "<30>1 ") || strings.Count(head, " ") != 2 || len(b) > mostMessage ||
			!utf8.Valid(b) {
			t.Errorf("%q", b)
		}
	})
}
