package test

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/core/layout"
	"cozyshelf/internal/demo"
	"cozyshelf/internal/deploy"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/testbuild"
)

// model is what a household is expected to be.
type model struct {
	port    int
	file    string // the household file
	version string // that runs
	members []string
	plays   int
	at      float64           // where wren is in the film
	media   map[string]string // by path below the folder of media: mode, owner and content
}

func (h model) clone() model {
	h.members, h.media = slices.Clone(h.members), maps.Clone(h.media)
	return h
}

// torture is a household whose commands are killed at random.
type torture struct {
	*mill
	*rand.Rand
	programs       map[string]string // by version
	old            model             // before the last upgrade
	saved          []savedStore      // backups that were made
	took           map[string]time.Duration
	want           model // what it is to be now
	killed, rounds int
	said           bytes.Buffer // what the commands of this round said
}

// savedStore is a backup, with what is in it.
type savedStore struct {
	file  string
	store model
}

// deed is one command that is to be killed.
type deed struct {
	args []string
	// program, unless empty, is the version of the program that runs it.
	program string
	// edit changes the household file before it.
	edit func()
	// done changes the model as the command does.
	done func()
	// undone changes it further where taking it back leaves something else than there was.
	undone func()
	// already are words by which the command says that there was nothing left to do.
	already string
	// finish, unless nil, is what makes it so where the command alone does not.
	finish []string
	// after puts back by hand what the test made.
	after func()
}

// TestKilledAtAnyMoment kills commands at random times and within steps, has them finished
// or taken back, and looks whether everything is as it should be then. COZYSHELF_TORTURE is
// how many rounds each engine has; COZYSHELF_TORTURE_SEED repeats one.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	all, mills := 0, 1
	if s := os.Getenv("COZYSHELF_TORTURE"); s != "" {
		n, err := strconv.Atoi(s)
		if err != nil {
			t.Fatal(err)
		}
		all, mills = n, 4
	}
	engines(t, func(t *testing.T, engine string) {
		rounds := (all + mills - 1) / mills
		if all == 0 {
			rounds = map[string]int{"process": 4, "docker": 2}[engine]
		}
		for i := range mills {
			t.Run(fmt.Sprint(i+1), func(t *testing.T) {
				t.Parallel()
				seed := rand.Uint64()
				if s := os.Getenv("COZYSHELF_TORTURE_SEED"); s != "" {
					n, err := strconv.ParseUint(s, 10, 64)
					if err != nil {
						t.Fatal(err)
					}
					seed = n + uint64(i)
				}
				t.Logf("seed %d", seed)
				tortured(t, engine, seed).run(rounds)
			})
		}
	})
}

func tortured(t *testing.T, engine string, seed uint64) *torture {
	m := newMill(t, engine)
	m.env = append(m.env, "COZYSHELF_UNITS="+m.path("units"))
	x := &torture{mill: m, Rand: rand.New(rand.NewPCG(seed, 0)), took: map[string]time.Duration{},
		programs: map[string]string{
			"1.0.0": testbuild.Variant{Version: "1.0.0", Tags: "crashpoint"}.Program(t),
			"2.0.0": testbuild.Variant{Version: "2.0.0", Tags: "crashpoint", Newer: true}.Program(t),
		}}
	if err := os.Mkdir(m.path("units"), 0o755); err != nil {
		t.Fatal(err)
	}
	x.want.version = "1.0.0"
	m.program = x.programs[x.want.version]
	m.edit("[server]\n", "[server]\nlog_level = \"info\"\n")
	m.must("deploy", "--yes")
	m.must("tidy", "films", "--yes")
	m.add(demo.People[0])
	x.want.members = []string{demo.People[0].Name}
	within(t, 30*time.Second, "the first scan", func() bool { return m.titles("films") == 6 })
	x.want.port, x.want.file, x.want.media = m.port, x.householdFile(), relative(t, m.path("media"))
	return x
}

func (x *torture) householdFile() string {
	x.t.Helper()
	b, err := os.ReadFile(x.path("household.toml"))
	if err != nil {
		x.t.Fatal(err)
	}
	return string(b)
}

func (x *torture) run(rounds int) {
	t := x.t
	began := time.Now()
	defer func() {
		if t.Failed() {
			st, errs, _ := x.mill.run("", "status")
			t.Logf("round %d; what the commands said last:\n%s\nstatus now:\n%s%s", x.rounds, &x.said, st, errs)
		}
	}()
	for x.rounds = 1; x.rounds <= rounds && !t.Failed(); x.rounds++ {
		x.watch()
		d := x.pick()
		x.said.Reset()
		x.round(d)
		if d.after != nil {
			d.after()
		}
		x.want.media = relative(t, x.path("media"))
	}
	t.Logf("%d rounds, %d commands killed, %s", x.rounds-1, x.killed, time.Since(began).Round(time.Second))
	x.program = x.programs["2.0.0"] // which removes what both made
}

