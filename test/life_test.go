package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/testbuild"
)

// health asks the published port how the server is.
func (m *mill) health() string {
	m.t.Helper()
	_, body := m.get("GET", "/healthz", "")
	var got struct{ Status string }
	if err := json.Unmarshal([]byte(body), &got); err != nil {
		m.t.Fatalf("%v: %s", err, body)
	}
	return got.Status
}

// until waits for a condition of the server.
func (m *mill) until(want string) {
	m.t.Helper()
	got := ""
	for range 150 {
		if got = m.health(); got == want {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	m.t.Fatalf("the server is %s, want %s", got, want)
}

func (m *mill) names() []string {
	m.t.Helper()
	var list []struct{ Name string }
	m.document(&list, "member", "list")
	var out []string
	for _, x := range list {
		out = append(out, x.Name)
	}
	return out
}

// deployments gives the entries of the ledger that can be undone as a deployment.
func (m *mill) deployments() []ledger.Entry {
	m.t.Helper()
	all, _, err := ledger.Read(m.path("state"))
	if err != nil {
		m.t.Fatal(err)
	}
	return slices.DeleteFunc(all, func(e ledger.Entry) bool {
		return e.Undo == nil ||
			e.Undo.Kind != ledger.Deployment
	})
}

func TestADeploymentIsUndoneAndThatToo(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		m.must("deploy", "--yes")
		m.add(demo.People[0])
		first, second := m.port, testbuild.Port(t)
		before, err := os.ReadFile(m.path("household.toml"))
		if err != nil {
			t.Fatal(err)
		}
		m.edit(fmt.Sprintf("= %d", first), fmt.Sprintf("= %d # a comment", second))
		if out := m.must("deploy", "--yes"); !strings.Contains(out, fmt.Sprintf("port %d → %d", first, second)) ||
			!strings.Contains(out, "the server was away for") {
			t.Errorf("deploy says:\n%s", out)
		}
		list := m.deployments()
		if len(list) != 1 {
			t.Fatalf("entries: %+v", list)
		}
		m.must("undo", fmt.Sprint(list[0].ID), "--yes")
		if got, _ := os.ReadFile(m.path("household.toml")); !bytes.Equal(got, before) {
			t.Errorf("the household file is not as it was:\n%s", got)
		}
		if m.health() != "ready" || !slices.Equal(m.names(), []string{"wren"}) {
			t.Error("not as before")
		}
		if out := m.must("deploy", "--yes"); !strings.Contains(out, "Nothing to do") {
			t.Errorf("there is something left to do:\n%s", out)
		}
		if _, errs, code := m.run("", "undo", fmt.Sprint(list[0].ID), "--yes"); code != 1 ||
			!strings.Contains(errs, "taken back already") {
			t.Errorf("twice: code %d, %s", code, errs)
		}
		list = m.deployments()
		m.must("undo", fmt.Sprint(list[len(list)-1].ID), "--yes")
		m.port = second
		if m.health() != "ready" {
			t.Error("undoing the undoing did not bring the change back")
		}
		// What was edited since is not lost.
		m.edit("# a comment", "# my own words")
		if _, errs, code := m.run("", "undo", fmt.Sprint(m.deployments()[2-1].ID), "--yes"); code != 1 {
			t.Errorf("an older one: code %d, %s", code, errs)
		}
		list = m.deployments()
		_, errs, code := m.run("", "undo", fmt.Sprint(list[len(list)-1].ID), "--yes")
		if got, _ := os.ReadFile(m.path("household.toml")); code != 0 ||
			!strings.Contains(errs, "was changed since and stays") || !strings.Contains(string(got), "my own words") {
			t.Errorf("code %d, %s\n%s", code, errs, got)
		}
	})
}

