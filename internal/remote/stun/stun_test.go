package stun

import (
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cozyshelf/internal/testbuild"
)

// TestARealServerIsAsked asks coturn over IPv4 and IPv6.
func TestARealServerIsAsked(t *testing.T) {
	path, err := exec.LookPath("turnserver")
	if err != nil {
		testbuild.Missing(t, "turnserver")
	}
	dir, port := testbuild.Folder(t), testbuild.Port(t)
	conf := filepath.Join(dir, "turnserver.conf")
	if err := os.WriteFile(conf, fmt.Appendf(nil,
		"listening-ip=127.0.0.1\nlistening-ip=::1\nlistening-port=%d\nstun-only\n"+
			"no-cli\nno-tls\nno-dtls\nno-tcp\nlog-file=stdout\npidfile=%s\nuserdb=%s\n", port, filepath.Join(dir, "pid"),
		filepath.Join(dir, "db")), 0o600); err != nil {
		t.Fatal(err)
	}
	var said strings.Builder
	cmd := exec.Command(path, "-c", conf)
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, &said, &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	end := func() {
		_ = cmd.Process.Kill() // it may have ended
		_ = cmd.Wait()
	}
	defer end()
	for network, want := range map[string]string{"udp4": "127.0.0.1", "udp6": "::1"} {
		server := net.JoinHostPort(want, fmt.Sprint(port))
		var a netip.Addr
		for began := time.Now(); ; {
			if a, err = Ask(t.Context(), network, server); err == nil || time.Since(began) > 20*time.Second {
				break
			}
		}
		if err != nil || a.String() != want {
			end()
			t.Fatalf("%s: %s, %v; %s", network, a, err, said.String())
		}
	}
}

// answer makes one of a question, as a server that sees it come from an address.
func answer(question []byte, from netip.Addr) []byte {
	family, raw := byte(1), from.AsSlice()
	if from.Is6() {
		family = 2
	}
	value := binary.BigEndian.AppendUint16([]byte{0, family}, 1234^uint16(cookie>>16))
	for i, b := range raw {
		value = append(value, b^question[4+i])
	}
	attributes := append([]byte{0x80, 0x22, 0, 3, 'x', 'y', 'z', 0}, 0, mapped, 0,
		byte(len(value))) // another comes first
	attributes = append(attributes, value...)
	out := binary.BigEndian.AppendUint16(nil, success)
	out = binary.BigEndian.AppendUint16(out, uint16(len(attributes)))
	out = append(out, question[4:20]...)
	return append(out, attributes...)
}

func TestOnlyAnswersToTheQuestionCount(t *testing.T) {
	question, id := Question()
	for _, text := range []string{"192.0.2.7", "2001:db8::7"} {
		from := netip.MustParseAddr(text)
		good := answer(question, from)
		if a, err := Answer(good, id); err != nil || a != from {
			t.Errorf("%s %v", a, err)
		}
		for n := range good { // none that is cut off
			if a, err := Answer(good[:n], id); err == nil {
				t.Errorf("%d bytes give %s", n, a)
			}
		}
		for n := range 20 { // nor one with another head
			bad := append([]byte{}, good...)
			bad[n] ^= 1
			if a, err := Answer(bad, id); err == nil {
				t.Errorf("with another byte %d it gives %s", n, a)
			}
		}
	}
	if a, err := Answer(answer(question, netip.MustParseAddr("::ffff:192.0.2.7")), id); err == nil {
		t.Errorf("%s is no address of either family", a)
	}
}

// TestNoiseIsPassedOver asks a server that sends something else first, and answers the second time only.
func TestNoiseIsPassedOver(t *testing.T) {
	c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	want := netip.MustParseAddr("192.0.2.7")
	go func() {
		b := make([]byte, 100)
		for times := 0; ; times++ {
			n, from, err := c.ReadFromUDP(b)
			if err != nil {
				return
			}
			_, _ = c.WriteToUDP([]byte("noise"), from)
			other, _ := Question()
			_, _ = c.WriteToUDP(answer(other, netip.MustParseAddr("192.0.2.66")), from)
			if times > 0 {
				_, _ = c.WriteToUDP(answer(b[:n], want), from)
			}
		}
	}()
	if a, err := Ask(t.Context(), "udp4", c.LocalAddr().String()); err != nil || a != want {
		t.Errorf("%s %v", a, err)
	}
	silent, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	if a, err := Ask(t.Context(), "udp4", silent.LocalAddr().String()); err == nil || !strings.Contains(err.Error(),
		"does not answer") {
		t.Errorf("%s %v", a, err)
	}
}

func FuzzAnswer(f *testing.F) {
	question, id := Question()
	f.Add(answer(question, netip.MustParseAddr("192.0.2.7")), id[:])
	f.Fuzz(func(t *testing.T, b, raw []byte) {
		var id [12]byte
		copy(id[:], raw)
		if a, err := Answer(b, id); err == nil && (!a.IsValid() || a.Is4In6()) {
			t.Errorf("%s", a)
		}
	})
}