// watch has wren go on with the film, and now and then lets somebody in.
func (x *torture) watch() {
	x.t.Helper()
	if n := len(x.want.members); n < len(demo.People) && x.IntN(4) == 0 {
		x.add(demo.People[n])
		x.want.members = append(x.want.members, demo.People[n].Name)
	}
	token := x.token(x.want.members[0])
	file := x.fileOf(x.t, token, "Understudy")
	x.want.at = float64(1 + x.IntN(5))
	for _, state := range []string{"playing", "stopped"} {
		at := fmt.Sprintf("/api/v1/files/%d/position", file)
		report := fmt.Sprintf(`{"position":%g,"state":%q}`, x.want.at, state)
		res, text := x.get("PUT", at, report, "Authorization", "Bearer "+token, "Content-Type", "application/json")
		if res.StatusCode != 200 {
			x.t.Fatalf("round %d: a report: %s %s", x.rounds, res.Status, text)
		}
	}
	x.want.plays = x.history()
}

func (x *torture) history() int {
	x.t.Helper()
	var list []struct{ ID int64 }
	x.document(&list, "usage", "history")
	return len(list)
}

// pick chooses what is done in a round.
func (x *torture) pick() deed {
	settings := func(old, new string, done func()) deed {
		return deed{args: []string{"deploy", "--yes"}, edit: func() { x.edit(old, new) }, done: func() { done() }}
	}
	either := func(a, b string) deed {
		if strings.Contains(x.want.file, b) {
			a, b = b, a
		}
		return settings(a, b, func() {})
	}
	restored := func(s savedStore) func() {
		return func() {
			x.want.members, x.want.plays, x.want.at = slices.Clone(s.store.members), s.store.plays, s.store.at
		}
	}
	all := []func() deed{
		func() deed {
			port := testbuild.Port(x.t)
			return settings(fmt.Sprintf("= %d", x.want.port), fmt.Sprintf("= %d", port), func() { x.want.port = port })
		},
		func() deed { return either(`"256 MiB"`, `"288 MiB"`) },
		func() deed { return either(`log_level = "info"`, `log_level = "debug"`) },
		func() deed {
			if strings.Contains(x.want.file, `"music"`) {
				return deed{args: []string{"shelf", "remove", "music", "--yes"}, already: "there is no shelf",
					finish: []string{"deploy", "--yes"}}
			}
			return deed{args: []string{"shelf", "add", "music", "--kind", "music", "--folder", x.path("media/music"),
				"--yes"},
				already: "already", finish: []string{"deploy", "--yes"}}
		},
		x.upOrDown, x.upOrDown, x.upOrDown,
		func() deed {
			s := savedStore{x.path(fmt.Sprintf("saved-%d.tar.zst", x.rounds)), x.want.clone()}
			return deed{args: []string{"backup", "--to", s.file}, already: "there is a file already",
				done: func() { x.saved = append(x.saved, s) }}
		},
		func() deed {
			if len(x.saved) == 0 {
				return deed{args: []string{"restart"}}
			}
			s := x.saved[x.IntN(len(x.saved))]
			if s.store.version > x.want.version {
				return deed{args: []string{"restart"}}
			}
			return deed{args: []string{"restore", s.file, "--yes"}, done: restored(s)}
		},
		x.mended, x.tidied, x.broughtIn,
		func() deed {
			if x.want.version != "1.0.0" { // whose program would be gone, so that there would be no way back
				return deed{args: []string{"restart"}}
			}
			return deed{args: []string{"retire", "--yes"}, finish: []string{"deploy", "--yes"}}
		},
		func() deed { return deed{args: []string{"stop"}, finish: []string{"start"}} },
	}
	return all[x.IntN(len(all))]()
}

// upOrDown goes to the other program.
func (x *torture) upOrDown() deed {
	if x.want.version == "1.0.0" {
		return deed{args: []string{"upgrade", "--yes"}, program: "2.0.0",
			done: func() { x.old, x.want.version = x.want.clone(), "2.0.0" }}
	}
	d := deed{args: []string{"rollback", "--yes"}, program: "2.0.0", already: "no upgrade to go back from",
		done: func() {
			x.want.members, x.want.plays, x.want.at = slices.Clone(x.old.members), x.old.plays, x.old.at
			x.want.version = "1.0.0"
		}}
	if x.want.file != x.old.file { // it was changed since, and stays as it is
		d.finish = []string{"deploy", "--yes"}
	}
	return d
}