func TestAPinnedProgramIsDeployedByNoOther(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.edit("[storage]", "version = \"1.0.0\"\n\n[storage]")
	if _, errs, code := m.run("", "deploy", "--yes"); code != 1 ||
		!strings.Contains(errs, "another program is pinned") || !strings.Contains(errs, testbuild.Version) {
		t.Errorf("deploy: code %d, %s", code, errs)
	}
	m.must("upgrade", "--yes")
	if b, _ := os.ReadFile(m.path("household.toml")); !strings.Contains(string(b), "version = \""+testbuild.Version+
		"\"") {
		t.Errorf("the pin was not changed:\n%s", b)
	}
	if out := m.must("upgrade", "--yes"); !strings.Contains(out, "Nothing to do") {
		t.Errorf("upgrade again:\n%s", out)
	}
}

// TestTwoHouseholdsLiveSideBySide lets one come and go beside another.
func TestTwoHouseholdsLiveSideBySide(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		a, b := newMill(t, engine), newMill(t, engine)
		b.env = a.env // one machine
		a.must("deploy", "--yes")
		a.add(demo.People[0])
		before := a.onEngine()
		b.must("deploy", "--yes")
		b.add(demo.People[0], demo.People[1])
		if len(a.names()) != 1 || len(b.names()) != 2 {
			t.Errorf("members: %v and %v", a.names(), b.names())
		}
		b.must("stop")
		if a.health() != "ready" {
			t.Error("stopping one stopped the other")
		}
		b.must("start")
		b.must("retire", "--erase", "--yes")
		if a.health() != "ready" || len(a.names()) != 1 {
			t.Error("retiring one harmed the other")
		}
		if now := a.onEngine(); !slices.Equal(now, before) {
			t.Errorf("of the other there was %v, and is %v", before, now)
		}
		if out := a.must("deploy", "--yes"); !strings.Contains(out, "Nothing to do") {
			t.Errorf("the other has something to do:\n%s", out)
		}
	})
}

func TestIPv6AndWhatElseIsSet(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "[::1]:0")
	if err != nil {
		testbuild.Missing(t, "IPv6 on the loopback")
	}
	l.Close()
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		m.edit(`"localhost"`, `"::1"`)
		m.edit("[storage]", "umask = \"0007\"\nlog_format = \"json\"\nstart = \"crash\"\nprocessors = 1.5\n\n[storage]")
		if engine == "docker" {
			m.edit("[storage]", "dns = [\"192.0.2.53\"]\nhosts = { \"nas.home.arpa\" = \"192.0.2.10\" }\n\n[storage]")
		}
		m.must("deploy", "--yes")
		c, err := net.DialTimeout("tcp", fmt.Sprintf("[::1]:%d", m.port), 5*time.Second)
		if err != nil {
			t.Fatal(err)
		}
		c.Close()
		if c, err := net.DialTimeout("tcp", m.address()[len("http://"):], time.Second); err == nil {
			c.Close()
			t.Error("it listens on another address too")
		}
		var line struct{ Msg, Level string }
		if err := json.Unmarshal([]byte(strings.SplitN(m.must("logs", "--json", "--grep", "serving"), "\n", 2)[0]),
			&line); err != nil || line.Msg != "serving" || line.Level != "INFO" {
			t.Errorf("a log as JSON: %+v, %v", line, err)
		}
		if engine != "docker" {
			return
		}
		out, err := exec.Command("docker", "inspect", "-f",
			"{{.HostConfig.RestartPolicy.Name}} {{.HostConfig.Dns}} {{.HostConfig.ExtraHosts}} {{.HostConfig.NanoCpus}}",
			firstContainer(m)).Output()
		if err != nil || strings.TrimSpace(string(out)) != "on-failure [192.0.2.53] [nas.home.arpa:192.0.2.10] "+
			"1500000000" {
			t.Errorf("the engine has %s, %v", out, err)
		}
	})
}

func firstContainer(m *mill) string {
	m.t.Helper()
	out, err := exec.Command("docker", "ps", "-q", "--filter", "label=cozyshelf.household="+household(m)).Output()
	if err != nil || len(strings.Fields(string(out))) != 1 {
		m.t.Fatalf("containers: %q, %v", out, err)
	}
	return strings.TrimSpace(string(out))
}

