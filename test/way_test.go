package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/problem"
)

// sums gives path, size, mode, owner and content of everything below a folder.
func sums(t *testing.T, dir string) string {
	t.Helper()
	cmd := exec.Command("sh", "-c", `find . -printf '%p %s %m %U %G %T@\n' | sort; find . -type f -print0 | sort -z | xargs -0 sha256sum`)
	cmd.Dir = dir
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	return string(out)
}

// TestTheWholeWay goes from a household file to a watched film and its figures,
// and back to nothing.
func TestTheWholeWay(t *testing.T) {
	t.Parallel()
	engines(t, func(t *testing.T, engine string) {
		m := newMill(t, engine)
		restore(t, m.path("media/films"))
		before := sums(t, m.path("media"))

		if out := m.must("check"); !strings.Contains(out, "5 of 6 files readable") ||
			!strings.Contains(out, "This household will work here") {
			t.Errorf("check said:\n%s", out)
		}
		var access struct {
			Identity struct{ UID int }
			Folders  []struct {
				Shelf, Inside, Need string
				Files               int
				ReadableFiles       int `json:"readable_files"`
				Problems            []struct{ Path, Cause, Detail string }
				Remedies            []struct{ Commands []string }
			}
		}
		out, _, code := m.run("", "access", "--json")
		if err := json.Unmarshal([]byte(out), &access); err != nil || code != 3 {
			t.Fatalf("access: code %d, %v\n%s", code, err, out)
		}
		if f := access.Folders[1]; access.Identity.UID != m.uid || f.Inside != "/shelves/series/1" || f.Files != 6 ||
			f.ReadableFiles != 5 ||
			len(f.Problems) != 1 || filepath.Base(f.Problems[0].Path) != filepath.Base(demo.Unreadable) ||
			len(f.Remedies) < 3 || len(access.Folders[0].Problems) != 0 {
			t.Errorf("access: got %+v", access)
		}
		if out := m.must("access", "films"); !strings.Contains(out, "6 of 6 files readable") {
			t.Errorf("access films said:\n%s", out)
		}
		if out := m.must("deploy", "--dry-run"); !strings.Contains(out, m.made()) {
			t.Errorf("dry run said:\n%s", out)
		}
		if _, err := os.Stat(m.path("state")); err == nil {
			t.Error("a dry run made the state folder")
		}
		if _, errs, code := m.run("", "deploy"); code != 4 || !strings.Contains(errs, "--yes") {
			t.Errorf("deploy without --yes: code %d, %s", code, errs)
		}
		m.must("deploy", "--yes")
		if out := m.must("deploy", "--yes"); !strings.Contains(out, "Nothing to do") {
			t.Errorf("a second deploy said:\n%s", out)
		}
		var st struct {
			Healthy, Running bool
			AsFile           bool `json:"as_file"`
			Engine           string
		}
		if m.document(&st, "status"); !st.Healthy || !st.AsFile || st.Engine != engine {
			t.Errorf("status: got %+v", st)
		}

		t.Run("nobody yet", func(t *testing.T) { nobodyYet(t, m) })
		m.add(demo.People...)
		t.Run("shelves", func(t *testing.T) { shelves(t, m) })
		t.Run("watching", func(t *testing.T) { watching(t, m) })
		t.Run("forbidden", func(t *testing.T) { forbidden(t, m) })
		t.Run("away", func(t *testing.T) { away(t, m) })

		if out := m.must("logs"); !strings.Contains(out, "signed in") || strings.Contains(out, password("wren")) {
			t.Errorf("logs: the sign-in is missing, or the password is there:\n%s", out)
		}
		if out := m.must("logs", "--since", "2099-01-01"); out != "" {
			t.Errorf("logs since 2099: %q", out)
		}
		m.must("stop")
		if m.document(&st, "status"); st.Running || st.Healthy {
			t.Errorf("status after stop: got %+v", st)
		}
		if _, errs, code := m.run("", "member", "list"); code != 1 || !strings.Contains(errs, "not running") {
			t.Errorf("member list while stopped: code %d, %s", code, errs)
		}
		m.must("start")
		m.must("restart")
		if m.document(&st, "status"); !st.Healthy {
			t.Errorf("status after restart: got %+v", st)
		}
		var plays []usage.Play
		if m.document(&plays, "usage", "history"); len(plays) < 2 {
			t.Errorf("plays after a restart: got %+v", plays)
		}
		m.must("retire", "--yes")
		if _, err := os.Stat(m.path("state/store.db")); err != nil {
			t.Errorf("retire without --erase took the store: %v", err)
		}
		var entries []struct {
			Command string
			Steps   []struct{ What, Outcome string }
		}
		m.document(&entries, "ledger", "--steps")
		with := 0
		for _, e := range entries {
			if e.Command == "deploy" && len(e.Steps) > 2 && e.Steps[0].Outcome == "done" {
				with++
			}
		}
		if with == 0 {
			t.Errorf("no deployment has its steps: %+v", entries)
		}
		if out := m.must("ledger", "--steps"); !strings.Contains(out, m.made()) || !strings.Contains(out, "retire") {
			t.Errorf("the ledger says:\n%s", out)
		}
		m.must("retire", "--erase", "--yes")
		if _, err := os.Stat(m.path("state")); !os.IsNotExist(err) {
			t.Errorf("the state folder is still there: %v", err)
		}
		if _, err := os.Stat(m.path("process")); !os.IsNotExist(err) {
			t.Errorf("the process engine left its folder: %v", err)
		}
		if after := sums(t, m.path("media")); after != before {
			t.Error("the media were touched")
		}
		if engine == "docker" {
			for _, what := range [][]string{{"ps", "-aq"}, {"network", "ls", "-q"}} {
				out, err := exec.Command("docker",
					append(what, "--filter", "label=cozyshelf.household="+household(m))...).Output()
				if err != nil || strings.TrimSpace(string(out)) != "" {
					t.Errorf("docker %s: left over %q, %v", what[0], out, err)
				}
			}
		}
	})
}