func (x *torture) mended() deed {
	films := x.path("media/films")
	list, err := filepath.Glob(films + "/*")
	if err != nil {
		x.t.Fatal(err)
	}
	good := maps.Clone(x.want.media)
	for _, p := range append(list[:3], films) {
		if err := os.Chmod(p, 0o700); err != nil {
			x.t.Fatal(err)
		}
	}
	x.want.media = relative(x.t, x.path("media"))
	return deed{args: []string{"access", "films", "--mend", "--yes"}, already: "needs mending",
		done: func() { x.want.media = nil }, after: func() {
			for p, was := range good {
				at := filepath.Join(x.path("media"), p)
				_ = exec.Command("setfacl", "-b", at).Run() // without it the mode is all there is
				mode, err := os.Lstat(at)
				if err == nil && !strings.HasPrefix(was, mode.Mode().String()) {
					err = os.Chmod(at, map[bool]os.FileMode{true: 0o755, false: 0o644}[mode.IsDir()])
				}
				if err != nil {
					x.t.Error(err)
				}
			}
		}}
}

func (x *torture) tidied() deed {
	right, wrong := x.path("media/films/Copper Kite (2003).mkv"), x.path("media/films/Copper_Kite_(2003).mkv")
	good := maps.Clone(x.want.media)
	if err := os.Rename(right, wrong); err != nil {
		x.t.Fatal(err)
	}
	x.want.media = relative(x.t, x.path("media"))
	return deed{args: []string{"tidy", "films", "--yes"}, done: func() { x.want.media = good }, after: func() {
		if _, err := os.Stat(wrong); err == nil {
			if err := os.Rename(wrong, right); err != nil {
				x.t.Error(err)
			}
		}
	}}
}

func (x *torture) broughtIn() deed {
	disk := x.path("disk")
	if err := os.MkdirAll(disk, 0o755); err != nil {
		x.t.Fatal(err)
	}
	name := "rain over the mill (2001).avi"
	content := noise(1<<10 + x.IntN(16<<20))
	if err := os.WriteFile(filepath.Join(disk, name), content, 0o644); err != nil {
		x.t.Fatal(err)
	}
	args, already := []string{"intake", "copy", disk, "--onto", "films", "--yes"}, ""
	if x.IntN(2) == 0 {
		args = append(args, "--move")
		already = "no such file" // killed after it had moved all, with the folder
	}
	on := filepath.Join(x.path("media/films"), name)
	return deed{args: args, already: already, done: func() {
		b, err := os.ReadFile(on)
		if err != nil || !bytes.Equal(b, content) {
			x.t.Errorf("round %d: what was brought in: %d bytes, %v", x.rounds, len(b), err)
		}
		x.want.media = nil
	}, undone: func() {
		held, _ := filepath.Glob(x.path("media/films/.cozyshelf-intake/*/1.avi"))
		_, err := os.Stat(filepath.Join(disk, name))
		if len(held) != 1 && err != nil {
			x.t.Errorf("round %d: what was brought in and taken back is neither held nor where it was: %v", x.rounds,
				err)
		}
		x.want.media = nil
	}, after: func() {
		var list []struct{ ID string }
		x.document(&list, "intake", "list")
		for _, j := range list {
			x.must("intake", "clear", j.ID, "--yes")
		}
		for _, p := range []string{on, disk} {
			if err := os.RemoveAll(p); err != nil {
				x.t.Error(err)
			}
		}
		if held, _ := os.ReadDir(x.path("media/films/.cozyshelf-intake")); len(held) > 0 {
			x.t.Errorf("round %d: held: %v", x.rounds, held)
		}
	}}
}

// round carries one deed out, killed once or twice, then finished, or taken back.
func (x *torture) round(d deed) {
	t := x.t
	was, last := x.want.clone(), x.lastEntry()
	if d.program != "" {
		x.program = x.programs[d.program]
	} else {
		x.program = x.programs[x.want.version]
	}
	if d.edit != nil {
		d.edit()
	}
	where := fmt.Sprintf("round %d, %s", x.rounds, strings.Join(d.args, " "))
	ended := false
	for range 1 + x.IntN(2) {
		if ended = x.kill(&where, d.already, d.args...); ended {
			break
		}
	}
	way := "finished"
	if id := x.begun(last); id > 0 && x.IntN(3) == 0 {
		way = "taken back"
		args := []string{"undo", fmt.Sprint(id), "--yes"}
		if x.IntN(2) == 0 {
			ended = x.kill(&where, "taken back already", args...)
		} else {
			ended = false
		}
		if !ended {
			x.again(where, "taken back already", args...)
		}
		x.program = x.programs[was.version]
		if d.edit == nil && d.finish != nil {
			x.again(where, "", d.finish...)
		}
		x.want = was
		if d.undone != nil {
			d.undone()
		}
	} else {
		if !ended {
			x.again(where, d.already, d.args...)
		}
		x.want.file = x.householdFile()
		if d.done != nil {
			d.done()
		}
		x.program = x.programs[x.want.version]
		if d.finish != nil {
			x.again(where, "", d.finish...)
		}
	}
	x.port = x.want.port
	x.program = x.programs[x.want.version]
	t.Logf("%s: %s", where, way)
	x.check(where + ", " + way)
}

