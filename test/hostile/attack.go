// Package hostile stands in for a server that was taken over. A process of the run-as
// account, which knows every name that commands use, swaps files and folders for links,
// pipes, devices, huge and forged ones before and after every step of every command, and
// as fast as it can in between. Afterwards nothing outside of the household may have
// changed, nothing of root's may be readable, no process of others may have ended, and
// nothing that the account wrote may have run as another.
package hostile

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// plan is what the attacker knows. It is read from a file whose name stands in the
// environment.
type plan struct {
	Seed    uint64
	State   string
	Engine  string   // folder of the process engine
	Shelves []string // folders that the account may change
	Outside string   // what must not change
	Evil    string   // a program of the attacker's
	Victim  int      // a process that is not ours
	Racing  bool     // go on until ended
}

// planEnv names the plan's file.
const planEnv = "COZYSHELF_TEST_ATTACK"

// attack is the whole of the attacker's process. It has given root up before.
func attack() {
	b, err := os.ReadFile(os.Getenv(planEnv))
	if err != nil {
		return
	}
	var p plan
	if json.Unmarshal(b, &p) != nil {
		return
	}
	// What it put in place of a file, such as a pipe, may hold the attacker itself.
	within := 2 * time.Second
	if p.Racing {
		within = 10 * time.Second
	}
	time.AfterFunc(within, func() { os.Exit(0) })
	step := strings.Join(os.Args[1:], " ")
	seed := p.Seed
	for _, c := range step {
		seed = seed*31 + uint64(c)
	}
	r := rand.New(rand.NewPCG(seed, 1))
	for began := time.Now(); time.Since(began) < 8*time.Second; {
		names := p.names()
		if len(names) > 0 {
			at := names[r.IntN(len(names))]
			p.swap(r, at)
		}
		if !p.Racing {
			return
		}
		time.Sleep(time.Duration(r.IntN(2000)) * time.Microsecond)
	}
}

// names are all that the attacker may want to replace: what is there, and what will be.
func (p plan) names() []string {
	var out []string
	add := func(dir string, names ...string) {
		for _, n := range names {
			out = append(out, filepath.Join(dir, n))
		}
	}
	add(p.State, "store.db", "store.db-wal", "store.db-shm", "store.db-journal", "control.sock", "ledger.jsonl",
		"undo", "undo/deployed.json", "backups",
		"household.toml", "pictures", "pictures/a1", "spool.jsonl", "spool-taken.jsonl", "lookup", "scratch", "admin",
		"settings.json", "secrets")
	there := func(pattern string) {
		list, _ := filepath.Glob(pattern)
		out = append(out, list...)
	}
	there(filepath.Join(p.State, "settings-*.json"))
	there(filepath.Join(p.State, ".new-*"))
	there(filepath.Join(p.State, ".new-*", "*"))
	there(filepath.Join(p.State, "pictures", "*"))
	there(filepath.Join(p.State, "backups", "*"))
	there(filepath.Join(p.Engine, "households", "*", "*", "run", "*"))
	there(filepath.Join(p.Engine, "households", "*", "*", "*"))
	for _, s := range p.Shelves {
		there(filepath.Join(s, ".cozyshelf-intake"))
		there(filepath.Join(s, ".cozyshelf-intake", "*"))
		there(filepath.Join(s, ".cozyshelf-intake", "*", "*"))
		there(filepath.Join(s, "*"))
		there(filepath.Join(s, "*", "*"))
	}
	return out
}

// swap puts something else in the place of a name. What the attacker may not do fails.
func (p plan) swap(r *rand.Rand, at string) {
	aside := filepath.Join(filepath.Dir(at), fmt.Sprintf("aside-%d", r.IntN(1000)))
	_ = os.Rename(at, aside)
	links := []string{"secret", "private", "private/notes", "store.db", "empty", "program", ""}
	switch r.IntN(9) {
	case 0, 1, 2:
		_ = os.Symlink(filepath.Join(p.Outside, links[r.IntN(len(links))]), at)
	case 3:
		_ = os.Link(filepath.Join(p.Outside, links[r.IntN(len(links))]), at)
	case 4:
		_ = syscall.Mkfifo(at, 0o666)
	case 5:
		if f, err := os.Create(at); err == nil {
			_ = f.Truncate(1 << 40) // a huge one, with nothing in it
			f.Close()
		}
	case 6:
		_ = os.WriteFile(at, []byte(p.forged(r)), 0o755)
	case 7:
		if b, err := os.ReadFile(aside); err == nil {
			_ = os.WriteFile(at, b[:r.IntN(len(b)+1)], 0o644)
		}
	case 8:
		_ = os.MkdirAll(filepath.Join(at, "below"), 0o777)
		_ = os.Symlink(p.Outside, filepath.Join(at, "below", "out"))
	}
}

// forged gives a document that would be worth believing.
func (p plan) forged(r *rand.Rand) string {
	now := time.Now().Format(time.RFC3339)
	switch r.IntN(6) {
	case 0: // a ledger, or a spool
		return fmt.Sprintf(`{"id":1,"at":%q,"who":"root","command":"deploy","action":"deploy","what":"x","outcome":"done","undo":{"kind":"folder","path":%q},"prev":""}`+"\n"+
			`{"id":2,"at":%q,"who":"root","action":"x","outcome":"open","undo":{"kind":"account","path":"nobody"},"prev":""}`+"\n", now, filepath.Join(p.Outside, "empty"), now)
	case 1: // a plan of access
		return fmt.Sprintf(`{"path":%q,"inode":1,"was":{"mode":"0600","uid":0,"gid":0},"now":{"mode":"0666","uid":0,"gid":0}}`+"\n"+`{"steps":1}`+"\n", filepath.Join(p.Outside, "secret"))
	case 2: // what a supervisor says
		return fmt.Sprintf(`{"supervisor":%d,"server":%d,"started":%q}`, p.Victim, p.Victim, now)
	case 3: // what should run
		return fmt.Sprintf(`{"cozyshelf.container":"{\"household\":\"h\",\"uid\":0,\"gid\":0,\"image\":\"sha256:../../../..%s\",\"command\":[\"-c\",\"id\"]}"}`, p.Evil)
	case 4: // a job
		return fmt.Sprintf(`{"format":1,"id":"a","way":"copy","shelf":"films","folder":%q,"move":true,"state":"held","files":[{"source":%q,"to":"x.mp4","held":"1.mp4","state":"on the shelf"}]}`, p.Outside, filepath.Join(p.Outside, "secret"))
	}
	return "#!/bin/sh\nexec " + p.Evil + "\n"
}