// TestADamagedStoreIsNamedLeftAloneAndReplaced flips bytes in it, and cuts it off.
func TestADamagedStoreIsNamedLeftAloneAndReplaced(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	m.add(demo.People...)
	saved := m.path("saved.tar.zst")
	m.must("backup", "--to", saved)
	for name, spoil := range map[string]func([]byte) []byte{
		"bytes flipped": func(b []byte) []byte {
			for i := 4096; i < len(b); i += 97 {
				b[i] ^= 0xff
			}
			return b
		},
		"cut off": func(b []byte) []byte { return b[:len(b)/3] },
		"noise":   func(b []byte) []byte { return bytes.Repeat([]byte("mill "), len(b)/5) },
	} {
		t.Run(name, func(t *testing.T) {
			m := *m
			m.t = t
			m.must("stop")
			at := m.path("state/store.db")
			b, err := os.ReadFile(at)
			if err != nil {
				t.Fatal(err)
			}
			spoilt := spoil(b)
			if err := os.WriteFile(at, spoilt, 0o600); err != nil {
				t.Fatal(err)
			}
			_, errs, code := m.run("", "start")
			if code != 1 || !strings.Contains(errs, "the store is damaged") ||
				!strings.Contains(errs, "cozyshelf restore") {
				t.Errorf("start: code %d, %s", code, errs)
			}
			m.until("damaged-store")
			var st struct {
				Healthy  bool
				Why, Fix string
			}
			if m.document(&st, "status"); st.Healthy || !strings.Contains(st.Why, "damaged") ||
				!strings.Contains(st.Fix, "restore") {
				t.Errorf("status: %+v", st)
			}
			if out, _, code := m.run("", "status"); code != 3 ||
				!strings.Contains(out, "not healthy: the store is damaged") {
				t.Errorf("status:\n%s", out)
			}
			if now, _ := os.ReadFile(at); !bytes.Equal(now, spoilt) {
				t.Error("something was written to a damaged store")
			}
			if res, _ := m.get("POST", "/api/v1/sign-in", "{}"); res.StatusCode != 503 {
				t.Errorf("the page answers %s", res.Status)
			}
			if _, errs, code := m.run("", "backup", "--to", m.path("none.tar.zst")); code == 0 {
				t.Errorf("a damaged store was backed up: %s", errs)
			}
			m.must("restore", saved, "--yes")
			if m.health() != "ready" || len(m.names()) != len(demo.People) {
				t.Errorf("after restore: %s, %v", m.health(), m.names())
			}
			aside, _ := filepath.Glob(filepath.Join(boundary.Admin(m.path("state")), "backups", "damaged-*",
				"store.db"))
			if !slices.ContainsFunc(aside,
				func(p string) bool { b, _ := os.ReadFile(p); return bytes.Equal(b, spoilt) }) && name == "noise" {
				t.Errorf("the damaged store was not put aside as it was: %v", aside)
			}
			if len(aside) == 0 {
				t.Error("the damaged store was not put aside")
			}
		})
	}
	// A backup that is not whole is refused before anything is touched.
	b, err := os.ReadFile(saved)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(m.path("half.tar.zst"), b[:len(b)/2], 0o600); err != nil {
		t.Fatal(err)
	}
	before := hashes(t, filepath.Join(boundary.Admin(m.path("state")), "undo"))
	if _, errs, code := m.run("", "restore", m.path("half.tar.zst"), "--yes"); code != 1 ||
		!strings.Contains(errs, "nothing was touched") {
		t.Errorf("half a backup: code %d, %s", code, errs)
	}
	if now := hashes(t, filepath.Join(boundary.Admin(m.path("state")), "undo")); len(now) != len(before) ||
		m.health() != "ready" {
		t.Error("something was touched")
	}
}

