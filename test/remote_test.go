package test

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/line"
	"cozyshelf/internal/core/verdict"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/testbuild"
)

// outside is where a test's proxies listen: addresses of this machine that nobody else has.
type outside struct {
	*mill
	ca, chain, key, both string // files
}

// issue makes an authority, and a certificate of it for names.
func (m *mill) issue(names ...string) outside {
	m.t.Helper()
	o := outside{mill: m, ca: m.path("ca.pem"), chain: m.path("chain.pem"), key: m.path("key.pem"),
		both: m.path("both.pem")}
	a := testbuild.NewAuthority(m.t, "Fernhollow Mill's own")
	leaf, key := a.Issue(time.Now().Add(-time.Hour), time.Now().AddDate(0, 2, 0), names...)
	encoded := func(c *x509.Certificate) []byte {
		return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
	}
	caText, text := encoded(a.Cert), encoded(leaf)
	b, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		m.t.Fatal(err)
	}
	keyText := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: b})
	for name, b := range map[string][]byte{o.ca: caText, o.chain: text, o.key: keyText,
		o.both: append(bytes.Clone(text), keyText...)} {
		if err := os.WriteFile(name, b, 0o600); err != nil {
			m.t.Fatal(err)
		}
	}
	return o
}

// rule gives the rule of a proxy, for a machine of which it has one address only.
func (o outside) rule(kind, address string) string {
	o.t.Helper()
	chain := o.chain
	if kind == "haproxy" {
		chain = o.both
	}
	text := o.must("remote", "proxy", kind, "--certificate", chain, "--key", o.key)
	for _, p := range []string{"80", "443"} {
		text = strings.ReplaceAll(text, "listen "+p, "listen "+address+":"+p)
		text = strings.ReplaceAll(text, "bind :"+p, "bind "+address+":"+p)
		text = strings.ReplaceAll(text, "<VirtualHost *:"+p, "<VirtualHost "+address+":"+p)
	}
	var lines []string
	for line := range strings.Lines(text) {
		if !strings.Contains(line, "listen [::]") {
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "")
}

// proxies are the programs, and what they want besides the rule.
var proxies = map[string]struct {
	program string
	wrap    func(dir, address, rule string) string
	args    func(file string) []string
}{
	"nginx": {"nginx", func(dir, _, rule string) string {
		return fmt.Sprintf("daemon off; user root; pid %s/pid; error_log %s/log; events {}\nhttp { access_log off;\n%s}\n",
			dir, dir, rule)
	}, func(file string) []string { return []string{"-c", file} }},
	"haproxy": {"haproxy", func(_, _, rule string) string { return rule },
		func(file string) []string { return []string{"-db", "-f", file} }},
	"apache": {"apache2", func(dir, address, rule string) string {
		var b strings.Builder
		for _, m := range []string{"mpm_event", "authz_core", "alias", "headers", "ssl", "http2", "proxy", "proxy_http"} {
			fmt.Fprintf(&b, "LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
		}
		return fmt.Sprintf("%sPidFile %s/pid\nErrorLog %s/log\nServerName localhost\nListen %s:80\nListen %s:443\n%s",
			b.String(), dir, dir,
			address, address, rule)
	}, func(file string) []string { return []string{"-DFOREGROUND", "-f", file} }},
	"caddy": {"caddy", func(_, address, rule string) string {
		return fmt.Sprintf("{\n\tadmin off\n\tdefault_bind %s\n}\n%s", address, rule)
	}, func(file string) []string { return []string{"run", "--adapter", "caddyfile", "--config", file} }},
}

// behind runs a proxy with a rule until the test ends, or the function that it gives is called.
func (o outside) behind(kind, address, rule string) (end func()) {
	o.t.Helper()
	p := proxies[kind]
	dir := o.t.TempDir()
	file := filepath.Join(dir, "rule.conf")
	if err := os.WriteFile(file, []byte(p.wrap(dir, address, rule)), 0o600); err != nil {
		o.t.Fatal(err)
	}
	cmd := exec.Command(p.program, p.args(file)...)
	cmd.Env = append(os.Environ(), "XDG_DATA_HOME="+dir, "XDG_CONFIG_HOME="+dir, "HOME="+dir)
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	if err := cmd.Start(); err != nil {
		o.t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }() // it is killed
	end = func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // its own group
		<-ended
	}
	o.t.Cleanup(end)
	for n := 0; ; n++ {
		c, err := net.DialTimeout("tcp", address+":443", time.Second)
		if err == nil {
			c.Close()
			return end
		}
		select {
		case <-ended:
			log, _ := os.ReadFile(filepath.Join(dir, "log"))
			o.t.Fatalf("%s ended: %s %s\n%s", kind, said.String(), log, rule)
		case <-time.After(50 * time.Millisecond):
		}
		if n > 400 {
			o.t.Fatalf("%s does not listen: %s", kind, said.String())
		}
	}
}

// looks runs remote test, and gives what it says.
func (o outside) looks(address string, more ...string) (lines map[string]verdict.Line, code int) {
	o.t.Helper()
	out, errs, code := o.run("", append([]string{"remote", "test", "--json", "--ca", o.ca, "--connect", address, "--from",
		"127.9.9.9"},
		more...)...)
	var got struct{ Lines []verdict.Line }
	if err := json.Unmarshal([]byte(out), &got); err != nil {
		o.t.Fatalf("%d %s %s", code, out, errs)
	}
	lines = map[string]verdict.Line{}
	for _, l := range got.Lines {
		lines[l.What] = l
	}
	return lines, code
}

func TestTheWayInThroughProxies(t *testing.T) {
	t.Parallel()
	for kind := range proxies {
		if _, err := exec.LookPath(proxies[kind].program); err != nil {
			testbuild.Missing(t, kind)
		}
	}
	m := newMill(t, "process")
	m.edit("\n[storage]", "\n[remote]\naddress = \"https://shelf.example.net\"\n\n[storage]")
	m.must("deploy", "--yes")
	m.add(demo.Person{Name: "wren", Role: allowance.Admin})
	o := m.issue("shelf.example.net")
	// Nobody is trusted yet: what to write is said.
	nginx := o.rule("nginx", "127.26.17.1")
	end := o.behind("nginx", "127.26.17.1", nginx)
	lines, code := o.looks("127.26.17.1")
	if l := lines["client's address"]; code != 3 || !strings.Contains(l.Do, `trusted_proxies = ["127.0.0.1"]`) {
		t.Fatalf("%d %+v", code, lines)
	}
	end()
	m.edit("address = \"https://shelf.example.net\"",
		"address = \"https://shelf.example.net\"\ntrusted_proxies = [\"127.0.0.1\"]")
	m.must("deploy", "--yes")
	well := []string{"certificate", "plain HTTP", "answer", "client's address", "HTTPS is told", "ranges", "uploads",
		"events"}
	for kind, address := range map[string]string{"nginx": "127.26.17.2", "haproxy": "127.26.17.3", "apache": "127.26.17.4",
		"caddy": "127.26.17.5"} {
		end := o.behind(kind, address, o.rule(kind, address))
		lines, code := o.looks(address)
		for _, what := range well {
			if lines[what].Status != verdict.OK {
				t.Errorf("%s: %s: %+v", kind, what, lines[what])
			}
		}
		for what, l := range lines {
			if l.Status != verdict.OK {
				t.Errorf("%s: %s: %+v", kind, what, l)
			}
		}
		if code != 0 || !strings.Contains(lines["client's address"].Says, "127.9.9.9") {
			t.Errorf("%s: code %d, %+v", kind, code, lines["client's address"])
		}
		// A member signs in through it, as from outside, and is held to that.
		if kind == "nginx" {
			o.signsInOutside(address)
		}
		end()
	}
	// What is left out of a rule, or wrong in it, is found.
	for n, one := range []struct{ what, old, new string }{
		{"uploads", "client_max_body_size 0;", ""},
		{"events", "proxy_buffering off;", "gzip on; gzip_types text/event-stream;"},
		{"HTTPS is told", "proxy_set_header X-Forwarded-Proto $scheme;", ""},
		{"answer", "proxy_set_header Host $http_host;", ""},
		{"client's address", "X-Forwarded-For $remote_addr;", "X-Forwarded-For $http_x_forwarded_for;"},
		{"ranges", "proxy_buffering off;", "proxy_buffering off; proxy_set_header Range \"\";"},
		{"headers", "proxy_buffering off;", "proxy_buffering off; add_header X-Frame-Options DENY always;"},
		{"answer", "server 127.0.0.1:" + fmt.Sprint(m.port), "server 127.0.0.1:1"},
		{"certificate", "", ""},
	} {
		address := fmt.Sprintf("127.26.18.%d", n+1)
		rule := o.rule("nginx", address)
		if one.old != "" && !strings.Contains(rule, one.old) {
			t.Fatalf("%s is not in the rule", one.old)
		}
		end := o.behind("nginx", address, strings.Replace(rule, one.old, one.new, 1))
		var more []string
		if one.what == "certificate" {
			other := (&mill{t: t, dir: t.TempDir()}).issue("other.example.net") // another authority
			more = []string{"--ca", other.ca}
		}
		if lines, code := o.looks(address, more...); lines[one.what].Status == verdict.OK || lines[one.what].What == "" ||
			code != 3 &&
				lines[one.what].Status == verdict.Blocked {
			t.Errorf("without %q, %s: code %d, %+v", one.old, one.what, code, lines)
		}
		end()
	}
	if lines, code := o.looks("127.26.19.1"); code != 3 || !strings.Contains(lines["port"].Says, "nothing listens") {
		t.Errorf("nothing there: %d %+v", code, lines)
	}
}

// signsInOutside signs in through a proxy, and looks at what the tool says of that.
func (o outside) signsInOutside(address string) {
	o.t.Helper()
	body := fmt.Sprintf(`{"name":"wren","password":%q,"device":"telephone"}`, password("wren"))
	ctx, stop := context.WithTimeout(context.Background(), 20*time.Second)
	defer stop()
	out, err := exec.CommandContext(ctx, "curl", "-s", "--cacert", o.ca, "--interface", "127.9.9.9", "--resolve",
		"shelf.example.net:443:"+address, "-d", body, "https://shelf.example.net/api/v1/sign-in").CombinedOutput()
	if err != nil || !strings.Contains(string(out), `"token"`) {
		o.t.Fatalf("signing in: %v %s", err, out)
	}
	if got := o.must("member", "devices", "wren"); !strings.Contains(got, "127.9.9.9") {
		o.t.Errorf("member devices: %s", got)
	}
	if got := o.must("remote", "status", "--ca", o.ca, "--connect", address); !strings.Contains(got, "127.0.0.1") ||
		!strings.Contains(got, "good until") {
		o.t.Errorf("remote status: %s", got)
	}
}

// TestTheNameFollowsTheLine keeps a record of a name server, while the address of the line changes.
func TestTheNameFollowsTheLine(t *testing.T) {
	m := newMill(t, "process")
	at, seer := testbuild.BIND(t, "A AAAA"), testbuild.STUN(t, "12.34.56.78")
	secret := m.path("name.key")
	if err := os.WriteFile(secret, []byte("tsig_name="+testbuild.TSIGName+"\ntsig_secret="+testbuild.TSIGSecret+"\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	m.edit("\n[storage]",
		fmt.Sprintf("\n[remote]\naddress = \"https://shelf.mill.example\"\n\n[remote.name]\nkeep = \"dns\"\n"+
			"learn = \"stun\"\nstun = [%q]\nnameserver = %q\nsecret = %q\n\n[storage]", seer.At, at, secret))
	m.must("deploy", "--yes")
	var r line.Report
	m.document(&r, "remote", "name", "--now")
	if !slices.Equal(r.Stands, []string{"12.34.56.78"}) || !slices.Equal(r.Line, r.Stands) || r.Written.IsZero() ||
		r.Problem != "" {
		t.Errorf("%+v", r)
	}
	seer.Says("12.34.56.79")
	if out := m.must("remote", "name", "--now"); !strings.Contains(out, "stands for 12.34.56.79, the line's address") {
		t.Errorf("it says %q", out)
	}
	if out, _, _ := m.run("", "remote", "status"); !strings.Contains(out,
		"stands for 12.34.56.79, the line's address") {
		t.Errorf("status says %q", out)
	}
	seer.Says("192.168.1.7")
	if out, _, code := m.run("", "remote", "name", "--now"); code != problem.ExitFound || !strings.Contains(out,
		"nobody outside reaches it") {
		t.Errorf("code %d, %q", code, out)
	}
	// The key is the administrator's: others may not read it, and it is in no settings and no log.
	if err := os.Chmod(secret, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := m.run("", "deploy", "--yes"); code == 0 || !strings.Contains(errs,
		"the secret for the name's record") {
		t.Errorf("code %d: %s", code, errs)
	}
	if out, errs, _ := m.run("", "logs"); strings.Contains(out+errs, testbuild.TSIGSecret) {
		t.Error("the log shows the key")
	}
}
