package testbuild

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
)

// The key by which the name servers of tests take updates.
const (
	TSIGName   = "mill"
	TSIGSecret = "bWlsbHBvbmQgbWlsbHBvbmQgbWlsbHBvbmQgbWlsbHA="
)

// zone is that of name servers of tests: every name in it that has nothing of its own is this machine's.
const zone = "$TTL 5\n@ SOA ns wren 1 60 60 600 5\n@ NS ns\nns A 127.0.0.1\n* A 127.0.0.1\n"

// BIND starts a name server with the zone mill.example, which takes updates of some types that are signed. It gives
// its address.
func BIND(t testing.TB, types string) string {
	t.Helper()
	return nameServer(t, "named", []string{"-g", "-c", "named.conf"}, "named.conf",
		func(dir string, port int) string {
			return fmt.Sprintf(`options { directory %q; listen-on port %d { 127.0.0.1; }; listen-on-v6 { none; };
				pid-file "named.pid"; session-keyfile none; recursion no; dnssec-validation no; notify no; };
				controls { };
				key %q { algorithm hmac-sha256; secret %q; };
				zone "mill.example" { type primary; file "zone"; update-policy { grant %s zonesub %s; }; };
				`, dir, port, TSIGName, TSIGSecret, TSIGName, types)
		})
}

// Knot starts another name server with that zone.
func Knot(t testing.TB) string {
	t.Helper()
	return nameServer(t, "knotd", []string{"-c", "knot.conf"}, "knot.conf", func(dir string, port int) string {
		return fmt.Sprintf(`server:
  rundir: %[1]q
  listen: 127.0.0.1@%[2]d
database:
  storage: %[1]q
key:
  - id: %[3]s
    algorithm: hmac-sha256
    secret: %[4]s
acl:
  - id: updates
    key: %[3]s
    action: update
zone:
  - domain: mill.example
    storage: %[1]q
    file: zone
    acl: updates
`, dir, port, TSIGName, TSIGSecret)
	})
}

func nameServer(t testing.TB, program string, args []string, conf string,
	text func(dir string, port int) string) string {
	t.Helper()
	path, err := exec.LookPath(program)
	if err != nil {
		Missing(t, program)
	}
	dir, port := Folder(t), Port(t)
	for name, text := range map[string]string{conf: text(dir, port), "zone": zone} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	var said strings.Builder
	cmd := exec.Command(path, args...)
	cmd.Dir, cmd.Stderr, cmd.Stdout = dir, &said, &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill() // it may have ended
		_ = cmd.Wait()
	})
	at := fmt.Sprintf("127.0.0.1:%d", port)
	m := new(dns.Msg)
	m.SetQuestion("shelf.mill.example.", dns.TypeA)
	for range 200 {
		if r, err := dns.Exchange(m, at); err == nil && len(r.Answer) == 1 {
			return at
		}
		time.Sleep(50 * time.Millisecond)
	}
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	t.Fatalf("no name server: %s", said.String())
	return ""
}