// household gives the id of a household.
func household(m *mill) string {
	var st struct{ ID string }
	m.document(&st, "status")
	return st.ID
}

func nobodyYet(t *testing.T, m *mill) {
	for _, path := range []string{"/", "/api/v1/me", "/api/v1/openapi.json", "/assets/style.css", "/sign-in",
		"/shelf/films"} {
		res, body := m.get("GET", path, "")
		if res.StatusCode != 503 || !strings.Contains(body, "member add") || strings.Contains(body, "<form") ||
			strings.Contains(body, "<script") {
			t.Errorf("%s: %s\n%s", path, res.Status, body)
		}
	}
	if res, body := m.get("GET", "/healthz", ""); res.StatusCode != 200 || !strings.Contains(body, "ready") {
		t.Errorf("healthz: %s %s", res.Status, body)
	}
	if _, errs, code := m.run("a long password\n", "member", "add", "bram", "--role", "child"); code != 2 ||
		!strings.Contains(errs, "administrator") {
		t.Errorf("a child first: code %d, %s", code, errs)
	}
}

func shelves(t *testing.T, m *mill) {
	var list []struct {
		Name     string
		Titles   int
		Files    int
		Problems int
	}
	for range 100 { // the first scan may still go on
		if m.document(&list, "shelf", "list"); len(list) == 2 && list[1].Files == 6 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if list[0].Titles != 6 || list[1].Titles != 2 || list[1].Problems != 2 {
		t.Errorf("got %+v", list)
	}
	out := m.must("shelf", "show", "series")
	for _, want := range []string{"S01E02 Rye", "✗", "ends inside its index", "may not read it", "0:13", "640×360",
		"h264, aac"} {
		if !strings.Contains(out, want) {
			t.Errorf("shelf show has no %q:\n%s", want, out)
		}
	}
	var reports []struct{ Folders, New, Changed, Gone, Unreadable int }
	if m.document(&reports, "shelf", "scan", "films"); len(reports) != 1 ||
		reports[0].New+reports[0].Changed+reports[0].Gone != 0 {
		t.Errorf("rescan: got %+v", reports)
	}
	if err := os.WriteFile(m.path("media/films/Salt and Semaphore (2018).mp4"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	if m.document(&reports, "shelf", "scan", m.path("media/series/Tiny Harbour (2016)")); len(reports) != 1 ||
		reports[0].Folders != 2 || reports[0].New != 0 || reports[0].Gone != 0 {
		t.Errorf("one folder: %+v", reports)
	}
	if _, errs, code := m.run("", "shelf", "scan", m.dir); code != 2 || !strings.Contains(errs, "on no shelf") {
		t.Errorf("a folder on no shelf: code %d, %s", code, errs)
	}
	if _, _, code := m.run("", "shelf", "scan", m.path("household.toml")); code != problem.ExitUsage {
		t.Errorf("a file: code %d", code)
	}
	// The server may have noticed by itself before it was asked.
	m.document(&reports, "shelf", "scan")
	if m.document(&list, "shelf", "list"); reports[0].New > 1 || reports[0].Unreadable != 1 || list[0].Files != 7 ||
		list[0].Problems != 1 {
		t.Errorf("with one more: got %+v, %+v", reports, list)
	}
	if err := os.Remove(m.path("media/films/Salt and Semaphore (2018).mp4")); err != nil {
		t.Fatal(err)
	}
	m.document(&reports, "shelf", "scan")
	if m.document(&list, "shelf", "list"); reports[0].Gone > 1 || reports[0].Unreadable != 0 || list[0].Files != 6 ||
		list[0].Problems != 0 {
		t.Errorf("with one less: got %+v, %+v", reports, list)
	}
	if _, errs, code := m.run("", "shelf", "show", "books"); code != 2 || !strings.Contains(errs, "films, series") {
		t.Errorf("an unknown shelf: code %d, %s", code, errs)
	}
	// Adding and removing a file changed the folder's time; put it back for
	// the comparison in the end.
	restore(t, m.path("media/films"))
}

var folderTime = time.Unix(1700000000, 0)

func restore(t *testing.T, dir string) {
	t.Helper()
	if err := os.Chtimes(dir, folderTime, folderTime); err != nil {
		t.Fatal(err)
	}
}

func watching(t *testing.T, m *mill) {
	ctx := context.Background()
	v := m.viewer("wren")
	f, err := v.Find(ctx, "films", "The Understudy Moon", "")
	if err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- v.Watch(ctx, f, 6) }()
	var now []usage.Play
	for range 100 {
		if m.document(&now, "usage", "now"); len(now) == 1 && now[0].Position >= 1 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if len(now) != 1 || now[0].Member != "wren" || now[0].Title != "The Understudy Moon" || now[0].Away ||
		now[0].Device != "wren's tablet" {
		t.Errorf("now: got %+v", now)
	}
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if f, err = v.Find(ctx, "films", "The Understudy Moon", ""); err != nil || f.ResumeAt != 6 {
		t.Errorf("resume: got %+v, %v, want 6", f, err)
	}
	if err := v.Watch(ctx, f, 0); err != nil {
		t.Fatal(err)
	}
	var plays []usage.Play
	m.document(&plays, "usage", "history", "--member", "WREN")
	if len(plays) != 1 {
		t.Fatalf("watching on soon after is one play: got %+v", plays)
	}
	p := plays[0]
	if !p.Done || p.Watched < 11 || p.Watched > 13 || p.Bytes < f.Size || p.Ended.IsZero() {
		t.Errorf("got %+v, want about 12 s watched, at least %d bytes, to the end", p, f.Size)
	}
	var top struct{ Titles, Members []usage.Rank }
	if m.document(&top, "usage", "top"); len(top.Members) != 1 || top.Members[0].Name != "wren" ||
		top.Titles[0].Plays != 1 {
		t.Errorf("top: got %+v", top)
	}
	if err := m.viewer("ozan").Watch(ctx, f, 1); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := m.run("", "usage", "history", "--member", "nobody"); code != 2 ||
		!strings.Contains(errs, "no member") {
		t.Errorf("history of nobody: code %d, %s", code, errs)
	}
}

func forbidden(t *testing.T, m *mill) {
	token := m.token("linnea")
	auth := []string{"Authorization", "Bearer " + token}
	other := "A" // one letter of the token, changed
	if token[20] == 'A' {
		other = "B"
	}
	for _, c := range []struct {
		method, path, body string
		headers            []string
		want               int
	}{
		{"GET", "/api/v1/me", "", nil, 401},
		{"GET", "/api/v1/me", "", []string{"Authorization", "Bearer forged"}, 401},
		{"GET", "/api/v1/me", "", []string{"Authorization", "Bearer " + token[:20] + other + token[21:]}, 401},
		{"GET", "/api/v1/me", "", auth, 200},
		{"GET", "/api/v1/files/1/content", "", nil, 401},
		{"GET", "/api/v1/files/99999/content", "", auth, 404},
		{"GET", "/api/v1/files/x/content", "", auth, 404},
		{"GET", "/api/v1/files/..%2f..%2fetc%2fpasswd/content", "", auth, 404},
		{"GET", "/api/v1/files/../../../etc/passwd", "", auth, 301},
		{"GET", "/assets/../../state/store.db", "", auth, 301},
		{"GET", "/assets/%2e%2e/%2e%2e/state/store.db", "", auth, 404},
		{"GET", "/assets/..%2f..%2fstate%2fstore.db", "", auth, 404},
		{"GET", "/assets/style.css%00.txt", "", auth, 404},
		{"GET", "/control/v1/members", "", auth, 404},
		{"PUT", "/api/v1/files/1/position", `{"position":-1,"state":"playing"}`, auth, 400},
		{"PUT", "/api/v1/files/1/position", `{"position":1e300,"state":"playing"}`, auth, 400},
		{"PUT", "/api/v1/files/1/position", `{"position":1,"state":"dancing"}`, auth, 400},
		{"PUT", "/api/v1/files/1/position", `{"position":1,"extra":2}`, auth, 400},
		{"PUT", "/api/v1/files/1/position", strings.Repeat("x", 100000), auth, 400},
		{"POST", "/api/v1/sign-out", "", append([]string{"Sec-Fetch-Site", "cross-site"}, auth...), 403},
		{"POST", "/api/v1/sign-in", `{"name":"wren","password":"guessed wrong"}`, nil, 401},
		{"POST", "/api/v1/sign-in", `{"name":"nobody","password":"guessed wrong"}`, nil, 401},
		{"DELETE", "/api/v1/me", "", auth, 405},
	} {
		res, body := m.get(c.method, c.path, c.body, c.headers...)
		got := res.StatusCode
		if got == 307 || got == 308 {
			got = 301 // any redirect to the clean path will do
		}
		if c.want == 405 && got == 404 {
			got = 405 // under /api/ all that is not there is told alike
		}
		if got != c.want || strings.Contains(body, "root:") {
			t.Errorf("%s %s: %s, want %d\n%s", c.method, c.path, res.Status, c.want, body)
		}
		if loc := res.Header.Get("Location"); strings.Contains(loc, "//") {
			t.Errorf("%s: sent to %s", c.path, loc)
		}
		for _, h := range []string{"Content-Security-Policy", "X-Content-Type-Options", "Referrer-Policy"} {
			if res.Header.Get(h) == "" && got != 301 {
				t.Errorf("%s %s: no %s", c.method, c.path, h)
			}
		}
	}
	// The two refusals must not tell whether the name is known.
	_, a := m.get("POST", "/api/v1/sign-in", `{"name":"wren","password":"guessed wrong"}`)
	_, b := m.get("POST", "/api/v1/sign-in", `{"name":"nobody","password":"guessed wrong"}`)
	if a != b {
		t.Errorf("a known and an unknown name are told apart:\n%s\n%s", a, b)
	}
	for i := range 12 {
		res, _ := m.get("POST", "/api/v1/sign-in", `{"name":"piet","password":"guessed wrong"}`)
		if i == 11 && (res.StatusCode != 429 || res.Header.Get("Retry-After") == "") {
			t.Errorf("after 11 failures: %s", res.Status)
		}
	}
	res, _ := m.get("POST", "/sign-in", "name=linnea&password="+strings.ReplaceAll(password("linnea"), " ", "+")+
		"&next=//evil.example.net", "Content-Type", "application/x-www-form-urlencoded")
	cookie := res.Header.Get("Set-Cookie")
	if res.StatusCode != 303 || res.Header.Get("Location") != "/" || !strings.Contains(cookie, "HttpOnly") ||
		!strings.Contains(cookie, "SameSite=Lax") {
		t.Errorf("page sign-in: %s to %q, %q", res.Status, res.Header.Get("Location"), cookie)
	}
	// A new password ends every session.
	if _, errs, code := m.run("another fine password\n", "member", "password", "linnea"); code != 0 {
		t.Fatalf("member password: %s", errs)
	}
	if res, _ := m.get("GET", "/api/v1/me", "", auth...); res.StatusCode != 401 {
		t.Errorf("the old token after a new password: %s", res.Status)
	}
	out := m.must("member", "add", "guest-room", "--role", "guest", "--generate")
	_, phrase, ok := strings.Cut(out, "shown only now: ")
	if phrase, _, _ = strings.Cut(phrase, "\n"); !ok || len(phrase) != 27 || !strings.Contains(out, "good for a week") {
		t.Errorf("a made passphrase: %q", out)
	}
	m.must("member", "remove", "guest-room", "--yes")
	if _, errs, code := m.run("", "member", "remove", "wren", "--yes"); code != 1 ||
		!strings.Contains(errs, "without an administrator") {
		t.Errorf("removing the last administrator: code %d, %s", code, errs)
	}
}

func away(t *testing.T, m *mill) {
	// Nobody is trusted yet: what a client says of itself is not believed.
	bram := fmt.Sprintf(`{"name":"bram","password":%q}`, password("bram"))
	if res, body := m.get("POST", "/api/v1/sign-in", bram, "X-Forwarded-For", "203.0.113.7"); res.StatusCode != 200 {
		t.Errorf("an untrusted header was believed: %s %s", res.Status, body)
	}
	m.edit("# [remote]\n", "[remote]\ntrusted_proxies = [\"127.0.0.1\", \"172.16.0.0/12\", \"192.168.0.0/16\"]\n")
	if out := m.must("deploy", "--yes"); !strings.Contains(out, "settings of the server changed") {
		t.Errorf("deploy said:\n%s", out)
	}
	if res, body := m.get("POST", "/api/v1/sign-in", bram, "X-Forwarded-For", "203.0.113.7"); res.StatusCode != 403 ||
		!strings.Contains(body, "over HTTPS only") {
		t.Errorf("from away over plain HTTP: %s %s", res.Status, body)
	}
	if res, body := m.get("POST", "/api/v1/sign-in", bram, "X-Forwarded-For", "203.0.113.7", "X-Forwarded-Proto",
		"https"); res.StatusCode != 403 || !strings.Contains(body, "outside the home") {
		t.Errorf("a child from away: %s %s", res.Status, body)
	}
	token := m.token("bram")
	if res, _ := m.get("GET", "/api/v1/shelves", "", "Authorization", "Bearer "+token, "X-Forwarded-For",
		"203.0.113.7", "X-Forwarded-Proto", "https"); res.StatusCode != 403 {
		t.Errorf("a child's token from away: %s", res.Status)
	}
	v := &demo.Viewer{Address: m.address(), From: "203.0.113.7"}
	if err := v.SignIn(context.Background(), "ilse", password("ilse"), "phone"); err != nil {
		t.Fatal(err)
	}
	f, err := v.Find(context.Background(), "films", "Nine Kinds of Rain", "")
	if err == nil {
		err = v.Watch(context.Background(), f, 1)
	}
	if err != nil {
		t.Fatal(err)
	}
	var plays []usage.Play
	if m.document(&plays, "usage", "history", "--limit", "1"); len(plays) != 1 || !plays[0].Away ||
		plays[0].Address != "203.0.113.7" {
		t.Errorf("got %+v", plays)
	}
}

// TestTheDemoGoesThrough runs the demo on each engine and looks that nothing is
// left over.
func TestTheDemoGoesThrough(t *testing.T) {
	t.Parallel()
	var one sync.Mutex // both would take the first port that is free
	engines(t, func(t *testing.T, engine string) {
		one.Lock()
		defer one.Unlock()
		m := &mill{t: t, dir: t.TempDir()}
		root := filepath.Join(t.TempDir(), "process")
		m.env = append(os.Environ(), "COZYSHELF_PROCESS_ROOT="+root)
		if err := os.Chmod(filepath.Dir(filepath.Dir(root)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(filepath.Dir(root), 0o755); err != nil {
			t.Fatal(err)
		}
		out, errs, code := m.run("", "demo", "--engine", engine)
		if code != 0 {
			t.Fatalf("code %d\n%s%s", code, out, errs)
		}
		for _, want := range []string{"will work here", "Nothing to do", "Added wren (admin", "may not read it",
			"The Paper Lighthouse", "to the end", "left at 0:03", "away", "403", "Retired", "Removed /"} {
			if !strings.Contains(out, want) {
				t.Errorf("the demo does not say %q:\n%s", want, out)
			}
		}
		if _, err := os.Stat(root); !os.IsNotExist(err) {
			t.Errorf("the process engine left its folder: %v", err)
		}
		_, dir, _ := strings.Cut(out, "Removed /")
		if _, err := os.Stat("/" + strings.TrimSpace(dir)); !os.IsNotExist(err) {
			t.Errorf("the demo's folder is still there: %v", err)
		}
	})
}
