package notify

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/testbuild"
)

// mosquitto is a real broker, with encryption and a sign-in.
type mosquitto struct {
	t          *testing.T
	dir, port  string
	roots      *x509.CertPool
	process    *exec.Cmd
	subscriber *exec.Cmd
	mu         sync.Mutex
	heard      []string // topic and payload
	plain      string
}

func newMosquitto(t *testing.T) *mosquitto {
	t.Helper()
	for _, p := range []string{"mosquitto", "mosquitto_sub", "mosquitto_passwd"} {
		if _, err := exec.LookPath(p); err != nil {
			testbuild.Missing(t, p)
		}
	}
	dir, err := os.MkdirTemp("", "cozyshelf-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	m := &mosquitto{t: t, dir: dir, port: free(t), plain: free(t), roots: certificate(t, dir)}
	conf := fmt.Appendf(nil, "user root\nper_listener_settings true\npersistence false\nlistener %s 127.0.0.1\n"+
		"certfile %s/chain.pem\nkeyfile %s/key.pem\npassword_file %s/passwords\nlistener %s 127.0.0.1\n"+
		"allow_anonymous true\n", m.port, dir, dir, dir, m.plain)
	if err := os.WriteFile(filepath.Join(dir, "mosquitto.conf"), conf, 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("mosquitto_passwd", "-b", "-c", filepath.Join(dir, "passwords"), "shelf",
		key1).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	m.start()
	t.Cleanup(m.stop)
	return m
}

const key1 = "the broker's word"

// start starts the broker, and hears all that is said.
func (m *mosquitto) start() {
	m.t.Helper()
	m.process = exec.Command("mosquitto", "-c", filepath.Join(m.dir, "mosquitto.conf"))
	if err := m.process.Start(); err != nil {
		m.t.Fatal(err)
	}
	wait(m.t, "the broker answers", func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+m.plain)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
	m.subscriber = exec.Command("mosquitto_sub", "-h", "127.0.0.1", "-p", m.plain, "-V", "5", "-v", "-t", "homie/5/#")
	m.subscriber.Stdout = m
	if err := m.subscriber.Start(); err != nil {
		m.t.Fatal(err)
	}
}

// Write hears lines of the subscriber.
func (m *mosquitto) Write(b []byte) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for line := range bytes.Lines(b) {
		m.heard = append(m.heard, strings.TrimSuffix(string(line), "\n"))
	}
	return len(b), nil
}

// has tells how often a topic was said with something in its payload.
func (m *mosquitto) has(topic, in string) (n int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, h := range m.heard {
		if t, payload, _ := strings.Cut(h, " "); t == "homie/5/cozyshelf-mill/"+topic && strings.Contains(payload, in) {
			n++
		}
	}
	return n
}

func (m *mosquitto) stop() {
	for _, c := range []*exec.Cmd{m.subscriber, m.process} {
		_ = c.Process.Kill()
		_ = c.Wait()
	}
}

// TestABrokerIsTold has Mosquitto keep how the house is, and hear what happens, over its own restart, too.
func TestABrokerIsTold(t *testing.T) {
	m := newMosquitto(t)
	var mu sync.Mutex
	now := Figures{Members: 4, Titles: 9}
	r := household.Notice{Name: "broker", To: household.ToMQTT, Address: "mqtts://localhost:" + m.port, User: "shelf"}
	figures := func(context.Context) (Figures, error) {
		mu.Lock()
		defer mu.Unlock()
		return now, nil
	}
	o := Options{ID: "mill", Roots: m.roots, Receivers: []household.Notice{r}, Figures: figures}
	// With a wrong password it is said why.
	k := keep(t, t.TempDir(), o)
	wait(t, "it is refused", func() bool {
		err := k.Try(t.Context(), "broker")
		return err != nil && strings.Contains(err.Error(), "user and the password")
	})
	k.end()
	dir := t.TempDir()
	k = keep(t, dir, o)
	if err := os.WriteFile(k.Secrets, fmt.Appendf(nil, `{"broker": %q}`, key1), 0o600); err != nil {
		t.Fatal(err)
	}
	k.end()
	k = keepGiven(t, dir, o)
	wait(t, "it is ready", func() bool { return m.has("$state", "ready") == 1 && m.has("house/titles", "9") == 1 })
	var said struct {
		Homie string
		Nodes map[string]struct {
			Properties map[string]struct{ Datatype string }
		}
	}
	m.mu.Lock()
	for _, h := range m.heard {
		if text, ok := strings.CutPrefix(h, "homie/5/cozyshelf-mill/$description "); ok {
			if err := json.Unmarshal([]byte(text), &said); err != nil {
				t.Error(err)
			}
		}
	}
	m.mu.Unlock()
	if said.Homie != "5.0" || said.Nodes["now"].Properties["streams"].Datatype != "integer" ||
		said.Nodes["notices"].Properties["event"].Datatype != "json" {
		t.Errorf("%+v", said)
	}
	if _, tells := said.Nodes["now"].Properties["watching"]; tells || m.has("now/watching", "") > 0 {
		t.Error("it is told who watches what, and has not asked for it")
	}
	mu.Lock()
	now.Streams = 2
	mu.Unlock()
	wait(t, "what changes is told", func() bool { return m.has("now/streams", "2") == 1 })
	k.events.Tell(event.FolderAway{Shelf: "films", Folder: "/srv/films", Why: "unplugged"})
	wait(t, "what happens is told", func() bool { return m.has("notices/event", "cozyshelf.folder-away") == 1 })
	// What happens while the broker is away comes afterwards, and all that it keeps is said anew.
	m.stop()
	k.events.Tell(event.FolderBack{Shelf: "films", Folder: "/srv/films"})
	time.Sleep(time.Second)
	m.start()
	wait(t, "what happened meanwhile is told", func() bool {
		return m.has("notices/event", "cozyshelf.folder-back") == 1 && m.has("$state", "ready") == 2 &&
			m.has("house/titles", "9") == 2
	})
	k.end()
	wait(t, "it says that it leaves", func() bool { return m.has("$state", "disconnected") == 1 })
	if m.has("$state", "lost") > 0 {
		t.Error("it is taken for lost")
	}
}
