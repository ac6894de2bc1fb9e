package cli

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"cozyshelf/internal/cli/show"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/event"
	"cozyshelf/internal/core/household"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/standin"
)

// automation has the house's automation, for which a request stands in, read by a key of its own who watches.
func (w *walk) automation(address string) error {
	w.say("The house's automation dims the lights: it asks with a key of its own, which sees figures and nothing else.")
	var key control.KeyMade
	if err := w.read(&key, "key", "add", "automation", "--may", "read-figures"); err != nil {
		return err
	}
	list, err := demo.Now(w.ctx, address, key.Token)
	if err != nil {
		return err
	}
	for _, s := range list {
		w.a.out.Printf("the automation: %s, %s on %s, at %s\n", strings.Join(s.Members, " and "), s.Title, s.Device,
			s.Where)
	}
	if err := w.run("", "key", "list"); err != nil {
		return err
	}
	return w.heard(len(list))
}

// listens has the house's automation listen to a broker, for which a stand-in plays, and gives what the household file
// is to say of it. Where the broker would have no address of the home, the demo goes on without it.
func (w *walk) listens(address string) error {
	ip, err := netip.ParseAddr(address)
	if err != nil || !ip.IsLoopback() && !ip.IsPrivate() {
		return err
	}
	l, err := net.Listen("tcp", net.JoinHostPort(address, "0"))
	if err != nil {
		return err
	}
	w.broker = standin.NewBroker(l)
	w.asks = fmt.Sprintf(`
[[notice]]
name    = "automation"
to      = "mqtt"
address = "mqtt://%s"
events  = ["%s"]
`, l.Addr(), event.CodePlayBegan)
	return nil
}

// heard tells what the broker keeps, once it knows of so many streams.
func (w *walk) heard(streams int) error {
	if w.broker == nil {
		return nil
	}
	w.say("It need not even ask: a broker (MQTT 5; a stand-in plays its part) is told as soon as somebody begins, " +
		"and keeps it.")
	for began := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		_, value := w.broker.Kept("/now/streams")
		if value == fmt.Sprint(streams) {
			break
		}
		if time.Since(began) > 10*time.Second {
			return fmt.Errorf("the broker was not told of %d streams; it keeps %q", streams, value)
		}
	}
	for _, end := range []string{"/$state", "/now/streams", "/now/watching"} {
		topic, value := w.broker.Kept(end)
		w.a.out.Printf("the broker keeps %s: %s\n", show.Clean(topic), show.Clean(value))
	}
	return nil
}

// deaf takes the broker out of the household file, with the change that is deployed next.
func (w *walk) deaf() error {
	if w.broker == nil {
		return nil
	}
	return w.edit(w.asks, "")
}

// https gives the household HTTPS of its own, with the change that is deployed next.
func (w *walk) https() (port int, err error) {
	port = machine.NextPort(netip.IPv6Unspecified(), household.DefaultHTTPS)
	f, err := os.OpenFile(filepath.Join(w.dir, "household.toml"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return 0, err
	}
	_, err = fmt.Fprintf(f, "\n[remote.certificate]\nfrom = \"home\"\nport = %d\n", port)
	return port, errors.Join(err, f.Close())
}

// trusts visits the server as a device does that trusts the household's authority.
func (w *walk) trusts(port int) error {
	w.say("The household vouches for its own server. A device that trusts it has a safe connection, and nothing else does.")
	file := filepath.Join(w.dir, "authority.crt")
	if err := w.run("", "remote", "certificate", "--save", file); err != nil {
		return err
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(b)
	for _, trusts := range []bool{true, false} {
		c := tls.Config{RootCAs: x509.NewCertPool()}
		if trusts {
			c.RootCAs = roots
		}
		client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{TLSClientConfig: &c,
			ForceAttemptHTTP2: true}}
		res, err := client.Get(fmt.Sprintf("https://localhost:%d/healthz", port))
		if trusts != (err == nil) {
			return fmt.Errorf("a device that trusts the authority (%v): %w", trusts, err)
		}
		if err != nil {
			w.a.out.Printf("a device that does not: %s\n", err)
			continue
		}
		_, err = io.Copy(io.Discard, res.Body)
		if res.Body.Close(); err != nil {
			return err
		}
		w.a.out.Printf("a device that trusts it: %s over %s\n", res.Status, res.Proto)
	}
	return nil
}

// monthSeed has every demo make up the same month.
const monthSeed = 1887

// month gives the figures something to show: plays of the last 30 days that nobody watched, told as a device tells
// that played without the server. Its name marks them.
func (w *walk) month(address string) error {
	w.say("So that the figures have something to show, plays of a month are made up, on a device called %q.", demo.MadeUp)
	zone, err := time.LoadLocation(demoZone)
	if err != nil {
		return err
	}
	evenings := demo.Month(time.Now().In(zone), monthSeed)
	viewers := map[string]*demo.Viewer{}
	files := map[[3]string]demo.File{}
	for _, e := range evenings {
		v := viewers[e.Who]
		if v == nil {
			v = &demo.Viewer{Address: address}
			if err := v.SignIn(w.ctx, e.Who, demoPassword(e.Who), demo.MadeUp); err != nil {
				return err
			}
			viewers[e.Who] = v
		}
		key := [3]string{e.Shelf, e.Title, e.Part}
		if files[key].ID == 0 {
			f, err := v.Find(w.ctx, e.Shelf, e.Title, e.Part)
			if err != nil {
				return err
			}
			files[key] = f
		}
		if err := v.Tell(w.ctx, files[key], e); err != nil {
			return err
		}
	}
	w.a.out.Printf("told of %s by %d members\n", show.Count(len(evenings), "play", "plays"), len(viewers))
	return nil
}
