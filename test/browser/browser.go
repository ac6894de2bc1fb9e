// Package browser drives a real Chromium without a window, through its DevTools
// protocol: enough to sign in, look at pages, see a film play, and take
// pictures.
package browser

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/net/websocket"
)

// Browser is a running Chromium with one page.
type Browser struct {
	worker string // the registration of the service worker that it told of last
	cmd    *exec.Cmd
	dir    string
	conn   *websocket.Conn
	id     atomic.Int64
	// Said holds what the page's console and the browser complained of.
	Said []string
}

// Find gives the path of Chromium, or nothing.
func Find() string {
	for _, name := range []string{"chromium", "chromium-browser"} {
		if p, err := exec.LookPath(name); err == nil {
			return p
		}
	}
	return ""
}

// Open starts Chromium with a page of 1280 by 800.
func Open() (*Browser, error) {
	dir, err := os.MkdirTemp("", "browser-")
	if err != nil {
		return nil, err
	}
	b := &Browser{dir: dir}
	b.cmd = exec.Command(Find(), "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
		"--disable-background-networking",
		"--disable-component-update", "--disable-sync", "--autoplay-policy=no-user-gesture-required", "--mute-audio",
		"--user-data-dir="+dir,
		"--window-size=1280,800", "--remote-debugging-port=0", "--remote-allow-origins=*", "about:blank")
	b.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	out, err := b.cmd.StderrPipe()
	if err != nil {
		return nil, err
	}
	if err := b.cmd.Start(); err != nil {
		os.RemoveAll(dir)
		return nil, err
	}
	where := make(chan string, 1)
	go func() {
		for s := bufio.NewScanner(out); s.Scan(); {
			if _, url, ok := strings.Cut(s.Text(), "DevTools listening on ws://"); ok {
				host, _, _ := strings.Cut(url, "/")
				where <- host
			}
		}
		_, _ = io.Copy(io.Discard, out)
	}()
	select {
	case host := <-where:
		err = b.attach(host)
	case <-time.After(30 * time.Second):
		err = errors.New("the browser did not come up within 30 s")
	}
	if err != nil {
		b.Close()
		return nil, err
	}
	return b, nil
}