// TestAFullDisk fills the disk that the state lies on, while somebody watches.
func TestAFullDisk(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		testbuild.Missing(t, "root, to mount a small disk")
	}
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		small := m.path("small")
		if err := os.Mkdir(small, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := syscall.Mount("tmpfs", small, "tmpfs", 0, "size=256m,mode=0755"); err != nil {
			testbuild.Missing(t, "a small tmpfs: "+err.Error())
		}
		defer func() {
			m.run("", "retire", "--erase", "--yes")
			if err := syscall.Unmount(small, 0); err != nil {
				t.Error(err)
			}
		}()
		m.edit(m.path("state"), small+"/state")
		m.must("deploy", "--yes")
		m.add(demo.People[0])
		auth := "Bearer " + m.token("wren")
		report := func(position float64) int {
			code, err := call("PUT", m.address()+"/api/v1/files/1/position", auth,
				fmt.Sprintf(`{"position":%.1f,"state":"playing"}`, position))
			if err != nil {
				t.Fatal(err)
			}
			return code
		}
		if code := report(3); code != 200 {
			t.Fatalf("a report: %d", code)
		}
		fill := filepath.Join(small, "fill")
		f, err := os.Create(fill)
		if err != nil {
			t.Fatal(err)
		}
		for {
			if _, err := f.Write(make([]byte, 1<<20)); err != nil {
				break
			}
		}
		for _, err := f.Write(make([]byte, 512)); err == nil; _, err = f.Write(make([]byte, 512)) {
		}
		f.Close()
		m.until("full-disk")
		refused := false
		for i := range 400 {
			if code := report(3 + float64(i)/100); code == 507 {
				refused = true
				break
			} else if code != 200 {
				t.Fatalf("report %d: %d", i, code)
			}
		}
		if !refused {
			t.Error("no report was refused")
		}
		if res, _ := m.get("GET", "/api/v1/files/1/content", "", "Authorization", auth); res.StatusCode != 200 {
			t.Errorf("what is there does not play: %s", res.Status)
		}
		if _, errs, code := m.run("", "backup", "--to", small); code != 1 || !strings.Contains(errs, "problem:") {
			t.Errorf("backup: code %d, %s", code, errs)
		}
		if left, _ := filepath.Glob(small + "/*zst*"); len(left) > 0 {
			t.Errorf("left of the backup: %v", left)
		}
		if out, _, code := m.run("", "shelf", "scan"); code == 0 && strings.Contains(out, "panic") {
			t.Errorf("scan: %s", out)
		}
		m.edit(fmt.Sprintf("= %d", m.port), fmt.Sprintf("= %d", testbuild.Port(t)))
		if _, errs, code := m.run("", "deploy", "--yes"); code == 0 {
			t.Errorf("a deployment on a full disk went well: %s", errs)
		}
		if m.health() != "full-disk" {
			t.Error("the server that ran does not run")
		}
		if err := os.Remove(fill); err != nil {
			t.Fatal(err)
		}
		m.until("ready")
		if code := report(9); code != 200 {
			t.Errorf("with room again: %d", code)
		}
		var plays []usage.Play
		if m.document(&plays, "usage", "now"); len(plays) != 1 || plays[0].Position != 9 {
			t.Errorf("plays: %+v", plays)
		}
		if out, errs, code := m.run("", "shelf", "scan"); code != 0 {
			t.Errorf("scan: %s%s", out, errs)
		}
		m.must("deploy", "--yes")
	})
}