// lastEntry is the number of the ledger's last entry.
func (x *torture) lastEntry() int {
	x.t.Helper()
	list, _, err := ledger.Read(x.path("state"))
	if err != nil || len(list) == 0 {
		x.t.Fatal(len(list), err)
	}
	return list[len(list)-1].ID
}

// begun gives the entry of the command that was just carried out, if it began one that can
// be taken back.
func (x *torture) begun(after int) int {
	x.t.Helper()
	list, _, err := ledger.Read(x.path("state"))
	if err != nil {
		x.t.Fatal(err)
	}
	id := 0
	for _, e := range list {
		if e.ID > after && e.Undo != nil && e.UndoneBy == 0 && (e.Outcome == ledger.Open || e.Outcome == "done") {
			id = e.ID
		}
	}
	return id
}

// again runs a command that has to succeed, or to say that it was done already.
func (x *torture) again(where, already string, args ...string) {
	x.t.Helper()
	began := time.Now()
	out, errs, code := x.mill.run("", args...)
	fmt.Fprintf(&x.said, "$ %s\n%s%s", strings.Join(args, " "), out, errs)
	if code != 0 && (already == "" || !strings.Contains(out+errs, already)) {
		x.t.Fatalf("%s: %s: code %d", where, strings.Join(args, " "), code)
	}
	x.took[args[0]] = time.Since(began)
}

// kill runs a command and kills it: at a random time, or so long after a step began. It
// reports whether it ended by itself before that.
func (x *torture) kill(where *string, already string, args ...string) (ended bool) {
	x.t.Helper()
	took := x.took[args[0]]
	if took == 0 {
		took = 1500 * time.Millisecond
	}
	after := min(time.Duration(x.Int64N(int64(took)*11/10)), 2500*time.Millisecond)
	c := x.command(args...)
	if x.IntN(2) == 0 {
		how := fmt.Sprintf("within:%d:%s", 1+x.IntN(9), time.Duration(x.IntN(15000))*time.Microsecond)
		c.Env = append(c.Env, "COZYSHELF_CRASHPOINT="+how)
		*where += ", " + how
		after = time.Minute
	} else {
		*where += ", after " + after.Round(time.Millisecond).String()
	}
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var said bytes.Buffer
	c.Stdout, c.Stderr = &said, &said
	defer func() { fmt.Fprintf(&x.said, "$ %s\n%s", strings.Join(args, " "), &said) }()
	if err := c.Start(); err != nil {
		x.t.Fatal(err)
	}
	timer := time.AfterFunc(after, func() { _ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL) })
	err := c.Wait()
	timer.Stop()
	_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL) // whatever it had started goes with it
	var exit *exec.ExitError
	switch {
	case err == nil:
		return true
	case errors.As(err, &exit) && exit.Sys().(syscall.WaitStatus).Signal() == syscall.SIGKILL:
		x.killed++
		return false
	case already != "" && strings.Contains(said.String(), already):
		return true
	}
	x.t.Fatalf("%s: %v", *where, err)
	return false
}