func (b *Browser) attach(host string) error {
	var pages []struct {
		Type string
		URL  string `json:"webSocketDebuggerUrl"`
	}
	for range 100 {
		res, err := http.Get("http://" + host + "/json")
		if err != nil {
			return err
		}
		err = json.NewDecoder(res.Body).Decode(&pages)
		res.Body.Close()
		if err != nil {
			return err
		}
		for _, p := range pages {
			if p.Type != "page" {
				continue
			}
			if b.conn, err = websocket.Dial(p.URL, "", "http://"+host); err != nil {
				return err
			}
			b.conn.MaxPayloadBytes = 64 << 20
			for _, m := range []string{"Page.enable", "Runtime.enable", "Log.enable"} {
				if _, err := b.ask(m, nil); err != nil {
					return err
				}
			}
			_, err := b.ask("Emulation.setDeviceMetricsOverride",
				map[string]any{"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": false})
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
	return errors.New("the browser has no page")
}

// Authenticate gives the browser an authenticator that holds passkeys, and whose owner always agrees.
func (b *Browser) Authenticate() error {
	if _, err := b.ask("WebAuthn.enable", map[string]any{"enableUI": false}); err != nil {
		return err
	}
	_, err := b.ask("WebAuthn.addVirtualAuthenticator", map[string]any{"options": map[string]any{"protocol": "ctap2",
		"transport": "internal", "hasResidentKey": true, "hasUserVerification": true, "isUserVerified": true,
		"automaticPresenceSimulation": true}})
	return err
}

// Allow lets an origin show notifications.
func (b *Browser) Allow(origin string) error {
	_, err := b.ask("Browser.grantPermissions", map[string]any{"origin": origin,
		"permissions": []string{"notifications"}})
	return err
}

// Push has the service worker of an origin get a message, as of its push service.
func (b *Browser) Push(origin, data string) error {
	if _, err := b.ask("ServiceWorker.enable", nil); err != nil {
		return err
	}
	for range 100 {
		if b.worker != "" {
			_, err := b.ask("ServiceWorker.deliverPushMessage", map[string]string{"origin": origin,
				"registrationId": b.worker,
				"data":           data})
			return err
		}
		if err := b.Eval("1", nil); err != nil { // which hears of it
			return err
		}
		time.Sleep(50 * time.Millisecond)
	}
	return errors.New("there is no service worker")
}

// Close ends the browser and all its processes.
func (b *Browser) Close() {
	if b.conn != nil {
		b.conn.Close()
	}
	_ = syscall.Kill(-b.cmd.Process.Pid, syscall.SIGKILL) // its own group
	_ = b.cmd.Wait()                                      // it was killed
	os.RemoveAll(b.dir)
}

func (b *Browser) ask(method string, params any) (json.RawMessage, error) {
	id := b.id.Add(1)
	if params == nil {
		params = struct{}{}
	}
	if err := b.conn.SetDeadline(time.Now().Add(30 * time.Second)); err != nil {
		return nil, err
	}
	if err := websocket.JSON.Send(b.conn, map[string]any{"id": id, "method": method, "params": params}); err != nil {
		return nil, err
	}
	for {
		var got struct {
			ID     int64
			Result json.RawMessage
			Error  *struct{ Message string }
			Method string
			Params json.RawMessage
		}
		if err := websocket.JSON.Receive(b.conn, &got); err != nil {
			return nil, fmt.Errorf("%s: %w", method, err)
		}
		switch {
		case got.Method == "Log.entryAdded" || got.Method == "Runtime.exceptionThrown":
			if !strings.Contains(string(got.Params), networkChanged) {
				b.Said = append(b.Said, string(got.Params))
			}
		case got.Method == "ServiceWorker.workerRegistrationUpdated":
			var v struct {
				Registrations []struct{ RegistrationID string }
			}
			if json.Unmarshal(got.Params, &v) == nil && len(v.Registrations) > 0 {
				b.worker = v.Registrations[0].RegistrationID
			}
		case got.ID != id:
		case got.Error != nil:
			return nil, fmt.Errorf("%s: %s", method, got.Error.Message)
		default:
			return got.Result, nil
		}
	}
}

// networkChanged is what Chromium says where a network of the machine came or went, as engines make them in other
// tests: it ends what it was loading. That is no fault of the page.
const networkChanged = "net::ERR_NETWORK_CHANGED"

// Go opens an address and waits until it is loaded.
func (b *Browser) Go(url string) error {
	for range 10 {
		raw, err := b.ask("Page.navigate", map[string]string{"url": url})
		if err != nil {
			return err
		}
		if !strings.Contains(string(raw), networkChanged) {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	return b.Until(`document.readyState === "complete" && location.href !== "about:blank"`)
}

// Eval runs a script in the page and decodes what it gives.
func (b *Browser) Eval(script string, out any) error {
	raw, err := b.ask("Runtime.evaluate",
		map[string]any{"expression": script, "awaitPromise": true, "returnByValue": true})
	if err != nil {
		return err
	}
	var got struct {
		Result           struct{ Value json.RawMessage }
		ExceptionDetails *struct{ Text string }
	}
	if err := json.Unmarshal(raw, &got); err != nil {
		return err
	}
	if got.ExceptionDetails != nil {
		return fmt.Errorf("%s: %s", script, got.ExceptionDetails.Text)
	}
	if out == nil || len(got.Result.Value) == 0 {
		return nil
	}
	return json.Unmarshal(got.Result.Value, out)
}

// page is one that scripts run in.
type page interface {
	Eval(script string, out any) error
}

// Until waits until a script gives true.
func (b *Browser) Until(script string) error { return until(b, script) }

func until(p page, script string) error {
	for range 1600 {
		var ok bool
		// While a page changes there may be nothing to ask.
		if err := p.Eval("!!("+script+")", &ok); err == nil && ok {
			return nil
		}
		time.Sleep(25 * time.Millisecond)
	}
	return fmt.Errorf("within 40 s it did not come about that %s", script)
}

// SignIn fills in the sign-in page and waits for what comes after.
func (b *Browser) SignIn(name, password string) error { return signIn(b, name, password) }

func signIn(p page, name, password string) error {
	err := p.Eval(fmt.Sprintf(`(document.querySelector("[name=name]").value = %q, document.querySelector("[name=password]").value = %q, document.querySelector("form").submit())`, name, password), nil)
	if err != nil {
		return err
	}
	return until(p, `document.readyState === "complete" && document.querySelector("header")`)
}

// Picture takes a PNG of what is seen.
func (b *Browser) Picture(path string) error {
	raw, err := b.ask("Page.captureScreenshot", map[string]string{"format": "png"})
	if err != nil {
		return err
	}
	var got struct{ Data string }
	if err := json.Unmarshal(raw, &got); err != nil {
		return err
	}
	png, err := base64.StdEncoding.DecodeString(got.Data)
	if err != nil {
		return err
	}
	return os.WriteFile(path, png, 0o644)
}

// Size gives the page a screen of so many CSS pixels; narrow ones are a telephone's.
func (b *Browser) Size(width, height int) error {
	_, err := b.ask("Emulation.setDeviceMetricsOverride", map[string]any{"width": width, "height": height,
		"deviceScaleFactor": 1, "mobile": width < 600})
	return err
}

// Light or dark, as the person's system would prefer it.
func (b *Browser) Prefer(scheme string) error {
	_, err := b.ask("Emulation.setEmulatedMedia",
		map[string]any{"features": []map[string]string{{"name": "prefers-color-scheme", "value": scheme}}})
	return err
}