// TestTheServerBacksUpByItself lets it, and restores what it made on another engine,
// into another state folder, encrypted on the way.
func TestTheServerBacksUpByItself(t *testing.T) {
	t.Parallel()
	needsDocker(t)
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	m.add(demo.People...)
	m.match("Copper Kite", "--picture", m.path("media/photos/Orchard Picnic 2019/ladder.jpg"))
	m.must("backup", "--every", "12h", "--keep", "2", "--to", m.path("backups"), "--yes")
	m.must("deploy", "--yes")
	var list []backup.Found
	for range 100 {
		if m.document(&list, "backup", "list"); len(list) > 0 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if len(list) != 1 || filepath.Dir(list[0].Path) != m.path("backups") {
		t.Fatalf("backups: %+v", list)
	}
	if st, err := os.Stat(list[0].Path); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("mode %v, %v", st.Mode(), err)
	}
	m.must("backup", "verify", list[0].Path)
	m.must("backup", "--every", "never", "--yes")

	secret := m.path("secret")
	if err := os.WriteFile(secret, []byte("an old mill by the water\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	kept := m.path("kept.tar.zst.age")
	m.must("backup", "--to", kept, "--passphrase-file", secret)
	if _, errs, code := m.run("wrong\n", "backup", "verify", kept, "--passphrase-file", "-"); code != 1 ||
		!strings.Contains(errs, "passphrase") {
		t.Errorf("a wrong passphrase: code %d, %s", code, errs)
	}
	n := newMill(t, "docker")
	n.must("deploy", "--yes")
	if err := os.Rename(n.path("household.toml"), n.path("aside.toml")); err != nil {
		t.Fatal(err)
	}
	// A machine with no household file gets the one in the backup.
	n.must("restore", kept, "--passphrase-file", secret, "--yes")
	if b, _ := os.ReadFile(n.path("household.toml")); !strings.Contains(string(b), m.path("state")) {
		t.Errorf("the household file:\n%s", b)
	}
	if err := os.Rename(n.path("aside.toml"), n.path("household.toml")); err != nil {
		t.Fatal(err)
	}
	n.must("restore", kept, "--passphrase-file", secret, "--yes")
	if !slices.Equal(n.names(), m.names()) || n.health() != "ready" {
		t.Errorf("restored: %v, want %v", n.names(), m.names())
	}
	// One where nothing was deployed yet has all of it for its account, once it is.
	fresh := newMill(t, "process")
	fresh.must("restore", kept, "--passphrase-file", secret, "--yes")
	fresh.must("deploy", "--yes")
	if !slices.Equal(fresh.names(), m.names()) {
		t.Errorf("restored before the first deployment: %v, want %v", fresh.names(), m.names())
	}
	fresh.token("wren") // passwords are good only with the key of the first machine
	if kite := fresh.match("Copper Kite"); kite.Described.Picture == "" {
		t.Errorf("its picture is not restored: %+v", kite.Described)
	}
	err := filepath.WalkDir(fresh.path("state/pictures"), func(p string, _ os.DirEntry, err error) error {
		if st, serr := os.Lstat(p); serr != nil || int(st.Sys().(*syscall.Stat_t).Uid) != fresh.uid {
			t.Errorf("%s is not the account's: %v, %v", p, st, serr)
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
}

// TestNothingAcknowledgedIsEverLost ends the server with SIGKILL 48 times,
// while four clients watch and report.
func TestNothingAcknowledgedIsEverLost(t *testing.T) {
	t.Parallel()
	m := newMill(t, "process")
	m.must("deploy", "--yes")
	people := []demo.Person{{Name: "wren", Role: allowance.Admin}, {Name: "ozan", Role: allowance.Adult},
		{Name: "linnea", Role: allowance.Child}, {Name: "bram", Role: allowance.Child}}
	m.add(people...)
	var auth []string
	for _, p := range people {
		auth = append(auth, "Bearer "+m.token(p.Name))
	}
	m.must("stop")
	settings, _ := filepath.Glob(m.path("state/settings-*.json"))
	if len(settings) != 1 {
		t.Fatal(settings)
	}
	said, err := os.Create(m.path("said.log"))
	if err != nil {
		t.Fatal(err)
	}
	defer said.Close()
	var running *exec.Cmd
	// tell gives how a call ends, what the servers said last, and what this one is
	// doing, which ends it.
	tell := func() string {
		code, err := call("PUT", m.address()+"/api/v1/files/1/position", auth[0], `{"position":1,"state":"playing"}`)
		_ = running.Process.Signal(syscall.SIGQUIT) // it may have ended by itself
		_ = running.Wait()                          // with the stacks of all it does
		b, _ := os.ReadFile(said.Name())            // said is open
		return fmt.Sprintf("a report: %d, %v\n%s", code, err, b[max(0, len(b)-64<<10):])
	}
	start := func() *exec.Cmd {
		c := m.command("serve", "--settings", settings[0])
		c.Stdout, c.Stderr = said, said
		if os.Getuid() == 0 {
			c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(m.uid),
				Gid: uint32(m.uid)}}
		}
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			_ = c.Process.Kill() // it may have ended
			_ = c.Wait()
		})
		return c
	}
	var mu sync.Mutex
	last := make([]float64, len(people))
	stop := make(chan struct{})
	var work sync.WaitGroup
	reports := 0
	for i := range people {
		work.Go(func() {
			for n := 1; ; n++ {
				select {
				case <-stop:
					return
				default:
				}
				at := float64(n) / 1000
				code, err := call("PUT", m.address()+"/api/v1/files/1/position", auth[i],
					fmt.Sprintf(`{"position":%.3f,"state":"playing"}`, at))
				if err == nil && code == 200 {
					mu.Lock()
					last[i] = at
					reports++
					mu.Unlock()
				} else {
					time.Sleep(time.Millisecond)
				}
			}
		})
	}
	count := func() int {
		mu.Lock()
		defer mu.Unlock()
		return reports
	}
	running = start()
	listens := func() {
		t.Helper()
		for began := time.Now(); ; time.Sleep(2 * time.Millisecond) {
			if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", m.port)); err == nil {
				c.Close()
				return
			}
			if time.Since(began) > time.Minute {
				t.Fatalf("the server does not come up: %s", tell())
			}
		}
	}
	const rounds = 48
	for round := range rounds {
		listens()
		had := count()
		for began := time.Now(); count() == had; time.Sleep(time.Millisecond) {
			if time.Since(began) > time.Minute {
				t.Fatalf("round %d: no report is acknowledged: %s", round, tell())
			}
		}
		time.Sleep(time.Duration(round%40) * time.Millisecond)
		if err := running.Process.Kill(); err != nil {
			t.Fatal(err)
		}
		_ = running.Wait() // it was killed
		running = start()
	}
	close(stop)
	work.Wait()
	listens()
	m.until("ready")
	if reports < 2*rounds {
		t.Errorf("only %d reports were acknowledged", reports)
	}
	t.Logf("%d reports were acknowledged between %d ends", reports, rounds)
	if err := running.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := running.Wait(); err != nil {
		t.Error(err)
	}
	if out, err := exec.Command("sqlite3", m.path("state/store.db"), "PRAGMA integrity_check").Output(); err != nil ||
		strings.TrimSpace(string(out)) != "ok" {
		t.Errorf("the store: %s, %v", out, err)
	}
	m.must("start")
	var plays []usage.Play
	m.document(&plays, "usage", "history", "--limit", "0")
	for i, p := range people {
		kept := 0.0
		for _, x := range plays {
			if x.Member == p.Name {
				kept = max(kept, x.Position)
			}
		}
		if kept < last[i]-0.0005 {
			t.Errorf("%s: %.3f was acknowledged, %.3f is kept", p.Name, last[i], kept)
		}
	}
}

// entries are all entries of the ledger.
func (m *mill) entries() []ledger.Entry {
	m.t.Helper()
	all, _, err := ledger.Read(m.path("state"))
	if err != nil {
		m.t.Fatal(err)
	}
	return all
}

// made is how the making of the server is told on this engine.
func (m *mill) made() string {
	if m.engine == "process" {
		return "prepare the server"
	}
	return "create container"
}
