package browser

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/net/websocket"
)

// Firefox is a running Firefox with one page, driven by WebDriver BiDi.
type Firefox struct {
	cmd     *exec.Cmd
	dir     string
	conn    *websocket.Conn
	id      int64
	context string
}

// FindFirefox gives the path of Firefox, or nothing.
func FindFirefox() string {
	for _, name := range []string{"firefox-esr", "firefox"} {
		if p, err := exec.LookPath(name); err == nil {
			return p
		}
	}
	return ""
}

// origin is who asks; the browser lets nobody else.
const origin = "http://127.0.0.1:9"

// settings let films begin by themselves, without a sound, and keep the browser from asking anybody
// for anything.
const settings = `user_pref("media.autoplay.default", 0);
user_pref("media.volume_scale", "0");
user_pref("app.update.enabled", false);
user_pref("browser.shell.checkDefaultBrowser", false);
user_pref("datareporting.policy.dataSubmissionEnabled", false);
user_pref("toolkit.telemetry.enabled", false);
user_pref("network.captive-portal-service.enabled", false);
user_pref("network.connectivity-service.enabled", false);
user_pref("browser.safebrowsing.update.enabled", false);
user_pref("services.settings.server", "http://127.0.0.1:9/");
user_pref("remote.active-protocols", 1);
`

// OpenFirefox starts Firefox with a page.
func OpenFirefox() (*Firefox, error) {
	dir, err := os.MkdirTemp("", "firefox-")
	if err != nil {
		return nil, err
	}
	f := &Firefox{dir: dir}
	if err := os.WriteFile(filepath.Join(dir, "user.js"), []byte(settings), 0o600); err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	f.cmd = exec.Command(FindFirefox(), "--headless", "--no-remote", "--profile", dir, "--remote-debugging-port", "0",
		"--remote-allow-origins", origin)
	f.cmd.Env = append(os.Environ(), "HOME="+dir, "MOZ_HEADLESS=1")
	f.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	out, err := f.cmd.StderrPipe()
	if err == nil {
		err = f.cmd.Start()
	}
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	where := make(chan string, 1)
	go func() {
		for s := bufio.NewScanner(out); s.Scan(); {
			if _, host, ok := strings.Cut(s.Text(), "WebDriver BiDi listening on ws://"); ok {
				where <- host
			}
		}
		_, _ = io.Copy(io.Discard, out)
	}()
	select {
	case host := <-where:
		err = f.attach(strings.TrimSpace(host))
	case <-time.After(60 * time.Second):
		err = errors.New("the browser did not come up within a minute")
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (f *Firefox) attach(host string) error {
	c, err := websocket.NewConfig("ws://"+host+"/session", origin)
	if err != nil {
		return err
	}
	if f.conn, err = websocket.DialConfig(c); err != nil {
		return err
	}
	f.conn.MaxPayloadBytes = 64 << 20
	if err := f.ask("session.new", map[string]any{"capabilities": map[string]any{}}, nil); err != nil {
		return err
	}
	var tree struct{ Contexts []struct{ Context string } }
	if err := f.ask("browsingContext.getTree", map[string]any{}, &tree); err != nil {
		return err
	}
	if len(tree.Contexts) == 0 {
		return errors.New("the browser has no page")
	}
	f.context = tree.Contexts[0].Context
	return nil
}

// Close ends the browser and all its processes.
func (f *Firefox) Close() {
	if f.conn != nil {
		f.conn.Close()
	}
	_ = syscall.Kill(-f.cmd.Process.Pid, syscall.SIGKILL) // its own group
	_ = f.cmd.Wait()                                      // it was killed
	os.RemoveAll(f.dir)
}

func (f *Firefox) ask(method string, params, out any) error {
	f.id++
	if err := f.conn.SetDeadline(time.Now().Add(30 * time.Second)); err != nil {
		return err
	}
	if err := websocket.JSON.Send(f.conn, map[string]any{"id": f.id, "method": method, "params": params}); err != nil {
		return err
	}
	for {
		var got struct {
			ID             int64
			Type           string
			Error, Message string
			Result         json.RawMessage
		}
		if err := websocket.JSON.Receive(f.conn, &got); err != nil {
			return fmt.Errorf("%s: %w", method, err)
		}
		switch {
		case got.ID != f.id: // something that happened
		case got.Type == "error":
			return fmt.Errorf("%s: %s: %s", method, got.Error, got.Message)
		case out == nil:
			return nil
		default:
			return json.Unmarshal(got.Result, out)
		}
	}
}

// Go opens an address and waits until it is loaded.
func (f *Firefox) Go(url string) error {
	return f.ask("browsingContext.navigate", map[string]string{"context": f.context, "url": url, "wait": "complete"}, nil)
}

// Eval runs a script in the page and decodes what it gives.
func (f *Firefox) Eval(script string, out any) error {
	var got struct {
		Type    string
		Result  struct{ Value json.RawMessage }
		Details struct{ Text string } `json:"exceptionDetails"`
	}
	err := f.ask("script.evaluate", map[string]any{"target": map[string]string{"context": f.context},
		"expression": "(async () => JSON.stringify(await (" + script + ")) ?? null)()", "awaitPromise": true}, &got)
	if err != nil {
		return err
	}
	if got.Type != "success" {
		return fmt.Errorf("%s: %s", script, got.Details.Text)
	}
	var text string
	if out == nil || json.Unmarshal(got.Result.Value, &text) != nil {
		return nil
	}
	return json.Unmarshal([]byte(text), out)
}

// Until waits until a script gives true.
func (f *Firefox) Until(script string) error { return until(f, script) }

// SignIn fills in the sign-in page and waits for what comes after.
func (f *Firefox) SignIn(name, password string) error { return signIn(f, name, password) }