// check looks whether all is as the model says, and whether everything that is there is
// accounted for.
func (x *torture) check(where string) {
	t := x.t
	t.Helper()
	out := x.must("deploy", "--yes")
	if strings.Contains(out, "no household uses it") { // another one's test was killed a moment ago
		out = x.must("deploy", "--yes")
	}
	if !strings.Contains(out, "Nothing to do") {
		t.Errorf("%s: there was something left to do:\n%s", where, out)
	}
	var st struct {
		Healthy    bool
		Version    string
		Why        string
		Unfinished []ledger.Entry
	}
	if x.document(&st, "status"); !st.Healthy || st.Version != x.want.version || len(st.Unfinished) > 0 {
		t.Errorf("%s: status %+v, want %s healthy", where, st, x.want.version)
	}
	if names := x.names(); !slices.Equal(names, x.want.members) {
		t.Errorf("%s: members %v, want %v", where, names, x.want.members)
	}
	if n := x.history(); n != x.want.plays {
		t.Errorf("%s: %d plays, want %d", where, n, x.want.plays)
	}
	if f := x.householdFile(); f != x.want.file {
		t.Errorf("%s: the household file: %s", where,
			differing(strings.Split(f, "\n"), strings.Split(x.want.file, "\n")))
	}
	if now := relative(t, x.path("media")); x.want.media != nil && !maps.Equal(now, x.want.media) {
		lines := func(m map[string]string) (out []string) {
			for p, is := range m {
				out = append(out, p+" "+is)
			}
			return out
		}
		t.Errorf("%s: media: %s", where, differing(lines(now), lines(x.want.media)))
	}
	for _, s := range x.saved {
		if err := readable(s.file); err != nil {
			t.Errorf("%s: %s: %v", where, s.file, err)
		}
	}
	x.tidy(where)
	x.account(where)
}

// differing says which lines are there and should not be, and which should be and are not.
func differing(is, want []string) string {
	var out strings.Builder
	for _, l := range is {
		if !slices.Contains(want, l) {
			fmt.Fprintf(&out, "\n+ %s", l)
		}
	}
	for _, l := range want {
		if !slices.Contains(is, l) {
			fmt.Fprintf(&out, "\n- %s", l)
		}
	}
	return out.String()
}

func readable(file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = backup.Read(f, "", nil)
	return err
}

// account finds a rule for every file and every object on the engine.
func (x *torture) account(where string) {
	t := x.t
	t.Helper()
	list, _, err := ledger.Read(x.path("state"))
	if err != nil {
		t.Fatal(err)
	}
	admin := []string{"ledger.jsonl", "undo", "backups", "undo/deployed.json"}
	for _, e := range list {
		if e.Undo == nil {
			continue
		}
		if e.Undo.Kept != "" {
			admin = append(admin, "undo/"+e.Undo.Kept)
			if r, err := deploy.ReadRecord(x.path("state"), e.Undo.Kept); e.Undo.Kind == ledger.Deployment &&
				err == nil &&
				r.Backup != "" {
				admin = append(admin, "backups/"+filepath.Base(r.Backup))
			}
		}
		if e.Undo.Kind == ledger.Stored {
			admin = append(admin, "backups/"+filepath.Base(e.Undo.Path))
		}
	}
	folders := map[string]struct{ names []string }{
		".": {names: []string{"household.toml", "state", "state.admin", "media", "process", "units", "disk",
			"saved-*.tar.zst"}},
		"state.admin": {names: admin},
		"units": {names: []string{"cozyshelf-*.service", "multi-user.target.wants",
			"multi-user.target.wants/cozyshelf-*.service"}},
	}
	for dir, rule := range folders {
		for p := range relative(t, x.path(dir)) {
			if dir == "." {
				p, _, _ = strings.Cut(p, "/")
			}
			if p != "." && !slices.ContainsFunc(rule.names, func(pattern string) bool {
				ok, _ := filepath.Match(pattern, p) // the patterns are sound
				return ok
			}) {
				t.Errorf("%s: nobody owns %s/%s", where, dir, p)
			}
		}
	}
	for dir, places := range map[string][]layout.Place{"state": layout.State, "state.admin": layout.Administrator} {
		for p := range relative(t, x.path(dir)) {
			if place, ok := layout.Find(places, p); p != "." &&
				(!ok || strings.HasPrefix(place.Name, layout.Unfinished)) {
				t.Errorf("%s: nothing is known of %s/%s", where, dir, p)
			}
		}
	}
	if settings, _ := filepath.Glob(x.path("state/settings-*.json")); len(settings) != 1 {
		t.Errorf("%s: %v", where, settings)
	}
	id := household(x.mill)
	var programs []string
	if x.engine == "process" {
		servers, _ := filepath.Glob(x.path("process/households/*/*"))
		if len(servers) != 1 {
			t.Errorf("%s: servers %v", where, servers)
		}
		all, _ := filepath.Glob(x.path("process/programs/*"))
		for _, p := range all {
			kept, _ := filepath.Glob(p + "/kept-*")
			if len(kept) != 1 || filepath.Base(kept[0]) != "kept-"+id {
				t.Errorf("%s: nobody keeps %s: %v", where, p, kept)
			}
			programs = append(programs, filepath.Base(p))
		}
	} else {
		if on := x.onEngine(); len(on) != 2 {
			t.Errorf("%s: on the engine: %v", where, on)
		}
	}
	if len(programs) > 2 {
		t.Errorf("%s: programs %v", where, programs)
	}
}
