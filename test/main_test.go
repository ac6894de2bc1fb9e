// Package test drives the built program from outside: its commands in temporary
// folders, its server over HTTP, on Docker and on the process engine.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/demo"
	"cozyshelf/internal/engine/docker"
	"cozyshelf/internal/testbuild"

	"github.com/google/jsonschema-go/jsonschema"
)

func TestMain(m *testing.M) {
	if what := os.Getenv(attackEnv); what != "" {
		attackNow(what)
		return
	}
	code := m.Run()
	testbuild.Clean()
	os.Exit(code)
}

// mill is a household in a temporary folder, on one engine.
type mill struct {
	t      testing.TB
	dir    string
	engine string
	port   int
	runAs  string
	env    []string
	uid    int

	program string              // another than the usual one
	as      *syscall.Credential // who runs the commands; nil for who runs the tests
}

// engines runs a test on each engine that is here, at the same time.
func engines(t *testing.T, do func(t *testing.T, engine string)) {
	for _, e := range []string{"process", "docker"} {
		t.Run(e, func(t *testing.T) {
			t.Parallel()
			if e == "docker" {
				needsDocker(t)
			}
			do(t, e)
		})
	}
}

func needsDocker(t testing.TB) {
	t.Helper()
	e, err := docker.Open()
	if err != nil {
		t.Fatal(err)
	}
	if f := e.Facts(context.Background()); !f.Answers {
		testbuild.Missing(t, "a Docker Engine: "+f.Error)
	}
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to give folders to another account")
	}
}

// newMill makes the media and the household file. What a test leaves on the
// engine is removed in the end.
func newMill(t testing.TB, engine string) *mill { return millOf(t, engine, nil) }

// millOf has an account of its own run the commands, and the server as itself, with
// more in the environment.
func millOf(t testing.TB, engine string, as *syscall.Credential, env ...string) *mill {
	t.Helper()
	m := &mill{t: t, as: as, dir: testbuild.Folder(t), engine: engine, port: testbuild.Port(t), uid: os.Getuid(),
		runAs: fmt.Sprintf("%d:%d", os.Getuid(), os.Getgid())}
	if m.uid == 0 {
		m.uid, m.runAs = 41500, "41500:41500"
	}
	if as != nil {
		m.uid, m.runAs = int(as.Uid), "0:0" // root in an account's own engine is that account
		if err := os.Chown(m.dir, int(as.Uid), int(as.Gid)); err != nil {
			t.Fatal(err)
		}
	}
	m.env = append(os.Environ(), "COZYSHELF_PROCESS_ROOT="+filepath.Join(m.dir, "process"), "NO_COLOR=1", "TZ=UTC")
	m.env = append(m.env, env...)
	if err := demo.Media(m.path("media")); err != nil {
		t.Fatal(err)
	}
	m.must("new", "--name", "Fernhollow Mill", "--timezone", "Europe/Riga", "--engine", engine, "--run-as", m.runAs,
		"--bind", "localhost",
		"--port", fmt.Sprint(m.port), "--memory", "256 MiB", "--scratch-limit", "32 MiB", "--state", m.path("state"),
		"--shelf", "films=films:"+m.path("media/films"), "--shelf", "series=series:"+m.path("media/series"))
	t.Cleanup(func() {
		if t.Failed() {
			if out, _, code := m.run("", "logs", "--tail", "30"); code == 0 {
				t.Logf("the server's log:\n%s", out)
			}
		}
		if _, err := os.Stat(m.path("household.toml")); err != nil {
			return
		}
		if _, errs, code := m.run("", "retire", "--erase", "--yes"); code != 0 {
			t.Errorf("cleaning up: code %d, %s", code, errs)
		}
	})
	return m
}

func (m *mill) path(p string) string { return filepath.Join(m.dir, p) }

func (m *mill) command(args ...string) *exec.Cmd {
	program := m.program
	if program == "" {
		program = testbuild.Program(m.t)
	}
	c := exec.Command(program, args...)
	c.Dir, c.Env = m.dir, m.env
	if m.as != nil {
		c.SysProcAttr = &syscall.SysProcAttr{Credential: m.as}
	}
	return c
}

// run runs a command and gives what it said and its exit code.
func (m *mill) run(stdin string, args ...string) (out, errs string, code int) {
	m.t.Helper()
	c := m.command(args...)
	c.Stdin = strings.NewReader(stdin)
	var o, e bytes.Buffer
	c.Stdout, c.Stderr = &o, &e
	err := c.Run()
	if c.ProcessState == nil {
		m.t.Fatal(err)
	}
	if slices.Contains(args, "--json") && o.Len() > 0 {
		m.held(o.Bytes(), args)
	}
	return o.String(), e.String(), c.ProcessState.ExitCode()
}

// schemas are those of the program, by command.
var schemas sync.Map

// held holds what a command wrote with --json against its schema.
func (m *mill) held(out []byte, args []string) {
	m.t.Helper()
	var name []string
	for i, a := range args {
		if strings.HasPrefix(a, "-") {
			break
		}
		if i > 1 || i == 1 && !slices.Contains(subcommands[args[0]], a) {
			break
		}
		name = append(name, a)
	}
	command := strings.Join(name, " ")
	program := testbuild.Program(m.t)
	known, ok := schemas.Load(command)
	if !ok {
		text, err := exec.Command(program, append([]string{"schema"}, name...)...).Output()
		if err != nil {
			m.t.Errorf("cozyshelf schema %s: %v", command, err)
			return
		}
		s := new(jsonschema.Schema)
		if err := json.Unmarshal(text, s); err != nil {
			m.t.Fatalf("cozyshelf schema %s: %v", command, err)
		}
		r, err := s.Resolve(nil)
		if err != nil {
			m.t.Fatalf("cozyshelf schema %s: %v", command, err)
		}
		known, _ = schemas.LoadOrStore(command, r)
	}
	for d := json.NewDecoder(bytes.NewReader(out)); ; {
		var v any
		err := d.Decode(&v)
		if errors.Is(err, io.EOF) {
			return
		}
		if err == nil {
			err = known.(*jsonschema.Resolved).Validate(v)
		}
		if err != nil {
			m.t.Errorf("what cozyshelf %s writes is not as its schema says: %v\n%.2000s", strings.Join(args, " "), err, out)
			return
		}
	}
}

// subcommands are the second words of commands that have some.
var subcommands = map[string][]string{"backup": {"list", "verify"}, "intake": {"copy", "fetch", "list", "clear"},
	"ledger": {"verify"}, "member": {"add", "devices", "edit", "invite", "list", "password", "remove", "show"},
	"prepare": {"add", "cancel", "list"}, "remote": {"certificate", "close", "name", "open", "proxy", "status", "test"},
	"shelf": {"add", "list", "match", "remove", "scan", "find", "show"},
	"usage": {"chart", "export", "forecast", "history", "lately", "now", "report", "stop", "top", "verify"},
	"key":   {"add", "list", "remove"}, "notice": {"list", "run", "test"}}

// must runs a command that has to succeed.
func (m *mill) must(args ...string) string {
	m.t.Helper()
	out, errs, code := m.run("", args...)
	if code != 0 {
		m.t.Fatalf("cozyshelf %s: code %d\n%s%s", strings.Join(args, " "), code, out, errs)
	}
	return out
}

// document runs a reading command with --json and decodes what it says.
func (m *mill) document(v any, args ...string) {
	m.t.Helper()
	line := strings.Join(args, " ")
	out, errs, code := m.run("", append(args, "--json")...)
	if code != 0 && !(code == 3 && args[0] == "status") {
		m.t.Fatalf("cozyshelf %s --json: code %d\n%s%s", line, code, out, errs)
	}
	if err := json.Unmarshal([]byte(out), v); err != nil {
		m.t.Fatalf("cozyshelf %s: %v\n%s", line, err, out)
	}
	var st struct{ Healthy bool }
	if args[0] != "status" || json.Unmarshal([]byte(out), &st) != nil {
		return
	}
	if st.Healthy != (code == 0) {
		m.t.Errorf("status ends with code %d where healthy is %v", code, st.Healthy)
	}
}

func (m *mill) address() string { return fmt.Sprintf("http://127.0.0.1:%d", m.port) }

// add lets people in.
func (m *mill) add(people ...demo.Person) {
	m.t.Helper()
	for _, p := range people {
		if _, errs, code := m.run(password(p.Name)+"\n", "member", "add", p.Name, "--role", string(p.Role)); code != 0 {
			m.t.Fatalf("adding %s: code %d, %s", p.Name, code, errs)
		}
	}
}

func password(name string) string { return name + " by the millpond" }

// viewer signs a device in.
func (m *mill) viewer(name string) *demo.Viewer {
	m.t.Helper()
	v := &demo.Viewer{Address: m.address()}
	if err := v.SignIn(context.Background(), name, password(name), name+"'s tablet"); err != nil {
		m.t.Fatal(err)
	}
	return v
}

// edit replaces a part of the household file.
func (m *mill) edit(old, new string) {
	m.t.Helper()
	p := m.path("household.toml")
	b, err := os.ReadFile(p)
	if err != nil {
		m.t.Fatal(err)
	}
	if !strings.Contains(string(b), old) {
		m.t.Fatalf("the household file has no %q:\n%s", old, b)
	}
	if err := os.WriteFile(p, []byte(strings.Replace(string(b), old, new, 1)), 0o644); err != nil {
		m.t.Fatal(err)
	}
}

// get asks the published port, with headers in pairs.
func (m *mill) get(method, path, body string, headers ...string) (*http.Response, string) {
	m.t.Helper()
	r, err := http.NewRequest(method, m.address(), strings.NewReader(body))
	if err != nil {
		m.t.Fatal(err)
	}
	// As it is written, with dots and all.
	r.URL.Opaque = "//" + r.URL.Host + path
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	c := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Timeout: 20 * time.Second}
	res, err := c.Do(r)
	if err != nil {
		m.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		m.t.Fatal(err)
	}
	return res, string(b)
}

// token signs in and gives the bare token.
func (m *mill) token(name string) string {
	m.t.Helper()
	res, body := m.get("POST", "/api/v1/sign-in",
		fmt.Sprintf(`{"name":%q,"password":%q,"device":"test"}`, name, password(name)))
	var got struct{ Token string }
	if err := json.Unmarshal([]byte(body), &got); err != nil || got.Token == "" {
		m.t.Fatalf("sign-in: %s %s", res.Status, body)
	}
	return got.Token
}
